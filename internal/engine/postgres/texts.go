package postgres

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/stdlib"

	"jugatum/internal/change"
)

// Texts reads what the server writes, by settings that make it exact and the same everywhere.
func (db *DB) Texts(ctx context.Context, q *change.Query, columns func(names []string) error, each func(values []*string) error) error {
	if err := db.trusted(ctx); err != nil {
		return err
	}
	conn, err := db.jobs.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	tx, err := conn.BeginTx(ctx, &sql.TxOptions{ReadOnly: true}) // so that its settings do not linger
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, "SET LOCAL datestyle = 'ISO, YMD'; SET LOCAL intervalstyle = 'postgres'; SET LOCAL bytea_output = 'hex'; SET LOCAL extra_float_digits = 1"); err != nil {
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
		values := make([]*string, len(names))
		for rows.Next() {
			for i, raw := range rows.RawValues() {
				if values[i] = nil; raw != nil {
					text := string(raw)
					values[i] = &text
				}
			}
			if failed = each(values); failed != nil {
				return nil
			}
		}
		return rows.Err()
	})
	return errors.Join(err, failed)
}
