package cli

import (
	"context"
	"errors"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
)

func (a *app) undo() *cli.Command {
	return &cli.Command{
		Name:      "undo",
		Usage:     "put the old values of a run back, in batches",
		ArgsUsage: "RUN",
		Description: "The steps are taken back in reverse order. A row that others have changed since is skipped and listed.\n" +
			"An unfinished run can be undone too; afterwards it cannot be resumed. An undo that was stopped goes on with `resume`.\n\n" +
			example("jugatum undo --db sqlite:saltmere.db 3"),
		Flags: append([]cli.Flag{
			&cli.DurationFlag{Name: "hold", Value: defaultHold, Usage: "longest time a batch may hold its locks"},
			&cli.IntFlag{Name: "batch", Usage: "a fixed number of rows for every batch"},
			&cli.StringSliceFlag{Name: "despite", Usage: "go on despite the hazard with this code (read-only, no-undo)"},
			trustFlag(),
		}, eventFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.withRun(ctx, c, func(db engine.DB, l *ledger.Ledger, r *ledger.Run) error {
				return a.takeBack(ctx, c, db, l, r)
			})
		},
	}
}

// idle refuses a run that another process works on; see ledger.Idle.
func idle(ctx context.Context, l *ledger.Ledger, s *engine.Session, r *ledger.Run) (locked bool, err error) {
	locked, err = l.Idle(ctx, s, r)
	if errors.Is(err, ledger.ErrTaken) {
		err = refusef("another process works on run %d; stop it first", r.ID)
	}
	return locked, err
}

func (a *app) takeBack(ctx context.Context, c *cli.Command, db engine.DB, l *ledger.Ledger, orig *ledger.Run) error {
	switch {
	case orig.UndoOf != 0:
		return refusef("run %d is itself an undo, of run %d; run the job again to have its values", orig.ID, orig.UndoOf)
	case orig.UndoneBy != 0:
		u, err := l.Load(ctx, orig.UndoneBy)
		if err != nil {
			return err
		}
		if u.Status != ledger.Done {
			return refusef("run %d, the undo of run %d, is unfinished; `jugatum resume %d` goes on with it", u.ID, orig.ID, u.ID)
		}
		return refusef("run %d was already taken back by run %d", orig.ID, u.ID)
	case orig.Lost() != "":
		return refusef("run %d %s, so there is nothing to put back", orig.ID, orig.Lost())
	}
	if err := plan.MayWrite(ctx, db, c.StringSlice("despite")); err != nil {
		return err
	}
	if err := a.believe(ctx, c, db, l, orig); err != nil {
		return err
	}
	p, err := plan.RestoreLoosely(ctx, db, orig)
	if err != nil {
		return err
	}
	if err := p.Keepable(orig, c.StringSlice("despite")); err != nil {
		return err
	}
	kept, err := p.Work(ctx, l, orig)
	if err != nil {
		return err
	}
	if err := a.fit(ctx, c, db, orig, kept); err != nil {
		return err
	}
	opts, err := limits(c, p.Job)
	if err != nil {
		return err
	}
	if _, err := a.followers(c); err != nil { // before anything is recorded
		return err
	}
	defer func() { a.unfollow(a.following) }() // where it does not come to a run
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "jugatum", LockTimeout: 5 * time.Second})
	if err != nil {
		return err
	}
	// The run must not go on while it is taken back. The session's lock, where
	// there is one, stays until the undo has ended.
	locked, err := idle(ctx, l, s, orig)
	if locked {
		defer s.Close()
	} else {
		s.Close()
	}
	if err != nil {
		return err
	}
	// Read again, now that nobody moves it.
	if orig, err = l.Load(ctx, orig.ID); err != nil {
		return err
	}
	if err := p.Undoable(ctx, l, orig); err != nil {
		return err
	}
	u, err := p.Undo(orig, opts)
	if err != nil {
		return err
	}
	u.Version, u.Sealer = buildVersion().version, a.sealer()
	a.begun = time.Now()
	work, err := p.Record(ctx, l, u)
	if err != nil {
		return err
	}
	if err := plan.AsUndo(work, l, orig); err != nil {
		return err
	}
	return a.executeFitted(ctx, c, p, l, u, work)
}
