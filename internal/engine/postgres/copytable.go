package postgres

import (
	"context"
	"database/sql"
	"errors"
	"strconv"

	"jugatum/internal/change"
)

// CopyTable makes it by LIKE, which leaves out foreign keys, partitions and triggers. A foreign key would
// lock the table that it refers to against writers while it is made. How full pages are is taken over
// as well, since it decides which updates need not write to indexes.
func (db *DB) CopyTable(ctx context.Context, t *change.Table, name string) ([]string, error) {
	text := "CREATE TABLE " + name + " (LIKE " + t.NameSQL(d) + " INCLUDING DEFAULTS INCLUDING CONSTRAINTS INCLUDING INDEXES INCLUDING STORAGE INCLUDING GENERATED)"
	var fill string
	err := db.pool.QueryRowContext(ctx, `SELECT o.option_value FROM pg_catalog.pg_class r CROSS JOIN LATERAL pg_catalog.pg_options_to_table(r.reloptions) o
		WHERE r.oid = CAST($1 AS text)::regclass AND o.option_name = 'fillfactor'`, t.NameSQL(d)).Scan(&fill)
	if n, bad := strconv.Atoi(fill); err == nil && bad == nil {
		text += " WITH (fillfactor = " + strconv.Itoa(n) + ")"
	}
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return []string{text}, err
}
