package engine

import (
	"context"
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// ListTable is the name of the n-th list that a session has for the batches of a step.
func ListTable(db DB, step, n int) string { return temporary(db, fmt.Sprintf("list_%d_%d", step, n)) }

// temporary is the name of a table that lasts as long as the session.
func temporary(db DB, name string) string {
	switch db.Dialect() {
	case sqltext.PostgreSQL:
		return "pg_temp.jugatum_" + name
	case sqltext.SQLite:
		return "temp.jugatum_" + name
	}
	return db.LedgerTable(name) // where a temporary table is in a database like any other
}

// emptied makes a table that lasts as long as the session, or empties it.
func emptied(ctx context.Context, db DB, tx *Tx, layout *change.Kept) error {
	create, empty := "CREATE TEMPORARY TABLE IF NOT EXISTS ", "DELETE FROM "
	switch db.Dialect() {
	case sqltext.PostgreSQL: // where rows that are deleted would be read over again and again
		empty = "TRUNCATE "
	case sqltext.SQLite:
		create = "CREATE TABLE IF NOT EXISTS "
	}
	for _, text := range db.KeptTable(layout) {
		if _, err := tx.Exec(ctx, strings.Replace(text, "CREATE TABLE ", create, 1)); err != nil {
			return fmt.Errorf("making a temporary table for the batch: %w", err)
		}
	}
	_, err := tx.Exec(ctx, empty+layout.Table)
	return err
}

// StayedError is a batch whose rows were not all deleted or changed: a trigger keeps some.
type StayedError struct {
	Table           string
	Listed, Changed int64
}

func (e *StayedError) Error() string {
	return fmt.Sprintf("%s: %d rows were to change and %d did, so that rows of other tables would have changed for nothing: a trigger interferes with the batch", e.Table, e.Listed, e.Changed)
}

// Carry carries out a batch of a change with acts: lists its rows, and carries out the
// acts and then the change itself. What is kept is numbered from base+1 on, the
// change's own rows last.
func Carry(ctx context.Context, db DB, tx *Tx, x *change.Compound, kept *change.Kept, r change.Range, base int64) (Effect, error) {
	sum := Effect{Scanned: -1, Kept: base, Log: NoLog, Acts: make([]int64, len(x.Parts))}
	if r.Walked() && db.Dialect() != sqltext.SQLite { // where ranges are counted beforehand
		q := &change.Query{D: x.Source.D}
		q.Add("SELECT count(*) FROM ", x.Source.Table.SQL(q.D), " AS jugatum_t WHERE 1 = 1").Range("jugatum_t", x.Source.Table.Key, r)
		if err := tx.S.Conn.QueryRowContext(ctx, q.String(), q.Args...).Scan(&sum.Scanned); err != nil {
			return sum, err
		}
	}
	list := func(list *change.Kept, r change.Range, finds ...*change.Change) (n int64, err error) {
		if err := emptied(ctx, db, tx, list); err != nil {
			return 0, err
		}
		for _, find := range finds {
			e, err := db.List(ctx, tx, find, list, r, n)
			if err != nil {
				return 0, err
			}
			n += e.Changed
			sum.add(e)
		}
		return n, nil
	}
	carry := func(c *change.Change, kept, list *change.Kept, n int64) (int64, error) {
		var r change.Range
		if list != nil {
			r = change.Range{Roster: list, Lo: change.KeyValue{int64(0)}, Hi: change.KeyValue{n}}
		}
		if list != nil && n == 0 {
			return 0, nil
		}
		e, err := Batch(ctx, db, tx, c, kept, r, sum.Kept)
		if err != nil {
			return 0, err
		}
		if list != nil && e.Changed != n {
			return 0, &StayedError{c.Table.String(), n, e.Changed}
		}
		sum.Kept = max(sum.Kept, e.Kept)
		sum.add(e)
		return e.Changed, nil
	}
	rows, err := list(x.List, r, x.Source)
	if err != nil || rows == 0 {
		return sum, err
	}
	counts := make([]int64, len(x.Parts))
	for _, i := range x.Top {
		if counts[i], err = list(x.Parts[i].List, change.Range{}, x.Parts[i].Find...); err != nil {
			return sum, err
		}
	}
	for i, p := range x.Parts {
		if sum.Acts[i], err = carry(p.Change, p.Kept, p.List, counts[i]); err != nil {
			return sum, err
		}
	}
	sum.Changed, err = carry(x.Own, kept, x.List, rows)
	sum.Matched = sum.Changed
	return sum, err
}

// add adds another statement's log.
func (e *Effect) add(o Effect) {
	if e.Log.Scope == "" {
		e.Log = o.Log
	} else {
		e.Log.Add(o.Log)
	}
}
