package mariadb

import (
	"context"

	"jugatum/internal/change"
)

// CopyTable makes it by LIKE, which leaves out foreign keys and triggers.
func (db *DB) CopyTable(_ context.Context, t *change.Table, name string) ([]string, error) {
	return []string{"CREATE TABLE " + name + " LIKE " + t.NameSQL(d)}, nil
}
