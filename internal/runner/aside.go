package runner

import (
	"context"
	"errors"
	"fmt"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
)

// narrow halves the batches from the one that failed on its data on, until the
// row that is at fault stands alone; after each that succeeds they double again.
type narrow struct{ rows int } // 0: as the pacer says

func (n *narrow) limit(rows int) int {
	if n.rows > 0 {
		return min(n.rows, rows)
	}
	return rows
}

func (n *narrow) failed(rows int) { n.rows = max(rows/2, 1) }

func (n *narrow) done(wanted int) {
	if n.rows *= 2; n.rows >= wanted {
		n.rows = 0
	}
}

// aside passes by the one row of r, which could not be changed because of
// cause, and records it; or gives the error with which the run ends, if no more
// rows may be set aside.
func (r *Runner) aside(ctx context.Context, w *Work, rng change.Range, cause error) error {
	key, values, err := engine.Row(ctx, r.DB, w.Change, rng)
	if err != nil {
		return err
	}
	if key == nil {
		key = rng.Hi
	}
	if int(r.asides) >= r.Run.Options.SetAside {
		if r.Run.Options.SetAside == 0 {
			return fmt.Errorf("row %s: %w; mend it, or let such rows be set aside (--set-aside)", key, cause)
		}
		return fmt.Errorf("row %s: %w; %d rows are set aside already, and no more may be (--set-aside)", key, cause, r.asides)
	}
	return r.patiently(ctx, func() error {
		tx, err := r.session.Start(ctx)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if err := r.Ledger.Fence(ctx, tx, r.Run.ID, w.Step, rng.Hi); err != nil {
			return err
		}
		if err := r.Ledger.SetAside(ctx, tx, r.Run.ID, &ledger.Aside{Step: w.Step.N, Key: key, New: values, Error: cause.Error()}); err != nil {
			return err
		}
		b := &ledger.Batch{Run: r.Run.ID, Step: w.Step.N, N: w.Step.Lane.Batches + 1, Began: time.Now(), To: rng.Hi, SetAside: 1, Waiters: -1,
			Effect: engine.Effect{Scanned: 1, Matched: 1, Kept: w.Step.Lane.Kept, Log: engine.NoLog}}
		if err := r.record(ctx, tx, w, b); err != nil {
			return err
		}
		if err := tx.Commit(ctx); err != nil {
			return err
		}
		b.Hold = tx.Hold
		r.prev = b
		r.asides++
		r.count(w, b, tx.Ends)
		return nil
	})
}

// retry tries the rows of a step once more that were set aside.
func (r *Runner) retry(ctx context.Context, w *Work) error {
	list, err := r.Ledger.Asides(ctx, r.Run.ID, 1_000_000)
	if err != nil {
		return err
	}
	for _, a := range list {
		if a.Step != w.Step.N || a.Retried {
			continue
		}
		select {
		case <-r.Stop:
			return ErrStopped
		default:
		}
		err := r.patiently(ctx, func() error { return r.again(ctx, w, a) })
		if errors.Is(err, ledger.ErrMoved) { // the answer to its commit was lost, and it is done
			err = r.position(ctx, w)
		}
		if err != nil && r.DB.Fault(err) == engine.Data {
			fault := err.Error()
			err = r.patiently(ctx, func() error {
				tx, err := r.session.Start(ctx)
				if err != nil {
					return err
				}
				defer tx.Rollback()
				if err := r.Ledger.Retry(ctx, tx, r.Run.ID, a, fault); err != nil {
					return err
				}
				return tx.Commit(ctx)
			})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// again changes one row that was set aside. A row that is gone, or that no
// longer matches, needs no change any more.
func (r *Runner) again(ctx context.Context, w *Work, a ledger.Aside) error {
	tx, err := r.session.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := r.Ledger.FenceAgain(ctx, tx, r.Run.ID, w.Step); err != nil {
		return err
	}
	b := &ledger.Batch{Run: r.Run.ID, Step: w.Step.N, N: w.Step.Lane.Batches + 1, Began: time.Now(), To: a.Key, SetAside: -1, Waiters: -1}
	if b.Effect, err = r.DB.Batch(ctx, tx, w.Change, w.Kept, change.Range{Hi: a.Key, At: a.Key}, w.Step.Lane.Kept); err != nil {
		return err
	}
	b.Effect.Scanned = 0 // it was counted when it was set aside
	b.Effect.Matched = min(b.Effect.Matched, 0)
	if err := r.Ledger.Retry(ctx, tx, r.Run.ID, a, ""); err != nil {
		return err
	}
	if err := r.record(ctx, tx, w, b); err != nil {
		return err
	}
	checkpoint := w.Step.Lane.Checkpoint
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	b.Hold = tx.Hold
	if tx.Log.Scope != "" {
		b.Effect.Log = tx.Log
	}
	r.prev = b
	r.asides--
	r.count(w, b, tx.Ends)
	w.Step.Lane.Checkpoint = checkpoint // it stays where it was
	r.watch()
	return nil
}
