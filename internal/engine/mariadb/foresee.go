package mariadb

import (
	"context"
	"sync"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// view is what a transaction sees of the table.
type view struct {
	frozen bool // one state of it, until it ends

	r       change.Range // the rows of this range were read before the batch's turn,
	rows    *foreseen    // to be kept,
	keys    *keyList     // or their keys alone; nil once used
	scanned int64        // rows scanned for that
	written *composed    // what is to be written, where we compute the values
	kept    int64        // number of the last row kept before the turn; -1 none are
}

func seen(tx *engine.Tx) *view { return tx.State.(*view) }

// known is what batches have shown of a change. All sessions share it.
type known struct {
	sync.Mutex
	asked bool // whether it
	again bool // may be worked out twice
	rare  bool // few of the rows scanned change
	apart int  // batches to go without a snapshot
}

// seldom records whether few of the rows that a batch went over changed.
func (k *known) seldom(rare bool) {
	k.Lock()
	defer k.Unlock()
	k.rare = rare
}

// few is what seldom recorded last.
func (k *known) few() bool {
	k.Lock()
	defer k.Unlock()
	return k.rare
}

// lockFirst records that working the values out twice does not give the same, so that
// rows are locked before they are read from now on.
func (k *known) lockFirst() {
	k.Lock()
	defer k.Unlock()
	k.again = false
}

// stepAside records that another session changed rows of a batch.
func (k *known) stepAside() {
	k.Lock()
	defer k.Unlock()
	k.apart = apartFor
}

func (db *DB) knows(c *change.Change) *known {
	db.knowing.Lock()
	defer db.knowing.Unlock()
	if db.learned == nil {
		db.learned = map[*change.Change]*known{}
	}
	k := db.learned[c]
	if k == nil {
		k = &known{}
		db.learned[c] = k
	}
	return k
}

// isolate has the session's transactions that follow keep one snapshot, or not.
func isolate(ctx context.Context, s *engine.Session, frozen bool) error {
	st := s.State.(*session)
	if st.frozen == frozen {
		return nil
	}
	text := "SET SESSION tx_isolation = 'READ-COMMITTED'"
	if frozen {
		text = "SET SESSION tx_isolation = 'REPEATABLE-READ'"
	}
	if _, err := s.Conn.ExecContext(ctx, text); err != nil {
		return err
	}
	st.frozen = frozen
	return nil
}

// Foresees reports whether batches have shown that the change may be worked out
// twice and, without kept values, that few rows match; not while others are
// seen to change the same rows.
func (db *DB) Foresees(c *change.Change, kept *change.Kept) bool {
	k := db.knows(c)
	k.Lock()
	defer k.Unlock()
	return k.again && k.apart == 0 && (k.rare || kept != nil || c.Rewrite != nil)
}

// Foresee begins the transaction of a batch whose turn has not come, and reads
// its rows or, without kept values, the keys of those few that change.
func (db *DB) Foresee(ctx context.Context, s *engine.Session, c *change.Change, kept *change.Kept, r change.Range, base int64) (*engine.Tx, error) {
	if !db.Foresees(c, kept) || !r.Walked() {
		return nil, nil
	}
	if err := isolate(ctx, s, true); err != nil {
		return nil, err
	}
	tx, err := s.Start(ctx)
	if err != nil || c.Rewrite != nil {
		return tx, err
	}
	fit, err := db.look(ctx, tx, c, kept, r)
	if err == nil && fit && kept != nil && seen(tx).rows.last == nil {
		tx.Foreseen = int64(seen(tx).rows.keys.len())
		err = seen(tx).keep(ctx, tx, seen(tx).rows.packs, base)
	}
	if err != nil || !fit {
		tx.Rollback()
		return nil, err
	}
	return tx, nil
}

// ForeseeRows makes the statements of WriteRows.
func (db *DB) ForeseeRows(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, after change.KeyValue, rows []engine.Rewritten, base int64) error {
	x, ok := compose(c, kept, after, rows, db.statement)
	if !ok {
		return nil
	}
	v := seen(tx)
	v.written = x
	if x.packs == nil {
		return nil
	}
	return v.keep(ctx, tx, x.packs, base)
}

// keep writes packs before the batch's turn, if it is known how to number them.
// Nobody waits for rows of our own table.
func (v *view) keep(ctx context.Context, tx *engine.Tx, packs *packer, base int64) (err error) {
	if base >= 0 {
		v.kept, err = packs.flush(ctx, tx, base)
	}
	return err
}

// flush writes packs, unless that was done before the turn.
func (v *view) flush(ctx context.Context, tx *engine.Tx, packs *packer, base int64) (int64, error) {
	if last := v.kept; last >= 0 {
		v.kept = -1
		return last, nil
	}
	return packs.flush(ctx, tx, base)
}

// look is the part of a batch that only reads, before its turn. It reports false
// if the batch has to go another way.
func (db *DB) look(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range) (ok bool, err error) {
	v := seen(tx)
	before, err := db.read(ctx, tx)
	if err != nil {
		return false, err
	}
	if kept == nil {
		v.keys, err = readKeys(ctx, tx, keysOf(c, r), len(c.Table.Key.Columns))
		ok = true
	} else {
		var x foreseen
		x, ok, err = db.foresee(ctx, tx, c, kept, r)
		v.rows = &x
	}
	if err != nil || !ok {
		return false, err
	}
	now, err := db.read(ctx, tx)
	v.r, v.scanned = r, now-before
	return true, err
}
