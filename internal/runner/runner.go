// Package runner carries a run out: step by step, batch by batch, each in a
// transaction of its own that moves the lane's checkpoint, changes the rows,
// keeps their values and records the cost. It knows no dialect.
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

// ErrStopped says that a run was stopped on request; it can be resumed.
var ErrStopped = errors.New("stopped")

// ErrGuard marks errors that are refusals rather than failures.
var ErrGuard = errors.New("refused")

// ErrTaken says that another process works on the run. It is an ErrGuard.
var ErrTaken = fmt.Errorf("%w: another process is at work", ErrGuard)

// Work is one step of a run, ready to be carried out.
type Work struct {
	Step   *ledger.Step
	Change *change.Change
	Kept   *change.Kept // nil without kept values
	Undo   bool         // put the kept values back instead
	UpTo   int64        // for an undo: number of the last kept row
}

// Runner carries out one run.
type Runner struct {
	DB     engine.DB
	Ledger *ledger.Ledger
	Run    *ledger.Run
	Work   []*Work
	Stop   <-chan struct{} // closed: finish the batch, then stop

	// Watch, if set, is called after every batch and when something holds the run up.
	Watch func(Progress)
	// Before and After, if set, are called around a step that is not being
	// resumed midway; an error ends the run there.
	Before, After func(ctx context.Context, w *Work) error

	// Retry tries the rows that were set aside once more.
	Retry bool

	session *engine.Session
	pacer   pace.Pacer
	others  *onlooker
	sight   sight            // taken from others, to be written with the next batch
	server  map[string]int64 // the whole server's figures when the run began here; nil unknown
	prev    *ledger.Batch
	rng     change.Range // of the batch that was tried last
	asides  int64        // rows set aside, of all steps
	p       Progress
	begun   time.Time
	beat    time.Time

	listened time.Time
	heard    int64         // number of the last signal
	paused   string        // by whom and since when; "" if not
	easing   time.Duration // paused since the last batch
	why      string        // the reason, or that for fewer rows
}

// Progress is where a run stands.
type Progress struct {
	Run         int64
	Undo        bool
	Step        int // 1-based
	Steps       int
	Name        string
	Batches     int64 // of the run
	Scanned     int64 // rows of the step; -1 unknown
	Matched     int64 // rows of the step; -1 unknown
	Changed     int64 // rows of the step
	LeftAlone   int64
	TableRows   int64 // rows that the step will go over, perhaps estimated
	ToChange    int64 // rows the step will change; -1 not counted
	Size        int   // rows of the next batch
	Hold, Worst time.Duration
	Log         engine.Log // of this process's part of the run
	Elapsed     time.Duration
	StepElapsed time.Duration
	Here        int64         // rows of the step gone over by this process
	SetAside    int64         // rows of the run
	Waiters     int           // other sessions that wait on us now
	Lag         time.Duration // of the replica furthest behind, -1 unknown
	Note        string        // what holds the run up, "" if nothing does
}

// Bounds of patience.
const (
	lockRunWait   = 15 * time.Second // for a killed process's session to end on the server
	busyTries     = 60               // about two minutes with the pauses below
	reconnectFor  = 2 * time.Minute
	firstPause    = 20 * time.Millisecond
	longestPause  = 2 * time.Second
	heartbeatRate = 5 * time.Second
)

// Execute carries the run out from wherever it stands. It returns nil when all
// steps are done, ErrStopped (wrapped) when it was asked to stop, and records
// the outcome in the ledger in every case that lets it.
func (r *Runner) Execute(ctx context.Context) error {
	r.begun = time.Now()
	r.settle()
	r.others = watchOthers(ctx, r.DB)
	r.sight.most = -1
	if t, ok := r.DB.(engine.ServerTeller); ok {
		r.server, _ = t.ServerFigures(ctx) // without them the run goes on all the same
	}
	defer r.others.end()
	defer func() {
		if r.session != nil {
			r.session.Close()
		}
	}()
	err := r.connect(ctx)
	if err != nil && r.DB.Fault(err) == engine.Connection && !errors.Is(err, ErrGuard) {
		err = r.reconnect(ctx, err)
	}
	if err != nil {
		return err
	}
	if r.asides, err = r.Ledger.AsideCount(ctx, r.Run.ID); err == nil {
		err = r.steps(ctx)
	}
	status, message := ledger.Done, ""
	switch {
	case err == nil:
	case errors.Is(err, ErrStopped) || ctx.Err() != nil:
		status = ledger.Stopped
		if !errors.Is(err, ErrStopped) {
			err = fmt.Errorf("%w: the batch under way was rolled back", ErrStopped)
		}
	default:
		status, message = ledger.Failed, err.Error()
	}
	// The caller's context may have ended; what happened is recorded all the same.
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
	defer cancel()
	for try := 1; ; try++ {
		ferr := r.finish(end, status, message)
		if ferr == nil {
			return err
		}
		// All of it can be done again; a lost connection is made anew.
		if f := r.DB.Fault(ferr); f != engine.Connection && f != engine.Busy || end.Err() != nil {
			return errors.Join(err, fmt.Errorf("the end of the run could not be recorded: %w; `resume` settles it", ferr))
		}
		time.Sleep(min(firstPause<<min(try, 6), time.Second))
		if r.DB.Fault(ferr) == engine.Connection {
			r.session.Close()
			if oerr := r.open(end); oerr != nil && end.Err() != nil {
				return errors.Join(err, oerr)
			}
		}
	}
}

// finish makes what was done durable and records how the run ended.
func (r *Runner) finish(ctx context.Context, status, message string) error {
	if r.session.Durable != nil {
		if err := r.session.Durable(ctx); err != nil {
			return err
		}
	}
	r.others.take(&r.sight, true)
	if r.prev != nil {
		r.prev.Waiters = max(r.prev.Waiters, r.sight.most)
		if err := r.Ledger.Settle(ctx, r.session, r.prev); err != nil {
			return err
		}
		r.prev = nil
	}
	if r.others != nil {
		r.others.end()
		tx, err := r.session.Start(ctx)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		if err := r.sight.keep(ctx, r.Ledger, tx, r.Run.ID); err != nil {
			return err
		}
		if t, ok := r.DB.(engine.ServerTeller); ok && r.server != nil {
			now, err := t.ServerFigures(ctx)
			if err != nil {
				return err
			}
			for name := range now {
				now[name] -= r.server[name]
			}
			if err := r.Ledger.AddServer(ctx, tx, r.Run.ID, now); err != nil {
				return err
			}
		}
		if err := tx.Commit(ctx); err != nil {
			return err
		}
		r.sight, r.server = sight{most: -1}, nil
	}
	return r.Ledger.End(ctx, r.session, r.Run, status, message)
}

// open opens the session without asking for the right to work on the run.
func (r *Runner) open(ctx context.Context) error {
	s, err := r.DB.Session(ctx, engine.SessionOptions{
		Purpose: fmt.Sprintf("jugatum run %d", r.Run.ID), LockTimeout: max(r.Run.Options.Hold, 50*time.Millisecond)})
	if err != nil {
		return err
	}
	r.session = s
	r.others.working(s.ID, r.p.Step)
	return nil
}

// connect opens the session and makes sure that nobody else works on the run.
func (r *Runner) connect(ctx context.Context) error {
	if err := r.open(ctx); err != nil {
		return err
	}
	locker, ok := r.DB.(engine.RunLocker)
	if ok = ok && locker.HasRunLock(); ok {
		got, err := locker.LockRun(ctx, r.session, r.Run.ID, lockRunWait)
		if err != nil {
			return err
		}
		if !got {
			return r.taken()
		}
	}
	err := r.Ledger.Claim(ctx, r.session, r.Run, !ok)
	if errors.Is(err, ledger.ErrTaken) {
		return r.taken()
	}
	return err
}

func (r *Runner) taken() error {
	return fmt.Errorf("%w on run %d (process %d on %s); wait for its end, or stop it first", ErrTaken, r.Run.ID, r.Run.PID, r.Run.Host)
}

func (r *Runner) steps(ctx context.Context) error {
	for _, w := range r.Work {
		if w.Step.Status == ledger.Done {
			if r.Retry {
				if err := r.retry(ctx, w); err != nil {
					return fmt.Errorf("step %q: %w", w.Step.Name, err)
				}
			}
			continue
		}
		fresh := w.Step.Status == "pending"
		if fresh && r.Before != nil {
			if err := r.Before(ctx, w); err != nil {
				return err
			}
		}
		if err := r.step(ctx, w, fresh); err != nil {
			return fmt.Errorf("step %q: %w", w.Step.Name, err)
		}
		if r.Retry {
			if err := r.retry(ctx, w); err != nil {
				return fmt.Errorf("step %q: %w", w.Step.Name, err)
			}
		}
		if r.After != nil {
			if err := r.After(ctx, w); err != nil {
				return err
			}
		}
	}
	return nil
}

// step carries out one step.
func (r *Runner) step(ctx context.Context, w *Work, fresh bool) error {
	way := r.way(w)
	done := false
	defer func() { way.end(ctx, done) }()
	stepBegun := time.Now()
	if fresh {
		if err := r.patiently(ctx, func() error {
			end, rows, err := way.begin(ctx)
			if err != nil {
				return err
			}
			w.Step.Lane = ledger.Lane{End: end}
			w.Step.TableRows = rows
			return r.Ledger.BeginStep(ctx, r.session, r.Run.ID, w.Step)
		}); err != nil {
			return err
		}
	}
	if err := r.patiently(ctx, func() error { return way.resume(ctx, w.Step.Lane.End) }); err != nil {
		return err
	}
	t := w.Step.Totals
	r.p = Progress{Run: r.Run.ID, Undo: w.Undo, Step: w.Step.N, Steps: len(r.Work), Name: w.Step.Name, Batches: r.p.Batches, Scanned: t.Scanned, Matched: t.Matched, Changed: t.Changed,
		LeftAlone: t.LeftAlone, TableRows: w.Step.TableRows, ToChange: w.Step.ToChange, Log: r.p.Log, Worst: r.p.Worst, SetAside: r.asides, Lag: -1}
	r.others.working(r.session.ID, w.Step.N)
	retries := 0
	var narrow narrow
	for !finished(&w.Step.Lane, way) {
		select {
		case <-r.Stop:
			return ErrStopped
		case <-ctx.Done():
			return ctx.Err()
		default:
		}
		if err := r.listen(ctx); err != nil {
			return err
		}
		if r.paused != "" {
			if err := r.wait(ctx, 2*nap, r.paused); err != nil {
				return err
			}
			r.why = "paused"
			continue
		}
		pressure := r.others.pressure()
		r.p.Waiters, r.p.Lag = pressure.Waiters, pressure.Lag
		decision := r.pacer.Next(pressure)
		if decision.Why != "" || r.easing == 0 { // else the reason of the pause that is over now
			r.why = decision.Why
		}
		if err := r.wait(ctx, decision.Pause, decision.Why); err != nil {
			return err
		}
		if decision.Rows == 0 || r.paused != "" {
			continue
		}
		r.p.Size = narrow.limit(decision.Rows)
		r.p.Note = decision.Why
		err := r.batch(ctx, w, way, retries)
		switch r.sort(ctx, err) {
		case goOn:
			retries = 0
			narrow.done(decision.Rows)
			r.p.Elapsed, r.p.StepElapsed = time.Since(r.begun), time.Since(stepBegun)
			r.watch()
			continue
		case look:
			if err := r.position(ctx, w); err != nil {
				return err
			}
			retries = 0
		case again:
			retries++
			r.pacer.Failed()
			if retries > busyTries {
				return fmt.Errorf("another session's locks were in the way %d times in a row: %w; resume when it has ended", retries, err)
			}
			r.p.Note = "waiting for another session's lock"
			r.watch()
			if err := r.pause(ctx, retries); err != nil {
				return err
			}
		case reconnect:
			r.p.Note = "connection lost, trying again"
			r.watch()
			if err := r.reconnect(ctx, err); err != nil {
				return err
			}
			if err := r.position(ctx, w); err != nil {
				return err
			}
		case halve:
			if way.once() || w.Undo {
				return fmt.Errorf("%s: after key %s: %w", w.Change.Table, orBeginning(w.Step.Lane.Checkpoint), err)
			}
			if r.p.Size > 1 {
				narrow.failed(r.p.Size)
				continue
			}
			err = r.aside(ctx, w, r.rng, err)
			if errors.Is(err, ledger.ErrMoved) { // the answer to its commit was lost
				err = r.position(ctx, w)
			}
			if err != nil {
				return fmt.Errorf("%s: %w", w.Change.Table, err)
			}
			narrow.done(decision.Rows)
			r.watch()
		default:
			return fmt.Errorf("%s: after key %s: %w", w.Change.Table, orBeginning(w.Step.Lane.Checkpoint), err)
		}
	}
	err := r.patiently(ctx, func() error { return r.Ledger.EndStep(ctx, r.session, r.Run.ID, w.Step) })
	done = err == nil
	return err
}

func orBeginning(k change.KeyValue) string {
	if k == nil {
		return "(beginning)"
	}
	return k.String()
}

func (r *Runner) watch() {
	if r.Watch != nil {
		r.Watch(r.p)
	}
}

// batch carries out the next batch in one transaction. The lane in memory
// moves only when the commit has succeeded.
func (r *Runner) batch(ctx context.Context, w *Work, way way, retries int) error {
	rng, rows, err := way.next(ctx, &w.Step.Lane, r.p.Size)
	if err != nil {
		return err
	}
	r.rng = rng
	tx, err := r.session.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	b := &ledger.Batch{Run: r.Run.ID, Step: w.Step.N, N: w.Step.Lane.Batches + 1, Began: time.Now(), To: rng.Hi, LockWait: tx.Wait, Retries: retries, Pause: r.easing, Why: r.why, Waiters: -1}
	if err := r.Ledger.Fence(ctx, tx, r.Run.ID, w.Step, rng.Hi); err != nil {
		return err
	}
	var left []ledger.Left
	if b.Effect, left, err = way.batch(ctx, tx, rng); err != nil {
		return err
	}
	b.LeftAlone = int64(len(left))
	switch {
	case rows >= 0:
		b.Effect.Scanned = rows
	case !way.once(): // a plan may read rows outside the range, or some of it twice
		b.Effect.Scanned = min(b.Effect.Scanned, int64(r.p.Size))
	}
	if len(left) > 0 {
		if err := r.Ledger.LeaveAlone(ctx, tx, r.Run.ID, left); err != nil {
			return err
		}
	}
	if lt, ok := r.DB.(engine.LockTeller); ok {
		if b.Locks, err = lt.Locks(ctx, tx); err != nil {
			return err
		}
	}
	if err := r.record(ctx, tx, w, b); err != nil {
		return err
	}
	if time.Since(r.beat) > heartbeatRate {
		if err := r.Ledger.Beat(ctx, tx, r.Run.ID); err != nil {
			return err
		}
		r.beat = time.Now()
	}
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	b.Hold = tx.Hold
	if tx.Log.Scope != "" { // told only at the commit
		b.Effect.Log = tx.Log
	}
	r.prev, r.easing = b, 0
	r.count(w, b, tx.Ends)
	if y, ok := r.DB.(engine.Yielder); ok {
		return r.yield(ctx, y, b.Hold)
	}
	return nil
}

// record writes a batch into the ledger, and with it what is known only now of
// the one before, and of others' waits.
func (r *Runner) record(ctx context.Context, tx *engine.Tx, w *Work, b *ledger.Batch) error {
	r.others.take(&r.sight, false)
	b.Waiters = max(b.Waiters, r.sight.most)
	if err := r.Ledger.Record(ctx, tx, w.Step, b, r.prev); err != nil {
		return err
	}
	return r.sight.keep(ctx, r.Ledger, tx, r.Run.ID)
}

// yield ignores a cancelled context: the batch is done and the loop will see it.
func (r *Runner) yield(ctx context.Context, y engine.Yielder, hold time.Duration) error {
	if err := y.Yield(ctx, r.session, hold); err != nil && ctx.Err() == nil {
		return err
	}
	return nil
}

// count takes a finished batch into account.
func (r *Runner) count(w *Work, b *ledger.Batch, commit time.Duration) {
	r.sight = sight{most: -1} // it was committed with the batch
	lane := &w.Step.Lane
	lane.Checkpoint, lane.Batches, lane.Kept = b.To, b.N, b.Effect.Kept
	e := b.Effect
	size := int(e.Scanned)
	if e.Scanned < 0 {
		size = r.p.Size
	}
	r.pacer.Finished(size, b.Hold-commit, commit, e.Log.Bytes, time.Now())
	t := &w.Step.Totals
	t.Batches++
	t.Changed += e.Changed
	t.LeftAlone += b.LeftAlone
	t.Scanned = sum(t.Scanned, e.Scanned)
	t.Matched = sum(t.Matched, e.Matched)
	t.Retries += int64(b.Retries)
	t.SetAside += b.SetAside
	r.p.SetAside = r.asides
	if t.Log.Scope == "" {
		t.Log = engine.Log{Scope: e.Log.Scope}
	}
	t.Log.Add(e.Log)
	r.p.Batches++
	r.p.Changed, r.p.Scanned, r.p.Matched, r.p.LeftAlone = t.Changed, t.Scanned, t.Matched, t.LeftAlone
	r.p.Here += max(e.Scanned, 0)
	r.p.Hold, r.p.Worst = b.Hold, max(r.p.Worst, b.Hold)
	if r.p.Log.Scope == "" {
		r.p.Log = engine.Log{Scope: e.Log.Scope}
	}
	r.p.Log.Add(e.Log)
}

// sum adds counts of which one may be unknown.
func sum(a, b int64) int64 {
	if a < 0 || b < 0 {
		return -1
	}
	return a + b
}
