package runner

import (
	"context"
	"errors"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
)

// calls goes through the lines of a list in their order, and has a statement carried out for each.
// Nothing is begun ahead: what a statement reads is not known.
type calls struct {
	simple
	w    *Work
	walk *engine.Walk
}

func (x *calls) begin(ctx context.Context) (change.KeyValue, int64, error) {
	end, err := x.walk.End(ctx)
	return end, x.w.Change.Lines.Lines, err
}

func (x *calls) resume(ctx context.Context, end change.KeyValue) error {
	return x.walk.Survey(ctx, end)
}

// next is one line where a procedure ends transactions itself: then a batch is what it commits.
func (x *calls) next(ctx context.Context, lane *ledger.Lane, n int) (stretch, error) {
	alone := x.w.Change.Call.Commits != ""
	if alone {
		n = 1
	}
	out := stretch{late: alone}
	var err error
	out.Range, out.rows, err = x.walk.Next(ctx, lane.Checkpoint, lane.End, n)
	return out, err
}

func (x *calls) batch(ctx context.Context, tx *engine.Tx, r change.Range) (engine.Effect, []ledger.Left, error) {
	e, err := x.k.carry(ctx, tx, x.w, r)
	return e, nil, err
}

func (x *calls) fork(k *worker) way { return &calls{simple{k}, x.w, x.walk} }

// errAlone says that a procedure ends transactions itself, and its lines are to be called one by one.
var errAlone = errors.New("the procedure ends the transaction that it is called in")

// call has the statement carried out for the lines of a range.
func (k *worker) call(ctx context.Context, tx *engine.Tx, w *Work, r change.Range) (engine.Effect, error) {
	k.mu.Lock()
	apart := k.Run.Options.SetAside > 0
	k.mu.Unlock()
	e, err := engine.Call(ctx, k.DB, tx, w.Change, r, apart)
	e.Kept = k.lane.Kept
	var ends *engine.EndsError
	if errors.As(err, &ends) && w.Change.Call.Commits == "" {
		w.Change.Call.Commits = "it commits or rolls back itself"
		return e, errAlone
	}
	return e, err
}
