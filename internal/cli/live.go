package cli

import (
	"fmt"
	"math"
	"strings"
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

	began time.Time

	mu       sync.Mutex
	p        runner.Progress
	at       time.Time // when it was told; zero before that
	stopping bool      // a signal has asked for the end
	cleared  bool      // it has ended
	trail    trail
	advance  advance

	keys     *term.Keys // nil: none are read
	controls *controls
	helping  bool   // what each key does is shown
	told     string // of the last key
	toldAt   time.Time
}

// toldFor is how long what a key has brought is shown.
const toldFor = 6 * time.Second

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
	l := &liveRun{a: a, live: a.err.NewLive(), end: make(chan struct{}), began: time.Now(), trail: trail{began: time.Now().Add(-trailParts * trailWidth)}}
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
	l.advance.see(p)
	l.draw(forced)
}

// happened takes over what the plots are made of.
func (l *liveRun) happened(e runner.Event) {
	if e.Kind == runner.BatchDone {
		l.mu.Lock()
		defer l.mu.Unlock()
		l.trail.add(e.At, e.Batch)
		l.advance.add(e.At, e.Batch)
	}
}

// draw shows what is known now.
func (l *liveRun) draw(force bool) {
	if l.at.IsZero() {
		if !l.cleared && time.Since(l.began) >= tick {
			l.live.Show(func(int) []string {
				return []string{l.a.err.Paint(term.Faint, "preparing, "+term.Duration(time.Since(l.began).Round(100*time.Millisecond)))}
			}, func() string { return "preparing" }, force)
		}
		return
	}
	p, since := l.p, time.Since(l.at)
	p.Elapsed += since
	l.live.Show(func(width int) []string {
		lines := l.a.block(p, &l.advance, width)
		switch {
		case l.stopping:
			lines = append(lines, l.a.err.Paint(term.Warn, "stopping after this batch; once more rolls it back"))
		case since > longBatch && p.Note == "":
			lines = append(lines, l.a.err.Paint(term.Faint, "a batch is under way for "+term.Duration(since.Round(100*time.Millisecond))))
		}
		if l.roomy() {
			lines = append(lines, l.trail.lines(l.a.err, time.Now(), p)...)
			lines = append(lines, "")
		}
		lines = append(lines, l.keyLines()...)
		return lines
	}, func() string { return line(p, &l.advance) }, force)
}

// roomy reports whether there is room for more than the numbers.
func (l *liveRun) roomy() bool {
	return l.a.err.Width() >= roomyWidth && l.a.err.Height() >= roomyHeight
}

// keyLines are what the last key has brought, and what keys do.
func (l *liveRun) keyLines() (out []string) {
	if l.told != "" && time.Since(l.toldAt) < toldFor {
		out = append(out, l.a.err.Paint(term.Accent, l.told))
	}
	switch {
	case l.controls == nil || !l.roomy():
		return out
	case l.helping:
		return append(out, l.controls.help()...)
	}
	return append(out, l.a.err.Paint(term.Faint, l.controls.hint()))
}

// clear ends it.
func (l *liveRun) clear() {
	close(l.end)
	if l.keys != nil {
		l.keys.Close()
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.at, l.cleared = time.Time{}, true
	l.live.Clear()
}

// during shows at a terminal what is being waited for, and for how long, until done is called; a
// wait that is over at once is not shown.
func (a *app) during(what string) (done func()) {
	if !a.err.TTY {
		return func() {}
	}
	live, began, end, ended := a.err.NewLive(), time.Now(), make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		t := time.NewTicker(tick)
		defer t.Stop()
		for {
			select {
			case <-end:
				live.Clear()
				return
			case now := <-t.C:
				live.Show(func(int) []string {
					return []string{a.err.Paint(term.Faint, what+", "+term.Duration(now.Sub(began).Round(100*time.Millisecond)))}
				}, nil, true)
			}
		}
	}()
	return sync.OnceFunc(func() {
		close(end)
		<-ended
	})
}

// trail is what was measured over the last half minute, in short stretches, and of the last batches.
type trail struct {
	began time.Time // of what is remembered
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
	if at.Before(t.began) {
		return
	}
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

// columns draws a figure along the last half minute; what is over a limit stands out.
func columns(o *term.Out, values []float64, most, limit float64) string {
	var b strings.Builder
	for i, c := range []rune(term.Spark(values, most, len(values))) {
		style := term.Accent
		if limit > 0 && values[i] > limit {
			style = term.Warn
		}
		b.WriteString(o.Paint(style, string(c)))
	}
	return b.String() + strings.Repeat(" ", trailParts-len(values))
}

// lines are the plots and the last batches.
func (t *trail) lines(o *term.Out, now time.Time, p runner.Progress) []string {
	if len(t.last) == 0 {
		return nil
	}
	seconds := trailWidth.Seconds()
	out := []string{""}
	plot := func(name string, limit float64, words func(v float64) string, of func(p trailPart) float64) {
		values := t.series(now, of)
		most := 0.0
		for _, v := range values {
			if !math.IsNaN(v) {
				most = max(most, v)
			}
		}
		told := "most " + words(most)
		if limit > 0 {
			told += ", target " + words(limit)
		}
		out = append(out, fmt.Sprintf("%-8s %s  %s", name, columns(o, values, max(most, limit), limit), o.Paint(term.Faint, told)))
	}
	plot("hold", float64(p.Target), func(v float64) string { return term.Duration(time.Duration(v)) }, func(p trailPart) float64 { return float64(p.hold) })
	plot("rows/s", 0, func(v float64) string { return term.Count(int64(v)) }, func(p trailPart) float64 { return p.rows / seconds })
	plot("log/s", 0, func(v float64) string { return term.Bytes(int64(v)) }, func(p trailPart) float64 { return p.log / seconds })
	for _, v := range t.series(now, func(p trailPart) float64 { return float64(p.waiters) }) {
		if v > 0 { // somebody has waited
			plot("waiting", 0, func(v float64) string { return term.Count(int64(v)) }, func(p trailPart) float64 { return float64(max(p.waiters, 0)) })
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
