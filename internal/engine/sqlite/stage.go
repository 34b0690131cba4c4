package sqlite

import (
	"context"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Stage makes the table with the affinities of the query's columns.
func (db *DB) Stage(ctx context.Context, tx *engine.Tx, x engine.Staging) error {
	if _, err := tx.Exec(ctx, "DROP TABLE IF EXISTS "+x.Table); err != nil {
		return err
	}
	q := &change.Query{D: d, Args: x.Query.Args}
	if _, err := exec(ctx, tx, q.Add("CREATE TABLE ", x.Table, " AS ", x.Query.String())); err != nil || len(x.Index) == 0 {
		return err
	}
	_, err := tx.Exec(ctx, "CREATE INDEX "+d.Quote(strings.Trim(x.Table, `"`)+"_by_match")+" ON "+x.Table+" ("+strings.Join(x.Index, ", ")+")")
	return err
}
