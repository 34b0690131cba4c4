// Package timeline lays what a run's batches measured out along the time that the run took: so
// many rows a second here, so long a hold there. It knows no database and draws nothing.
package timeline

import (
	"math"
	"slices"
	"time"
)

// Batch is what was measured of one batch. Figures below 0 are unknown.
type Batch struct {
	Began    time.Time
	Hold     time.Duration // 0: not told
	Pause    time.Duration // before it
	Why      string        // the reason for the pause, or for fewer rows
	Changed  int64         // rows
	LogBytes int64
	Images   int64         // full-page images
	Waiters  int64         // sessions seen waiting on us
	Lag      time.Duration // of the replica furthest behind
	Retries  int64
	SetAside int64 // rows
}

// Event is something that happened at one moment.
type Event struct {
	At    time.Time
	Text  string
	Often bool // there may be many of its kind, of which each says little
}

// Timeline is a run along its time. Stretches in which nothing was under way, such as a night
// between a stop and the resume, are taken out of it; a mark says so.
type Timeline struct {
	Began   time.Time
	Seconds float64  // how long it is
	Width   float64  // of a stretch, in seconds
	At      []Moment // the stretches
	Marks   []Mark
	Holds   Spread // of batches, in milliseconds
	Log     Spread // bytes for each changed row, by batch
}

// Moment is one stretch of the time. Figures that nothing tells of are NaN.
type Moment struct {
	From        float64 // seconds from the beginning
	Rows        float64 // changed in it; a batch's are spread over the time it held its locks
	Batches     int     // that began in it
	RowsABatch  float64
	LongestHold float64 // milliseconds
	MedianHold  float64 // milliseconds
	LogBytes    float64
	LogARow     float64 // bytes
	Images      int64   // full-page images
	MostWaiters float64 // sessions seen waiting on us at once
	MostLag     float64 // milliseconds, of the replica furthest behind
	Paused      float64 // seconds
	Retries     int64
	SetAside    int64
	logRows     float64 // of which the log is known
}

// Mark is something that happened, on the axis of the time.
type Mark struct {
	At    float64 // seconds from the beginning
	Text  string
	Often bool // as its event says
}

// Limits of a timeline's form.
const (
	mostMoments = 240
	fewMoments  = 8

	// An idle stretch is left out if it is longer than this, and than this share of the time in
	// which something was under way.
	longIdle  = 20 * time.Second
	idleShare = 0.05

	// shortPause is what is not marked by itself: pauses that pace a run are shorter, and many.
	shortPause = 5 * time.Second
)

// New lays batches and events out. The batches may be in any order, and are sorted.
func New(batches []Batch, events []Event) *Timeline {
	t := &Timeline{}
	if len(batches) == 0 {
		return t
	}
	slices.SortFunc(batches, func(a, b Batch) int { return a.Began.Compare(b.Began) })
	a := newAxis(batches)
	t.Began, t.Seconds = a.began, a.seconds
	t.Marks = a.marks
	n := min(max(len(batches), fewMoments), mostMoments)
	t.Width = max(t.Seconds/float64(n), 1e-6)
	t.At = make([]Moment, n)
	for i := range t.At {
		t.At[i] = Moment{From: float64(i) * t.Width, RowsABatch: math.NaN(), LongestHold: math.NaN(), MedianHold: math.NaN(), LogARow: math.NaN(), MostWaiters: math.NaN(), MostLag: math.NaN()}
	}
	holds, logs := []float64{}, []float64{}
	in := make([][]float64, n) // the holds of each stretch
	for _, b := range batches {
		at := a.at(b.Began)
		i := t.index(at)
		m := &t.At[i]
		m.add(b)
		if b.Pause >= shortPause && b.Why != "" {
			t.Marks = append(t.Marks, Mark{At: max(at-b.Pause.Seconds(), 0), Text: "waited: " + b.Why})
		}
		if b.Hold > 0 {
			ms := float64(b.Hold.Microseconds()) / 1000
			holds, in[i] = append(holds, ms), append(in[i], ms)
		}
		if b.LogBytes >= 0 && b.Changed > 0 {
			logs = append(logs, float64(b.LogBytes)/float64(b.Changed))
		}
		t.spread(b, at)
	}
	for i := range t.At {
		t.At[i].settle(in[i])
	}
	for _, e := range events {
		if at := a.at(e.At); at >= 0 && at <= t.Seconds {
			t.Marks = append(t.Marks, Mark{at, e.Text, e.Often})
		}
	}
	slices.SortStableFunc(t.Marks, func(a, b Mark) int {
		switch {
		case a.At < b.At:
			return -1
		case a.At > b.At:
			return 1
		}
		return 0
	})
	t.Holds, t.Log = NewSpread(holds), NewSpread(logs)
	return t
}

// index is the stretch of a moment.
func (t *Timeline) index(at float64) int {
	return min(max(int(at/t.Width), 0), len(t.At)-1)
}

// add takes down what is told of a batch where it began.
func (m *Moment) add(b Batch) {
	m.Batches++
	if b.Changed >= 0 {
		m.RowsABatch = sum(m.RowsABatch, float64(b.Changed))
	}
	m.Images += max(b.Images, 0)
	m.Retries += b.Retries
	m.SetAside += b.SetAside
	if b.Waiters >= 0 {
		m.MostWaiters = max(sum(m.MostWaiters, 0), float64(b.Waiters))
	}
	if b.Lag >= 0 {
		m.MostLag = max(sum(m.MostLag, 0), float64(b.Lag.Microseconds())/1000)
	}
	if b.LogBytes >= 0 && b.Changed > 0 {
		m.LogARow = sum(m.LogARow, float64(b.LogBytes))
		m.logRows += float64(b.Changed)
	}
}

// settle makes means of sums.
func (m *Moment) settle(holds []float64) {
	if m.Batches > 0 {
		m.RowsABatch /= float64(m.Batches)
	}
	if m.logRows > 0 {
		m.LogARow /= m.logRows
	}
	if len(holds) > 0 {
		slices.Sort(holds)
		m.LongestHold, m.MedianHold = holds[len(holds)-1], rank(holds, 0.5)
	}
}

// spread gives a batch's rows and log to the stretches in which it held its locks, and the pause
// before it to those in which that was.
func (t *Timeline) spread(b Batch, at float64) {
	rows, log := float64(max(b.Changed, 0)), float64(max(b.LogBytes, 0))
	t.over(at, at+b.Hold.Seconds(), func(m *Moment, share float64) {
		m.Rows += rows * share
		m.LogBytes += log * share
	})
	t.over(at-b.Pause.Seconds(), at, func(m *Moment, share float64) { m.Paused += b.Pause.Seconds() * share })
}

// over hands each stretch its share of what lasts from one moment to another.
func (t *Timeline) over(from, to float64, each func(m *Moment, share float64)) {
	first, last := t.index(from), t.index(to)
	if first == last {
		each(&t.At[first], 1)
		return
	}
	for i := first; i <= last; i++ {
		begin, end := max(from, t.At[i].From), min(to, t.At[i].From+t.Width)
		if i == last {
			end = to
		}
		each(&t.At[i], max(end-begin, 0)/(to-from))
	}
}

// sum adds to a figure that may not be known yet.
func sum(a, b float64) float64 {
	if math.IsNaN(a) {
		return b
	}
	return a + b
}
