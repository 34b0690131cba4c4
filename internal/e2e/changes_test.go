package e2e

import (
	"bytes"
	"compress/gzip"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// list writes a list beside the jobs of the test, and gives its path.
func (d *database) list(name, text string) string {
	d.t.Helper()
	path := filepath.Join(d.t.TempDir(), name)
	if strings.HasSuffix(name, ".gz") {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		z.Write([]byte(text))
		z.Close()
		text = b.String()
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		d.t.Fatal(err)
	}
	return path
}

// listed gives a column's values as lists have them; bytes says that it holds bytes.
func (d *database) listed(column string, bytes bool) string {
	switch d.engine {
	case "postgres":
		return column + "::text"
	case "mariadb":
		if bytes {
			return `concat('\\x', hex(` + column + `))`
		}
		return "CAST(" + column + " AS char)"
	}
	return `CASE typeof(` + column + `) WHEN 'blob' THEN '\x' || hex(` + column + `) WHEN 'real' THEN CASE WHEN CAST(printf('%!.15g', ` + column + `) AS REAL) = ` + column +
		` THEN printf('%!.15g', ` + column + `) ELSE printf('%!.17g', ` + column + `) END ELSE CAST(` + column + ` AS TEXT) END`
}

// harbourRates makes berths that lists change.
func (d *database) harbourRates(table string) {
	d.exec("CREATE TABLE "+table+" (berth_no "+d.integer()+" PRIMARY KEY, code varchar(20) UNIQUE, day_rate numeric(8,2) NOT NULL DEFAULT 0, closed_on date, note text, CHECK (day_rate < 1000))",
		"INSERT INTO "+table+" (berth_no, code, day_rate) SELECT i, concat('B', i), i FROM "+d.numbers(100))
}

// TestList: a list finds its rows by other unique columns, in another form of numbers and
// dates; what it does not find is told, refused or made; lines that the database refuses are
// set aside, and tried again; a preview changes nothing and leaves nothing.
func TestList(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.harbourRates("berth")
		before := d.dump("berth")
		path := d.list("rates.csv", "berth;price;until;why\nB1;12,50;31.12.2026;x\nB2;2,00;;\nB404;1,00;;\nB3;5000,00;;\nB4;4,00;;=1+1\n")
		step := "[[step]]\ntable = 'berth'\nchanges = '" + path + "'\nkey = ['code']\ncolumns = { berth = 'code', price = 'day_rate', until = 'closed_on' }\nseparator = ';'\ndecimal = ','\nnull = ''\ndate = '02.01.2006'\nset = { note = \"coalesce(line.why, 'none')\" }\n"
		update := d.job(step + "action = 'update'\n")
		var p struct {
			Steps []struct {
				Verb  string
				Lines struct {
					Lines    int
					Outcomes map[string]int
				}
			}
		}
		if err := json.Unmarshal([]byte(d.must(0, "preview", "--json", update).out), &p); err != nil {
			t.Fatal(err)
		}
		if x := p.Steps[0]; x.Verb != "update" || x.Lines.Lines != 5 || fmt.Sprint(x.Lines.Outcomes) != "map[changed:4 no such key:1]" {
			t.Errorf("%+v", x)
		}
		if d.lists() != "0" {
			t.Error("a preview leaves a table")
		}
		same(t, "after a preview", d.dump("berth"), before)

		if o := d.must(3, "run", d.job(step+"action = 'update'\nabsent = 'fail'\n"), "--accept", "any"); !strings.Contains(o.err, "rows of rates.csv have keys that berth has not") {
			t.Error(o.err)
		}
		if d.lists() != "0" {
			t.Error("a refused run leaves a table")
		}
		d.must(1, "run", update, "--accept", "any") // 5000 is too much
		d.must(0, "undo", d.lastRun())
		d.must(5, "run", update, "--accept", "any", "--again", "--set-aside", "3")
		run := d.lastRun()
		if got := d.one("SELECT concat(count(*), ' ', sum(day_rate), ' ', max(closed_on)) FROM berth WHERE note IN ('x', 'none', '=1+1')"); !strings.HasPrefix(got, "3 18.5") || !strings.HasSuffix(got, " 2026-12-31") {
			t.Error(got)
		}
		d.came(run, "changed 3, no such key 1, refused 1")
		lines := filepath.Join(t.TempDir(), "out.csv")
		d.must(0, "show", run, "--lines", lines)
		text, err := os.ReadFile(lines)
		if err != nil {
			t.Fatal(err)
		}
		for _, want := range []string{"line,action,outcome,code,day_rate,closed_on,old_code,old_day_rate,old_closed_on\n", "2,,changed,B1,12.5", "4,,no such key,B404,1", "5,,refused,B3,5000"} {
			if !strings.Contains(string(text), want) {
				t.Errorf("no %q in\n%s", want, text)
			}
		}
		d.must(2, "show", run, "--lines", lines) // it is there
		d.must(0, "verify", run)
		d.exec("UPDATE berth SET day_rate = day_rate") // whoever relaxes the check
		d.must(5, "resume", run, "--retry-set-aside")
		d.came(run, "changed 3, no such key 1, refused 1")
		d.must(0, "undo", run)
		same(t, "undone", d.dump("berth"), before)

		// The same list again is a job that was done; with another line it is another job.
		d.must(0, "run", d.job("[[step]]\ntable = 'berth'\nchanges = '"+d.list("one.csv", "berth_no,day_rate\n5,7\n6,6\n")+"'\naction = 'update'\n"), "--accept", "1")
		d.came(d.lastRun(), "changed 1, unchanged 1")
		d.must(3, "run", d.job("[[step]]\ntable = 'berth'\nchanges = '"+d.list("one.csv", "berth_no,day_rate\n5,7\n6,6\n")+"'\naction = 'update'\n"), "--accept", "any")
		d.must(0, "run", d.job("[[step]]\ntable = 'berth'\nchanges = '"+d.list("one.csv", "berth_no,day_rate\n5,8\n6,6\n")+"'\naction = 'update'\n"), "--accept", "1")

		// What is there is told, refused, or changed.
		insert := func(more string) string {
			return d.job("[[step]]\ntable = 'berth'\nchanges = '" + d.list("new.jsonl", `{"berth_no": 100, "day_rate": 3}`+"\n"+`{"berth_no": 101, "day_rate": 4.5}`+"\n") + "'\naction = 'insert'\n" + more)
		}
		if o := d.must(3, "run", insert("present = 'fail'\n"), "--accept", "any"); !strings.Contains(o.err, "rows of new.jsonl have keys that berth has already") {
			t.Error(o.err)
		}
		d.must(0, "run", insert(""), "--accept", "1")
		d.came(d.lastRun(), "inserted 1, key exists 1")
		d.must(0, "undo", d.lastRun())
		d.must(0, "run", insert("present = 'update'\n"), "--accept", "2")
		d.came(d.lastRun(), "changed 1, inserted 1")
		d.exec("UPDATE berth SET note = 'mine', day_rate = 5 WHERE berth_no = 101")
		d.must(5, "undo", d.lastRun()) // the row that came is another one by now
		if got := d.one("SELECT concat(count(*), ' ', max(berth_no)) FROM berth"); got != "101 101" {
			t.Error(got)
		}
	})
}

// TestListTriedAgain: lines whose rows were set aside are changed, or made, once what was in
// their way is gone.
func TestListTriedAgain(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.harbourRates("berth")
		before := d.dump("berth")
		job := d.job("[[step]]\ntable = 'berth'\nchanges = '" + d.list("codes.csv", "berth_no,code\n1,B9\n2,new\n201,B8\n202,other\n") + "'\naction = 'upsert'\n")
		d.must(5, "run", job, "--accept", "any", "--set-aside", "2")
		run := d.lastRun()
		d.came(run, "changed 1, inserted 1, refused 2")
		d.exec("UPDATE berth SET code = 'free' WHERE berth_no = 9", "UPDATE berth SET code = 'free too' WHERE berth_no = 8")
		d.must(0, "resume", run, "--retry-set-aside")
		d.came(run, "changed 2, inserted 2")
		if got := d.one("SELECT concat(count(*), ' ', sum(CASE WHEN code IN ('B8', 'B9', 'new', 'other') THEN 1 ELSE 0 END)) FROM berth"); got != "102 4" {
			t.Error(got)
		}
		d.must(0, "verify", run)
		d.must(0, "undo", run)
		d.exec("UPDATE berth SET code = 'B9' WHERE berth_no = 9", "UPDATE berth SET code = 'B8' WHERE berth_no = 8")
		same(t, "undone", d.dump("berth"), before)
	})
}

// came holds what a run tells of its lines, as outcomes with their numbers in alphabetical order.
func (d *database) came(run, want string) {
	d.t.Helper()
	var s struct {
		Lists []struct{ Outcomes map[string]int }
	}
	if err := json.Unmarshal([]byte(d.must(0, "show", run, "--json").out), &s); err != nil {
		d.t.Fatal(err)
	}
	var got []string
	for _, o := range []string{"changed", "deleted", "inserted", "key exists", "no such key", "refused", "unchanged"} {
		if n, ok := s.Lists[0].Outcomes[o]; ok && n > 0 {
			got = append(got, fmt.Sprintf("%s %d", o, n))
		}
	}
	if strings.Join(got, ", ") != want {
		d.t.Errorf("run %s tells %s, expected %s", run, strings.Join(got, ", "), want)
	}
}

// TestListKilled: a list whose run and whose undo are killed over and over leaves what one
// that is not disturbed does, no line twice and none missed.
func TestListKilled(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		const rows = 3000
		d.exec("CREATE TABLE berth (berth_no "+d.integer()+" PRIMARY KEY, visits integer NOT NULL, note text)",
			"INSERT INTO berth SELECT 2 * i, i, 'as it was' FROM "+d.numbers(rows))
		before := d.dump("berth")
		var text strings.Builder
		text.WriteString("berth_no,visits,op\n")
		for i := 1; i <= 2*rows; i++ {
			fmt.Fprintf(&text, "%d,%d,%s\n", i, i, []string{"delete", "update", "insert", "upsert"}[i/2%4])
		}
		job := d.job("[[step]]\ntable = 'berth'\nchanges = '" + d.list("list.csv", text.String()) + "'\naction = { column = 'op' }\n")
		check := func() {
			for _, what := range []string{"visits <> berth_no AND visits * 2 <> berth_no", "berth_no % 2 = 1 AND visits <> berth_no"} {
				if n := d.one("SELECT count(*) FROM berth WHERE " + what); n != "0" {
					t.Fatalf("%s rows: %s", n, what)
				}
			}
		}
		r, kills := seeded(17), 0
		run := d.killedMidway(r, &kills, 6, check, "run", job, "--accept", "any", "--batch", "40")
		d.came(run, d.expectedOf(rows))
		kills = 0
		d.killedMidway(r, &kills, 4, check, "undo", run, "--batch", "40")
		same(t, "undone", d.dump("berth"), before)
	})
}

// expectedOf is what becomes of the lines of TestListKilled.
func (d *database) expectedOf(rows int) string {
	n := map[string]int{}
	for i := 1; i <= 2*rows; i++ {
		there := i%2 == 0
		switch []string{"delete", "update", "insert", "upsert"}[i/2%4] {
		case "delete":
			n[map[bool]string{true: "deleted", false: "no such key"}[there]]++
		case "update":
			n[map[bool]string{true: "changed", false: "no such key"}[there]]++
		case "insert":
			n[map[bool]string{true: "key exists", false: "inserted"}[there]]++
		default:
			n[map[bool]string{true: "changed", false: "inserted"}[there]]++
		}
	}
	var out []string
	for _, o := range []string{"changed", "deleted", "inserted", "key exists", "no such key"} {
		out = append(out, fmt.Sprintf("%s %d", o, n[o]))
	}
	return strings.Join(out, ", ")
}

// TestListBesideWriters: a row that another session makes while a list's batch is about to make
// it stays that session's, and the line is told; one that it changes is changed once more, and
// one that it deletes is gone: nobody's work is lost, and nothing comes twice.
func TestListBesideWriters(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		d.harbourRates("t")
		var text strings.Builder
		text.WriteString("berth_no,code,day_rate\n")
		for i := 91; i <= 110; i++ {
			fmt.Fprintf(&text, "%d,L%d,%d\n", i, i, i+500)
		}
		job := d.job("[[step]]\ntable = 't'\nchanges = '" + d.list("list.csv", text.String()) + "'\naction = 'upsert'\n")
		other, err := d.db.Begin()
		if err != nil {
			t.Fatal(err)
		}
		defer other.Rollback()
		for _, sql := range []string{"UPDATE t SET note = 'theirs', day_rate = 1 WHERE berth_no = 95", "DELETE FROM t WHERE berth_no = 96", "INSERT INTO t (berth_no, code, day_rate, note) VALUES (105, 'T105', 5, 'theirs')"} {
			if _, err := other.Exec(sql); err != nil {
				t.Fatal(err)
			}
		}
		cmd := d.start("run", job, "--accept", "any", "--hold", "5s")
		d.until("the run waits", func() bool {
			if d.engine == "mariadb" {
				return d.transactions("LOCK WAIT") > 0
			}
			return d.one("SELECT count(*) FROM pg_locks AS l JOIN pg_stat_activity AS a USING (pid) WHERE NOT l.granted AND a.datname = current_database()") != "0"
		})
		if err := other.Commit(); err != nil {
			t.Fatal(err)
		}
		if err := cmd.Wait(); err != nil {
			t.Fatalf("%v\n%s", err, cmd.Stderr)
		}
		if got := d.one("SELECT concat(count(*), ' ', sum(CASE WHEN day_rate = berth_no + 500 THEN 1 ELSE 0 END), ' ', sum(CASE WHEN note = 'theirs' THEN 1 ELSE 0 END)) FROM t WHERE berth_no > 90"); got != "20 20 2" {
			t.Errorf("%s: of 20 berths, those as the list has them, and those that the other session has written", got)
		}
		run := d.lastRun()
		d.must(0, "verify", run)
		d.must(0, "undo", run)
		if got := d.one("SELECT concat(count(*), ' ', max(berth_no)) FROM t"); got != "100 105" {
			t.Errorf("%s rows and the last one after the undo", got)
		}
		if got := d.one("SELECT concat(day_rate, note) FROM t WHERE berth_no = 95"); got != "1.00theirs" {
			t.Errorf("the other session's row is %s after the undo", got)
		}
	})
}

// mostly holds what a run that kept nothing tells of its lines: as many as rows have changed,
// and never more than there are.
func (d *database) mostly(run string, lines int) {
	d.t.Helper()
	var s struct {
		Steps []struct {
			Verb    string
			Changed int
		}
		Lists []struct{ Outcomes map[string]int }
	}
	if err := json.Unmarshal([]byte(d.must(0, "show", run, "--json").out), &s); err != nil {
		d.t.Fatal(err)
	}
	sum, kinds := 0, map[string]string{"delete": "deleted", "insert": "inserted", "update": "changed"}
	for _, n := range s.Lists[0].Outcomes {
		sum += n
	}
	for _, x := range s.Steps {
		if n := s.Lists[0].Outcomes[kinds[x.Verb]]; n != x.Changed {
			d.t.Errorf("run %s: %d lines %s, but %d rows", run, n, kinds[x.Verb], x.Changed)
		}
	}
	if sum > lines {
		d.t.Errorf("run %s tells of %d lines, there are %d", run, sum, lines)
	}
	d.must(2, "show", run, "--lines", filepath.Join(d.t.TempDir(), "none.csv"))
}

// TestSeveralLists: each list of a job has its own lines, outcomes and file.
func TestSeveralLists(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.harbourRates("berth")
		step := func(name, list, action string) string {
			return "[[step]]\nname = '" + name + "'\ntable = 'berth'\nchanges = '" + d.list(name+".csv", list) + "'\naction = '" + action + "'\n"
		}
		d.must(0, "run", d.job(step("rates", "berth_no,day_rate\n1,7\n404,7\n", "update")+step("new", "berth_no,code\n101,N1\n100,N2\n", "insert")), "--accept", "2")
		run, dir := d.lastRun(), t.TempDir()
		d.came(run, "changed 1, no such key 1")
		d.must(0, "show", run, "--lines", filepath.Join(dir, "done.csv"))
		for file, want := range map[string]string{"done.csv": "line,action,outcome,berth_no,day_rate,old_berth_no,old_day_rate\n2,,changed,1,7", "done-2.csv": "line,action,outcome,berth_no,code,old_berth_no,old_code\n2,,inserted,101,N1,,\n3,,key exists,100,N2,,\n"} {
			if text, err := os.ReadFile(filepath.Join(dir, file)); err != nil || !strings.HasPrefix(string(text), want) {
				t.Errorf("%s: %s %v", file, text, err)
			}
		}
		d.must(0, "verify", run)
		d.must(0, "undo", run)
	})
}
