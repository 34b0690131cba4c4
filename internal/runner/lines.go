package runner

import (
	"context"
	"fmt"
	"math"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
)

// What became of the lines of a list is told once a step is done: of those whose rows are kept
// by what is kept, of all others by whether there is such a row then. It goes in stretches,
// and can be done again.

// settledLines is how many lines, or kept rows, are settled in one transaction.
const settledLines = 4000

// outcomes settles what became of the lines that a step carried out. Where nothing was kept,
// that is not known.
func (r *Runner) outcomes(ctx context.Context, w *Work) error {
	if w.Undo || w.Change.Lines == nil || w.Kept == nil {
		return nil
	}
	return r.lead.patiently(ctx, func() error { return r.lead.settleLines(ctx, w) })
}

func (k *worker) settleLines(ctx context.Context, w *Work) error {
	fail := func(err error) error {
		return fmt.Errorf("recording what became of the lines of %s: %w", w.Change.Lines.File, err)
	}
	if err := k.settleKept(ctx, w); err != nil {
		return fail(err)
	}
	// Rows that were set aside, and not changed since.
	if err := k.settle1(ctx, change.Unsettle(w.Change, change.Refused)); err != nil {
		return fail(err)
	}
	asides, err := k.Ledger.Asides(ctx, k.Run.ID, math.MaxInt32)
	if err != nil {
		return fail(err)
	}
	for _, a := range asides {
		if a.Step == w.Step.N && !a.Retried {
			if err := k.settle1(ctx, change.SettleRow(w.Change, a.Key, change.Refused)); err != nil {
				return fail(err)
			}
		}
	}
	walk := engine.NewWalk(k.DB, w.Change.Lines.Table)
	end, err := walk.End(ctx)
	if err != nil || end == nil {
		return fail(err)
	}
	for at := (change.KeyValue)(nil); at == nil || at.Encode() != end.Encode(); {
		rng, _, err := walk.Next(ctx, at, end, settledLines)
		if err != nil {
			return fail(err)
		}
		for _, outcome := range w.Change.Rest() {
			if err := k.settle1(ctx, change.SettleRest(w.Change, outcome, rng)); err != nil {
				return fail(err)
			}
		}
		at = rng.Hi
	}
	return nil
}

// settleKept settles the lines of which rows are kept.
func (k *worker) settleKept(ctx context.Context, w *Work) error {
	if p, ok := k.DB.(engine.KeptReader); ok {
		if err := p.PrepareKept(ctx, w.Kept); err != nil {
			return err
		}
	}
	last, err := ledger.PreviousKept(ctx, k.DB, w.Kept, math.MaxInt64)
	if err != nil {
		return err
	}
	for from := int64(0); from < last; {
		if from, err = ledger.NextKept(ctx, k.DB, w.Kept, from, last); err != nil || from >= last {
			return err
		}
		to := min(change.AddInt(from, settledLines), last)
		if err := k.settle1(ctx, change.SettleKept(w.Change, w.Kept, from, to)); err != nil {
			return err
		}
		from = to
	}
	return nil
}

// settle1 carries out one of these statements, in a transaction of its own.
func (k *worker) settle1(ctx context.Context, q *change.Query) error {
	tx, err := k.session.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := k.session.Conn.ExecContext(ctx, q.String(), q.Args...); err != nil {
		return err
	}
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	if y, ok := k.DB.(engine.Yielder); ok {
		return k.yield(ctx, y, tx.Hold)
	}
	return nil
}
