package plan

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/hazard"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
	"jugatum/internal/sqltext"
)

// follow finds the acts that a change brings with it: what the database would do to rows
// that refer to those deleted.
func (p *Plan) follow(ctx context.Context, c *change.Change, look change.Catalogue) error {
	if c.Merge != nil {
		return p.mergeActs(ctx, c)
	}
	acts, why, err := change.Cascade(c, look)
	if err == nil {
		c.Back, err = change.FollowedBack(c, look)
	}
	if err == nil {
		c.Reached, err = change.Reached(c, look)
	}
	var nf *engine.NotFoundError
	var rf *engine.RefusedError
	switch {
	case errors.As(err, &nf) || errors.As(err, &rf):
		why = err.Error()
	case err != nil && p.DB.Fault(err) == engine.Denied:
		return Refusef("step %q: %v; %s must have SELECT on every table from which rows go along", c.Step, err, p.DB.User())
	case err != nil:
		return err
	}
	for _, a := range acts {
		null, err := p.nullKeys(ctx, a.Change.Table)
		if err != nil {
			return err
		}
		if null {
			acts, why = nil, fmt.Sprintf("rows of %s have NULL in their key, by which they could not be put back", a.Change.Table)
			break
		}
	}
	c.Acts, c.NotKept = acts, why
	return nil
}

// nullKeys reports whether a row has NULL in its key.
func (p *Plan) nullKeys(ctx context.Context, t *change.Table) (bool, error) {
	if !t.Key.MayNull {
		return false, nil
	}
	q := &change.Query{D: p.DB.Dialect()}
	q.Add("SELECT count(*) FROM (SELECT 1 FROM ", t.SQL(q.D), " AS jugatum_t WHERE 1 = 0")
	for _, col := range t.Key.Columns {
		q.Add(" OR jugatum_t.", q.D.Quote(col.Name), " IS NULL")
	}
	var n int64
	err := p.DB.Pool().QueryRowContext(ctx, q.Add(" LIMIT 1) AS jugatum_n").String()).Scan(&n)
	return n > 0, err
}

// Keeping says whether old and new values are kept, and which hazards a person has
// overridden: without kept values, or if that is meant, what the database does to rows that
// refer to those deleted is left to it.
func (p *Plan) Keeping(keep bool, despite []string) {
	for _, c := range p.Changes {
		switch {
		case len(c.Acts) == 0 || c.Merge != nil: // a merge is not one without them
		case slices.Contains(despite, hazard.Cascade):
			c.Acts, c.NotKept = nil, "left to the database"
		case !keep:
			c.Acts, c.NotKept = nil, "nothing is kept"
		}
	}
}

// withActs lists changes with the acts that each brings with it.
func withActs(c *change.Change) []*change.Change {
	out := []*change.Change{c}
	for _, a := range c.Acts {
		out = append(out, a.Change)
	}
	return out
}

// records makes the record of a change's acts.
func records(c *change.Change) (out []*ledger.Act) {
	for i, a := range c.Acts {
		t := a.Change.Table
		out = append(out, &ledger.Act{N: i + 1, By: a.By(), Verb: a.Change.Verb.String(), TableSchema: t.Schema, TableName: t.Name,
			KeyColumns: t.Key.Names(), SetColumns: a.Change.SetNames(), ToChange: -1})
	}
	return out
}

// acts makes the acts of a recorded step ready: to be put back, and, if the change still
// brings the same ones with it, to be carried out.
func (p *Plan) acts(ctx context.Context, l *ledger.Ledger, r *ledger.Run, w *runner.Work) error {
	if w.Step.Pruned { // nothing is carried out or read any more
		return nil
	}
	for _, a := range w.Step.Acts {
		t, err := p.DB.Table(ctx, a.TableSchema, a.TableName)
		if err != nil {
			return fmt.Errorf("step %q of run %d: %w", w.Step.Name, r.ID, err)
		}
		if err := sameKey(w.Step.Name, t, a.KeyColumns, r.ID); err != nil {
			return err
		}
		c := p.recorded(w.Step.Name, a.Verb, t, a.SetColumns, r.Params)
		x := &runner.Act{Record: a, Change: c}
		if a.KeptTable != "" { // a merge has acts also where nothing is kept
			x.Kept = l.KeptOf(w.Step, a, c)
		}
		w.Acts = append(w.Acts, x)
	}
	if r.UndoOf != 0 || len(w.Acts) == 0 {
		return nil
	}
	now := records(w.Change)
	if !slices.EqualFunc(now, w.Step.Acts, func(a, b *ledger.Act) bool {
		return slices.Equal(a.By, b.By) && a.Verb == b.Verb && a.TableSchema == b.TableSchema && a.TableName == b.TableName && slices.Equal(a.KeyColumns, b.KeyColumns) && slices.Equal(a.SetColumns, b.SetColumns)
	}) {
		w.Unready = Refusef("other tables refer to %s now than when run %d began, or in another way: make it as it was, or take the run back", w.Change.Table, r.ID)
		return nil
	}
	x, err := change.NewCompound(w.Change, w.Change.Acts, func(n int) string { return engine.ListTable(p.DB, w.Step.N, n) })
	if err != nil {
		return err
	}
	for i, part := range x.Parts {
		part.Kept = w.Acts[i].Kept
	}
	w.Compound = x
	return nil
}

// recorded is a change of which only its record is known.
func (p *Plan) recorded(step, verb string, t *change.Table, columns []string, params map[string]change.Value) *change.Change {
	c := &change.Change{Step: step, D: p.DB.Dialect(), Verb: sqltext.Update, Table: t, Ref: p.DB.Dialect().Quote(t.Name), Params: params, Recorded: true}
	switch verb {
	case sqltext.Update.String():
	case "copy", "insert":
		c.Verb = sqltext.Insert
	default: // delete, move
		c.Verb = sqltext.Delete
	}
	for _, name := range columns {
		col := t.Named(name)
		if col == nil { // it keeps its place in the layout of the kept values
			col = &change.Column{Name: name}
		}
		c.Set = append(c.Set, change.Set{Column: col, Implicit: col.OnUpdate != ""})
	}
	return c
}
