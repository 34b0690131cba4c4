package runner

import (
	"context"
	"maps"
	"slices"
	"strconv"
	"sync"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/pace"
)

// lookEvery is how often waits and replicas' lag are looked at.
const lookEvery = 250 * time.Millisecond

// KeepEvery is how often the work that is left for later is looked at. The
// server's own statistics of it are about as old.
const KeepEvery = 5 * time.Second

// onlooker looks, beside the batches, at the sessions that wait on us, at those
// of ours that wait, and at how far replicas are behind. It sees a wait only if
// it is there at the moment of a look, and knows its length up to the last look
// that saw it.
type onlooker struct {
	db   engine.DB
	stop context.CancelFunc
	done chan struct{}

	mu       sync.Mutex
	sessions map[int64]bool // of ours
	step     int
	change   *change.Change    // of that step
	others   waits             // on ours, not in the ledger yet
	ours     waits             // on others, since the session's last batch
	samples  int64             // looks so far
	keeping  []engine.Setting  // work left for later
	reported int64             // of these, in the ledger
	took     time.Duration     // by looks that are not in the ledger yet
	most     int               // waiting at once since the last batch was recorded; -1 nobody looked
	lag      time.Duration     // most since then of a replica; -1 unknown
	happened []ledger.Incident // not in the ledger yet
	p        pace.Pressure
}

// watchOthers starts looking; nil where the engine cannot tell anything.
func watchOthers(ctx context.Context, db engine.DB) *onlooker {
	watcher, watches := db.(engine.WaitWatcher)
	lag, lags := db.(engine.LagTeller)
	flow, flows := db.(engine.FlowTeller)
	held, asked := time.Duration(-1), time.Time{}
	keeper, keeps := db.(engine.Housekeeper)
	points := checkpoints{}
	points.teller, _ = db.(engine.CheckpointTeller)
	if !watches && !lags && !keeps || !engine.Measured {
		return nil
	}
	ctx, stop := context.WithCancel(ctx)
	o := &onlooker{db: db, stop: stop, done: make(chan struct{}), sessions: map[int64]bool{}, most: -1, lag: -1, p: pace.Pressure{Lag: pace.NoLag}}
	go func() {
		defer close(o.done)
		tick := time.NewTicker(lookEvery)
		defer tick.Stop()
		kept := time.Now()
		for first := true; ; first = false {
			if !first { // what is there at the beginning counts from the first batch on
				select {
				case <-ctx.Done():
					return
				case <-tick.C:
				}
			}
			begun := time.Now()
			var w engine.Waits
			p := pace.Pressure{Lag: pace.NoLag}
			var err error
			o.mu.Lock()
			ids, c := slices.Sorted(maps.Keys(o.sessions)), o.change
			o.mu.Unlock()
			if watches && len(ids) > 0 {
				w, err = watcher.Waiting(ctx, ids)
			}
			if lags && err == nil {
				if l, lerr := lag.Lag(ctx); lerr == nil { // where there is a limit to it, it was asked for before the run
					p.Lag, p.Replica = l.Lag, l.String()
				} else if db.Fault(lerr) == engine.Connection {
					err = lerr
				}
			}
			if err == nil {
				at, perr := points.next(ctx, begun)
				switch {
				case perr != nil && db.Fault(perr) == engine.Connection:
					err = perr
				case perr != nil: // who may not ask does without
					points.teller = nil
				case !at.IsZero():
					o.tells(ledger.Incident{At: at, Kind: ledger.Checkpoint})
				}
			}
			if flows && err == nil {
				var f engine.Flow
				f, err = flow.Flow(ctx)
				if held >= 0 && f.HeldUp >= held {
					p.HeldUp = float64(f.HeldUp-held) / float64(begun.Sub(asked))
				}
				held, asked, p.Queue = f.HeldUp, begun, f.Queue
				flows = err != nil || f.Cluster
			}
			if keeps && err == nil && c != nil && c.Call == nil && time.Since(kept) > KeepEvery {
				kept = time.Now()
				if list, kerr := keeper.Housekeeping(ctx, c); kerr == nil { // the run goes on without
					o.mu.Lock()
					o.keeping = list
					o.mu.Unlock()
				}
			}
			if ctx.Err() != nil {
				return
			}
			o.seen(begun, time.Since(begun)-w.Idle, w, p, err)
		}
	}()
	return o
}

// seen takes one look into account. After a failed one nothing is known: waits
// that were open end where they were last seen.
func (o *onlooker) seen(at time.Time, took time.Duration, w engine.Waits, p pace.Pressure, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.samples++
	o.took += took
	if err != nil {
		w, p = engine.Waits{}, pace.Pressure{Lag: pace.NoLag}
	} else {
		o.most = max(o.most, len(w.Others))
		o.lag = max(o.lag, p.Lag.Age)
	}
	o.others.seen(at, o.step, w.Others)
	o.ours.seen(at, o.step, w.Ours)
	p.Sample, p.Waiters = o.samples, len(w.Others)
	o.p = p
}

// waits follows waits from look to look.
type waits struct {
	open map[string]*ledger.Wait // by session
	over []ledger.Wait
}

// seen is one look.
func (x *waits) seen(at time.Time, step int, list []engine.Waiter) {
	now := map[string]bool{}
	for _, w := range list {
		now[w.Session] = true
		wait := x.open[w.Session]
		began := at.Add(-w.Waited)
		if wait != nil && w.Waited > 0 && began.After(wait.Began.Add(dur(wait.MS)+lookEvery/2)) {
			x.end(w.Session) // a new wait of the same session
			wait = nil
		}
		if wait == nil {
			wait = &ledger.Wait{Session: w.Session, Step: step, Began: began, For: w.For, Statement: w.Statement}
			if x.open == nil {
				x.open = map[string]*ledger.Wait{}
			}
			x.open[w.Session] = wait
		}
		wait.MS = engine.MS(at.Sub(wait.Began))
	}
	for id := range x.open {
		if !now[id] {
			x.end(id)
		}
	}
}

// end says that a session does not wait any more.
func (x *waits) end(session string) {
	if wait := x.open[session]; wait != nil {
		x.over = append(x.over, *wait)
		delete(x.open, session)
	}
}

func dur(ms float64) time.Duration { return time.Duration(ms * float64(time.Millisecond)) }

// waited is for how long a session of ours, which does not wait now, was seen to
// wait since it was asked last.
func (o *onlooker) waited(session int64) (sum time.Duration) {
	if o == nil {
		return 0
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	id := strconv.FormatInt(session, 10)
	o.ours.end(id)
	o.ours.over = slices.DeleteFunc(o.ours.over, func(w ledger.Wait) bool {
		if w.Session == id {
			sum += dur(w.MS)
		}
		return w.Session == id
	})
	return sum
}

// on says which step is worked on.
func (o *onlooker) on(step int, c *change.Change) {
	if o == nil {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.step, o.change, o.keeping = step, c, nil
}

// left is the work left for later, as it was seen last.
func (o *onlooker) left() []engine.Setting {
	if o == nil {
		return nil
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	return o.keeping
}

// working says that a session of ours works now.
func (o *onlooker) working(session int64) {
	if o == nil {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if session != 0 {
		o.sessions[session] = true
	}
}

// gone says that a session of ours has ended.
func (o *onlooker) gone(session int64) {
	if o == nil {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	delete(o.sessions, session)
}

// pressure is what was seen last.
func (o *onlooker) pressure() pace.Pressure {
	if o == nil {
		return pace.Pressure{Lag: pace.NoLag, Now: time.Now()}
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	p := o.p
	p.Now = time.Now()
	return p
}

// sight is what was seen and is not in the ledger yet.
type sight struct {
	waits   []ledger.Wait
	samples int64
	took    time.Duration
	most    int           // sessions waiting at once; -1 nobody looked
	lag     time.Duration // of the replica furthest behind; -1 unknown

	incidents []ledger.Incident
}

// unseen is where nothing was seen.
func unseen() sight { return sight{most: -1, lag: -1} }

// take adds what was seen since to s, and forgets it; all ends the open waits too.
func (o *onlooker) take(s *sight, all bool) {
	if o == nil {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if all {
		for id := range o.others.open {
			o.others.end(id)
		}
	}
	s.waits = append(s.waits, o.others.over...)
	s.samples += o.samples - o.reported
	s.took += o.took
	s.most, s.lag = max(s.most, o.most), max(s.lag, o.lag)
	s.incidents = append(s.incidents, o.happened...)
	o.others.over, o.took, o.most, o.lag, o.happened = nil, 0, -1, -1, nil
	o.reported = o.samples
}

// keep writes what was seen into the ledger.
func (s *sight) keep(ctx context.Context, l *ledger.Ledger, tx *engine.Tx, run int64) error {
	if len(s.waits) > 0 {
		if err := l.AddWaits(ctx, tx, run, s.waits); err != nil {
			return err
		}
	}
	if len(s.incidents) > 0 {
		if err := l.AddIncidents(ctx, tx, run, s.incidents); err != nil {
			return err
		}
	}
	if s.samples == 0 {
		return nil
	}
	return l.AddSamples(ctx, tx, run, s.samples, s.took)
}

// end stops looking.
func (o *onlooker) end() {
	if o != nil {
		o.stop()
		<-o.done
	}
}
