package postgres

import (
	"bytes"
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
	var text bytes.Buffer
	for _, row := range rows {
		for i, v := range row {
			if i > 0 {
				text.WriteByte('\t')
			}
			switch v := v.(type) {
			case nil:
				text.WriteString(`\N`)
			case int64:
				text.WriteString(strconv.FormatInt(v, 10))
			case []byte:
				text.WriteString(`\\x` + hex.EncodeToString(v))
			case string:
				copyEscapes.WriteString(&text, v)
			default:
				return fmt.Errorf("a value of type %T cannot be copied", v)
			}
		}
		text.WriteByte('\n')
	}
	names := make([]string, len(columns))
	for i, c := range columns {
		names[i] = d.Quote(c)
	}
	return tx.S.Conn.Raw(func(conn any) error {
		_, err := conn.(*stdlib.Conn).Conn().PgConn().CopyFrom(ctx, &text, "COPY "+table+" ("+strings.Join(names, ", ")+") FROM STDIN WITH (FORMAT text, ENCODING 'UTF8')")
		return err
	})
}

// copyEscapes are what the text form of COPY has for characters that mean something in it.
var copyEscapes = strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`, "\t", `\t`)
