package e2e

import (
	"fmt"
	"strings"
	"testing"
)

// ledgerTables names the tables of the ledger, those of kept values among them.
func (d *database) ledgerTables() []string {
	d.t.Helper()
	return d.lines(map[string]string{
		"sqlite":   "SELECT name FROM sqlite_master WHERE type = 'table' AND name LIKE 'jugatum%' ORDER BY 1",
		"postgres": "SELECT 'jugatum.' || tablename FROM pg_tables WHERE schemaname = 'jugatum' ORDER BY 1",
		"mariadb":  "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_type = 'BASE TABLE' AND table_name LIKE 'jugatum%' ORDER BY 1",
	}[d.engine])
}

// copied makes a copy of every table of the ledger and of t, and gives what puts
// them back as they are now.
func (d *database) copied() (back func()) {
	d.t.Helper()
	var undo []string
	for i, table := range append(d.ledgerTables(), "t") {
		d.exec(fmt.Sprintf("CREATE TABLE copy_%d AS SELECT * FROM %s", i, table))
		undo = append(undo, "DELETE FROM "+table, fmt.Sprintf("INSERT INTO %s SELECT * FROM copy_%d", table, i))
	}
	return func() { d.exec(undo...) }
}

// fault has every update of a row fail, and faultless no longer.
func (d *database) fault(table string, id int) {
	d.t.Helper()
	when := fmt.Sprint("old.id = ", id)
	d.exec(map[string][]string{
		"sqlite":   {"CREATE TRIGGER fault BEFORE UPDATE ON " + table + " WHEN " + when + " BEGIN SELECT raise(ABORT, 'a fault'); END"},
		"postgres": {"CREATE FUNCTION fault() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RAISE EXCEPTION ''a fault''; END'", "CREATE TRIGGER fault BEFORE UPDATE ON " + table + " FOR EACH ROW WHEN (" + when + ") EXECUTE FUNCTION fault()"},
		"mariadb":  {"CREATE TRIGGER fault BEFORE UPDATE ON " + table + " FOR EACH ROW IF " + when + " THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'a fault'; END IF"},
	}[d.engine]...)
}

func (d *database) faultless(table string) {
	d.t.Helper()
	if d.engine == "postgres" {
		d.exec("DROP TRIGGER fault ON "+table, "DROP FUNCTION fault()")
		return
	}
	d.exec("DROP TRIGGER fault")
}

// TestDamagedRecords: whatever happens to a run's record, a resume or an undo is
// refused or does what it was to do; it never ends well with another result.
func TestDamagedRecords(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		const rows = 900
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)", fmt.Sprintf("INSERT INTO t SELECT i, i FROM %s", d.numbers(rows)))
		d.fault("t", 405)
		d.must(1, append([]string{"run", "--sql", "UPDATE t SET n = n * 3 + 1 WHERE id % 10 <> 0", "--accept", fmt.Sprint(rows - rows/10), "--batch", "25"}, d.workers(3)...)...)
		d.faultless("t")
		back := d.copied()
		d.within = true

		type cell struct{ table, column string }
		var cells []cell
		for _, table := range []string{"run", "step", "lane", "batch"} {
			read, err := d.db.Query("SELECT * FROM " + d.ledger(table) + " LIMIT 0")
			if err != nil {
				t.Fatal(err)
			}
			columns, err := read.Columns()
			read.Close()
			if err != nil {
				t.Fatal(err)
			}
			for _, column := range columns {
				cells = append(cells, cell{table, column})
			}
		}
		rnd, done, cases := seeded(31), map[int]int{}, 100
		if d.engine != "sqlite" { // where each takes longer
			cases = 56
		}
		for i := range cases {
			c := cells[i%len(cells)]
			last := ""
			lane := d.lines("SELECT n FROM " + d.ledger("lane") + " WHERE batches > 0 OR n > 1 ORDER BY n")
			switch n := lane[rnd.IntN(len(lane))]; c.table {
			case "lane":
				last = " WHERE n = " + n
			case "batch":
				first := d.one("SELECT min(lane) FROM " + d.ledger("batch")) // a lane may not have come to its first batch
				last = " WHERE lane = " + first + " AND n = " + d.one("SELECT max(n) FROM "+d.ledger("batch")+" WHERE lane = "+first)
			}
			old := d.one("SELECT CAST(" + c.column + " AS " + d.by("char", "text") + ") FROM " + d.ledger(c.table) + last)
			text := []byte(old)
			switch at := rnd.IntN(len(text) + 1); rnd.IntN(4) {
			case 0: // cut short
				text = text[:at]
			case 1: // another digit or letter
				if at < len(text) {
					text[at] = "0123456789abz'\"-%;"[rnd.IntN(18)]
				}
			case 2: // one more
				text = append(text[:at:at], append([]byte{"0123456789abz'\"-%;"[rnd.IntN(18)]}, text[at:]...)...)
			case 3: // another number
				text = []byte(fmt.Sprint(rnd.IntN(1000)))
			}
			d.db.Exec("UPDATE " + d.ledger(c.table) + " SET " + c.column + " = '" + strings.ReplaceAll(string(text), "'", "''") + "'" + last) // or not, where a key would stand twice or the type is another
			command := []string{"resume", "undo"}[rnd.IntN(2)]
			o := d.jugatum(command, "1")
			done[o.status]++
			wrong := d.one("SELECT count(*) FROM t WHERE n <> id AND (n <> id * 3 + 1 OR id % 10 = 0)") // neither untouched nor changed once
			left := d.one("SELECT count(*) FROM t WHERE id % 10 <> 0 AND n " + map[string]string{"resume": "=", "undo": "<>"}[command] + " id")
			if wrong != "0" || d.one("SELECT count(*) FROM t") != fmt.Sprint(rows) || o.status == 0 && left != "0" {
				t.Errorf("%s.%s was %q, is %q, %s: status %d with %s rows wrong and %s not done\n%s%s", c.table, c.column, old, text, command, o.status, wrong, left, o.out, o.err)
			}
			back()
		}
		t.Logf("by status: %v", done)
		if done[0] < cases/12 || done[3] < cases/12 {
			t.Errorf("by status: %v", done)
		}
	})
}
