package mariadb

import (
	"context"
	"strings"

	"jugatum/internal/engine"
)

// mostBound is how many values one statement may bind: 65,535 by the protocol.
const mostBound = 60_000

// strictly has a statement cut no value to fit, whatever the session's own mode is.
const strictly = "SET STATEMENT sql_mode = 'STRICT_ALL_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE,ERROR_FOR_DIVISION_BY_ZERO' FOR "

// InsertRows hands the rows over as a file where the server takes every value of them as it is, else
// it inserts many with each statement, which tells of the value that does not fit.
func (db *DB) InsertRows(ctx context.Context, tx *engine.Tx, table string, columns []string, rows [][]any) error {
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = d.Quote(c)
	}
	if done, err := db.handOver(ctx, tx, table+" CHARACTER SET utf8mb4 "+handedOver+" ("+strings.Join(names, ", ")+")", rows); done || err != nil {
		return err
	}
	head := strictly + "INSERT INTO " + table + " (" + strings.Join(names, ", ") + ") VALUES "
	one := "(" + strings.TrimSuffix(strings.Repeat("?, ", len(names)), ", ") + ")"
	for begin := 0; begin < len(rows); {
		var args []any
		n, size := 0, 0
		for _, row := range rows[begin:] {
			if n > 0 && (len(args)+len(row) > mostBound || size > db.statement) {
				break
			}
			for _, v := range row {
				switch v := v.(type) {
				case string:
					size += len(v)
				case []byte:
					size += len(v)
				}
				args = append(args, v)
			}
			n++
		}
		if _, err := tx.Exec(ctx, head+strings.TrimSuffix(strings.Repeat(one+", ", n), ", "), args...); err != nil {
			return err
		}
		begin += n
	}
	return nil
}
