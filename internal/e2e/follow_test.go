package e2e

import (
	"bufio"
	"encoding/json"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jugatum/internal/events"
)

// TestEvents: what a run tells programs adds up to what it did, also over a stop and a resume; a
// command is run at its end; and what is wrong with these options is told before anything is recorded.
func TestEvents(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.harbourRates("berth")
		dir := t.TempDir()
		path, told := filepath.Join(dir, "events.jsonl"), filepath.Join(dir, "told.json")
		sql := []string{"run", "--sql", "UPDATE berth SET day_rate = day_rate + 950 WHERE berth_no > 0", "--accept", "100", "--batch", "9"}
		for _, x := range []struct {
			args []string
			want string
		}{
			{[]string{"--events", dir}, "is no file that lines could be added to"},
			{[]string{"--events", filepath.Join(dir, "none", "a")}, "cannot be written"},
			{[]string{"--metrics", "9310"}, "is no address"},
			{[]string{"--notify-after", "5s"}, "--notify-after goes with --notify"},
		} {
			if o := d.must(2, append(append([]string{}, sql...), x.args...)...); !strings.Contains(o.err, x.want) {
				t.Errorf("%q: %s", x.args, o.err)
			}
		}
		busy, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		defer busy.Close()
		if o := d.must(2, append(append([]string{}, sql...), "--metrics", busy.Addr().String())...); !strings.Contains(o.err, "address already in use") {
			t.Error(o.err)
		}
		if d.haveLedger() && d.one("SELECT count(*) FROM "+d.ledger("run")) != "0" {
			t.Fatal("a run was recorded")
		}
		// Rates from 50 on are refused: the run fails there, and goes on with them set aside.
		d.must(1, append(append([]string{}, sql...), "--events", path)...)
		run := d.lastRun()
		d.must(5, "resume", run, "--set-aside", "60", "--events", path, "--notify", "cat > "+told, "--metrics", "127.0.0.1:0")
		d.must(0, "undo", run, "--events", path)
		f, err := os.Open(path)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		changed, aside, kinds := map[int64]int64{}, 0, map[string]int{}
		var last events.Line
		for s := bufio.NewScanner(f); s.Scan(); {
			var l events.Line
			if err := json.Unmarshal(s.Bytes(), &l); err != nil {
				t.Fatal(err, s.Text())
			}
			if l.Version != events.Version || l.At.IsZero() || l.Run == 0 {
				t.Errorf("%s", s.Text())
			}
			if kinds[l.Event]++; l.Batch != nil {
				changed[l.Run] += l.Batch.Changed
			}
			if l.Event == "set aside" {
				if aside++; !strings.Contains(l.Why, "day_rate") && !strings.Contains(l.Why, "berth") && !strings.Contains(l.Why, "CHECK") {
					t.Errorf("%s", s.Text())
				}
			}
			last = l
		}
		first := last.Run - 1
		if changed[first] != 49 || changed[last.Run] != 49 || aside != 51 || kinds["run"] != 3 || kinds["end"] != 3 || kinds["step"] != 3 || kinds["step done"] != 2 || kinds["lost"] != 0 {
			t.Errorf("%v rows, %d set aside, %v", changed, aside, kinds)
		}
		if last.Event != "end" || last.Status != "done" || last.Counts.Changed != 49 {
			t.Errorf("%+v %+v", last, last.Counts)
		}
		text, err := os.ReadFile(told)
		if err != nil {
			t.Fatal(err)
		}
		var end events.Line
		if err := json.Unmarshal(text, &end); err != nil || end.Event != "end" || end.Status != "done" || end.Counts.SetAside != 51 {
			t.Errorf("%s: %v", text, err)
		}
	})
}
