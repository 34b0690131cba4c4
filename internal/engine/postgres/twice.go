package postgres

import (
	"context"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

const (
	readCommitted  = "BEGIN ISOLATION LEVEL READ COMMITTED READ WRITE"
	repeatableRead = "BEGIN ISOLATION LEVEL REPEATABLE READ READ WRITE"

	// apartFor is how many batches go another way after one has failed because
	// another session changed its rows: there are probably more to come.
	apartFor = 20
)

// twice works the new values out two times, in one statement that keeps them
// and in a second that writes them: the plain UPDATE itself, with nothing to
// join. Both see the rows in the same state, since the transaction keeps one
// snapshot; if another session changes one of them in between, the server
// fails the second statement (serialisation failure), and the batch is done
// again in the way that locks rows. It reports whether the batch is done.
func (db *DB) twice(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range) (bool, effect, error) {
	st := tx.S.State.(*session)
	var e effect
	again, known := st.twice[c]
	if !known {
		var err error
		if again, err = db.repeatable(ctx, tx, c); err != nil {
			return false, e, err
		}
		if st.twice == nil {
			st.twice = map[*change.Change]bool{}
		}
		st.twice[c] = again
	}
	snapshot := tx.S.Begin == repeatableRead
	st.apart = max(st.apart-1, 0)
	tx.S.Begin = readCommitted // of the transactions that follow
	if again && r.Hi != nil && st.apart == 0 {
		tx.S.Begin = repeatableRead
	}
	if !snapshot || !again || r.Hi == nil {
		return false, e, nil
	}
	if _, err := tx.Exec(ctx, "SAVEPOINT jugatum_batch"); err != nil {
		return false, e, err
	}
	var err error
	if kept != nil {
		e, err = db.explain(ctx, tx, stage(c, kept, r), c)
		if c.Verb == sqltext.Delete { // every row that is kept
			e.intended, e.Matched = e.came, e.came
		}
	}
	taken := effect{Effect: engine.Effect{Log: engine.NoLog}}
	if err == nil && c.Into != nil {
		taken, err = db.explain(ctx, tx, change.Take(c, r), nil)
		if kept == nil {
			e.intended = taken.came
		} else if taken.came != e.intended {
			e.intended = -1
		}
	}
	if err == nil && (kept == nil || e.intended > 0) {
		q := &change.Query{D: d}
		q.Statement(c, r)
		if e.intended < e.Matched {
			q.Changing(c)
		}
		var w effect
		w, err = db.explain(ctx, tx, q, c)
		switch {
		case kept != nil:
			e.Changed = w.Changed
			e.Log.Add(w.Log)
		case c.Into != nil:
			w.Matched, w.intended = w.Changed, e.intended
			e = w
		default:
			w.Matched, w.intended = w.Changed, w.Changed
			e = w
		}
		e.Log.Add(taken.Log)
	}
	if err != nil {
		if db.Fault(err) == engine.Busy {
			st.apart, st.locking, tx.S.Begin = apartFor, true, readCommitted
		}
		return false, e, err
	}
	if e.Changed != e.intended { // a row's policy interferes
		st.twice[c] = false
		_, err := tx.Exec(ctx, "ROLLBACK TO SAVEPOINT jugatum_batch")
		return false, e, err
	}
	return true, e, nil
}

// stage is INSERT INTO kept SELECT key, old, new of the rows that would change.
func stage(c *change.Change, kept *change.Kept, r change.Range) *change.Query {
	q := &change.Query{D: d}
	keep(q, kept)
	q.Add(" FROM (")
	source(q, c, kept, r, false)
	q.Add(" OFFSET 0) AS s")
	if c.Verb == sqltext.Delete {
		return q
	}
	q.Add(" WHERE (")
	differs(q, c)
	return q.Add(")")
}

// repeatable reports whether the change gives the same values when it is worked
// out a second time in the same snapshot: nothing goes into it but the row and
// the server's own functions and operators of which none is volatile, and no
// trigger has a say. What cannot be told counts as no.
func (db *DB) repeatable(ctx context.Context, tx *engine.Tx, c *change.Change) (bool, error) {
	if c.Listed || !alone(c) || c.Verb != sqltext.Update && c.Into == nil {
		return false, nil
	}
	for _, t := range c.Table.Triggers {
		if c.Verb == sqltext.Update && t.Update || c.Verb == sqltext.Delete && t.Delete {
			return false, nil
		}
	}
	if c.Into != nil && slices.ContainsFunc(c.Into.Table.Triggers, func(t change.Trigger) bool { return t.Insert }) {
		return false, nil // it may keep rows from coming, which the server's account does not tell
	}
	for _, s := range c.Set {
		if s.Default && s.Column.Default != "" {
			return false, nil
		}
	}
	columns := map[string]bool{}
	for _, col := range c.Table.Columns {
		columns[strings.ToLower(col.Name)] = true
	}
	functions, operators := []string{}, []string{}
	for _, f := range c.Fragments() {
		for i, t := range f.Tokens {
			name := strings.ToLower(strings.Trim(t.Text, `"`))
			ident := t.Kind == sqltext.Ident || t.Kind == sqltext.QuotedIdent
			qualified := i > 0 && f.Tokens[i-1].Punct(".")
			call := i+1 < len(f.Tokens) && f.Tokens[i+1].Punct("(")
			switch {
			case ident && qualified && (call || !columns[name]):
				return false, nil // a function of some schema, or one called like a column
			case ident && call:
				functions = append(functions, name)
			case !ident:
				operators = append(operators, t.Text)
			}
		}
	}
	var ok bool
	err := tx.Scan(ctx, `SELECT NOT EXISTS (SELECT 1 FROM pg_proc WHERE proname = ANY(CAST(? AS text[])) AND (provolatile = 'v' OR pronamespace <> CAST(CAST('pg_catalog' AS regnamespace) AS oid)))
		AND NOT EXISTS (SELECT 1 FROM pg_rules WHERE schemaname = ? AND tablename = ?)
		AND NOT EXISTS (SELECT 1 FROM pg_operator WHERE oprname = ANY(CAST(? AS text[])) AND oprnamespace <> CAST(CAST('pg_catalog' AS regnamespace) AS oid))
		AND NOT EXISTS (SELECT 1 FROM pg_cast JOIN pg_proc p ON p.oid = castfunc WHERE p.provolatile = 'v' AND p.pronamespace <> CAST(CAST('pg_catalog' AS regnamespace) AS oid))`,
		[]any{functions, c.Table.Schema, c.Table.Name, operators}, &ok)
	return ok, err
}
