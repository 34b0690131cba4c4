// Package runner carries a run out: step by step, batch by batch, each in a
// transaction of its own that moves the lane's checkpoint, changes the rows,
// keeps their values and records the cost. It knows no dialect.
package runner

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
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
	Mark   string       // where rows are told by their own numbers: tells whether they still have them

	// Acts are changes of other tables that belong to the step's batches; Compound is how
	// they are carried out with it, nil for an undo. Unready says why they cannot be.
	Acts     []*Act
	Compound *change.Compound
	Unready  error

	// Staging is what the change's source is made of before the first batch; nil if
	// its rows are read where they are, or a step before it has made it. Unstage is the
	// table that no step after this one reads any more.
	Staging *engine.Staging
	Unstage string

	Make []string // the statements for the table that rows are moved to; none if it is there

	spared map[string]bool // rows that a last pass need not set aside once more, by their keys

	Undo bool  // put the kept values back instead
	UpTo int64 // for an undo: number of the last kept row,
	Rows int64 // and how many are kept; numbers may be left out
}

// Act is an act of a step, as it was recorded.
type Act struct {
	Record *ledger.Act
	Change *change.Change
	Kept   *change.Kept
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
	// Happened, if set, is told of all that happens, from any goroutine. It must not block.
	Happened func(Event)
	// Before and After, if set, are called around a step that is not being
	// resumed midway; an error ends the run there.
	Before, After func(ctx context.Context, w *Work) error

	// Resumed says that another process has worked on the run before: what it was
	// told, and did not hear any more, is not meant for this one.
	Resumed bool
	// Despite goes on although a check after a finished step does not hold.
	Despite bool

	// Retry tries the rows that were set aside once more. Belated are then the names of the
	// steps some of whose rows were changed although later steps had begun.
	Retry   bool
	Belated []string

	lead   *worker // alone at work, or looking after the crew
	others *onlooker
	sight  sight            // taken from others, to be written with the next batch
	server map[string]int64 // the whole server's figures when the run began here; nil unknown
	at     whereabouts
	mark   int64 // the state of the file then, as marked sees it; -1 unknown
	marked *engine.Session
	begun  time.Time
	beat   time.Time

	listened time.Time
	heard    int64 // number of the last signal
	noted    int64 // up to which signal the ledger says that they were heard

	mu     sync.Mutex // for what follows, while a crew is at work
	paused string     // by whom and since when; "" if not
	p      Progress
	crew   int     // workers now, 0 if the lead is alone
	tuned  int     // how often the options were changed
	opened []int64 // sessions that the run has opened, by the server's numbers
	stale  bool    // totals are to be read from the ledger again

	asideMu sync.Mutex   // from the decision to set rows aside to the commit
	asides  atomic.Int64 // rows set aside, of all steps
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
	Skipped     int64
	TableRows   int64         // rows that the step will go over, perhaps estimated
	ToChange    int64         // rows the step will change; -1 not counted
	Size        int           // rows of the next batch
	Target      time.Duration // of the hold; 0 with batches of a fixed number of rows
	Hold, Worst time.Duration
	Log         engine.Log // of the run
	Elapsed     time.Duration
	StepElapsed time.Duration
	Idle        time.Duration    // of StepElapsed, in which the run was paused
	Here        int64            // rows of the step scanned by this process
	SetAside    int64            // rows of the run
	Waiters     int              // other sessions that wait on us now
	Workers     int              // at work now
	Lag         time.Duration    // of the replica furthest behind, -1 unknown
	Replica     string           // which that is, and what it lacks
	Note        string           // what holds the run up, "" if nothing does
	Keeping     []engine.Setting // work left for later, looked at every few seconds

	begun time.Time // the step, by this process
}

// Bounds of patience.
const (
	lockRunWait   = 15 * time.Second // for a killed process's session to end on the server
	busyTries     = 60               // about two minutes with the pauses below
	patientTries  = 2                // after which a batch is halved, whatever its size was meant to be
	reconnectFor  = 2 * time.Minute
	firstPause    = 20 * time.Millisecond
	longestPause  = 2 * time.Second
	heartbeatRate = 5 * time.Second
	rollbackWait  = 20 * time.Second // for the server to roll back a batch that was broken off
)

// Execute carries the run out from wherever it stands. It returns nil when all
// steps are done, ErrStopped (wrapped) when it was asked to stop, and records
// the outcome in the ledger in every case that lets it.
func (r *Runner) Execute(ctx context.Context) error {
	r.begun = time.Now()
	k := &worker{Runner: r, lead: true}
	r.lead = k
	k.settle()
	r.others = watchOthers(ctx, r.DB)
	r.sight = unseen()
	if t, ok := r.DB.(engine.ServerTeller); ok {
		r.server, _ = t.ServerFigures(ctx) // without them the run goes on all the same
	}
	defer r.others.end()
	defer func() {
		if k.session != nil {
			k.session.Close()
		}
	}()
	err := k.join(ctx)
	if err != nil {
		return err
	}
	r.remember(ctx, k.session)
	r.at.ask(ctx, r.DB, k.session)
	r.sumUp(ctx)
	if r.Resumed {
		if err := k.forget(ctx); err != nil {
			return err
		}
	}
	if err = k.patiently(ctx, func() error { return r.countAsides(ctx) }); err == nil {
		err = r.steps(ctx)
	}
	status, message := ledger.Done, ""
	switch {
	case errors.Is(err, ErrTaken): // its end is that process's to tell
		return err
	case err == nil:
	case errors.Is(err, ErrStopped) || ctx.Err() != nil:
		status = ledger.Stopped
		if !errors.Is(err, ErrStopped) {
			err = fmt.Errorf("%w: %s", ErrStopped, r.breakOff(context.WithoutCancel(ctx)))
		}
	default:
		status, message = ledger.Failed, err.Error()
	}
	// The caller's context may have ended; what happened is recorded all the same.
	end, cancel := context.WithTimeout(context.WithoutCancel(ctx), 30*time.Second)
	defer cancel()
	for try := 1; ; try++ {
		ferr := k.finish(end, status, message)
		if ferr == nil {
			return err
		}
		// All of it can be done again; a lost connection is made anew.
		if f := r.DB.Fault(ferr); f != engine.Connection && f != engine.Busy || end.Err() != nil {
			return errors.Join(err, fmt.Errorf("the end of the run could not be recorded: %w; `resume` settles it", ferr))
		}
		time.Sleep(min(firstPause<<min(try, 6), time.Second))
		if r.DB.Fault(ferr) == engine.Connection {
			k.close()
		}
	}
}

// sumUp has the progress begin with what the record says of the run so far.
func (r *Runner) sumUp(ctx context.Context) {
	p := Progress{}
	for _, w := range r.Work {
		t := w.Step.Totals
		p.Batches += t.Batches
		if p.Log.Scope == "" {
			p.Log = engine.Log{Scope: t.Log.Scope}
		}
		if t.Batches > 0 {
			p.Log.Add(t.Log)
		}
	}
	if p.Batches > 0 {
		if h, err := r.Ledger.Holds(ctx, r.Run.ID); err == nil { // else they are told without it
			p.Worst = h.Max
		}
	}
	r.tell(false, func(now *Progress) { *now = p })
}

// breakOff has the server end what our sessions are still at, waits for it, and
// says what is known of the batch that was under way. A client that goes away is
// not always noticed before a statement has ended.
func (r *Runner) breakOff(ctx context.Context) string {
	ender, ok := r.DB.(engine.SessionEnder)
	r.mu.Lock()
	ids := r.opened
	r.mu.Unlock()
	if !ok || len(ids) == 0 {
		return "the batch under way was rolled back"
	}
	ctx, cancel := context.WithTimeout(ctx, rollbackWait)
	defer cancel()
	for {
		left, err := ender.EndSessions(ctx, fmt.Sprintf("jugatum run %d", r.Run.ID), ids)
		switch {
		case err != nil:
			return fmt.Sprintf("what became of the batch under way could not be asked (%v): look for our sessions on the server; what is not committed is rolled back", err)
		case left == 0:
			return "the batch under way was rolled back"
		}
		select {
		case <-ctx.Done():
			return fmt.Sprintf("the batch under way was told to end, and the server is still rolling it back after %v: its locks stay until then", rollbackWait)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// countAsides reads from the ledger how many rows are set aside.
func (r *Runner) countAsides(ctx context.Context) error {
	n, err := r.Ledger.AsideCount(ctx, r.Run.ID)
	if err == nil {
		r.asides.Store(n)
	}
	return err
}

func (r *Runner) taken() error {
	return fmt.Errorf("%w on run %d, or was since we lost our connection (process %d on %s); `jugatum show %d` tells how it stands, and one that is at work can be stopped first", ErrTaken, r.Run.ID, r.Run.PID, r.Run.Host, r.Run.ID)
}

func (r *Runner) steps(ctx context.Context) error {
	if err := r.askAgain(ctx); err != nil {
		return err
	}
	for _, w := range r.Work {
		if w.Step.Status == ledger.Done {
			if r.Retry {
				if err := r.lead.retry(ctx, w); err != nil {
					return fmt.Errorf("step %q: %w", w.Step.Name, err)
				}
			}
			if err := r.outcomes(ctx, w); err != nil { // perhaps that is where it ended
				return err
			}
			continue
		}
		fresh := w.Step.Status == "pending"
		if fresh && r.Before != nil {
			if err := r.lead.patiently(ctx, func() error { return r.Before(ctx, w) }); err != nil {
				return err
			}
		}
		if err := r.step(ctx, w, fresh); err != nil {
			return fmt.Errorf("step %q: %w", w.Step.Name, err)
		}
		if r.Retry {
			if err := r.lead.retry(ctx, w); err != nil {
				return fmt.Errorf("step %q: %w", w.Step.Name, err)
			}
		}
		if err := r.settled(ctx, w); err != nil {
			return err
		}
		if err := r.outcomes(ctx, w); err != nil {
			return err
		}
		r.lead.unstage(ctx, w)
		r.happens(Event{Kind: StepDone, Work: w})
	}
	return nil
}

// settled asks what must hold after a step. It only reads, so that a lost
// connection is no reason to end.
func (r *Runner) settled(ctx context.Context, w *Work) error {
	if err := r.lead.patiently(ctx, func() error { return r.account(ctx, w) }); err != nil || r.After == nil {
		return err
	}
	return r.lead.patiently(ctx, func() error { return r.After(ctx, w) })
}

// askAgain asks once more what must hold after the last finished step, if none
// has begun since: it may be what the run ended for.
func (r *Runner) askAgain(ctx context.Context) error {
	var last *Work
	for _, w := range r.Work {
		if w.Step.Status != ledger.Done {
			if w.Step.Status != "pending" {
				return nil
			}
			break
		}
		last = w
	}
	if last == nil || r.Despite || r.Run.Status == ledger.Done {
		return nil
	}
	return r.settled(ctx, last)
}

// tell changes the progress and, if all is told, shows it.
func (r *Runner) tell(show bool, change func(p *Progress)) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if change != nil {
		change(&r.p)
	}
	r.p.Elapsed, r.p.StepElapsed = time.Since(r.begun), time.Since(r.p.begun)
	if show && r.Watch != nil {
		r.p.Keeping = r.others.left()
		r.Watch(r.p)
	}
}
