package plan

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/hazard"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/preview"
	"jugatum/internal/report"
	"jugatum/internal/runner"
	"jugatum/internal/term"
	"jugatum/internal/verify"
)

// A Refusal is what a guard says. Nothing was changed.
type Refusal struct{ Msg string }

func (e *Refusal) Error() string { return e.Msg }
func (e *Refusal) Unwrap() error { return runner.ErrGuard }

// Refusef makes one.
func Refusef(format string, args ...any) error { return &Refusal{fmt.Sprintf(format, args...)} }

// Unheld says that something does not hold after a step that the job wants to hold.
type Unheld struct{ Msg string }

func (e *Unheld) Error() string { return e.Msg }

// MayWrite refuses a database in which somebody has sessions begin as read-only:
// that is meant to keep changes like ours out. despite lists the codes of hazards
// that a person has overridden.
func MayWrite(ctx context.Context, db engine.DB, despite []string) error {
	t, ok := db.(engine.ReadOnlyTeller)
	if !ok || slices.Contains(despite, hazard.ReadOnly) {
		return nil
	}
	setting, err := t.ReadOnly(ctx)
	if err != nil || setting == "" {
		return err
	}
	return Refusef("%s is on for this user, database or server: somebody wants nothing changed here; --despite %s if you may", setting, hazard.ReadOnly)
}

// renumbered reports whether a run can neither go on nor be taken back.
func (p *Plan) renumbered(ctx context.Context, l *ledger.Ledger, run int64) (bool, error) {
	r, err := l.Load(ctx, run)
	if err != nil {
		return false, err
	}
	var re *engine.RenumberedError
	if err = p.numbersHold(ctx, l, r); errors.As(err, &re) {
		return true, nil
	}
	return false, err
}

// Earlier refuses a job of which there is an unfinished run, or one that is being taken back,
// and one that was done unless it is to be done again. It tells of unfinished runs of other
// jobs that have changed rows of the same tables.
func (p *Plan) Earlier(ctx context.Context, l *ledger.Ledger, again bool) (beside []string, err error) {
	runs, err := l.SameJob(ctx, p.Digest, p.Written)
	if err != nil {
		return nil, err
	}
	unfinished, err := l.Unfinished(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range runs {
		switch {
		case r.UndoneBy != 0:
			at := slices.IndexFunc(unfinished, func(u *ledger.Run) bool { return u.ID == r.UndoneBy })
			if at >= 0 { // what its undo has not come to yet would be changed twice
				return nil, Refusef("run %d, which takes back run %d of this job, is unfinished (%s): go on with `jugatum resume %d`", r.UndoneBy, r.ID, unfinished[at].Status, r.UndoneBy)
			}
		case r.Status != ledger.Done:
			lost, err := p.renumbered(ctx, l, r.ID)
			if err != nil {
				return nil, err
			}
			if lost && again {
				continue
			}
			if lost {
				return nil, Refusef("run %d of this job ended before it was done, and the rows that it has changed cannot be told from others any more, since they were given other numbers; --again does the job for every row that matches now", r.ID)
			}
			return nil, Refusef("run %d of this job is unfinished (%s): go on with `jugatum resume %d`, or take it back with `jugatum undo %d`", r.ID, r.Status, r.ID, r.ID)
		case !again && !p.Job.Once():
			return nil, Refusef("run %d already did this job here with the same parameters on %s; --again if it is to be done once more", r.ID, r.EndedAt.Local().Format("2006-01-02 15:04"))
		}
	}
	return p.beside(unfinished), nil
}

// beside tells of those runs that have changed rows of tables that the job changes as well.
func (p *Plan) beside(unfinished []*ledger.Run) (told []string) {
	for _, r := range unfinished {
		at := slices.IndexFunc(p.Changes, func(c *change.Change) bool { return c.Call == nil && r.Touched(c.Table.Schema, c.Table.Name) })
		if at < 0 || r.UndoneBy != 0 { // its undo speaks for it
			continue
		}
		what, do := fmt.Sprintf("run %d", r.ID), fmt.Sprintf("`jugatum resume %d`, or `jugatum undo %d`, first, unless that is meant", r.ID, r.ID)
		if r.UndoOf != 0 {
			what, do = what+fmt.Sprintf(", which takes back run %d,", r.UndoOf), fmt.Sprintf("`jugatum resume %d` first, unless that is meant", r.ID)
		}
		told = append(told, fmt.Sprintf("%s has changed rows of %s and is unfinished (%s): if it goes on, it changes the remaining rows after this job; %s", what, p.Changes[at].Table, r.Status, do))
	}
	return told
}

// Expectations holds the counts of all steps against what the job expects, before
// the first begins. What an earlier step is there to bring about, by changing a
// table that a later one reads, is only asked before that one.
func (p *Plan) Expectations(counts []int64) error {
	changed := map[string]bool{}
	called := false // a statement, of which nobody knows what it changes
	for i := range p.Job.Steps {
		sum, depends := int64(0), false
		for n, c := range p.Foremost() {
			if c.Of != i {
				continue
			}
			sum += max(counts[n], 0)
			reads := len(c.TableRefs()) > 0 || len(c.Reads.Opaque) > 0 // perhaps through a view
			depends = depends || called || changed[strings.ToLower(c.Table.Name)] || reads && len(changed) > 0
		}
		if !depends {
			if err := p.expected(i, sum); err != nil {
				return err
			}
		}
		for _, c := range p.Changes {
			if c.Of == i {
				called = called || c.Call != nil
				for _, t := range touched(c) {
					changed[strings.ToLower(t.Name)] = true
				}
			}
		}
	}
	return nil
}

// expected holds a count of rows against the step's expect.
func (p *Plan) expected(step int, rows int64) error {
	s := p.Job.Steps[step]
	e := s.Expect
	if e == nil || rows >= e.Min && rows <= e.Max {
		return nil
	}
	if p.calls(step) {
		return Refusef("step %q: the statement would be called for %s, but the job expects %s; fix the list or the expectation", s.Name, term.Counted(rows, "line"), e)
	}
	return Refusef("step %q: %s rows would change, but the job expects %s; fix the filter or the expectation", s.Name, term.Count(rows), e)
}

// calls tells whether a step of the job calls a statement for each line of a list.
func (p *Plan) calls(step int) bool {
	return slices.ContainsFunc(p.Changes, func(c *change.Change) bool { return c.Of == step && c.Call != nil })
}

// part is the first (0) or last (-1) change that a step of the job became.
func (p *Plan) part(step, which int) *change.Change {
	var list []*change.Change
	for _, c := range p.Changes {
		if c.Of == step {
			list = append(list, c)
		}
	}
	if which < 0 {
		return list[len(list)-1]
	}
	return list[which]
}

// Guard has a runner ask, around each step, what the job wants to hold, and before each but the first
// once more what was asked before the run. despite lists the codes of hazards that a person has
// overridden, besides those that the record of the run has. An undo has nothing of the kind.
func (p *Plan) Guard(r *runner.Runner, despite []string) {
	if r.Run.UndoOf != 0 {
		return
	}
	if c := r.Run.Options.Consent; c != nil {
		for _, h := range c.Hazards {
			if h.Meant {
				despite = append(slices.Clone(despite), h.Code)
			}
		}
	}
	r.Before = func(ctx context.Context, w *runner.Work) error { return p.before(ctx, w, r.Run.Options, despite) }
	r.After = func(ctx context.Context, w *runner.Work) error { return p.after(ctx, w, r.Work) }
}

// before asks what the job wants to hold before a step. Steps before it may have changed what
// was found and asked before the run.
func (p *Plan) before(ctx context.Context, w *runner.Work, opts ledger.Options, despite []string) error {
	i := w.Change.Of
	if w.Change.Whole() != p.part(i, 0) {
		return nil // asked before the first table of the step
	}
	if i > 0 {
		if err := p.regroup(ctx, i); err != nil {
			return err
		}
		if err := p.reword(ctx, w); err != nil {
			return err
		}
		if err := p.unhindered(ctx, i, opts, despite); err != nil {
			return err
		}
	}
	if p.Job.Steps[i].Expect != nil && i > 0 { // the first step's was asked before the run
		n := int64(0)
		for _, c := range p.Foremost() {
			if c.Of != i {
				continue
			}
			_, one, err := preview.Count(ctx, p.DB, c)
			if err != nil {
				return err
			}
			n += one
		}
		if err := p.expected(i, n); err != nil {
			return err
		}
	}
	return p.checksBefore(ctx, i)
}

// unhindered refuses a step against whose rows something stands by now.
func (p *Plan) unhindered(ctx context.Context, step int, opts ledger.Options, despite []string) error {
	for _, c := range p.Foremost() {
		if c.Of != step {
			continue
		}
		found, err := preview.Hindrances(ctx, p.DB, c, p.MethodOf(c), opts.Keep)
		if err != nil {
			return err
		}
		Settable(found, opts.SetAside)
		for _, f := range found {
			if !refuses(f, despite) {
				continue
			}
			return Refusef("step %q: after the steps before it, %s: %s; the step was not begun, and `jugatum resume` goes on with it", c.Step, f.Code, f.Text)
		}
	}
	return nil
}

// checksBefore asks a step's checks that must hold before it. Those of the
// first step are asked before the run is even recorded.
func (p *Plan) checksBefore(ctx context.Context, step int) error {
	got, err := p.unmet(ctx, step, func(c job.Check) bool { return c.Before })
	if err != nil || got == nil {
		return err
	}
	return Refusef("step %q: before it, %q gives %s, not %s; the step was not begun", p.Job.Steps[step].Name, got.SQL, got.Got, got.Want)
}

// after asks what the job wants to hold after a step; all are the run's steps, of
// which one of the job may have become several.
func (p *Plan) after(ctx context.Context, w *runner.Work, all []*runner.Work) error {
	i := w.Change.Of
	if err := p.unmatched(ctx, w); err != nil {
		return err
	}
	if w.Change.Whole() != p.part(i, -1) {
		return nil // asked after the last table of the step
	}
	if e := p.Job.Steps[i].Expect; e != nil {
		n := int64(0)
		for _, x := range all {
			if x.Change.Of == i && !x.Change.Late { // of which nobody could expect anything
				n += x.Step.Totals.Changed
			}
		}
		if n < e.Min || n > e.Max {
			what := fmt.Sprintf("changed %s rows", term.Count(n))
			if p.calls(i) {
				what = "called its statement for " + term.Counted(n, "line")
			}
			return &Unheld{fmt.Sprintf("step %q %s, but the job expects %s; later steps were not begun", p.Job.Steps[i].Name, what, e)}
		}
	}
	got, err := p.unmet(ctx, i, func(c job.Check) bool { return c.After })
	if err != nil || got == nil {
		return err
	}
	return &Unheld{fmt.Sprintf("step %q: after it, %q gives %s, not %s; later steps were not begun", w.Step.Name, got.SQL, got.Got, got.Want)}
}

// unmatched asks, after a step that fills columns and allows no row that matches nothing, whether there
// are such rows: others may have made them meanwhile.
func (p *Plan) unmatched(ctx context.Context, w *runner.Work) error {
	c := w.Change
	if c.Lookup == nil || c.Lookup.Missing || c.Lookup.Unmatched != change.Fail || c.Recurs() != "" { // rows that it has changed may match otherwise
		return nil
	}
	q := change.Lost(c)
	var n int64
	err := p.DB.JobPool().QueryRowContext(ctx, "SELECT count(*)"+q.String(), q.Args...).Scan(&n)
	switch {
	case err != nil && c.Whole() != c && p.DB.Fault(err) == engine.Invalid: // what it was filled from is dropped, once this was asked
		return nil
	case err != nil || n == 0:
		return err
	}
	match := "match"
	if n == 1 {
		match = "matches"
	}
	return &Unheld{fmt.Sprintf("step %q: after it, %s %s nothing, and unmatched = \"fail\" allows none: others have written meanwhile; later steps were not begun. `jugatum resume` asks again, and with --despite check goes on", c.Step, term.Rows(n), match)}
}

// Forbidden says what became of lines of the lists of a run of which the job allows none: others have
// written after it was asked.
func (p *Plan) Forbidden(run int64, lists []report.List) error {
	outcomes := map[string]map[string]int64{}
	for _, x := range lists {
		outcomes[x.Step] = x.Outcomes
	}
	for _, c := range p.Changes {
		if c.Lines == nil || !c.Lines.Fail {
			continue
		}
		step := p.Job.Steps[c.Of].Name
		if n := outcomes[step][string(c.Lines.Missed)]; n > 0 {
			return &Unheld{fmt.Sprintf("step %q: %s: %s, of which the job allows none: others have written meanwhile; `jugatum show %d --lines FILE` tells which", step, term.Counted(n, "line"), c.Lines.Missed, run)}
		}
	}
	return nil
}

// unmet gives the first of a step's checks, of those that are due, that does not
// hold; nil if all do.
func (p *Plan) unmet(ctx context.Context, step int, due func(job.Check) bool) (*verify.Check, error) {
	for _, c := range p.Job.Steps[step].Checks {
		if !due(c) {
			continue
		}
		if got, err := verify.Ask(ctx, p.DB, c); err != nil || !got.OK {
			return &got, err
		}
	}
	return nil, nil
}
