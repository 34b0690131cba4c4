package mariadb

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// keptRowLimit is how many bytes of a row MariaDB wants to be able to hold
// outside its long types: 65,535, less some for the rest.
const keptRowLimit = 60_000

// wide reports whether a kept-values table would have too long a row, so that
// long columns are kept in types without a length.
func wide(kept *change.Kept) bool {
	total := 0
	for _, c := range columns(kept) {
		total += c.Of.Length * 4
	}
	return total > keptRowLimit
}

// KeptTable gives the statements for a kept-values table: columns of the very
// types, character sets and collations that they keep, without their rules.
func (db *DB) KeptTable(kept *change.Kept) []string {
	long := wide(kept)
	var types []string
	for i, c := range columns(kept) {
		typ := c.Of.Type
		if long && i >= len(kept.Keys) && c.Of.Length > 255 {
			typ = "longtext"
			if c.Of.Binary {
				typ = "longblob"
			}
		}
		if c.Of.Collation != "" {
			typ = typed(&change.Column{Type: typ, Collation: c.Of.Collation})
		}
		types = append(types, typ)
	}
	if kept.Packed != "" {
		return packedTable(kept, types)
	}
	cols := []string{"seq bigint NOT NULL PRIMARY KEY"}
	for i, c := range columns(kept) {
		cols = append(cols, d.Quote(c.Name)+" "+types[i]+" NULL DEFAULT NULL")
	}
	return []string{"CREATE TABLE " + kept.Table + " (" + strings.Join(cols, ", ") + ") ENGINE = InnoDB ROW_FORMAT = DYNAMIC"}
}

// pure are functions of MariaDB that give the same result for the same
// arguments within a transaction, whatever the time or the rows around.
var pure = map[string]bool{"abs": true, "ascii": true, "ceil": true, "ceiling": true, "char_length": true, "coalesce": true, "concat": true, "concat_ws": true,
	"elt": true, "field": true, "find_in_set": true, "floor": true, "greatest": true, "hex": true, "if": true, "ifnull": true, "in": true, "instr": true, "lcase": true,
	"least": true, "left": true, "length": true, "locate": true, "lower": true, "lpad": true, "ltrim": true, "mid": true, "mod": true, "nullif": true, "octet_length": true,
	"position": true, "power": true, "quote": true, "regexp_replace": true, "regexp_substr": true, "repeat": true, "replace": true, "reverse": true, "right": true,
	"round": true, "rpad": true, "rtrim": true, "sign": true, "space": true, "substr": true, "substring": true, "substring_index": true, "trim": true, "truncate": true,
	"ucase": true, "unhex": true, "upper": true, "cast": true, "convert": true, "and": true, "or": true, "not": true, "xor": true, "between": true, "case": true, "when": true,
	"then": true, "else": true, "is": true, "as": true, "escape": true, "like": true, "div": true, "date_add": true, "date_sub": true, "datediff": true, "date_format": true,
	"year": true, "month": true, "day": true, "date": true, "json_extract": true, "json_set": true, "json_replace": true, "json_value": true, "json_unquote": true,
	"decimal": true, "char": true, "binary": true, "interval": true}

// Batch changes the rows and keeps their values. Where snapshot can, it does so;
// otherwise rows are staged, in a temporary table if they are to be packed.
func (db *DB) Batch(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (engine.Effect, error) {
	e, err := db.carryOut(ctx, tx, c, kept, r, base)
	var me *mysql.MySQLError
	if errors.As(err, &me) {
		me.Message = inJobsNames(me.Message, c, kept, db.LedgerTable("k"))
	}
	return e, err
}

// inJobsNames gives a message of the server about one of our own columns, in which
// new values are kept or staged, the names of the job.
func inJobsNames(msg string, c *change.Change, kept *change.Kept, staged string) string {
	if kept == nil {
		return msg
	}
	pairs := []string{kept.Table, d.Quote(c.Table.Name), staged, d.Quote(c.Table.Name)}
	for _, n := range kept.New {
		pairs = append(pairs, "'"+n.Name+"'", "'"+n.Of.Name+"'", d.Quote(n.Name), d.Quote(n.Of.Name))
	}
	return strings.NewReplacer(pairs...).Replace(msg)
}

// carryOut takes the first of these ways that fits:
//
//	where                                        way
//	rows are copied                              copy (into.go)
//	a stretch of a roster                        enrolled (bare.go): some keys at a time, each part by one of the ways below
//	nothing is kept                              bare (bare.go): the statement; where few rows change, their keys are read first;
//	                                             where rows move, only in a transaction that keeps a snapshot
//	the new values can be worked out twice       snapshot (snapshot.go): rows are read without locks and kept in packs;
//	with the same result, in a transaction       those that change are changed by range or by key, and the server fails
//	that keeps a snapshot                        the batch if another session has changed one since
//	kept values are not packed                   staged: rows are locked into the kept-values table, then changed
//	otherwise                                    staged into a temporary table, from which they are packed
//
// New values that we compute ourselves are written by rows.go, or loaded (load.go)
// into a table that the change then joins, by the last two ways. foresee.go does
// the reading of the third way before the batch's turn.
func (db *DB) carryOut(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (engine.Effect, error) {
	if c.Verb == sqltext.Insert {
		return db.copy(ctx, tx, c, kept, r, base)
	}
	if r.Roster != nil {
		return db.enrolled(ctx, tx, c, kept, r, base)
	}
	if kept == nil && c.Into == nil {
		return db.bare(ctx, tx, c, r, base)
	}
	if kept == nil {
		return db.moveBare(ctx, tx, c, r, base)
	}
	if done, e, err := db.snapshot(ctx, tx, c, kept, r, base); done || err != nil {
		return e, err
	}
	if kept.Packed == "" {
		return db.staged(ctx, tx, c, kept, r, base)
	}
	return db.passed(ctx, tx, c, kept, kept, r, base, func(staged *change.Kept, e *engine.Effect) error {
		if err := db.relax(ctx, tx, kept); err != nil {
			return err
		}
		var err error
		if e.Kept, err = packStaged(ctx, tx, staged, kept, base); err != nil {
			return err
		}
		if e.Kept != base+e.Changed {
			return fmt.Errorf("%s: %d rows were changed but %d are kept", c.Table, e.Changed, e.Kept-base)
		}
		return db.tighten(ctx, tx)
	})
}

// passed carries a batch out by way of a temporary table, laid out like kept, which is
// the same for all batches of one owner; pack keeps what is there in the end, nil if
// nothing is to be kept.
func (db *DB) passed(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, owner any, r change.Range, base int64, pack func(staged *change.Kept, e *engine.Effect) error) (engine.Effect, error) {
	temp, err := db.staging(ctx, tx, kept, owner)
	if err != nil {
		return engine.Effect{}, err
	}
	e, err := db.staged(ctx, tx, c, temp, r, 0)
	e.Kept = base
	if err != nil || e.Changed == 0 || pack == nil {
		return e, err
	}
	err = pack(temp, &e)
	return e, err
}

// staging is an empty temporary table, laid out like kept.
func (db *DB) staging(ctx context.Context, tx *engine.Tx, kept *change.Kept, owner any) (*change.Kept, error) {
	st := tx.S.State.(*session)
	temp := *kept
	temp.Table, temp.Packed = db.LedgerTable("k"), ""
	if st.staging != owner {
		for _, text := range db.KeptTable(&temp) {
			if _, err := tx.Exec(ctx, strings.Replace(text, "CREATE TABLE", "CREATE OR REPLACE TEMPORARY TABLE", 1)); err != nil {
				return nil, fmt.Errorf("making a temporary table for the batch: %w", err)
			}
		}
		st.staging = owner
	}
	_, err := tx.Exec(ctx, "DELETE FROM "+temp.Table)
	return &temp, err
}

// counting begins to count the rows that are scanned; what it gives ends that.
func (db *DB) counting(ctx context.Context, tx *engine.Tx, c *change.Change, r change.Range, e *engine.Effect) (func() error, error) {
	read, err := db.read(ctx, tx)
	return func() error {
		if !c.From.Empty() && r.Hi != nil { // the counters hold the sources' rows as well
			q := &change.Query{D: d}
			q.Add("SELECT count(*) FROM ", c.Table.SQL(d), " AS jugatum_t WHERE 1 = 1").Range("jugatum_t", c.Table.Key, r)
			return tx.Scan(ctx, q.String(), q.Args, &e.Scanned)
		}
		now, err := db.read(ctx, tx)
		e.Scanned = now - read
		return err
	}, err
}

// staged puts the rows into the kept-values table, locking them, drops those
// that would not change, and writes the rest: by the statement itself where
// that gives the same values again, else from what was staged.
func (db *DB) staged(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (engine.Effect, error) {
	st := tx.S.State.(*session)
	e := engine.Effect{Scanned: -1, Matched: -1, Kept: base, Log: engine.NoLog}
	scanned, err := db.counting(ctx, tx, c, r, &e)
	if err != nil {
		return e, err
	}
	if err := db.relax(ctx, tx, kept); err != nil {
		return e, err
	}
	if _, err := tx.Exec(ctx, "SET @jugatum_seq = ?", base); err != nil {
		return e, err
	}
	if sharing(c) {
		if _, err := exec(ctx, tx, lockTarget(c, kept, r)); err != nil {
			return e, err
		}
	}
	if e.Matched, err = exec(ctx, tx, stage(c, kept, r)); err != nil {
		return e, err
	}
	e.Kept = base + e.Matched
	rows := engine.Staged{From: base, To: e.Kept}
	if err := scanned(); err != nil {
		return e, err
	}
	if e.Matched == 0 {
		return e, db.tighten(ctx, tx)
	}
	staged := e.Matched
	if !c.From.Empty() && !c.Listed { // of which a row refers to one other
		dropped, err := engine.DropDoubles(ctx, tx, c, kept, rows)
		if err != nil {
			return e, err
		}
		staged -= dropped
		e.Matched = staged
	}
	if c.Verb == sqltext.Update && !c.Triggered() {
		// Counting takes no locks, and mostly there are none to drop.
		var same int64
		q := engine.CountUnchanged(c, kept, rows)
		if err := tx.Scan(ctx, q.String(), q.Args, &same); err != nil {
			return e, err
		}
		if same > 0 {
			if same, err = exec(ctx, tx, engine.Unchanged(c, kept, rows)); err != nil {
				return e, err
			}
		}
		staged -= same
	}
	if staged == 0 {
		return e, db.tighten(ctx, tx)
	}
	if err := db.tighten(ctx, tx); err != nil {
		return e, err
	}
	if e.Changed, err = db.write(ctx, tx, c, kept, r, rows, staged, staged == e.Matched && c.Repeatable(pure)); err != nil {
		return e, err
	}
	st.changed = e.Changed
	if c.Verb == sqltext.Update && (c.Triggered() || wide(kept) || e.Changed != staged) {
		// What a trigger or the column's own type made of the values is what is kept.
		if err := db.relax(ctx, tx, kept); err != nil {
			return e, err
		}
		if _, err := exec(ctx, tx, refresh(c, kept, rows)); err != nil {
			return e, err
		}
		// A row that has another key by now has kept its values as they were staged: it
		// must not be taken for one that did not change.
		moved, err := engine.Moved(ctx, tx, c, kept, r, rows.From, rows.To)
		if err != nil {
			return e, err
		}
		if !moved {
			if _, err := exec(ctx, tx, engine.Unchanged(c, kept, rows)); err != nil {
				return e, err
			}
		}
		if err := tx.Scan(ctx, "SELECT count(*) FROM "+kept.Table+" WHERE seq > ? AND seq <= ?", []any{rows.From, rows.To}, &staged); err != nil {
			return e, err
		}
		if err := db.tighten(ctx, tx); err != nil {
			return e, err
		}
		if c.Triggered() { // the server counts rows in which a trigger has changed something else as well
			e.Changed = staged
		}
	}
	if e.Changed != staged {
		return e, fmt.Errorf("%s: %d rows were changed but %d are kept: a trigger interferes with the batch", c.Table, e.Changed, staged)
	}
	if c.Into != nil {
		return e, db.put(ctx, tx, c, kept, rows.From, rows.To, e.Changed)
	}
	return e, nil
}

// exec changes rows of the job's. In a transaction that keeps a snapshot it fails
// (error 1020) if another has changed one of them since. Our own tables are not
// under that rule: what another session of ours has written there must be seen.
func exec(ctx context.Context, tx *engine.Tx, q *change.Query) (int64, error) {
	if seen(tx).frozen {
		return tx.Exec(ctx, "SET STATEMENT innodb_snapshot_isolation = ON FOR "+q.String(), q.Args...)
	}
	return tx.Exec(ctx, q.String(), q.Args...)
}

// read counts the rows that this session has read so far.
func (db *DB) read(ctx context.Context, tx *engine.Tx) (int64, error) {
	rows, err := tx.Query(ctx, "SHOW SESSION STATUS LIKE 'Handler_read%next'") // next in an index, or rnd_next in the table
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	total := int64(0)
	for rows.Next() {
		var name string
		var n int64
		if err := rows.Scan(&name, &n); err != nil {
			return 0, err
		}
		total += n
	}
	return total, rows.Err()
}

// relax lets dates be copied that sql_mode would refuse as new ones; tighten
// ends that.
func (db *DB) relax(ctx context.Context, tx *engine.Tx, kept *change.Kept) error {
	st := tx.S.State.(*session)
	if st.relaxed {
		return nil
	}
	for _, list := range [][]change.KeptColumn{kept.Keys, kept.Old} {
		for _, k := range list {
			if strings.HasPrefix(k.Of.Type, "date") || strings.HasPrefix(k.Of.Type, "timestamp") {
				st.relaxed = true
			}
		}
	}
	if !st.relaxed {
		return nil
	}
	_, err := tx.Exec(ctx, "SET SESSION sql_mode = '"+db.stage+"'")
	return err
}

func (db *DB) tighten(ctx context.Context, tx *engine.Tx) error {
	st := tx.S.State.(*session)
	if !st.relaxed {
		return nil
	}
	st.relaxed = false
	_, err := tx.Exec(ctx, "SET SESSION sql_mode = '"+db.strict+"'")
	return err
}

// Measure carries out a statement over kept values; the log is told at the commit.
func (db *DB) Measure(ctx context.Context, tx *engine.Tx, q *change.Query) (engine.Effect, error) {
	st := tx.S.State.(*session)
	if !st.relaxed { // old values go back as they were
		st.relaxed = true
		if _, err := tx.Exec(ctx, "SET SESSION sql_mode = '"+db.stage+"'"); err != nil {
			return engine.Effect{}, err
		}
	}
	n, err := exec(ctx, tx, q)
	st.changed = n
	return engine.Effect{Scanned: -1, Matched: -1, Changed: n, Log: engine.NoLog}, err
}

// List locks the rows as the statement itself would.
func (db *DB) List(ctx context.Context, tx *engine.Tx, c *change.Change, list *change.Kept, r change.Range, base int64) (engine.Effect, error) {
	e := engine.Effect{Scanned: -1, Matched: -1, Log: engine.NoLog}
	scanned := func() error { return nil }
	if r.Walked() {
		var err error
		if scanned, err = db.counting(ctx, tx, c, r, &e); err != nil {
			return e, err
		}
	}
	if err := db.relax(ctx, tx, list); err != nil { // dates go as they are
		return e, err
	}
	if _, err := tx.Exec(ctx, "SET @jugatum_seq = ?", base); err != nil {
		return e, err
	}
	var err error
	if e.Changed, err = exec(ctx, tx, numbered(c, list).Source(c, r).Add(" FOR UPDATE")); err != nil {
		return e, err
	}
	if err := scanned(); err != nil {
		return e, err
	}
	return e, db.tighten(ctx, tx)
}

// numbered is INSERT INTO kept SELECT number, key, old.
func numbered(c *change.Change, kept *change.Kept) *change.Query {
	q := &change.Query{D: d}
	q.Add("INSERT INTO ", kept.Table, " (seq")
	for _, k := range columns(kept) {
		q.Add(", ", d.Quote(k.Name))
	}
	q.Add(") SELECT (@jugatum_seq := @jugatum_seq + 1)")
	for _, k := range slices.Concat(kept.Keys, kept.Old) {
		q.Add(", ", c.Ref, ".", d.Quote(k.Of.Name))
	}
	return q
}

// stage is INSERT INTO kept SELECT number, key, old, new. The rows are locked as
// the statement itself would: the target's, and if there are other sources all
// of them, against change only.
func stage(c *change.Change, kept *change.Kept, r change.Range) *change.Query {
	q := numbered(c, kept)
	if c.Verb == sqltext.Update {
		for _, s := range c.Set {
			q.Add(", ").NewValue(c, s)
		}
	}
	q.Source(c, r)
	if sharing(c) {
		return q.Add(" LOCK IN SHARE MODE")
	}
	return q.Add(" FOR UPDATE")
}

// sharing reports whether rows are staged with locks that others may have too: where there are other
// sources that are not this session's alone, whose rows somebody may read meanwhile, and which another
// worker of ours stages as well.
func sharing(c *change.Change) bool { return !c.From.Empty() && !c.Listed && !c.Loaded }

// lockTarget locks the rows of the target alone, as those who change them do. Without it they would be
// locked once to be staged, and once more to be changed: whoever came to wait for one between the two
// would be in a deadlock with us, and the server would end their transaction rather than ours, which
// has done more. The rows are found by a query of their own, of which the server locks none.
func lockTarget(c *change.Change, kept *change.Kept, r change.Range) *change.Query {
	q := &change.Query{D: d}
	q.Add("SELECT count(*) FROM (SELECT DISTINCT ").AsKept(c, kept.Keys).Source(c, r)
	q.Add(") AS jugatum_d STRAIGHT_JOIN ", c.Table.SQL(d), " AS jugatum_t ON ").KeyJoin("jugatum_t", "jugatum_d", kept)
	return q.Add(" FOR UPDATE")
}

// write changes the staged rows: by the statement itself if plain is true, unless it
// meets others. Rows that were staged are locked; another session may have put new ones
// between them since.
func (db *DB) write(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range, rows engine.Staged, staged int64, plain bool) (int64, error) {
	if !plain {
		return exec(ctx, tx, byStaged(c, kept, rows))
	}
	if _, err := tx.Exec(ctx, "SAVEPOINT jugatum_staged"); err != nil {
		return 0, err
	}
	n, err := exec(ctx, tx, (&change.Query{D: d}).Statement(c, r))
	if err != nil || n == staged {
		return n, err
	}
	if _, err := tx.Exec(ctx, "ROLLBACK TO SAVEPOINT jugatum_staged"); err != nil {
		return n, err
	}
	return exec(ctx, tx, byStaged(c, kept, rows))
}

// byStaged changes the target from what was staged.
func byStaged(c *change.Change, kept *change.Kept, rows engine.Staged) *change.Query {
	q := &change.Query{D: d}
	switch {
	case c.Verb == sqltext.Delete:
		q.Add("DELETE jugatum_t FROM ", kept.Table, " AS k STRAIGHT_JOIN ", c.Table.SQL(d), " AS jugatum_t ON ").KeyJoin("jugatum_t", "k", kept)
	default:
		q.FromKept(c, kept, kept, kept.New)
	}
	return rows.Of(q.Add(" WHERE "), "k")
}

// refresh reads the new values back from the table.
func refresh(c *change.Change, kept *change.Kept, rows engine.Staged) *change.Query {
	q := &change.Query{D: d}
	q.Add("UPDATE ", kept.Table, " AS k STRAIGHT_JOIN ", c.Table.SQL(d), " AS jugatum_t ON ").KeyJoin("jugatum_t", "k", kept.AfterRun(c)).Add(" SET ")
	for i, n := range kept.New {
		if i > 0 {
			q.Add(", ")
		}
		q.Add("k.", d.Quote(n.Name), " = jugatum_t.", d.Quote(n.Of.Name))
	}
	return rows.Of(q.Add(" WHERE "), "k")
}
