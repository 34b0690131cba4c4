package survey

import (
	"context"
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Values tells how many values of a table's columns are missing, and in which way.
type Values struct {
	Table   string   `json:"table"`
	Rows    int64    `json:"rows"` // counted
	Columns []Column `json:"columns"`
}

// Column is one of its columns.
type Column struct {
	Name    string `json:"name"`
	Type    string `json:"type"`
	NotNull bool   `json:"not_null"`
	Text    bool   `json:"text"` // otherwise only NULL is counted
	change.Missing
}

// Missing reads the named tables, each once.
func Missing(ctx context.Context, db engine.DB, names []string) ([]Values, error) {
	tables, err := db.Tables(ctx)
	if err != nil {
		return nil, err
	}
	out := []Values{}
	for _, name := range names {
		var found *change.Table
		for _, t := range tables {
			if t.String() == name || t.Schema+"."+t.Name == name {
				found = t
			}
		}
		if found == nil {
			return nil, &engine.NotFoundError{What: "table " + name}
		}
		v, err := missing(ctx, db, found)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out = append(out, v)
	}
	return out, nil
}

func missing(ctx context.Context, db engine.DB, t *change.Table) (Values, error) {
	v := Values{Table: t.String(), Columns: make([]Column, len(t.Columns))}
	q := &change.Query{D: db.Dialect()}
	q.Add("SELECT count(*)")
	into := []any{&v.Rows}
	for i, c := range t.Columns {
		v.Columns[i] = Column{Name: c.Name, Type: strings.ToLower(c.Type), NotNull: c.NotNull, Text: c.Class == change.Text}
		into = append(into, v.Columns[i].Count(q, c, "1 = 1", "jugatum_t."+q.D.Quote(c.Name))...)
	}
	q.Add(" FROM ", t.SQL(q.D), " AS jugatum_t")
	return v, db.JobPool().QueryRowContext(ctx, q.String(), q.Args...).Scan(into...)
}
