package cli

import (
	"fmt"
	"strings"
	"time"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/pace"
	"jugatum/internal/report"
	"jugatum/internal/runner"
	"jugatum/internal/term"
)

// advance is how far a run is in its step, in work rather than in rows: to change a row is more
// work than to scan it, and those to change may stand anywhere.
type advance struct {
	step    int
	changed int64 // rows of the step before this process, or the watching, began
	effort  pace.Effort
	ends    map[int]time.Time // of the last batch, by lane
}

// see takes over where the run stands now.
func (v *advance) see(p runner.Progress) {
	if p.Step != v.step {
		*v = advance{step: p.Step, ends: map[int]time.Time{}}
		if p.Here < p.Scanned { // else all of it is from here on
			v.changed = p.Changed
		}
	}
}

// add learns from a batch how much work rows are.
func (v *advance) add(at time.Time, b *ledger.Batch) {
	if last, ok := v.ends[b.Lane]; ok && b.Step == v.step && at.After(last) {
		v.effort.Add(b.Effect.Scanned, b.Effect.Changed, max(at.Sub(last)-b.Pause, b.Hold))
	}
	if v.ends != nil {
		v.ends[b.Lane] = at
	}
}

// share is how much of a step is done, from 0 to 1; -1 if nobody knows.
func (v *advance) share(p runner.Progress) float64 {
	switch {
	case p.Scanned > 0 && p.TableRows > 0 && p.ToChange > 0:
		rest := v.effort.Of(p.TableRows-p.Scanned, p.ToChange-p.Changed)
		done := v.effort.Of(p.Scanned, p.Changed)
		return done / (done + rest)
	case p.Scanned > 0 && p.TableRows > 0:
		return min(float64(p.Scanned)/float64(p.TableRows), 1)
	case p.ToChange > 0:
		return min(float64(p.Changed)/float64(p.ToChange), 1)
	}
	return -1
}

// left is how long the rest of a step will take at the speed so far, -1 if unknown.
func (v *advance) left(p runner.Progress) time.Duration {
	busy := busyTime(p)
	if p.Here <= 0 || p.TableRows <= 0 || busy <= 0 {
		return -1
	}
	rest, here := float64(max(p.TableRows-p.Scanned, 0)), float64(p.Here)
	if p.ToChange > 0 {
		rest, here = v.effort.Of(p.TableRows-p.Scanned, p.ToChange-p.Changed), v.effort.Of(p.Here, p.Changed-v.changed)
	}
	if here <= 0 {
		return -1
	}
	return time.Duration(float64(busy) * rest / here)
}

// busyTime is the time of a step without that in which the run was paused.
func busyTime(p runner.Progress) time.Duration { return p.StepElapsed - p.Idle }

// leftText words the time left; below a minute whole seconds are more than enough.
func (v *advance) leftText(p runner.Progress) string {
	switch d := v.left(p); {
	case d < 0:
		return "time left unknown"
	case d < time.Second:
		return "less than 1 s left"
	case d < time.Minute:
		return fmt.Sprintf("about %.0f s left", d.Seconds())
	default:
		return "about " + term.Duration(d.Round(time.Second)) + " left"
	}
}

// block is the live view of a run.
func (a *app) block(p runner.Progress, v *advance, width int) []string {
	o := a.err
	s := v.share(p)
	percent := "  ? %"
	if s >= 0 {
		percent = fmt.Sprintf("%3.0f %%", s*100)
	}
	what := "run"
	if p.Undo {
		what = "undo, run"
	}
	rest := v.leftText(p)
	speed := "not known yet"
	if busy := busyTime(p); busy > 0 && p.Here > 0 {
		speed = term.Count(int64(float64(p.Here)/busy.Seconds())) + " rows/s"
	}
	lines := []string{
		fmt.Sprintf("%s %d, step %d of %d: %s", o.Paint(term.Bold, what), p.Run, p.Step, p.Steps, term.Clean(p.Name)),
		fmt.Sprintf("%s %s  %s  %s", o.Bar(s, min(width-40, 60)), percent, term.Duration(p.Elapsed), rest),
		fmt.Sprintf("rows   %s changed / %s matched / %s scanned of %s", o.Paint(term.Bold, term.Count(p.Changed)), term.Count(p.Matched), term.Count(p.Scanned), ofRows(p)),
		fmt.Sprintf("batch  no. %s, %s rows   hold %s, worst %s", term.Count(p.Batches), term.Count(int64(p.Size)), term.Duration(p.Hold), term.Duration(p.Worst)),
		fmt.Sprintf("speed  %s   log written %s (%s)", speed, term.Bytes(p.Log.Bytes), report.Scope(p.Log.Scope)),
	}
	if p.Workers > 1 {
		lines[3] += fmt.Sprintf("   %d workers", p.Workers)
	}
	if p.Waiters > 0 {
		lines = append(lines, o.Paint(term.Warn, "others "+waitText(p.Waiters)))
	}
	if p.Lag > 0 {
		lines = append(lines, term.Fit(fmt.Sprintf("lag    %s  %s", term.Duration(p.Lag.Round(10*time.Millisecond)), term.Clean(p.Replica)), width))
	}
	if text := keepingText(p.Keeping); text != "" {
		lines = append(lines, term.Fit("later  "+text, width))
	}
	for _, x := range p.Keeping {
		if x.Advice != "" {
			lines = append(lines, o.Paint(term.Warn, term.Fit("later  "+term.Clean(x.Name)+": "+term.Clean(x.Advice), width)))
		}
	}
	if p.SetAside > 0 {
		lines = append(lines, o.Paint(term.Warn, fmt.Sprintf("aside  %s rows could not be changed and were set aside", term.Count(p.SetAside))))
	}
	if p.Skipped > 0 {
		lines = append(lines, o.Paint(term.Warn, fmt.Sprintf("skipped %s rows that others had changed since", term.Count(p.Skipped))))
	}
	if p.Note != "" {
		note := p.Note
		if p.Lag > 0 && strings.HasPrefix(note, "a replica is ") { // which one is told above
			note, _, _ = strings.Cut(note, ": ")
		}
		lines = append(lines, o.Paint(term.Warn, term.Fit(term.Clean(note), width)))
	}
	return lines
}

// ofRows is how many rows there are to scan: never fewer than were scanned, since
// the number may be an estimate, or others may have added some.
func ofRows(p runner.Progress) string { return term.Count(max(p.TableRows, p.Scanned)) }

// keepingText names the work that is left for later.
func keepingText(list []engine.Setting) string {
	var parts []string
	for _, x := range list {
		parts = append(parts, term.Clean(x.Name)+" "+term.Clean(x.Value))
	}
	return strings.Join(parts, ", ")
}

func waitText(n int) string {
	if n == 1 {
		return "1 session waits on us"
	}
	return fmt.Sprintf("%d sessions wait on us", n)
}

// line is the same in one line, for a log.
func line(p runner.Progress, v *advance) string {
	s := fmt.Sprintf("run %d step %d/%d: %s changed, %s scanned of %s, batch %s of %s rows, hold %s (worst %s), log %s",
		p.Run, p.Step, p.Steps, term.Count(p.Changed), term.Count(p.Scanned), ofRows(p), term.Count(p.Batches), term.Count(int64(p.Size)),
		term.Duration(p.Hold), term.Duration(p.Worst), term.Bytes(p.Log.Bytes))
	if p.Workers > 1 {
		s += fmt.Sprintf(", %d workers", p.Workers)
	}
	s += ", " + v.leftText(p)
	if text := keepingText(p.Keeping); text != "" {
		s += ", later: " + text
	}
	if p.Note != "" {
		s += "; " + p.Note
	}
	return s
}
