package cli

import (
	"context"
	"fmt"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
	"jugatum/internal/report"
	"jugatum/internal/runner"
)

func (a *app) pause() *cli.Command {
	return &cli.Command{
		Name:        "pause",
		Usage:       "hold a run up after the batch under way, from another terminal",
		ArgsUsage:   "RUN",
		Description: "`resume` continues it; `stop` ends it.\n\n" + example("jugatum pause --db postgres://dba@db1/saltmere 3"),
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.signal(ctx, c, ledger.Pause, nil, "is paused")
		},
	}
}

func (a *app) stop() *cli.Command {
	return &cli.Command{
		Name:        "stop",
		Usage:       "end a run after the batch under way, from another terminal; it can be resumed",
		ArgsUsage:   "RUN",
		Description: example("jugatum stop --db postgres://dba@db1/saltmere 3"),
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.signal(ctx, c, ledger.Stop, nil, "stops")
		},
	}
}

func (a *app) tune() *cli.Command {
	return &cli.Command{
		Name:        "tune",
		Usage:       "give a run that goes on other limits, from the next batch on",
		ArgsUsage:   "RUN",
		Description: "What is not named stays as it is; `off` takes a limit away. The new limits also hold when the run is resumed.\n\n" + example("jugatum tune --db postgres://dba@db1/saltmere 3 --hold 100ms --log-rate 5MB/s"),
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "hold", Usage: "longest time a batch may hold its locks"},
			&cli.StringFlag{Name: "batch", Usage: "a fixed number of rows for every batch; --hold ends that"},
			workersFlag(),
		}, limitFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			args := map[string]string{}
			for _, name := range []string{"hold", "batch", "workers"} {
				if c.IsSet(name) {
					args[name] = c.String(name)
				}
			}
			for flag, name := range limitNames {
				if c.IsSet(flag) {
					args[name] = c.String(flag)
				}
			}
			if len(args) == 0 {
				return usagef("which limit? See `jugatum tune --help`")
			}
			var o ledger.Options
			if err := runner.Tune(&o, args); err != nil {
				return usagef("%v", err)
			}
			if err := a.withRun(ctx, c, func(db engine.DB, _ *ledger.Ledger, r *ledger.Run) error {
				o.Replicas = r.Options.Replicas
				return able(db, o)
			}); err != nil {
				return err
			}
			return a.signal(ctx, c, ledger.Tune, args, "goes by the new limits")
		},
	}
}

// limitNames are the limits that have a flag of their own, by the flag.
var limitNames = map[string]string{"waiters": "waiters", "lag": "lag", "log-rate": "log_rate", "window": "window"}

func limitFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "waiters", Usage: "ease off while more other sessions than this wait on us"},
		&cli.StringFlag{Name: "lag", Usage: "write no faster than keeps every replica within this (5s)"},
		&cli.StringFlag{Name: "log-rate", Usage: "most log to write (20MB/s)"},
		&cli.StringFlag{Name: "window", Usage: "begin batches only at this time of day (22:00-05:30)"},
	}
}

func workersFlag() cli.Flag {
	return &cli.StringFlag{Name: "workers", Usage: "how many sessions change rows at the same time, each in lanes of its own"}
}

func replicaFlag() cli.Flag {
	return &cli.StringSliceFlag{Name: "replica", Usage: "`URL` of a replica or another cluster node that --lag minds (MariaDB; user and password are the database's own if left out)"}
}

func awaitFlag() cli.Flag {
	return &cli.BoolFlag{Name: "await-replicas", Usage: "a replica that cannot be reached is waited for instead of refused"}
}

// signal sends a word to the process that works on a run, and waits a moment to
// see whether it took notice.
func (a *app) signal(ctx context.Context, c *cli.Command, kind string, args map[string]string, does string) error {
	return a.withRun(ctx, c, func(db engine.DB, l *ledger.Ledger, r *ledger.Run) error {
		if r.Status != ledger.Running {
			return refusef("run %d is already %s; there is nothing to %s", r.ID, r.Status, kind)
		}
		if err := send(ctx, db, l, r.ID, kind, args); err != nil {
			return err
		}
		for begun := time.Now(); time.Since(begun) < heardWithin; {
			now, err := l.Load(ctx, r.ID) // before the signals: what it ended by it has noted by then
			if err != nil {
				return err
			}
			list, err := l.Signals(ctx, r.ID, 0)
			if err != nil {
				return err
			}
			if n := len(list); n > 0 && list[n-1].SeenAt != nil {
				a.out.Printf("Run %d %s.\n", r.ID, does)
				return nil
			}
			if now.Status != ledger.Running {
				return refusef("run %d has ended meanwhile (%s): there was nothing left to %s", r.ID, now.Status, kind)
			}
			select {
			case <-ctx.Done():
				return ctx.Err()
			case <-time.After(100 * time.Millisecond):
			}
		}
		return fmt.Errorf("run %d has not taken notice for %v: the process %d on %s may be dead, in which case `jugatum resume %d` goes on; otherwise it will hear this after its batch", r.ID, heardWithin, r.PID, r.Host, r.ID)
	})
}

// send writes a word to a run into the ledger.
func send(ctx context.Context, db engine.DB, l *ledger.Ledger, run int64, kind string, args map[string]string) error {
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "jugatum " + kind, LockTimeout: 5 * time.Second})
	if err != nil {
		return err
	}
	defer s.Close()
	if err := l.Send(ctx, s, run, kind, args); err != nil {
		return fmt.Errorf("the signal cannot be written into the ledger: %w", err)
	}
	return nil
}

// heardWithin is how long a signal may take; a batch is over long before.
const heardWithin = 10 * time.Second

func (a *app) watch() *cli.Command {
	return &cli.Command{
		Name:        "watch",
		Usage:       "follow a run from another terminal",
		ArgsUsage:   "RUN",
		Description: "The view is that of `run` itself, read from the ledger. Ctrl-C ends the watching, not the run; so does the key q. On a terminal of 100 columns and 24 lines keys steer the run, as they do in its own view.\n\n" + example("jugatum watch --db postgres://dba@db1/saltmere 3"),
		Flags:       []cli.Flag{replicaFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.withRun(ctx, c, func(db engine.DB, l *ledger.Ledger, r *ledger.Run) error {
				if err := able(db, ledger.Options{Replicas: c.StringSlice("replica")}); err != nil {
					return err
				}
				wctx, stop, done := a.interruptible(ctx)
				defer done()
				left, leave := context.WithCancel(wctx)
				defer leave()
				shown := a.newLiveRun(nil)
				shown.listen(wctx, &controls{db, l, r.ID, leave})
				from := map[int]ledger.Totals{} // of each step, when the watching began
				begun := time.Now()
				ask := besides(wctx, c, db, l, r)
				recent := &lately{l: l, run: r.ID, known: map[[2]int]int64{}}
				look := func() error {
					p, err := l.Progress(wctx, r)
					if err != nil {
						return err
					}
					pr := watched(r, p, from, begun)
					ask(wctx, &pr)
					if a.err.TTY { // else nobody sees the plots that it is for
						if err := recent.read(wctx, r, shown.happened); err != nil {
							return err
						}
					}
					shown.show(pr)
					return nil
				}
				for {
					err := look()
					if err == nil && r.Status == ledger.Running {
						select {
						case <-stop:
							shown.clear()
							return nil
						case <-left.Done():
							shown.clear()
							return nil
						case <-time.After(400 * time.Millisecond):
						}
						if r, err = l.Load(wctx, r.ID); err == nil {
							continue
						}
					}
					shown.clear()
					if err != nil {
						return err
					}
					break
				}
				sum, err := report.Read(ctx, db, l, r.ID, 0)
				if err != nil {
					return err
				}
				if c.Bool("json") {
					return a.json(sum)
				}
				sum.Print(a.out, dbFlag(c, db))
				return nil
			})
		},
	}
}

// lately tells of the batches of a run that are new on record.
type lately struct {
	l     *ledger.Ledger
	run   int64
	known map[[2]int]int64 // of each step and lane, the last batch told of

	// late is how much later than it ended a batch was seen at the least: what the clock of
	// the process at work is behind ours, and half a look.
	late time.Duration
	seen bool
}

// read tells of them; at first, of the last few of each lane.
func (x *lately) read(ctx context.Context, r *ledger.Run, happened func(runner.Event)) error {
	var list []*ledger.Batch
	for _, st := range r.Steps {
		if st.Status != "running" {
			continue
		}
		for _, lane := range st.Lanes {
			at := [2]int{st.N, lane.N}
			if _, ok := x.known[at]; !ok {
				x.known[at] = max(lane.Batches-trailParts, 0)
			}
			err := x.l.BatchesAfter(ctx, x.run, st.N, lane.N, x.known[at], func(b ledger.Measured) error {
				x.known[at] = b.N
				list = append(list, b.Batch(r.ID))
				return nil
			})
			if err != nil {
				return err
			}
		}
	}
	now := time.Now()
	for _, b := range list {
		if late := now.Sub(b.Began.Add(b.Hold)); !x.seen || late < x.late {
			x.seen, x.late = true, late
		}
	}
	for _, b := range list {
		happened(runner.Event{At: b.Began.Add(b.Hold + x.late), Kind: runner.BatchDone, Batch: b})
	}
	return nil
}

// watched makes the view of a run from what the ledger says. The speed is that
// since the watching began.
func watched(r *ledger.Run, p ledger.Latest, from map[int]ledger.Totals, begun time.Time) runner.Progress {
	out := runner.Progress{Run: r.ID, Undo: r.UndoOf != 0, Steps: len(r.Steps), Elapsed: time.Since(r.StartedAt), Note: p.Note, Size: int(p.Scanned), Hold: p.Hold, Worst: p.Worst,
		SetAside: p.SetAside, Waiters: p.Waiters, Lag: -1}
	if r.Options.Batch == 0 {
		out.Target = r.Options.Hold
	}
	for _, st := range r.Steps {
		t := st.Totals
		out.Batches += t.Batches
		if out.Log.Scope == "" {
			out.Log = t.Log
		} else {
			out.Log.Add(t.Log)
		}
		if st.Status == "pending" {
			continue
		}
		if _, ok := from[st.N]; !ok {
			from[st.N] = t
		}
		out.Step, out.Name, out.Scanned, out.Matched, out.Changed, out.Skipped = st.N, st.Name, t.Scanned, t.Matched, t.Changed, t.Skipped
		out.TableRows, out.ToChange, out.Here, out.StepElapsed = st.TableRows, st.ToChange, t.Scanned-from[st.N].Scanned, time.Since(begun)
		out.Workers = min(r.Options.Workers, len(st.Unfinished()))
	}
	return out
}

// besides gives what a watcher asks of the server rather than of the ledger: how
// far replicas are behind, and the work that is left for later. What cannot be
// asked is left out.
func besides(ctx context.Context, c *cli.Command, db engine.DB, l *ledger.Ledger, r *ledger.Run) func(context.Context, *runner.Progress) {
	lag, lags := db.(engine.LagTeller)
	if o := (ledger.Options{Replicas: c.StringSlice("replica")}); len(o.Replicas) > 0 { // those of the record are not believed
		lags = lags && follow(ctx, c, db, &o) == nil
	}
	var work []*runner.Work
	keeper, keeps := db.(engine.Housekeeper)
	if why, _ := doubt(db, l, r); keeps && why == "" { // else its SQL is not even planned
		_, work, _ = plan.Prepare(ctx, db, l, r)
	}
	var keeping []engine.Setting
	var asked time.Time
	step := 0
	return func(ctx context.Context, p *runner.Progress) {
		if lags {
			if l, err := lag.Lag(ctx); err == nil {
				p.Lag, p.Replica = l.Age, l.String()
			}
		}
		if p.Step != step || time.Since(asked) > runner.KeepEvery {
			step, asked, keeping = p.Step, time.Now(), nil
			for _, w := range work {
				if w.Step.N == step && w.Change.Call == nil {
					keeping, _ = keeper.Housekeeping(ctx, w.Change)
				}
			}
		}
		p.Keeping = keeping
	}
}

// resumePaused lets a run go on that is only paused; false if nobody works on it.
func (a *app) resumePaused(ctx context.Context, c *cli.Command, db engine.DB, l *ledger.Ledger, r *ledger.Run) (bool, error) {
	if r.Status != ledger.Running {
		return false, nil
	}
	list, err := l.Signals(ctx, r.ID, 0)
	if err != nil {
		return false, err
	}
	paused := false
	for _, s := range list {
		switch {
		case s.Kind == ledger.Pause:
			paused = true
		case s.Kind == ledger.GoOn, s.Kind == ledger.Stop:
			paused = false
		}
	}
	if !paused || !a.alive(ctx, db, l, r) {
		return false, nil
	}
	return true, a.signal(ctx, c, ledger.GoOn, nil, "is resumed")
}

// alive reports whether somebody works on the run: by the server's lock, or by
// the lease where it has none.
func (a *app) alive(ctx context.Context, db engine.DB, l *ledger.Ledger, r *ledger.Run) bool {
	locker, ok := db.(engine.RunLocker)
	if !ok || !locker.HasRunLock() {
		return l.Free(r) != nil
	}
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "jugatum", LockTimeout: time.Second})
	if err != nil {
		return false
	}
	defer s.Close()
	got, err := locker.LockRun(ctx, s, r.ID, 0)
	return err == nil && !got
}
