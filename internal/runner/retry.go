package runner

import (
	"context"
	"errors"
	"fmt"
	"time"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
)

// verdict is what to do after a batch. This is the one place where it is
// decided whether an error is worth another try.
type verdict int

const (
	goOn verdict = iota
	again
	look
	reconnect
	halve
	giveUp
)

func (r *Runner) sort(ctx context.Context, err error) verdict {
	switch {
	case err == nil:
		return goOn
	case ctx.Err() != nil:
		return giveUp
	case errors.Is(err, ledger.ErrMoved):
		return look
	}
	switch r.DB.Fault(err) {
	case engine.Busy:
		return again
	case engine.Connection:
		return reconnect
	case engine.Data:
		return halve
	}
	return giveUp
}

// patiently repeats a small piece of work around the batches until it is done
// or clearly cannot be. The work must be all in one transaction.
func (r *Runner) patiently(ctx context.Context, do func() error) error {
	for try := 1; ; try++ {
		err := do()
		switch r.sort(ctx, err) {
		case goOn:
			return nil
		case again:
			if try > busyTries {
				return err
			}
			if err := r.pause(ctx, try); err != nil {
				return err
			}
		case reconnect:
			if err := r.reconnect(ctx, err); err != nil {
				return err
			}
		default:
			return err
		}
	}
}

// position reads the lane's place again, after a doubt.
func (r *Runner) position(ctx context.Context, w *Work) error {
	r.prev = nil
	return r.patiently(ctx, func() error {
		tx, err := r.session.Start(ctx)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		before := w.Step.Lane.Batches
		if err := r.Ledger.Position(ctx, tx, r.Run.ID, w.Step); err != nil {
			return err
		}
		r.p.Batches += w.Step.Lane.Batches - before
		tx.Rollback()
		// Counts as well: a batch whose commit went unanswered may be in the ledger.
		now, err := r.Ledger.Load(ctx, r.Run.ID)
		if err != nil {
			return err
		}
		for _, st := range now.Steps {
			if st.N == w.Step.N {
				w.Step.Totals = st.Totals
			}
		}
		r.asides, err = r.Ledger.AsideCount(ctx, r.Run.ID)
		return err
	})
}

// reconnect opens a new session, patiently, after the old one was lost.
func (r *Runner) reconnect(ctx context.Context, cause error) error {
	if r.session != nil {
		r.session.Close()
	}
	begin := time.Now()
	for try := 1; ; try++ {
		err := r.connect(ctx)
		if err == nil {
			return nil
		}
		if errors.Is(err, ErrGuard) || ctx.Err() != nil {
			return err
		}
		if time.Since(begin) > reconnectFor {
			return fmt.Errorf("the connection was lost (%w) and could not be made again for %v; resume the run when the server is back", cause, reconnectFor)
		}
		if err := r.pause(ctx, try); err != nil {
			return err
		}
	}
}

// pause waits longer from try to try.
func (r *Runner) pause(ctx context.Context, try int) error {
	wait := min(firstPause<<min(try, 10), longestPause)
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-r.Stop:
		return ErrStopped
	case <-time.After(wait):
		return nil
	}
}
