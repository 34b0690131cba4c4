package sqlite

import (
	"context"
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Locate asks for nothing: the key is enough.
func (db *DB) Locate(*change.Query, *change.Change) {}

// Guarded is true: the transaction has the file to itself.
func (db *DB) Guarded(*engine.Tx, *change.Change) bool { return true }

// Load puts the new values into a temporary table, which is not in the file.
func (db *DB) Load(ctx context.Context, tx *engine.Tx, c *change.Change, rows []engine.Rewritten) (*change.Change, error) {
	var names, where []string
	for i, k := range c.Table.Key.Columns {
		names = append(names, fmt.Sprintf("k%d", i))
		where = append(where, fmt.Sprintf("%s.%s = jugatum_v.k%d", c.Ref, d.Quote(k.Name), i))
	}
	for i := range c.Set {
		names = append(names, fmt.Sprintf("n%d", i))
	}
	if c.Rewrite.Nulls() {
		names = append(names, change.LoadedNulls)
	}
	// Columns without a type hold values as they are given.
	table := fmt.Sprintf("temp.jugatum_v_%d_%d_%d", len(c.Table.Key.Columns), len(c.Set), len(names))
	for _, text := range []string{"CREATE TEMP TABLE IF NOT EXISTS " + strings.TrimPrefix(table, "temp.") + " (" + strings.Join(names, ", ") + ")", "DELETE FROM " + table} {
		if _, err := tx.Exec(ctx, text); err != nil {
			return nil, err
		}
	}
	values := make([]any, 0, len(rows)*len(names))
	for _, r := range rows {
		values = append(values, r.Key...)
		for _, v := range r.New {
			if v == nil {
				values = append(values, nil)
			} else {
				values = append(values, *v)
			}
		}
		if c.Rewrite.Nulls() {
			values = append(values, r.Nulls)
		}
	}
	if err := insert(ctx, tx, table, names, values); err != nil {
		return nil, err
	}
	return c.FromLoaded(table+" AS jugatum_v", strings.Join(where, " AND "), nil, nil)
}
