package sqlite

import (
	"context"

	"jugatum/internal/engine"
)

// What this engine meets of the seam; docs/architecture.md has the table of all.
var (
	_ engine.RowNumberer = (*DB)(nil)
	_ engine.DB          = (*DB)(nil)
	_ engine.Yielder     = (*DB)(nil)
	_ engine.Marker      = (*DB)(nil)
)

func init() {
	engine.Register(engine.Driver{Schemes: []string{"sqlite"}, Shape: "sqlite:PATH", Dialect: d, File: true, Open: func(ctx context.Context, url string) (engine.DB, error) {
		db, err := Open(ctx, url)
		if err != nil { // not a nil *DB
			return nil, err
		}
		return db, nil
	}})
}
