package postgres

import (
	"context"
	"net/url"

	"jugatum/internal/engine"
)

// MakeSchema makes a schema of the database, and a search path that leads into it.
func (db *DB) MakeSchema(ctx context.Context, s *engine.Session, name string, u *url.URL) (drop string, err error) {
	var there bool
	if err := s.Conn.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM pg_catalog.pg_namespace WHERE nspname = $1)", name).Scan(&there); err != nil {
		return "", err
	}
	if there {
		return "DROP SCHEMA " + name + " CASCADE", nil
	}
	q := u.Query()
	q.Set("search_path", name)
	u.RawQuery = q.Encode()
	tx, err := s.Start(ctx)
	if err != nil {
		return "", err
	}
	defer tx.Rollback()
	if _, err := tx.Exec(ctx, "CREATE SCHEMA "+d.Quote(name)); err != nil {
		return "", err
	}
	return "", tx.Commit(ctx)
}
