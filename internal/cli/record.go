package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
	"jugatum/internal/sqltext"
)

// A run may have to be taken back or verified when its job means nothing any more,
// since a column, a function or a table that it speaks of is gone. What was kept
// can be put back all the same, as far as there are columns for it.

// fromRecord makes the changes of a run from what the ledger says of its steps,
// without its job.
func (p *plan) fromRecord(ctx context.Context, r *ledger.Run) error {
	p.changes = nil
	for _, st := range r.Steps {
		t, err := p.db.Table(ctx, st.TableSchema, st.TableName)
		if err != nil {
			return fmt.Errorf("step %q of run %d: %w", st.Name, r.ID, err)
		}
		c := &change.Change{Step: st.Name, D: p.db.Dialect(), Verb: sqltext.Update, Table: t, Ref: p.db.Dialect().Quote(t.Name), Params: r.Params, Recorded: true}
		if st.Verb == sqltext.Delete.String() {
			c.Verb = sqltext.Delete
		}
		for _, name := range st.SetColumns {
			col := t.Named(name)
			if col == nil { // it keeps its place in the layout of the kept values
				col = &change.Column{Name: name}
			}
			c.Set = append(c.Set, change.Set{Column: col, Implicit: col.OnUpdate != ""})
		}
		p.changes = append(p.changes, c)
	}
	return nil
}

// fit leaves out of a layout what the kept-values table or the table itself has
// not, and gives the columns whose old values have nowhere to go.
func fit(ctx context.Context, db engine.DB, c *change.Change, kept *change.Kept) (lost []string, err error) {
	rows, err := db.Pool().QueryContext(ctx, "SELECT * FROM "+kept.Table+" LIMIT 0")
	if err != nil {
		return nil, fmt.Errorf("the kept values of step %q cannot be read: %w", c.Step, err)
	}
	names, err := rows.Columns()
	rows.Close()
	if err != nil {
		return nil, err
	}
	goes := func(k change.KeptColumn) bool {
		return !slices.Contains(names, k.Name) || c.Table.Named(k.Of.Name) == nil
	}
	numbered := slices.ContainsFunc(names, func(s string) bool { return strings.HasPrefix(s, "old_column_") })
	before := len(kept.Old)
	kept.Old, kept.New = slices.DeleteFunc(kept.Old, goes), slices.DeleteFunc(kept.New, goes)
	for _, name := range names {
		if strings.HasPrefix(name, "old_") && !slices.ContainsFunc(kept.Old, func(k change.KeptColumn) bool { return k.Name == name }) {
			lost = append(lost, strings.TrimPrefix(name, "old_"))
		}
	}
	if c.Verb == sqltext.Delete && numbered && (len(lost) > 0 || len(kept.Old) < before) {
		return nil, refusef("step %q: the columns of %s are others than when its rows were deleted, and names that are too long for %s are numbered there, so that nobody knows which is which: put the rows back by hand", c.Step, c.Table, kept.Table)
	}
	if len(kept.Old) == 0 {
		return nil, refusef("step %q: %s has none of the columns any more whose values were kept (%s)", c.Step, c.Table, strings.Join(lost, ", "))
	}
	return lost, nil
}

// fitAll does so for all steps, and says what is lost. Tables that others may have
// made are not read, unless the person at work trusts them.
func fitAll(ctx context.Context, db engine.DB, work []*runner.Work, trusting bool) (lost []string, err error) {
	for _, w := range work {
		if w.Kept == nil {
			continue
		}
		if g, ok := db.(engine.KeptGuard); ok && !trusting {
			if err := g.TrustKept(ctx, w.Kept); err != nil {
				return nil, err
			}
		}
		columns, err := fit(ctx, db, w.Change, w.Kept)
		if err != nil {
			return nil, err
		}
		if len(columns) > 0 {
			lost = append(lost, fmt.Sprintf("%s of %s, whose old values stay in %s", strings.Join(columns, ", "), w.Change.Table, w.Kept.Table))
		}
	}
	return lost, nil
}

// executeFitted carries out what puts old values back, or goes on with a run, and
// ends with status 5 where some of them have nowhere to go.
func (a *app) executeFitted(ctx context.Context, c *cli.Command, p *plan, l *ledger.Ledger, r *ledger.Run, work []*runner.Work) error {
	if r.UndoOf == 0 {
		return a.execute(ctx, c, p, l, r, work)
	}
	lost, err := fitAll(ctx, p.db, work, c.Bool(trustRecord))
	if err != nil {
		return err
	}
	if err := a.execute(ctx, c, p, l, r, work); err != nil || len(lost) == 0 {
		return err
	}
	return &asideError{fmt.Sprintf("run %d has put back what it could: there is no column %s", r.ID, strings.Join(lost, "; no column "))}
}
