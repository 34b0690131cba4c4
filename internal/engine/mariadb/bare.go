package mariadb

import (
	"context"
	"database/sql"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Batches without kept values, and batches of rows whose keys are known.

// enrolled carries out a stretch of a roster, some keys at a time: a sub-query
// for them would be asked again for every row of the table.
func (db *DB) enrolled(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (engine.Effect, error) {
	sum := engine.Effect{Scanned: -1, Kept: base, Log: engine.NoLog}
	if kept == nil {
		sum.Matched = -1
	}
	q := &change.Query{D: d}
	q.Add("SELECT ")
	for i, k := range r.Roster.Keys {
		if i > 0 {
			q.Add(", ")
		}
		q.Add(shown(k, d.Quote(k.Name)))
	}
	q.Add(" FROM ", r.Roster.Table, " WHERE seq > ").Arg(r.Lo[0], "").Add(" AND seq <= ").Arg(r.Hi[0], "").Add(" ORDER BY seq")
	keys, err := readKeys(ctx, tx, q, len(r.Roster.Keys))
	if err != nil {
		return sum, err
	}
	for from := 0; from < keys.len(); from += listed {
		part := change.Range{Hi: r.Hi}
		for i := from; i < min(from+listed, keys.len()); i++ {
			part.Keys = append(part.Keys, keys.at(i))
		}
		e, err := db.Batch(ctx, tx, c, kept, part, sum.Kept)
		if err != nil {
			return sum, err
		}
		sum.Changed += e.Changed
		sum.Kept = e.Kept
		if sum.Matched >= 0 {
			sum.Matched += e.Matched
		}
	}
	tx.S.State.(*session).changed = sum.Changed
	return sum, nil
}

// readKeys reads keys as texts.
func readKeys(ctx context.Context, tx *engine.Tx, q *change.Query, columns int) (*keyList, error) {
	rows, err := tx.Query(ctx, q.String(), q.Args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var keys keyList
	values, into := make([]sql.RawBytes, columns), make([]any, columns)
	for i := range values {
		into[i] = &values[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		keys.add(values)
	}
	return &keys, rows.Err()
}

// bare is the batch without kept values: the statement itself.
func (db *DB) bare(ctx context.Context, tx *engine.Tx, c *change.Change, r change.Range, base int64) (engine.Effect, error) {
	e := engine.Effect{Scanned: -1, Matched: -1, Kept: base, Log: engine.NoLog}
	if !c.Loaded { // of which WritesRows has decided
		few := db.knows(c).few() && r.Walked()
		frozen, err := db.ready(ctx, tx, c, few, func() bool { return c.Repeatable(pure) })
		if err != nil {
			return e, err
		}
		if few {
			err := db.sparse(ctx, tx, c, r, frozen, &e)
			return e, db.stepAside(ctx, tx, c, err)
		}
	}
	err := db.whole(ctx, tx, c, r, &e)
	return e, err
}

// whole changes the rows of a range by the statement, and takes down whether few of
// those that it goes over change.
func (db *DB) whole(ctx context.Context, tx *engine.Tx, c *change.Change, r change.Range, e *engine.Effect) error {
	scanned, err := db.counting(ctx, tx, c, r, e)
	if err != nil {
		return err
	}
	if e.Changed, err = db.carry(ctx, tx, c, r, nil); err != nil {
		return err
	}
	tx.S.State.(*session).changed = e.Changed
	if err := scanned(); err != nil || c.Loaded || !r.Walked() {
		return err
	}
	if c.Into != nil { // it was read twice
		e.Scanned /= 2
	}
	db.knows(c).seldom(e.Changed*dense < e.Scanned && c.Repeatable(pure))
	return nil
}

// OverlapsCommit is true where nothing goes into a batch but its own rows. Not in
// a cluster, where a commit may fail because of another node's.
func (db *DB) OverlapsCommit(c *change.Change) bool {
	return !db.galera && (c.Repeatable(pure) || c.Rewrite != nil && len(c.Table.Triggers) == 0)
}

// sparse changes the rows of a range of which few matched in the batch before:
// it reads their keys without locks, and locks these rows alone. The filter is
// asked again for each of them, unless the snapshot stands for that.
func (db *DB) sparse(ctx context.Context, tx *engine.Tx, c *change.Change, r change.Range, frozen bool, e *engine.Effect) error {
	v := seen(tx)
	if v.keys == nil || !v.r.Same(r) {
		if _, err := db.look(ctx, tx, c, nil, r); err != nil {
			return err
		}
	}
	keys := v.keys
	v.keys = nil
	e.Scanned = v.scanned
	db.knows(c).seldom(int64(keys.len())*dense < e.Scanned)
	these := c
	if frozen {
		these = c.Known()
	}
	var err error
	e.Changed, err = db.byKeys(ctx, tx, these, r, keys)
	tx.S.State.(*session).changed = e.Changed
	return err
}

// keysOf asks for the keys of the rows of a range that match.
func keysOf(c *change.Change, r change.Range) *change.Query {
	q := &change.Query{D: d}
	q.Add("SELECT ")
	for i, k := range c.Table.Key.Columns {
		if i > 0 {
			q.Add(", ")
		}
		q.Add(engine.KeyOut(d, c.Ref, k))
	}
	return q.Source(c, r).Add(" ORDER BY ").Columns(c.Ref, c.Table.Key.Columns)
}
