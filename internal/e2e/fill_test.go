package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"
)

// job writes a job file and gives its path.
func (d *database) job(text string) string {
	d.t.Helper()
	path := filepath.Join(d.t.TempDir(), "job.toml")
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		d.t.Fatal(err)
	}
	return path
}

// filledJSON is what is told of a step that fills columns.
type filledJSON struct {
	Columns   []string
	Rows      int64 `json:"source_rows"`
	Unused    int64 `json:"source_rows_unused"`
	Unmatched int64
	Values    []struct {
		Values []*string
		Rows   int64
	} `json:"unmatched_values"`
	Several []struct {
		Key     string
		Rows    int64 `json:"source_rows"`
		Choices []struct{ Column, Least, Greatest string }
	}
	Advice []string
}

// TestFill: what a step that fills columns finds and does not find is told before and
// after, rows with several source rows are refused or one is picked, and rows without
// any stay, become NULL or are refused.
func TestFill(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE quay (id "+d.integer()+" PRIMARY KEY, name varchar(40), rank_no integer)", "CREATE TABLE visit (id "+d.integer()+" PRIMARY KEY, quay_name varchar(40), quay_id "+d.integer()+")",
			"INSERT INTO quay VALUES (1, 'NORTH', 1), (2, 'SOUTH', 1), (3, 'SOUTH', 2), (4, 'EAST', 1), (5, 'EAST', 1), (6, 'SPARE', 1)",
			"INSERT INTO visit SELECT i, CASE i % 10 WHEN 0 THEN 'NROTH' WHEN 1 THEN NULL WHEN 2 THEN 'WEST' ELSE 'NORTH' END, 9 FROM "+d.numbers(100))
		step := "[[step]]\nname = \"quays\"\ntable = \"visit\"\nfrom = \"quay\"\nmatch = { quay_name = \"name\" }\nfill = { quay_id = \"id\" }\nadvise = true\n"
		before := d.dump("visit")
		preview := func(job string) filledJSON {
			var p struct{ Steps []struct{ Fill filledJSON } }
			if err := json.Unmarshal([]byte(d.jugatum("preview", "--json", job).out), &p); err != nil {
				t.Fatal(err)
			}
			return p.Steps[0].Fill
		}
		f := preview(d.job(step))
		if f.Rows != 6 || f.Unused != 5 || f.Unmatched != 30 || len(f.Values) != 3 || f.Values[0].Rows != 10 || len(f.Several) != 0 || !slices.Equal(f.Columns, []string{"quay_name"}) {
			t.Errorf("%+v", f)
		}
		d.must(3, "run", d.job(step+"unmatched = \"fail\"\n"), "--accept", "any")
		same(t, "a fill that misses rows", d.dump("visit"), before)
		d.must(0, "run", d.job(step+"unmatched = \"fail\"\nwhere = \"visit.quay_name = 'NORTH'\"\n"), "--accept", "70")

		d.exec("UPDATE visit SET quay_id = 9", "UPDATE visit SET quay_name = 'SOUTH' WHERE id = 7", "UPDATE visit SET quay_name = 'EAST' WHERE id = 8")
		before = d.dump("visit")
		f = preview(d.job(step))
		if len(f.Several) != 2 || f.Several[0].Key != "7" || f.Several[0].Rows != 2 || f.Several[0].Choices[0].Column != "quay_id" || f.Several[0].Choices[0].Least != "2" || f.Several[0].Choices[0].Greatest != "3" {
			t.Errorf("%+v", f.Several)
		}
		for _, more := range []string{"", "pick = \"rank_no\"\n"} { // by that order two rows of EAST are alike
			for _, keep := range []string{"values", "none"} {
				if o := d.must(3, "run", d.job(step+more), "--accept", "any", "--keep", keep); !strings.Contains(o.err, "ambiguous-source") {
					t.Error(o.err)
				}
			}
		}
		same(t, "rows with several source rows", d.dump("visit"), before)

		o := d.must(0, "run", "--json", d.job(step+"pick = \"rank_no DESC, id\"\nunmatched = \"null\"\n"), "--accept", "any", "--batch", "7")
		var sum struct{ Fill []filledJSON }
		if err := json.Unmarshal([]byte(o.out), &sum); err != nil {
			t.Fatal(err)
		}
		if len(sum.Fill) != 1 || sum.Fill[0].Unmatched != 30 || sum.Fill[0].Rows != 4 || sum.Fill[0].Unused != 1 {
			t.Errorf("%+v", sum.Fill)
		}
		if len(sum.Fill[0].Advice) != 1 || !strings.Contains(sum.Fill[0].Advice[0], "REFERENCES") {
			t.Errorf("advice: %q", sum.Fill[0].Advice)
		}
		if got := d.lines("SELECT concat(quay_name, ' ', coalesce(quay_id, 0), ' ', count(*)) FROM visit WHERE quay_name IS NOT NULL GROUP BY quay_name, quay_id ORDER BY quay_name"); !slices.Equal(got, []string{"EAST 4 1", "NORTH 1 68", "NROTH 0 10", "SOUTH 3 1", "WEST 0 10"}) {
			t.Errorf("%q", got)
		}
		d.must(0, "verify", d.lastRun())
		if left := d.ledgerTables(); slices.ContainsFunc(left, func(name string) bool { return strings.Contains(name, "source_") }) {
			t.Errorf("the run left its source behind: %q", left)
		}
		d.must(0, "undo", d.lastRun())
		same(t, "undone", d.dump("visit"), before)

		d.exec("DELETE FROM quay WHERE id IN (3, 5)", "DELETE FROM visit WHERE quay_name IS NULL OR quay_name IN ('NROTH', 'WEST')")
		o = d.must(0, "run", "--json", "--again", d.job(step), "--accept", "any")
		sum.Fill = nil
		if err := json.Unmarshal([]byte(o.out), &sum); err != nil {
			t.Fatal(err)
		}
		if len(sum.Fill[0].Advice) != 3 {
			t.Errorf("advice: %q", sum.Fill[0].Advice)
		}
		for _, text := range sum.Fill[0].Advice {
			if d.engine != "sqlite" {
				d.exec(strings.TrimSuffix(text, " (every value of it has a match)"))
			}
		}
	})
}

// TestFillKilled kills a run whose source is read once, and changes the source
// meanwhile: every row comes to hold what the source had when the run began, once.
func TestFillKilled(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		r := seeded(77)
		after := func(kills int) time.Duration {
			if kills >= 10 { // let it come to its end
				return time.Hour
			}
			return time.Duration(30+r.IntN(150)+5*kills) * time.Millisecond
		}
		// What rows are matched by is filled itself: a row that is filled twice would hold
		// another value than one that is filled once.
		job := d.job("[[step]]\ntable = \"t\"\nfrom = \"(SELECT g, w FROM o)\"\nmatch = { n = \"g\" }\nfill = { n = \"w\" }\n")
		for kills := 0; kills < 3; {
			d.killTable()
			d.exec("DROP TABLE IF EXISTS o", "CREATE TABLE o (g integer, w integer)", "INSERT INTO o SELECT i - 1, (i * 7 + 3) % 1000 FROM "+d.numbers(1000))
			cmd := d.start(append([]string{"run", job, "--again", "--accept", "any", "--batch", "2000"}, d.workers(r.IntN(4))...)...)
			run := ""
			d.until("rows are changed", func() bool {
				if !d.haveLedger() {
					return false
				}
				run = d.one("SELECT coalesce(max(run), 0) FROM " + d.ledger("batch"))
				return run != "0" && d.one("SELECT status FROM "+d.ledger("run")+" WHERE id = "+run) != "" && run == d.lastRun()
			})
			cmd.Process.Kill()
			cmd.Wait()
			kills++
			d.exec("UPDATE o SET w = -1", "DELETE FROM o WHERE g % 3 = 0")
			for d.one("SELECT status FROM "+d.ledger("run")+" WHERE id = "+run) != "done" {
				cmd := d.start(append([]string{"resume", run}, d.workers(kills%3)...)...)
				stop := time.AfterFunc(after(kills), func() { cmd.Process.Kill() })
				if cmd.Wait() != nil {
					kills++
				}
				stop.Stop()
			}
			if got := d.one("SELECT count(*) FROM t WHERE n <> ((id % 1000 + 1) * 7 + 3) % 1000"); got != "0" {
				t.Fatalf("%s rows do not hold what the source had when the run began", got)
			}
			d.must(0, "verify", run)
			d.must(0, "undo", run)
			d.unchanged()
		}
	})
}

// TestFillByTexts matches texts of which an index holds no more than a part, or none:
// long ones that begin alike, and one beside a number.
func TestFillByTexts(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		text := d.by("mediumtext", "text")
		d.exec("CREATE TABLE sign (words "+text+", no integer, put integer)", "CREATE TABLE t (id "+d.integer()+" PRIMARY KEY, words "+text+", no integer, n integer)")
		r := seeded(5)
		long := func() string { // what compresses badly, after a beginning that all have in common
			b := make([]byte, 4000)
			for i := range b {
				b[i] = byte('a' + r.IntN(26))
			}
			return strings.Repeat("to be let ", 30) + string(b)
		}
		for i := range 20 {
			words := "'" + long() + "'"
			d.exec("INSERT INTO sign VALUES ("+words+", "+strconv.Itoa(i%2)+", "+strconv.Itoa(i)+")", "INSERT INTO t VALUES ("+strconv.Itoa(i*2)+", "+words+", "+strconv.Itoa(i%2)+", -1), ("+strconv.Itoa(i*2+1)+", "+words+", 7, -1)")
		}
		for match, want := range map[string]string{`words = "words"`: "40", `words = "words", no = "no"`: "20"} {
			d.exec("UPDATE t SET n = -1")
			d.must(0, "run", d.job("[[step]]\ntable = \"t\"\nfrom = \"sign\"\nmatch = { "+match+" }\nfill = { n = \"put\" }\n"), "--accept", want, "--batch", "3")
			if got := d.one("SELECT count(*) FROM t WHERE id % 2 = 0 AND n * 2 = id") + " " + d.one("SELECT count(*) FROM t WHERE n >= 0"); got != "20 "+want {
				t.Errorf("{ %s }: %s rows, want 20 %s", match, got, want)
			}
			d.must(0, "verify", d.lastRun())
		}
	})
}

// TestFillByForm matches texts that are written in other ways, the same on all engines.
func TestFillByForm(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		loose := " COLLATE NOCASE" // collations that take other texts for the same than we do
		switch d.engine {
		case "postgres":
			d.exec("CREATE COLLATION nobody (provider = icu, locale = 'und-u-ks-level1', deterministic = false)")
			loose = " COLLATE nobody"
		case "mariadb":
			loose = " CHARACTER SET utf8mb4 COLLATE utf8mb4_unicode_ci"
		}
		d.exec("CREATE TABLE quay (id "+d.integer()+" PRIMARY KEY, name varchar(300)"+loose+", side integer, valid_from integer)",
			"CREATE TABLE visit (id "+d.integer()+" PRIMARY KEY, quay_name varchar(300)"+loose+", side numeric(4,1), t1 integer, quay_id integer)")
		quote := func(s string) string { return "'" + strings.ReplaceAll(s, "'", "''") + "'" }
		quays := []string{"North Quay", "  Grüner Kai", "STRASSE", "caf\u00e9 quay", "Spare", "South  Quay ", "East", "east", strings.Repeat("long", 70)}
		for i, name := range quays {
			d.exec("INSERT INTO quay VALUES (" + strconv.Itoa(i+1) + ", " + quote(name) + ", " + strconv.Itoa(i%2) + ", " + strconv.Itoa(15-i) + ")")
		}
		rows := []struct {
			name            string
			trimmed, folded int // the quay, 0 for none
		}{
			{"North Quay", 1, 1}, {" North Quay\t", 1, 1}, {"\u00a0North Quay", 1, 1}, {"NORTH QUAY", 0, 1}, {"north   quay", 0, 1}, {"NorthQuay", 0, 0},
			{"Grüner Kai", 2, 2}, {"GRÜNER KAI  ", 0, 2}, {"Gruner Kai", 0, 0}, {"straße", 0, 3}, {"Cafe\u0301 Quay", 0, 4}, {"cafe\u0301 quay", 4, 4}, {"cafe quay", 0, 0},
			{"South Quay", 0, 6}, {"South  Quay", 6, 6}, {"", 0, 0}, {"East", 7, 0}, {"EAST", 0, 0}, {strings.Repeat("long", 70), 0, 0}, {"o'hara \\\"quay\"", 0, 0},
		}
		for i, r := range rows {
			d.exec("INSERT INTO visit VALUES (" + strconv.Itoa(i+1) + ", " + d.by(strings.ReplaceAll(quote(r.name), `\`, `\\`), quote(r.name)) + ", 0, 5, -1)")
		}
		d.exec("INSERT INTO visit VALUES (100, NULL, 0, 5, -1)")
		before := d.dump("visit")
		step := "[[step]]\ntable = \"visit\"\nfrom = \"quay\"\nmatch = { quay_name = \"name\" }\nfill = { quay_id = \"id\", t1 = \"valid_from + 1\" }\nmatch_as = "
		preview := func(job string) filledJSON {
			var p struct{ Steps []struct{ Fill filledJSON } }
			if err := json.Unmarshal([]byte(d.jugatum("preview", "--json", job).out), &p); err != nil {
				t.Fatal(err)
			}
			return p.Steps[0].Fill
		}
		for form, of := range map[string]func(i int) int{"trimmed": func(i int) int { return rows[i].trimmed }, "folded": func(i int) int { return rows[i].folded }} {
			// The quays East and east have one form when folded: a row of theirs is refused,
			// unless one is picked.
			job := step + `"` + form + "\"\n"
			matched := 0
			for i := range rows {
				if of(i) > 0 {
					matched++
				}
			}
			f := preview(d.job(job))
			if form == "folded" {
				if len(f.Several) != 2 || f.Several[0].Key != "17" || !slices.ContainsFunc(f.Several[0].Choices, func(c struct{ Column, Least, Greatest string }) bool {
					return c.Column == "t1" && c.Least == "9" && c.Greatest == "10"
				}) {
					t.Errorf("several: %+v", f.Several) // numbers go by their values, not by their texts
				}
				if o := d.must(3, "run", d.job(job), "--accept", "any"); !strings.Contains(o.err, "ambiguous-source") {
					t.Error(o.err)
				}
				job += "pick = \"valid_from\"\n"
				f = preview(d.job(job))
				matched += 2
			}
			unused := map[string]int64{"trimmed": 4, "folded": 2}[form] // Spare and the long one, and STRASSE and east where case counts
			if f.Rows != int64(len(quays)) || f.Unused != unused || f.Unmatched != int64(len(rows)+1-matched) || len(f.Several) != 0 {
				t.Errorf("%s: %+v, want %d unused, %d unmatched", form, f, unused, len(rows)+1-matched)
			}
			d.must(0, append([]string{"run", "--again", d.job(job), "--accept", strconv.Itoa(matched), "--batch", "3"}, d.workers(1)...)...)
			for i, r := range rows {
				want := of(i)
				if form == "folded" && strings.EqualFold(r.name, "east") {
					want = 8
				}
				id, t1 := "-1", "5"
				if want > 0 {
					id, t1 = strconv.Itoa(want), strconv.Itoa(15-(want-1)+1)
				}
				if got := d.one("SELECT concat(quay_id, ' ', t1) FROM visit WHERE id = " + strconv.Itoa(i+1)); got != id+" "+t1 {
					t.Errorf("%s %q: %s, want %s %s", form, r.name, got, id, t1)
				}
			}
			d.must(0, "verify", d.lastRun())
			d.must(0, "undo", d.lastRun())
			same(t, "undone", d.dump("visit"), before)
		}
		// A number beside it is compared as one.
		d.exec("UPDATE visit SET side = 1 WHERE id <= 3")
		beside := strings.Replace(step, `"name" }`, `"name", side = "side" }`, 1) + "\"folded\"\n"
		d.must(0, "run", d.job(beside), "--accept", "any", "--batch", "2", "--keep", "none")
		if got := strings.Join(d.lines("SELECT id FROM visit WHERE quay_id >= 0 ORDER BY id"), " "); got != "4 5 10 17 18" {
			t.Errorf("with a number beside it: %s", got)
		}
		if d.engine == "postgres" { // rows of tables that inherit are written in ways of their own
			d.exec("CREATE TABLE late_visit (PRIMARY KEY (id)) INHERITS (visit)", "INSERT INTO late_visit VALUES (1, 'NORTH  quay', 0, 5, -1), (2, ' straSSe ', 0, 5, -1), (3, 'none', 0, 5, -1)")
			d.must(0, "run", "--again", d.job(step+"\"folded\"\npick = \"valid_from\"\n"), "--accept", "any", "--batch", "2")
			if got := d.lines("SELECT quay_id::text FROM late_visit ORDER BY id"); !slices.Equal(got, []string{"1", "3", "-1"}) {
				t.Errorf("rows of a table that inherits: %q", got)
			}
			d.must(0, "verify", d.lastRun())
		}
		d.must(2, "preview", d.job(strings.Replace(step, `{ quay_name = "name" }`, `{ side = "side" }`, 1)+"\"folded\"\n"))
		d.must(2, "preview", d.job(step+"\"loosely\"\n"))
		d.must(2, "preview", d.job(step+"\"folded\"\nunmatched = \"null\"\n"))
	})
}
