package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"unicode/utf8"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// WritesRows is true where the transaction's snapshot guards the rows, and
// nobody but us has a say in what is stored.
func (db *DB) WritesRows(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept) (bool, error) {
	return db.ready(ctx, tx, c, true, func() bool {
		for _, s := range c.Set {
			if s.Implicit {
				return false
			}
		}
		return (kept == nil || kept.Packed != "") && len(c.Table.Key.Columns) == 1 && !c.Table.Key.Columns[0].Instant && !c.Triggered() && restated(c)
	})
}

// WriteRows writes values computed by us straight into the rows, up to 500 in
// one statement, and keeps them: nothing need be loaded or joined.
func (db *DB) WriteRows(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, after change.KeyValue, rows []engine.Rewritten, base int64) (bool, engine.Effect, error) {
	e := engine.Effect{Scanned: -1, Kept: base, Log: engine.NoLog}
	done, err := db.attempt(ctx, tx, c, func() (bool, error) {
		v := seen(tx)
		x, ok := v.written, true
		if v.written = nil; x == nil {
			x, ok = compose(c, kept, after, rows, db.statement)
		}
		if !ok {
			return false, nil
		}
		if x.packs != nil {
			var err error
			if e.Kept, err = v.flush(ctx, tx, x.packs, base); err != nil {
				return false, err
			}
		}
		for _, q := range x.updates {
			n, err := exec(ctx, tx, q)
			if err != nil {
				return false, err
			}
			e.Changed += n
		}
		return e.Changed == int64(len(rows)), nil
	})
	if done {
		tx.S.State.(*session).changed = e.Changed
	}
	return done, e, err
}

// composed is what WriteRows has to write.
type composed struct {
	packs   *packer // nil if nothing is kept
	updates []*change.Query
}

// compose reports false if a row cannot be packed, or not be stored as it is. A statement has about so many bytes.
func compose(c *change.Change, kept *change.Kept, after change.KeyValue, rows []engine.Rewritten, statement int) (*composed, bool) {
	x := &composed{}
	if kept != nil {
		x.packs = newPacker(kept)
		for _, r := range rows {
			values, fits := keptOf(c, r)
			if !fits || !x.packs.add(values) {
				return nil, false
			}
		}
	}
	most := listRows
	if ordered(c.Table.Key.Columns[0]) {
		most = halvedRows
	}
	for from := 0; from < len(rows); {
		to, held := from, 0
		for to < len(rows) && to < from+most && held < statement {
			for _, v := range rows[to].New {
				if v != nil {
					held += len(*v)
				}
			}
			to++
		}
		part := rows[from:to]
		x.updates = append(x.updates, cases(c, after, len(part), func(i int) (change.KeyValue, []*string) { return part[i].Key, part[i].New }))
		after, from = rows[to-1].Key, to
	}
	return x, true
}

// So many rows one statement of WriteRows changes: in a list of cases the server
// goes through half of it for each row; halving, more rows gain nothing.
const (
	listRows   = 40
	halvedRows = 500
)

// keptOf gives the values to keep of a row that we have computed. It reports
// false if a column would hold another value than the one assigned.
func keptOf(c *change.Change, r engine.Rewritten) ([]sql.RawBytes, bool) {
	values := []sql.RawBytes{sql.RawBytes(fmt.Sprint(r.Key[0]))}
	for _, v := range r.Old {
		values = append(values, raw(v))
	}
	for i, v := range r.New {
		col := c.Set[i].Column
		switch {
		case v == nil:
			v = r.Old[i]
		case len(*v) > room(col), col.Length > 0 && utf8.RuneCountInString(*v) > col.Length,
			strings.HasPrefix(col.Type, "char(") && strings.HasSuffix(*v, " "):
			return nil, false
		}
		values = append(values, raw(v))
	}
	return values, true
}

func raw(s *string) sql.RawBytes {
	if s == nil {
		return nil
	}
	return sql.RawBytes(*s)
}
