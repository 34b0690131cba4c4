package engine

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// heavyBytes is how much the values that a batch writes may take together, where
// there are some of which a few would make a batch much too long: what a disk and
// a log take in about half of the usual hold target.
const heavyBytes = 8 << 20

// lightRanges is after how many ranges of small values nobody looks any more.
const lightRanges = 8

// Heed has the walk look at the length of the values that a change writes, or
// keeps, from the next range on: it costs reading them once more, so it begins
// only where there are large ones. It may be called from several goroutines.
func (w *Walk) Heed(c *change.Change) {
	if w.heavy.Load() != nil {
		return
	}
	w.light.Store(0)
	var cols []*change.Column
	written := c.Table.Stored()
	if c.Verb == sqltext.Update {
		written = nil
		for _, s := range c.Set {
			written = append(written, s.Column)
		}
	}
	for _, col := range written {
		if w.d.MayBeLarge(col) && w.t.Named(col.Name) != nil { // where a list is walked, those that it has
			cols = append(cols, col)
		}
	}
	if len(cols) > 0 {
		w.heavy.Store(&cols)
	}
}

// lighten ends a range where its values have come to heavyBytes, but not before
// its first row. rows are those that it held, -1 if they were not counted.
func (w *Walk) lighten(ctx context.Context, r change.Range, rows int64) (change.Range, int64, error) {
	cols := w.heavy.Load()
	if cols == nil {
		return r, rows, nil
	}
	alias := w.d.Quote(w.t.Name)
	var names []string
	for _, c := range *cols {
		names = append(names, alias+"."+w.d.Quote(c.Name))
	}
	length := lengths(w.d, names)
	from := func(q *change.Query) *change.Query {
		return q.Add(" FROM ", w.t.SQL(w.d), " WHERE 1 = 1").Range(alias, w.t.Key, r)
	}
	var total int64
	q := &change.Query{D: w.d}
	from(q.Add("SELECT coalesce(sum(", length, "), 0)"))
	if err := w.db.QueryRowContext(ctx, q.String(), q.Args...).Scan(&total); err != nil {
		return r, rows, fmt.Errorf("looking at the length of values in %s: %w", w.t, err)
	}
	switch {
	case total > heavyBytes/4:
		w.light.Store(0)
	case w.light.Add(1) >= lightRanges && !w.t.Large: // it was for another reason that a batch took long
		w.heavy.Store(nil)
	}
	if total <= heavyBytes {
		return r, rows, nil
	}
	q = &change.Query{D: w.d}
	names = make([]string, len(w.t.Key.Columns))
	q.Add("SELECT ")
	for i := range names {
		names[i] = "k" + strconv.Itoa(i)
		q.Add(names[i], ", ")
	}
	q.Add("jugatum_n FROM (SELECT ")
	for i, c := range w.t.Key.Columns {
		q.Add(KeyOut(w.d, alias, c), " AS ", names[i], ", ")
	}
	over := " OVER (ORDER BY "
	for i, c := range w.t.Key.Columns {
		if i > 0 {
			over += ", "
		}
		over += alias + "." + w.d.Quote(c.Name)
	}
	over += " ROWS UNBOUNDED PRECEDING)"
	from(q.Add("sum(", length, ")", over, " AS jugatum_sum, count(*)", over, " AS jugatum_n"))
	q.Add(") AS jugatum_h WHERE jugatum_n = 1 OR jugatum_sum <= ", strconv.Itoa(heavyBytes), " ORDER BY jugatum_n DESC LIMIT 1")
	key, into := make(change.KeyValue, len(names)), make([]any, len(names)+1)
	for i := range key {
		into[i] = &key[i]
	}
	var n int64
	into[len(names)] = &n
	if err := w.db.QueryRowContext(ctx, q.String(), q.Args...).Scan(into...); err != nil {
		return r, rows, fmt.Errorf("looking at the length of values in %s: %w", w.t, err)
	}
	w.Texts(key)
	if rows >= 0 {
		rows = n
	}
	return change.Range{Lo: r.Lo, Hi: key}, rows, nil
}

// lengths is SQL text for the bytes that values take together.
func lengths(d change.Dialect, values []string) string {
	parts := make([]string, len(values))
	for i, v := range values {
		parts[i] = "coalesce(" + d.Size(v) + ", 0)"
	}
	return strings.Join(parts, " + ")
}

// Heavy reports whether the old values of the kept rows after from, up to to, are
// too large together for one batch. Packed ones are not looked at.
func Heavy(ctx context.Context, db DB, kept *change.Kept, from, to int64) (bool, error) {
	var names []string
	for _, k := range kept.Old {
		if db.Dialect().MayBeLarge(k.Of) {
			names = append(names, db.Dialect().Quote(k.Name))
		}
	}
	if len(names) == 0 || kept.Packed != "" {
		return false, nil
	}
	q := &change.Query{D: db.Dialect()}
	q.Add("SELECT coalesce(sum(", lengths(db.Dialect(), names), "), 0) FROM ", kept.Table, " WHERE seq > ").Arg(from, "bigint").Add(" AND seq <= ").Arg(to, "bigint")
	var n int64
	err := db.Pool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&n)
	return n > heavyBytes, err
}
