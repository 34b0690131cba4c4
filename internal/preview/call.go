package preview

import (
	"context"
	"database/sql"
	"fmt"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Call is the statement that would be called for each line of a list.
type Call struct {
	File      string `json:"file"`
	Lines     int64  `json:"lines"`
	Statement string `json:"statement"`
	Routine   string `json:"routine,omitempty"` // what it calls, with its arguments, where the server tells
	Alone     string `json:"alone,omitempty"`   // why each line has transactions of its own, which the routine may end
}

// called tells how often a statement would be called, and with which values. Nothing is carried
// out: what it does may be more than a rollback takes back.
func (p *Step) called(ctx context.Context, db engine.DB, c *change.Change, sample int) error {
	l := c.Lines
	p.Matched, p.Changes, p.Columns, p.Sample, p.Key = l.Lines, l.Lines, []Column{}, []Row{}, []string{"line"}
	p.Call = &Call{File: l.File, Lines: l.Lines, Statement: c.Call.Statement.String(), Routine: c.Call.Routine, Alone: c.Call.Commits}
	if sample < 1 {
		return nil
	}
	q := change.CallsShown(c.D, l.List).Add(fmt.Sprintf(" LIMIT %d", sample))
	rows, err := db.Pool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return fmt.Errorf("step %q: %w", c.Step, err)
	}
	defer rows.Close()
	for rows.Next() {
		var skip sql.NullString // what has become of it
		row := Row{}
		values := make([]sql.NullString, len(l.Extra))
		into := []any{&row.Key, &skip, &skip, &skip, &skip}
		for i := range values {
			into = append(into, &values[i])
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for i, name := range l.Extra {
			row.Changes = append(row.Changes, Cell{Column: name, Before: pointer(values[i])})
		}
		p.Sample = append(p.Sample, row)
	}
	return rows.Err()
}
