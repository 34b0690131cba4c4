package engine

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"hash/fnv"
	"strings"

	"jugatum/internal/change"
)

// A row whose key changes on its way into the table, by a trigger or by a
// reference, may come up a second time later in the walk. Where that could be,
// the keys that went into a batch are looked for once more after it.

// KeyMovedError is a row that is not found by its key any more after its batch.
type KeyMovedError struct {
	Table string
	Key   string
}

func (e *KeyMovedError) Error() string {
	return fmt.Sprintf("%s: row %s has another key after the change, or is gone: a trigger or a reference changes keys, and batches find their way by them; this batch was rolled back; use --method single", e.Table, e.Key)
}

// watched carries out a batch of a change whose keys may move, and fails if one has.
func watched(ctx context.Context, db DB, tx *Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (Effect, error) {
	scratch := kept == nil
	from := base
	if scratch { // the keys must be known all the same
		var err error
		if kept, err = scratchTable(ctx, db, tx, c); err != nil {
			return Effect{}, fmt.Errorf("making a temporary table for the batch: %w", err)
		}
		from = 0
	}
	e, err := batch(ctx, db, tx, c, kept, r, from)
	if err != nil {
		return e, err
	}
	moved, err := Moved(ctx, tx, c, kept, r, from, e.Kept)
	if err != nil {
		return e, err
	}
	if scratch { // the next batch empties it
		e.Kept = base
		return e, nil
	}
	if db.Dialect().Forms().SparingTrigger || e.Kept == base || !c.Triggered() {
		return e, nil
	}
	if moved { // a row that is not found has not come out the same
		return e, nil
	}
	// What triggers have made of the rows is what is kept, and rows that came out
	// the same have not changed.
	q := change.Refresh(c, kept, from, e.Kept)
	if _, err := tx.S.Conn.ExecContext(ctx, q.String(), q.Args...); err != nil {
		return e, err
	}
	q = change.ForgetUnchanged(c, kept, from, e.Kept)
	res, err := tx.S.Conn.ExecContext(ctx, q.String(), q.Args...)
	if err != nil {
		return e, err
	}
	same, err := res.RowsAffected()
	if err != nil || same == 0 {
		return e, err
	}
	e.Changed -= same
	// Numbers that were given up are given again on SQLite.
	return e, tx.Scan(ctx, "SELECT coalesce(max(seq), ?) FROM "+kept.Table+" WHERE seq > ?", []any{from, from}, &e.Kept)
}

// Moved reports whether a row that went into the one batch that is the whole step is
// not found by its key any more. In one of many batches that is an error: the walk
// could come to the row again.
func Moved(ctx context.Context, tx *Tx, c *change.Change, kept *change.Kept, r change.Range, from, to int64) (bool, error) {
	if !c.KeysMayMove() {
		return false, nil
	}
	err := vanished(ctx, tx, c, kept, from, to)
	var other *KeyMovedError
	if r.Hi == nil && errors.As(err, &other) {
		return true, nil
	}
	return false, err
}

// vanished fails if a row that went into a batch is not found by its key any more.
func vanished(ctx context.Context, tx *Tx, c *change.Change, kept *change.Kept, from, to int64) error {
	q := change.Vanished(c, kept, from, to)
	key, into := make([]sql.NullString, len(kept.Keys)), make([]any, len(kept.Keys))
	for i := range key {
		into[i] = &key[i]
	}
	switch err := tx.S.Conn.QueryRowContext(ctx, q.String(), q.Args...).Scan(into...); {
	case errors.Is(err, sql.ErrNoRows):
		return nil
	case err != nil:
		return err
	}
	texts := make([]string, len(key))
	for i, k := range key {
		texts[i] = k.String
	}
	return &KeyMovedError{Table: c.Table.String(), Key: strings.Join(texts, ", ")}
}

// scratchTable is a kept-values table that lasts as long as the session.
func scratchTable(ctx context.Context, db DB, tx *Tx, c *change.Change) (*change.Kept, error) {
	kept := change.NewKept("", c)
	kept.Indexed = false
	h := fnv.New64a()
	for _, list := range [][]change.KeptColumn{kept.Keys, kept.Old, kept.New} {
		for _, k := range list {
			fmt.Fprintf(h, "%s %s %s\x00", k.Name, k.Of.Type, k.Of.Collation)
		}
	}
	kept.Table = Temporary(db, fmt.Sprintf("watched_%x", h.Sum64()))
	// A batch that was rolled back to a savepoint may have left rows.
	return kept, emptied(ctx, db, tx, kept)
}
