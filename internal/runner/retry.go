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

func (k *worker) sort(ctx context.Context, err error) verdict {
	switch {
	case err == nil:
		return goOn
	case ctx.Err() != nil:
		return giveUp
	case errors.Is(err, ledger.ErrMoved):
		return look
	}
	var stale *engine.StaleError
	if errors.As(err, &stale) || errors.Is(err, errAlone) {
		return again
	}
	var refused *engine.RefusedRow
	if errors.As(err, &refused) {
		return halve
	}
	switch k.DB.Fault(err) {
	case engine.Busy:
		return again
	case engine.Connection:
		return reconnect
	case engine.Data:
		return halve
	}
	return giveUp
}

// waitingForLock is what a run says while it waits for one.
const waitingForLock = "waiting for another session's lock"

// patiently repeats a small piece of work around the batches until it is done
// or clearly cannot be. The work must be all in one transaction.
func (k *worker) patiently(ctx context.Context, do func() error) error {
	for try := 1; ; try++ {
		err := do()
		switch k.sort(ctx, err) {
		case goOn:
			return nil
		case again:
			if try > busyTries {
				return err
			}
			k.tell(true, func(p *Progress) { p.Note = waitingForLock })
			if err := k.pause(ctx, try); err != nil {
				return err
			}
		case reconnect:
			if err := k.reconnect(ctx, err); err != nil {
				return err
			}
		default:
			if errors.Is(err, ledger.ErrTaken) {
				return k.taken()
			}
			return err
		}
	}
}

// unlessLocked does what is worth no wait for another session's lock, since it is
// done again later; it reports whether it is done.
func (k *worker) unlessLocked(ctx context.Context, do func() error) (done bool, err error) {
	switch err = do(); {
	case err == nil:
		return true, nil
	case k.sort(ctx, err) == again:
		return false, nil
	}
	err = k.patiently(ctx, do)
	return err == nil, err
}

// position reads the lane's place again, after a doubt.
func (k *worker) position(ctx context.Context, w *Work) error {
	k.prev = nil
	return k.patiently(ctx, func() error {
		tx, err := k.session.Start(ctx)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		before := k.lane.Batches
		err = k.Ledger.Position(ctx, tx, k.Run, w.Step.N, k.lane)
		if errors.Is(err, ledger.ErrTaken) {
			return k.taken()
		}
		if err != nil {
			return err
		}
		tx.Rollback()
		k.tell(false, func(p *Progress) { p.Batches += k.lane.Batches - before })
		// Counts as well: a batch whose commit went unanswered may be in the ledger.
		if k.lead {
			if err := k.recount(ctx, w); err != nil {
				return err
			}
		} else {
			k.mu.Lock()
			k.stale = true // others count meanwhile; read when they have ended
			k.mu.Unlock()
		}
		k.asideMu.Lock()
		defer k.asideMu.Unlock()
		return k.countAsides(ctx)
	})
}

// join connects for the first time. Another's lock, or on a cluster another node's
// commit, may be in the way of recording that we have the run.
func (k *worker) join(ctx context.Context) error {
	err := k.connect(ctx)
	if err == nil || errors.Is(err, ErrGuard) {
		return err
	}
	if f := k.DB.Fault(err); f == engine.Connection || f == engine.Busy {
		return k.reconnect(ctx, err)
	}
	return err
}

// reconnect opens a new session, patiently, after the old one was lost.
func (k *worker) reconnect(ctx context.Context, cause error) error {
	had := k.session != nil
	k.close()
	begin := time.Now()
	for try := 1; ; try++ {
		err := k.connect(ctx)
		if err == nil {
			if had {
				k.connected(ctx, cause, begin)
			}
			return nil
		}
		k.close() // it may hold the lock on the run already
		if errors.Is(err, ErrGuard) || errors.Is(err, ledger.ErrGone) || ctx.Err() != nil {
			return err
		}
		if time.Since(begin) > reconnectFor {
			return fmt.Errorf("the connection was lost or held up (%w) and could not be made for %v (%v); resume the run when the server is back", cause, reconnectFor, err)
		}
		if err := k.pause(ctx, try); err != nil {
			return err
		}
		select {
		case <-k.quit: // the crew ends for another reason
			return cause
		default:
		}
	}
}

// pause waits longer from try to try.
func (k *worker) pause(ctx context.Context, try int) error {
	wait := min(firstPause<<min(try, 10), longestPause)
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-k.Stop:
		return ErrStopped
	case <-k.quit:
		return nil
	case <-time.After(wait):
		return nil
	}
}
