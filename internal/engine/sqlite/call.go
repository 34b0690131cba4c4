package sqlite

import (
	"context"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Describe compiles the statement. There are no types of parameters, and no procedures.
func (db *DB) Describe(ctx context.Context, c *change.Call, params map[string]change.Value) (map[string]*change.Column, error) {
	if c.Statement.Procedure != nil {
		return nil, &engine.RefusedError{Msg: "SQLite has no procedures: write the statement that is to be carried out for each line"}
	}
	q := c.CallQuery(d, make([]*string, len(c.Columns)), params)
	rows, err := db.pool.QueryContext(ctx, "EXPLAIN "+q.String(), q.Args...)
	if err != nil {
		return nil, err
	}
	return nil, rows.Close()
}

// Calls carries the statements out in this process. What they write is told at the commit.
func (db *DB) Calls(ctx context.Context, tx *engine.Tx, c *change.Call, all []*change.Query, apart bool) ([]engine.Result, engine.Log, error) {
	out, err := engine.CallsEach(ctx, tx, all, apart, func(q *change.Query) engine.Result { return engine.CallOne(ctx, tx.S, c.Statement, q) })
	return out, engine.NoLog, err
}
