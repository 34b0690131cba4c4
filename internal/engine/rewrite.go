package engine

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"

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

	Nulls string // which new values are NULL: see change.LoadedNulls; "" where none can be
}

// RefusedRow is a row whose new value cannot be computed: it is not touched.
type RefusedRow struct {
	Key    change.KeyValue
	Column string             // "" where it is none in particular
	New    map[string]*string // what was to be its values, where that is known
	Err    error
}

func (r *RefusedRow) Error() string {
	if r.Column == "" {
		return r.Err.Error()
	}
	return r.Column + ": " + r.Err.Error()
}

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
	b := rewriting{db: db, tx: tx, c: c, kept: kept, r: r}
	if writer, ok := db.(RowWriter); ok {
		direct, err := writer.WritesRows(ctx, tx, c, kept)
		if err != nil {
			return Effect{}, err
		}
		if direct && c.Rewrite.Plain() {
			b.writer = writer
		}
	}
	return b.carryOut(ctx, base)
}

// rewriting is a batch whose new values we compute.
type rewriting struct {
	db     DB
	tx     *Tx
	c      *change.Change
	kept   *change.Kept
	r      change.Range
	writer RowWriter // writes the rows as they are; nil where they are loaded, and the change joins them
}

// carryOut goes through the range in stretches of what memory may hold.
func (b *rewriting) carryOut(ctx context.Context, base int64) (sum Effect, err error) {
	sum = Effect{Scanned: -1, Kept: base, Log: NoLog}
	if sum.Scanned, err = b.count(ctx); err != nil {
		return sum, err
	}
	for part := b.r; ; {
		x, scanned, err := b.read(ctx, part)
		if err != nil {
			return sum, err
		}
		if scanned >= 0 {
			sum.Scanned = max(sum.Scanned, 0) + scanned
		}
		sum.Matched += x.matched
		sum.Refused = append(sum.Refused, x.refused...)
		if len(x.rows) > 0 {
			e, err := b.write(ctx, part.Lo, x.rows, sum.Kept)
			if err != nil {
				return sum, err
			}
			sum.Changed += e.Changed
			sum.Kept = e.Kept
			sum.AddLog(e.Log)
		}
		if x.last == nil {
			b.tx.S.LockFirst = max(b.tx.S.LockFirst-1, 0)
			return sum, nil
		}
		part.Lo = x.last
	}
}

// count is how many rows the range has, -1 where reading them tells, or they were counted
// before the batch.
func (b *rewriting) count(ctx context.Context) (n int64, err error) {
	if _, counts := b.db.(ReadCounter); counts || b.r.Hi == nil || b.c.D.Forms().CountedRanges {
		return -1, nil
	}
	q := &change.Query{D: b.c.D}
	q.Add("SELECT count(*) FROM ", b.c.Table.SQL(b.c.D), " AS jugatum_t WHERE 1 = 1").Range("jugatum_t", b.c.Table.Key, b.r)
	err = b.tx.S.Conn.QueryRowContext(ctx, q.String(), q.Args...).Scan(&n)
	return n, err
}

// read gives the rows of a stretch, those that were read ahead if it is the one; with their
// old values where they are written as they are.
func (b *rewriting) read(ctx context.Context, part change.Range) (readings, int64, error) {
	direct := b.writer != nil
	o := b.tx.outlook
	b.tx.outlook = nil
	if o != nil && o.r.Same(part) && (direct || !o.old) {
		return o.read, o.scanned, nil
	}
	lock := !b.db.Guarded(b.tx, b.c) || b.tx.S.LockFirst > 0
	return countRows(ctx, b.db, b.tx, func() (readings, error) {
		return readRows(ctx, b.db, b.tx.S.Conn, b.c, part, reading{lock: lock, old: direct})
	})
}

// write changes rows, all of which lie after a key.
func (b *rewriting) write(ctx context.Context, after change.KeyValue, rows []Rewritten, base int64) (e Effect, err error) {
	guarded := b.db.Guarded(b.tx, b.c)
	done := false
	if b.writer != nil {
		done, e, err = b.writer.WriteRows(ctx, b.tx, b.c, b.kept, after, rows, base)
	}
	if err == nil && !done {
		var derived *change.Change
		if derived, err = b.db.Load(ctx, b.tx, b.c, rows); err == nil {
			e, err = b.db.Batch(ctx, b.tx, derived, b.kept, change.Range{Lo: b.r.Lo, Hi: b.r.Hi, At: b.r.At}, base)
		}
	}
	switch {
	case err != nil:
		return e, err
	case e.Changed < int64(len(rows)) && guarded && b.tx.S.LockFirst == 0:
		b.tx.S.LockFirst = lockFirstFor
		return e, errStale
	case e.Changed != int64(len(rows)):
		return e, fmt.Errorf("%s: %d rows were to be changed, %d were: a trigger or a policy interferes", b.c.Table, len(rows), e.Changed)
	}
	return e, nil
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
	x := rowReader{c: c, cols: assigned(c), how: how, walk: NewWalk(db, c.Table)}
	q, placed := x.query(db, r)
	rows, err := from.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return x.readings, err
	}
	defer rows.Close()
	var place string
	cells, texts := Cells(x.texts.N)
	values := make([][]byte, x.texts.N)
	keys := len(c.Table.Key.Columns)
	into := make([]any, keys, keys+1+len(texts)) // a key is kept with its row, all else is read into the same place
	if placed {
		into = append(into, &place)
	}
	into = append(into, texts...)
	for x.last == nil && rows.Next() {
		key := make(change.KeyValue, keys)
		for i := range key {
			into[i] = &key[i]
		}
		if err := rows.Scan(into...); err != nil {
			return x.readings, err
		}
		for i := range cells {
			values[i] = cells[i].B
		}
		x.walk.Texts(key)
		switch again := x.again(key, values); {
		case again:
		case x.held > atOnce:
			x.last = x.key
		default:
			x.key = key
			x.row(key, place, values)
		}
	}
	return x.readings, rows.Err()
}

// rowReader works out the new values of rows as they come.
type rowReader struct {
	readings
	c     *change.Change
	cols  []change.Set // that are ours to compute
	texts change.Texts // where of a row that is read what is
	how   reading
	walk  *Walk
	held  int // bytes in memory

	// Of the row before, where it may come once more, for another row of the source:
	key   change.KeyValue
	id    string   // the key as one text
	cells [][]byte // what was read of it
	fate  fate
}

// fate is what has become of a row.
type fate int

const (
	stays   fate = iota // it is as it is to be
	taken               // it is the last of the rows
	refused             // it is the last of those refused
)

// again reports whether a row is the one before once more, for another row of the source. It is refused
// where that one would have it be something else.
func (x *rowReader) again(key change.KeyValue, values [][]byte) bool {
	if x.c.From.Empty() {
		return false
	}
	if id := key.Encode(); x.id != id {
		x.id, x.cells = id, x.cells[:0]
		for _, v := range values {
			x.cells = append(x.cells, bytes.Clone(v))
		}
		return false
	}
	if x.fate == refused || slices.EqualFunc(values, x.cells, func(a, b []byte) bool { return bytes.Equal(a, b) && (a == nil) == (b == nil) }) {
		return true
	}
	if x.fate == taken { // and counted
		x.rows = x.rows[:len(x.rows)-1]
	} else {
		x.matched++
	}
	x.refuse(&RefusedRow{Key: key, Err: errors.New("several source rows give it different values")})
	return true
}

func (x *rowReader) refuse(r *RefusedRow) { x.refused, x.fate = append(x.refused, r), refused }

// query is for the rows of a range: keys, where a row stands if the engine has a place for
// that, and the texts.
func (x *rowReader) query(db DB, r change.Range) (q *change.Query, placed bool) {
	c := x.c
	q = (&change.Query{D: c.D}).Add("SELECT ")
	for _, k := range c.Table.Key.Columns {
		q.Add(KeyOut(c.D, c.Ref, k), ", ")
	}
	at := &change.Query{D: c.D}
	if db.Locate(at, c); at.String() != "" {
		placed = true
		q.Add(at.String(), ", ")
	}
	x.texts = q.Texts(c, x.cols)
	q.Source(c, r).Add(" ORDER BY ").Columns(c.Ref, c.Table.Key.Columns)
	if x.how.lock {
		q.Add(c.D.ForUpdate(c.Ref))
	}
	return q, placed
}

// rowRoom is about what a row takes in memory besides its values, in bytes.
const rowRoom = 200

// row takes up one row, unless it stays as it is.
func (x *rowReader) row(key change.KeyValue, place string, values [][]byte) {
	row := Rewritten{Key: key, At: place, New: make([]*string, len(x.c.Set))}
	changes := false
	x.fate = stays
	var nulls []byte
	for i := range x.cols {
		out, now, done, err := x.texts.New(i, values)
		switch {
		case err != nil:
			x.refuse(&RefusedRow{Key: key, Column: x.cols[i].Column.Name, Err: err})
			x.matched++
			return
		case !done || x.texts.Same(i, out, now):
			continue
		case out == nil:
			if nulls == nil {
				nulls = bytes.Repeat([]byte{'0'}, len(x.c.Set))
			}
			nulls[i] = '1'
		default:
			row.New[i] = x.hold(out)
		}
		changes = true
	}
	row.Nulls = string(nulls)
	if changes {
		x.matched++
		if x.how.old {
			row.Old = make([]*string, len(x.cols))
			for i, v := range values[:len(x.cols)] {
				if v != nil {
					row.Old[i] = x.hold(v)
				}
			}
		}
		x.rows, x.fate = append(x.rows, row), taken
		x.held += rowRoom
	}
	if x.held > atOnce && x.c.From.Empty() { // else the same row may come once more
		x.last = key
	}
}

// hold keeps a value in memory.
func (x *rowReader) hold(v []byte) *string {
	s := string(v)
	x.held += len(s)
	return &s
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
		if v := x.rows[0].New[i]; v != nil || i < len(x.rows[0].Nulls) && x.rows[0].Nulls[i] == '1' {
			values[s.Column.Name] = v
		}
	}
	return x.rows[0].Key, values, nil
}
