package postgres

import (
	"context"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/stdlib"

	"jugatum/internal/engine"
)

// InsertRows copies the rows in text form, which the server reads as it would a literal.
func (db *DB) InsertRows(ctx context.Context, tx *engine.Tx, table string, columns []string, rows [][]any) error {
	text, ok := engine.Tabbed(rows, copyEscapes, func(_ int, v any) (string, bool) {
		switch v := v.(type) {
		case int64:
			return strconv.FormatInt(v, 10), true
		case []byte:
			return `\\x` + hex.EncodeToString(v), true
		}
		return "", false
	})
	if !ok {
		return fmt.Errorf("values for %s are of a type that cannot be copied", table)
	}
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = d.Quote(c)
	}
	return tx.S.Conn.Raw(func(conn any) error {
		_, err := conn.(*stdlib.Conn).Conn().PgConn().CopyFrom(ctx, text, "COPY "+table+" ("+strings.Join(names, ", ")+") FROM STDIN WITH (FORMAT text, ENCODING 'UTF8')")
		return err
	})
}

// copyEscapes are what the text form of COPY has for characters that mean something in it.
var copyEscapes = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`, "\t", `\t`)
