package e2e

import (
	"encoding/json"
	"strings"
	"testing"
)

// ours lists what is of Jugatum in the database.
func (d *database) ours() []string {
	switch d.engine {
	case "postgres":
		return d.lines("SELECT c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = 'jugatum' AND c.relkind IN ('r', 'v') ORDER BY 1")
	case "mariadb":
		return d.lines("SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name LIKE 'jugatum%' ORDER BY 1")
	}
	return d.lines("SELECT name FROM sqlite_schema WHERE type IN ('table', 'view') AND name LIKE 'jugatum%' ORDER BY 1")
}

// has tells whether one of these names contains a text.
func has(names []string, part string) bool {
	return strings.Contains(strings.Join(names, " "), part)
}

// TestPrune: what a run has kept goes, with what a kill has left, and nothing else; what is still needed
// stays; afterwards the run is told as it is, and cannot be taken back. Forget leaves nothing.
func TestPrune(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.ruledRates()
		d.exec("INSERT INTO berth SELECT i, i FROM "+d.numbers(40), "CREATE TABLE jugatum_notes (a integer)", "INSERT INTO jugatum_notes VALUES (1)")
		raise := func(by string, more ...string) []string {
			return append([]string{"run", "--sql", "UPDATE berth SET day_rate = day_rate + " + by + " WHERE berth_no <= 30", "--accept", "any", "--batch", "7"}, more...)
		}
		d.must(3, "prune", "--run", "1", "--yes") // there is nothing yet
		d.must(3, "forget", "--yes")
		d.must(0, raise("1")...)                         // 1
		d.must(0, raise("2")...)                         // 2
		d.must(0, "undo", "2")                           // 3, takes 2 back
		d.must(1, raise("990", "--method", "single")...) // 4 fails: too much for some
		list := d.job("[[step]]\ntable = 'berth'\nchanges = '" + d.list("a.csv", "berth_no,day_rate\n1,77\n2,78\n") + "'\naction = 'update'\n")
		d.must(0, "run", list, "--accept", "any") // 5
		for _, left := range []string{"list_0123456789abcdef", "roster_99_1", "rehearsal"} {
			d.exec("CREATE TABLE " + d.ledger(left) + " (a integer)")
		}
		before := d.dump("berth")

		d.must(2, "prune")
		d.must(2, "prune", "--run", "77", "--yes")
		d.must(2, "prune", "--older", "soon", "--yes")
		d.must(2, "prune", "--leftovers", "--undone")
		if o := d.must(3, "prune", "--run", "1"); !strings.Contains(o.err, "say so with --yes") || !strings.Contains(o.err, "run 1, ended") {
			t.Error(o.err)
		}
		if o := d.must(0, "prune", "--run", "4", "--yes"); !strings.Contains(o.err, "it is failed and could go on") || !has(d.ours(), "kept_4_1") {
			t.Error(o.err)
		}
		if !has(d.ours(), "0123456789abcdef") { // which may be that of a command at work
			t.Error("what nobody has named is dropped")
		}
		d.must(0, "prune", "--leftovers", "--yes")
		if has(d.ours(), "0123456789abcdef") || has(d.ours(), "roster_99_1") || has(d.ours(), "rehearsal") {
			t.Errorf("what kills have left is still there: %v", d.ours())
		}
		d.must(0, "prune", "--older", "1d", "--yes") // none is
		d.must(0, "prune", "--undone", "--yes")
		if has(d.ours(), "kept_2_1") || has(d.ours(), "packed_2_1") || !has(d.ours(), "kept_1_1") {
			t.Errorf("%v", d.ours())
		}
		d.must(0, "verify", "3")
		var runs struct {
			Runs []struct {
				Run    int
				Kept   int64   `json:"kept_bytes"`
				Pruned *string `json:"pruned_at"`
			}
		}
		if err := json.Unmarshal([]byte(d.must(0, "runs", "--json").out), &runs); err != nil {
			t.Fatal(err)
		}
		for _, r := range runs.Runs {
			if gone := r.Run == 2 || r.Run == 3; (r.Pruned != nil) != gone || (r.Kept > 0) != (r.Run == 1 || r.Run == 4 || r.Run == 5) {
				t.Errorf("%+v", r)
			}
		}
		d.must(0, "verify", "5")
		d.must(0, "prune", "--run", "1", "--run", "5", "--yes")
		if has(d.ours(), "kept_5_") || has(d.ours(), "list_") || has(d.ours(), "kept_1_") {
			t.Errorf("%v", d.ours())
		}
		for _, command := range [][]string{{"undo", "1"}, {"undo", "5"}, {"kept", "1"}, {"resume", "1", "--retry-set-aside"}, {"show", "5", "--lines", t.TempDir() + "/lines.csv"}} {
			if o := d.must(3, command...); !strings.Contains(o.err, "has no kept values any more") {
				t.Errorf("%v: %s", command, o.err)
			}
		}
		for _, run := range []string{"1", "5"} {
			if o := d.must(0, "show", run); !strings.Contains(o.out, "dropped the values on") || strings.Contains(o.out, "jugatum undo") {
				t.Error(o.out)
			}
			d.must(0, "report", run, "-o", t.TempDir()+"/run.html")
			if o := d.must(0, "verify", run); !strings.Contains(o.out, "what was kept is dropped") {
				t.Error(o.out)
			}
		}
		same(t, "after all that", d.dump("berth"), before)

		if o := d.must(3, "forget", "--yes"); !strings.Contains(o.err, "run 4: it is failed") {
			t.Error(o.err)
		}
		d.must(0, "undo", "4")
		d.must(3, "forget")
		d.must(0, "forget", "--yes")
		want := "jugatum_notes"
		if d.engine == "postgres" {
			want = ""
		}
		if got := strings.Join(d.ours(), " "); got != want {
			t.Errorf("left: %s", got)
		}
		if n := d.one("SELECT count(*) FROM jugatum_notes"); n != "1" {
			t.Error(n)
		}
		d.must(0, raise("3")...) // and all begins anew
		if d.lastRun() != "1" {
			t.Error(d.lastRun())
		}

		// A step of several acts, whose tables of kept values belong together.
		d.exec("CREATE TABLE mooring (id integer PRIMARY KEY, berth_no "+d.integer()+", FOREIGN KEY (berth_no) REFERENCES berth (berth_no) ON DELETE CASCADE)",
			"INSERT INTO mooring SELECT i, i FROM "+d.numbers(40))
		for range 2 {
			d.must(0, "run", "--sql", "DELETE FROM berth WHERE berth_no <= "+d.lastRun(), "--accept", "any")
		}
		d.must(0, "prune", "--run", "2", "--yes")
		if has(d.ours(), "kept_2_") || !has(d.ours(), "kept_3_1_") {
			t.Errorf("%v", d.ours())
		}
		d.must(0, "forget", "--yes")
		if has(d.ours(), "kept_3_") {
			t.Errorf("%v", d.ours())
		}
	})
}

// TestKeepLimits: a job's own limits drop what the oldest runs have kept, at the end of each run.
func TestKeepLimits(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.ruledRates()
		d.exec("INSERT INTO berth SELECT i, i FROM " + d.numbers(40))
		job := d.job("[keep]\nbytes = '1B'\n[[step]]\nsql = 'UPDATE berth SET day_rate = day_rate + 1 WHERE berth_no < 20'\n")
		d.must(0, "run", job, "--accept", "any")
		if o := d.must(0, "run", job, "--accept", "any", "--again"); !strings.Contains(o.err, "what run 1 had kept is dropped") {
			t.Error(o.err)
		}
		if has(d.ours(), "kept_1_1") || !has(d.ours(), "kept_2_1") {
			t.Errorf("%v", d.ours())
		}
		d.must(3, "undo", "1")
		d.must(0, "undo", "2")
		for text, want := range map[string]string{"days = 0": "keep.days", "bytes = 'much'": "keep.bytes", "weeks = 1": "weeks"} {
			if o := d.must(2, "preview", d.job("[keep]\n"+text+"\n[[step]]\nsql = 'UPDATE berth SET day_rate = 1'\n")); !strings.Contains(o.err, want) {
				t.Error(o.err)
			}
		}
	})
}
