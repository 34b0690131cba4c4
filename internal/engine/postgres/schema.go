package postgres

import (
	"context"
	"net/url"
)

// MakeSchema makes a schema of the database, and a search path that leads into it.
func (db *DB) MakeSchema(ctx context.Context, name string, u *url.URL) (drop string, err error) {
	var there bool
	if err := db.pool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM pg_catalog.pg_namespace WHERE nspname = $1)", name).Scan(&there); err != nil {
		return "", err
	}
	if there {
		return "DROP SCHEMA " + name + " CASCADE", nil
	}
	q := u.Query()
	q.Set("search_path", name)
	u.RawQuery = q.Encode()
	_, err = db.pool.ExecContext(ctx, "CREATE SCHEMA "+d.Quote(name))
	return "", err
}
