package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/hazard"
	"jugatum/internal/ledger"
	"jugatum/internal/sqltext"
)

// missing asks what this user lacks for a change; nothing where there are no users.
func (p *Plan) missing(ctx context.Context, c *change.Change, keep bool) (engine.Missing, error) {
	t, ok := p.DB.(engine.PrivilegeTeller)
	if !ok || c.Call != nil { // what a statement takes that is called is not known, and asked of the server
		return engine.Missing{}, nil
	}
	m, err := t.Missing(ctx, c, keep)
	if err != nil {
		return m, fmt.Errorf("asking what %s may do: %w", p.DB.User(), err)
	}
	return m, nil
}

// readable refuses a change whose rows this user may not see.
func (p *Plan) readable(ctx context.Context, c *change.Change) error {
	m, err := p.missing(ctx, c, true)
	if err != nil || len(m.Read) == 0 {
		return err
	}
	return Refusef("step %q: %s may not read %s; have it granted: %s", c.Step, p.DB.User(), c.Table, strings.Join(m.Read, "; "))
}

// Lacks finds, for each change, what this user may not do that carrying it out
// takes; what keeping the ledger takes is told with the first.
func (p *Plan) Lacks(ctx context.Context, keep bool) ([][]hazard.Finding, error) {
	changes := p.Foremost()
	out := make([][]hazard.Finding, len(changes))
	for i, c := range changes {
		add := func(level hazard.Level, what string, statements []string) {
			if len(statements) > 0 {
				f := hazard.Found(c.Step, hazard.Grants, -1, p.DB.User(), what, strings.Join(statements, "; "))
				f.Level = level
				out[i] = append(out[i], f)
			}
		}
		for n, x := range withActs(c) {
			m, err := p.missing(ctx, x, keep)
			if err != nil {
				return nil, err
			}
			if i+n == 0 {
				add(hazard.Refusal, "keep the ledger there (another place is named with --ledger)", m.Ledger)
			}
			if n > 0 { // what the change itself reads was asked for before
				add(hazard.Refusal, "read "+x.Table.String(), m.Read)
			}
			add(hazard.Warning, "see every table that refers to "+x.Table.String()+", from which rows may go as well", m.See)
			add(hazard.Refusal, fmt.Sprintf("%s rows of %s", x.Does(), x.Table), m.Run)
			if keep {
				add(hazard.Warning, "put rows of "+x.Table.String()+" back, should the run have to be undone", m.Undo)
			}
		}
	}
	return out, nil
}

// numbersHold gives an error if rows of a run are told by numbers that they have no more.
func (p *Plan) numbersHold(ctx context.Context, l *ledger.Ledger, r *ledger.Run) error {
	for _, c := range p.Changes {
		for _, st := range r.Steps {
			if st.Name != c.Step {
				continue
			}
			if err := engine.NumbersHold(ctx, p.DB, p.DB.Pool(), mark(l, r, st, c.Table), c.Table); err != nil {
				return err
			}
		}
	}
	return nil
}

// Undoable refuses an undo whose rows this user may not put back, or that are not to be
// found any more.
func (p *Plan) Undoable(ctx context.Context, l *ledger.Ledger, orig *ledger.Run) error {
	if err := p.numbersHold(ctx, l, orig); err != nil {
		return err
	}
	for _, c := range p.Changes {
		m, err := p.missing(ctx, c, true)
		if err != nil {
			return err
		}
		lack := slices.Concat(m.Read, m.Ledger, m.Undo)
		if c.Verb == sqltext.Update {
			lack = append(lack, m.Run...)
		}
		if len(lack) > 0 {
			return Refusef("step %q: %s may not put the rows of %s back; have it granted: %s", c.Step, p.DB.User(), c.Table, strings.Join(lack, "; "))
		}
	}
	return nil
}
