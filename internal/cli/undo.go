package cli

import (
	"context"
	"errors"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/term"
)

func (a *app) undo() *cli.Command {
	return &cli.Command{
		Name:      "undo",
		Usage:     "put the old values of a run back, in batches",
		ArgsUsage: "RUN",
		Description: "The steps are taken back in reverse order. A row that others have changed since is skipped and listed.\n" +
			"An unfinished run can be undone too; afterwards it cannot be resumed. An undo that was stopped goes on with `resume`.\n\n" +
			example("jugatum undo --db sqlite:saltmere.db 3"),
		Flags: []cli.Flag{
			&cli.DurationFlag{Name: "hold", Value: defaultHold, Usage: "longest time a batch may hold its locks"},
			&cli.IntFlag{Name: "batch", Usage: "a fixed number of rows for every batch"},
			&cli.StringSliceFlag{Name: "despite", Usage: "go on despite the hazard with this code (read-only)"},
			trustFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.withRun(ctx, c, func(db engine.DB, l *ledger.Ledger, r *ledger.Run) error {
				return a.takeBack(ctx, c, db, l, r)
			})
		},
	}
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
	case !orig.Options.Keep:
		return refusef("run %d kept no values (--keep none), so there is nothing to put back", orig.ID)
	}
	if err := mayWrite(ctx, c, db); err != nil {
		return err
	}
	if err := a.believe(ctx, c, db, l, orig); err != nil {
		return err
	}
	p, err := restoreLoosely(ctx, db, orig)
	if err != nil {
		return err
	}
	kept, err := p.work(l, orig)
	if err != nil {
		return err
	}
	lost, err := fitAll(ctx, db, kept, c.Bool(trustRecord))
	if err != nil {
		return err
	}
	for _, what := range lost {
		a.err.Printf("  %s changed since run %d: there is no column %s\n", a.err.Paint(term.Warn, "warning"), orig.ID, term.Clean(what))
	}
	opts, err := limits(c, p.job)
	if err != nil {
		return err
	}
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "jugatum", LockTimeout: 5 * time.Second})
	if err != nil {
		return err
	}
	// The run must not go on while it is taken back. The session's lock, where
	// there is one, stays until the undo has ended.
	if locker, ok := db.(engine.RunLocker); ok && locker.HasRunLock() {
		defer s.Close()
		got, err := locker.LockRun(ctx, s, orig.ID, 2*time.Second) // a killed process's session may take a moment to end
		if err != nil {
			return err
		}
		if !got {
			return refusef("another process works on run %d; stop it first", orig.ID)
		}
	} else {
		err := l.Free(orig)
		s.Close()
		if errors.Is(err, ledger.ErrTaken) {
			return refusef("another process works on run %d; stop it first", orig.ID)
		}
		if err != nil {
			return err
		}
	}
	// Read again, now that nobody moves it.
	if orig, err = l.Load(ctx, orig.ID); err != nil {
		return err
	}
	if err := p.undoable(ctx); err != nil {
		return err
	}
	opts.Backwards = true
	u := &ledger.Run{Title: orig.Title, Reason: orig.Reason, UndoOf: orig.ID, Source: orig.Source, Params: orig.Params, Digest: orig.Digest, Options: opts, Version: buildVersion().version, Sealer: a.sealer()}
	slices.Reverse(p.changes)
	for i, ch := range p.changes {
		for _, o := range orig.Steps {
			if o.Name == ch.Step {
				if err := sameKey(ch, o, orig.ID); err != nil {
					return err
				}
			}
		}
		st := &ledger.Step{N: i + 1, Name: ch.Step, Verb: ch.Verb.String(), TableSchema: ch.Table.Schema, TableName: ch.Table.Name, KeyColumns: ch.Table.Key.Names(), SetColumns: ch.SetNames(),
			Method: "undo", Matched: -1, ToChange: -1, Status: "pending"}
		for _, o := range orig.Steps {
			if o.Name == ch.Step {
				st.KeptTable, st.PackedTable, st.ToChange = o.KeptTable, o.PackedTable, o.Totals.Changed
			}
		}
		u.Steps = append(u.Steps, st)
	}
	work, err := a.record(ctx, p, l, u)
	if err != nil {
		return err
	}
	if err := asUndo(work, orig); err != nil {
		return err
	}
	return a.executeFitted(ctx, c, p, l, u, work)
}
