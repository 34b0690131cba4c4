package runner

import (
	"context"
	"fmt"
	"math"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
)

// The account at the end of a step: what was accepted, matched, changed, kept
// and set aside is held against each other, and against the table where these
// numbers differ. It does not go by the keys that the batches went by.

// AccountError is a step whose numbers do not add up, and no writer beside us
// explains it.
type AccountError struct {
	Step   string
	Faults []string
}

func (e *AccountError) Error() string {
	return fmt.Sprintf("step %q does not add up: %s", e.Step, strings.Join(e.Faults, "; "))
}

// account holds a finished step's numbers against each other.
func (r *Runner) account(ctx context.Context, w *Work) error {
	steps, err := r.Ledger.Load(ctx, r.Run.ID) // what was recorded, rather than what we think
	if err != nil {
		return err
	}
	var st *ledger.Step
	for _, x := range steps.Steps {
		if x.N == w.Step.N {
			st = x
		}
	}
	a := &AccountError{Step: w.Step.Name}
	fault := func(format string, args ...any) { a.Faults = append(a.Faults, fmt.Sprintf(format, args...)) }
	t := st.Totals
	if t.Matched >= 0 && t.Changed+t.SetAside > t.Matched && !w.Undo {
		fault("%d rows were matched, but %d changed and %d set aside", t.Matched, t.Changed, t.SetAside)
	}
	if w.Kept != nil {
		if err := r.countKept(ctx, w, st, fault); err != nil {
			return err
		}
	}
	if w.Change.Call != nil && !w.Undo {
		if err := r.countLines(ctx, w, st, fault); err != nil {
			return err
		}
	}
	if !w.Undo && st.ToChange >= 0 && t.Changed+t.SetAside != st.ToChange {
		if err := r.explain(ctx, w, st, fault); err != nil {
			return err
		}
	}
	if len(a.Faults) > 0 {
		return a
	}
	return nil
}

// countKept holds the rows that are kept, of the step and of each of its acts, against
// those that were changed.
func (r *Runner) countKept(ctx context.Context, w *Work, st *ledger.Step, fault func(string, ...any)) error {
	count := func(kept *change.Kept) (n int64, err error) {
		q := change.CountKept(r.DB.Dialect(), kept, 0, math.MaxInt64)
		if err = r.DB.Pool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&n); err != nil {
			err = fmt.Errorf("counting the kept values: %w", err)
		}
		return n, err
	}
	kept, err := count(w.Kept)
	if err != nil {
		return err
	}
	changed := st.Totals.Changed
	if !w.Undo && kept != changed {
		fault("%d rows were changed, but %d are kept", changed, kept)
	}
	for i, a := range w.Acts {
		n, err := count(a.Kept)
		if err != nil {
			return err
		}
		if !w.Undo && n != st.Acts[i].Changed {
			fault("%d rows of %s were changed with them, but %d are kept", st.Acts[i].Changed, a.Change.Table, n)
		}
		kept, changed = kept+n, changed+st.Acts[i].Changed
	}
	if skipped := st.Totals.Skipped; w.Undo && changed+skipped != kept {
		fault("%d rows are kept, but %d were put back and %d skipped", kept, changed, skipped)
	}
	return nil
}

// countLines holds the lines of a list of which it is written what became of them against what was
// counted: each is called once, or was refused.
func (r *Runner) countLines(ctx context.Context, w *Work, st *ledger.Step, fault func(string, ...any)) error {
	counts, err := r.Ledger.Called(ctx, w.Change.Lines.List)
	if err != nil {
		return err
	}
	t, lines := st.Totals, w.Change.Lines.Lines
	if counts[change.Called] != t.Changed {
		fault("the statement was carried out for %d lines by the batches' own counts, and for %d by what is written of the lines", t.Changed, counts[change.Called])
	}
	if t.Changed+t.SetAside != lines {
		fault("%s has %d lines: the statement was carried out for %d, and %d were set aside", w.Change.Lines.File, lines, t.Changed, t.SetAside)
	}
	return nil
}

// explain looks why not as many rows were changed as were counted beforehand:
// rows that others have changed meanwhile are no fault.
func (r *Runner) explain(ctx context.Context, w *Work, st *ledger.Step, fault func(string, ...any)) error {
	if w.Kept == nil || !w.Change.AnswersAgain() {
		return nil // nothing is known of single rows, or the filter's answer has changed by itself
	}
	count := func(q *change.Query) (n int64, err error) {
		err = r.DB.JobPool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&n)
		return n, err
	}
	t := st.Totals
	if t.Changed > st.ToChange {
		twice, err := count(change.ChangedTwice(w.Change, w.Kept))
		if err == nil && twice > 0 {
			fault("%d rows were changed more than once", twice)
		}
		return err
	}
	certain, err := r.untouched(ctx, w.Change)
	if err != nil || certain == nil {
		return err
	}
	q := change.Missed(w.Change, w.Kept, certain)
	missed, err := count(q)
	switch {
	case err != nil && r.DB.Fault(err) == engine.Data: // a row that was set aside may be one that cannot even be looked at
		return nil
	case err != nil && w.Change.Whole() != w.Change && r.DB.Fault(err) == engine.Invalid: // its source was dropped once this was settled
		return nil
	case err == nil && missed > t.SetAside:
		fault("%d rows were to change and %d were; %d that match, and that nobody has written since, are as they were", st.ToChange, t.Changed, missed-t.SetAside)
	}
	return err
}

// remember takes down the state of the file as the run begins here, where that
// tells whether anybody else has written.
func (r *Runner) remember(ctx context.Context, s *engine.Session) {
	r.mark, r.marked = -1, s
	m, ok := r.DB.(engine.Marker)
	if !ok {
		return
	}
	tx, err := s.Start(ctx)
	if err != nil { // then only less can be told in the end
		return
	}
	defer tx.Rollback()
	if n, err := m.Mark(ctx, tx); err == nil {
		r.mark = n
	}
}

// untouched gives the condition for rows that nobody but this run has written
// since it began here, nor what the change reads besides; nil where that cannot be told.
func (r *Runner) untouched(ctx context.Context, c *change.Change) (func(q *change.Query, alias string), error) {
	switch db := r.DB.(type) {
	case engine.Witness: // which knows of the target's rows alone
		if r.Run.Options.Moment == "" || c.ReadsOthers() {
			return nil, nil
		}
		return func(q *change.Query, alias string) { db.Untouched(q, alias, r.Run.Options.Moment) }, nil
	case engine.Marker:
		if r.mark < 0 || r.marked != r.lead.session {
			return nil, nil
		}
		tx, err := r.lead.session.Start(ctx)
		if err != nil {
			return nil, err
		}
		defer tx.Rollback()
		now, err := db.Mark(ctx, tx)
		if err != nil || now != r.mark {
			return nil, err
		}
		return func(*change.Query, string) {}, nil
	}
	return nil, nil
}
