package sqlite

import (
	"context"
	"database/sql"
	"errors"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// farNumber is the number of the one row of a mark, which no row would get by itself.
// VACUUM numbers the rows of every table anew, from 1, unless a column holds the number.
const farNumber = 1 << 62

// MarkNumbers makes a table with one row that has a number far from 1, and holds the page at
// which the table begins: one that is made anew under the same name begins at another.
func (db *DB) MarkNumbers(ctx context.Context, tx *engine.Tx, mark string, t *change.Table) error {
	if _, err := tx.Exec(ctx, "CREATE TABLE "+mark+" (root)"); err != nil {
		return err
	}
	_, err := tx.Exec(ctx, "INSERT INTO "+mark+" (rowid, root) SELECT ?, rootpage FROM sqlite_schema WHERE type = 'table' AND name = ?", farNumber, t.Name)
	return err
}

// NumbersHold looks for that row and that page.
func (db *DB) NumbersHold(ctx context.Context, q engine.Querier, mark string, t *change.Table) (bool, error) {
	var one int
	err := q.QueryRowContext(ctx, "SELECT 1 FROM "+mark+" AS m JOIN sqlite_schema AS s ON s.rootpage = m.root WHERE m.rowid = ? AND s.type = 'table' AND s.name = ?", farNumber, t.Name).Scan(&one)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	return err == nil, err
}
