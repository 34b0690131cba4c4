package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestDamagedRecords: whatever happens to a run's record, a resume is refused or
// does what the run was to do; it never ends well with another result.
func TestDamagedRecords(t *testing.T) {
	beside(t)
	d := fresh(t, "sqlite")
	const rows = 900
	d.exec("CREATE TABLE t (id INTEGER PRIMARY KEY, n integer)", fmt.Sprintf("INSERT INTO t SELECT i, i FROM %s", d.numbers(rows)),
		"CREATE TRIGGER fault BEFORE UPDATE ON t WHEN old.id = 405 BEGIN SELECT raise(ABORT, 'a fault'); END")
	d.must(1, "run", "--sql", "UPDATE t SET n = n * 3 + 1 WHERE id % 10 <> 0", "--accept", fmt.Sprint(rows-rows/10), "--batch", "50")
	d.exec("DROP TRIGGER fault", "PRAGMA wal_checkpoint(TRUNCATE)", "PRAGMA journal_mode = DELETE")
	path := strings.TrimPrefix(d.url, "sqlite:")
	file, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	type cell struct{ table, column string }
	var cells []cell
	for _, table := range []string{"jugatum_run", "jugatum_step", "jugatum_lane", "jugatum_batch"} {
		for _, column := range d.lines("SELECT name FROM pragma_table_info('" + table + "')") {
			cells = append(cells, cell{table, column})
		}
	}
	rnd := seeded(31)
	done := map[int]int{}
	for i := range 250 {
		copied := filepath.Join(t.TempDir(), "t.db")
		if err := os.WriteFile(copied, file, 0o600); err != nil {
			t.Fatal(err)
		}
		x := &database{t: t, engine: "sqlite", url: "sqlite:" + copied, within: true}
		x.reopen(copied)
		c := cells[i%len(cells)]
		old := x.one("SELECT CAST(" + c.column + " AS TEXT) FROM " + c.table + " ORDER BY rowid DESC LIMIT 1")
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
		x.db.Exec("UPDATE "+c.table+" SET "+c.column+" = ? WHERE rowid = (SELECT max(rowid) FROM "+c.table+")", string(text)) // or not, where a key would stand twice
		o := x.jugatum("resume", "1")
		done[o.status]++
		wrong := x.one(fmt.Sprintf("SELECT count(*) FROM t WHERE n <> id AND (n <> id * 3 + 1 OR id %% 10 = 0)")) // neither untouched nor changed once
		left := x.one("SELECT count(*) FROM t WHERE n = id AND id % 10 <> 0")
		if wrong != "0" || x.one("SELECT count(*) FROM t") != fmt.Sprint(rows) || o.status == 0 && left != "0" {
			t.Errorf("%s.%s was %q, is %q: status %d with %s rows wrong and %s not changed\n%s%s", c.table, c.column, old, text, o.status, wrong, left, o.out, o.err)
		}
		x.db.Close()
	}
	if done[0] < 20 || done[3] < 20 {
		t.Errorf("by status: %v", done)
	}
}
