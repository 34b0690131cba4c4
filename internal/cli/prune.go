package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
	"jugatum/internal/report"
	"jugatum/internal/term"
)

func (a *app) prune() *cli.Command {
	return &cli.Command{
		Name:  "prune",
		Usage: "drop what runs have kept, and what killed ones have left",
		Description: "Which runs is said by --run, --older and --undone; of several, all must hold. Unfinished runs are not pruned. The record\n" +
			"stays: what was changed, when, by whom and at what cost. A run that is pruned cannot be undone, and verify can ask its\n" +
			"checks alone. --leftovers drops tables that a run or a command made for a while and a kill has left; a command at work,\n" +
			"such as a preview that reads a list, would lose its own: make sure that there is none.\n\n" +
			example("jugatum prune --db sqlite:saltmere.db --older 30d", "jugatum prune --db sqlite:saltmere.db --run 3 --run 4 --yes", "jugatum prune --db sqlite:saltmere.db --leftovers"),
		Flags: []cli.Flag{
			&cli.IntSliceFlag{Name: "run", Usage: "a run, by its number"},
			&cli.StringFlag{Name: "older", Usage: "runs that ended longer ago than this (30d, 12h)"},
			&cli.BoolFlag{Name: "undone", Usage: "runs that were taken back"},
			&cli.BoolFlag{Name: "leftovers", Usage: "no run: only what was left by a kill"},
			&cli.BoolFlag{Name: "yes", Usage: "do not ask"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usagef("prune takes no arguments: --run names a run")
			}
			which, err := chosen(c)
			if err != nil {
				return err
			}
			db, err := a.open(ctx, c)
			if err != nil {
				return err
			}
			defer db.Close()
			return a.pruneAsked(ctx, c, db, which)
		},
	}
}

// choice is which runs are to be pruned.
type choice struct {
	runs          []int64
	older         time.Duration // 0 whenever
	undone, leave bool          // leave: no run at all
}

func chosen(c *cli.Command) (x choice, err error) {
	for _, n := range c.IntSlice("run") {
		x.runs = append(x.runs, int64(n))
	}
	x.undone, x.leave = c.Bool("undone"), c.Bool("leftovers")
	if text := c.String("older"); text != "" {
		if x.older, err = age(text); err != nil {
			return x, usagef("--older %s: %v", text, err)
		}
	}
	some := len(x.runs) > 0 || x.older > 0 || x.undone
	switch {
	case x.leave && some:
		return x, usagef("--leftovers is of no run: leave the others out")
	case !x.leave && !some:
		return x, usagef("which runs? --run N, --older 30d, --undone; `jugatum runs` tells what each takes. --leftovers drops only what was left by a kill")
	}
	return x, nil
}

// age reads a time in days, or as Go writes one.
func age(text string) (time.Duration, error) {
	if days, ok := strings.CutSuffix(text, "d"); ok {
		n, err := strconv.Atoi(days)
		if err != nil || n < 1 || n > 36500 {
			return 0, fmt.Errorf("expected a number of days from 1d up, or hours such as 12h")
		}
		return time.Duration(n) * 24 * time.Hour, nil
	}
	d, err := time.ParseDuration(text)
	if err != nil || d <= 0 {
		return 0, fmt.Errorf("expected a number of days such as 30d, or hours such as 12h")
	}
	return d, nil
}

// means reports whether a run is one of these.
func (x choice) means(r *ledger.Run, now time.Time) bool {
	return !x.leave && (len(x.runs) == 0 || slices.Contains(x.runs, r.ID)) && (!x.undone || r.UndoneBy != 0) &&
		(x.older == 0 || !r.EndedAt.IsZero() && now.Sub(r.EndedAt) >= x.older)
}

// pruneAsked drops what is meant, after it has asked.
func (a *app) pruneAsked(ctx context.Context, c *cli.Command, db engine.DB, which choice) error {
	l := a.ledger(db)
	runs, err := l.List(ctx)
	if err != nil {
		return err
	}
	if len(runs) == 0 {
		if ok, err := l.Exists(ctx); err != nil || !ok {
			return refuseNone(err, db)
		}
	}
	for _, n := range which.runs {
		if !slices.ContainsFunc(runs, func(r *ledger.Run) bool { return r.ID == n }) {
			return usagef("there is no run %d in %s; `jugatum runs` lists them", n, db.Name())
		}
	}
	rooms, err := l.Rooms(ctx, true)
	if err != nil {
		return err
	}
	by := map[int64]*ledger.Run{}
	for _, r := range runs {
		by[r.ID] = r
	}
	var drop []ledger.Room
	total := int64(0)
	working := slices.ContainsFunc(runs, func(r *ledger.Run) bool { return r.Status == ledger.Running })
	for _, x := range rooms {
		why := ""
		if x.Run != 0 {
			if !which.means(by[x.Run], time.Now()) {
				continue
			}
			if why, err = l.Needed(ctx, by[x.Run]); err != nil {
				return err
			}
		} else if !which.leave {
			continue
		} else if working {
			why = "a run is at work, whose these may be; stop it, or wait for its end"
		}
		if why != "" {
			a.err.Printf("  not pruned: %s: %s\n", roomName(x, by), why)
			continue
		}
		a.err.Printf("  %-9s %s\n", bytesOr(x.Bytes), roomName(x, by))
		drop = append(drop, x)
		if total >= 0 {
			total += max(x.Bytes, 0)
		}
		if x.Bytes < 0 {
			total = -1
		}
	}
	if len(drop) == 0 {
		a.err.Printf("There is nothing to drop.\n")
	} else if err := a.sure(ctx, c, fmt.Sprintf("drops %s of what was kept; none of these runs can be undone afterwards, and verify can ask their checks alone. The record of them stays.", bytesOr(total)), "prune"); err != nil {
		return err
	}
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "jugatum prune", LockTimeout: 5 * time.Second})
	if err != nil {
		return err
	}
	defer s.Close()
	for _, x := range drop {
		if r := by[x.Run]; r != nil {
			if _, err := idle(ctx, l, s, r); err != nil {
				return err
			}
			now, err := l.Load(ctx, r.ID) // now that nobody moves it
			if err != nil {
				return err
			}
			why, err := l.Needed(ctx, now)
			if err != nil {
				return err
			}
			if why != "" {
				return refusef("run %d: %s; what was dropped before it stays dropped", r.ID, why)
			}
		}
		if err := l.Prune(ctx, s, x); err != nil {
			return fmt.Errorf("%s: %w; `jugatum prune` again goes on", roomName(x, by), err)
		}
	}
	if c.Bool("json") {
		return a.json(pruneJSON(db, drop))
	}
	if len(drop) > 0 {
		a.out.Printf("Dropped: %s.\n", bytesOr(total))
	}
	return nil
}

// tidy drops what exceeds the limits of the job ([keep]), once its run is done. That it cannot is
// told, and no failure of the run.
func (a *app) tidy(ctx context.Context, p *plan.Plan, l *ledger.Ledger, r *ledger.Run) {
	if p.Job.Keep == (job.Keep{}) {
		return
	}
	s, err := p.DB.Session(ctx, engine.SessionOptions{Purpose: "jugatum prune", LockTimeout: 5 * time.Second})
	if err == nil {
		defer s.Close()
		var dropped []ledger.Room
		dropped, err = l.Tidy(ctx, s, r.ID, p.Job.Keep)
		for _, x := range dropped {
			a.err.Printf("  what run %d had kept is dropped (%s): the job's [keep] limits it\n", x.Run, bytesOr(x.Bytes))
		}
	}
	if err != nil {
		a.err.Printf("  %s the job's [keep] limits could not be kept: %v\n", a.err.Paint(term.Warn, "warning"), err)
	}
}

func refuseNone(err error, db engine.DB) error {
	if err != nil {
		return err
	}
	return refusef("no run was made in %s yet: there is nothing to drop", db.Name())
}

// roomName says whose room it is.
func roomName(x ledger.Room, by map[int64]*ledger.Run) string {
	r := by[x.Run]
	if r == nil {
		return fmt.Sprintf("%s that a kill has left", term.Counted(int64(len(x.Objects)), "table"))
	}
	ended := r.Status
	if !r.EndedAt.IsZero() {
		ended = "ended " + r.EndedAt.Local().Format("2006-01-02 15:04")
	}
	return fmt.Sprintf("run %d, %s: %s", r.ID, ended, term.Clean(r.Title))
}

func pruneJSON(db engine.DB, drop []ledger.Room) any {
	type dropped struct {
		Run    int64 `json:"run"` // 0: of no run
		Tables int   `json:"tables"`
		Bytes  int64 `json:"bytes"`
	}
	out := struct {
		Schema   int       `json:"schema"`
		Database string    `json:"database"`
		Dropped  []dropped `json:"dropped"`
	}{report.Schema, db.Name(), []dropped{}}
	for _, x := range drop {
		out.Dropped = append(out.Dropped, dropped{x.Run, len(x.Objects), x.Bytes})
	}
	return out
}

// sure has a person say so, or the caller by --yes.
func (a *app) sure(ctx context.Context, c *cli.Command, what, word string) error {
	if c.Bool("yes") {
		return nil
	}
	if !a.keyboard.TTY {
		return refusef("this %s Without a terminal, say so with --yes", what)
	}
	answer, err := a.keyboard.Ask(ctx, a.err, fmt.Sprintf("This %s\nType %s to go on, anything else to leave:", what, word))
	if err != nil || answer != word {
		return refusef("not confirmed; nothing was dropped")
	}
	return nil
}

func (a *app) forget() *cli.Command {
	return &cli.Command{
		Name:  "forget",
		Usage: "remove all of Jugatum from a database: kept values and the record of every run",
		Description: "Nothing that was changed can be verified, undone or shown afterwards. Refused while a run is unfinished.\n\n" +
			example("jugatum forget --db sqlite:saltmere.db"),
		Flags: []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do not ask"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usagef("forget takes no arguments")
			}
			db, err := a.open(ctx, c)
			if err != nil {
				return err
			}
			defer db.Close()
			l := a.ledger(db)
			if ok, err := l.Exists(ctx); err != nil || !ok {
				return refuseNone(err, db)
			}
			runs, err := l.List(ctx)
			if err != nil {
				return err
			}
			for _, r := range runs {
				why, err := l.Needed(ctx, r)
				if err != nil {
					return err
				}
				if why != "" {
					return refusef("run %d: %s", r.ID, why)
				}
			}
			rooms, err := l.Rooms(ctx, true)
			if err != nil {
				return err
			}
			n := 0
			for _, x := range rooms {
				n += len(x.Objects)
			}
			if err := a.sure(ctx, c, fmt.Sprintf("drops the record of %s and %s from %s: nothing that they changed can be verified or undone afterwards.", term.Counted(int64(len(runs)), "run"), term.Counted(int64(n), "table")+" of what they kept", db.Name()), "forget"); err != nil {
				return err
			}
			s, err := db.Session(ctx, engine.SessionOptions{Purpose: "jugatum forget", LockTimeout: 5 * time.Second})
			if err != nil {
				return err
			}
			defer s.Close()
			if err := l.Forget(ctx, s, rooms); err != nil {
				return err
			}
			a.out.Printf("%s has nothing of Jugatum any more.\n", db.Name())
			return nil
		},
	}
}
