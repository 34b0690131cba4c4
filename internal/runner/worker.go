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
)

// worker walks lanes, one after the other, on a session of its own. The lead
// holds the right to work on the run, and alone hears signals, renews the lease
// and records others' waits; where it has a crew it does no batches itself.
type worker struct {
	*Runner
	lead bool
	quit <-chan struct{} // closed: the crew is to end after the batches under way; nil for the lead

	session *engine.Session
	pacer   pace.Pacer
	tunedAt int // the options that the pacer goes by
	lane    *ledger.Lane
	flight  *flight // nil: no commit is under way
	prev    *ledger.Batch
	size    int           // rows that the next batch may have
	rng     change.Range  // of the batch that was tried last
	easing  time.Duration // paused since the last batch
	why     string        // the reason, or that for fewer rows
	behind  time.Duration // how far a replica was then
	heldUp  time.Duration // between tries of the next batch, by others' locks
	told    bool          // that no batches are made while the run is paused
	looked  int64         // last look at others that a batch's record has taken in

	overshot bool // a batch took far more than the hold target: perhaps its values were large
}

// errRegroup says that the number of workers wanted is another one now.
var errRegroup = errors.New("the number of workers is to be another one")

// dial opens a session of the run's.
func (k *worker) dial(ctx context.Context) (*engine.Session, error) {
	k.mu.Lock()
	hold := k.Run.Options.Hold
	k.mu.Unlock()
	s, err := k.DB.Session(ctx, engine.SessionOptions{Purpose: fmt.Sprintf("jugatum run %d", k.Run.ID), LockTimeout: max(hold, 50*time.Millisecond)})
	if err != nil {
		return nil, err
	}
	k.others.working(s.ID)
	if s.ID != 0 {
		k.mu.Lock()
		k.opened = append(k.opened, s.ID)
		k.mu.Unlock()
	}
	return s, nil
}

// hangUp ends a session of the run's.
func (k *worker) hangUp(s *engine.Session) {
	k.others.gone(s.ID)
	s.Close()
}

// open opens the worker's session without asking for the right to work on the run.
func (k *worker) open(ctx context.Context) error {
	s, err := k.dial(ctx)
	if err == nil {
		k.session = s
	}
	return err
}

// gentle reports whether others are not to wait for us: then one session of ours
// at a time is at work, and leaves them the server's other processors.
func (k *worker) gentle() bool { return k.pacer.Limits.Waiters != nil }

// close ends the session.
func (k *worker) close() {
	if k.session != nil {
		k.hangUp(k.session)
		k.session = nil
	}
}

// connect opens the session and, for the lead, makes sure that nobody else
// works on the run.
func (k *worker) connect(ctx context.Context) error {
	if err := k.open(ctx); err != nil {
		return err
	}
	if !k.lead {
		err := k.Ledger.StillOurs(ctx, k.session, k.Run)
		if errors.Is(err, ledger.ErrTaken) {
			return k.taken()
		}
		return err
	}
	locker, ok := k.DB.(engine.RunLocker)
	if ok = ok && locker.HasRunLock(); ok {
		got, err := locker.LockRun(ctx, k.session, k.Run.ID, lockRunWait)
		if err != nil {
			return err
		}
		if !got {
			k.Ledger.StillOurs(ctx, k.session, k.Run) // or who has it now
			return k.taken()
		}
	}
	err := k.Ledger.Claim(ctx, k.session, k.Run, !ok)
	if errors.Is(err, ledger.ErrTaken) {
		return k.taken()
	}
	return err
}

// walk works a lane to its end.
func (k *worker) walk(ctx context.Context, w *Work, way way, lane *ledger.Lane) error {
	k.lane = lane
	defer func() {
		k.land(ctx, w) // if it failed, resume will see so
		way.end()
	}()
	retries, moved := 0, 0
	var narrow narrow
	for !finished(lane, way) || k.flight != nil {
		select {
		case <-k.Stop:
			return ErrStopped
		case <-k.quit:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		default:
		}
		rows, leave, err := k.advance(ctx, w, way, &narrow, retries)
		if leave {
			return err
		}
		if errors.Is(err, errCareful) || errors.Is(err, errAlone) {
			continue
		}
		switch k.sort(ctx, err) {
		case goOn:
			if rows > 0 { // else it has only waited
				retries, moved = 0, 0
				narrow.done(rows)
				k.tell(true, nil)
			}
		case look:
			if moved++; moved > busyTries { // the ledger contradicts itself
				return fmt.Errorf("%s: %s: %w, %d times in a row, and is not found elsewhere", w.Change.Table, place(lane.Checkpoint), err, moved)
			}
			if err := k.position(ctx, w); err != nil {
				return err
			}
			retries = 0
		case again:
			retries++
			k.pacer.Failed()
			if retries > patientTries { // others write these very rows; fewer of them are met less often
				narrow.failed(k.size)
			}
			if retries > busyTries {
				return fmt.Errorf("another session's locks were in the way %d times in a row: %w; resume when it has ended", retries, err)
			}
			k.happens(Event{Kind: Retrying, Work: w, Why: err.Error(), Tried: retries})
			k.tell(true, func(p *Progress) { p.Note = waitingForLock })
			held := time.Now()
			if err := k.pause(ctx, retries); err != nil {
				return err
			}
			k.heldUp += time.Since(held)
		case reconnect:
			k.happens(Event{Kind: Retrying, Work: w, Why: err.Error(), Tried: 1})
			k.tell(true, func(p *Progress) { p.Note = "connection lost, trying again" })
			way.end()
			if err := k.reconnect(ctx, err); err != nil {
				return err
			}
			k.pacer.Anew(w.Change.Table.RowBytes)
			if err := k.position(ctx, w); err != nil {
				return err
			}
		case halve:
			if way.once() || w.Undo {
				return fmt.Errorf("%s: %s: %w", w.Change.Table, place(lane.Checkpoint), err)
			}
			if k.size > 1 {
				narrow.failed(k.size)
				continue
			}
			cause := err
			err = k.aside(ctx, w, k.rng, cause)
			if err == nil {
				k.happens(Event{Kind: AsideSet, Work: w, Key: k.rng.Hi.String(), Why: cause.Error()})
			}
			if errors.Is(err, ledger.ErrMoved) { // the answer to its commit was lost
				err = k.position(ctx, w)
			}
			if err != nil {
				return fmt.Errorf("%s: %w", w.Change.Table, err)
			}
			narrow.done(k.size)
			k.tell(true, nil)
		default:
			if w.Change.Call != nil {
				return fmt.Errorf("%s: %w", w.Change.Table, err)
			}
			return fmt.Errorf("%s: %s: %w", w.Change.Table, place(lane.Checkpoint), err)
		}
	}
	return nil
}

// advance waits where that is due, or carries out the next batch, for which so
// many rows were wanted; 0 if there was none. With leave, the walk is to end.
func (k *worker) advance(ctx context.Context, w *Work, way way, narrow *narrow, retries int) (rows int, leave bool, err error) {
	if finished(k.lane, way) {
		return 0, false, k.land(ctx, w)
	}
	if err := k.heed(ctx, w); err != nil {
		if lerr := k.land(ctx, w); lerr != nil && errors.Is(err, errRegroup) {
			k.tunedAt = -1 // once the lane's place is known again
			return 0, false, lerr
		}
		return 0, true, err
	}
	if note := k.held(); note != "" {
		if err := k.land(ctx, w); err != nil {
			return 0, false, err
		}
		way.rest()
		k.why = "paused"
		k.pacer.Anew(w.Change.Table.RowBytes)
		if !k.told {
			k.happens(Event{Kind: Waiting, Work: w, Why: note})
		}
		k.told = true
		begun := time.Now()
		err := k.wait(ctx, 2*nap, note)
		k.tell(false, func(p *Progress) { p.Idle += time.Since(begun) / time.Duration(max(k.crew, 1)) })
		return 0, err != nil, err
	}
	k.told = false
	pressure := k.others.pressure()
	decision := k.pacer.Next(pressure)
	if k.easing == 0 || decision.Why != "" && pressure.Lag.Age >= k.behind { // else the reason of the pause, at its worst
		k.why, k.behind = decision.Why, pressure.Lag.Age
	}
	k.tell(false, func(p *Progress) {
		p.Waiters, p.Lag, p.Replica = pressure.Waiters, pressure.Lag.Age, pressure.Replica
	})
	if decision.Pause > 0 {
		if err := k.land(ctx, w); err != nil {
			return 0, false, err
		}
		if decision.Pause > nap {
			way.rest()
		}
		k.happens(Event{Kind: Waiting, Work: w, Why: decision.Why, For: decision.Pause})
		if err := k.wait(ctx, decision.Pause, decision.Why); err != nil {
			return 0, true, err
		}
	}
	if decision.Rows == 0 || k.held() != "" || k.retuned() {
		return 0, false, nil
	}
	k.size = narrow.limit(decision.Rows)
	target := k.pacer.Target
	if k.pacer.Fixed > 0 {
		target = 0
	}
	k.tell(false, func(p *Progress) { p.Size, p.Target, p.Note = k.size, target, decision.Why })
	return decision.Rows, false, k.batch(ctx, w, way, retries)
}

// place tells where in a lane its next batch is.
func place(done change.KeyValue) string {
	if done == nil {
		return "in the first batch"
	}
	return "in the batch after key " + done.String()
}

// heed attends to what may have changed between batches.
func (k *worker) heed(ctx context.Context, w *Work) error {
	if k.lead {
		if err := k.listen(ctx); err != nil {
			return err
		}
		if k.tunedAt == k.tuned {
			return nil
		}
		k.settle()
		if k.wanted(w) > 1 {
			return errRegroup
		}
		return nil
	}
	if k.retuned() {
		k.settle()
	}
	return nil
}

// held is why no batches are to be made now, "" if they are.
func (k *worker) held() string {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.paused
}

// batch carries out the next batch in one transaction. The lane in memory
// moves only when the commit has succeeded, or, where it is left under way, is
// taken back if it has not. After an error no commit is under way.
func (k *worker) batch(ctx context.Context, w *Work, way way, retries int) (err error) {
	defer func() {
		if err == nil {
			return
		}
		if lerr := k.land(ctx, w); lerr != nil {
			err = lerr
		}
	}()
	next, err := way.next(ctx, k.lane, k.size)
	if err != nil {
		return err
	}
	rng, rows := next.Range, next.rows
	k.rng = rng
	session, overlaps := way.turn(ctx)
	if !overlaps {
		if err := k.land(ctx, w); err != nil {
			return err
		}
	}
	tx, err := next.outlook.Begin(ctx, k.DB, session)
	if err != nil {
		return err
	}
	launched := false
	defer func() {
		if !launched {
			tx.Rollback()
		}
	}()
	b := &ledger.Batch{Run: k.Run.ID, Step: w.Step.N, N: k.lane.Batches + 1, Began: time.Now(), To: rng.Hi, LockWait: tx.Wait, Retries: retries, Pause: k.easing, Why: k.why, Waiters: -1, Lag: -1}
	late := k.flight != nil || next.late // then the checkpoint moves after the change
	if !late {
		if err := k.fence(ctx, tx, w, rng.Hi); err != nil {
			return err
		}
	}
	var left []ledger.Left
	if b.Effect, left, err = way.batch(ctx, tx, rng); err != nil {
		return err
	}
	if late {
		if err := k.land(ctx, w); err != nil {
			return err
		}
		if err := k.fence(ctx, tx, w, rng.Hi); err != nil {
			return err
		}
	}
	b.Skipped = int64(len(left))
	if len(b.Effect.Refused) > 0 {
		k.asideMu.Lock() // rows set aside are numbered, and no more may be than allowed
		defer k.asideMu.Unlock()
		if err := k.refused(ctx, tx, w, b); err != nil {
			return err
		}
	}
	switch {
	case rows >= 0:
		b.Effect.Scanned = rows
	case next.most > 0: // a plan may read rows outside the range, or some of it twice
		b.Effect.Scanned = min(b.Effect.Scanned, int64(next.most))
	}
	if len(left) > 0 {
		if err := k.Ledger.RecordSkipped(ctx, tx, k.Run.ID, left); err != nil {
			return err
		}
	}
	if lt, ok := k.DB.(engine.LockTeller); ok && engine.Measured {
		if b.Locks, err = lt.Locks(ctx, tx); err != nil {
			return err
		}
	}
	b.LockWait += k.others.waited(tx.S.ID) + k.heldUp
	if err := k.record(ctx, tx, b); err != nil {
		return err
	}
	if k.lead && tx.S == k.session && time.Since(k.beat) > heartbeatRate {
		if err := k.Ledger.Beat(ctx, tx, k.Run.ID); err != nil {
			return err
		}
		k.beat = time.Now()
	}
	if overlaps && len(b.Effect.Refused) == 0 {
		k.launch(ctx, tx, b)
		launched = true
		return nil
	}
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	return k.committed(ctx, w, tx, b)
}

// fence has the lane end with a batch that reaches up to a key, if everything stands where we
// think.
func (k *worker) fence(ctx context.Context, tx *engine.Tx, w *Work, to change.KeyValue) error {
	if err := k.Ledger.Fence(ctx, tx, k.Run.ID, w.Step.N, k.lane, to); err != nil {
		return err
	}
	return engine.NumbersHold(ctx, k.DB, tx.S.Conn, w.Mark, w.Change.Table)
}

// committed takes a batch into account.
func (k *worker) committed(ctx context.Context, w *Work, tx *engine.Tx, b *ledger.Batch) error {
	b.Hold = tx.Hold
	if tx.Log.Scope != "" { // told only at the commit
		b.Effect.Log = tx.Log
	}
	k.asides.Add(int64(len(b.Effect.Refused)))
	for _, x := range b.Effect.Refused {
		k.happens(Event{Kind: AsideSet, Work: w, Key: x.Key.String(), Why: x.Error()})
	}
	k.prev, k.easing, k.heldUp = b, 0, 0
	k.count(w, b, tx.Ends)
	if k.lead && tx.S != k.session { // which has the lock on the run, and must not seem idle
		if err := k.renew(ctx); err != nil {
			return err
		}
	}
	if y, ok := k.DB.(engine.Yielder); ok {
		return k.yield(ctx, y, b.Hold)
	}
	return nil
}

// record writes a batch into the ledger, and with it what is known only now of
// the one before, and of others' waits.
func (k *worker) record(ctx context.Context, tx *engine.Tx, b *ledger.Batch) error {
	if !k.lead { // what was seen the lead records
		if p := k.others.pressure(); p.Sample > k.looked {
			k.looked = p.Sample
			b.Waiters, b.Lag = max(b.Waiters, p.Waiters), max(b.Lag, p.Lag.Age)
		}
		return k.Ledger.Record(ctx, tx, k.lane, b, k.prev)
	}
	k.others.take(&k.sight, false)
	b.Waiters, b.Lag = max(b.Waiters, k.sight.most), max(b.Lag, k.sight.lag)
	if err := k.Ledger.Record(ctx, tx, k.lane, b, k.prev); err != nil {
		return err
	}
	return k.sight.keep(ctx, k.Ledger, tx, k.Run.ID)
}

// yield ignores a cancelled context: the batch is done and the loop will see it.
func (k *worker) yield(ctx context.Context, y engine.Yielder, hold time.Duration) error {
	if err := y.Yield(ctx, k.session, hold); err != nil && ctx.Err() == nil {
		return err
	}
	return nil
}

// count takes a finished batch into account.
func (k *worker) count(w *Work, b *ledger.Batch, commit time.Duration) {
	if k.lead {
		k.seen() // it was committed with the batch
	}
	k.lane.Checkpoint, k.lane.Batches, k.lane.Kept = b.To, b.N, b.Effect.Kept
	e := b.Effect
	size := int(e.Scanned)
	if e.Scanned < 0 {
		size = k.size
	}
	k.happens(Event{Kind: BatchDone, Work: w, Lane: k.lane.N, Batch: b})
	k.pacer.Finished(size, int(e.Changed), b.Hold-commit, commit, e.Log.Bytes, time.Now())
	k.overshot = k.overshot || k.pacer.Target > 0 && k.pacer.Fixed == 0 && b.Hold > pace.Overshoot*k.pacer.Target
	k.mu.Lock()
	defer k.mu.Unlock()
	t, p := &w.Step.Totals, &k.p
	t.Batches++
	t.Changed += e.Changed
	for i, n := range e.Acts {
		w.Step.Acts[i].Changed += n
	}
	t.Skipped += b.Skipped
	t.Scanned = sum(t.Scanned, e.Scanned)
	t.Matched = sum(t.Matched, e.Matched)
	t.Retries += int64(b.Retries)
	t.SetAside += b.SetAside
	p.SetAside = k.asides.Load()
	if t.Log.Scope == "" {
		t.Log = engine.Log{Scope: e.Log.Scope}
	}
	t.Log.Add(e.Log)
	p.Batches++
	p.Changed, p.Scanned, p.Matched, p.Skipped = t.Changed, t.Scanned, t.Matched, t.Skipped
	p.Here += max(e.Scanned, 0)
	p.Hold, p.Worst = b.Hold, max(p.Worst, b.Hold)
	if p.Log.Scope == "" {
		p.Log = engine.Log{Scope: e.Log.Scope}
	}
	p.Log.Add(e.Log)
}

// sum adds counts of which one may be unknown.
func sum(a, b int64) int64 {
	if a < 0 || b < 0 {
		return -1
	}
	return a + b
}

// settlePrev writes what is known of the last batch only now.
func (k *worker) settlePrev(ctx context.Context) error {
	if k.prev == nil {
		return nil
	}
	if err := k.Ledger.Settle(ctx, k.session, k.prev); err != nil {
		return err
	}
	k.prev = nil
	return nil
}

// finish makes what was done durable and records how the run ended.
func (k *worker) finish(ctx context.Context, status, message string) error {
	if k.session == nil { // it was lost
		if err := k.open(ctx); err != nil {
			return err
		}
	}
	if k.session.Durable != nil {
		if err := k.session.Durable(ctx); err != nil {
			return err
		}
	}
	k.others.take(&k.sight, true)
	if k.prev != nil {
		k.prev.Waiters, k.prev.Lag = max(k.prev.Waiters, k.sight.most), max(k.prev.Lag, k.sight.lag)
		if err := k.settlePrev(ctx); err != nil {
			return err
		}
	}
	if k.others != nil {
		k.others.end()
		tx, err := k.session.Start(ctx)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if err := k.sight.keep(ctx, k.Ledger, tx, k.Run.ID); err != nil {
			return err
		}
		if t, ok := k.DB.(engine.ServerTeller); ok && k.server != nil {
			now, err := t.ServerFigures(ctx)
			if err != nil {
				return err
			}
			for name := range now {
				now[name] -= k.server[name]
			}
			if err := k.Ledger.AddServer(ctx, tx, k.Run.ID, now); err != nil {
				return err
			}
		}
		if err := tx.Commit(ctx); err != nil {
			return err
		}
		k.seen()
		k.server = nil
	}
	return k.Ledger.End(ctx, k.session, k.Run, status, message)
}
