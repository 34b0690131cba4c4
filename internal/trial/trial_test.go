package trial

import (
	"math"
	"strings"
	"testing"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// costing are trials of a way whose batches cost so much, and so much for each row.
func costing(batch, row time.Duration, sizes ...int64) (out []try) {
	for _, n := range sizes {
		out = append(out, try{rows: n, changed: n / 2, work: batch + time.Duration(n)*row, logBytes: 150, records: 2, images: 0, keptBytes: 40})
	}
	return out
}

// TestFit: the part of a batch and that of a row are told apart, and one trial that somebody
// disturbed changes neither.
func TestFit(t *testing.T) {
	tries := costing(3*time.Millisecond, 7*time.Microsecond, 200, 10_000, 200, 10_000, 200, 10_000, 200, 10_000, 200, 10_000)
	tries[3].work *= 9
	l := fit(tries)
	if l.Batch < 2900*time.Microsecond || l.Batch > 3100*time.Microsecond || l.Row < 6900 || l.Row > 7100 {
		t.Errorf("%+v", l)
	}
	if l.Vary < 1 {
		t.Errorf("a trial that took nine times as long makes them vary by %g", l.Vary)
	}
	if l := fit(costing(0, time.Microsecond, 5000, 5000)); l.Batch != 0 || l.Row != time.Microsecond || l.Vary != 0 {
		t.Errorf("one size alone: %+v", l)
	}
	if l := fit([]try{{rows: 200, work: 9 * time.Millisecond}, {rows: 10_000, work: 8 * time.Millisecond}}); l.Batch != 0 || l.Row != 800 {
		t.Errorf("few rows that took longer than many, for want of a warm cache: %+v", l)
	}
	ahead := costing(time.Millisecond, time.Microsecond, 200, 10_000)
	ahead[0].ahead, ahead[1].ahead = 2*time.Millisecond, 21*time.Millisecond // of few rows, and of many
	if l := fit(ahead); l.AheadRow < 1900 || l.AheadRow > 2000 || l.each(10_000, 1) < 20e6 || l.each(10_000, 1) > 22e6 || l.each(10_000, 2) < 30e6 {
		t.Errorf("reading that takes longer than the batch: %+v, %g", l, l.each(10_000, 1))
	}
	if l := fit(nil); l.Row != 0 {
		t.Error(l)
	}
}

// TestWritten: a way that keeps nothing may write rows that stay as they are, and logs them.
func TestWritten(t *testing.T) {
	tries := []try{{rows: 10_000, changed: 4000, logBytes: 100, keptBytes: -1}, {rows: 10_000, changed: 6000, logBytes: 100, keptBytes: -1}, {rows: 200, changed: 100, logBytes: 100, keptBytes: -1}}
	all := whole{rows: 1_000_000, matched: 600_000, changes: 200_000, hold: time.Second}
	for _, x := range []struct {
		way           Way
		written, dead int64 // as the trials tell, and where old versions stay
	}{
		{Way{Method: "sweep", Workers: 1, Keep: true}, 200_000, 200_000},
		{Way{Method: "sweep", Workers: 1}, 500_000, 600_000},
		{Way{Method: "single", Workers: 1}, 500_000, 600_000},
		{Way{Method: "roster", Workers: 1}, 300_000, 600_000}, // of the rows that match
		{Way{Method: Rowwise, Workers: 1, Yardstick: true}, 300_000, -1},
	} {
		all.old = false
		if e := x.way.estimate(fit(tries), tries, all); e.Dead != -1 || e.LogBytes != 100*x.written {
			t.Errorf("%s: %d dead rows, %d bytes of log", x.way.Name(), e.Dead, e.LogBytes)
		}
		all.old = true
		if e := x.way.estimate(fit(tries), tries, all); e.Dead != x.dead || x.dead > 0 && e.LogBytes != 100*x.dead {
			t.Errorf("%s: %d dead rows, %d bytes of log", x.way.Name(), e.Dead, e.LogBytes)
		}
	}
	all.old, all.matched = false, 450_000
	if n := (Way{Method: "sweep", Workers: 1}).written(tries, all.rows, all); n != 450_000 {
		t.Errorf("%d rows written, though only 450,000 match", n)
	}
}

// TestEstimate: from a trial of a few thousand rows to a table of ten million.
func TestEstimate(t *testing.T) {
	all := whole{rows: 10_000_000, changes: 5_000_000, hold: 200 * time.Millisecond, listing: 4 * time.Second, commit: Commit{Each: 2 * time.Millisecond, Byte: 1}}
	tries := costing(time.Millisecond, 10*time.Microsecond, 200, 10_000)
	l := fit(tries)
	near := func(name string, got, want float64) {
		t.Helper()
		if math.Abs(got-want) > want/50 {
			t.Errorf("%s: %g, expected about %g", name, got, want)
		}
	}
	log := float64(5_000_000 * 150)
	sweep := Way{Method: "sweep", Workers: 1, Keep: true}.estimate(l, tries, all)
	near("sweep", sweep.Seconds, 100+float64(sweep.Batches)*0.003+log*1e-9)
	if sweep.HoldMS > 200 || sweep.HoldMS < 50 || sweep.LogBytes != int64(log) || sweep.Room != 5_000_000*40 {
		t.Errorf("%+v", sweep)
	}
	two := Way{Method: "sweep", Workers: 2, Keep: true}.estimate(l, tries, all)
	near("by two workers", two.Seconds, sweep.Seconds/2)
	single := Way{Method: "single", Workers: 1}.estimate(l, tries, all)
	near("single", single.Seconds, 100+0.003+log*1e-9)
	near("its hold", single.HoldMS, single.Seconds*1000)
	if single.Batches != 1 || single.Room != 5_000_000*40 {
		t.Errorf("%+v", single)
	}
	roster := Way{Method: "roster", Workers: 1, Keep: true}.estimate(l, tries, all)
	near("roster", roster.Seconds, 4+50+float64(roster.Batches)*0.003+log*1e-9)
	loop := Way{Method: Rowwise, Workers: 1}.estimate(l, tries, all)
	near("a loop", loop.Seconds, 5_000_000*(0.00001+0.003)+log*1e-9)
	unknown := Way{Method: "sweep", Workers: 1}.estimate(l, []try{{rows: 200, work: 1, logBytes: -1, keptBytes: -1}}, all)
	if unknown.LogBytes != -1 || unknown.Room != 0 {
		t.Errorf("%+v", unknown)
	}
}

// TestPagesWritten: where all rows of a page change, its bytes are shared by them; where one does, it
// has them for itself.
func TestPagesWritten(t *testing.T) {
	for _, x := range []struct {
		scanned, changed, row int64
		want                  float64
	}{{1000, 1000, 400, 400}, {1_000_000, 1, 400, 4096}, {1000, 500, 8192, 4096}, {1000, 125, 315, 2070}, {10, 0, 400, -1}} {
		if got := pagesWritten(x.scanned, x.changed, x.row); math.Abs(got-x.want) > 0.02*math.Abs(x.want) {
			t.Errorf("%d of %d rows of %d bytes: %g, expected %g", x.changed, x.scanned, x.row, got, x.want)
		}
	}
}

func TestWays(t *testing.T) {
	names := func(c *change.Change, alone, roster bool) string {
		var out []string
		for _, w := range Ways(c, alone, roster) {
			out = append(out, w.Name())
		}
		return strings.Join(out, "; ")
	}
	for want, got := range map[string]string{
		"sweep; single; sweep, nothing kept; single, nothing kept; rowwise, nothing kept":                                                                                                   names(&change.Change{}, true, false),
		"sweep; sweep, 2 workers; sweep, 4 workers; roster; single; sweep, nothing kept; sweep, 2 workers, nothing kept; roster, nothing kept; single, nothing kept; rowwise, nothing kept": names(&change.Change{}, false, true),
		"sweep; single; sweep, nothing kept; single, nothing kept":                                                                                                                          names(&change.Change{Rewrite: &change.Rewrite{}}, true, false),
		"sweep; single; sweep, nothing kept; single, nothing kept; rowwise, nothing kept; array, nothing kept":                                                                              names(&change.Change{Verb: sqltext.Update, Table: &change.Table{Key: &change.Key{}}}, true, false),
	} {
		if got != want {
			t.Errorf("got %s\nexpected %s", got, want)
		}
	}
}

// TestAdvise: the cheapest that keeps old values and its locks within the target; where two differ
// by less than their trials do, the one that asks less; and what is faster at a price is told.
func TestAdvise(t *testing.T) {
	tried := func(w Way, seconds, holdMS, vary float64) Tried {
		return Tried{Way: w, Line: Line{Vary: vary}, Estimate: Estimate{Seconds: seconds, HoldMS: holdMS, LogBytes: 2 << 30, Room: 1 << 30}}
	}
	sweep, two, single, bare := Way{Method: "sweep", Workers: 1, Keep: true}, Way{Method: "sweep", Workers: 2, Keep: true}, Way{Method: "single", Workers: 1, Keep: true}, Way{Method: "sweep", Workers: 1}
	for _, x := range []struct {
		name string
		ways []Tried
		want string
		run  string
	}{
		{"two workers", []Tried{tried(sweep, 400, 90, 0.02), tried(two, 240, 95, 0.02), tried(single, 200, 200_000, 0.02), tried(bare, 150, 90, 0.02)},
			"sweep, 2 workers: about 4 min 00 s, holds of at most 95 ms, 2.0 GiB of log, 1.0 GiB of kept values; single takes 3 min 20 s and holds its locks all that time; sweep, nothing kept takes 2 min 30 s, and cannot be verified or taken back.", "--method sweep --workers 2"},
		{"hardly a difference", []Tried{tried(sweep, 250, 90, 0.15), tried(two, 240, 95, 0.02)},
			"sweep, 2 workers: about 4 min 00 s, holds of at most 95 ms, 2.0 GiB of log, 1.0 GiB of kept values; sweep may be as good, since the trials vary by more than these two differ.", "--method sweep"},
		{"few rows", []Tried{tried(sweep, 0.05, 30, 0.02), tried(single, 0.04, 40, 0.02)}, "single: about 40 ms, holds of at most 40 ms, 2.0 GiB of log, 1.0 GiB of kept values.", "--method single"},
		{"near the target", []Tried{tried(sweep, 0.3, 90, 0.02), tried(single, 0.19, 190, 0.02)}, "sweep: about 300 ms, holds of at most 90 ms, 2.0 GiB of log, 1.0 GiB of kept values; single takes 190 ms and holds its locks all that time.", "--method sweep"},
		{"one failed", []Tried{tried(sweep, 400, 90, 0.02), {Way: two, Failed: "no"}}, "sweep: about 6 min 40 s, holds of at most 90 ms, 2.0 GiB of log, 1.0 GiB of kept values.", "--method sweep"},
		{"none", []Tried{{Way: two, Failed: "no"}, tried(bare, 1, 1, 0)}, "No way that keeps old values could be tried.", ""},
	} {
		r := &Result{Ways: x.ways}
		r.Order("time")
		text, best := r.Advise("time", 200*time.Millisecond)
		run := ""
		if best != nil {
			run = best.Options()
		}
		if text != x.want || run != x.run {
			t.Errorf("%s: got %s (%s)\nexpected %s (%s)", x.name, text, run, x.want, x.run)
		}
	}
}

// TestOrder: by what was asked for; what is not known, and what failed, comes last.
func TestOrder(t *testing.T) {
	r := &Result{Ways: []Tried{{Way: Way{Method: "a"}, Failed: "x"}, {Way: Way{Method: "b"}, Estimate: Estimate{LogBytes: -1, Seconds: 1}}, {Way: Way{Method: "c"}, Estimate: Estimate{LogBytes: 9, Seconds: 3}}, {Way: Way{Method: "d"}, Estimate: Estimate{LogBytes: 5, Seconds: 2}}}}
	for by, want := range map[string]string{"log": "dcba", "time": "bdca"} {
		r.Order(by)
		got := ""
		for _, w := range r.Ways {
			got += w.Method
		}
		if got != want {
			t.Errorf("by %s: %s, expected %s", by, got, want)
		}
	}
}

// TestUnevenStretches: where half of the stretches have rows that change and half have none, what a row costs
// is what it costs on average, not what it costs in one of the two.
func TestUnevenStretches(t *testing.T) {
	tries := []try{{rows: 200, work: time.Millisecond}}
	for range 3 {
		tries = append(tries, try{rows: 10_000, work: time.Millisecond}, try{rows: 10_000, changed: 10_000, work: 101 * time.Millisecond})
	}
	if l := fit(append(tries, try{rows: 10_000, work: time.Millisecond})); l.Row < 4*time.Microsecond || l.Row > 6*time.Microsecond {
		t.Errorf("a row is expected to take %s", l.Row)
	}
	even := []try{{rows: 10_000, changed: 10, work: 10 * time.Millisecond}, {rows: 10_000, changed: 12, work: 11 * time.Millisecond}, {rows: 10_000, changed: 9, work: time.Second}}
	if l := fit(even); l.Row > 2*time.Microsecond {
		t.Errorf("one slow trial of three makes a row take %s", l.Row)
	}
}
