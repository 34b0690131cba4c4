package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"
)

// What is found, or asked, before a run is of the data as they were then. These tests hold that a
// step goes by what the steps before it have left.

// TestGroupsOfBefore: rows that an earlier step has made the same become one, and rows that it has
// made different do not; also where the run ended in between.
func TestGroupsOfBefore(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE vessel (id "+d.integer()+" PRIMARY KEY, name varchar(40), flag varchar(9))",
			"CREATE TABLE visit (id "+d.integer()+" PRIMARY KEY, vessel "+d.integer()+")",
			"INSERT INTO vessel VALUES (1, 'Kestrel', 'UK'), (2, ' Kestrel', 'UK'), (3, 'Osprey', 'UK'), (4, 'Osprey', 'NO'), (5, 'Heron', 'UK'), (6, 'Heron', 'UK')",
			"INSERT INTO visit VALUES (1, 1), (2, 2), (3, 3), (4, 4), (5, 5), (6, 6)")
		before := append(d.dump("vessel"), d.dump("visit")...)
		job := d.job(`
[[step]]
name = "apart"
sql = "UPDATE vessel SET flag = 'DK' WHERE id = 6"
[[step]]
name = "trim"
sql = "UPDATE vessel SET name = trim(name), flag = 'UK' WHERE id IN (2, 4)"
check = [{ sql = "SELECT count(*) FROM visit WHERE vessel < 10", is = 6 }]
[[step]]
name = "merge"
table = "vessel"
merge = ["name", "flag"]
also = ["visit.vessel"]
`)
		d.must(0, "preview", job)
		d.must(0, "run", job, "--accept", "any", "--batch", "1")
		if got := d.one("SELECT count(*) FROM vessel WHERE id IN (2, 4)") + d.one("SELECT count(*) FROM vessel WHERE id IN (5, 6)") + d.one("SELECT sum(vessel) FROM visit"); got != "0219" {
			t.Errorf("rows that go and are left, and the sum of references: %s, want 0, 2 and 19", got)
		}
		d.must(0, "verify", "1")
		d.must(0, "undo", "1")
		same(t, "after the undo", append(d.dump("vessel"), d.dump("visit")...), before)

		// The run ends before the step, and goes on once rows are others again.
		d.exec("DELETE FROM visit WHERE id = 6")
		d.must(6, "run", job, "--again", "--accept", "any")
		d.exec("INSERT INTO visit VALUES (6, 6)", "UPDATE vessel SET name = 'Kestrel' WHERE id = 5")
		d.must(0, "resume", "3")
		if got := d.one("SELECT count(*) FROM vessel") + d.one("SELECT count(*) FROM vessel WHERE id IN (2, 4, 5)"); got != "30" {
			t.Errorf("rows left, and those that went: %s, want 3 and 0", got)
		}
		d.must(0, "verify", "3")
	})
}

// TestRefusedBehind: what a step allows none of is asked again before it begins.
func TestRefusedBehind(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE berth (id "+d.integer()+" PRIMARY KEY, quay integer, depth integer)",
			"CREATE TABLE quay (id "+d.integer()+" PRIMARY KEY, no integer, depth integer)",
			"CREATE TABLE old_berth (id "+d.integer()+" PRIMARY KEY, quay integer, depth integer)",
			"INSERT INTO quay VALUES (1, 1, 10), (2, 2, 20), (3, 3, 30)", "INSERT INTO berth VALUES (1, 1, 0), (2, 2, 0), (3, 3, 0)")
		lines := d.list("a.csv", "id,depth\n1,5\n2,6\n3,7\n")
		more := d.list("b.csv", "id,depth\n4,5\n")
		for _, x := range []struct{ first, then, code string }{
			{"sql = 'UPDATE quay SET no = 9 WHERE id = 3'", "table = 'berth'\nfrom = 'quay'\nmatch = { quay = 'no' }\nfill = { depth = 'depth' }\nunmatched = 'fail'", "unmatched"},
			{"sql = 'DELETE FROM berth WHERE id = 2'", "table = 'berth'\nchanges = '" + lines + "'\naction = 'update'\nabsent = 'fail'", "absent-key"},
			{"sql = 'UPDATE berth SET id = 4 WHERE id = 3'", "table = 'berth'\nchanges = '" + more + "'\naction = 'insert'\npresent = 'fail'", "present-key"},
			{"table = 'berth'\ncopy_to = 'old_berth'\nwhere = 'id = 2'", "table = 'berth'\nmove_to = 'old_berth'", "already-there"},
		} {
			args := []string{"run", d.job("[[step]]\n" + x.first + "\n[[step]]\n" + x.then + "\n"), "--accept", "any", "--every-row"}
			if x.code == "present-key" {
				args = append(args, "--method", "single")
			}
			before := append(d.dump("berth"), d.dump("old_berth")...)
			if o := d.must(3, args...); !strings.Contains(o.err, "after the steps before it, "+x.code) || !strings.Contains(o.err, "the step was not begun") {
				t.Errorf("%s: %s", x.code, o.err)
			}
			d.must(3, "resume", d.lastRun())
			d.must(0, "undo", d.lastRun())
			same(t, x.code, append(d.dump("berth"), d.dump("old_berth")...), before)
		}

		// One that may be meant, and is said to be once it stands in the way.
		d.exec("CREATE TABLE crane (id integer PRIMARY KEY, berth "+d.integer()+", FOREIGN KEY (berth) REFERENCES berth (id) ON DELETE SET NULL)", "INSERT INTO crane VALUES (1, 2)")
		job := d.job("[[step]]\nsql = 'UPDATE berth SET depth = 99 WHERE id = 2'\n[[step]]\nsql = 'DELETE FROM berth WHERE depth = 99'\n")
		if o := d.must(3, "run", job, "--accept", "any", "--keep", "none"); !strings.Contains(o.err, "after the steps before it, cascade") {
			t.Error(o.err)
		}
		d.must(3, "resume", d.lastRun())
		d.must(0, "resume", d.lastRun(), "--despite", "cascade")
		page := func(format string) string {
			return d.must(0, "report", d.lastRun(), "--format", format, "-o", "-").out
		}
		if text := page("md"); !strings.Contains(text, "resumed it: went on despite cascade") || strings.Contains(text, "has been changed since") {
			t.Errorf("what was said when the run was resumed is not told: %s", text)
		}
		if text := page("json"); !strings.Contains(text, `"despite": [`) {
			t.Error(text)
		}
		d.exec("UPDATE " + d.ledger("run") + ` SET options = replace(options, '"despite":["cascade"]', '"despite":["source"]')`)
		if text := page("html"); !strings.Contains(text, "what was said when it was resumed has been changed since") {
			t.Error("what somebody has changed of it is told as it is")
		}
		if got := d.one("SELECT count(*) FROM berth WHERE id = 2"); got != "0" {
			t.Error(got)
		}
	})
}

// TestPutInOrderBefore: what stands against a step as things are refuses no run in which a step before
// it puts that in order, and refuses it all the same where none does, or where what is done is not enough.
func TestPutInOrderBefore(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE berth (id "+d.integer()+" PRIMARY KEY, quay integer, depth integer)",
			"CREATE TABLE quay (id "+d.integer()+" PRIMARY KEY, no integer, depth integer)",
			"INSERT INTO quay VALUES (1, 1, 10), (2, 2, 20)", "INSERT INTO berth VALUES (1, 1, 0), (2, 2, 0), (3, 3, 0), (4, 4, 0)")
		before := append(d.dump("berth"), d.dump("quay")...)
		fill := "[[step]]\nname = 'fill'\ntable = 'berth'\nfrom = 'quay'\nmatch = { quay = 'no' }\nfill = { depth = 'depth' }\nunmatched = 'fail'\n"
		quays := func(text string) string {
			return d.job("[[step]]\nname = 'quays'\ntable = 'quay'\nchanges = '" + d.list("quays.csv", "id,no,depth\n"+text) + "'\naction = 'insert'\n" + fill)
		}
		d.exec("CREATE TABLE crane (id " + d.integer() + " PRIMARY KEY, v integer)")
		d.exec("INSERT INTO crane VALUES (1, 1)")
		for _, other := range []string{"UPDATE crane SET v = 2 WHERE id = 1", "UPDATE berth SET depth = 1 WHERE id = 1"} { // which has nothing to do with it
			if o := d.must(3, "run", d.job("[[step]]\nsql = '"+other+"'\n"+strings.Replace(fill, "'berth'", "'berth'\nwhere = 'id > 1'", 1)), "--accept", "any"); !strings.Contains(o.err, "refused because of unmatched") {
				t.Errorf("%s: %s", other, o.err)
			}
		}
		if o := d.must(0, "preview", quays("3,3,30\n4,4,40\n")); !strings.Contains(o.out, `step "quays", before it, changes quay: it is asked again when the step begins`) {
			t.Error(o.out)
		}
		for _, accept := range []string{"any", "4"} { // rows as they are now: two quays, and two berths
			d.must(0, "run", quays("3,3,30\n4,4,40\n"), "--accept", accept, "--again")
			if got := d.one("SELECT sum(depth) FROM berth"); got != "100" {
				t.Errorf("depths together: %s, want 100", got)
			}
			d.must(0, "verify", d.lastRun())
			d.must(0, "undo", d.lastRun())
			same(t, "after the undo", append(d.dump("berth"), d.dump("quay")...), before)
		}
		if o := d.must(3, "run", quays("3,3,30\n"), "--accept", "any"); !strings.Contains(o.err, "after the steps before it, unmatched: 1 row") && !strings.Contains(o.err, "after the steps before it, unmatched: rows") {
			t.Error(o.err)
		}
		d.exec("INSERT INTO quay VALUES (4, 4, 40)")
		d.must(0, "resume", d.lastRun())
		if got := d.one("SELECT sum(depth) FROM berth"); got != "100" {
			t.Errorf("depths together: %s, want 100", got)
		}
	})
}

// TestQueryOfBefore: a query gives a list before the run begins, and not what a step before it
// changes, however it reads that.
func TestQueryOfBefore(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE berth (id "+d.integer()+" PRIMARY KEY, depth integer)", "CREATE TABLE quay (id "+d.integer()+" PRIMARY KEY, depth integer)",
			"CREATE TABLE note (id "+d.integer()+" PRIMARY KEY, depth integer)",
			"CREATE VIEW deepest AS SELECT max(depth) AS depth FROM berth", "CREATE VIEW deeper AS SELECT depth FROM deepest",
			"INSERT INTO berth VALUES (1, 1), (2, 2)", "INSERT INTO quay VALUES (1, 5)", "INSERT INTO note VALUES (1, 0)")
		job := func(query string) string {
			return d.job("[[step]]\nsql = 'UPDATE berth SET depth = depth + 100 WHERE depth < 100'\n[[step]]\neach = { sql = \"\"\"" + query + "\"\"\" }\ncall = 'UPDATE note SET depth = :depth WHERE id = :id'\ntypes = { id = 'integer', depth = 'integer' }\n")
		}
		for _, query := range []string{"SELECT id, depth FROM berth", "SELECT 1 AS id, depth FROM deeper", "SELECT id, (SELECT depth FROM deepest) AS depth FROM quay",
			"WITH b AS (SELECT depth FROM berth) SELECT id, (SELECT max(depth) FROM b) AS depth FROM quay ORDER BY id LIMIT 1;"} {
			if o := d.must(2, "run", job(query), "--accept", "any", "--despite", "no-undo"); !strings.Contains(o.err, "asked before the run begins") || !strings.Contains(o.err, "as a job of their own first") {
				t.Errorf("%s: %s", query, o.err)
			}
		}
		lines := d.list("berths.csv", "id,depth\n2,7\n3,8\n") // whose rows the step changes, and makes
		text, err := os.ReadFile(job("SELECT id, depth FROM berth"))
		if err != nil {
			t.Fatal(err)
		}
		listed := func(query string) string {
			_, each, _ := strings.Cut(string(text), "\n[[step]]\n")
			return d.job("[[step]]\ntable = 'berth'\nchanges = '" + lines + "'\naction = 'upsert'\n[[step]]\n" + strings.Replace(each, "SELECT id, depth FROM berth", query, 1))
		}
		if o := d.must(2, "run", listed("SELECT id, depth FROM berth"), "--accept", "any", "--despite", "no-undo"); !strings.Contains(o.err, "reads") {
			t.Error(o.err)
		}
		d.must(0, "run", listed("SELECT id, depth FROM quay WHERE depth > 100"), "--accept", "any", "--despite", "no-undo")
		d.must(0, "run", job("SELECT id, depth FROM quay WHERE depth > 0 -- and no more"), "--accept", "any", "--despite", "no-undo")
		if got := d.one("SELECT depth FROM note"); got != "5" {
			t.Error(got)
		}
	})
}

// TestAllowedNone: what a job allows none of, and another session brings about while the run is under
// way, ends it with status 6.
func TestAllowedNone(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		lines := d.list("a.csv", "id,m\n1,5\n2,6\n3,7\n")
		for _, x := range []struct{ job, meanwhile, want string }{
			{"from = 'quay'\nmatch = { n = 'no' }\nfill = { m = 'depth' }\nunmatched = 'fail'", "UPDATE t SET n = 9 WHERE id = 3", "1 row matches nothing"},
			{"changes = '" + lines + "'\naction = 'update'\nabsent = 'fail'", "DELETE FROM t WHERE id = 3", "1 line: no such key"},
		} {
			d.exec("DROP TABLE IF EXISTS t", "DROP TABLE IF EXISTS quay", "CREATE TABLE t (id integer PRIMARY KEY, n integer, m integer)", "CREATE TABLE quay (no integer PRIMARY KEY, depth integer)",
				"INSERT INTO t VALUES (1, 1, 0), (2, 2, 0), (3, 3, 0)", "INSERT INTO quay VALUES (1, 10), (2, 20), (3, 30)")
			release := d.gate(2)
			defer release()
			cmd := d.start("run", d.job("[[step]]\ntable = 't'\n"+x.job+"\n"), "--accept", "any", "--batch", "1", "--hold", "60s")
			d.stuck()
			d.exec(x.meanwhile)
			release()
			if cmd.Wait(); cmd.ProcessState.ExitCode() != 6 || !strings.Contains(fmt.Sprint(cmd.Stderr), x.want) {
				t.Errorf("exit status %d, want 6\n%s", cmd.ProcessState.ExitCode(), cmd.Stderr)
			}
			d.must(0, "undo", d.lastRun())
		}
	})
}

// TestFormsOfBefore: texts that are matched by their form are those that an earlier step has left, of
// both sides.
func TestFormsOfBefore(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE berth (id "+d.integer()+" PRIMARY KEY, quay varchar(40), depth integer)", "CREATE TABLE quay (id "+d.integer()+" PRIMARY KEY, name varchar(40), depth integer)",
			"INSERT INTO quay VALUES (1, 'NORTH MOLE', 10), (2, 'old name', 20), (3, 'Wool Quay', 30)", "INSERT INTO berth VALUES (1, 'n.mole', 0), (2, 'fish steps', 0), (3, 'wool quay', 0), (4, 'Wool  Quay', 0)")
		job := d.job(`
[[step]]
sql = "UPDATE berth SET quay = 'north mole ' WHERE quay = 'n.mole'"
[[step]]
sql = "UPDATE quay SET name = 'Fish Steps' WHERE id = 2"
[[step]]
sql = "UPDATE berth SET quay = 'none' WHERE id = 4"
[[step]]
table = "berth"
from = "quay"
match = { quay = "name" }
match_as = "folded"
fill = { depth = "depth" }
`)
		d.must(0, "run", job, "--accept", "any")
		if got := strings.Join(d.lines("SELECT depth FROM berth ORDER BY id"), " "); got != "10 20 30 0" {
			t.Errorf("depths %s, want 10 20 30 0", got)
		}
		d.must(0, "verify", "1")
		d.must(0, "undo", "1")
	})
}
