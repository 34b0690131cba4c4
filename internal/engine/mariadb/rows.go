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
		return (kept == nil || kept.Packed != "") && len(c.Table.Key.Columns) == 1 && !triggered(c) && restated(c)
	})
}

// WriteRows writes values computed by us straight into the rows, a few dozen in
// one statement, and keeps them: nothing need be loaded or joined.
func (db *DB) WriteRows(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, after change.KeyValue, rows []engine.Rewritten, base int64) (bool, engine.Effect, error) {
	e := engine.Effect{Scanned: -1, Kept: base, Log: engine.NoLog}
	done, err := db.attempt(ctx, tx, c, func() (bool, error) {
		if kept != nil {
			packs := newPacker(kept)
			for _, r := range rows {
				values, fits := keptOf(c, r)
				if !fits || !packs.add(values) {
					return false, nil
				}
			}
			var err error
			if e.Kept, err = packs.flush(ctx, tx, base); err != nil {
				return false, err
			}
		}
		for from := 0; from < len(rows); {
			to, held := from, 0
			for to < len(rows) && to < from+caseRows && held < loadedBytes {
				for _, v := range rows[to].New {
					if v != nil {
						held += len(*v)
					}
				}
				to++
			}
			q := (&change.Query{D: d}).Cases(c, after, to-from, func(i int) (change.KeyValue, []*string) { return rows[from+i].Key, rows[from+i].New })
			n, err := exec(ctx, tx, q)
			if err != nil || n != int64(to-from) {
				return false, err
			}
			e.Changed += n
			after, from = rows[to-1].Key, to
		}
		return true, nil
	})
	if done {
		tx.S.State.(*session).changed = e.Changed
	}
	return done, e, err
}

// caseRows is how many rows one statement of WriteRows changes: the server goes
// through half of the list for each of them.
const caseRows = 40

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
