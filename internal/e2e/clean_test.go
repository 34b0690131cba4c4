package e2e

import (
	"strings"
	"testing"
)

// TestUntilClean: a job is carried out again for rows that have come to match since, each time as a run of
// its own, until none does, at most as often as is said; one that would never end is refused before it begins.
func TestUntilClean(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer, s varchar(40))")
		fill := func() {
			d.exec("DELETE FROM t", "INSERT INTO t VALUES (1, 1, 'a'), (2, 2, 'b'), (3, 3, 'c'), (4, 3, 'd'), (5, 9, 'e')")
		}
		fill()
		// What one step makes, the one before it finds the next time: as if it had come since.
		job := d.job("[[step]]\ntable = 't'\nwhere = 'n = 1'\nput = { n = 0 }\n[[step]]\ntable = 't'\nwhere = 'n = 2'\nput = { n = 1 }\n[[step]]\ntable = 't'\nwhere = 'n = 3'\nput = { n = 2 }\n")
		o := d.must(0, "run", job, "--accept", "4", "--until-clean", "5")
		if got := d.lines("SELECT n FROM t ORDER BY id"); strings.Join(got, " ") != "0 0 0 0 9" {
			t.Errorf("%v", got)
		}
		if !strings.Contains(o.err, "3 rows have come to match since: once more.") || !strings.Contains(o.err, "Clean: no row would change any more.") || d.lastRun() != "3" {
			t.Errorf("run %s\n%s", d.lastRun(), o.err)
		}
		for _, run := range []string{"3", "2", "1"} {
			d.must(0, "undo", run)
		}
		if got := d.lines("SELECT n FROM t ORDER BY id"); strings.Join(got, " ") != "1 2 3 3 9" {
			t.Errorf("undone: %v", got)
		}
		fill()
		o = d.must(6, "run", job, "--accept", "any", "--until-clean", "1", "--again")
		if got := d.lines("SELECT n FROM t ORDER BY id"); strings.Join(got, " ") != "0 0 1 1 9" || !strings.Contains(o.err, "2 rows would change still") {
			t.Errorf("%v\n%s", got, o.err)
		}
		before := d.dump("t")
		for _, x := range []struct{ job, why string }{
			{"table = 't'\nwhere = 'n > 0'\nset = { n = 'n + 1' }\n", "computed from itself"},
			{"table = 't'\norder = 'id'\nfirst = 1\nput = { n = 4 }\n", "the next of the first rows"},
			{"in = ['t.s']\nreplace = { find = 'a', with = 'aa' }\n", "would be replaced again"},
			{"table = 't'\nset = { id = 'n', n = 'id' }\n", "id is computed from n, which is changed as well"},
			{"table = 't'\n[step.shape]\ns = [{ after = 'a' }]\n", "might be done to its outcome again"},
		} {
			if o := d.must(3, "run", d.job("[[step]]\n"+x.job), "--accept", "any", "--until-clean", "3"); !strings.Contains(o.err, x.why) {
				t.Errorf("%s: %s", x.why, o.err)
			}
		}
		d.must(2, "run", job, "--accept", "any", "--until-clean", "-1")
		same(t, "nothing changed", d.dump("t"), before)
	})
}
