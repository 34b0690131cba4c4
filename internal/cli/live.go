package cli

import (
	"fmt"
	"math"
	"sync"
	"time"

	"jugatum/internal/ledger"
	"jugatum/internal/runner"
	"jugatum/internal/term"
)

// liveRun shows a run while it goes on: what it told last, and, where there is room, how hold,
// speed and log have moved over the last half minute, and the last batches.
type liveRun struct {
	a    *app
	live *term.Live
	end  chan struct{}

	mu       sync.Mutex
	p        runner.Progress
	at       time.Time // when it was told; zero before that
	stopping bool      // a signal has asked for the end
	trail    trail
}

// Of how much of a terminal there must be for more than the numbers, and how often something is
// shown although nothing was told, so that a long statement is seen to go on.
const (
	roomyWidth  = 100
	roomyHeight = 24
	tick        = 500 * time.Millisecond
	longBatch   = 2 * time.Second // after which it is told that a batch is under way
)

// newLiveRun begins to show; stop tells of a signal that asks for the end.
func (a *app) newLiveRun(stop <-chan struct{}) *liveRun {
	l := &liveRun{a: a, live: a.err.NewLive(), end: make(chan struct{}), trail: trail{began: time.Now()}}
	if !a.err.TTY { // whoever reads a file needs no picture that moves
		return l
	}
	go func() {
		t := time.NewTicker(tick)
		defer t.Stop()
		for {
			select {
			case <-l.end:
				return
			case <-stop:
				stop = nil // once
				l.mu.Lock()
				l.stopping = true
				l.draw(true)
				l.mu.Unlock()
			case <-t.C:
				l.mu.Lock()
				l.draw(false)
				l.mu.Unlock()
			}
		}
	}()
	return l
}

// show takes over what was told.
func (l *liveRun) show(p runner.Progress) {
	l.mu.Lock()
	defer l.mu.Unlock()
	forced := p.Note != "" && p.Note != l.p.Note
	if p.Note != "" && p.Batches == l.p.Batches && p.Step == l.p.Step { // while it waits, speed and time left stand still
		p.StepElapsed, p.Idle = l.p.StepElapsed, l.p.Idle
	}
	l.p, l.at = p, time.Now()
	l.draw(forced)
}

// happened takes over what the plots are made of.
func (l *liveRun) happened(e runner.Event) {
	if e.Kind == runner.BatchDone {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.trail.add(e.At, e.Batch)
	}
}

// draw shows what is known now.
func (l *liveRun) draw(force bool) {
	if l.at.IsZero() {
		return
	}
	p, since := l.p, time.Since(l.at)
	p.Elapsed += since
	l.live.Show(func(width int) []string {
		lines := l.a.block(p, width)
		switch {
		case l.stopping:
			lines = append(lines, l.a.err.Paint(term.Warn, "stopping after this batch; once more rolls it back"))
		case since > longBatch && p.Note == "":
			lines = append(lines, l.a.err.Paint(term.Faint, "a batch is under way for "+term.Duration(since.Round(100*time.Millisecond))))
		}
		if width+1 >= roomyWidth && l.a.err.Height() >= roomyHeight {
			lines = append(lines, l.trail.lines(l.a.err, time.Now(), p)...)
		}
		return lines
	}, func() string { return line(p) }, force)
}

// clear ends it.
func (l *liveRun) clear() {
	close(l.end)
	l.mu.Lock()
	defer l.mu.Unlock()
	l.at = time.Time{}
	l.live.Clear()
}

// trail is what was measured over the last half minute, in short stretches, and of the last batches.
type trail struct {
	began time.Time
	parts [trailParts]trailPart
	last  []ledger.Batch // the newest last
}

type trailPart struct {
	n         int64 // which stretch it is, from the beginning
	rows, log float64
	hold      time.Duration // the longest
	waiters   int           // the most; -1 nobody looked
	batches   int
}

const (
	trailParts = 60
	trailWidth = 500 * time.Millisecond
	trailLast  = 4 // batches
)

func (t *trail) add(at time.Time, b *ledger.Batch) {
	n := int64(at.Sub(t.began) / trailWidth)
	p := &t.parts[n%trailParts]
	if p.n != n || p.batches == 0 {
		*p = trailPart{n: n, waiters: -1}
	}
	p.batches++
	p.rows += float64(max(b.Effect.Changed, 0))
	p.log += float64(max(b.Effect.Log.Bytes, 0))
	p.hold = max(p.hold, b.Hold)
	p.waiters = max(p.waiters, b.Waiters)
	t.last = append(t.last, *b)
	if len(t.last) > trailLast {
		t.last = t.last[1:]
	}
}

// series gives a figure of the last stretches, the newest last; NaN where there was no batch.
func (t *trail) series(now time.Time, of func(p trailPart) float64) (out []float64) {
	n := int64(now.Sub(t.began) / trailWidth)
	for i := max(n-trailParts+1, 0); i <= n; i++ {
		p := t.parts[i%trailParts]
		if p.n != i || p.batches == 0 {
			out = append(out, math.NaN())
			continue
		}
		out = append(out, of(p))
	}
	return out
}

// lines are the plots and the last batches.
func (t *trail) lines(o *term.Out, now time.Time, p runner.Progress) []string {
	if len(t.last) == 0 {
		return nil
	}
	seconds := trailWidth.Seconds()
	out := []string{""}
	plot := func(name string, words func(v float64) string, of func(p trailPart) float64) {
		values := t.series(now, of)
		most := 0.0
		for _, v := range values {
			if !math.IsNaN(v) {
				most = max(most, v)
			}
		}
		out = append(out, fmt.Sprintf("%-8s %s  %s", name, o.Paint(term.Accent, term.Pad(term.Spark(values, most, len(values)), trailParts)), o.Paint(term.Faint, "most "+words(most))))
	}
	plot("hold", func(v float64) string { return term.Duration(time.Duration(v)) }, func(p trailPart) float64 { return float64(p.hold) })
	plot("rows/s", func(v float64) string { return term.Count(int64(v)) }, func(p trailPart) float64 { return p.rows / seconds })
	plot("log/s", func(v float64) string { return term.Bytes(int64(v)) }, func(p trailPart) float64 { return p.log / seconds })
	for _, v := range t.series(now, func(p trailPart) float64 { return float64(p.waiters) }) {
		if v > 0 { // somebody has waited
			plot("waiting", func(v float64) string { return term.Count(int64(v)) }, func(p trailPart) float64 { return float64(max(p.waiters, 0)) })
			break
		}
	}
	out = append(out, "")
	for _, b := range t.last {
		text := fmt.Sprintf("batch %-8s %9s scanned %9s changed   hold %-8s log %s", term.Count(b.N), term.Count(b.Effect.Scanned), term.Count(b.Effect.Changed), term.Duration(b.Hold), term.Bytes(b.Effect.Log.Bytes))
		if b.Retries > 0 {
			text += fmt.Sprintf("   tried again %d times", b.Retries)
		}
		if b.Why != "" {
			text += "   " + term.Clean(b.Why)
		}
		out = append(out, o.Paint(term.Faint, text))
	}
	return out
}
