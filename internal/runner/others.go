package runner

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/pace"
)

// lookEvery is how often others' waits and replicas' lag are looked at.
const lookEvery = 250 * time.Millisecond

// onlooker looks, beside the batches, at the sessions that wait on us and at
// how far replicas are behind. It sees a wait only if it is there at the moment
// of a look, and knows its length up to the last look that saw it.
type onlooker struct {
	db   engine.DB
	stop context.CancelFunc
	done chan struct{}

	mu       sync.Mutex
	sessions map[int64]bool // of ours, that others may wait for
	step     int
	open     map[string]*ledger.Wait // by session
	over     []ledger.Wait           // not in the ledger yet
	samples  int64                   // looks so far
	reported int64                   // of these, in the ledger
	took     time.Duration           // by looks that are not in the ledger yet
	most     int                     // waiting at once since the last batch was recorded; -1 nobody looked
	p        pace.Pressure
	fault    error // of the last look
}

// watchOthers starts looking; nil where the engine cannot tell anything.
func watchOthers(ctx context.Context, db engine.DB) *onlooker {
	watcher, watches := db.(engine.WaitWatcher)
	lag, lags := db.(engine.LagTeller)
	flow, flows := db.(engine.FlowTeller)
	held, asked := time.Duration(-1), time.Time{}
	if !watches && !lags {
		return nil
	}
	ctx, stop := context.WithCancel(ctx)
	o := &onlooker{db: db, stop: stop, done: make(chan struct{}), sessions: map[int64]bool{}, open: map[string]*ledger.Wait{}, most: -1, p: pace.Pressure{Lag: -1}}
	go func() {
		defer close(o.done)
		tick := time.NewTicker(lookEvery)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			begun := time.Now()
			var waiters []engine.Waiter
			behind := time.Duration(-1)
			var err error
			o.mu.Lock()
			ids := slices.Sorted(maps.Keys(o.sessions))
			o.mu.Unlock()
			var idle time.Duration
			if watches && len(ids) > 0 {
				waiters, idle, err = watcher.Waiting(ctx, ids)
			}
			if lags && err == nil {
				behind, err = lag.Lag(ctx)
			}
			share := 0.0
			if flows && err == nil {
				var now time.Duration
				now, err = flow.HeldUp(ctx)
				if held >= 0 && now >= held {
					share = float64(now-held) / float64(begun.Sub(asked))
				}
				held, asked = now, begun
				flows = err != nil || now >= 0 // else there is no cluster
			}
			if ctx.Err() != nil {
				return
			}
			o.seen(begun, time.Since(begun)-idle, waiters, behind, share, err)
		}
	}()
	return o
}

// seen takes one look into account. After a failed one nothing is known: waits
// that were open end where they were last seen.
func (o *onlooker) seen(at time.Time, took time.Duration, waiters []engine.Waiter, lag time.Duration, heldUp float64, err error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.samples++
	o.took += took
	if o.fault = err; err != nil {
		waiters, lag = nil, -1
	} else {
		o.most = max(o.most, len(waiters))
	}
	now := map[string]bool{}
	for _, w := range waiters {
		now[w.Session] = true
		x := o.open[w.Session]
		began := at.Add(-w.Waited)
		if x != nil && w.Waited > 0 && began.After(x.Began.Add(time.Duration(x.MS*float64(time.Millisecond))+lookEvery/2)) {
			o.over = append(o.over, *x) // a new wait of the same session
			x = nil
		}
		if x == nil {
			x = &ledger.Wait{Session: w.Session, Step: o.step, Began: began, For: w.For, Statement: w.Statement}
			o.open[w.Session] = x
		}
		x.MS = float64(at.Sub(x.Began).Microseconds()) / 1000
	}
	for id, x := range o.open {
		if !now[id] {
			o.over = append(o.over, *x)
			delete(o.open, id)
		}
	}
	o.p = pace.Pressure{Sample: o.samples, Waiters: len(waiters), Lag: lag, HeldUp: heldUp}
}

// working says that a session of ours works now, on which step.
func (o *onlooker) working(session int64, step int) {
	if o == nil {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.step = step
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
		return pace.Pressure{Lag: -1, Now: time.Now()}
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
	most    int // sessions waiting at once; -1 nobody looked
}

// take adds what was seen since to s, and forgets it; all ends the open waits too.
func (o *onlooker) take(s *sight, all bool) {
	if o == nil {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if all {
		for id, x := range o.open {
			o.over = append(o.over, *x)
			delete(o.open, id)
		}
	}
	s.waits = append(s.waits, o.over...)
	s.samples += o.samples - o.reported
	s.took += o.took
	s.most = max(s.most, o.most)
	o.over, o.took, o.most = nil, 0, -1
	o.reported = o.samples
}

// keep writes what was seen into the ledger.
func (s *sight) keep(ctx context.Context, l *ledger.Ledger, tx *engine.Tx, run int64) error {
	if len(s.waits) > 0 {
		if err := l.AddWaits(ctx, tx, run, s.waits); err != nil {
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
