package cli

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
	"jugatum/internal/report"
	"jugatum/internal/term"
	"jugatum/internal/verify"
)

func (a *app) verify() *cli.Command {
	return &cli.Command{
		Name:        "verify",
		Usage:       "check the database against what a run recorded, and the job's own checks",
		ArgsUsage:   "RUN",
		Description: "Exit status 6 if something does not hold.\n\n" + example("jugatum verify --db sqlite:saltmere.db 3"),
		Flags:       []cli.Flag{trustFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.withRun(ctx, c, func(db engine.DB, l *ledger.Ledger, r *ledger.Run) error {
				if r.UndoneBy != 0 {
					return refusef("run %d was taken back by run %d; `jugatum verify %d` checks that", r.ID, r.UndoneBy, r.UndoneBy)
				}
				if err := a.believe(ctx, c, db, l, r); err != nil {
					return err
				}
				p, work, err := plan.Prepare(ctx, db, l, r)
				if err != nil {
					return err
				}
				if err := a.fit(ctx, c, db, r, work); err != nil {
					return err
				}
				if p.Unreadable != nil {
					p.Job = &job.Job{} // whose checks are gone with it
					a.err.Printf("  %s changed since run %d: %s; rows that it passed by are not looked for, and its checks not asked\n", a.err.Paint(term.Warn, "warning"), r.ID, term.Clean(p.Unreadable.Error()))
				}
				live := a.err.NewLive()
				res, err := verify.Run(ctx, db, l, r, work, p.Job, func(done, total int64) {
					text := fmt.Sprintf("comparing: %s of %s kept rows", term.Count(done), term.Count(total))
					live.Show(func(int) []string { return []string{text} }, func() string { return text }, false)
				})
				live.Clear()
				if err != nil {
					return err
				}
				if r.Status == ledger.Done { // else it goes on, and nothing is said of what comes then
					a.recordVerified(ctx, db, l, r, res)
				}
				if c.Bool("json") {
					err = a.json(struct {
						Schema int `json:"schema"`
						*verify.Result
					}{report.Schema, res})
				} else {
					a.printVerify(res, r)
				}
				if err == nil && !res.Holds {
					text := fmt.Sprintf("run %d does not hold: see what is marked above", r.ID)
					if !onlyCalls(res) {
						text += "; rows that others changed since stay as they are in an undo"
					}
					err = &plan.Unheld{Msg: text}
				}
				return err
			})
		},
	}
}

// recordVerified has the run's report tell of the verification. Who may not write to the ledger
// verifies all the same.
func (a *app) recordVerified(ctx context.Context, db engine.DB, l *ledger.Ledger, r *ledger.Run, res *verify.Result) {
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "jugatum verify", LockTimeout: 5 * time.Second})
	if err == nil {
		defer s.Close()
		var sealer func([]byte) string
		if k, kerr := key(); kerr == nil {
			sealer = k.Seal
		}
		err = l.RecordVerified(ctx, s, r.ID, res.Record(), sealer)
	}
	if err != nil {
		a.err.Printf("  %s\n", a.err.Paint(term.Faint, "that it was verified is not on record: "+term.Clean(err.Error())))
	}
}

// onlyCalls tells whether nothing of what the run did is kept, since it called statements alone.
func onlyCalls(res *verify.Result) bool {
	return !slices.ContainsFunc(res.Steps, func(s verify.Step) bool { return s.Called == nil })
}

// verified lists the steps, each with what its batches did to other tables after it.
func verified(steps []verify.Step) (out []verify.Step) {
	for _, s := range steps {
		out = append(append(out, s), s.Acts...)
	}
	return out
}

func (a *app) printVerify(res *verify.Result, r *ledger.Run) {
	o := a.out
	what := "the new values are expected"
	if onlyCalls(res) {
		what = "each line is to be accounted for"
	}
	if res.State == "restored" {
		what = fmt.Sprintf("the old values from before run %d are expected", r.UndoOf)
	}
	o.Printf("%s  %s; %s\n", o.Paint(term.Bold, fmt.Sprintf("verify run %d", res.Run)), term.Clean(r.Title), what)
	if r.Status != ledger.Done {
		o.Printf("%s\n", o.Paint(term.Warn, fmt.Sprintf("the run is not finished (%s): only what it has done so far is checked", r.Status)))
	}
	for _, s := range verified(res.Steps) {
		o.Printf("\n%s  %s\n", o.Paint(term.Bold, term.Clean(s.Name)), term.Clean(s.Table))
		mark := func(ok bool, format string, args ...any) {
			sign := o.Paint(term.Good, "✓")
			if !ok {
				sign = o.Paint(term.Bad, "✗")
			}
			o.Printf("  %s %s\n", sign, fmt.Sprintf(format, args...))
		}
		if s.Remark != "" {
			o.Printf("  %s\n", o.Paint(term.Warn, s.Remark))
		}
		if x := s.Called; x != nil {
			mark(x.Holds, "%s lines: the statement was carried out for %s, %s were set aside", term.Count(x.Lines), term.Count(x.Called), term.Count(x.Refused))
			o.Printf("    %s\n", o.Paint(term.Faint, "what it did is not kept, and not looked at"))
		}
		if s.Kept >= 0 && r.UndoOf == 0 && r.Status != ledger.Running { // at work, the one count is older than the other
			mark(s.Kept == s.Changed, "%s changed by the batches' own counts, %s kept", term.Rows(s.Changed), term.Count(s.Kept))
		}
		if s.Kept >= 0 {
			with := "the table"
			switch {
			case s.Copied:
				with = term.Clean(s.To)
			case s.To != "":
				with += " and with " + term.Clean(s.To)
			}
			if s.Mismatched == 0 {
				mark(true, "%s compared with %s: all as recorded", term.Counted(s.Compared, "kept row"), with)
			} else {
				mark(false, "%s compared with %s: %s not as recorded", term.Counted(s.Compared, "kept row"), with, term.Count(s.Mismatched))
			}
			if s.Left > 0 {
				o.Printf("    %s rows were skipped by the undo and are not counted\n", term.Count(s.Left))
			}
		}
		switch {
		case s.Missed < 0:
		case s.Missed == 0:
			mark(true, "no other row matches the filter and would change")
		case s.Certain:
			mark(false, "%s rows match the filter and would change, and nobody has written them since the run began", term.Count(s.Missed))
		default:
			o.Printf("    %s rows match the filter and were not changed: others have written them since, or the tables that the step reads, or the run passed them by\n", term.Count(s.Missed))
		}
		for _, x := range s.Dangling {
			if x.Rows == 0 {
				mark(true, "no row refers to one that went, by %s", term.Clean(x.By))
			} else {
				mark(false, "%s, by %s, to rows that went: others have made them since, which no foreign key keeps them from", refer(x.Rows), term.Clean(x.By))
			}
		}
		for _, c := range s.Checks {
			if c.OK {
				mark(true, "%s = %s", term.Clean(c.SQL), term.Clean(c.Got))
			} else {
				mark(false, "%s = %s, not %s", term.Clean(c.SQL), term.Clean(c.Got), term.Clean(c.Want))
			}
		}
		if len(s.Sample) > 0 {
			o.Printf("\n")
			report.PrintMismatched(o, s.Sample, "key", "recorded", "in the table")
		}
	}
	o.Printf("\n")
	if res.Holds {
		o.Printf("%s\n", o.Paint(term.Good, "It holds."))
	} else {
		o.Printf("%s\n", o.Paint(term.Bad, "It does not hold."))
	}
}

// refer words how many rows refer to something.
func refer(n int64) string {
	if n == 1 {
		return "1 row refers"
	}
	return term.Rows(n) + " refer"
}
