package postgres

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// What a statement did, by the server's own account of it.

// effect is an engine.Effect with what only the plan tells.
type effect struct {
	engine.Effect
	intended int64 // rows read whose new value differs from the old
	came     int64 // rows that an INSERT has put into its table
	returns  bool  // the statement returns every row that it has written
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
	Spilled     int64   `json:"Temp Written Blocks"`
	Plans       []plan  `json:"Plans"`
}

// carryOut carries out an UPDATE, DELETE or INSERT as it is. It returns each row, so that those which
// were written are counted; a WITH around it would store them once more for that.
func (db *DB) carryOut(ctx context.Context, tx *engine.Tx, q *change.Query, c *change.Change) (effect, error) {
	if !engine.Measured {
		return unmeasured(ctx, tx, q)
	}
	return db.explained(ctx, tx, q.Within("", " RETURNING 1"), c, true)
}

// explain carries out a statement under EXPLAIN (ANALYZE, WAL), the server's
// own account of what one statement did: rows by plan node, and the records,
// full-page images and bytes that it wrote to the write-ahead log. The clock
// stays off, since reading it for every row costs more than all the rest.
func (db *DB) explain(ctx context.Context, tx *engine.Tx, q *change.Query, c *change.Change) (effect, error) {
	if !engine.Measured {
		return unmeasured(ctx, tx, q)
	}
	return db.explained(ctx, tx, q, c, false)
}

// explained reads the figures of a statement from its EXPLAIN; returns says that it returns
// every row that it has written.
func (db *DB) explained(ctx context.Context, tx *engine.Tx, q *change.Query, c *change.Change, returns bool) (effect, error) {
	e := effect{Effect: engine.Effect{Scanned: -1, Matched: -1}, intended: -1, returns: returns}
	var text string
	more := ""
	if tx.Weighs {
		more = "BUFFERS, "
	}
	err := tx.S.Conn.QueryRowContext(ctx, "EXPLAIN (ANALYZE, WAL, "+more+"TIMING OFF, SUMMARY OFF, FORMAT JSON) "+q.String(), q.Args...).Scan(&text)
	if err != nil {
		return e, err
	}
	var out []struct{ Plan plan }
	if err := json.Unmarshal([]byte(text), &out); err != nil || len(out) != 1 {
		return e, fmt.Errorf("the server's EXPLAIN output cannot be read: %w", err)
	}
	top := out[0].Plan
	e.Log = engine.Log{Bytes: top.WALBytes, Records: top.WALRecords, Images: top.WALImages, Scope: "ours"}
	if tx.Weighs {
		block := int64(0) // of which there are none as a rule
		if top.Spilled > 0 {
			if err := tx.Scan(ctx, "SELECT CAST(pg_catalog.current_setting('block_size') AS bigint)", nil, &block); err != nil {
				return e, err
			}
		}
		tx.Temporary = max(tx.Temporary, 0) + top.Spilled*block
	}
	alias := ""
	if c != nil {
		alias = strings.ToLower(strings.Trim(c.Ref, `"`))
	}
	e.read(top, alias)
	return e, nil
}

// read gathers the figures from a node and those beneath it.
func (e *effect) read(p plan, alias string) {
	switch {
	case e.returns && p.NodeType == "ModifyTable" && p.Subplan == "":
		e.Changed, e.came = int64(p.Rows), int64(p.Rows)
		if p.Operation == "Delete" {
			e.Matched = e.Changed
		}
	case (p.Operation == "Update" || p.Operation == "Delete") && p.Subplan == "" && len(p.Plans) > 0:
		// On its own, in a snapshot in which every row read is written.
		e.Changed = int64(p.Plans[0].Rows)
	case p.Operation == "Insert" && p.Subplan == "" && len(p.Plans) > 0:
		e.came = int64(p.Plans[0].Rows)
	case p.Subplan == "CTE jugatum_into":
		e.came = int64(p.Rows)
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
