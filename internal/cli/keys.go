package cli

import (
	"context"
	"fmt"
	"time"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
	"jugatum/internal/term"
)

// controls has the keys of the live view ask things of a run. They go by way of the ledger, as
// the commands do, so that it is on record who has asked for what.
type controls struct {
	db    engine.DB
	l     *ledger.Ledger
	run   int64
	leave func() // where the run is another process's, ends the watching; nil in the run's own
}

// keyAction is what a key asks for; do gives what is told of it.
type keyAction struct {
	name, does string
	keys       string
	do         func(ctx context.Context, c *controls, r *ledger.Run, typed byte) (string, error)
}

// keysOfRun are the keys in the order in which they are told.
var keysOfRun = []keyAction{
	{"p", "pause after the batch under way", "p", func(ctx context.Context, c *controls, _ *ledger.Run, _ byte) (string, error) {
		return "pause: after the batch under way", send(ctx, c.db, c.l, c.run, ledger.Pause, nil)
	}},
	{"g", "go on after a pause", "g", func(ctx context.Context, c *controls, _ *ledger.Run, _ byte) (string, error) {
		return "going on", send(ctx, c.db, c.l, c.run, ledger.GoOn, nil)
	}},
	{"+ −", "a longer or shorter hold target", "+=-", func(ctx context.Context, c *controls, r *ledger.Run, typed byte) (string, error) {
		hold := nextHold(r.Options.Hold, typed != '-')
		return "hold target: " + term.Duration(hold) + " from the next batch on", c.tune(ctx, r, "hold", hold.String())
	}},
	{"w W", "one worker more or fewer", "wW", func(ctx context.Context, c *controls, r *ledger.Run, typed byte) (string, error) {
		n := max(r.Options.Workers, 1) + 1
		if typed == 'W' {
			n -= 2
		}
		return fmt.Sprintf("workers: %d", n), c.tune(ctx, r, "workers", fmt.Sprint(n))
	}},
	{"s", "stop after the batch under way; it can be resumed", "s", func(ctx context.Context, c *controls, _ *ledger.Run, _ byte) (string, error) {
		return "stop: after the batch under way", send(ctx, c.db, c.l, c.run, ledger.Stop, nil)
	}},
}

// holds are the targets among which + and − choose.
var holds = []time.Duration{10 * time.Millisecond, 20 * time.Millisecond, 50 * time.Millisecond, 100 * time.Millisecond, 200 * time.Millisecond, 500 * time.Millisecond,
	time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second}

// nextHold is the next longer or shorter target; the last one stays.
func nextHold(now time.Duration, longer bool) time.Duration {
	if longer {
		for _, h := range holds {
			if h > now {
				return h
			}
		}
		return now
	}
	for i := len(holds) - 1; i >= 0; i-- {
		if holds[i] < now {
			return holds[i]
		}
	}
	return now
}

// tune gives the run another limit, if it is one that it can go by.
func (c *controls) tune(ctx context.Context, r *ledger.Run, name, value string) error {
	o, args := r.Options, map[string]string{name: value}
	if err := runner.Tune(&o, args); err != nil {
		return err
	}
	if err := able(c.db, o); err != nil {
		return err
	}
	return send(ctx, c.db, c.l, c.run, ledger.Tune, args)
}

// typed does what a key asks for, and gives what is to be told of it; "" for one that has no meaning.
func (c *controls) typed(ctx context.Context, b byte) (string, error) {
	if b == 'q' && c.leave != nil {
		c.leave()
		return "", nil
	}
	for _, k := range keysOfRun {
		for i := range len(k.keys) {
			if k.keys[i] != b {
				continue
			}
			r, err := c.l.Load(ctx, c.run) // others may have tuned it
			if err != nil {
				return "", err
			}
			if r.Status != ledger.Running {
				return "run " + fmt.Sprint(c.run) + " is " + r.Status, nil
			}
			return k.do(ctx, c, r, b)
		}
	}
	return "", nil
}

// help lists the keys.
func (c *controls) help() (out []string) {
	for _, k := range keysOfRun {
		out = append(out, fmt.Sprintf("  %-4s %s", k.name, k.does))
	}
	if c.leave != nil {
		out = append(out, fmt.Sprintf("  %-4s %s", "q", "leave; the run goes on"))
	}
	return append(out, fmt.Sprintf("  %-4s %s", "?", "less"))
}

// hint is that in one line.
func (c *controls) hint() string {
	s := "p pause   g go on   + − hold target   w W workers   s stop   ? help"
	if c.leave != nil {
		s += "   q leave"
	}
	return s
}

// listen has keys typed at the terminal control a run, where there is somebody at it and room to
// show what they do. It ends with the view.
func (l *liveRun) listen(ctx context.Context, c *controls) {
	if !l.a.err.TTY || !l.a.keyboard.TTY {
		return
	}
	keys, err := term.OpenKeys()
	if err != nil {
		return // the commands do the same
	}
	l.mu.Lock()
	l.keys, l.controls = keys, c
	l.mu.Unlock()
	go func() {
		for b := range keys.C {
			l.mu.Lock()
			shown := l.roomy()
			if b == '?' {
				l.helping = !l.helping
			}
			l.mu.Unlock()
			var told string
			var err error
			if shown {
				told, err = c.typed(ctx, b)
			} else { // nobody has been told what it would do
				told = fmt.Sprintf("keys steer the run at a terminal of at least %d columns and %d lines", roomyWidth, roomyHeight)
			}
			if err != nil {
				told = term.Clean(err.Error())
			}
			l.mu.Lock()
			if told != "" {
				l.told, l.toldAt = told, time.Now()
			}
			l.draw(true)
			l.mu.Unlock()
		}
	}()
}
