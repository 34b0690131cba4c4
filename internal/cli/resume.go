package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/pace"
	"jugatum/internal/plan"
)

func (a *app) resume() *cli.Command {
	return &cli.Command{
		Name:        "resume",
		Usage:       "go on from the checkpoints of a stopped, failed or killed run",
		ArgsUsage:   "RUN",
		Description: "The job is taken from the ledger; its file is not needed. A run that is only paused goes on in its own terminal.\n\n" + example("jugatum resume --db sqlite:saltmere.db 3"),
		Flags: append([]cli.Flag{
			&cli.BoolFlag{Name: "no-search", Usage: "do not look once more after the run: for replaced texts, and for what a fill found no match for"},
			&cli.BoolFlag{Name: "retry-set-aside", Usage: "try the rows that were set aside once more, also if the run is done"},
			&cli.IntFlag{Name: "set-aside", Usage: "most rows that may be set aside from here on, those before included"},
			&cli.StringSliceFlag{Name: "despite", Usage: "check: go on although a check after a finished step does not hold; or the code of a hazard that stands before the next step"},
			workersFlag(),
			replicaFlag(),
			awaitFlag(),
			trustFlag(),
		}, eventFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.withRun(ctx, c, func(db engine.DB, l *ledger.Ledger, r *ledger.Run) error {
				aside, err := l.AsideCount(ctx, r.ID)
				if err != nil {
					return err
				}
				switch {
				case r.Pruned != nil:
					return refusef("run %d %s: it cannot go on, nor can rows that were set aside be tried again", r.ID, r.Lost())
				case r.UndoneBy != 0:
					return refusef("run %d was taken back by run %d and cannot go on", r.ID, r.UndoneBy)
				case r.Status == ledger.Done && aside == 0:
					return refusef("run %d is done; there is nothing to go on with", r.ID)
				case r.Status == ledger.Done && !c.Bool("retry-set-aside"):
					return refusef("run %d is done but for %d rows that were set aside; --retry-set-aside tries them again", r.ID, aside)
				}
				if done, err := a.resumePaused(ctx, c, db, l, r); done || err != nil {
					return err
				}
				if c.IsSet("workers") {
					if r.Options.Workers, err = pace.ParseWorkers(c.String("workers")); err != nil {
						return usagef("--workers %s: %v", c.String("workers"), err)
					}
					if err := able(db, r.Options); err != nil {
						return err
					}
				}
				if c.IsSet("set-aside") {
					if r.Options.SetAside = int(c.Int("set-aside")); r.Options.SetAside < 0 {
						return usagef("--set-aside %d: expected a number of rows from 0 up", r.Options.SetAside)
					}
				}
				if err := named(c, r.Options.Replicas, fmt.Sprintf("run %d", r.ID)); err != nil {
					return err
				}
				r.Options.Replicas = c.StringSlice("replica")
				if err := follow(ctx, c, db, &r.Options); err != nil {
					return err
				}
				if err := a.believe(ctx, c, db, l, r); err != nil {
					return err
				}
				if k, err := key(); err == nil {
					r.Sealer = k.Seal
				}
				if err := l.Despite(r, c.StringSlice("despite")); err != nil {
					return err
				}
				p, work, err := plan.Prepare(ctx, db, l, r)
				if err != nil {
					return err
				}
				if p.Unreadable != nil && r.UndoOf == 0 {
					return refusef("run %d cannot go on, since the database has changed: %v", r.ID, p.Unreadable)
				}
				if err := p.Resume(ctx, work); err != nil {
					return err
				}
				return a.executeFitted(ctx, c, p, l, r, work)
			})
		},
	}
}

// withRun opens the database and reads the run that a command's argument names.
func (a *app) withRun(ctx context.Context, c *cli.Command, do func(engine.DB, *ledger.Ledger, *ledger.Run) error) error {
	arg, err := oneArg(c, "the number of a run")
	if err != nil {
		return err
	}
	id, err := strconv.ParseInt(arg, 10, 64)
	if err != nil {
		return usagef("%q is not the number of a run; `jugatum runs` lists them", arg)
	}
	db, err := a.open(ctx, c)
	if err != nil {
		return err
	}
	defer db.Close()
	l := a.ledger(db)
	r, err := l.Load(ctx, id)
	if err == ledger.ErrNone {
		return usagef("%s: %v", db.Name(), err)
	}
	if err != nil {
		return err
	}
	return do(db, l, r)
}
