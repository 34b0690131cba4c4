package mariadb

import (
	"context"
	"errors"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// NewTable gives the statement that makes a table of such columns, with their
// character sets.
func (db *DB) NewTable(t *change.Table) []string {
	var cols, key []string
	for _, c := range t.Columns {
		col := d.Quote(c.Name) + " " + typed(c)
		if c.NotNull {
			col += " NOT NULL"
		} else {
			col += " NULL DEFAULT NULL"
		}
		cols = append(cols, col)
	}
	for _, c := range t.Key.Columns {
		key = append(key, d.Quote(c.Name))
	}
	return []string{"CREATE TABLE " + t.NameSQL(d) + " (" + strings.Join(append(cols, "PRIMARY KEY ("+strings.Join(key, ", ")+")"), ", ") + ") ENGINE = InnoDB ROW_FORMAT = DYNAMIC"}
}

// typed is a column's type with its character set.
func typed(c *change.Column) string {
	if c.Collation == "" {
		return c.Type
	}
	return c.Type + " CHARACTER SET " + strings.SplitN(c.Collation, "_", 2)[0] + " COLLATE " + c.Collation
}

// whole are the types of whole numbers, each of which holds all of the one before.
var whole = map[string]int{"tinyint": 1, "smallint": 2, "mediumint": 3, "int": 4, "bigint": 5}

// Holds reports whether every value of a column stays as it is in another: of the same
// type and character set, or a longer one of the same kind.
func (db *DB) Holds(to, from *change.Column) bool {
	charset := func(c *change.Column) string { return strings.SplitN(c.Collation, "_", 2)[0] }
	if charset(to) != charset(from) {
		return false
	}
	if to.Type == from.Type {
		return true
	}
	kind := func(c *change.Column) (name, rest string) {
		name, rest, _ = strings.Cut(c.Type, "(")
		_, rest, _ = strings.Cut(rest, ")")
		return name, rest
	}
	a, more := kind(to)
	b, rest := kind(from)
	if whole[a] > 0 && whole[b] > 0 {
		return whole[a] >= whole[b] && more == rest // both with a sign, or both without
	}
	return a == b && (a == "varchar" || a == "varbinary") && to.Length >= from.Length
}

// put puts the rows of a batch, which are staged, into the other table.
func (db *DB) put(ctx context.Context, tx *engine.Tx, c *change.Change, staged *change.Kept, from, to, deleted int64) error {
	if err := db.relax(ctx, tx, staged); err != nil { // dates go as they are
		return err
	}
	came, err := exec(ctx, tx, change.Put(c, staged, from, to))
	if err == nil {
		err = engine.Came(c, deleted, came)
	}
	if err != nil {
		return err
	}
	return db.tighten(ctx, tx)
}

// carry carries out the statement over a range, or over rows of it with these keys. Rows
// that are to move it puts into the other table first; if it then deletes others, it
// gives a MovedError.
func (db *DB) carry(ctx context.Context, tx *engine.Tx, c *change.Change, r change.Range, keys []change.KeyValue) (int64, error) {
	do := func(q *change.Query, locks string) (int64, error) {
		if keys != nil {
			q.Add(" AND ").Among(c.Ref, c.Table.Key, keys)
		}
		return exec(ctx, tx, q.Add(locks))
	}
	if c.Into == nil {
		return do((&change.Query{D: d}).Statement(c, r), "")
	}
	if err := db.relax(ctx, tx, change.NewKept("", c)); err != nil { // dates go as they are
		return 0, err
	}
	came, err := do(change.Take(c, r), " FOR UPDATE") // as those who change rows lock them: see lockTarget
	if err != nil {
		return 0, err
	}
	if err := db.tighten(ctx, tx); err != nil {
		return 0, err
	}
	deleted, err := do((&change.Query{D: d}).Statement(c, r), "")
	if err == nil {
		err = engine.Came(c, deleted, came)
	}
	return deleted, err
}

// countsDiffer reports whether carry has deleted other rows than it has put into the other table.
func countsDiffer(err error) bool {
	var e *engine.MovedError
	return errors.As(err, &e)
}

// moveBare moves rows without keeping them: by the two statements, where the transaction
// keeps a snapshot and so both find the same rows, else by way of a temporary table.
func (db *DB) moveBare(ctx context.Context, tx *engine.Tx, c *change.Change, r change.Range, base int64) (engine.Effect, error) {
	e := engine.Effect{Scanned: -1, Matched: -1, Kept: base, Log: engine.NoLog}
	few := db.knows(c).few()
	frozen, err := db.ready(ctx, tx, c, r.Walked(), func() bool { return c.Repeatable(pure) })
	if err != nil {
		return e, err
	}
	if frozen {
		done, err := db.attempt(ctx, tx, c, func() (bool, error) {
			var err error
			if few {
				err = db.sparse(ctx, tx, c, r, true, &e)
			} else {
				err = db.whole(ctx, tx, c, r, &e)
			}
			if countsDiffer(err) {
				return false, nil
			}
			return err == nil, err
		})
		if done || err != nil {
			return e, err
		}
	}
	return db.passed(ctx, tx, c, change.NewKept("", c), c, r, base, nil)
}

// copy puts rows into the other table as well. They are read once, as they are kept, so
// that what is kept is what came.
func (db *DB) copy(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (engine.Effect, error) {
	e := engine.Effect{Scanned: -1, Matched: -1, Kept: base, Log: engine.NoLog}
	scanned, err := db.counting(ctx, tx, c, r, &e)
	if err != nil {
		return e, err
	}
	layout := kept
	if layout == nil {
		layout = change.NewKept("", c)
	}
	if err := db.relax(ctx, tx, layout); err != nil { // dates go as they are
		return e, err
	}
	if kept == nil {
		if e.Changed, err = exec(ctx, tx, change.Take(c, r)); err != nil {
			return e, err
		}
		e.Matched = e.Changed
		return e, errors.Join(scanned(), db.tighten(ctx, tx))
	}
	staged, from := kept, base
	if kept.Packed != "" {
		if staged, err = db.staging(ctx, tx, kept, kept); err != nil {
			return e, err
		}
		from = 0
	}
	if _, err := tx.Exec(ctx, "SET @jugatum_seq = ?", from); err != nil {
		return e, err
	}
	if e.Matched, err = exec(ctx, tx, numbered(c, staged).Source(c, r)); err != nil {
		return e, err
	}
	if err := scanned(); err != nil {
		return e, err
	}
	if e.Matched > 0 {
		if err := db.put(ctx, tx, c, staged, from, from+e.Matched, e.Matched); err != nil {
			return e, err
		}
		if err := db.relax(ctx, tx, kept); err != nil {
			return e, err
		}
		e.Changed, e.Kept = e.Matched, base+e.Matched
		if kept.Packed != "" {
			if e.Kept, err = packStaged(ctx, tx, staged, kept, base); err != nil {
				return e, err
			}
		}
	}
	tx.S.State.(*session).changed = e.Changed
	return e, db.tighten(ctx, tx)
}
