package sqlite

import (
	"context"
	"strings"

	"jugatum/internal/engine"
)

// mostBound is how many values one statement may bind (SQLITE_MAX_VARIABLE_NUMBER
// is 32,766); fewer are as quick.
const mostBound = 4000

// InsertRows inserts as many rows with each statement as it may bind values. Columns of numbers
// take up texts as the numbers that they are.
func (db *DB) InsertRows(ctx context.Context, tx *engine.Tx, table string, columns []string, rows [][]any) error {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = d.Quote(c)
	}
	per := max(mostBound/len(names), 1)
	one := "(" + strings.TrimSuffix(strings.Repeat("?, ", len(names)), ", ") + ")"
	for begin := 0; begin < len(rows); begin += per {
		part := rows[begin:min(begin+per, len(rows))]
		args := make([]any, 0, len(part)*len(names))
		for _, row := range part {
			for _, v := range row {
				if b, ok := v.([]byte); ok && b == nil { // which the driver would take for NULL
					v = []byte{}
				}
				args = append(args, v)
			}
		}
		text := "INSERT INTO " + table + " (" + strings.Join(names, ", ") + ") VALUES " + strings.TrimSuffix(strings.Repeat(one+", ", len(part)), ", ")
		if _, err := tx.Exec(ctx, text, args...); err != nil {
			return err
		}
	}
	return nil
}
