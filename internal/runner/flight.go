package runner

import (
	"context"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
)

// flight is a batch whose commit is under way. Where that waits for a disk, the
// next batch changes its rows meanwhile, in a transaction on another session; its
// checkpoint moves only once this commit is known to have succeeded, in that same
// transaction still. So at any moment at most one batch is in doubt, as without.
//
// A worker has no more than one. Call land before waiting, stopping or reading
// state.
type flight struct {
	tx     *engine.Tx
	b      *ledger.Batch
	before ledger.Lane   // where the lane was
	done   chan struct{} // closed when the commit has ended,
	err    error         // so
}

// launch has a batch commit beside what comes next. The lane in memory is taken
// to be where it will be then.
func (k *worker) launch(ctx context.Context, tx *engine.Tx, b *ledger.Batch) {
	f := &flight{tx: tx, b: b, before: *k.lane, done: make(chan struct{})}
	k.flight = f
	k.lane.Checkpoint, k.lane.Batches, k.lane.Kept = b.To, b.N, b.Effect.Kept
	k.easing, k.heldUp = 0, 0
	go func() {
		defer close(f.done)
		f.err = tx.Commit(ctx)
	}()
}

// land waits for the commit that is under way, if there is one, and takes its
// batch into account. If it failed, the lane in memory is back where it was.
func (k *worker) land(ctx context.Context, w *Work) error {
	f := k.flight
	if f == nil {
		return nil
	}
	<-f.done
	k.flight = nil
	if f.err != nil {
		*k.lane = f.before
		return f.err
	}
	return k.committed(ctx, w, f.tx, f.b)
}
