package engine

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strconv"
	"sync/atomic"

	"jugatum/internal/change"
)

// Walk goes through a table in key order, range by range, up to an end that is
// fixed when the walk begins. It reads only keys and takes no locks that
// anybody waits for.
type Walk struct {
	db    *sql.DB
	d     change.Dialect
	t     *change.Table
	dense bool                             // an integer key with few gaps
	heavy atomic.Pointer[[]*change.Column] // see Heed; nil: nobody looks at their length
	light atomic.Int64                     // ranges in a row whose values were small
}

// denseShare is the share of the integers between the first and the last key
// that must be taken for ranges to be told by arithmetic: a range of n integers
// holds at most n rows, and on average not less than n/4.
const denseShare = 0.25

// NewWalk prepares a walk. The table must have a key.
func NewWalk(db DB, t *change.Table) *Walk {
	return &Walk{db: db.Pool(), d: db.Dialect(), t: t}
}

func (w *Walk) order(q *change.Query, dir string) {
	q.Add(" ORDER BY ")
	for i, c := range w.t.Key.Columns {
		if i > 0 {
			q.Add(", ")
		}
		q.Add(w.d.Quote(w.t.Name), ".", w.d.Quote(c.Name), dir) // qualified, or the text form in the output would be meant
	}
}

// keys appends the key's columns in the form that KeyValue holds.
func (w *Walk) keys(q *change.Query) {
	for i, c := range w.t.Key.Columns {
		if i > 0 {
			q.Add(", ")
		}
		q.Add(KeyOut(w.d, w.d.Quote(w.t.Name), c))
	}
}

// KeyOut writes a key column, of alias if that is not "", so that the driver
// gives a value that KeyValue holds.
func KeyOut(d change.Dialect, alias string, column *change.Column) string {
	name := d.Quote(column.Name)
	if alias != "" {
		name = alias + "." + name
	}
	return d.KeyOut(column, name)
}

func (w *Walk) one(ctx context.Context, q *change.Query) (change.KeyValue, error) {
	k := make(change.KeyValue, len(w.t.Key.Columns))
	into := make([]any, len(k))
	for i := range k {
		into[i] = &k[i]
	}
	err := w.db.QueryRowContext(ctx, q.String(), q.Args...).Scan(into...)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	w.Texts(k)
	return k, err
}

// Texts brings a key that was read to the form that KeyValue has: keys travel as text,
// unless bytes are bytes that are stored.
func (w *Walk) Texts(k change.KeyValue) {
	stored := w.d.Forms().StoredKeys
	for i := range k {
		if b, ok := k[i].([]byte); ok && !stored {
			k[i] = string(b)
		}
	}
}

// End finds the last key there is now, nil in an empty table.
func (w *Walk) End(ctx context.Context) (change.KeyValue, error) {
	q := &change.Query{D: w.d}
	q.Add("SELECT ")
	w.keys(q)
	q.Add(" FROM ", w.t.SQL(w.d))
	if w.t.Key.MayNull {
		q.Add(" WHERE ", w.d.Quote(w.t.Key.Columns[0].Name), " IS NOT NULL")
	}
	w.order(q, " DESC")
	q.Add(" LIMIT 1")
	return w.one(ctx, q)
}

// NullKeys counts rows that the walk would never reach because their key holds NULL.
func (w *Walk) NullKeys(ctx context.Context) (int64, error) {
	if !w.t.Key.MayNull {
		return 0, nil
	}
	var n int64
	text := "SELECT count(*) FROM " + w.t.SQL(w.d) + " WHERE "
	for i, c := range w.t.Key.Columns {
		if i > 0 {
			text += " OR "
		}
		text += w.d.Quote(c.Name) + " IS NULL"
	}
	err := w.db.QueryRowContext(ctx, text).Scan(&n)
	return n, err
}

// Survey looks at how closely an integer key is filled; Next works without it.
func (w *Walk) Survey(ctx context.Context, end change.KeyValue) error {
	if !w.t.Key.Integer || w.d.Forms().CountedRanges || end == nil {
		return nil
	}
	first, err := w.first(ctx)
	if err != nil || first == nil {
		return err
	}
	lo, ok1 := first.Int()
	hi, ok2 := end.Int()
	w.dense = ok1 && ok2 && float64(w.t.Rows) >= denseShare*(float64(hi)-float64(lo)+1)
	return nil
}

// Stretches calls do for one stretch of about n rows after the other, from the first to the last.
func (w *Walk) Stretches(ctx context.Context, n int, do func(r change.Range) error) error {
	end, err := w.End(ctx)
	if err != nil || end == nil {
		return err
	}
	for at := (change.KeyValue)(nil); at == nil || at.Encode() != end.Encode(); {
		r, _, err := w.Next(ctx, at, end, n)
		if err == nil {
			err = do(r)
		}
		if err != nil {
			return err
		}
		at = r.Hi
	}
	return nil
}

// Free reports whether ranges are told without reading anything.
func (w *Walk) Free() bool { return w.dense }

// Next finds the range of about n rows that follows lo; fewer, where Heed was
// called and their values are large. rows is how many it held when it was looked
// at, -1 if nobody counted.
func (w *Walk) Next(ctx context.Context, lo, end change.KeyValue, n int) (r change.Range, rows int64, err error) {
	if r, rows, err = w.next(ctx, lo, end, n); err != nil {
		return r, rows, err
	}
	return w.lighten(ctx, r, rows)
}

func (w *Walk) next(ctx context.Context, lo, end change.KeyValue, n int) (r change.Range, rows int64, err error) {
	if w.dense && lo != nil {
		from, ok1 := lo.Int()
		to, ok2 := end.Int()
		if ok1 && ok2 {
			hi := change.AddInt(from, int64(n))
			if hi >= to {
				return change.Range{Lo: lo, Hi: end}, -1, nil
			}
			return change.Range{Lo: lo, Hi: change.KeyValue{strconv.FormatInt(hi, 10)}}, -1, nil
		}
	}
	q := &change.Query{D: w.d}
	q.Add("SELECT ")
	w.keys(q)
	alias := w.d.Quote(w.t.Name)
	q.Add(" FROM ", w.t.SQL(w.d), " WHERE 1 = 1").Range(alias, w.t.Key, change.Range{Lo: lo, Hi: end})
	w.order(q, "")
	q.Add(" LIMIT 1 OFFSET ", strconv.Itoa(n-1))
	hi, err := w.one(ctx, q)
	if err != nil {
		return r, 0, fmt.Errorf("looking for the next range of %s: %w", w.t, err)
	}
	if hi != nil {
		return change.Range{Lo: lo, Hi: hi}, int64(n), nil
	}
	r = change.Range{Lo: lo, Hi: end}
	if !w.d.Forms().CountedRanges {
		return r, -1, nil
	}
	q = &change.Query{D: w.d}
	q.Add("SELECT count(*) FROM ", w.t.SQL(w.d), " WHERE 1 = 1").Range(alias, w.t.Key, r)
	err = w.db.QueryRowContext(ctx, q.String(), q.Args...).Scan(&rows)
	return r, rows, err
}
