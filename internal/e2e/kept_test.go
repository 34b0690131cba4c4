package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// dropLedger takes away all that is known of runs.
func (d *database) dropLedger() {
	d.t.Helper()
	switch d.engine {
	case "postgres":
		d.exec("DROP SCHEMA jugatum CASCADE")
	case "mariadb":
		for _, kind := range []string{"VIEW", "BASE TABLE"} {
			for _, name := range d.lines("SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name LIKE 'jugatum\\_%' AND table_type = ?", kind) {
				d.exec("DROP " + strings.TrimPrefix(kind, "BASE ") + " " + name)
			}
		}
	default:
		for _, name := range d.lines("SELECT name FROM sqlite_schema WHERE type = 'table' AND name LIKE 'jugatum\\_%' ESCAPE '\\'") {
			d.exec("DROP TABLE " + name)
		}
	}
}

// putBack writes what a run has kept into files, takes its ledger away, and carries out the job that
// puts the old values back.
func (d *database) putBack(run, end string, status int) {
	d.t.Helper()
	path := filepath.Join(d.t.TempDir(), "old."+end)
	d.must(0, "kept", run, "--write", path)
	d.dropLedger()
	d.must(status, "run", strings.TrimSuffix(path, end)+"toml", "--accept", "any", "--batch", "23")
}

// TestKeptAsLists: what a run has kept puts every byte back from files, when nothing else is known of
// the run, for every kind of key.
func TestKeptAsLists(t *testing.T) {
	eachLayout(t, func(t *testing.T, d *database, li int, l layout) {
		if l.name == "any storage class" || l.name == "strict with generated" || l.name == "generated and identity" { // whose texts, or numbers, would be others
			return
		}
		d.within = true
		table := d.quote("kept öf")
		for i, sql := range []string{"UPDATE %s SET txt = concat('=', coalesce(txt, 'NULL')), n = n * 3, bin = NULL, amt = -amt WHERE n > 5 OR n IS NULL", "DELETE FROM %s WHERE n > 3 OR n IS NULL"} {
			l.make(d, table, 1)
			fill(d, l, seeded(uint64(li*10+i)), 90, table)
			want := d.dump(table)
			d.must(0, "run", "--sql", fmt.Sprintf(sql, table), "--accept", "any", "--batch", "20")
			end := []string{"csv", "jsonl"}[(li+i)%2]
			if l.keyless {
				path := filepath.Join(t.TempDir(), "old."+end)
				d.must(0, "kept", d.lastRun(), "--write", path)
				text, err := os.ReadFile(strings.TrimSuffix(path, end) + "toml")
				if err != nil || !strings.Contains(string(text), "is not put back: rows of ") {
					t.Errorf("%s %v", text, err)
				}
				continue
			}
			if l.name == "generated and old dates" && i == 1 { // a list takes no dates that are none
				d.putBack(d.lastRun(), end, 2)
				continue
			}
			d.putBack(d.lastRun(), end, 0)
			same(t, sql+" put back from ."+end, d.dump(table), want)
		}
	})
}

// TestKeptOfEverySort: so do those of moves, copies, lists and rows that went along; what a list cannot
// do is said.
func TestKeptOfEverySort(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE quay (id integer PRIMARY KEY, name varchar(20))", "CREATE TABLE berth (id integer PRIMARY KEY, quay integer, note varchar(20), FOREIGN KEY (quay) REFERENCES quay (id) ON DELETE CASCADE)",
			"CREATE TABLE crane (id integer PRIMARY KEY, berth integer, FOREIGN KEY (berth) REFERENCES berth (id) ON DELETE SET NULL)",
			"CREATE TABLE old_berth (id integer PRIMARY KEY, quay integer, note varchar(20))",
			"INSERT INTO quay SELECT i, 'Quay ' || i FROM "+d.numbers(20), "INSERT INTO berth SELECT i, floor((i - 1) / 5) + 1, CASE i % 4 WHEN 0 THEN NULL WHEN 1 THEN '' WHEN 2 THEN 'NULL' ELSE '=x' END FROM "+d.numbers(100), "INSERT INTO crane SELECT i, i * 3 FROM "+d.numbers(30))
		all := func() []string {
			var out []string
			for _, table := range []string{"quay", "berth", "crane", "old_berth"} {
				out = append(append(out, table), d.dump(table)...)
			}
			return out
		}
		want := all()
		for name, step := range map[string]string{
			"deletes with what goes along": "sql = 'DELETE FROM quay WHERE id <= 7'",
			"moves":                        "table = 'berth'\nmove_to = 'old_berth'\nwhere = 'id > 90'",
			"copies":                       "table = 'berth'\ncopy_to = 'old_berth'\nwhere = 'id <= 12'",
			"lists":                        "table = 'berth'\nchanges = '" + d.list("b.csv", "id,quay,note,op\n1,2,other,upsert\n500,3,new,upsert\n7,1,x,delete\n") + "'\naction = { column = 'op' }",
		} {
			job := d.job("[[step]]\n" + step + "\n[[step]]\nname = 'second'\nsql = \"UPDATE berth SET note = '-' WHERE id % 2 = 0\"\n")
			for _, end := range []string{"csv", "jsonl"} {
				d.must(0, "run", job, "--accept", "any", "--despite", "lost-columns")
				d.putBack(d.lastRun(), end, 0)
				same(t, name+" put back from ."+end, all(), want)
				d.dropLedger()
			}
		}
		d.must(0, "run", "--sql", "UPDATE crane SET id = id + 1000 WHERE id > 5", "--method", "single", "--accept", "any")
		path := filepath.Join(t.TempDir(), "keys.csv")
		d.must(0, "kept", d.lastRun(), "--write", path)
		d.must(2, "kept", d.lastRun(), "--write", path) // which is there
		if text, err := os.ReadFile(strings.TrimSuffix(path, "csv") + "toml"); err != nil || !strings.Contains(string(text), "the run has changed the key of ") {
			t.Errorf("%s %v", text, err)
		}
		d.must(2, "kept", d.lastRun(), "--write", filepath.Join(t.TempDir(), "keys.xlsx"))
		d.must(0, "undo", d.lastRun())
		d.must(2, "kept", d.lastRun())
		d.must(0, "run", "--sql", "UPDATE crane SET berth = 1 WHERE id = 5", "--keep", "none", "--accept", "any")
		d.must(3, "kept", d.lastRun())
	})
}
