package runner

import (
	"context"
	"fmt"
	"math"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// What became of the lines of a list is told once a step is done: of those whose rows are kept
// by what is kept; of those without a row, and of those that were set aside, it is written to
// the list. It goes in stretches, and can be done again.

// settledLines is how many lines are looked at in one transaction.
const settledLines = 4000

// outcomes settles what became of the lines that a step carried out.
func (r *Runner) outcomes(ctx context.Context, w *Work) error {
	if w.Undo || w.Change.Lines == nil {
		return nil
	}
	settle := r.lead.settleLines
	if w.Change.Call != nil {
		settle = r.lead.countCalls
	}
	err := r.lead.patiently(ctx, func() error { return settle(ctx, w) })
	if err != nil {
		return fmt.Errorf("recording what became of the lines of %s: %w", w.Change.Lines.File, err)
	}
	return nil
}

func (k *worker) settleLines(ctx context.Context, w *Work) error {
	c := w.Change
	t := w.Step.Totals
	all := c.Lines.All != "" && (t.Matched == c.Lines.Lines || t.Changed == c.Lines.Lines) // each has found its row, of which there is one at most
	if c.Lines.Missed == change.NoSuchKey && c.Verb != sqltext.Delete && !all {
		if err := k.settleMissed(ctx, c); err != nil {
			return err
		}
	}
	// Rows that were set aside, and not changed since.
	if k.Resumed {
		if err := k.settle1(ctx, change.Unsettle(c, change.Refused)); err != nil {
			return err
		}
	}
	asides, err := k.Ledger.Asides(ctx, k.Run.ID, math.MaxInt32)
	if err != nil {
		return err
	}
	for _, a := range asides {
		if a.Step == w.Step.N && !a.Retried {
			if err := k.settle1(ctx, change.SettleRow(c, a.Key, change.Refused)); err != nil {
				return err
			}
		}
	}
	return k.countLines(ctx, w)
}

// settleMissed says of lines for which there is no row that there is none.
func (k *worker) settleMissed(ctx context.Context, c *change.Change) error {
	return engine.NewWalk(k.DB, c.Lines.Table).Stretches(ctx, settledLines, func(r change.Range) error { return k.settle1(ctx, change.SettleMissed(c, r)) })
}

// countLines records how many lines have come to what, after the last of the changes that
// carry out the list.
func (k *worker) countLines(ctx context.Context, w *Work) error {
	var all []*Work
	for _, x := range k.Work {
		if x.Change.Lines != nil && x.Change.Lines.List == w.Change.Lines.List {
			all = append(all, x)
		}
	}
	if all[len(all)-1] != w {
		return nil
	}
	lines, err := k.Ledger.Lines(ctx, w.Change.Lines.List)
	if err != nil {
		return err
	}
	counts := map[change.Outcome]int64{}
	rest := map[string]int64{} // of each action, lines that have changed nothing and of which nothing else is recorded
	for action, n := range lines {
		for outcome, lines := range n {
			if outcome == "" {
				rest[action] += lines
			} else {
				counts[outcome] += lines
			}
		}
	}
	known := true
	for _, x := range all {
		switch {
		case x.Change.Lines.All != "" && len(all) == 1: // as many lines as rows
			counts[x.Change.Settles()] += x.Step.Totals.Changed
			rest[""] -= x.Step.Totals.Changed
		case x.Kept == nil: // of which some lines may be told already
			counts[x.Change.Settles()] = x.Step.Totals.Changed
			known = false
		default:
			changed, err := k.Ledger.KeptLines(ctx, x.Change, x.Kept)
			if err != nil {
				return err
			}
			for action, n := range changed {
				counts[x.Change.Settles()] += n
				rest[action] -= n
			}
		}
	}
	if known {
		for action, n := range rest {
			if action == "" {
				action = w.Change.Lines.All
			}
			if n < 0 { // rows that others have deleted since they were changed: there are none any more
				counts[change.NoSuchKey] += n
				continue
			}
			counts[change.Otherwise(action)] += n
		}
	}
	return k.apart(ctx, func(tx *engine.Tx) error { return k.Ledger.SetOutcomes(ctx, tx, k.Run.ID, w.Step.N, counts) })
}

// countCalls records for how many lines the statement was called, and how many were refused.
func (k *worker) countCalls(ctx context.Context, w *Work) error {
	counts, err := k.Ledger.Called(ctx, w.Change.Lines.List)
	if err != nil {
		return err
	}
	return k.apart(ctx, func(tx *engine.Tx) error { return k.Ledger.SetOutcomes(ctx, tx, k.Run.ID, w.Step.N, counts) })
}

// settle1 carries out one of these statements, in a transaction of its own.
func (k *worker) settle1(ctx context.Context, q *change.Query) error {
	return k.apart(ctx, func(tx *engine.Tx) error {
		_, err := tx.S.Conn.ExecContext(ctx, q.String(), q.Args...)
		return err
	})
}

// apart does something in a transaction of its own, and leaves others their turn.
func (k *worker) apart(ctx context.Context, do func(tx *engine.Tx) error) error {
	hold, err := k.session.InTx(ctx, do)
	if y, ok := k.DB.(engine.Yielder); ok && err == nil {
		return k.yield(ctx, y, hold)
	}
	return err
}
