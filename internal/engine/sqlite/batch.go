package sqlite

import (
	"context"
	"fmt"
	"math"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// KeptTable gives the statement for a kept-values table. Its columns have the
// affinities of those they keep, so that a value is stored there just as it
// will be in the table itself.
func (db *DB) KeptTable(kept *change.Kept) []string {
	strict := false
	cols := []string{"seq INTEGER PRIMARY KEY"}
	for _, list := range [][]change.KeptColumn{kept.Keys, kept.Old, kept.New} {
		for _, c := range list {
			typ := affinity(c.Of.Type)
			if strings.EqualFold(c.Of.Type, "ANY") && c.Of.Class == change.Other { // only in STRICT tables
				strict, typ = true, "ANY"
			}
			cols = append(cols, d.Quote(c.Name)+" "+typ)
		}
	}
	text := "CREATE TABLE " + kept.Table + " (" + strings.Join(cols, ", ") + ")"
	if strict {
		text += " STRICT"
	}
	return []string{text}
}

// Batch stages the rows in the kept-values table, drops those that would not
// change, and writes the rest from there.
func (db *DB) Batch(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (engine.Effect, error) {
	e := engine.Effect{Scanned: -1, Matched: -1, Kept: base, Log: engine.NoLog}
	if c.Verb == sqltext.Insert {
		return db.copy(ctx, tx, c, kept, r, base)
	}
	if kept == nil && c.Into != nil {
		e, err := db.moveBare(ctx, tx, c, r)
		e.Kept = base
		return e, err
	}
	if kept == nil {
		n, err := exec(ctx, tx, (&change.Query{D: d}).Statement(c, r))
		e.Changed, e.Matched = n, n
		return e, err
	}
	numbered, err := numberFrom(ctx, tx, kept, base)
	if err != nil {
		return e, err
	}
	if e.Matched, err = exec(ctx, tx, stage(c, kept, r)); err != nil {
		return e, err
	}
	if err := numbered(); err != nil {
		return e, err
	}
	if err := leastKey(ctx, tx, c, kept, base); err != nil {
		return e, err
	}
	staged := e.Matched
	rows := engine.Staged{From: base, To: math.MaxInt64} // one lane: nothing lies beyond
	since := " WHERE seq > ?"
	if !c.From.Empty() && !c.Loaded { // what we have loaded is one for each row, and new
		dropped, err := engine.DropDoubles(ctx, tx, c, kept, rows)
		if err != nil {
			return e, err
		}
		staged -= dropped
		e.Matched = staged
	}
	if c.Verb == sqltext.Update && !c.Loaded && !c.Triggered() {
		same, err := exec(ctx, tx, engine.Unchanged(c, kept, rows))
		if err != nil {
			return e, err
		}
		staged -= same
	}
	if staged > 0 {
		q := write(c, kept, base)
		if staged == e.Matched && c.From.Empty() && c.Repeatable(pure) && dense(r, staged) {
			// Every row that matches changes, and working the values out again gives
			// the same ones: the statement itself writes them without looking each
			// row up. With few rows in a range the look-up is the cheaper way.
			q = (&change.Query{D: d}).Statement(c, r)
		}
		if e.Changed, err = exec(ctx, tx, q); err != nil {
			return e, err
		}
	}
	if e.Changed != staged {
		// A trigger kept some rows from being changed; what was not changed is not kept.
		q := &change.Query{D: d}
		q.Add("DELETE FROM ", kept.Table, " AS k WHERE k.seq > ").Arg(base, "").Add(" AND ")
		if c.Verb == sqltext.Update {
			q.Add("NOT ")
		}
		q.Add("EXISTS (SELECT 1 FROM ", c.Table.SQL(d), " AS jugatum_t WHERE ").KeyJoin("jugatum_t", "k", kept.AfterRun(c))
		for _, n := range kept.New {
			q.Add(" AND ").Unchanged(n.Of, "jugatum_t."+d.Quote(n.Of.Name), "k."+d.Quote(n.Name))
		}
		q.Add(")")
		if _, err := exec(ctx, tx, q); err != nil {
			return e, err
		}
		var left int64
		if err := tx.Scan(ctx, "SELECT count(*) FROM "+kept.Table+since, []any{base}, &left); err != nil {
			return e, err
		}
		if left != e.Changed {
			return e, fmt.Errorf("%s: %d rows were changed but %d are kept: a trigger interferes with the batch", c.Table, e.Changed, left)
		}
	}
	if err = tx.Scan(ctx, "SELECT max(coalesce(max(seq), 0), ?) FROM "+kept.Table, []any{base}, &e.Kept); err != nil || c.Into == nil {
		return e, err
	}
	came, err := exec(ctx, tx, change.Put(c, kept, base, e.Kept))
	if err != nil {
		return e, err
	}
	return e, engine.Came(c, e.Changed, came)
}

// List needs no locks: nobody else can write.
func (db *DB) List(ctx context.Context, tx *engine.Tx, c *change.Change, list *change.Kept, r change.Range, base int64) (engine.Effect, error) {
	n, err := exec(ctx, tx, change.Enlist(c, list, r, base, false))
	return engine.Effect{Scanned: -1, Matched: -1, Changed: n, Log: engine.NoLog}, err
}

// numberFrom has the next row of a kept-values table numbered base+1, where other tables
// have the numbers before that: SQLite numbers from the last row of the table itself. What
// it gives ends that.
func numberFrom(ctx context.Context, tx *engine.Tx, kept *change.Kept, base int64) (func() error, error) {
	if kept.Numbers == "" || base == 0 {
		return func() error { return nil }, nil
	}
	n, err := tx.Exec(ctx, "INSERT OR IGNORE INTO "+kept.Table+" (seq) VALUES (?)", base)
	return func() error {
		if n == 0 { // the row is one that was kept
			return nil
		}
		_, err := tx.Exec(ctx, "DELETE FROM "+kept.Table+" WHERE seq = ?", base)
		return err
	}, err
}

// copy puts rows into the other table as well, and keeps them.
func (db *DB) copy(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (e engine.Effect, err error) {
	e = engine.Effect{Scanned: -1, Matched: -1, Kept: base, Log: engine.NoLog}
	if kept == nil {
		e.Changed, err = exec(ctx, tx, change.Take(c, r))
		e.Matched = e.Changed
		return e, err
	}
	if e.Matched, err = exec(ctx, tx, stage(c, kept, r)); err != nil || e.Matched == 0 {
		return e, err
	}
	e.Kept = base + e.Matched
	if e.Changed, err = exec(ctx, tx, change.Put(c, kept, base, e.Kept)); err == nil {
		err = engine.Came(c, e.Matched, e.Changed)
	}
	return e, err
}

// moveBare moves rows without keeping them: by the two statements where both find the
// same rows, else by way of a temporary table.
func (db *DB) moveBare(ctx context.Context, tx *engine.Tx, c *change.Change, r change.Range) (engine.Effect, error) {
	e := engine.Effect{Scanned: -1, Matched: -1, Log: engine.NoLog}
	if c.Repeatable(pure) {
		if _, err := tx.Exec(ctx, "SAVEPOINT jugatum_move"); err != nil {
			return e, err
		}
		came, err := exec(ctx, tx, change.Take(c, r))
		if err != nil {
			return e, err
		}
		if e.Changed, err = exec(ctx, tx, (&change.Query{D: d}).Statement(c, r)); err != nil {
			return e, err
		}
		if e.Matched = came; came == e.Changed {
			_, err = tx.Exec(ctx, "RELEASE SAVEPOINT jugatum_move")
			return e, err
		}
		if _, err := tx.Exec(ctx, "ROLLBACK TO SAVEPOINT jugatum_move"); err != nil {
			return e, err
		}
	}
	temp, err := emptied(ctx, db, tx, c)
	if err != nil {
		return e, err
	}
	return db.Batch(ctx, tx, c, temp, r, 0)
}

// emptied is a table of the session for the rows that a batch takes out, to be put into
// another one from there.
func emptied(ctx context.Context, db *DB, tx *engine.Tx, c *change.Change) (*change.Kept, error) {
	kept := change.NewKept(fmt.Sprintf("temp.jugatum_m_%d_%d", len(c.Table.Key.Columns), len(c.Table.Stored())), c)
	for _, text := range append([]string{"DROP TABLE IF EXISTS " + kept.Table}, db.KeptTable(kept)...) {
		if _, err := tx.Exec(ctx, text); err != nil {
			return nil, fmt.Errorf("making a temporary table for the batch: %w", err)
		}
	}
	return kept, nil
}

// leastKey keeps a new key below the range of integers as SQLite stores it: the real
// number at its very end becomes the least integer in a row's number, and stays a
// real number anywhere else.
func leastKey(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, base int64) error {
	if c.Verb != sqltext.Update || !c.ChangesKey() || !c.Table.Key.Integer {
		return nil
	}
	for _, n := range kept.New {
		if n.Of != c.Table.Key.Columns[0] {
			continue
		}
		name := d.Quote(n.Name)
		if _, err := tx.Exec(ctx, "UPDATE "+kept.Table+" SET "+name+" = CAST("+name+" AS INTEGER) WHERE seq > ? AND typeof("+name+") = 'real' AND "+name+" = -9223372036854775808", base); err != nil {
			return err
		}
	}
	return nil
}

// pure are functions of SQLite that give the same result for the same
// arguments within a transaction, whatever the time or the rows around.
var pure = map[string]bool{"abs": true, "char": true, "coalesce": true, "concat": true, "concat_ws": true, "format": true, "glob": true, "hex": true,
	"ifnull": true, "iif": true, "in": true, "instr": true, "length": true, "like": true, "lower": true, "ltrim": true, "max": true, "min": true, "nullif": true,
	"octet_length": true, "printf": true, "quote": true, "replace": true, "round": true, "rtrim": true, "sign": true, "substr": true, "substring": true,
	"trim": true, "typeof": true, "unicode": true, "upper": true, "cast": true, "and": true, "or": true, "not": true, "between": true, "case": true,
	"when": true, "then": true, "else": true, "is": true, "as": true, "escape": true, "json_extract": true, "json_set": true, "json_replace": true}

// dense reports whether n rows are most of a range. Keys that are no numbers do
// not tell; looking rows up by these is dear, so they count as dense.
func dense(r change.Range, n int64) bool {
	lo, ok1 := r.Lo.Int()
	hi, ok2 := r.Hi.Int()
	return !ok1 || !ok2 || n > (hi-lo)/2
}

// Measure carries out a statement; the log is counted at the commit.
func (db *DB) Measure(ctx context.Context, tx *engine.Tx, q *change.Query) (engine.Effect, error) {
	n, err := exec(ctx, tx, q)
	return engine.Effect{Scanned: -1, Matched: -1, Changed: n, Log: engine.NoLog}, err
}

func exec(ctx context.Context, tx *engine.Tx, q *change.Query) (int64, error) {
	return tx.Exec(ctx, q.String(), q.Args...)
}

// stage is INSERT INTO kept SELECT key, old, new.
func stage(c *change.Change, kept *change.Kept, r change.Range) *change.Query {
	q := &change.Query{D: d}
	q.With(c, false).Add("INSERT INTO ", kept.Table, " (")
	first := true
	for _, list := range [][]change.KeptColumn{kept.Keys, kept.Old, kept.New} {
		for _, k := range list {
			if !first {
				q.Add(", ")
			}
			first = false
			q.Add(d.Quote(k.Name))
		}
	}
	q.Add(") SELECT ")
	for i, k := range append(append([]change.KeptColumn(nil), kept.Keys...), kept.Old...) {
		if i > 0 {
			q.Add(", ")
		}
		q.Add(c.Ref, ".", d.Quote(k.Of.Name))
	}
	if c.Verb == sqltext.Update {
		for _, s := range c.Set {
			q.Add(", ").NewValue(c, s)
		}
	}
	return q.Source(c, r)
}

// write changes the target from what was staged after base. The staged rows
// are few and numbered, the target is found by its key.
func write(c *change.Change, kept *change.Kept, base int64) *change.Query {
	q := &change.Query{D: d}
	if c.Verb == sqltext.Delete {
		var keys, names []string
		for _, k := range kept.Keys {
			keys = append(keys, d.Quote(k.Of.Name))
			names = append(names, d.Quote(k.Name))
		}
		left := strings.Join(keys, ", ")
		if len(keys) > 1 {
			left = "(" + left + ")"
		}
		return q.Add("DELETE FROM ", c.Table.SQL(d), " WHERE ", left, " IN (SELECT ", strings.Join(names, ", "), " FROM ", kept.Table, " WHERE seq > ").Arg(base, "").Add(")")
	}
	q.Add("UPDATE ", c.Table.Or(), c.Table.SQL(d), " AS jugatum_t SET ")
	for i, n := range kept.New {
		if i > 0 {
			q.Add(", ")
		}
		q.Add(d.Quote(n.Of.Name), " = k.", d.Quote(n.Name))
	}
	return q.Add(" FROM ", kept.Table, " AS k WHERE k.seq > ").Arg(base, "").Add(" AND ").KeyJoin("jugatum_t", "k", kept)
}
