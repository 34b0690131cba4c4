package sqlite

import (
	"context"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"jugatum/internal/change"
)

// Texts reads values as they are stored: by a plus sign before a column, which changes none, what
// it was declared as does not have the driver make something else of them.
func (db *DB) Texts(ctx context.Context, q *change.Query, columns func(names []string) error, each func(values []*string) error) error {
	names, err := db.named(ctx, q)
	if err != nil {
		return err
	}
	if err := columns(names); err != nil {
		return err
	}
	list := make([]string, len(names))
	for i, name := range names {
		list[i] = "+" + d.Quote(name)
	}
	rows, err := db.pool.QueryContext(ctx, "SELECT "+strings.Join(list, ", ")+" FROM ("+q.String()+")", q.Args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	raw, into, values := make([]any, len(names)), make([]any, len(names)), make([]*string, len(names))
	for i := range raw {
		into[i] = &raw[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for i, v := range raw {
			text := ""
			switch v := v.(type) {
			case nil:
				values[i] = nil
				continue
			case int64:
				text = strconv.FormatInt(v, 10)
			case float64:
				text = strconv.FormatFloat(v, 'g', -1, 64)
			case []byte:
				text = `\x` + hex.EncodeToString(v)
			case string:
				text = v
			default:
				return fmt.Errorf("column %s: a value of type %T", names[i], v)
			}
			values[i] = &text
		}
		if err := each(values); err != nil {
			return err
		}
	}
	return rows.Err()
}

// named gives the names of the columns of a query, each of which must be there once. No row is asked
// for, or an ORDER BY would be worked out twice.
func (db *DB) named(ctx context.Context, q *change.Query) ([]string, error) {
	rows, err := db.pool.QueryContext(ctx, "SELECT * FROM ("+q.String()+") LIMIT 0", q.Args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, name := range names { // SQLite calls the second of two columns of the name k "k:1"
		if first, n, ok := strings.Cut(name, ":"); ok && seen[strings.ToLower(first)] && strings.Trim(n, "0123456789") == "" {
			return nil, fmt.Errorf("the query has two columns that are called %s", first)
		}
		seen[strings.ToLower(name)] = true
	}
	return names, nil
}
