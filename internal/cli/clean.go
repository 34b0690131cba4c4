package cli

import (
	"context"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/plan"
	"jugatum/internal/preview"
	"jugatum/internal/term"
)

// untilClean carries a job out, and where that is asked for once more for rows that have come to match
// since: each time as a run of its own, until none does.
func (a *app) untilClean(ctx context.Context, c *cli.Command, db engine.DB, p *plan.Plan) error {
	most := c.Int("until-clean")
	switch {
	case most < 0 || most > 1000:
		return usagef("--until-clean %d: at most so many further runs, up to 1000", most)
	case most > 0 && c.String("approved") != "":
		return usagef("--until-clean goes on with rows that nobody has approved; use --accept")
	case most > 0:
		if why := p.Endless(); why != "" {
			return refusef("--until-clean: %s", why)
		}
	}
	if err := a.start(ctx, c, p); err != nil || most == 0 {
		return err
	}
	for _, flag := range [][2]string{{"again", "true"}, {"accept", "any"}} { // what comes now was asked for by the flag
		if err := c.Set(flag[0], flag[1]); err != nil {
			return err
		}
	}
	for n := range most + 1 {
		next, err := a.plan(ctx, c, db)
		if err != nil {
			return err
		}
		rows, err := a.matching(ctx, db, next)
		if err != nil || rows == 0 || n == most {
			next.Close()
			switch {
			case err != nil:
				return next.Fault(err)
			case rows == 0:
				a.err.Printf("Clean: no row would change any more.\n")
				return nil
			}
			return &plan.Unheld{Msg: term.Rows(rows) + " would change still, after as many further runs as --until-clean allows"}
		}
		a.err.Printf("%s have come to match since: once more.\n", term.Rows(rows))
		if err := a.start(ctx, c, next); err != nil {
			return err
		}
	}
	return nil
}

// matching is how many rows the steps of a plan would change now.
func (a *app) matching(ctx context.Context, db engine.DB, p *plan.Plan) (sum int64, err error) {
	for _, ch := range p.Foremost() {
		_, n, err := preview.Count(ctx, db, ch)
		if err != nil {
			return 0, err
		}
		sum += n
	}
	return sum, nil
}
