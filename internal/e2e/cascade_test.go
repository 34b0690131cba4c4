package e2e

import (
	"fmt"
	"maps"
	"strings"
	"testing"
)

// cascadeTables are those of harbourCascade.
var cascadeTables = []string{"quay", "berth", "visit", "notice", "rope", "pilot", "survey", "waits"}

// harbourCascade makes tables that refer to each other in every way that is followed: over
// several steps, by two columns, by another key than the primary one, to one table by two
// ways, and by both deleting and clearing.
func (d *database) harbourCascade(quays int) {
	d.t.Helper()
	d.exec("CREATE TABLE quay (id integer PRIMARY KEY, code varchar(20) NOT NULL UNIQUE, \"Größe m\" integer)",
		"CREATE TABLE berth (id integer PRIMARY KEY, quay_id integer, no integer, rate numeric(9,2), UNIQUE (quay_id, no), CONSTRAINT f1 FOREIGN KEY (quay_id) REFERENCES quay (id) ON DELETE CASCADE)",
		"CREATE TABLE visit (id bigint PRIMARY KEY, berth_id integer, note varchar(40), CONSTRAINT f2 FOREIGN KEY (berth_id) REFERENCES berth (id) ON DELETE CASCADE)",
		"CREATE TABLE notice (id integer PRIMARY KEY, quay_code varchar(20), at timestamp NULL, body varchar(40), CONSTRAINT f3 FOREIGN KEY (quay_code) REFERENCES quay (code) ON DELETE SET NULL)",
		"CREATE TABLE rope (a integer, b varchar(9), quay_id integer, no integer, PRIMARY KEY (a, b), CONSTRAINT f4 FOREIGN KEY (quay_id, no) REFERENCES berth (quay_id, no) ON DELETE CASCADE)",
		"CREATE TABLE pilot (id integer PRIMARY KEY, home integer, other integer, CONSTRAINT f5 FOREIGN KEY (home) REFERENCES quay (id) ON DELETE CASCADE, CONSTRAINT f6 FOREIGN KEY (other) REFERENCES quay (id) ON DELETE SET NULL)",
		"CREATE TABLE survey (id integer PRIMARY KEY, berth_id integer, visit_id bigint, CONSTRAINT f7 FOREIGN KEY (berth_id) REFERENCES berth (id) ON DELETE CASCADE, CONSTRAINT f8 FOREIGN KEY (visit_id) REFERENCES visit (id) ON DELETE CASCADE)",
		"CREATE TABLE waits (id integer PRIMARY KEY, survey_id integer DEFAULT 1, CONSTRAINT f9 FOREIGN KEY (survey_id) REFERENCES survey (id) ON DELETE "+d.by("SET NULL", "SET DEFAULT")+")")
	d.exec(fmt.Sprintf("INSERT INTO quay SELECT i, concat('q', i), i * 3 FROM %s", d.numbers(quays)),
		fmt.Sprintf("INSERT INTO berth SELECT i, CASE WHEN i %% 17 <> 0 THEN 1 + i %% %d END, i, i FROM %s", quays, d.numbers(10*quays)),
		fmt.Sprintf("INSERT INTO visit SELECT i, CASE WHEN i %% 13 <> 0 THEN 1 + i %% %d END, concat('n', i) FROM %s", 10*quays, d.numbers(40*quays)),
		fmt.Sprintf("INSERT INTO notice SELECT i, concat('q', 1 + i %% %d), '2026-11-02 10:00:00', 'b' FROM %s", quays, d.numbers(6*quays)),
		"INSERT INTO rope SELECT id * 7, concat('r', id), quay_id, no FROM berth WHERE id % 2 = 0 OR quay_id IS NULL",
		fmt.Sprintf("INSERT INTO pilot SELECT i, 1 + i %% %d, 1 + (i * 7) %% %d FROM %s", quays, quays, d.numbers(4*quays)),
		fmt.Sprintf("INSERT INTO survey SELECT i, 1 + i %% %d, 1 + (i * 3) %% %d FROM %s", 10*quays, 40*quays, d.numbers(15*quays)),
		fmt.Sprintf("INSERT INTO waits SELECT i, 1 + (i * 7) %% %d FROM %s", 15*quays, d.numbers(5*quays)))
	// What a reference falls back to stays.
	d.exec("UPDATE survey SET berth_id = NULL, visit_id = NULL WHERE id = 1")
}

func (d *database) dumpAll(tables []string) (out []string) {
	d.t.Helper()
	for _, x := range tables {
		out = append(append(out, "-- "+x), d.dump(x)...)
	}
	return out
}

// TestCascadesKept holds deletes that take rows of other tables along against the plain
// statement, and their undo against what was there.
func TestCascadesKept(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		plain := fresh(t, d.engine)
		plain.harbourCascade(15)
		sql := "DELETE FROM quay WHERE id % 3 = 0"
		if d.engine == "sqlite" {
			plain.db.SetMaxOpenConns(1)
			plain.exec("PRAGMA foreign_keys = on")
		}
		plain.exec(sql)
		want := plain.dumpAll(cascadeTables)
		d.harbourCascade(15)
		before := d.dumpAll(cascadeTables)
		p := d.preview("--sql", sql)
		if len(p.Steps[0].Acts) < 7 || p.Total <= p.Steps[0].Changes {
			t.Errorf("%+v", p)
		}
		for i, args := range [][]string{{"--batch", "3", "--rehearse", "--accept", fmt.Sprint(p.Total)}, {"--method", "single", "--accept", "any"}, append(d.workers(3), "--method", "roster", "--batch", "2", "--accept", "any")} {
			what := strings.Join(args, " ")
			d.within = i > 0
			d.must(0, append([]string{"run", "--sql", sql, "--again"}, args...)...)
			run := d.lastRun()
			same(t, what, d.dumpAll(cascadeTables), want)
			s := d.show(run)
			for n, a := range p.Steps[0].Acts {
				// Batches before the one with which a pilot goes take a reference from it.
				if got := s.Steps[0].Acts[n]; got.Name != a.Name || got.Changed != a.Rows && a.Name != "update pilot (other)" {
					t.Errorf("%s: %+v, but the preview says %+v", what, got, a)
				}
			}
			d.must(0, "verify", run)
			d.must(0, "undo", run, "--batch", fmt.Sprint(80+20*i))
			same(t, what+" undone", d.dumpAll(cascadeTables), before)
			d.must(0, "verify", d.lastRun())
		}

		// What others do to rows that went is theirs: it is told, and the rest comes back.
		d.must(0, "run", "--sql", sql, "--again", "--accept", "any", "--batch", "4")
		run := d.lastRun()
		notice := d.one("SELECT min(id) FROM notice WHERE quay_code IS NULL")
		d.exec("UPDATE notice SET body = 'theirs', quay_code = 'q1' WHERE id = "+notice, "INSERT INTO berth (id, rate) VALUES (2, 77)")
		d.must(6, "verify", run)
		d.must(5, "undo", run, "--batch", "50")
		o := d.must(0, "show", d.lastRun()).out
		for _, want := range []string{"skipped of notice", "skipped of berth", "skipped of rope"} {
			if !strings.Contains(o, want) {
				t.Errorf("no %q in\n%s", want, o)
			}
		}
		if got := d.one("SELECT concat(body, quay_code) FROM notice WHERE id = " + notice); got != "theirsq1" {
			t.Errorf("the notice that others changed is %s", got)
		}
		if got := d.one("SELECT count(*) FROM berth WHERE id = 2 AND rate = 77"); got != "1" {
			t.Error("the berth that others made is gone")
		}
		left := map[string]int{}
		for _, row := range before {
			left[row]++
		}
		for _, row := range d.dumpAll(cascadeTables) {
			left[row]--
		}
		maps.DeleteFunc(left, func(_ string, n int) bool { return n == 0 })
		if len(left) != 5 { // two before and after, and a rope whose berth is another one now
			t.Errorf("not as they were: %v", left)
		}
		d.must(0, "verify", d.lastRun())
	})
}

// TestCascadesNotKept: what acts of ours would not do as the database does it, or what undo
// could not put back, is refused with the reason, and left to the database if that is meant.
func TestCascadesNotKept(t *testing.T) {
	type example struct {
		only, why string
		texts     []string
	}
	child := func(key, rule string) string {
		return "CREATE TABLE child (c integer " + key + ", t_id integer, CONSTRAINT fk FOREIGN KEY (t_id) REFERENCES t (id) ON DELETE " + rule + ")"
	}
	list := []example{
		{"", "child has no primary key", []string{child("", "CASCADE")}},
		{"sqlite", "references come back to child", []string{"CREATE TABLE child (c integer PRIMARY KEY, t_id integer REFERENCES t (id) ON DELETE CASCADE, up integer REFERENCES next (c) ON DELETE CASCADE)",
			"CREATE TABLE next (c integer PRIMARY KEY, up integer REFERENCES child (c) ON DELETE CASCADE)"}},
		{"", "rows of child refer to each other", []string{"CREATE TABLE child (c integer PRIMARY KEY, t_id integer, up integer, CONSTRAINT fk FOREIGN KEY (t_id) REFERENCES t (id) ON DELETE CASCADE, CONSTRAINT fk2 FOREIGN KEY (up) REFERENCES child (c) ON DELETE CASCADE)"}},
		{"", "rows of child refer to each other", []string{"CREATE TABLE child (c integer PRIMARY KEY, t_id integer, up integer, CONSTRAINT fk FOREIGN KEY (t_id) REFERENCES t (id) ON DELETE CASCADE, CONSTRAINT fk2 FOREIGN KEY (up) REFERENCES child (c))"}},
		{"", "several references of child share columns", []string{"CREATE TABLE child (c integer PRIMARY KEY, t_id integer, CONSTRAINT fk FOREIGN KEY (t_id) REFERENCES t (id) ON DELETE SET NULL, CONSTRAINT fk2 FOREIGN KEY (t_id) REFERENCES t (n) ON DELETE SET NULL)"}},
		{"", "next refers to columns of child that change", []string{"CREATE TABLE child (c integer PRIMARY KEY, t_id integer UNIQUE, CONSTRAINT fk FOREIGN KEY (t_id) REFERENCES t (id) ON DELETE SET NULL)",
			"CREATE TABLE next (c integer PRIMARY KEY, t_id integer, CONSTRAINT fk3 FOREIGN KEY (t_id) REFERENCES child (t_id) ON UPDATE CASCADE)"}},
		{"mariadb", "trigger tr of child would fire", []string{child("PRIMARY KEY", "CASCADE"), "CREATE TRIGGER tr BEFORE DELETE ON child FOR EACH ROW SET @x = 1"}},
		{"sqlite", "trigger tr of child may change rows of t", []string{child("PRIMARY KEY", "CASCADE"), "CREATE TRIGGER tr AFTER DELETE ON child BEGIN UPDATE t SET n = n - 1 WHERE id = old.t_id; END"}},
		{"sqlite", "rows of child have NULL in their key", []string{strings.Replace(child("PRIMARY KEY", "CASCADE"), "c integer", "c text", 1), "INSERT INTO child VALUES (NULL, NULL)"}},
		{"sqlite", "are not of the same type", []string{"CREATE TABLE child (c integer PRIMARY KEY, t_id text, CONSTRAINT fk FOREIGN KEY (t_id) REFERENCES t (id) ON DELETE CASCADE)"}},
		{"postgres", "trigger tr of child may change rows of t", []string{child("PRIMARY KEY", "CASCADE"), "CREATE OR REPLACE FUNCTION fewer() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN UPDATE t SET n = n - 1 WHERE id = OLD.t_id; RETURN NULL; END'",
			"CREATE TRIGGER tr AFTER DELETE ON child FOR EACH ROW EXECUTE FUNCTION fewer()"}},
		{"postgres", "trigger tr of child fires once for a statement", []string{child("PRIMARY KEY", "CASCADE"), "CREATE OR REPLACE FUNCTION nothing() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NULL; END'",
			"CREATE TRIGGER tr AFTER DELETE ON child FOR EACH STATEMENT EXECUTE FUNCTION nothing()"}},
	}
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		for _, x := range list {
			if x.only != "" && x.only != d.engine {
				continue
			}
			d.exec("DROP TABLE IF EXISTS next", "DROP TABLE IF EXISTS child", "DROP TABLE IF EXISTS t")
			d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer UNIQUE)", "INSERT INTO t SELECT i, i FROM "+d.numbers(20))
			d.exec(append(x.texts, "INSERT INTO child (c, t_id) VALUES (1, 3)")...)
			args := []string{"run", "--sql", "DELETE FROM t WHERE n < 10", "--accept", "any", "--again"}
			o := d.must(3, args...)
			if !strings.Contains(o.err, x.why) {
				t.Errorf("no %q in %s", x.why, o.err)
			}
			d.must(0, append(args, "--despite", "cascade")...)
			if got := d.one("SELECT count(*) FROM t"); got != "11" {
				t.Errorf("%s: %s rows are left", x.why, got)
			}
		}
		// A statement that names its sources beside the target.
		if d.engine != "sqlite" {
			d.exec("DROP TABLE IF EXISTS child", "CREATE TABLE o (id integer)", "INSERT INTO o VALUES (15)", child("PRIMARY KEY", "CASCADE"), "INSERT INTO child VALUES (1, 15)")
			o := d.must(3, "run", "--sql", d.by("DELETE t FROM t JOIN o ON o.id = t.id", "DELETE FROM t USING o WHERE o.id = t.id"), "--accept", "any", "--every-row")
			if !strings.Contains(o.err, "names other tables beside its own") {
				t.Error(o.err)
			}
		}
	})
}

// TestCascadeBesideWriters has another session make rows of every depth, while those that
// they refer to go: none of them goes without being kept.
func TestCascadeBesideWriters(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		const quays = 200
		d.exec("CREATE TABLE quay (id integer PRIMARY KEY)", "CREATE TABLE berth (id integer PRIMARY KEY, quay_id integer NOT NULL, CONSTRAINT f1 FOREIGN KEY (quay_id) REFERENCES quay (id) ON DELETE CASCADE)",
			"CREATE TABLE visit (id integer PRIMARY KEY, berth_id integer NOT NULL, CONSTRAINT f2 FOREIGN KEY (berth_id) REFERENCES berth (id) ON DELETE CASCADE)", d.by("SELECT 1", "CREATE INDEX by_quay ON berth (quay_id)"), d.by("SELECT 1", "CREATE INDEX by_berth ON visit (berth_id)"))
		d.exec(fmt.Sprintf("INSERT INTO quay SELECT i FROM %s", d.numbers(quays)), fmt.Sprintf("INSERT INTO berth SELECT i, 1 + i %% %d FROM %s", quays, d.numbers(4*quays)), fmt.Sprintf("INSERT INTO visit SELECT i, 1 + i %% %d FROM %s", 4*quays, d.numbers(16*quays)))
		if d.engine == "sqlite" {
			d.db.SetMaxOpenConns(1)
			d.exec("PRAGMA foreign_keys = on")
		}
		cmd := d.start("run", "--sql", "DELETE FROM quay WHERE id % 4 <> 0", "--accept", "any", "--batch", "10")
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		r, berths, visits := seeded(7), 4*quays, 16*quays
		insert := func(table string, id *int, of int) {
			if _, err := d.db.Exec(fmt.Sprintf("INSERT INTO %s VALUES (%d, %d)", table, *id+1, of)); err == nil {
				*id++
			}
		}
		for running := true; running; {
			select {
			case err := <-ended:
				if running = false; err != nil {
					t.Fatalf("%v\n%s", err, cmd.Stderr)
				}
			default:
				insert("berth", &berths, 1+r.IntN(quays))
				insert("visit", &visits, 1+r.IntN(berths))
				insert("visit", &visits, berths) // perhaps the one that was just made
			}
		}
		t.Logf("%d berths and %d visits were made beside it", berths-4*quays, visits-16*quays)
		d.must(0, "verify", "1")
		for table, most := range map[string]int{"berth": berths, "visit": visits} {
			n := map[string]int{"visit": 1, "berth": 2}[table]
			kept := d.one("SELECT count(*) FROM " + d.ledger(fmt.Sprintf("kept_1_1_%d", n)))
			if got := atoi(d.one("SELECT count(*) FROM "+table)) + atoi(kept); got != most {
				t.Errorf("%d rows of %s are there or kept, of %d", got, table, most)
			}
		}
		d.must(0, "undo", "1")
		for table, most := range map[string]int{"quay": quays, "berth": berths, "visit": visits} {
			if got := atoi(d.one("SELECT count(*) FROM " + table)); got != most {
				t.Errorf("%d of %d rows of %s are back", got, most, table)
			}
		}
	})
}

// TestCascadeKilled kills such deletes and their undos.
func TestCascadeKilled(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.harbourCascade(50)
		before := d.dumpAll(cascadeTables)
		whole := func(when string) {
			t.Helper()
			// Each quay is there with its berths, or neither is: a batch is one transaction.
			if got := d.one("SELECT count(*) FROM berth WHERE quay_id IS NOT NULL AND quay_id NOT IN (SELECT id FROM quay)"); got != "0" {
				t.Fatalf("%s: %s berths without a quay", when, got)
			}
		}
		r, kills := seeded(17), 0
		drive := func(args ...string) string {
			t.Helper()
			return d.killedMidway(r, &kills, kills+10, func() { whole(strings.Join(args, " ")) }, args...)
		}
		run := drive("run", "--sql", "DELETE FROM quay WHERE id % 3 = 0", "--accept", "any", "--batch", "2")
		if got := d.one("SELECT count(*) FROM quay WHERE id % 3 = 0"); got != "0" {
			t.Errorf("%s quays are left", got)
		}
		drive("undo", run, "--batch", "120")
		same(t, "undone", d.dumpAll(cascadeTables), before)
		t.Logf("%d kills", kills)
	})
}

// TestCascadeSetAside: a row whose rows elsewhere cannot go stays with all of them, alone.
func TestCascadeSetAside(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.harbourCascade(12)
		d.exec("CREATE TABLE holds (id integer PRIMARY KEY, visit_id bigint, CONSTRAINT h FOREIGN KEY (visit_id) REFERENCES visit (id))",
			"INSERT INTO holds SELECT 1, min(visit.id) FROM visit JOIN berth ON berth.id = visit.berth_id WHERE berth.quay_id = 6")
		before := d.dumpAll(cascadeTables)
		d.must(1, "run", "--sql", "DELETE FROM quay WHERE id % 3 = 0", "--accept", "any", "--batch", "4")
		d.must(0, "undo", "1")
		same(t, "undone", d.dumpAll(cascadeTables), before)
		d.must(5, "run", "--sql", "DELETE FROM quay WHERE id % 3 = 0", "--accept", "any", "--batch", "4", "--set-aside", "1", "--again")
		run := d.lastRun()
		if got := d.lines("SELECT id FROM quay WHERE id % 3 = 0"); fmt.Sprint(got) != "[6]" || d.one("SELECT count(*) FROM berth WHERE quay_id = 6") == "0" {
			t.Errorf("quays left: %v", got)
		}
		d.must(0, "verify", run)
		d.exec("DELETE FROM holds")
		d.must(0, "resume", run, "--retry-set-aside")
		d.must(0, "verify", run)
		if got := d.one("SELECT count(*) FROM berth WHERE quay_id % 3 = 0"); got != "0" {
			t.Errorf("%s berths are left", got)
		}
		d.must(0, "undo", run)
		same(t, "undone", d.dumpAll(cascadeTables), before)
	})
}

// TestCascadeMoves: rows move, and those that refer to them go, and all come back.
func TestCascadeMoves(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.harbourCascade(12)
		before := d.dumpAll(cascadeTables)
		job := d.job("[[step]]\ntable = \"quay\"\nwhere = \"id % 3 = 0\"\nmove_to = \"quay_archive\"\n\n[[step]]\ntable = \"quay\"\norder = \"code DESC\"\nfirst = 2\ndelete = true\n")
		d.must(0, "run", job, "--accept", "any", "--batch", "4")
		if got := d.one("SELECT count(*) FROM quay_archive") + d.one("SELECT count(*) FROM quay"); got != "46" {
			t.Errorf("%s rows in both tables", got)
		}
		if got := d.one("SELECT count(*) FROM berth WHERE quay_id NOT IN (SELECT id FROM quay)"); got != "0" {
			t.Errorf("%s berths are left", got)
		}
		d.must(0, "verify", "1")
		d.must(0, "undo", "1", "--batch", "60")
		same(t, "undone", d.dumpAll(cascadeTables), before)
		if got := d.one("SELECT count(*) FROM quay_archive"); got != "0" {
			t.Errorf("%s rows are left in the other table", got)
		}
	})
}

// TestVerifyOfStepsOnTheSameRows: where steps of one run change the same rows, each is held
// against what the next one found, and an undo's against what the one before had left.
func TestVerifyOfStepsOnTheSameRows(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer, s varchar(20))", "INSERT INTO t SELECT i, i, 'x' FROM "+d.numbers(30))
		before := d.dump("t")
		step := func(where, set string) string {
			return "[[step]]\ntable = \"t\"\nwhere = \"" + where + "\"\n" + set + "\n\n"
		}
		d.must(0, "run", d.job(step("n < 20", `set = { n = "n + 100" }`)+step("n > 110", `set = { n = "n * 2", s = "'y'" }`)+step("n < 230", `set = { s = "'z'" }`)+step("n BETWEEN 226 AND 232", "delete = true")), "--accept", "any", "--batch", "4")
		d.must(0, "verify", "1")
		d.exec("CREATE TABLE t_now AS SELECT * FROM t")
		for _, text := range []string{"UPDATE t SET n = n + 1 WHERE id = 3", "UPDATE t SET n = n + 1 WHERE id = 12", "UPDATE t SET s = 'w' WHERE id = 12", "DELETE FROM t WHERE id = 12", "INSERT INTO t VALUES (14, 228, 'z')"} {
			d.exec(text)
			if o := d.jugatum("verify", "1"); o.status != 6 {
				t.Errorf("%s: exit status %d\n%s", text, o.status, o.out)
			}
			d.exec("DELETE FROM t", "INSERT INTO t SELECT * FROM t_now")
		}
		d.must(0, "undo", "1", "--batch", "7")
		same(t, "undone", d.dump("t"), before)
		d.must(0, "verify", "2")
		d.exec("UPDATE t SET s = 'w' WHERE id = 12")
		d.must(6, "verify", "2")

		// A copy has read what a step before it left, and changes nothing there.
		d.must(0, "run", d.job(step("n < 5", `set = { n = "n + 1000" }`)+"[[step]]\ntable = \"t\"\nwhere = \"n > 1000\"\ncopy_to = \"t_copy\"\n"), "--accept", "any", "--batch", "3")
		d.must(0, "verify", "3")
		d.exec("UPDATE t SET n = 7 WHERE id = 2")
		d.must(6, "verify", "3")
	})
}

// TestCascadePrivileges: what a user lacks on tables whose rows go along is told before, as
// the statements that grant it; and with what docs/privileges.md says it is enough.
func TestCascadePrivileges(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		role, home, ledger := "clerk_"+newName(), "harbour", "jugatum"
		if d.engine == "mariadb" {
			home = d.one("SELECT DATABASE()")
			ledger = home + "_dba"
			d.exec("CREATE DATABASE "+ledger, "CREATE USER "+role, "GRANT SELECT, INSERT, UPDATE, DELETE, CREATE, DROP, CREATE TEMPORARY TABLES ON "+ledger+".* TO "+role)
			t.Cleanup(func() { d.exec("DROP USER "+role, "DROP DATABASE "+ledger) })
		} else {
			d.exec("CREATE ROLE "+role+" LOGIN", "CREATE SCHEMA harbour", "GRANT USAGE ON SCHEMA harbour TO "+role, "CREATE SCHEMA jugatum AUTHORIZATION "+role)
			t.Cleanup(func() { d.exec("DROP OWNED BY "+role, "DROP ROLE "+role) })
		}
		table := func(name string) string { return home + "." + name }
		d.exec("CREATE TABLE "+table("quay")+" (id integer PRIMARY KEY)", "CREATE TABLE "+table("berth")+" (id integer PRIMARY KEY, quay_id integer, CONSTRAINT a FOREIGN KEY (quay_id) REFERENCES "+table("quay")+" (id) ON DELETE CASCADE)",
			"CREATE TABLE "+table("visit")+" (id integer PRIMARY KEY, berth_id integer, CONSTRAINT b FOREIGN KEY (berth_id) REFERENCES "+table("berth")+" (id) ON DELETE CASCADE)",
			"CREATE TABLE "+table("notice")+" (id integer PRIMARY KEY, quay_id integer, body varchar(9), CONSTRAINT c FOREIGN KEY (quay_id) REFERENCES "+table("quay")+" (id) ON DELETE SET NULL)")
		for _, x := range [][2]string{{"quay", "i"}, {"berth", "i, i"}, {"visit", "i, i"}, {"notice", "i, i, 'b'"}} {
			d.exec("INSERT INTO " + table(x[0]) + " SELECT " + x[1] + " FROM " + d.numbers(20))
		}
		var grants []string
		for _, name := range []string{"quay", "berth", "visit"} {
			for _, p := range []string{"SELECT", "DELETE", "INSERT"} {
				grants = append(grants, "GRANT "+p+" ON "+table(name)+" TO "+role)
			}
		}
		grants = append(grants, "GRANT SELECT ON "+table("notice")+" TO "+role, "GRANT UPDATE (quay_id) ON "+table("notice")+" TO "+role)
		if d.engine == "postgres" {
			grants = append(grants, "GRANT UPDATE (id) ON "+table("quay")+" TO "+role, "GRANT UPDATE (id) ON "+table("berth")+" TO "+role)
		}
		d.exec(grants...)
		if d.engine == "mariadb" {
			d.exec("GRANT TRIGGER ON " + home + ".* TO " + role)
		}
		clerk := &database{t: t, engine: d.engine, url: strings.NewReplacer("postgres@", role+"@", "root@", role+"@").Replace(d.url), within: true}
		args := []string{"run", "--sql", "DELETE FROM quay WHERE id <= 9", "--accept", "any", "--batch", "4"}
		if d.engine == "postgres" {
			clerk.url += "&search_path=harbour"
		} else {
			args = append(args, "--ledger", ledger)
		}
		for _, g := range grants {
			if strings.Contains(g, "INSERT") { // which only an undo takes: a warning
				continue
			}
			d.exec(strings.NewReplacer("GRANT", "REVOKE", " TO ", " FROM ").Replace(g))
			if o := clerk.jugatum(args...); o.status != 3 || !strings.Contains(o.err, "GRANT") && !strings.Contains(o.err, "granted") && !strings.Contains(o.err, "must have") {
				t.Errorf("without %s: exit status %d\n%s", g, o.status, o.err)
			}
			d.exec(g)
		}
		clerk.must(0, args...)
		if got := d.one("SELECT count(*) FROM " + table("visit")); got != "11" {
			t.Errorf("%s visits are left", got)
		}
		clerk.must(0, "verify", "1")
		clerk.must(0, "undo", "1")
		if got := d.one("SELECT count(*) FROM "+table("visit")) + d.one("SELECT count(*) FROM "+table("notice")+" WHERE quay_id IS NOT NULL"); got != "2020" {
			t.Errorf("%s are back", got)
		}
	})
}

// TestFollowedBack: references that take up new values take up the old ones in an undo; what
// a new value clears stays cleared, and is refused.
func TestFollowedBack(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		make := func(d *database, rule string) {
			d.exec("CREATE TABLE quay (id integer PRIMARY KEY, code varchar(20) NOT NULL UNIQUE)",
				"CREATE TABLE berth (id integer PRIMARY KEY, quay_code varchar(20) UNIQUE, CONSTRAINT a FOREIGN KEY (quay_code) REFERENCES quay (code) ON UPDATE CASCADE)",
				"CREATE TABLE visit (id integer PRIMARY KEY, berth_code varchar(20), CONSTRAINT b FOREIGN KEY (berth_code) REFERENCES berth (quay_code) ON UPDATE "+rule+")",
				"INSERT INTO quay SELECT i, concat('q', i) FROM "+d.numbers(40), "INSERT INTO berth SELECT id, code FROM quay WHERE id % 2 = 0", "INSERT INTO visit SELECT id * 10, quay_code FROM berth")
			if d.engine == "sqlite" {
				d.db.SetMaxOpenConns(1)
				d.exec("PRAGMA foreign_keys = on")
			}
		}
		tables := []string{"quay", "berth", "visit"}
		sql := "UPDATE quay SET code = concat(code, '-x') WHERE id > 10"
		plain := fresh(t, d.engine)
		make(plain, "CASCADE")
		plain.exec(sql)
		make(d, "CASCADE")
		before := d.dumpAll(tables)
		o := d.must(0, "run", "--sql", sql, "--accept", "30", "--batch", "7")
		if !strings.Contains(o.err, "15 rows of berth change with them") {
			t.Error(o.err)
		}
		same(t, "run", d.dumpAll(tables), plain.dumpAll(tables))
		d.must(0, "verify", "1")
		d.must(0, "undo", "1", "--batch", "9")
		same(t, "undone", d.dumpAll(tables), before)
		d.exec("DROP TABLE visit", "DROP TABLE berth", "DROP TABLE quay")
		make(d, "SET NULL")
		if o := d.must(3, "run", "--sql", sql, "--accept", "30", "--again"); !strings.Contains(o.err, "--despite cascade") {
			t.Error(o.err)
		}
	})
}

// TestCascadesOfSQLite: references are compared by the collation of what they refer to, and
// not followed where the URL says so.
func TestCascadesOfSQLite(t *testing.T) {
	beside(t)
	d := fresh(t, "sqlite")
	d.exec("CREATE TABLE quay (code text PRIMARY KEY COLLATE NOCASE NOT NULL, n integer) WITHOUT ROWID", "CREATE TABLE Berth (id integer PRIMARY KEY, quay_code TEXT REFERENCES QUAY (Code) ON DELETE CASCADE)",
		"CREATE TABLE \"visit log\" (a blob NOT NULL, berth INT REFERENCES berth ON DELETE CASCADE, PRIMARY KEY (a)) WITHOUT ROWID",
		"INSERT INTO quay VALUES ('North', 1), ('south', 2), ('', 3)", "INSERT INTO berth VALUES (1, 'NORTH'), (2, 'north'), (3, 'South'), (4, NULL), (5, '')", "INSERT INTO \"visit log\" VALUES (x'', 1), (x'00', 2), (x'01', 3), (x'02', 5), (x'03', NULL)")
	tables := []string{"quay", "berth", "\"visit log\""}
	before := d.dumpAll(tables)
	d.must(0, "run", "--sql", "DELETE FROM quay WHERE n <> 2", "--accept", "8", "--batch", "1")
	if got := fmt.Sprint(d.lines("SELECT id FROM berth ORDER BY id"), d.lines("SELECT hex(a) FROM \"visit log\" ORDER BY a")); got != "[3 4] [01 03]" {
		t.Error(got)
	}
	d.must(0, "verify", "1")
	d.must(0, "undo", "1", "--batch", "2")
	same(t, "undone", d.dumpAll(tables), before)
	if o := d.must(3, "run", "--sql", "DELETE FROM quay WHERE n <> 2", "--accept", "any", "--again", "--keep", "none"); !strings.Contains(o.err, "3 rows of Berth") && !strings.Contains(o.err, "rows of Berth go with them") {
		t.Error(o.err)
	}

	off := within(t, "run", "--db", d.url+"?foreign_keys=off", "--sql", "DELETE FROM quay WHERE n <> 2", "--accept", "2", "--again")
	if off.status != 0 || d.one("SELECT count(*) FROM berth") != "5" {
		t.Errorf("exit status %d\n%s%s", off.status, off.out, off.err)
	}
}

// TestCascadeReadByItsFilter: a filter that reads a table from which rows go along, however
// far, would be answered otherwise in later batches; one statement, and --method single,
// ask it once.
func TestCascadeReadByItsFilter(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.harbourCascade(12)
		before := d.dumpAll(cascadeTables)
		sql := "DELETE FROM quay WHERE id <= 1 + (SELECT count(*) FROM survey) / 30"
		o := d.must(3, "run", "--sql", sql, "--accept", "any", "--batch", "1")
		if !strings.Contains(o.err, "trigger-source") || !strings.Contains(o.err, "delete survey") {
			t.Error(o.err)
		}
		// Left to the database it is the same.
		if o := d.must(3, "run", "--sql", sql, "--accept", "any", "--batch", "1", "--keep", "none", "--despite", "cascade"); !strings.Contains(o.err, "rows of survey, which the step reads") {
			t.Error(o.err)
		}
		if d.engine != "postgres" { // where one statement may see what it has done itself
			d.must(3, "run", "--sql", sql, "--accept", "any", "--method", "single")
			return
		}
		plain := fresh(t, d.engine)
		plain.harbourCascade(12)
		plain.exec(sql)
		d.must(0, "run", "--sql", sql, "--accept", "any", "--method", "single")
		same(t, "at once", d.dumpAll(cascadeTables), plain.dumpAll(cascadeTables))
		d.must(0, "undo", d.lastRun())
		same(t, "undone", d.dumpAll(cascadeTables), before)
	})
}

// TestCascadeOfOtherTables: a run does not go on where other tables refer to its own than
// when it began, and can be taken back all the same.
func TestCascadeOfOtherTables(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.harbourCascade(16)
		d.exec("CREATE TABLE holds (id integer PRIMARY KEY, visit_id bigint, CONSTRAINT h FOREIGN KEY (visit_id) REFERENCES visit (id))",
			"INSERT INTO holds SELECT 1, min(visit.id) FROM visit JOIN berth ON berth.id = visit.berth_id WHERE berth.quay_id = 12")
		before := d.dumpAll(cascadeTables)
		d.must(1, "run", "--sql", "DELETE FROM quay WHERE id % 3 = 0", "--accept", "any", "--batch", "3")
		if got := d.one("SELECT count(*) FROM quay"); got == "16" {
			t.Fatal("nothing was deleted")
		}
		d.exec("DELETE FROM holds", "CREATE TABLE lamp (id integer PRIMARY KEY, quay_id integer, CONSTRAINT l FOREIGN KEY (quay_id) REFERENCES quay (id) ON DELETE CASCADE)", "INSERT INTO lamp VALUES (1, 15)")
		if o := d.must(3, "resume", "1"); !strings.Contains(o.err, "other tables refer to quay now") {
			t.Error(o.err)
		}
		if got := d.one("SELECT count(*) FROM lamp"); got != "1" {
			t.Error("a row went along that is not kept")
		}
		d.must(0, "verify", "1")
		d.must(0, "undo", "1")
		same(t, "undone", d.dumpAll(cascadeTables), before)
	})
}

// TestCascadeOfRowsThatStay: where a trigger keeps a row, those that refer to it do not go
// for nothing: the batch is rolled back, and the run ends.
func TestCascadeOfRowsThatStay(t *testing.T) {
	beside(t)
	for _, engine := range []string{"sqlite", "postgres"} { // MariaDB has no way to keep a row but an error
		d := fresh(t, engine)
		d.within = true
		d.exec("CREATE TABLE t (id integer PRIMARY KEY)", "INSERT INTO t SELECT i FROM "+d.numbers(20), "CREATE TABLE child (c integer PRIMARY KEY, t_id integer REFERENCES t (id) ON DELETE CASCADE)", "INSERT INTO child SELECT id, id FROM t")
		before := d.dumpAll([]string{"t", "child"})
		if engine == "sqlite" {
			d.exec("CREATE TRIGGER stays BEFORE DELETE ON t WHEN old.id = 13 BEGIN SELECT RAISE(IGNORE); END")
		} else {
			d.exec("CREATE FUNCTION stays() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN IF OLD.id = 13 THEN RETURN NULL; END IF; RETURN OLD; END'", "CREATE TRIGGER stays BEFORE DELETE ON t FOR EACH ROW EXECUTE FUNCTION stays()")
		}
		o := d.must(1, "run", "--sql", "DELETE FROM t WHERE id > 5", "--accept", "any", "--batch", "4")
		if !strings.Contains(o.err, "a trigger interferes with the batch") {
			t.Error(o.err)
		}
		if got := d.one("SELECT count(*) FROM t WHERE id NOT IN (SELECT t_id FROM child)"); got != "0" {
			t.Errorf("%s rows have lost those that refer to them", got)
		}
		d.must(0, "undo", "1")
		same(t, "undone", d.dumpAll([]string{"t", "child"}), before)
	}
}
