package mariadb

import (
	"context"
	"database/sql"
	"encoding/hex"
	"strconv"
	"strings"

	"jugatum/internal/change"
)

// Texts reads what the server writes; bytes and bits as lists have them.
func (db *DB) Texts(ctx context.Context, q *change.Query, columns func(names []string) error, each func(values []*string) error) error {
	st, err := db.pool.PrepareContext(ctx, q.String()) // or floats would come cut short
	if err != nil {
		return err
	}
	defer st.Close()
	rows, err := st.QueryContext(ctx, q.Args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	types, err := rows.ColumnTypes()
	if err != nil {
		return err
	}
	if err := columns(names); err != nil {
		return err
	}
	raw, into, values := make([]sql.RawBytes, len(names)), make([]any, len(names)), make([]*string, len(names))
	for i := range raw {
		into[i] = &raw[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for i, b := range raw {
			if values[i] = nil; b != nil {
				text := listedText(types[i].DatabaseTypeName(), b)
				values[i] = &text
			}
		}
		if err := each(values); err != nil {
			return err
		}
	}
	return rows.Err()
}

// listedText is a value as lists have it.
func listedText(typ string, b []byte) string {
	switch {
	case typ == "BIT":
		n := uint64(0)
		for _, x := range b {
			n = n<<8 | uint64(x)
		}
		return strconv.FormatUint(n, 10)
	case strings.HasSuffix(typ, "BLOB") || strings.HasSuffix(typ, "BINARY") || typ == "GEOMETRY":
		return `\x` + hex.EncodeToString(b)
	}
	return string(b)
}
