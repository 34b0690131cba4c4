package e2e

import (
	"strings"
	"testing"
)

// TestFirstRows: of the rows that match only the first in an order are changed,
// the same ones by a list in batches and by one statement, ties decided by the
// key; after a kill too. A second run takes the next ones.
func TestFirstRows(t *testing.T) {
	job := func(t *testing.T, more string) string {
		return jobFile(t, "[[step]]\ntable = \"t\"\nwhere = \"n IS NOT NULL AND mark = 0\"\norder = \"n DESC\"\nskip = 5\nfirst = 150\nset = { n = \"n - 1000\" }\nput = { mark = 1 }\n"+more)
	}
	engines(t, func(t *testing.T, d *database) {
		fresh := func() {
			d.exec("DROP TABLE IF EXISTS t")
			d.exec("CREATE TABLE t (a "+d.integer()+", b varchar(20), n integer, mark integer, PRIMARY KEY (a, b))",
				"INSERT INTO t SELECT i % 7, "+d.by("concat('k', i)", "'k' || i")+", CASE WHEN i % 5 = 0 THEN NULL ELSE i % 60 END, 0 FROM "+d.numbers(1000))
			d.settled("t")
		}
		fresh()
		before := d.dump("t")
		d.exec("UPDATE t SET n = n - 1000, mark = 1 WHERE (a, b) IN (SELECT * FROM (SELECT a, b FROM t WHERE n IS NOT NULL ORDER BY n DESC, a, b LIMIT 150 OFFSET 5) AS x)")
		want := d.dump("t")
		fresh()
		o := d.must(0, "preview", job(t, ""))
		if !strings.Contains(o.out, "by roster: the first 150 after 5 by n DESC") || !strings.Contains(o.out, "150 would change") {
			t.Errorf("%s", o.out)
		}
		d.must(3, "run", job(t, ""), "--accept", "150", "--method", "sweep")
		d.must(3, "run", job(t, ""), "--accept", "151")
		d.must(0, "run", job(t, ""), "--accept", "150", "--batch", "11")
		same(t, "by a list", d.dump("t"), want)
		d.must(0, "verify", "1")
		d.must(0, "undo", "1")
		same(t, "undone", d.dump("t"), before)
		for _, more := range [][]string{{"--method", "single"}, {"--keep", "none", "--batch", "40"}, {"--keep", "none", "--method", "single"}, d.workers(3)} {
			fresh()
			d.must(0, append([]string{"run", job(t, ""), "--accept", "any", "--again"}, more...)...)
			same(t, strings.Join(more, " "), d.dump("t"), want)
		}
		o = d.must(0, "run", job(t, ""), "--accept", "any", "--again")
		if got := d.one("SELECT count(*) FROM t WHERE mark = 1"); got != "300" {
			t.Errorf("%s rows after a second run\n%s", got, o.out)
		}
		if d.engine == "mariadb" {
			limited := "UPDATE t SET mark = 2 WHERE mark = 1 ORDER BY n LIMIT :n"
			d.must(0, "run", "--sql", limited, "--param", "n=9", "--accept", "9")
			for want, args := range map[string][]string{":n is not declared": nil, "LIMIT :n: expected a number of rows, not": {"--param", "n=many"}} {
				if o := d.must(2, append([]string{"preview", "--sql", limited}, args...)...); !strings.Contains(o.err, want) {
					t.Errorf("%s", o.err)
				}
			}
		}
		for text, want := range map[string]string{
			"[[step]]\ntable = \"t\"\norder = \"n\"\nput = { mark = 1 }\n":                    "first, the number of rows, is missing",
			"[[step]]\ntable = \"t\"\nfirst = 0\nput = { mark = 1 }\n":                        "is not a number of rows from 1 up",
			"[[step]]\ntable = \"t\"\nfirst = 5\nskip = -1\nput = { mark = 1 }\n":             "skip: -1",
			"[[step]]\ntable = \"t\"\nfirst = 5\norder = \"nothing\"\nput = { mark = 1 }\n":   "nothing",
			"[[step]]\nsql = \"UPDATE t SET mark = 1\"\nfirst = 5\n":                          "stands alone",
			"[[step]]\nin = [\"t.b\"]\nfirst = 5\nreplace = { find = \"a\", with = \"b\" }\n": "stand alone",
			"[[step]]\ntable = \"keyless\"\nfirst = 5\nput = { mark = 1 }\n":                  "no key",
		} {
			d.exec("DROP TABLE IF EXISTS keyless")
			d.exec("CREATE TABLE keyless (mark integer, rowid integer, _rowid_ integer, oid integer)")
			if o := d.must(2, "preview", jobFile(t, text)); !strings.Contains(o.err, want) {
				t.Errorf("%s\n%s", text, o.err)
			}
		}
	})
}

// TestRosterInStretches: on SQLite the list is made beside the file, and comes into it in stretches, so
// that nobody who writes waits while a table is read; the rows are all there, and each once.
func TestRosterInStretches(t *testing.T) {
	d := fresh(t, "sqlite")
	d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t SELECT i * 3, i % 7 FROM "+d.numbers(40_000))
	want := d.one("SELECT count(*) || ' ' || sum(n + 1) FROM t WHERE n < 4")
	d.must(0, "run", "--sql", "UPDATE t SET n = n + 10 WHERE n < 4", "--accept", "any", "--method", "roster", "--batch", "6007")
	if got := d.one("SELECT count(*) || ' ' || sum(n - 9) FROM t WHERE n >= 10"); got != want {
		t.Errorf("changed: %s, expected %s", got, want)
	}
	listed := d.one("SELECT count(*) || ' ' || count(*) FROM t WHERE n >= 10")
	if got := d.one("SELECT sum(scanned) || ' ' || sum(changed) FROM jugatum_batch"); got != listed {
		t.Errorf("scanned and changed: %s, expected %s", got, listed)
	}
}
