package engine

import (
	"context"
	"fmt"

	"jugatum/internal/change"
)

// ListTable is the name of the n-th list that a session has for the batches of a step.
func ListTable(db DB, step, n int) string { return Temporary(db, fmt.Sprintf("list_%d_%d", step, n)) }

// Temporary is the name of a table that lasts as long as the session.
func Temporary(db DB, name string) string {
	if table, _ := db.Dialect().Temporary("jugatum_" + name); table != "" {
		return table
	}
	return db.LedgerTable(name)
}

// emptied makes a table that lasts as long as the session, or empties it.
func emptied(ctx context.Context, db DB, tx *Tx, layout *change.Kept) error {
	if !tx.S.made[layout.Table] {
		for _, text := range asTemporary(db, db.KeptTable(layout)) {
			if _, err := tx.Exec(ctx, text); err != nil {
				return fmt.Errorf("making a temporary table for the batch: %w", err)
			}
		}
		tx.made = append(tx.made, layout.Table)
	}
	_, err := tx.Exec(ctx, db.Dialect().Emptied(layout.Table))
	return err
}

// StayedError is a batch whose rows were not all deleted or changed: a trigger keeps some.
type StayedError struct {
	Table           string
	Listed, Changed int64
}

func (e *StayedError) Error() string {
	return fmt.Sprintf("%s: %d rows were to change and %d did, so that rows of other tables would have changed for nothing: a trigger interferes with the batch; leave out the rows that it keeps, or leave those that refer to them to the database (--despite cascade)", e.Table, e.Listed, e.Changed)
}

// Carry carries out a batch of a change with acts: lists its rows, and carries out the
// acts and then the change itself. What is kept is numbered from base+1 on, the
// change's own rows last.
func Carry(ctx context.Context, db DB, tx *Tx, x *change.Compound, kept *change.Kept, r change.Range, base int64) (Effect, error) {
	b := carried{db: db, tx: tx, own: x.List, Effect: Effect{Scanned: -1, Kept: base, Log: NoLog, Acts: make([]int64, len(x.Parts))}}
	rows, err := b.list(ctx, x.List, r, x.Source)
	if err != nil || rows == 0 {
		return b.Effect, err
	}
	stay := int64(0)
	if s := x.Stays; s != nil {
		if stay, err = b.list(ctx, s.List, change.Range{}, s.Find); err != nil {
			return b.Effect, err
		}
		if s.Meant != nil {
			meant := int64(0)
			if err := tx.S.Conn.QueryRowContext(ctx, s.Meant.String(), s.Meant.Args...).Scan(&meant); err != nil {
				return b.Effect, err
			}
			if stay < meant { // to be listed once more, now without those that had meant to go there
				return b.Effect, errStale
			}
		}
	}
	listed := make([]int64, len(x.Parts))
	for _, i := range x.Top {
		if listed[i], err = b.list(ctx, x.Parts[i].List, change.Range{}, x.Parts[i].Find...); err != nil {
			return b.Effect, err
		}
	}
	for i, p := range x.Parts {
		if p.Act.Stays { // once what is unique is free
			continue
		}
		if p.List == nil {
			b.Acts[i], err = b.change(ctx, p.Change, p.Kept, change.Range{})
		} else {
			b.Acts[i], err = b.changeListed(ctx, p.Change, p.Kept, p.List, listed[i])
		}
		if err != nil {
			return b.Effect, err
		}
	}
	b.Changed, err = b.changeListed(ctx, x.Own, kept, x.List, rows)
	b.Matched = b.Changed
	for i, p := range x.Parts {
		if err == nil && p.Act.Stays {
			b.Acts[i], err = b.change(ctx, p.Change, p.Kept, whole(p.List, stay))
		}
	}
	return b.Effect, err
}

// carried is what a batch with acts has done so far.
type carried struct {
	Effect
	db  DB
	tx  *Tx
	own *change.Kept // the list of the step's own rows
}

// list fills a list with what some changes find, and tells how many rows that are.
func (b *carried) list(ctx context.Context, list *change.Kept, r change.Range, finds ...*change.Change) (n int64, err error) {
	if err := emptied(ctx, b.db, b.tx, list); err != nil {
		return 0, err
	}
	for _, find := range finds {
		e, err := b.db.List(ctx, b.tx, find, list, r, n)
		if err != nil {
			return 0, err
		}
		if list.Table == b.own.Table { // what other rows are found by is not the step's to scan
			b.Scanned = e.Scanned
		}
		n += e.Changed
		b.AddLog(e.Log)
	}
	return n, nil
}

// changeListed changes the rows of a list, every one of them.
func (b *carried) changeListed(ctx context.Context, c *change.Change, kept, list *change.Kept, rows int64) (int64, error) {
	if rows == 0 {
		return 0, nil
	}
	n, err := b.change(ctx, c, kept, whole(list, rows))
	if err == nil && n != rows {
		err = &StayedError{c.Table.String(), rows, n}
	}
	return n, err
}

// whole is a list of so many rows from its beginning to its end.
func whole(list *change.Kept, rows int64) change.Range {
	return change.Range{Roster: list, Lo: change.KeyValue{int64(0)}, Hi: change.KeyValue{rows}}
}

// change carries out one of the statements of the batch.
func (b *carried) change(ctx context.Context, c *change.Change, kept *change.Kept, r change.Range) (int64, error) {
	e, err := Batch(ctx, b.db, b.tx, c, kept, r, b.Kept)
	if err != nil {
		return 0, err
	}
	b.Kept = max(b.Kept, e.Kept)
	b.AddLog(e.Log)
	return e.Changed, nil
}
