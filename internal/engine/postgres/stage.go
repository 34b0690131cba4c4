package postgres

import (
	"context"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Stage makes the table, its index and its statistics. It is a logged table: an
// unlogged one would be empty after a crash of the server, and a run that goes on
// would take that for a source without rows.
func (db *DB) Stage(ctx context.Context, tx *engine.Tx, x engine.Staging) error {
	if _, err := tx.Exec(ctx, "DROP TABLE IF EXISTS "+x.Table); err != nil {
		return err
	}
	q := &change.Query{D: d, Args: x.Query.Args}
	q.Add("CREATE TABLE ", x.Table, " AS ", x.Query.String())
	if _, err := tx.S.Conn.ExecContext(ctx, q.String(), q.Args...); err != nil {
		return err
	}
	if len(x.Index) > 0 {
		if _, err := tx.Exec(ctx, "SAVEPOINT jugatum_index"); err != nil {
			return err
		}
		// Of types without an order, and of texts too long for a page, there is none.
		for _, index := range []string{" (" + strings.Join(x.Index, ", ") + ")", " USING hash (" + x.Index[0] + ")"} {
			_, err := tx.Exec(ctx, "CREATE INDEX ON "+x.Table+index)
			if err == nil {
				break
			}
			if ctx.Err() != nil || db.Fault(err) == engine.Connection {
				return err
			}
			if _, err := tx.Exec(ctx, "ROLLBACK TO SAVEPOINT jugatum_index"); err != nil {
				return err
			}
		}
	}
	_, err := tx.Exec(ctx, "ANALYZE "+x.Table)
	return err
}
