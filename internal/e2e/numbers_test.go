package e2e

import (
	"strings"
	"testing"
)

// TestRowNumbers: rows of a table without a key go by their own numbers (SQLite), and what
// gives them others is noticed before anything is done by those.
func TestRowNumbers(t *testing.T) {
	beside(t)
	d := fresh(t, "sqlite")
	d.within = true
	fill := func() {
		d.exec("DROP TABLE IF EXISTS log", "CREATE TABLE log (at integer, what text, n integer CHECK (n < 1000))",
			"INSERT INTO log SELECT i, 'line ' || (i % 7), i % 10 FROM "+d.numbers(60), "DELETE FROM log WHERE at IN (5, 20, 21)")
	}
	vacuum := func() { d.exec("VACUUM") }
	rebuilt := func() {
		d.exec("CREATE TABLE log_made (at integer, what text, n integer)", "INSERT INTO log_made SELECT * FROM log", "DROP TABLE log", "ALTER TABLE log_made RENAME TO log")
	}
	const midway = "UPDATE log SET n = n + CASE WHEN at = 40 THEN 2000 ELSE 100 END" // fails there
	const others = "have been given other numbers"
	for name, renumber := range map[string]func(){"vacuum": vacuum, "made anew": rebuilt} {
		// A run that ended midway does not go on.
		fill()
		d.must(1, "run", "--sql", midway, "--every-row", "--again", "--accept", "any", "--batch", "7")
		run := d.lastRun()
		if got := d.one("SELECT count(*) FROM log WHERE n >= 100"); got == "0" || got == "57" {
			t.Fatalf("%s: %s rows are changed", name, got)
		}
		renumber()
		before := d.dump("log")
		for _, args := range [][]string{{"resume", run}, {"verify", run}, {"undo", run}} {
			if o := d.jugatum(args...); o.status != map[bool]int{true: 1, false: 3}[args[0] == "resume"] || !strings.Contains(o.err, others) {
				t.Errorf("%s: %v: status %d, %s", name, args, o.status, o.err)
			}
		}
		same(t, name+": nothing is done", d.dump("log"), before)
		if o := d.must(3, "run", "--sql", midway, "--every-row", "--accept", "any"); !strings.Contains(o.err, "cannot be told from others any more") {
			t.Error(o.err)
		}

		// Nor is one taken back that is done, though every row looks like the next.
		fill()
		d.must(0, "run", "--sql", "UPDATE log SET n = 0, what = ''", "--every-row", "--again", "--accept", "any", "--batch", "7")
		run = d.lastRun()
		d.must(0, "verify", run)
		renumber()
		before = d.dump("log")
		for _, args := range [][]string{{"verify", run}, {"undo", run}} {
			if o := d.must(3, args...); !strings.Contains(o.err, others) {
				t.Errorf("%s: %v: %s", name, args, o.err)
			}
		}
		same(t, name+": nothing is taken back", d.dump("log"), before)
	}

	// A row that was set aside is not tried again by a number that may be another's.
	fill()
	d.exec("CREATE TRIGGER nay BEFORE UPDATE ON log WHEN NEW.at = 40 BEGIN SELECT RAISE(ABORT, 'nay'); END")
	d.must(5, "run", "--sql", "UPDATE log SET n = n + 100 WHERE n < 100", "--accept", "any", "--batch", "7", "--set-aside", "3")
	aside := d.lastRun()
	vacuum()
	d.exec("DROP TRIGGER nay")
	beside := d.dump("log")
	if o := d.must(1, "resume", aside, "--retry-set-aside"); !strings.Contains(o.err, others) {
		t.Error(o.err)
	}
	same(t, "set aside: nothing is done", d.dump("log"), beside)

	// The number of the last row goes to the next that is made, which is another one.
	fill()
	d.must(0, "run", "--sql", "DELETE FROM log WHERE at > 50", "--accept", "any", "--batch", "3")
	run := d.lastRun()
	d.must(0, "verify", run)
	d.exec("INSERT INTO log VALUES (100, 'new', 1), (101, 'new', 1)")
	d.must(0, "verify", run)
	d.must(5, "undo", run)
	if got := d.one("SELECT count(*) || ' ' || sum(at > 50) || ' ' || sum(at > 99) FROM log"); got != "57 10 2" {
		t.Errorf("rows, those after 50, new ones: %s", got)
	}
	d.must(0, "verify", d.lastRun())

	// Rows that go along must have a key.
	d.exec("CREATE TABLE parent (id INTEGER PRIMARY KEY)", "CREATE TABLE child (p integer REFERENCES parent ON DELETE CASCADE, n integer)", "INSERT INTO parent VALUES (1), (2)", "INSERT INTO child VALUES (1, 1), (2, 2)")
	if o := d.must(3, "run", "--sql", "DELETE FROM parent WHERE id = 1", "--accept", "any"); !strings.Contains(o.err, "child has no primary key") {
		t.Error(o.err)
	}
	// The number can be asked for, and is no column.
	d.must(0, "run", "--sql", "UPDATE log SET n = rowid + 20 WHERE rowid < 4", "--accept", "3", "--batch", "2")
	d.must(2, "run", "--sql", "UPDATE log SET rowid = rowid + 100 WHERE n = 3", "--accept", "any")
}

// TestKeyThatIsAdvised: the statement that a refusal names makes the table one that can be
// changed in batches, verified and undone.
func TestKeyThatIsAdvised(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE log (at integer, what varchar(20), n integer)", "INSERT INTO log SELECT i, 'line', i % 10 FROM "+d.numbers(60))
		before := d.lines("SELECT concat(at, ' ', what, ' ', n) FROM log ORDER BY at")
		for _, change := range []string{"UPDATE log SET n = n + 1 WHERE at > 5", "DELETE FROM log WHERE at > 20"} {
			args := []string{"run", "--sql", change, "--accept", "any", "--batch", "7"}
			if change[0] == 'U' {
				o := d.must(3, args...)
				_, advice, found := strings.Cut(o.err, "make one (")
				end := strings.IndexAny(advice, ",)")
				if !found || end < 0 || !strings.HasPrefix(advice, "ALTER TABLE") {
					t.Fatal(o.err)
				}
				d.exec(advice[:end])
			}
			d.must(0, args...)
			d.must(0, "verify", d.lastRun())
			d.must(0, "undo", d.lastRun())
			same(t, "undone", d.lines("SELECT concat(at, ' ', what, ' ', n) FROM log ORDER BY at"), before)
		}
		if d.engine == "mariadb" { // who does not name it does not see it
			d.exec("INSERT INTO log VALUES (100, 'new', 1)")
			if got := len(d.lines("SELECT concat(a.at, a.n) FROM (SELECT * FROM log) AS a")); got != 61 {
				t.Errorf("%d rows", got)
			}
		}
	})
}
