package postgres

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// session is what a session that writes remembers.
type session struct {
	locking bool // the last batch met other sessions' changes: lock the rows first
	ways    ways // the planner is kept to
	twice   map[*change.Change]bool
	apart   int // batches to go before twice is tried again
}

// alone reports whether the change reads nothing but its target, so that the
// only join in a batch is the one between reading and writing its rows.
func alone(c *change.Change) bool {
	if !c.From.Empty() || !c.With.Empty() {
		return false
	}
	for _, f := range c.Fragments() {
		for _, t := range f.Tokens {
			if t.Is("SELECT") {
				return false
			}
		}
	}
	return true
}

// ways are what the planner may use in a session, by name of the setting.
type ways struct{ hashjoin, mergejoin, indexscan string }

var (
	// anyWay leaves the planner its choice: a change with sources of its own.
	anyWay = ways{"on", "on", "on"}
	// byRow joins row by row: kept rows, or locked ones, each looked up by key.
	byRow = ways{"off", "off", "on"}
	// byPage reads a range of keys page by page (a bitmap scan), which takes half
	// the time of going to the heap for each index entry, and joins rows read
	// with rows written by their tuple identifier. The planner reckons with a
	// disk access for each of those and would rather hash the table.
	byPage = ways{"off", "off", "off"}
)

// steer tells the planner which ways to use from here on.
func (st *session) steer(ctx context.Context, tx *engine.Tx, w ways) error {
	if st.ways == w || st.ways == (ways{}) && w == anyWay {
		return nil
	}
	if _, err := tx.Exec(ctx, "SELECT set_config('enable_hashjoin', ?, false), set_config('enable_mergejoin', ?, false), set_config('enable_indexscan', ?, false)", w.hashjoin, w.mergejoin, w.indexscan); err != nil {
		return err
	}
	st.ways = w
	return nil
}

// KeptTable gives the statements for a kept-values table: columns of the very
// types and collations that they keep. It gets its index only when it is read
// back: kept up row by row that would cost a sixth of the run.
func (db *DB) KeptTable(kept *change.Kept) []string {
	cols := []string{"seq bigint NOT NULL"}
	for _, list := range [][]change.KeptColumn{kept.Keys, kept.Old, kept.New} {
		for _, c := range list {
			col := d.Quote(c.Name) + " " + c.Of.Type
			if c.Of.Collation != "" {
				col += " COLLATE " + c.Of.Collation
			}
			cols = append(cols, col)
		}
	}
	return []string{
		"CREATE TABLE " + kept.Table + " (" + strings.Join(cols, ", ") + ")",
	}
}

// PrepareKept makes the index of a kept-values table and its statistics, once.
// Nobody else reads the table, so nobody waits for that.
func (db *DB) PrepareKept(ctx context.Context, kept *change.Kept) error {
	tx, err := db.pool.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, "SET TRANSACTION READ WRITE"); err != nil {
		return err
	}
	var name string
	err = tx.QueryRowContext(ctx, "SELECT relname || '_seq' FROM pg_class c WHERE c.oid = CAST($1 AS text)::regclass AND NOT EXISTS (SELECT 1 FROM pg_index WHERE indrelid = c.oid)", kept.Table).Scan(&name)
	switch {
	case errors.Is(err, sql.ErrNoRows): // it has one, and statistics with it
		return nil
	case err != nil:
		return err
	}
	// Two readers may get here at once: the second waits for the first and finds it made.
	if _, err := tx.ExecContext(ctx, "CREATE INDEX IF NOT EXISTS "+d.Quote(name)+" ON "+kept.Table+" (seq)"); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "ANALYZE "+kept.Table); err != nil {
		return err
	}
	return tx.Commit()
}

// Batch changes the rows and keeps what the table held before and holds after.
// Where the change can be worked out twice with the same result, twice does so.
// Otherwise it is one statement, and what it keeps is what the table really
// came to hold, triggers included. There the rows are read without locking them, and written only if they are still
// the same versions (ctid and xmin): this saves a lock record for every row in
// the log. Where another session changed one in between, the counts differ; the
// batch is then rolled back to here and done again with the rows locked first,
// and so are those that follow, as long as that goes on.
func (db *DB) Batch(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (engine.Effect, error) {
	st := tx.S.State.(*session)
	reading, locked := anyWay, anyWay
	if alone(c) && r.Hi != nil {
		reading, locked = byPage, byRow
		if r.Roster != nil {
			reading = byRow
		}
	}
	if err := st.steer(ctx, tx, reading); err != nil {
		return engine.Effect{}, err
	}
	if done, e, err := db.twice(ctx, tx, c, kept, r, base); done || err != nil {
		return e.Effect, err
	}
	switch {
	case kept == nil:
		q := &change.Query{D: d}
		q.Add("WITH jugatum_new AS (")
		q.Statement(c, r)
		e, err := db.explain(ctx, tx, q.Add(" RETURNING 1) SELECT count(*) FROM jugatum_new"), c, base)
		e.Kept, e.Matched = base, e.Changed
		return e.Effect, err
	case c.Verb == sqltext.Delete:
		e, err := db.explain(ctx, tx, deletion(c, kept, r, base), c, base)
		return e.Effect, err
	}
	if c.From.Empty() && (c.Table.Partitioned || st.locking) {
		if err := st.steer(ctx, tx, locked); err != nil {
			return engine.Effect{}, err
		}
		e, err := db.explain(ctx, tx, update(c, kept, r, base, true), c, base)
		st.locking = false
		return e.Effect, err
	}
	if _, err := tx.Exec(ctx, "SAVEPOINT jugatum_batch"); err != nil {
		return engine.Effect{}, err
	}
	locking := c.Table.Partitioned
	for attempt := 1; ; attempt++ {
		e, err := db.explain(ctx, tx, update(c, kept, r, base, locking), c, base)
		written := locking || e.intended == e.Changed
		if err != nil || written && (attempt > 1 || c.From.Empty() || e.Matched == e.Changed) {
			return e.Effect, err
		}
		if _, err := tx.Exec(ctx, "ROLLBACK TO SAVEPOINT jugatum_batch"); err != nil {
			return engine.Effect{}, err
		}
		if attempt == 1 && !c.From.Empty() { // fewer rows changed than matched: perhaps a row has several sources
			if err := doubles(ctx, tx, c, r); err != nil {
				return engine.Effect{}, err
			}
		}
		if !written {
			locking, st.locking = true, true
			if err := st.steer(ctx, tx, locked); err != nil {
				return engine.Effect{}, err
			}
		}
	}
}

// Measure carries out a statement and tells what it wrote.
func (db *DB) Measure(ctx context.Context, tx *engine.Tx, q *change.Query) (engine.Effect, error) {
	// A stretch of kept rows, each looked up in the table by its key.
	if err := tx.S.State.(*session).steer(ctx, tx, byRow); err != nil {
		return engine.Effect{}, err
	}
	w := &change.Query{D: d, Args: q.Args}
	w.Add("WITH jugatum_new AS (", q.String(), " RETURNING 1) SELECT count(*) FROM jugatum_new")
	e, err := db.explain(ctx, tx, w, nil, 0)
	return e.Effect, err
}

// update puts together reading, writing and keeping.
func update(c *change.Change, kept *change.Kept, r change.Range, base int64, locking bool) *change.Query {
	q := &change.Query{D: d}
	// Locked rows must be read to the end before the first is written; unlocked
	// ones can go straight from reading to writing.
	if locking {
		q.With(c, true).Add("jugatum_src AS MATERIALIZED (")
		source(q, c, kept, r, locking)
		q.Add("), ")
	} else {
		q.With(c, true)
	}
	q.Add("jugatum_new AS (UPDATE ", only(c), c.Table.SQL(d), " AS jugatum_t SET ")
	for i, s := range c.Set {
		if i > 0 {
			q.Add(", ")
		}
		q.Add(d.Quote(s.Column.Name), fmt.Sprintf(" = s.n%d", i))
	}
	if locking {
		q.Add(" FROM jugatum_src AS s WHERE ")
		for i, k := range kept.Keys {
			if i > 0 {
				q.Add(" AND ")
			}
			q.Add("jugatum_t.", d.Quote(k.Of.Name), fmt.Sprintf(" = s.k%d", i))
		}
	} else {
		q.Add(" FROM (")
		source(q, c, kept, r, locking)
		q.Add(" OFFSET 0) AS s WHERE jugatum_t.ctid = s.tid AND jugatum_t.xmin = s.xm")
	}
	// The range once more, so that no plan ever reads the whole table for a batch.
	if r.Roster == nil {
		q.Range("jugatum_t", c.Table.Key, r)
	}
	q.Add(" AND (")
	differs(q, c)
	q.Add(") RETURNING ")
	list(q, kept.Keys, "k", nil)
	q.Add(", ")
	list(q, kept.Old, "o", nil)
	q.Add(", ")
	list(q, kept.New, "n", func(k change.KeptColumn) string { return "jugatum_t." + d.Quote(k.Of.Name) })
	return keep(q.Add(") "), kept, base).Add(" FROM jugatum_new")
}

// differs appends the condition that some new value of source s is not the old one.
func differs(q *change.Query, c *change.Change) {
	for i, s := range c.Set {
		if i > 0 {
			q.Add(" OR ")
		}
		q.Differs(s.Column, fmt.Sprintf("s.n%d", i), fmt.Sprintf("s.o%d", i))
	}
}

// source appends the query for the rows to change: key, old and new values, and
// where they are not locked the identity of each row's version.
func source(q *change.Query, c *change.Change, kept *change.Kept, r change.Range, locking bool) {
	q.Add("SELECT ")
	if !locking {
		q.Add(c.Ref, ".ctid AS tid, ", c.Ref, ".xmin AS xm, ")
	}
	list(q, kept.Keys, "k", func(k change.KeptColumn) string { return c.Ref + "." + d.Quote(k.Of.Name) })
	q.Add(", ")
	list(q, kept.Old, "o", func(k change.KeptColumn) string { return c.Ref + "." + d.Quote(k.Of.Name) })
	for i, s := range c.Set {
		q.Add(", ").NewValue(c, s).Add(fmt.Sprintf(" AS n%d", i))
	}
	q.Source(c, r)
	if locking {
		q.Add(" FOR UPDATE OF ", c.Ref)
	}
}

// list appends expressions named k0, k1, …; without one, the source's own of that name.
func list(q *change.Query, cols []change.KeptColumn, name string, expr func(change.KeptColumn) string) {
	for i, c := range cols {
		if i > 0 {
			q.Add(", ")
		}
		if expr == nil {
			q.Add(fmt.Sprintf("s.%s%d", name, i))
		} else {
			q.Add(expr(c), fmt.Sprintf(" AS %s%d", name, i))
		}
	}
}

// keep appends the INSERT that takes the changed rows from what FROM is to follow.
func keep(q *change.Query, kept *change.Kept, base int64) *change.Query {
	q.Add("INSERT INTO ", kept.Table, " (seq")
	for _, cols := range [][]change.KeptColumn{kept.Keys, kept.Old, kept.New} {
		for _, k := range cols {
			q.Add(", ", d.Quote(k.Name))
		}
	}
	q.Add(") SELECT ").Arg(base, "bigint").Add(" + row_number() OVER ()")
	for name, cols := range [][]change.KeptColumn{kept.Keys, kept.Old, kept.New} {
		for i := range cols {
			q.Add(fmt.Sprintf(", %c%d", "kon"[name], i))
		}
	}
	return q
}

func deletion(c *change.Change, kept *change.Kept, r change.Range, base int64) *change.Query {
	q := &change.Query{D: d}
	q.Add("WITH jugatum_new AS (")
	q.Statement(c, r)
	q.Add(" RETURNING ")
	col := func(k change.KeptColumn) string { return c.Ref + "." + d.Quote(k.Of.Name) }
	list(q, kept.Keys, "k", col)
	q.Add(", ")
	list(q, kept.Old, "o", col)
	return keep(q.Add(") "), kept, base).Add(" FROM jugatum_new")
}

func only(c *change.Change) string {
	if c.Only {
		return "ONLY "
	}
	return ""
}

// doubles looks whether several source rows of a target row give it different
// new values.
func doubles(ctx context.Context, tx *engine.Tx, c *change.Change, r change.Range) error {
	q := change.Doubles(c, r)
	q.Add(" LIMIT 1")
	rows, err := tx.S.Conn.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	if !rows.Next() {
		return rows.Err()
	}
	key := make(change.KeyValue, len(c.Table.Key.Columns))
	into := make([]any, len(key))
	for i := range key {
		into[i] = &key[i]
	}
	if err := rows.Scan(into...); err != nil {
		return err
	}
	return &engine.AmbiguousError{Table: c.Table.String(), Key: key}
}

// effect is an engine.Effect with what only the plan tells.
type effect struct {
	engine.Effect
	intended int64 // rows read whose new value differs from the old
}

// plan is a node of EXPLAIN's JSON output.
type plan struct {
	NodeType    string  `json:"Node Type"`
	Operation   string  `json:"Operation"`
	Subplan     string  `json:"Subplan Name"`
	CTE         string  `json:"CTE Name"`
	Relation    string  `json:"Relation Name"`
	Alias       string  `json:"Alias"`
	Rows        float64 `json:"Actual Rows"`
	Loops       float64 `json:"Actual Loops"`
	Removed     float64 `json:"Rows Removed by Filter"`
	RemovedJoin float64 `json:"Rows Removed by Join Filter"`
	WALRecords  int64   `json:"WAL Records"`
	WALImages   int64   `json:"WAL FPI"`
	WALBytes    int64   `json:"WAL Bytes"`
	Plans       []plan  `json:"Plans"`
}

// explain carries out a statement under EXPLAIN (ANALYZE, WAL), the server's
// own account of what one statement did: rows by plan node, and the records,
// full-page images and bytes that it wrote to the write-ahead log. The clock
// stays off, since reading it for every row costs more than all the rest.
func (db *DB) explain(ctx context.Context, tx *engine.Tx, q *change.Query, c *change.Change, base int64) (effect, error) {
	e := effect{Effect: engine.Effect{Scanned: -1, Matched: -1}, intended: -1}
	var text string
	err := tx.S.Conn.QueryRowContext(ctx, "EXPLAIN (ANALYZE, WAL, TIMING OFF, SUMMARY OFF, FORMAT JSON) "+q.String(), q.Args...).Scan(&text)
	if err != nil {
		return e, err
	}
	var out []struct{ Plan plan }
	if err := json.Unmarshal([]byte(text), &out); err != nil || len(out) != 1 {
		return e, fmt.Errorf("the server's EXPLAIN output cannot be read: %w", err)
	}
	top := out[0].Plan
	e.Log = engine.Log{Bytes: top.WALBytes, Records: top.WALRecords, Images: top.WALImages, Scope: "ours"}
	alias := ""
	if c != nil {
		alias = strings.ToLower(strings.Trim(c.Ref, `"`))
	}
	e.read(top, alias)
	e.Kept = base + e.Changed
	return e, nil
}

// read gathers the figures from a node and those beneath it.
func (e *effect) read(p plan, alias string) {
	switch {
	case p.Operation == "Update" && p.Subplan == "" && len(p.Plans) > 0:
		// An UPDATE on its own, in a snapshot in which every row read is written.
		e.Changed = int64(p.Plans[0].Rows)
	case p.Subplan == "CTE jugatum_src":
		e.Matched = int64(p.Rows)
	case p.Subplan == "CTE jugatum_new":
		e.Changed = int64(p.Rows)
		if p.Operation == "Delete" {
			e.Matched = e.Changed
		}
	case p.CTE == "jugatum_src": // its filter is whether the values differ
		e.intended = int64(p.Rows)
	case p.NodeType == "Subquery Scan" && p.Alias == "s":
		e.intended = int64(p.Rows)
		e.Matched = int64(p.Rows + p.Removed)
	}
	a := strings.ToLower(p.Alias)
	if alias != "" && p.Relation != "" && (a == alias || strings.HasPrefix(a, alias+"_")) && p.NodeType != "ModifyTable" {
		e.Scanned = max(e.Scanned, 0) + int64((p.Rows+p.Removed)*p.Loops)
	}
	for _, child := range p.Plans {
		e.read(child, alias)
	}
}
