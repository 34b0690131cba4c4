package page

import (
	"fmt"
	"io"
	"math"
	"slices"
	"time"

	"jugatum/internal/plots"
	"jugatum/internal/report"
	"jugatum/internal/term"
	"jugatum/internal/timeline"
)

// Figure is a drawing of the page: panels over one axis.
type Figure struct {
	Name   string // one word
	Title  string
	Label  string // what is to be seen, for those who do not see it
	Panels []plots.Panel
}

// measure is a figure over the time.
type measure struct {
	name, title string
	several     string // the title where several runs are drawn, if it is another
	of          func(m timeline.Moment, width float64) float64
	besides     func(m timeline.Moment) float64 // a second line of a single run; nil without one
	aside       func(float64) string
	fill, whole bool
	bytes       bool
	apart       bool // the line ends where nothing is known
	sparse      bool // few batches tell of it: the line goes through to the next that does
	limit       bool // the hold target is drawn
}

// measures are what is drawn over the time, in this order.
var measures = []measure{
	{name: "rows", title: "rows changed a second", of: func(m timeline.Moment, w float64) float64 { return m.Rows / w }, aside: count, fill: true},
	{name: "batch", title: "rows changed by a batch", of: func(m timeline.Moment, _ float64) float64 { return m.RowsABatch }, aside: count},
	{name: "hold", title: "hold of a batch: longest and, dashed, median; the target in red", several: "longest hold of a batch", of: func(m timeline.Moment, _ float64) float64 { return m.LongestHold },
		besides: func(m timeline.Moment) float64 { return m.MedianHold }, aside: milliseconds, limit: true},
	{name: "log", title: "log written a second", of: func(m timeline.Moment, w float64) float64 { return m.LogBytes / w }, aside: size, bytes: true, fill: true},
	{name: "logrow", title: "log for each row changed", of: func(m timeline.Moment, _ float64) float64 { return m.LogARow }, aside: size, bytes: true},
	{name: "images", title: "full-page images: the first changes of pages after a checkpoint of the server", of: func(m timeline.Moment, _ float64) float64 { return float64(m.Images) }, aside: count, fill: true, whole: true},
	{name: "waiting", title: "sessions seen waiting on the run", of: func(m timeline.Moment, _ float64) float64 { return m.MostWaiters }, aside: count, whole: true, apart: true},
	{name: "lag", title: "how far the replica furthest behind was behind", of: func(m timeline.Moment, _ float64) float64 { return m.MostLag }, aside: milliseconds, sparse: true},
	{name: "paused", title: "share of the time waited to ease off", of: func(m timeline.Moment, w float64) float64 { return min(m.Paused/w, 1) }, aside: percent, fill: true},
}

func count(v float64) string { return term.Count(int64(math.Round(v))) }
func size(v float64) string {
	if v == 0 {
		return "0"
	}
	return term.Bytes(int64(math.Round(v)))
}
func percent(v float64) string { return fmt.Sprintf("%.0f %%", 100*v) }

func milliseconds(v float64) string {
	if v == 0 {
		return "0"
	}
	return term.Duration(report.Milliseconds(v))
}

// clock words seconds from the beginning.
func clock(v float64) string {
	if v == 0 {
		return "0"
	}
	return term.Duration(time.Duration(v * float64(time.Second)))
}

// Figures are the drawings of a report: over the time, and how figures are spread.
func (p *Page) Figures() (out []Figure) {
	long := 0.0
	for _, r := range p.Runs {
		long = max(long, r.Line.Seconds)
	}
	if long == 0 { // no batch at all
		return nil
	}
	over := Figure{Name: "time", Title: "Over the time", Label: "What the batches measured, over the time of the run; the table below has the same figures"}
	for _, m := range measures {
		if panel, ok := p.panel(m, long); ok {
			over.Panels = append(over.Panels, panel)
		}
	}
	out = append(out, over)
	for _, s := range []struct {
		name, title string
		of          func(t *timeline.Timeline) timeline.Spread
		words       func(float64) string
	}{
		{"holds", "batches by their hold", func(t *timeline.Timeline) timeline.Spread { return t.Holds }, milliseconds},
		{"logrows", "batches by the log for each row changed", func(t *timeline.Timeline) timeline.Spread { return t.Log }, size},
	} {
		if f, ok := p.spread(s.name, s.title, s.of, s.words); ok {
			out = append(out, f)
		}
	}
	return out
}

// panel draws one measure of all runs.
func (p *Page) panel(m measure, long float64) (plots.Panel, bool) {
	out := plots.Panel{Name: m.name, Title: m.title, To: long, Below: clock, Aside: m.aside, Whole: m.whole, Bytes: m.bytes}
	if len(p.Runs) > 1 && m.several != "" {
		out.Title = m.several
	}
	some := false
	for n, r := range p.Runs {
		t := r.Line
		line := plots.Line{Fill: m.fill && len(p.Runs) == 1, Color: n}
		dashed := line
		dashed.Faint, dashed.Fill = true, false
		empty := 0
		for _, at := range t.At {
			x, y := at.From+t.Width/2, m.of(at, t.Width)
			some = some || !math.IsNaN(y) && y != 0
			if at.Rows > 0 || at.Batches > 0 {
				empty = 0
			} else {
				empty++
			}
			if math.IsNaN(y) && (at.Batches == 0 && !m.apart || m.sparse) && empty < idleStretches {
				continue // a batch that goes on, or no look: the line goes through to the next one
			}
			line.X, line.Y = append(line.X, x), append(line.Y, y)
			if m.besides != nil && len(p.Runs) == 1 {
				dashed.X, dashed.Y = append(dashed.X, x), append(dashed.Y, m.besides(at))
			}
		}
		out.Lines = append(out.Lines, line)
		if dashed.X != nil {
			out.Lines = append(out.Lines, dashed)
		}
	}
	if m.limit {
		out.Limit = p.Runs[0].HoldMS
		for _, r := range p.Runs {
			if r.HoldMS != out.Limit { // each has its own
				out.Limit = 0
			}
		}
	}
	if len(p.Runs) == 1 {
		lift, last := 0, math.Inf(-1)
		for i, k := range p.Runs[0].marks() {
			if lift++; k.At-last > long/40 { // else its number would stand on the one before it
				lift = 0
			}
			last = k.At
			out.Marks = append(out.Marks, plots.Mark{At: k.At, Label: fmt.Sprint(i + 1), Lower: lift})
		}
	}
	return out, some
}

// idleStretches are so many stretches without anything that a line is not drawn through them.
const idleStretches = 3

// mostMarks is how many moments are marked in a plot, the first of them.
const mostMarks = 20

// marks leaves out those of which there may be many before it leaves out others.
func (x *Run) marks() []timeline.Mark {
	marks := x.Line.Marks
	if len(marks) > mostMarks {
		marks = slices.DeleteFunc(slices.Clone(marks), func(m timeline.Mark) bool { return m.Often })
	}
	return marks[:min(len(marks), mostMarks)]
}

// spread draws how a figure is spread over the batches: bars of one run, lines of several.
func (p *Page) spread(name, title string, of func(t *timeline.Timeline) timeline.Spread, words func(float64) string) (Figure, bool) {
	panel := plots.Panel{Name: name, Title: title, Log: true, Below: words, Aside: count, Whole: true}
	for n, r := range p.Runs {
		s := of(r.Line)
		if s.N < 2 {
			continue
		}
		line := plots.Line{Color: n}
		for _, b := range s.Bins {
			if panel.To == 0 {
				panel.From = b.From
			}
			panel.From, panel.To = min(panel.From, b.From), max(panel.To, b.To)
			if len(p.Runs) == 1 {
				panel.Bars = append(panel.Bars, plots.Bar{From: b.From, To: b.To, Height: float64(b.N)})
				continue
			}
			line.X, line.Y = append(line.X, math.Sqrt(b.From*b.To)), append(line.Y, float64(b.N))
		}
		if line.X != nil {
			panel.Lines = append(panel.Lines, line)
		}
		if name == "holds" && len(p.Runs) == 1 {
			panel.Marks = append(panel.Marks, plots.Mark{At: s.Median, Label: "median"}, plots.Mark{At: s.P99, Label: "99 %"})
		}
	}
	if panel.To == 0 {
		return Figure{}, false
	}
	return Figure{Name: name, Title: title, Label: title, Panels: []plots.Panel{panel}}, true
}

// Files draws each panel for itself; create opens the file for one.
func (p *Page) Files(as string, create func(name string) (io.WriteCloser, error)) error {
	for _, f := range p.Figures() {
		for _, panel := range f.Panels {
			w, err := create(panel.Name + "." + as)
			if err != nil {
				return err
			}
			if err := plots.Draw(w, []plots.Panel{panel}, as); err != nil {
				w.Close()
				return err
			}
			if err := w.Close(); err != nil {
				return err
			}
		}
	}
	return nil
}
