package runner

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"jugatum/internal/ledger"
	"jugatum/internal/pace"
)

const (
	listenEvery = 200 * time.Millisecond // how often signals from other terminals are looked for
	nap         = 100 * time.Millisecond // longest that a pause goes without a look around
)

// listen reads the signals that came since, and does what they say. It gives
// ErrStopped if the run is to end.
func (k *worker) listen(ctx context.Context) error {
	if time.Since(k.listened) < listenEvery {
		return nil
	}
	k.listened = time.Now()
	list, err := k.Ledger.Signals(ctx, k.Run.ID, k.heard)
	if err != nil {
		// A signal that cannot be read now is read next time; what is wrong with
		// the database the next batch will tell.
		return nil
	}
	stop := false
	for _, s := range list {
		if k.heard = s.N; s.SeenAt != nil {
			continue // of an earlier process of this run
		}
		k.happens(Event{Kind: Signalled, Signal: &s})
		switch s.Kind {
		case ledger.Pause:
			k.hold(fmt.Sprintf("paused by %s since %s; `jugatum resume %d` goes on", s.Who, s.At.Local().Format("15:04:05"), k.Run.ID))
		case ledger.GoOn:
			k.hold("")
		case ledger.Stop:
			stop = true
		case ledger.Tune:
			k.mu.Lock()
			if err := Tune(&k.Run.Options, s.Args); err == nil {
				k.tuned++
			}
			k.mu.Unlock()
		}
	}
	seen := func() error { return k.Ledger.Seen(ctx, k.session, k.Run, k.heard) }
	if stop {
		if err := k.patiently(ctx, seen); err != nil {
			return err
		}
		return ErrStopped
	}
	if k.heard == k.noted {
		return nil
	}
	done, err := k.unlessLocked(ctx, seen)
	if done {
		k.noted = k.heard
	}
	return err
}

// forget takes note of the signals that an earlier process of the run did not
// hear any more: other options still count, but it is not to stop or to pause now.
func (k *worker) forget(ctx context.Context) error {
	list, err := k.Ledger.Signals(ctx, k.Run.ID, 0)
	if err != nil || len(list) == 0 {
		return err
	}
	for _, s := range list {
		if k.heard = s.N; s.SeenAt == nil && s.Kind == ledger.Tune {
			if err := Tune(&k.Run.Options, s.Args); err == nil {
				k.tuned++
			}
		}
	}
	k.noted = k.heard
	return k.patiently(ctx, func() error { return k.Ledger.Seen(ctx, k.session, k.Run, k.heard) })
}

// hold sets why no batches are to be made, "" if they are.
func (r *Runner) hold(why string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.paused = why
}

// settle takes the run's options over into what decides on batches.
func (k *worker) settle() {
	k.mu.Lock()
	defer k.mu.Unlock()
	o := k.Run.Options
	k.tunedAt = k.tuned
	if k.pacer.Target != o.Hold {
		k.pacer.Anew(0)
	}
	k.pacer.Target, k.pacer.Fixed, k.pacer.Limits, k.pacer.Workers = o.Hold, o.Batch, o.Limits, k.crew
}

// retuned reports whether there are options that the worker does not go by yet.
func (k *worker) retuned() bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.tunedAt != k.tuned
}

// Tune changes options as the arguments of a signal say: hold, batch, workers,
// waiters, lag, log_rate, window; "off" takes a limit away.
func Tune(o *ledger.Options, args map[string]string) error {
	n := *o
	for k, v := range args {
		var err error
		switch k {
		case "hold":
			n.Hold, err = time.ParseDuration(v)
			if err == nil && (n.Hold < time.Millisecond || n.Hold > time.Hour) {
				err = fmt.Errorf("expected a time from 1ms to 1h")
			}
			n.Batch = 0
		case "workers":
			n.Workers, err = pace.ParseWorkers(v)
		case "batch":
			n.Batch, err = strconv.Atoi(v)
			if err == nil && n.Batch < 1 {
				err = fmt.Errorf("expected a number of rows from 1 up")
			}
		default:
			n.Limits, err = n.Limits.With(k, v)
		}
		if err != nil {
			return fmt.Errorf("%s %s: %w", k, v, err)
		}
	}
	*o = n
	return nil
}

// wait pauses before a batch, in naps between which signals, the stop and the
// lease are attended to. It ends early where something else is to be done first:
// the run is paused, or is to go by other options.
func (k *worker) wait(ctx context.Context, pause time.Duration, why string) error {
	if pause <= 0 {
		return nil
	}
	if pause > nap {
		k.tell(true, func(p *Progress) { p.Note = why })
	}
	timer := time.NewTimer(min(pause, nap))
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-k.Stop:
		return ErrStopped
	case <-k.quit:
		return nil
	case <-timer.C:
	}
	k.easing += min(pause, nap)
	if k.lead {
		if err := k.renew(ctx); err != nil {
			return err
		}
	}
	if pause <= nap {
		return nil
	}
	if k.lead {
		if err := k.listen(ctx); err != nil {
			return err
		}
	}
	if k.held() != "" || k.retuned() {
		return nil
	}
	return k.wait(ctx, pause-nap, why)
}

// renew renews the lease if it is time to. While a replica is waited for, that is
// at every second look: PostgreSQL's standbys tell how far they have come only when
// they receive something, and we write nothing else then.
func (k *worker) renew(ctx context.Context) error {
	k.mu.Lock()
	limited := k.Run.Options.Limits.Lag > 0
	k.mu.Unlock()
	every := heartbeatRate
	if limited && k.others.pressure().Lag.Behind() > 0 {
		every = 2 * lookEvery
	}
	if time.Since(k.beat) <= every {
		return nil
	}
	k.beat = time.Now()
	_, err := k.unlessLocked(ctx, func() error { return k.Ledger.Alive(ctx, k.session, k.Run.ID) })
	return err
}
