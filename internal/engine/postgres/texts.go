package postgres

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"

	"jugatum/internal/change"
)

// Rows as texts, as the server sends them.

// Skim prefers plans with parallel workers, which the planner shuns where many
// rows come back, and reads rows as the server sends them.
func (db *DB) Skim(ctx context.Context, q *change.Query, each func(values [][]byte) error) error {
	return sent(ctx, db.pool, "SELECT pg_catalog.set_config('parallel_tuple_cost', '0', true), pg_catalog.set_config('jit', 'off', true)", q, func([]string) error { return nil }, each)
}

// Texts reads what the server writes, by settings that make it exact and the same everywhere.
func (db *DB) Texts(ctx context.Context, q *change.Query, columns func(names []string) error, each func(values []*string) error) error {
	if err := db.trusted(ctx); err != nil {
		return err
	}
	var values []*string
	return sent(ctx, db.jobs, "SET LOCAL datestyle = 'ISO, YMD'; SET LOCAL intervalstyle = 'postgres'; SET LOCAL bytea_output = 'hex'; SET LOCAL extra_float_digits = 1", q, func(names []string) error {
		values = make([]*string, len(names))
		return columns(names)
	}, func(raw [][]byte) error {
		for i, b := range raw {
			if values[i] = nil; b != nil {
				text := string(b)
				values[i] = &text
			}
		}
		return each(values)
	})
}

// sent goes through the rows of a query in a transaction that only reads, and in which settings hold
// that do not linger. The bytes are there during the call only.
func sent(ctx context.Context, pool *sql.DB, settings string, q *change.Query, columns func(names []string) error, each func(values [][]byte) error) error {
	conn, err := pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	tx, err := conn.BeginTx(ctx, &sql.TxOptions{ReadOnly: true})
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, settings); err != nil {
		return err
	}
	var failed error
	err = conn.Raw(func(c any) error {
		rows, err := c.(*stdlib.Conn).Conn().Query(ctx, q.String(), append([]any{pgx.QueryResultFormats{pgx.TextFormatCode}}, q.Args...)...)
		if err != nil {
			return err
		}
		defer rows.Close()
		var names []string
		for _, f := range rows.FieldDescriptions() {
			names = append(names, f.Name)
		}
		if failed = columns(names); failed != nil {
			return nil
		}
		for rows.Next() {
			if failed = each(rows.RawValues()); failed != nil {
				return nil
			}
		}
		return rows.Err()
	})
	return errors.Join(err, failed)
}
