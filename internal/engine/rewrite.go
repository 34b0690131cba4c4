package engine

import (
	"context"
	"database/sql"
	"fmt"

	"jugatum/internal/change"
)

// What engines do where new values are computed here rather than by SQL: the
// rows that may hold the text are read and locked, their new values are loaded,
// and the change goes on as one from another table, with all that belongs to it.

// RowWriter is met by engines that can write and keep new values row by row,
// without loading them first.
type RowWriter interface {
	// WritesRows reports whether this transaction's batch can be written so; the
	// rows are then to be read with their old values. It is asked once a batch.
	WritesRows(ctx context.Context, tx *Tx, c *change.Change, kept *change.Kept) (bool, error)

	// WriteRows changes these rows, which are in the order of their keys, all
	// after after, and keeps their values, numbered from base+1 on. It has done
	// nothing if it reports false.
	WriteRows(ctx context.Context, tx *Tx, c *change.Change, kept *change.Kept, after change.KeyValue, rows []Rewritten, base int64) (bool, Effect, error)
}

// ReadCounter is met by engines that count the rows a session reads.
type ReadCounter interface {
	RowsRead(ctx context.Context, tx *Tx) (int64, error)
}

// errStale says that rows were changed by another session after they were read.
var errStale = &StaleError{}

// StaleError is a batch whose rows another session changed in between; it is
// done again with the rows locked first.
type StaleError struct{}

func (*StaleError) Error() string { return "another session changed rows of the batch in between" }

// lockFirstFor is how many batches lock their rows first after one was stale: there
// are probably more to come.
const lockFirstFor = 20

// Rewritten is a row with new values.
type Rewritten struct {
	Key change.KeyValue
	At  string    // what Locate asked for
	New []*string // in the order of the change's assignments; nil stays as it is
	Old []*string // for a RowWriter: the values before, all of them
}

// RefusedRow is a row whose new value cannot be computed: it is not touched.
type RefusedRow struct {
	Key    change.KeyValue
	Column string
	Err    error
}

func (r *RefusedRow) Error() string { return r.Column + ": " + r.Err.Error() }

func (r *RefusedRow) Unwrap() error { return r.Err }

// atOnce is how many bytes of old and new values a batch holds in memory at a
// time, and the one that is read ahead of it again; a single value may be larger.
const atOnce = 8 << 20

// countRows gives how many rows the session reads meanwhile, -1 if that is not counted.
func countRows(ctx context.Context, db DB, tx *Tx, read func() (readings, error)) (x readings, n int64, err error) {
	counter, counts := db.(ReadCounter)
	var before int64
	if counts {
		if before, err = counter.RowsRead(ctx, tx); err != nil {
			return x, -1, err
		}
	}
	if x, err = read(); err != nil || !counts {
		return x, -1, err
	}
	now, err := counter.RowsRead(ctx, tx)
	return x, now - before, err
}

// Batch carries out a batch, whoever computes the new values: DB.Batch where the
// database does. Rows that are refused are left as they are and told in the effect.
func Batch(ctx context.Context, db DB, tx *Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (Effect, error) {
	if (r.Hi != nil || kept != nil) && c.KeysMayMove() {
		return watched(ctx, db, tx, c, kept, r, base)
	}
	return batch(ctx, db, tx, c, kept, r, base)
}

func batch(ctx context.Context, db DB, tx *Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (Effect, error) {
	if c.Rewrite == nil {
		return db.Batch(ctx, tx, c, kept, r, base)
	}
	if c.Table.Key == nil {
		return Effect{}, fmt.Errorf("%s: text cannot be replaced without a key", c.Table)
	}
	sum := Effect{Scanned: -1, Kept: base, Log: NoLog}
	if _, counts := db.(ReadCounter); !counts && r.Hi != nil && !db.Dialect().Forms().CountedRanges { // where ranges are counted beforehand
		q := &change.Query{D: c.D}
		q.Add("SELECT count(*) FROM ", c.Table.SQL(c.D), " AS jugatum_t WHERE 1 = 1").Range("jugatum_t", c.Table.Key, r)
		if err := tx.S.Conn.QueryRowContext(ctx, q.String(), q.Args...).Scan(&sum.Scanned); err != nil {
			return sum, err
		}
	}
	writer, direct := db.(RowWriter)
	if direct {
		var err error
		if direct, err = writer.WritesRows(ctx, tx, c, kept); err != nil {
			return sum, err
		}
	}
	for part := r; ; {
		guarded := db.Guarded(tx, c)
		var x readings
		var scanned int64
		var err error
		if o := tx.outlook; o != nil && o.r.Same(part) && (direct || !o.old) {
			x, scanned = o.read, o.scanned
		} else {
			x, scanned, err = countRows(ctx, db, tx, func() (readings, error) {
				return readRows(ctx, db, tx.S.Conn, c, part, reading{lock: !guarded || tx.S.LockFirst > 0, old: direct})
			})
			if err != nil {
				return sum, err
			}
		}
		tx.outlook = nil
		if scanned >= 0 {
			sum.Scanned = max(sum.Scanned, 0) + scanned
		}
		sum.Matched += x.matched
		sum.Refused = append(sum.Refused, x.refused...)
		if len(x.rows) > 0 {
			done, e := false, Effect{}
			if direct {
				done, e, err = writer.WriteRows(ctx, tx, c, kept, part.Lo, x.rows, sum.Kept)
			}
			if err == nil && !done {
				var derived *change.Change
				if derived, err = db.Load(ctx, tx, c, x.rows); err == nil {
					e, err = db.Batch(ctx, tx, derived, kept, change.Range{Lo: r.Lo, Hi: r.Hi, At: r.At}, sum.Kept)
				}
			}
			if err != nil {
				return sum, err
			}
			if e.Changed < int64(len(x.rows)) && guarded && tx.S.LockFirst == 0 {
				tx.S.LockFirst = lockFirstFor
				return sum, errStale
			}
			if e.Changed != int64(len(x.rows)) {
				return sum, fmt.Errorf("%s: %d rows were to be changed, %d were: a trigger or a policy interferes", c.Table, len(x.rows), e.Changed)
			}
			sum.Changed += e.Changed
			sum.Kept = e.Kept
			sum.AddLog(e.Log)
		}
		if x.last == nil {
			tx.S.LockFirst = max(tx.S.LockFirst-1, 0)
			return sum, nil
		}
		part.Lo = x.last
	}
}

// readings are the rows of a stretch.
type readings struct {
	matched int64 // rows that hold the text, by our own reading
	rows    []Rewritten
	refused []*RefusedRow
	last    change.KeyValue // the key to go on after; nil at the end
}

// reading is how rows are read.
type reading struct{ lock, old bool }

// querier is a connection or a pool.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// readRows reads rows in key order and works out their new values, until there
// is enough in memory.
func readRows(ctx context.Context, db DB, from querier, c *change.Change, r change.Range, how reading) (readings, error) {
	var x readings
	q := &change.Query{D: c.D}
	q.Add("SELECT ")
	for _, k := range c.Table.Key.Columns {
		q.Add(KeyOut(c.D, c.Ref, k), ", ")
	}
	at := &change.Query{D: c.D}
	if db.Locate(at, c); at.String() != "" {
		q.Add(at.String(), ", ")
	}
	cols := assigned(c)
	for i, s := range cols {
		if i > 0 {
			q.Add(", ")
		}
		q.AsText(c.Ref, s.Column)
	}
	q.Source(c, r).Add(" ORDER BY ").Columns(c.Ref, c.Table.Key.Columns)
	if how.lock {
		q.Add(c.D.ForUpdate(c.Ref))
	}
	rows, err := from.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return x, err
	}
	defer rows.Close()
	w := NewWalk(db, c.Table)
	var place string
	values := make([]sql.RawBytes, len(cols))
	held := 0
	for rows.Next() {
		key := make(change.KeyValue, len(c.Table.Key.Columns))
		var into []any
		for i := range key {
			into = append(into, &key[i])
		}
		if at.String() != "" {
			into = append(into, &place)
		}
		for i := range values {
			into = append(into, &values[i])
		}
		if err := rows.Scan(into...); err != nil {
			return x, err
		}
		w.text(key)
		row := Rewritten{Key: key, At: place, New: make([]*string, len(c.Set))}
		n := 0
		for i, v := range values {
			if v == nil {
				continue
			}
			out, err := c.Rewrite.Replace(v)
			if err != nil {
				x.refused = append(x.refused, &RefusedRow{key, cols[i].Column.Name, err})
				n = 0
				x.matched++
				break
			}
			if string(out) != string(v) {
				s := string(out)
				row.New[i] = &s
				held += len(s)
				n++
			}
		}
		if n > 0 {
			x.matched++
			if how.old {
				row.Old = make([]*string, len(values))
				for i, v := range values {
					if v != nil {
						s := string(v)
						row.Old[i] = &s
						held += len(s)
					}
				}
			}
			x.rows = append(x.rows, row)
			held += 200
		}
		if held > atOnce {
			x.last = key
			break
		}
	}
	return x, rows.Err()
}

// assigned lists the assignments that are ours to compute: they come first.
func assigned(c *change.Change) []change.Set {
	for i, s := range c.Set {
		if s.Implicit {
			return c.Set[:i]
		}
	}
	return c.Set
}

// rewrittenRow is Row for a change whose values we compute.
func rewrittenRow(ctx context.Context, db DB, c *change.Change, r change.Range) (change.KeyValue, map[string]*string, error) {
	x, err := readRows(ctx, db, db.JobPool(), c, r, reading{})
	if err != nil {
		return nil, nil, err
	}
	if len(x.refused) > 0 {
		return x.refused[0].Key, nil, nil
	}
	if len(x.rows) == 0 {
		return nil, nil, nil
	}
	values := map[string]*string{}
	for i, s := range assigned(c) {
		if v := x.rows[0].New[i]; v != nil {
			values[s.Column.Name] = v
		}
	}
	return x.rows[0].Key, values, nil
}
