package e2e

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
)

// TestListsInOrder: a list with several lines for many keys leaves, in the order of the file,
// what the same statements leave one after the other, for every kind of key; every line is told
// what it did then, verify holds, and undo restores every byte.
func TestListsInOrder(t *testing.T) {
	eachLayout(t, func(t *testing.T, d *database, li int, l layout) {
		if l.name == "any storage class" || l.keyless || li%3 != len(d.engine)%3 { // see TestListsEqualTheStatements; each on one of the engines
			return
		}
		d.within = li%5 != 0 // one in five by the built program
		inOrder(d, l, li)
	})
}

func inOrder(d *database, l layout, li int) {
	t, r := d.t, seeded(uint64(7400+li))
	table, plain, original := d.quote("ördered"), d.quote("plain"), d.quote("original")
	for n, name := range []string{table, plain, original} {
		l.make(d, name, n)
	}
	const rows = 40
	fill(d, l, r, rows, original)
	for _, to := range []string{table, plain} {
		d.exec("INSERT INTO " + to + copied(d, to, original))
	}
	before := d.dump(table)
	x := newListing(d, l, r, plain)
	there := map[string]bool{}
	keyOf := func(line []string) string { return strings.Join(line[:len(strings.Split(l.cols, ", "))], "\x00") }
	for _, line := range x.texts(table) {
		there[keyOf(line)] = true
	}
	// Four lines at most for a key, each doing anything.
	type placed struct {
		at   float64
		line []string
	}
	var all []placed
	last := map[string]float64{} // the place of the last line of each key
	for range 4 {
		keys := make([][]int, len(listActions))
		for i := range rows + 12 {
			if n := r.IntN(7); n < len(listActions) && (n < 2 || l.name != "generated and identity") { // a new row's number would be another one
				keys[n] = append(keys[n], i)
			}
		}
		for _, line := range x.lines(keys) {
			k := keyOf(line[1:])
			last[k] += (1 - last[k]) * r.Float64()
			all = append(all, placed{last[k], line})
		}
	}
	slices.SortFunc(all, func(a, b placed) int { return map[bool]int{true: -1, false: 1}[a.at < b.at] })
	var lines [][]string
	var outcomes []string // of each, where several are possible joined by |
	for _, p := range all {
		lines = append(lines, p.line)
		outcomes = append(outcomes, happens(there, p.line[0], keyOf(p.line[1:])))
	}
	path, more := d.written(li, x.names(), lines)
	job := d.job("[[step]]\ntable = '" + table + "'\nchanges = '" + path + "'\norder = 'file'\naction = { column = 'op' }\n" + more)
	d.foresees(job, outcomes)
	want := d.dump(plain)
	for i, args := range [][]string{d.workers(r.IntN(4)), {"--keep", "none"}} {
		d.must(0, append([]string{"run", job, "--again", "--accept", "any", "--batch", fmt.Sprint(1 + r.IntN(30))}, args...)...)
		run := d.lastRun()
		same(t, "the list leaves", d.dump(table), want)
		d.must(0, "verify", run)
		if i == 1 {
			return
		}
		d.became(run, lines, outcomes)
		d.must(0, "undo", run, "--batch", fmt.Sprint(1+r.IntN(30)))
		same(t, "undone", d.dump(table), before)
		d.must(0, "verify", d.lastRun())
	}
}

// foresees holds what a preview tells of a list against what must become of its lines: later turns count
// by what those before them leave.
func (d *database) foresees(job string, outcomes []string) {
	d.t.Helper()
	var told struct {
		Steps []struct {
			Lines struct{ Outcomes map[string]int }
		}
	}
	if err := json.Unmarshal([]byte(d.must(0, "preview", job, "--json").out), &told); err != nil {
		d.t.Fatal(err)
	}
	got, want := map[string]int{}, map[string]int{}
	for _, s := range told.Steps {
		for o, n := range s.Lines.Outcomes {
			if o == "unchanged" { // which nobody knows of later turns
				o = "changed"
			}
			got[o] += n
		}
	}
	for _, o := range outcomes {
		o, _, _ = strings.Cut(o, "|")
		want[o]++
	}
	if !maps.Equal(got, want) {
		d.t.Errorf("the preview tells of %v, and %v must come", got, want)
	}
}

// happens carries a line out on what is known of rows that are there, and gives what becomes of it.
func happens(there map[string]bool, action, key string) string {
	was := there[key]
	switch action {
	case "delete":
		delete(there, key)
		return map[bool]string{true: "deleted", false: "no such key"}[was]
	case "update":
		return map[bool]string{true: "changed|unchanged", false: "no such key"}[was]
	}
	there[key] = true
	if action == "insert" {
		return map[bool]string{true: "key exists", false: "inserted"}[was]
	}
	return map[bool]string{true: "changed|unchanged", false: "inserted"}[was]
}

// became holds what a run tells of its lines against what must have become of them.
func (d *database) became(run string, lines [][]string, outcomes []string) {
	d.t.Helper()
	got := d.shownLines(run, len(lines))
	for i, line := range got {
		if line[1] != lines[i][0] || !slices.Contains(strings.Split(outcomes[i], "|"), line[2]) {
			d.t.Fatalf("line %d of run %s: %q, expected %s of %q", i, run, line, outcomes[i], lines[i])
		}
	}
}

// TestListInOrderKilled: a list of several lines for each key, whose run and whose undo are killed
// over and over, leaves what one that is not disturbed does: lines of a turn that is done are not
// carried out again, and every line is told what it did.
func TestListInOrderKilled(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		const rows = 300
		d.exec("CREATE TABLE berth (berth_no "+d.integer()+" PRIMARY KEY, visits integer NOT NULL, note varchar(20))",
			"INSERT INTO berth SELECT 2 * i, 0, 'as it was' FROM "+d.numbers(rows))
		before := d.dump("berth")
		var text strings.Builder
		text.WriteString("berth_no,visits,op\n")
		there := map[string]bool{}
		for i := 1; i <= rows; i++ {
			there[fmt.Sprint(2*i)] = true
		}
		var lines [][]string
		var outcomes []string
		want := map[string]int{}
		for turn := range 4 {
			for i := 1; i <= 2*rows; i++ {
				if i%(turn+1) > 0 {
					continue
				}
				action, key := listActions[(i/2+turn)%4], fmt.Sprint(i)
				lines = append(lines, []string{action})
				outcomes = append(outcomes, happens(there, action, key))
				if fmt.Fprintf(&text, "%d,%d,%s\n", i, 10*i+turn, action); action != "delete" && !(action == "insert" && strings.HasPrefix(outcomes[len(outcomes)-1], "key")) && there[key] {
					want[key] = 10*i + turn
				}
			}
		}
		job := d.job("[[step]]\ntable = 'berth'\nchanges = '" + d.list("list.csv", text.String()) + "'\norder = 'file'\naction = { column = 'op' }\n")
		r, kills := seeded(19), 0
		run := d.killedMidway(r, &kills, 6, func() {}, "run", job, "--accept", "any", "--batch", "40")
		d.became(run, lines, outcomes)
		if n := d.one("SELECT count(*) FROM berth"); n != fmt.Sprint(len(there)) {
			t.Errorf("%s rows, expected %d", n, len(there))
		}
		for key := range there {
			if n := d.one("SELECT visits FROM berth WHERE berth_no = " + key); n != fmt.Sprint(want[key]) {
				t.Fatalf("berth %s has %s, expected %d", key, n, want[key])
			}
		}
		kills = 0
		d.killedMidway(r, &kills, 4, func() {}, "undo", run, "--batch", "40")
		same(t, "undone", d.dump("berth"), before)
	})
}

// TestListInOrderTriedAgain: a line that was set aside is not carried out after a later one with the
// same key; one without such a line is.
func TestListInOrderTriedAgain(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.ruledRates()
		d.exec("INSERT INTO berth SELECT i, i FROM " + d.numbers(9))
		job := d.job("[[step]]\ntable = 'berth'\nchanges = '" + d.list("a.csv", "berth_no,day_rate\n1,5000\n2,6000\n1,77\n") + "'\norder = 'file'\naction = 'update'\n")
		d.must(5, "run", job, "--accept", "any", "--set-aside", "5")
		run := d.lastRun()
		d.exec("UPDATE rule SET most = 9000")
		d.must(5, "resume", run, "--retry-set-aside")
		if got := d.one("SELECT day_rate FROM berth WHERE berth_no = 1") + ", " + d.one("SELECT day_rate FROM berth WHERE berth_no = 2"); got != "77, 6000" {
			t.Errorf("the rates are %s", got)
		}
		if o := d.must(0, "show", run); !strings.Contains(o.out, "a later line of the list with the same key has been carried out since") {
			t.Error(o.out)
		}
		d.must(0, "verify", run)
	})
}

// ruledRates makes a table of berths whose day rate must not go over what another table says.
func (d *database) ruledRates() {
	d.exec("CREATE TABLE rule (most integer)", "INSERT INTO rule VALUES (1000)")
	d.exec("CREATE TABLE berth (berth_no " + d.integer() + " PRIMARY KEY, day_rate integer NOT NULL)")
	switch d.engine {
	case "postgres":
		d.exec("CREATE FUNCTION check_rate() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF NEW.day_rate > (SELECT most FROM rule) THEN RAISE EXCEPTION 'too much'; END IF; RETURN NEW; END $$",
			"CREATE TRIGGER rate BEFORE UPDATE ON berth FOR EACH ROW EXECUTE FUNCTION check_rate()")
	case "mariadb":
		d.exec("CREATE TRIGGER rate BEFORE UPDATE ON berth FOR EACH ROW BEGIN IF NEW.day_rate > (SELECT most FROM rule) THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'too much'; END IF; END")
	default:
		d.exec("CREATE TRIGGER rate BEFORE UPDATE ON berth FOR EACH ROW WHEN NEW.day_rate > (SELECT most FROM rule) BEGIN SELECT RAISE(ABORT, 'too much'); END")
	}
}
