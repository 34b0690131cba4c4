package postgres

import (
	"context"

	"github.com/jackc/pgx/v5/stdlib"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// unmeasured carries a statement out without EXPLAIN; see engine.Measured. It
// knows of the rows only how many came out at the end.
func unmeasured(ctx context.Context, tx *engine.Tx, q *change.Query) (effect, error) {
	e := effect{Effect: engine.Effect{Scanned: -1, Log: engine.NoLog}}
	err := tx.S.Conn.Raw(func(conn any) error {
		rows, err := conn.(*stdlib.Conn).Conn().Query(ctx, q.String(), q.Args...)
		if err != nil {
			return err
		}
		counted := rows.Next() // SELECT count(*)
		if counted {
			err = rows.Scan(&e.Changed)
		}
		rows.Close()
		if !counted {
			e.Changed = rows.CommandTag().RowsAffected()
		}
		if err == nil {
			err = rows.Err()
		}
		return err
	})
	e.Matched, e.intended, e.came = e.Changed, e.Changed, e.Changed
	return e, err
}
