package engine

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// Arrayed reports whether Array can carry a change out.
func Arrayed(c *change.Change) bool {
	if c.Verb != sqltext.Update || c.Rewrite != nil || c.Table == nil || c.Table.Key == nil || len(c.Acts) > 0 || c.Stages() || !c.From.Empty() || !c.With.Empty() || c.First != nil || c.KeysMayMove() {
		return false
	}
	for _, s := range assigned(c) {
		if s.Column.Binary || s.Column.Class == change.Other { // whose text is not what could be sent
			return false
		}
	}
	return true
}

// Array carries a range out as a program does that reads rows, works new values out by itself and sends
// those of many rows at once: here they are worked out by SQL, and go back as arrays or by way of a
// temporary table, whichever the engine has. Nothing is kept. It is there to be compared with.
func Array(ctx context.Context, db DB, tx *Tx, c *change.Change, r change.Range) (Effect, error) {
	given := *c
	given.Rewrite = &change.Rewrite{Given: true}
	w := NewWalk(db, c.Table)
	q := (&change.Query{D: c.D}).Add("SELECT ")
	for _, k := range c.Table.Key.Columns {
		q.Add(KeyOut(c.D, c.Ref, k), ", ")
	}
	at := &change.Query{D: c.D}
	db.Locate(at, &given)
	placed := at.String() != ""
	if placed {
		q.Add(at.String(), ", ")
	}
	cols := assigned(c)
	for i, s := range cols {
		if i > 0 {
			q.Add(", ")
		}
		q.NewText(c, s)
	}
	q.Source(c, r).Add(" ORDER BY ").Columns(c.Ref, c.Table.Key.Columns).Add(c.D.ForUpdate(c.Ref))
	rows, err := tx.S.Conn.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return Effect{}, err
	}
	defer rows.Close()
	var list []Rewritten
	for rows.Next() {
		x := Rewritten{Key: make(change.KeyValue, len(c.Table.Key.Columns)), New: make([]*string, len(c.Set))}
		var into []any
		for i := range x.Key {
			into = append(into, &x.Key[i])
		}
		if placed {
			into = append(into, &x.At)
		}
		texts := make([]sql.NullString, len(cols))
		for i := range texts {
			into = append(into, &texts[i])
		}
		if err := rows.Scan(into...); err != nil {
			return Effect{}, err
		}
		w.Texts(x.Key)
		nulls := bytes.Repeat([]byte{'0'}, len(c.Set))
		for i := range texts {
			if x.New[i] = &texts[i].String; !texts[i].Valid {
				x.New[i], nulls[i] = nil, '1'
			}
		}
		x.Nulls = string(nulls)
		list = append(list, x)
	}
	if err := rows.Err(); err != nil || len(list) == 0 {
		return Effect{Log: NoLog}, err
	}
	rows.Close() // before the connection is asked for anything else
	derived, err := db.Load(ctx, tx, &given, list)
	if err != nil {
		return Effect{}, fmt.Errorf("sending the values: %w", err)
	}
	return db.Batch(ctx, tx, derived, nil, r, 0)
}
