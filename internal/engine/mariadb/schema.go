package mariadb

import (
	"context"
	"net/url"

	"jugatum/internal/engine"
)

// MakeSchema makes a database, which is what holds tables here.
func (db *DB) MakeSchema(ctx context.Context, s *engine.Session, name string, u *url.URL) (drop string, err error) {
	var there int
	if err := s.Conn.QueryRowContext(ctx, "SELECT count(*) FROM information_schema.schemata WHERE schema_name = ?", name).Scan(&there); err != nil {
		return "", err
	}
	if there > 0 {
		return "DROP DATABASE " + name, nil
	}
	u.Path = "/" + name
	_, err = s.Conn.ExecContext(ctx, "CREATE DATABASE "+d.Quote(name)+" CHARACTER SET utf8mb4")
	return "", err
}
