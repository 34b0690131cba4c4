package runner

import (
	"context"
	"errors"
	"fmt"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/pace"
	"jugatum/internal/sqltext"
)

const (
	// lanesPerWorker evens out lanes that turn out longer than others: the last
	// one under way is a small part of the whole.
	lanesPerWorker = 4
	// leastLane is how many rows a lane has at least, where batches have no fixed
	// number: fewer than the first batch are not worth a session.
	leastLane = pace.First
	// reportEvery is how often what was seen of others is recorded while a crew works.
	reportEvery = time.Second
)

// step carries out one step.
func (r *Runner) step(ctx context.Context, w *Work, fresh bool) error {
	k := r.lead
	k.pacer.Anew(w.Change.Table.RowBytes)
	way := k.method(w)
	if w.Change.Late && !w.Undo {
		if err := k.patiently(ctx, func() error { return k.spare(ctx, w) }); err != nil {
			return err
		}
	}
	if fresh {
		if err := k.patiently(ctx, func() error {
			if err := k.make(ctx, w); err != nil {
				return err
			}
			if err := k.stage(ctx, w); err != nil {
				return err
			}
			end, rows, err := way.begin(ctx)
			if err != nil {
				return err
			}
			w.Step.TableRows = rows
			return r.Ledger.BeginStep(ctx, k.session, r.Run, w.Step, end)
		}); err != nil {
			return err
		}
	}
	if len(w.Step.Lanes) > 0 {
		end := w.Step.Lanes[0].End
		for _, l := range w.Step.Lanes { // the last one's, in key order, is the walk's; any of them will do to begin with
			if n, ok := l.End.Int(); ok {
				if m, _ := end.Int(); n > m {
					end = l.End
				}
			}
		}
		if err := k.patiently(ctx, func() error { return way.resume(ctx, end) }); err != nil {
			return err
		}
	}
	r.happens(Event{Kind: StepBegins, Work: w})
	t := w.Step.Totals
	begun := time.Now()
	r.tell(true, func(p *Progress) { // what is at work, before the first batch is done
		*p = Progress{Run: r.Run.ID, Undo: w.Undo, Step: w.Step.N, Steps: len(r.Work), Name: w.Step.Name, Batches: p.Batches, Scanned: t.Scanned, Matched: t.Matched, Changed: t.Changed,
			Skipped: t.Skipped, TableRows: w.Step.TableRows, ToChange: w.Step.ToChange, Log: p.Log, Worst: p.Worst, SetAside: r.asides.Load(), Lag: -1, begun: begun}
	})
	r.others.on(w.Step.N, w.Change)
	for {
		left := open(w.Step, way)
		if len(left) == 0 {
			break
		}
		want := r.wanted(w)
		if len(left) < want {
			if err := r.divide(ctx, w, way, left, want); err != nil {
				return err
			}
			left = open(w.Step, way)
		}
		var err error
		if want == 1 || len(left) == 1 {
			err = k.walk(ctx, w, way, left[0])
		} else {
			err = r.gather(ctx, w, way, left, want)
		}
		if err != nil && !errors.Is(err, errRegroup) {
			return err
		}
	}
	if r.stale {
		if err := r.recount(ctx, w); err != nil {
			return err
		}
	}
	err := k.patiently(ctx, func() error { return r.Ledger.EndStep(ctx, k.session, r.Run, w.Step) })
	if err == nil {
		way.drop(ctx)
	}
	return err
}

// make makes the table that the step moves rows to.
func (k *worker) make(ctx context.Context, w *Work) error {
	if len(w.Make) == 0 {
		return nil
	}
	err := k.Ledger.Ours(ctx, k.session, k.Run, func(tx *engine.Tx) error {
		for _, text := range w.Make {
			if _, err := tx.Exec(ctx, text); err != nil {
				return fmt.Errorf("making %s: %w", w.Change.Into.Table, err)
			}
		}
		return nil
	})
	if err == nil {
		w.Make = nil // what is tried again must not make it again
	}
	return err
}

// stage makes the table of the rows that the step looks up. One of an earlier try
// may be there; not one that another process goes by, which has the run then.
func (k *worker) stage(ctx context.Context, w *Work) error {
	if w.Staging == nil {
		return nil
	}
	k.tell(true, func(p *Progress) { p.Note = "reading the source once" })
	beside := engine.Temporary(k.DB, fmt.Sprintf("source_%d", w.Step.N))
	err := engine.StageBeside(ctx, k.DB, k.session, *w.Staging, beside, func(ctx context.Context, do func(*engine.Tx) error) error {
		return k.Ledger.Ours(ctx, k.session, k.Run, do)
	})
	if err != nil {
		return fmt.Errorf("reading the source: %w", err)
	}
	return nil
}

// unstage drops it, once nobody asks what the step should have done, unless rows were
// set aside, which are to be tried again with the very values.
func (k *worker) unstage(ctx context.Context, w *Work) {
	if w.Unstage != "" && k.asides.Load() == 0 {
		k.discard(ctx, w.Unstage)
	}
}

// discard drops a table of ours that is not needed any more. It may fail: then it is
// dropped with the run's others.
func (k *worker) discard(ctx context.Context, table string) {
	tx, err := k.session.Start(ctx)
	if err != nil {
		return
	}
	defer tx.Rollback()
	if _, err := tx.Exec(ctx, "DROP TABLE IF EXISTS "+table); err == nil {
		tx.Commit(ctx)
	}
}

// open lists the lanes of a step that are not finished.
func open(st *ledger.Step, way way) []*ledger.Lane {
	var out []*ledger.Lane
	for _, l := range st.Unfinished() {
		if !finished(l, way) {
			out = append(out, l)
		}
	}
	return out
}

// wanted is how many workers a step may have.
func (r *Runner) wanted(w *Work) int {
	if w.Undo || Alone(r.DB, w.Change, w.Step.Method) != "" {
		return 1
	}
	return max(r.Run.Options.Workers, 1)
}

// Alone says why only one worker may carry a change out, "" if several may.
func Alone(db engine.DB, c *change.Change, method string) string {
	if m, ok := db.(engine.ManyWriters); !ok || !m.ManyWriters() {
		return "this database has one writer at a time"
	}
	if method == "single" {
		return "it is one statement"
	}
	if c.Call != nil {
		return "lines are called in their order"
	}
	if c.ChangesKey() {
		return "it changes the key"
	}
	for _, x := range c.Table.Indexes {
		for _, name := range x.Columns {
			for _, s := range c.Set {
				if x.Unique && (s.Column.Name == name || name == "") {
					return "it changes a unique column, so the order of the rows matters"
				}
			}
		}
	}
	if len(c.Acts) > 0 {
		return "rows of other tables go with them, and come back in the order in which they went"
	}
	for _, fk := range c.Table.ReferredBy {
		if c.Verb == sqltext.Delete && fk.Own(c.Table) {
			return "rows of the table refer to each other, so the order of the rows matters"
		}
	}
	return ""
}

// divide cuts the lanes that are left into enough for the workers wanted.
func (r *Runner) divide(ctx context.Context, w *Work, way way, left []*ledger.Lane, want int) error {
	k := r.lead
	parts := (lanesPerWorker*want + len(left) - 1) / len(left)
	rows := max(w.Step.TableRows-max(w.Step.Totals.Scanned, 0), 0) / int64(len(left))
	least := int64(leastLane)
	if n := r.Run.Options.Batch; n > 0 {
		least = int64(n)
	}
	parts = int(min(int64(parts), rows/least))
	if parts < 2 {
		return nil
	}
	for _, lane := range left {
		var cuts []change.KeyValue
		err := k.patiently(ctx, func() error {
			var err error
			if cuts == nil {
				cuts, err = way.cut(ctx, lane, rows, parts)
			}
			if err != nil || len(cuts) == 0 {
				return err
			}
			return r.Ledger.Divide(ctx, k.session, r.Run, w.Step, lane, cuts)
		})
		if errors.Is(err, ledger.ErrMoved) { // the answer to its commit was lost
			return r.reload(ctx, w)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// reload reads a step's lanes and counts from the ledger.
func (r *Runner) reload(ctx context.Context, w *Work) error {
	return r.lead.patiently(ctx, func() error {
		now, err := r.Ledger.Load(ctx, r.Run.ID)
		if err != nil {
			return err
		}
		for _, st := range now.Steps {
			if st.N == w.Step.N {
				w.Step.Totals, w.Step.Lanes, w.Step.Acts = st.Totals, st.Lanes, st.Acts
			}
		}
		return nil
	})
}

// recount reads a step's counts from the ledger, where nobody else counts.
func (r *Runner) recount(ctx context.Context, w *Work) error {
	lanes := w.Step.Lanes
	err := r.reload(ctx, w)
	w.Step.Lanes, r.stale = lanes, false
	return err
}

// gather has a crew work the lanes, until they are done, another number of
// workers is wanted, or something ends the run. The lead looks after it.
func (r *Runner) gather(ctx context.Context, w *Work, way way, left []*ledger.Lane, want int) error {
	if err := r.lead.patiently(ctx, func() error { return r.lead.settlePrev(ctx) }); err != nil {
		return err
	}
	n := min(want, len(left))
	lanes := make(chan *ledger.Lane, len(left))
	for _, l := range left {
		lanes <- l
	}
	close(lanes)
	quit := make(chan struct{})
	ended := make(chan error, n)
	r.mu.Lock()
	r.crew, r.p.Workers = n, n
	tuned := r.tuned
	r.mu.Unlock()
	defer func() {
		r.mu.Lock()
		r.crew, r.p.Workers = 0, 0
		r.mu.Unlock()
	}()
	for range n {
		k := &worker{Runner: r, quit: quit}
		go func() { ended <- k.work(ctx, w, way.fork(k), lanes) }()
	}
	var first error
	tick := time.NewTicker(nap)
	defer tick.Stop()
	reported := time.Now()
	end := func(err error) {
		if err != nil && first == nil {
			first = err
			close(quit)
		}
	}
	for working := n; working > 0; {
		select {
		case err := <-ended:
			working--
			r.mu.Lock()
			r.p.Workers = working
			r.mu.Unlock()
			end(err)
		case <-tick.C:
			if first != nil {
				continue
			}
			err := r.lead.attend(ctx, &reported)
			if err == nil && r.tuned != tuned {
				tuned = r.tuned
				if r.wanted(w) != want {
					err = errRegroup
				}
			}
			end(err)
		}
	}
	return first
}

// attend is what the lead does while a crew works: signals, the lease, and the
// record of what was seen of others.
func (k *worker) attend(ctx context.Context, reported *time.Time) error {
	if err := k.listen(ctx); err != nil {
		return err
	}
	if err := k.renew(ctx); err != nil {
		return err
	}
	if k.others == nil || time.Since(*reported) < reportEvery {
		return nil
	}
	*reported = time.Now()
	k.others.take(&k.sight, false)
	if k.sight.samples == 0 && len(k.sight.waits) == 0 && len(k.sight.incidents) == 0 {
		return nil
	}
	return k.patiently(ctx, func() error {
		tx, err := k.session.Start(ctx)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if err := k.sight.keep(ctx, k.Ledger, tx, k.Run.ID); err != nil {
			return err
		}
		if err := tx.Commit(ctx); err != nil {
			return err
		}
		k.seen()
		return nil
	})
}

// work takes lanes and walks them until none is left.
func (k *worker) work(ctx context.Context, w *Work, way way, lanes <-chan *ledger.Lane) error {
	k.settle()
	k.pacer.Anew(w.Change.Table.RowBytes)
	err := k.join(ctx)
	defer k.close()
	if err != nil {
		return err
	}
	for lane := range lanes {
		select {
		case <-k.quit:
			return nil
		default:
		}
		if err = k.walk(ctx, w, way, lane); err == nil {
			err = k.patiently(ctx, func() error { return k.settlePrev(ctx) })
		}
		if err != nil {
			break
		}
	}
	if k.prev != nil && k.session != nil { // an error ended the loop; what it is said already
		k.settlePrev(context.WithoutCancel(ctx))
	}
	return err
}
