package runner

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math"
	"slices"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
)

// mostAsides is how many rows that were set aside are read; nobody allows as many.
const mostAsides = 1_000_000

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
func (k *worker) aside(ctx context.Context, w *Work, rng change.Range, cause error) error {
	key, values, err := engine.Row(ctx, k.DB, w.Change, rng)
	if err != nil {
		return err
	}
	if key == nil {
		key = rng.Hi
	}
	var line *engine.LineError
	if errors.As(cause, &line) { // which line it is, is told with it
		cause = line.Err
	}
	k.asideMu.Lock() // rows set aside are numbered, and no more may be than allowed
	defer k.asideMu.Unlock()
	k.mu.Lock()
	most := k.Run.Options.SetAside
	k.mu.Unlock()
	known := w.spared[key.Encode()]
	if !known && int(k.asides.Load()) >= most {
		if w.Change.Call != nil {
			return fmt.Errorf("line %s: %w; fix it, or let such lines be set aside (--set-aside; %d are, %d may be)", key, cause, k.asides.Load(), most)
		}
		if most == 0 {
			if why := w.Change.AtOnce(); why != "" {
				return fmt.Errorf("row %s: %w; %s: undo this run, and change all rows at once (--method single)", key, cause, why)
			}
			return fmt.Errorf("row %s: %w; fix it, or let such rows be set aside (--set-aside)", key, cause)
		}
		return fmt.Errorf("row %s: %w; %d rows are set aside already, and no more may be (--set-aside)", key, cause, k.asides.Load())
	}
	return k.patiently(ctx, func() error {
		tx, err := k.session.Start(ctx)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if err := k.fence(ctx, tx, w, rng.Hi); err != nil {
			return err
		}
		sets := int64(0)
		if !known {
			sets = 1
			if err := k.Ledger.SetAside(ctx, tx, k.Run.ID, &ledger.Aside{Step: w.Step.N, Key: key, New: values, Error: cause.Error()}); err != nil {
				return err
			}
		}
		if w.Change.Call != nil {
			if err := engine.RefuseLine(ctx, k.DB, tx, w.Change, key, cause); err != nil {
				return err
			}
		}
		b := &ledger.Batch{Run: k.Run.ID, Step: w.Step.N, N: k.lane.Batches + 1, Began: time.Now(), To: rng.Hi, SetAside: sets, Waiters: -1, Lag: -1,
			Effect: engine.Effect{Scanned: 1, Matched: 1, Kept: k.lane.Kept, Log: engine.NoLog}}
		if err := k.record(ctx, tx, b); err != nil {
			return err
		}
		if err := tx.Commit(ctx); err != nil {
			return err
		}
		b.Hold = tx.Hold
		k.prev = b
		k.asides.Add(sets)
		k.count(w, b, tx.Ends)
		return nil
	})
}

// refused sets the rows of a batch aside for which no new value could be
// computed, or gives the error with which the run ends.
func (k *worker) refused(ctx context.Context, tx *engine.Tx, w *Work, b *ledger.Batch) error {
	b.Effect.Refused = slices.DeleteFunc(b.Effect.Refused, func(x *engine.RefusedRow) bool { return w.spared[x.Key.Encode()] })
	list := b.Effect.Refused
	k.mu.Lock()
	most := k.Run.Options.SetAside
	k.mu.Unlock()
	if int(k.asides.Load())+len(list) > most {
		if w.Change.Call != nil {
			return fmt.Errorf("line %s: %v; fix it, or let such lines be set aside (--set-aside; %d are, %d may be)", list[0].Key, list[0], k.asides.Load(), most)
		}
		return fmt.Errorf("%s: row %s: %v; fix the value, or let such rows be set aside (--set-aside; %d are, %d may be)", w.Change.Table, list[0].Key, list[0], k.asides.Load(), most)
	}
	for _, x := range list {
		if err := k.Ledger.SetAside(ctx, tx, k.Run.ID, &ledger.Aside{Step: w.Step.N, Key: x.Key, New: x.New, Error: x.Error()}); err != nil {
			return err
		}
	}
	b.SetAside = int64(len(list))
	return nil
}

// spare takes down the rows that a pass before the last one has set aside: what cannot be changed in one
// cannot in the other, and counts once.
func (k *worker) spare(ctx context.Context, w *Work) error {
	all, err := k.Ledger.Asides(ctx, k.Run.ID, mostAsides)
	if err != nil {
		return err
	}
	w.spared = map[string]bool{}
	for _, x := range k.Work {
		if x == w || x.Change.Of != w.Change.Of || !x.Change.Table.Shares(w.Change.Table) {
			continue
		}
		for _, a := range all {
			if a.Step == x.Step.N {
				w.spared[a.Key.Encode()] = true
			}
		}
	}
	return nil
}

// retry tries the rows of a step once more that were set aside.
func (k *worker) retry(ctx context.Context, w *Work) error {
	all, err := k.Ledger.Asides(ctx, k.Run.ID, mostAsides)
	if err != nil {
		return err
	}
	var list []ledger.Aside
	for _, a := range all {
		if a.Step == w.Step.N && !a.Retried {
			list = append(list, a)
		}
	}
	if len(w.Step.Lanes) > 0 {
		k.lane = w.Step.Lanes[0] // any one will do
	}
	for some := range slices.Chunk(list, askedAtOnce) {
		var late map[int]string
		if err := k.patiently(ctx, func() (err error) { late, err = k.overtaken(ctx, w, some); return err }); err != nil {
			return err
		}
		for i, a := range some {
			select {
			case <-k.Stop:
				return ErrStopped
			default:
			}
			changed, err := k.retryRow(ctx, w, a, late[i])
			if err != nil {
				return err
			}
			if changed && k.laterBegun(w) && !slices.Contains(k.Belated, w.Step.Name) {
				k.Belated = append(k.Belated, w.Step.Name)
			}
		}
	}
	return nil
}

// askedAtOnce is of how many rows one question to the kept values is.
const askedAtOnce = 200

// laterBegun reports whether a step after w has been at work already.
func (k *worker) laterBegun(w *Work) bool {
	at := slices.Index(k.Work, w)
	return slices.ContainsFunc(k.Work[at+1:], func(x *Work) bool { return x.Step.Status != "pending" })
}

// retryRow tries a row once more, unless a fault is known beforehand, and reports whether it
// went through.
func (k *worker) retryRow(ctx context.Context, w *Work, a ledger.Aside, fault string) (bool, error) {
	if fault == "" {
		err := k.patiently(ctx, func() error { return k.again(ctx, w, a) })
		if errors.Is(err, ledger.ErrMoved) { // the answer to its commit was lost, and it is done
			err = k.position(ctx, w)
		}
		if err == nil || k.sort(ctx, err) != halve {
			return err == nil, err
		}
		fault = err.Error()
	}
	return false, k.patiently(ctx, func() error {
		tx, err := k.session.Start(ctx)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if err := k.Ledger.Retry(ctx, tx, k.Run.ID, a, fault); err != nil {
			return err
		}
		return tx.Commit(ctx)
	})
}

// overtaken tells why rows of a step that were set aside, by their place in the list, are not to
// be tried again: a later step has changed them meanwhile. What comes after it would not be what
// the steps in their order come to, and neither of them could be taken back any more.
func (k *worker) overtaken(ctx context.Context, w *Work, list []ledger.Aside) (map[int]string, error) {
	out := map[int]string{}
	if w.Change.Call != nil || w.Undo { // what is called is the person's to know; an undo skips rows
		return out, nil
	}
	keys := make([]change.KeyValue, len(list))
	for i, a := range list {
		keys[i] = a.Key
	}
	for _, later := range k.Work[slices.Index(k.Work, w)+1:] {
		if later.Step.Status == "pending" {
			continue
		}
		if w.Change.Lines != nil && later.Change.Lines != nil && slices.Contains(w.Change.Lines.Later, later.Change.Lines.List) {
			for i, key := range keys {
				q := change.LinesOf(later.Change, key)
				var n int64
				if err := k.session.Conn.QueryRowContext(ctx, q.String(), q.Args...).Scan(&n); err != nil {
					return nil, err
				}
				if n > 0 {
					out[i] = "a later line of the list with the same key has been carried out since"
				}
			}
			continue
		}
		if later.Change.Of == w.Change.Of { // another part of the same step of the job, which is of other rows
			continue
		}
		fault, err := k.changedBy(ctx, w, later, keys)
		if err != nil {
			return nil, err
		}
		maps.Copy(out, fault)
	}
	return out, nil
}

// changedBy tells which of some rows of a step, by their place in the list, a later step has
// changed, and that in words.
func (k *worker) changedBy(ctx context.Context, w, later *Work, keys []change.KeyValue) (map[int]string, error) {
	out := map[int]string{}
	all := func(why string) {
		for i := range keys {
			out[i] = why
		}
	}
	d, own := k.DB.Dialect(), w.Change.Walked().Key
	for _, t := range w.tables() {
		if sides := later.Sides(); len(sides) == 0 && slices.ContainsFunc(later.tables(), t.Shares) {
			all(fmt.Sprintf("step %q has changed rows of %s since; which they were is not on record, as nothing is kept", later.Step.Name, t))
		}
		for _, x := range later.Sides() {
			if !t.Shares(x.Change.Table) {
				continue
			}
			ours := slices.EqualFunc(x.Kept.Keys, own.Columns, func(a change.KeptColumn, b *change.Column) bool { return a.Of.Name == b.Name })
			if !ours { // by other columns than those that tell our rows
				if last, err := ledger.PreviousKept(ctx, k.DB, x.Kept, math.MaxInt64); err != nil {
					return nil, err
				} else if last > 0 {
					all(fmt.Sprintf("step %q has changed rows of %s since, and by its key cannot be told whether this one's", later.Step.Name, t))
				}
				continue
			}
			ways := []*change.Kept{x.Kept}
			if moved := x.Kept.AfterRun(x.Change); !slices.Equal(moved.Keys, x.Kept.Keys) {
				ways = append(ways, moved) // it has come to a key of ours
			}
			for _, by := range ways {
				which, err := k.numbers(ctx, change.KeptAmong(d, x.Kept, by, keys))
				if err != nil {
					return nil, err
				}
				for _, i := range which {
					out[i] = fmt.Sprintf("step %q has changed the row since", later.Step.Name)
				}
			}
		}
	}
	return out, nil
}

// numbers reads the whole numbers that a query gives.
func (k *worker) numbers(ctx context.Context, q *change.Query) (out []int, err error) {
	rows, err := k.session.Conn.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var n int
		if err := rows.Scan(&n); err != nil {
			return nil, err
		}
		out = append(out, n)
	}
	return out, rows.Err()
}

// again changes one row that was set aside. A row that is gone, or that no
// longer matches, needs no change any more.
func (k *worker) again(ctx context.Context, w *Work, a ledger.Aside) error {
	tx, err := k.session.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	late := w.Change.Call != nil && w.Change.Call.Commits != "" // which may end the transaction
	fence := func() error {
		if err := k.Ledger.FenceAgain(ctx, tx, k.Run.ID, w.Step.N, k.lane); err != nil {
			return err
		}
		return engine.NumbersHold(ctx, k.DB, tx.S.Conn, w.Mark, w.Change.Table)
	}
	if !late {
		if err := fence(); err != nil {
			return err
		}
	}
	b := &ledger.Batch{Run: k.Run.ID, Step: w.Step.N, N: k.lane.Batches + 1, Began: time.Now(), To: a.Key, SetAside: -1, Waiters: -1, Lag: -1}
	if b.Effect, err = k.carry(ctx, tx, w, change.Range{Hi: a.Key, At: a.Key}); err != nil {
		return err
	}
	if len(b.Effect.Refused) > 0 {
		return b.Effect.Refused[0]
	}
	if late {
		if err := fence(); err != nil {
			return err
		}
	}
	b.Effect.Scanned = 0 // it was counted when it was set aside
	b.Effect.Matched = min(b.Effect.Matched, 0)
	if err := k.Ledger.Retry(ctx, tx, k.Run.ID, a, ""); err != nil {
		return err
	}
	if err := k.record(ctx, tx, b); err != nil {
		return err
	}
	checkpoint := k.lane.Checkpoint
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	b.Hold = tx.Hold
	if tx.Log.Scope != "" {
		b.Effect.Log = tx.Log
	}
	k.prev = b
	k.asides.Add(-1)
	k.count(w, b, tx.Ends)
	k.lane.Checkpoint = checkpoint // it stays where it was
	k.tell(true, nil)
	return nil
}
