package cli

import (
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/report"
	"jugatum/internal/term"
)

func (a *app) runs() *cli.Command {
	return &cli.Command{
		Name:        "runs",
		Usage:       "what was run here, when, by whom, and how it ended",
		Description: example("jugatum runs --db sqlite:saltmere.db"),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usagef("runs takes no arguments; `jugatum show RUN` shows one")
			}
			db, err := a.open(ctx, c)
			if err != nil {
				return err
			}
			defer db.Close()
			list, err := a.ledger(db).List(ctx)
			if err != nil {
				return err
			}
			room := map[int64]int64{}
			if len(list) > 0 {
				rooms, err := a.ledger(db).Rooms(ctx, false)
				if err != nil {
					return err
				}
				for _, x := range rooms {
					room[x.Run] = x.Bytes
				}
			}
			if c.Bool("json") {
				return a.json(runsJSON(db, list, room))
			}
			if len(list) == 0 {
				a.out.Printf("No run was made in %s yet.\n", db.Name())
				return nil
			}
			t := a.out.NewTable(">run", "status", "started", "by", ">steps", ">rows changed", ">kept", "job").Yield("steps", "by", "kept", "started")
			for _, r := range list {
				t.Row(fmt.Sprint(r.ID), a.statusText(r), r.StartedAt.Local().Format("2006-01-02 15:04:05"), term.Clean(r.OSUser+"@"+r.Host), fmt.Sprint(len(r.Steps)), term.Count(changed(r)), keptText(r, room), a.out.Cut(term.Clean(r.Title), 60))
			}
			t.Print()
			return nil
		},
	}
}

// keptText is the room that what a run has kept takes.
func keptText(r *ledger.Run, room map[int64]int64) string {
	n, ok := room[r.ID]
	switch {
	case ok:
		return bytesOr(n)
	case r.Pruned != nil && r.UndoOf == 0:
		return "dropped"
	}
	return "-"
}

func changed(r *ledger.Run) int64 {
	n := int64(0)
	for _, s := range r.Steps {
		n += s.Totals.Changed
	}
	return n
}

// statusText is a run's status with what became of it.
func (a *app) statusText(r *ledger.Run) string {
	s := r.Status
	if r.UndoOf != 0 {
		s = fmt.Sprintf("undo of %d, %s", r.UndoOf, s)
	}
	if r.UndoneBy != 0 {
		s += fmt.Sprintf(", undone by %d", r.UndoneBy)
	}
	switch r.Status {
	case ledger.Done:
		return a.out.Paint(term.Good, s)
	case ledger.Failed:
		return a.out.Paint(term.Bad, s)
	}
	return a.out.Paint(term.Warn, s)
}

type runJSON struct {
	Run       int64      `json:"run"`
	Title     string     `json:"title"`
	Status    string     `json:"status"`
	UndoOf    int64      `json:"undo_of,omitempty"`
	UndoneBy  int64      `json:"undone_by,omitempty"`
	StartedAt time.Time  `json:"started_at"`
	EndedAt   *time.Time `json:"ended_at,omitempty"`
	User      string     `json:"os_user"`
	Host      string     `json:"host"`
	Steps     int        `json:"steps"`
	Changed   int64      `json:"changed"`
	Kept      int64      `json:"kept_bytes"` // that what it has kept takes; -1 unknown
	Pruned    *time.Time `json:"pruned_at,omitempty"`
}

func runsJSON(db engine.DB, list []*ledger.Run, room map[int64]int64) any {
	out := struct {
		Schema   int       `json:"schema"`
		Database string    `json:"database"`
		Runs     []runJSON `json:"runs"`
	}{report.Schema, db.Name(), []runJSON{}}
	for _, r := range list {
		x := runJSON{Run: r.ID, Title: r.Title, Status: r.Status, UndoOf: r.UndoOf, UndoneBy: r.UndoneBy, StartedAt: r.StartedAt, User: r.OSUser, Host: r.Host, Steps: len(r.Steps), Changed: changed(r), Kept: room[r.ID]}
		if r.Pruned != nil {
			x.Pruned = &r.Pruned.At
		}
		if !r.EndedAt.IsZero() {
			x.EndedAt = &r.EndedAt
		}
		out.Runs = append(out.Runs, x)
	}
	return out
}

// printJob shows the text of a job.
func (a *app) printJob(r *ledger.Run) {
	if r.Source.SQL || r.UndoOf != 0 { // it is the title, or that of the run that was taken back
		return
	}
	a.out.Printf("%s\n", a.out.Paint(term.Faint, "job "+term.Clean(r.Source.Name)))
	for _, line := range strings.Split(strings.TrimSpace(r.Source.Text), "\n") {
		a.out.Printf("  %s\n", term.Clean(strings.ReplaceAll(strings.TrimRight(line, "\r"), "\t", "    ")))
	}
	a.out.Printf("\n")
}

// usesClock reports whether the job asks for the present time.
func usesClock(d change.Dialect, r *ledger.Run) bool {
	j, err := job.Restore(r.Source)
	if err != nil {
		return false
	}
	for _, s := range j.Steps {
		texts := []string{s.SQL, s.Where, s.Order}
		for _, f := range append(slices.Clone(s.Let), s.Set...) {
			texts = append(texts, f.Expr)
		}
		if s.Once != "" || slices.ContainsFunc(texts, func(text string) bool { return change.TellsTime(d, text) }) {
			return true
		}
	}
	return false
}

func (a *app) show() *cli.Command {
	return &cli.Command{
		Name:        "show",
		Usage:       "one run in full",
		ArgsUsage:   "RUN",
		Description: example("jugatum show --db sqlite:saltmere.db 3"),
		Flags: []cli.Flag{&cli.StringFlag{Name: "set-aside-csv", Usage: "write the rows that were set aside into this file"},
			&cli.StringFlag{Name: "lines", Usage: "write the lines of the run's list into this file, with what became of each"},
			trustFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.withRun(ctx, c, func(db engine.DB, l *ledger.Ledger, r *ledger.Run) error {
				s, err := report.Read(ctx, db, l, r.ID, 0)
				if err != nil {
					return err
				}
				if path := c.String("lines"); path != "" {
					if err := a.believe(ctx, c, db, l, r); err != nil { // its SQL says which rows are read
						return err
					}
					if err := writeLines(ctx, db, l, r, path); err != nil {
						return err
					}
				}
				if path := c.String("set-aside-csv"); path != "" {
					all, err := l.Asides(ctx, r.ID, math.MaxInt32)
					if err != nil {
						return err
					}
					if err := writeAsides(path, all); err != nil {
						return err
					}
				}
				if c.Bool("json") {
					return a.json(s)
				}
				o := a.out
				o.Printf("%s  started %s by %s on %s", o.Paint(term.Faint, db.Name()), s.StartedAt.Local().Format("2006-01-02 15:04:05"), term.Clean(s.User), term.Clean(s.Host))
				if s.EndedAt != nil {
					o.Printf(", ended %s", s.EndedAt.Local().Format("2006-01-02 15:04:05"))
				}
				o.Printf("\n")
				if s.Reason != "" {
					o.Printf("reason %s\n", term.Clean(s.Reason))
				}
				for _, name := range slices.Sorted(maps.Keys(r.Params)) {
					if name == change.Clock { // what now() and its like stand for
						if usesClock(db.Dialect(), r) {
							o.Printf("time of the run %s\n", term.Clean(r.Params[name].Text))
						}
						continue
					}
					if ledger.IsListParam(name) { // told with what became of its lines
						continue
					}
					o.Printf("parameter %s = %s (%s)\n", name, term.Clean(r.Params[name].Text), r.Params[name].Type)
				}
				if s.UndoneBy != 0 {
					o.Printf("%s\n", o.Paint(term.Warn, fmt.Sprintf("taken back by run %d", s.UndoneBy)))
				}
				o.Printf("\n")
				a.printJob(r)
				s.PrintRecord(o, dbFlag(c, db))
				return nil
			})
		},
	}
}
