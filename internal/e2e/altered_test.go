package e2e

import (
	"strings"
	"testing"
)

// TestUndoOfAlteredTable: what can still be put back is, where columns were
// dropped, renamed or added since the run; the rest is told, with status 5.
func TestUndoOfAlteredTable(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, v integer, w integer, s varchar(20))", "INSERT INTO t SELECT i, i, i * 2, 'moor' FROM "+d.numbers(30))
		ids := func(column string) string { return d.one("SELECT sum(" + column + ") FROM t") }
		v, w := ids("v"), ids("w")

		d.must(0, "run", "--every-row", "--accept", "30", "--sql", "UPDATE t SET v = v + 100, w = w + 100")
		d.exec("ALTER TABLE t RENAME COLUMN v TO amount")
		o := d.must(0, "verify", "1")
		if !strings.Contains(o.err, "changed since run 1") || !strings.Contains(o.out, "30 kept rows compared") {
			t.Errorf("%s%s", o.out, o.err)
		}
		o = d.must(5, "undo", "1", "--batch", "7")
		if !strings.Contains(o.err, "no column v of t") {
			t.Error(o.err)
		}
		if got := ids("w"); got != w {
			t.Errorf("w: %s, want %s", got, w)
		}
		d.exec("ALTER TABLE t RENAME COLUMN amount TO v", "UPDATE t SET v = v - 100")
		if got := ids("v"); got != v {
			t.Errorf("v: %s, want %s", got, v)
		}

		before := d.dump("t")
		d.must(0, "run", "--accept", "10", "--sql", "DELETE FROM t WHERE id <= 10")
		d.exec("ALTER TABLE t ADD COLUMN noted integer DEFAULT 7")
		d.must(0, "undo", "3", "--batch", "3")
		if got := d.one("SELECT count(*) FROM t WHERE noted = 7"); got != "30" {
			t.Errorf("%s rows with the new column's default", got)
		}
		d.exec("ALTER TABLE t DROP COLUMN noted")
		same(t, "deleted rows put back", d.dump("t"), before)

		d.must(0, "run", "--every-row", "--accept", "30", "--sql", "UPDATE t SET s = 'gone'")
		d.exec("ALTER TABLE t DROP COLUMN s")
		if o := d.must(3, "undo", "5"); !strings.Contains(o.err, "none of the columns") {
			t.Error(o.err)
		}
		if o := d.must(0, "runs"); strings.Contains(o.out, "undo of 5") {
			t.Error("the undo of run 5 was recorded")
		}
	})
}
