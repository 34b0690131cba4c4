package preview

import (
	"context"
	"fmt"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Act is what a step would do to rows of another table, that refer to its own.
type Act struct {
	Name  string   `json:"name"` // what it does, and by which columns that refer
	Table string   `json:"table"`
	Verb  string   `json:"verb"`
	By    []string `json:"by"`   // the columns that refer; of a row that stays, those that may be filled
	Role  string   `json:"role"` // deleted, or cleared: the reference; in a merge moved, doubled (deleted, since it would stand twice) or filled
	Rows  int64    `json:"rows"`
}

// acts counts the rows of other tables that would change as well.
func acts(ctx context.Context, db engine.DB, c *change.Change) ([]Act, error) {
	var out []Act
	for i, a := range c.Acts {
		x := Act{Name: a.Name(), Table: a.Change.Table.String(), Verb: a.Change.Verb.String(), By: a.By(), Role: change.Role(c.Does(), a.Change.Verb.String(), a.Stays)}
		q := change.Brought(c, c.Acts, i)
		if err := db.JobPool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&x.Rows); err != nil {
			return nil, fmt.Errorf("step %q: counting the rows of %s that go with them: %w", c.Step, x.Table, err)
		}
		out = append(out, x)
	}
	return out, nil
}

// Total is how many rows would change, those of other tables with them.
func (p *Step) Total() int64 {
	n := p.Changes
	for _, a := range p.Acts {
		n += a.Rows
	}
	return n
}
