package engine

import (
	"context"

	"jugatum/internal/change"
)

// Outlook is what was read of a batch's rows before its turn, while the batch
// before it was under way. Nil is none: the batch does its own reading.
type Outlook struct {
	tx      *Tx   // begun for that; nil where the batch begins its own
	mark    int64 // what Mark gave in the batch before it, where there are marks
	r       change.Range
	read    readings // the rows, where we compute their values
	old     bool     // with the values before
	scanned int64    // rows scanned for that, -1 unknown
}

// Foresees reports whether Foresee has something to give now.
func Foresees(db DB, c *change.Change, kept *change.Kept) bool {
	if c.Rewrite != nil && !c.Rewrite.Plain() { // rows are loaded then, and read as the batch loads them
		return false
	}
	if f, ok := db.(Foreseer); ok {
		return f.Foresees(c, kept)
	}
	_, ok := db.(Marker)
	return ok && c.Rewrite != nil && c.Table.Key != nil && rowsIndependent(c)
}

// rowsIndependent reports whether changing one row cannot change another of the same table.
func rowsIndependent(c *change.Change) bool {
	for _, t := range c.Table.Triggers {
		if t.Update {
			return false
		}
	}
	for _, fk := range c.Table.ReferredBy {
		if fk.Own(c.Table) {
			return false
		}
	}
	return true
}

// Foresight is what Foresee goes by. It is taken while the batch before is under
// way, in its transaction.
type Foresight struct {
	mark   int64
	marked bool
}

// Look takes down, in the transaction of the batch before, what can only be
// known there.
func Look(ctx context.Context, db DB, tx *Tx) (Foresight, error) {
	m, ok := db.(Marker)
	if !ok {
		return Foresight{}, nil
	}
	mark, err := m.Mark(ctx, tx)
	return Foresight{mark, true}, err
}

// Foresee reads ahead what the batch over r will change, on s or, where that
// needs no transaction, beside. base is for what is kept already; see Foreseer.
func (f Foresight) Foresee(ctx context.Context, db DB, s *Session, c *change.Change, kept *change.Kept, r change.Range, base int64) (*Outlook, error) {
	o := &Outlook{mark: f.mark, r: r}
	var err error
	if f.marked {
		o.read, err = readRows(ctx, db, db.JobPool(), c, r, reading{})
		o.scanned = -1
		return o, err
	}
	seer := db.(Foreseer)
	if o.tx, err = seer.Foresee(ctx, s, c, kept, r, base); err != nil || o.tx == nil {
		return nil, err
	}
	if c.Rewrite == nil {
		return o, nil
	}
	o.old = true
	o.read, o.scanned, err = countRows(ctx, db, o.tx, func() (readings, error) {
		return readRows(ctx, db, s.Conn, c, r, reading{old: true})
	})
	if err == nil && o.read.last == nil {
		if kept != nil {
			o.tx.Foreseen = int64(len(o.read.rows))
		}
		err = seer.ForeseeRows(ctx, o.tx, c, kept, r.Lo, o.read.rows, base)
	}
	if err != nil {
		o.Drop()
		return nil, err
	}
	return o, nil
}

// Drop gives up what was read.
func (o *Outlook) Drop() {
	if o != nil && o.tx != nil {
		o.tx.Rollback()
	}
}

// Begin begins the batch's turn: in the transaction that has read for it, whose
// hold begins now, since it has locked nothing so far that is not Jugatum's own;
// or in a new one on s.
func (o *Outlook) Begin(ctx context.Context, db DB, s *Session) (*Tx, error) {
	if o != nil && o.tx != nil {
		o.tx.begin()
		o.tx.outlook = o
		return o.tx, nil
	}
	tx, err := s.Start(ctx)
	if err != nil || o == nil {
		return tx, err
	}
	mark, err := db.(Marker).Mark(ctx, tx)
	if err != nil {
		tx.Rollback()
		return nil, err
	}
	if mark == o.mark {
		tx.outlook = o
	}
	return tx, nil
}

// NeedsSecondSession reports whether foreseeing wants a session of its own.
func NeedsSecondSession(db DB) bool {
	_, ok := db.(Foreseer)
	return ok
}
