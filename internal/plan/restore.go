package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
	"jugatum/internal/sqltext"
)

// RestoreLoosely makes the plan of a run that is to be taken back or held against
// the database; where its job cannot be read any more, from the record of its steps.
func RestoreLoosely(ctx context.Context, db engine.DB, r *ledger.Run) (*Plan, error) {
	p, err := Restore(ctx, db, r)
	if err == nil || p == nil {
		return p, err
	}
	p.Unreadable = err
	if lerr := p.fromRecord(ctx, r); lerr != nil {
		return nil, lerr
	}
	return p, nil
}

// Restore makes the plan of a run that is in the ledger.
func Restore(ctx context.Context, db engine.DB, r *ledger.Run) (*Plan, error) {
	j, err := job.Restore(r.Source)
	if err != nil {
		return nil, err
	}
	p := &Plan{DB: db, Job: j, Values: r.Params, Digest: r.Digest, recordedLists: true}
	if err := p.restoreLists(ctx); err != nil {
		return p, err
	}
	return p, p.build(ctx)
}

// A run may have to be taken back or verified when its job means nothing any more,
// since a column, a function or a table that it speaks of is gone. What was kept
// can be put back all the same, as far as there are columns for it.

// fromRecord makes the changes of a run from what the ledger says of its steps,
// without its job.
func (p *Plan) fromRecord(ctx context.Context, r *ledger.Run) error {
	p.Changes = nil
	for _, st := range r.Steps {
		if st.Verb == sqltext.Calling.String() {
			c, err := p.recordedCall(ctx, st, r)
			if err != nil {
				return err
			}
			p.Changes = append(p.Changes, c)
			continue
		}
		t, err := p.DB.Table(ctx, st.TableSchema, st.TableName)
		if err != nil {
			return fmt.Errorf("step %q of run %d: %w", st.Name, r.ID, err)
		}
		c := p.recorded(st.Name, st.Verb, t, st.SetColumns, r.Params)
		if c.Of = p.Job.Of(st.Name); c.Of < 0 {
			return Refusef("run %d has a step %q that its job does not have: the ledger was changed by hand", r.ID, st.Name)
		}
		if st.Verb == "move" || st.Verb == "copy" || st.Verb == "insert" {
			if c.Into, err = p.intoOf(ctx, st, t); err != nil {
				return err
			}
		}
		p.Changes = append(p.Changes, c)
	}
	return nil
}

// fit leaves out of a layout what the kept-values table or the table itself has
// not, and gives the columns whose old values have nowhere to go.
func fit(ctx context.Context, db engine.DB, c *change.Change, kept *change.Kept) (lost []string, err error) {
	rows, err := db.Pool().QueryContext(ctx, "SELECT * FROM "+kept.Table+" LIMIT 0")
	if err != nil {
		return nil, fmt.Errorf("the kept values of step %q cannot be read: %w", c.Step, err)
	}
	names, err := rows.Columns()
	rows.Close()
	if err != nil {
		return nil, err
	}
	goes := func(k change.KeptColumn) bool {
		return !slices.Contains(names, k.Name) || c.Table.Named(k.Of.Name) == nil
	}
	numbered := slices.ContainsFunc(names, func(s string) bool { return strings.HasPrefix(s, "old_column_") })
	before := len(kept.Old)
	kept.Old, kept.New = slices.DeleteFunc(kept.Old, goes), slices.DeleteFunc(kept.New, goes)
	for _, name := range names {
		if strings.HasPrefix(name, "old_") && !slices.ContainsFunc(kept.Old, func(k change.KeptColumn) bool { return k.Name == name }) {
			lost = append(lost, strings.TrimPrefix(name, "old_"))
		}
	}
	if c.Verb == sqltext.Delete && numbered && (len(lost) > 0 || len(kept.Old) < before) {
		return nil, Refusef("step %q: the columns of %s are others than when its rows were deleted, and names that are too long for %s are numbered there, so that nobody knows which is which: put the rows back by hand", c.Step, c.Table, kept.Table)
	}
	if len(kept.Old) == 0 {
		return nil, Refusef("step %q: %s has none of the columns any more whose values were kept (%s)", c.Step, c.Table, strings.Join(lost, ", "))
	}
	return lost, nil
}

// FitAll fits the layouts for all steps, and says what is lost. Tables that others may have
// made are not read, unless the person at work trusts them.
func FitAll(ctx context.Context, db engine.DB, work []*runner.Work, trusting bool) (lost []string, err error) {
	one := func(c *change.Change, kept *change.Kept) error {
		if g, ok := db.(engine.KeptGuard); ok && !trusting {
			if err := g.TrustKept(ctx, kept); err != nil {
				return err
			}
		}
		columns, err := fit(ctx, db, c, kept)
		if len(columns) > 0 {
			lost = append(lost, fmt.Sprintf("%s of %s, whose old values stay in %s", strings.Join(columns, ", "), c.Table, kept.Table))
		}
		return err
	}
	for _, w := range work {
		if w.Kept == nil {
			continue
		}
		if err := one(w.Change, w.Kept); err != nil {
			return nil, err
		}
		for _, a := range w.Acts {
			if err := one(a.Change, a.Kept); err != nil {
				return nil, err
			}
		}
	}
	return lost, nil
}

// Prepare makes a run's steps ready from the ledger, for an undo as well.
func Prepare(ctx context.Context, db engine.DB, l *ledger.Ledger, r *ledger.Run) (*Plan, []*runner.Work, error) {
	p, err := RestoreLoosely(ctx, db, r)
	if err != nil {
		return nil, nil, err
	}
	work, err := p.Work(ctx, l, r)
	if err != nil || r.UndoOf == 0 {
		return p, work, err
	}
	orig, err := l.Load(ctx, r.UndoOf)
	if err != nil {
		return nil, nil, err
	}
	if err := l.Coherent(ctx, orig); err != nil {
		return nil, nil, err
	}
	return p, work, AsUndo(work, l, orig)
}

// AsUndo turns the steps of a run into those that take another back.
func AsUndo(work []*runner.Work, l *ledger.Ledger, orig *ledger.Run) error {
	for _, w := range work {
		for _, st := range orig.Steps {
			if st.Name == w.Step.Name {
				w.Undo, w.UpTo, w.Rows = true, st.LastKept(), st.Totals.Changed
				w.Mark = mark(l, orig, st, w.Change.Table)
				for _, a := range st.Acts {
					w.Rows += a.Changed
				}
			}
		}
		if !w.Undo {
			return Refusef("step %q is not in run %d", w.Step.Name, orig.ID)
		}
	}
	return nil
}
