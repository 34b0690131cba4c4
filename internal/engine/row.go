package engine

import (
	"context"
	"database/sql"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// Row reads the one row of a change that lies in r: its key and, as text, the
// new values. Values that cannot be worked out are nil as a whole. The key is
// nil if there is no such row any more.
func Row(ctx context.Context, db DB, c *change.Change, r change.Range) (change.KeyValue, map[string]*string, error) {
	if c.Rewrite != nil {
		return rewrittenRow(ctx, db, c, r)
	}
	w := NewWalk(db, c.Table)
	read := func(values bool) (change.KeyValue, []sql.NullString, error) {
		q := &change.Query{D: c.D}
		q.With(c, false).Add("SELECT ")
		for i, col := range c.Table.Key.Columns {
			if i > 0 {
				q.Add(", ")
			}
			q.Add(KeyOut(c.D, c.Ref, col))
		}
		key := make(change.KeyValue, len(c.Table.Key.Columns))
		var into []any
		for i := range key {
			into = append(into, &key[i])
		}
		var texts []sql.NullString
		if values && c.Verb == sqltext.Update {
			texts = make([]sql.NullString, len(c.Set))
			for i, s := range c.Set {
				q.Add(", ").NewText(c, s)
				into = append(into, &texts[i])
			}
		}
		q.Source(c, r).Add(" LIMIT 1")
		err := db.JobPool().QueryRowContext(ctx, q.String(), q.Args...).Scan(into...)
		w.Texts(key)
		return key, texts, err
	}
	key, texts, err := read(true)
	if err == sql.ErrNoRows {
		return nil, nil, nil
	}
	if err != nil { // an expression fails on this row
		key, _, err = read(false)
		if err == sql.ErrNoRows {
			return nil, nil, nil
		}
		return key, nil, err
	}
	values := map[string]*string{}
	for i, t := range texts {
		values[c.Set[i].Column.Name] = nil
		if t.Valid {
			values[c.Set[i].Column.Name] = &texts[i].String
		}
	}
	return key, values, nil
}
