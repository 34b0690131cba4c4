package runner

import (
	"context"
	"fmt"
	"strconv"
	"time"

	"jugatum/internal/ledger"
)

const (
	listenEvery = 200 * time.Millisecond // how often signals from other terminals are looked for
	nap         = 100 * time.Millisecond // longest that a pause goes without a look around
)

// listen reads the signals that came since, and does what they say. It gives
// ErrStopped if the run is to end.
func (r *Runner) listen(ctx context.Context) error {
	if time.Since(r.listened) < listenEvery {
		return nil
	}
	r.listened = time.Now()
	list, err := r.Ledger.Signals(ctx, r.Run.ID, r.heard)
	if err != nil || len(list) == 0 {
		// A signal that cannot be read now is read next time; what is wrong with
		// the database the next batch will tell.
		return nil
	}
	stop := false
	for _, s := range list {
		if r.heard = s.N; s.SeenAt != nil {
			continue // of an earlier process of this run
		}
		switch s.Kind {
		case ledger.Pause:
			r.paused = fmt.Sprintf("paused by %s since %s; `jugatum resume %d` goes on", s.Who, s.At.Local().Format("15:04:05"), r.Run.ID)
		case ledger.GoOn:
			r.paused = ""
		case ledger.Stop:
			stop = true
		case ledger.Tune:
			if err := Tune(&r.Run.Options, s.Args); err == nil {
				r.settle()
			}
		}
	}
	if err := r.patiently(ctx, func() error { return r.Ledger.Seen(ctx, r.session, r.Run, r.heard) }); err != nil {
		return err
	}
	if stop {
		return ErrStopped
	}
	return nil
}

// settle takes the run's options over into what decides on batches.
func (r *Runner) settle() {
	o := r.Run.Options
	r.pacer.Target, r.pacer.Fixed, r.pacer.Limits = o.Hold, o.Batch, o.Limits
}

// Tune changes options as the arguments of a signal say: hold, batch, waiters,
// lag, log_rate, window; "off" takes a limit away.
func Tune(o *ledger.Options, args map[string]string) error {
	n := *o
	for k, v := range args {
		var err error
		switch k {
		case "hold":
			n.Hold, err = time.ParseDuration(v)
			if err == nil && (n.Hold < time.Millisecond || n.Hold > time.Hour) {
				err = fmt.Errorf("a time from 1ms to 1h is wanted")
			}
			n.Batch = 0
		case "batch":
			n.Batch, err = strconv.Atoi(v)
			if err == nil && n.Batch < 1 {
				err = fmt.Errorf("a number of rows from 1 up is wanted")
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
// lease are attended to. It gives false when something else is to be done first.
func (r *Runner) wait(ctx context.Context, pause time.Duration, why string) error {
	if pause <= 0 {
		return nil
	}
	if pause > nap {
		r.p.Note = why
		r.watch()
	}
	timer := time.NewTimer(min(pause, nap))
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-r.Stop:
		return ErrStopped
	case <-timer.C:
	}
	r.easing += min(pause, nap)
	if time.Since(r.beat) > heartbeatRate {
		r.beat = time.Now()
		if err := r.patiently(ctx, func() error { return r.Ledger.Alive(ctx, r.session, r.Run.ID) }); err != nil {
			return err
		}
	}
	if pause <= nap {
		return nil
	}
	if err := r.listen(ctx); err != nil {
		return err
	}
	if r.paused != "" {
		return nil
	}
	return r.wait(ctx, pause-nap, why)
}
