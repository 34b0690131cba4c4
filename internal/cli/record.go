package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
	"jugatum/internal/runner"
	"jugatum/internal/term"
)

// fit fits the kept values of a run to the tables as they are now, and warns of what has no column
// any more.
func (a *app) fit(ctx context.Context, c *cli.Command, db engine.DB, r *ledger.Run, work []*runner.Work) error {
	lost, err := plan.FitAll(ctx, db, work, c.Bool(trustRecord))
	for _, what := range lost {
		a.err.Printf("  %s changed since run %d, and left out: there is no column %s\n", a.err.Paint(term.Warn, "warning"), r.ID, term.Clean(what))
	}
	return err
}

// executeFitted carries out what puts old values back, or goes on with a run, and
// ends with status 5 where some of them have nowhere to go.
func (a *app) executeFitted(ctx context.Context, c *cli.Command, p *plan.Plan, l *ledger.Ledger, r *ledger.Run, work []*runner.Work) error {
	if r.UndoOf == 0 {
		return a.execute(ctx, c, p, l, r, work)
	}
	lost, err := plan.FitAll(ctx, p.DB, work, c.Bool(trustRecord))
	if err != nil {
		return err
	}
	if err := a.execute(ctx, c, p, l, r, work); err != nil || len(lost) == 0 {
		return err
	}
	return &asideError{fmt.Sprintf("run %d has put back what it could: there is no column %s", r.ID, strings.Join(lost, "; no column "))}
}
