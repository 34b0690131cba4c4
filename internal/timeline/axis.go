package timeline

import (
	"fmt"
	"time"
)

// axis maps moments to seconds, without the stretches in which nothing was under way.
type axis struct {
	began   time.Time
	seconds float64
	cuts    []cut
	marks   []Mark
}

// cut is a stretch that is left out.
type cut struct{ from, to time.Time }

// newAxis finds the idle stretches between batches that are in the order of time.
func newAxis(batches []Batch) axis {
	a := axis{began: batches[0].Began.Add(-batches[0].Pause)}
	busy := time.Duration(0)
	end := a.began
	var idle []cut
	for _, b := range batches {
		begin := b.Began.Add(-b.Pause) // a pause is a part of the run
		if gap := begin.Sub(end); gap > longIdle {
			idle = append(idle, cut{end, begin})
		} else if gap > 0 {
			busy += gap
		}
		if e := b.Began.Add(b.Hold); e.After(end) {
			busy += min(e.Sub(end), e.Sub(begin))
			end = e
		}
	}
	out := time.Duration(0)
	for _, x := range idle {
		if gap := x.to.Sub(x.from); float64(gap) > idleShare*float64(busy) {
			a.marks = append(a.marks, Mark{At: (x.from.Sub(a.began) - out).Seconds(), Text: fmt.Sprintf("nothing was done for %s, which is left out here", gap.Round(time.Second))})
			a.cuts = append(a.cuts, x)
			out += gap
		}
	}
	a.seconds = max((end.Sub(a.began) - out).Seconds(), 1e-3)
	return a
}

// at is where a moment is, in seconds from the beginning.
func (a axis) at(t time.Time) float64 {
	d := t.Sub(a.began)
	for _, c := range a.cuts {
		switch {
		case !t.Before(c.to):
			d -= c.to.Sub(c.from)
		case t.After(c.from): // within what is left out
			d -= t.Sub(c.from)
		}
	}
	return d.Seconds()
}
