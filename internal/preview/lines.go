package preview

import (
	"context"
	"fmt"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// Lines is what would become of the lines of a list that a change carries out.
type Lines struct {
	File     string           `json:"file"`
	Lines    int64            `json:"lines"`          // of the whole list, or of its turn
	Turn     int              `json:"turn,omitempty"` // how many lines with the same key come before each of them
	Outcomes map[string]int64 `json:"outcomes"`
}

// lines counts them, from what is known of the rows.
func lines(ctx context.Context, db engine.DB, c *change.Change, p *Step) (*Lines, error) {
	l := c.Lines
	if l == nil {
		return nil, nil
	}
	x := &Lines{File: l.File, Lines: l.Lines, Turn: l.Turn, Outcomes: map[string]int64{}}
	add := func(o change.Outcome, n int64) {
		if n > 0 {
			x.Outcomes[string(o)] = n
		}
	}
	switch c.Verb {
	case sqltext.Insert:
		add(change.Inserted, p.Changes)
	case sqltext.Delete:
		add(change.Deleted, p.Changes)
	default:
		add(change.Changed, p.Changes)
		add(change.Unchanged, p.Matched-p.Changes)
	}
	q := change.MissedLines(c)
	if q == nil {
		return x, nil
	}
	var n int64
	if err := db.JobPool().QueryRowContext(ctx, "SELECT count(*)"+q.String(), q.Args...).Scan(&n); err != nil {
		return nil, fmt.Errorf("step %q: %w", c.Step, err)
	}
	add(l.Missed, n)
	return x, nil
}
