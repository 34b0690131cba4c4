package mariadb

import (
	"context"
	"encoding/hex"
	"strconv"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
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
	values := make([]*string, len(names))
	return engine.Raw(rows, func(raw [][]byte) error {
		for i, b := range raw {
			if values[i] = nil; b != nil {
				text := listedText(types[i].DatabaseTypeName(), b)
				values[i] = &text
			}
		}
		return each(values)
	})
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
