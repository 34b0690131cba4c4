package sqlite

import (
	"context"
	"strings"

	"jugatum/internal/engine"
)

// mostBound is how many values one statement may bind (SQLITE_MAX_VARIABLE_NUMBER
// is 32,766); fewer are as quick.
const mostBound = 4000

// InsertRows inserts the rows; columns of numbers take up texts as the numbers that they are.
func (db *DB) InsertRows(ctx context.Context, tx *engine.Tx, table string, columns []string, rows [][]any) error {
	values := make([]any, 0, len(rows)*len(columns))
	for _, row := range rows {
		values = append(values, row...)
	}
	return insert(ctx, tx, table, columns, values)
}

// insert puts the values of rows, one row after the other, into a table, as many with each
// statement as it may bind.
func insert(ctx context.Context, tx *engine.Tx, table string, columns []string, values []any) error {
	for i, v := range values {
		if b, ok := v.([]byte); ok && b == nil { // the driver gives no bytes as nil, and would bind that as NULL
			values[i] = []byte{}
		}
	}
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = d.Quote(c)
	}
	head := "INSERT INTO " + table + " (" + strings.Join(names, ", ") + ") VALUES "
	one := "(" + strings.TrimSuffix(strings.Repeat("?, ", len(names)), ", ") + ")"
	for per := max(mostBound/len(names), 1) * len(names); len(values) > 0; {
		part := values[:min(per, len(values))]
		if _, err := tx.Exec(ctx, head+strings.TrimSuffix(strings.Repeat(one+", ", len(part)/len(names)), ", "), part...); err != nil {
			return err
		}
		values = values[len(part):]
	}
	return nil
}
