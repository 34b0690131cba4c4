package e2e

import (
	"os"
	"path/filepath"
	"testing"
)

// TestOnce: a step with a column that tells what is done leaves those rows alone
// when it is run again, changes the rows that came since, and is undone whole.
func TestOnce(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		for _, c := range []struct{ typ, mark string }{{"timestamp NULL", "raised IS NOT NULL"}, {"varchar(20)", "raised = 'raise'"}, {"integer", "raised = 1"}, {"boolean", "raised"}} {
			d.exec("DROP TABLE IF EXISTS t", "CREATE TABLE t (id integer PRIMARY KEY, n integer, raised "+c.typ+")", "INSERT INTO t (id, n) SELECT i, i FROM "+d.numbers(40))
			job := filepath.Join(t.TempDir(), "job.toml")
			text := "[[step]]\nname = \"raise\"\ntable = \"t\"\nwhere = \"id > 10 OR id = 3\"\nset = { n = \"n + 100\" }\nonce = \"raised\"\n"
			if err := os.WriteFile(job, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
			before := d.dump("t")
			d.must(0, "run", job, "--accept", "31", "--batch", "7")
			run := d.lastRun()
			if got := d.one("SELECT count(*) FROM t WHERE n = id + 100 AND " + c.mark); got != "31" {
				t.Errorf("%s: %s rows marked", c.typ, got)
			}
			d.exec("INSERT INTO t (id, n) VALUES (100, 100)")
			after := d.dump("t")
			d.must(0, "run", job, "--accept", "1")
			again := d.lastRun()
			if got := d.one("SELECT count(*) FROM t WHERE n = id + 100"); got != "32" {
				t.Errorf("%s: %s rows raised, want 32", c.typ, got)
			}
			d.must(0, "verify", again)
			d.must(0, "run", job, "--accept", "0") // nothing is left to do
			d.must(0, "undo", again)
			same(t, c.typ+", second run undone", d.dump("t"), after)
			d.exec("DELETE FROM t WHERE id = 100")
			d.must(0, "undo", run)
			same(t, c.typ+", first run undone", d.dump("t"), before)
		}
	})
}
