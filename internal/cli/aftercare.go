package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/urfave/cli/v3"

	"jugatum/internal/aftercare"
	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
	"jugatum/internal/report"
	"jugatum/internal/term"
)

func (a *app) aftercare() *cli.Command {
	return &cli.Command{
		Name:      "aftercare",
		Usage:     "print, for review, the DDL by which the database keeps what a job has brought about",
		ArgsUsage: "JOB or RUN",
		Description: "Constraints, defaults, indexes and triggers for rows to come, with what each statement locks and how many rows break\n" +
			"the rule now. Nothing of it is carried out.\n\n" + example("jugatum aftercare --db sqlite:saltmere.db 3", "jugatum aftercare --db sqlite:saltmere.db examples/shape.toml"),
		Flags: append(jobFlags(), trustFlag()),
		Action: func(ctx context.Context, c *cli.Command) error {
			if _, err := strconv.ParseInt(c.Args().First(), 10, 64); err == nil {
				return a.withRun(ctx, c, func(db engine.DB, l *ledger.Ledger, r *ledger.Run) error {
					if err := a.believe(ctx, c, db, l, r); err != nil {
						return err
					}
					p, err := plan.RestoreLoosely(ctx, db, r)
					if err != nil {
						return err
					}
					return a.care(ctx, c, db, p)
				})
			}
			return a.withPlan(ctx, c, func(db engine.DB, p *plan.Plan) error { return a.care(ctx, c, db, p) })
		},
	}
}

// care prints the rules for the steps of a plan.
func (a *app) care(ctx context.Context, c *cli.Command, db engine.DB, p *plan.Plan) error {
	steps, err := aftercare.Look(ctx, db, p.Job, p.Foremost())
	if err != nil {
		return p.Fault(err)
	}
	if c.Bool("json") {
		return a.json(struct {
			Schema   int              `json:"schema"`
			Database string           `json:"database"`
			Server   string           `json:"server"`
			Steps    []aftercare.Step `json:"steps"`
		}{report.Schema, db.Name(), db.Version(), steps})
	}
	o := a.out
	o.Printf("-- %s, for %s\n", o.Paint(term.Bold, "rules for rows to come"), term.Clean(db.Version()))
	o.Printf("-- For review: nothing of it is carried out. Where a rule says \"or\", it is another way to keep the one before it.\n")
	from := ""
	for _, s := range steps {
		for _, r := range s.Rules {
			from = r.From
		}
	}
	if from != "" {
		o.Printf("-- What is locked is told by %s.\n", from)
	}
	for _, s := range steps {
		o.Printf("\n-- %s  %s\n", o.Paint(term.Bold, term.Clean(s.Name)), term.Clean(s.Table))
		for _, r := range s.Rules {
			a.printRule(r)
		}
		if s.None != "" {
			o.Printf("-- %s\n", o.Paint(term.Faint, term.Clean(s.None)))
		}
	}
	return nil
}

func (a *app) printRule(r aftercare.Rule) {
	o := a.out
	or := ""
	if r.Instead {
		or = "or, "
	}
	o.Printf("\n-- %sby %s: %s\n", or, keepers[r.Kind], term.Clean(r.Keeps))
	switch {
	case r.Breaking == 0:
		o.Printf("-- %s\n", o.Paint(term.Good, "every row that is there holds to it"))
	case r.Breaking > 0:
		o.Printf("-- %s\n", o.Paint(term.Warn, fmt.Sprintf("broken now by %s: run the job, or look at them, before this is carried out", breaking(r))))
	}
	last := ""
	for _, s := range r.Statements {
		if s.Locks != last {
			o.Printf("-- %s\n", o.Paint(term.Faint, "locks "+term.Clean(s.Locks)))
		}
		last = s.Locks
		o.Printf("%s;\n", term.Clean(s.SQL))
	}
}

// keepers are what keeps a rule, by its kind.
var keepers = map[change.RuleKind]string{change.KeepDefault: "a default", change.KeepNotNull: "NOT NULL", change.KeepCheck: "a CHECK", change.KeepReference: "a foreign key", change.KeepUnique: "a unique index", change.KeepAssign: "a trigger", change.KeepGenerated: "a generated column"}

// breaking words how much breaks a rule.
func breaking(r aftercare.Rule) string {
	if r.Kind == change.KeepUnique {
		return term.Counted(r.Breaking, "group")
	}
	return term.Rows(r.Breaking)
}
