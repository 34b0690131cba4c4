package timeline

import (
	"math"
	"strings"
	"testing"
	"time"
)

var noon = time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)

// steady are n batches of 100 rows, one a second, each holding its locks half of it.
func steady(n int) (out []Batch) {
	for i := range n {
		out = append(out, Batch{Began: noon.Add(time.Duration(i) * time.Second), Hold: 500 * time.Millisecond, Changed: 100, LogBytes: 5000, Images: -1, Waiters: -1, Lag: -1})
	}
	return out
}

// TestNothingIsLost: whatever the batches, the stretches have all rows, bytes and batches between
// them, and there are not more stretches than a page can show.
func TestNothingIsLost(t *testing.T) {
	for _, n := range []int{1, 2, 9, 240, 1000, 54321} {
		b := steady(n)
		b[n/2].Hold = 90 * time.Second // over many stretches
		b[n/3].Hold = 0                // not told
		b[n-1].Pause = 7 * time.Second
		x := New(b, nil)
		if len(x.At) > mostMoments || len(x.At) < fewMoments {
			t.Errorf("%d batches: %d stretches", n, len(x.At))
		}
		rows, bytes, batches, paused := 0.0, 0.0, 0, 0.0
		for _, m := range x.At {
			paused += m.Paused
			rows, bytes, batches = rows+m.Rows, bytes+m.LogBytes, batches+m.Batches
		}
		if math.Abs(rows-100*float64(n)) > 1e-3 || math.Abs(bytes-5000*float64(n)) > 1 || batches != n {
			t.Errorf("%d batches: %g rows, %g bytes, %d batches in the stretches", n, rows, bytes, batches)
		}
		if math.Abs(paused-7) > 1e-9 {
			t.Errorf("%d batches: paused %g s, expected 7", n, paused)
		}
		if told := x.Holds.N; told != n-1 {
			t.Errorf("%d batches, of which one's hold is not told: %d holds", n, told)
		}
		count := 0
		for _, bin := range x.Holds.Bins {
			count += bin.N
		}
		if count != x.Holds.N {
			t.Errorf("%d holds, %d in bins", x.Holds.N, count)
		}
	}
}

func TestMoments(t *testing.T) {
	b := steady(20)
	b[3].Waiters, b[4].Waiters = 0, 2
	b[5].Lag, b[6].Lag = 0, 1500*time.Millisecond
	b[7].Images, b[7].LogBytes = 12, 100_000
	b[9].Retries, b[9].SetAside = 2, 1
	x := New(b, []Event{{At: noon.Add(8 * time.Second), Text: "tuned"}, {At: noon.Add(-time.Hour), Text: "before"}, {At: noon.Add(time.Hour), Text: "after"}})
	if x.Seconds != 19.5 || len(x.At) != 20 {
		t.Fatalf("%g seconds, %d stretches", x.Seconds, len(x.At))
	}
	if !math.IsNaN(x.At[2].MostWaiters) || x.At[4].MostWaiters != 2 {
		t.Errorf("waiters: %v, %v", x.At[2].MostWaiters, x.At[4].MostWaiters)
	}
	if !math.IsNaN(x.At[2].MostLag) || x.At[5].MostLag != 0 || x.At[6].MostLag != 1500 {
		t.Errorf("lag: %v, %v, %v", x.At[2].MostLag, x.At[5].MostLag, x.At[6].MostLag)
	}
	at := x.index(7)
	if m := x.At[at]; m.Images != 12 || m.LogARow != 1000 || m.RowsABatch != 100 || m.LongestHold != 500 {
		t.Errorf("%+v", m)
	}
	if m := x.At[x.index(9)]; m.Retries != 2 || m.SetAside != 1 {
		t.Errorf("%+v", m)
	}
	if len(x.Marks) != 1 || x.Marks[0] != (Mark{At: 8, Text: "tuned"}) {
		t.Errorf("marks %v: only what happened meanwhile", x.Marks)
	}
}

// TestIdle: a night between stop and resume is left out, and told; a pause that paces the run is
// a part of it.
func TestIdle(t *testing.T) {
	b := steady(20)
	for i := 10; i < 20; i++ {
		b[i].Began = b[i].Began.Add(9 * time.Hour)
	}
	b[15].Pause, b[15].Why = 8*time.Second, "replica lag"
	for i := 15; i < 20; i++ {
		b[i].Began = b[i].Began.Add(8 * time.Second)
	}
	x := New(b, []Event{{At: noon.Add(5 * time.Hour), Text: "resumed"}})
	if want := 9.5 + 9.5 + 8; x.Seconds != want {
		t.Errorf("%g seconds, expected %g", x.Seconds, want)
	}
	var texts []string
	for _, m := range x.Marks {
		texts = append(texts, m.Text)
	}
	if got := strings.Join(texts, "; "); got != "nothing was done for 9h0m1s, which is left out here; resumed; waited: replica lag" {
		t.Error(got)
	}
	if x.Marks[0].At != 9.5 || x.Marks[1].At != 9.5 {
		t.Errorf("%v", x.Marks)
	}
}

func TestSpread(t *testing.T) {
	var v []float64
	for i := 1; i <= 1000; i++ {
		v = append(v, float64(i))
	}
	s := NewSpread(v)
	if s.Least != 1 || s.Most != 1000 || s.Median != 500 || s.P99 != 990 || s.Bins[0].N != 1 {
		t.Errorf("%+v", s)
	}
	for i, b := range s.Bins {
		if i > 0 && math.Abs(b.From-s.Bins[i-1].To) > 1e-9 {
			t.Errorf("a hole before %v", b)
		}
	}
	if s := NewSpread(nil); s.N != 0 || s.Bins != nil {
		t.Errorf("%+v", s)
	}
}

// TestEmpty: a run without batches has an empty line of time.
func TestEmpty(t *testing.T) {
	if x := New(nil, nil); len(x.At) != 0 || x.Seconds != 0 {
		t.Errorf("%+v", x)
	}
}
