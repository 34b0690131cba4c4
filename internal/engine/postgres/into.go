package postgres

import (
	"strings"

	"jugatum/internal/change"
)

// NewTable gives the statement that makes a table of such columns.
func (db *DB) NewTable(t *change.Table) []string {
	var cols, key []string
	for _, c := range t.Columns {
		col := d.Quote(c.Name) + " " + c.Type
		if c.Collation != "" {
			col += " COLLATE " + c.Collation
		}
		if c.NotNull {
			col += " NOT NULL"
		}
		cols = append(cols, col)
	}
	for _, c := range t.Key.Columns {
		key = append(key, d.Quote(c.Name))
	}
	return []string{"CREATE TABLE " + t.NameSQL(d) + " (" + strings.Join(append(cols, "PRIMARY KEY ("+strings.Join(key, ", ")+")"), ", ") + ")"}
}

// whole are the types of whole numbers, each of which holds all of the one before.
var whole = map[string]int{"smallint": 1, "integer": 2, "bigint": 3}

// Holds reports whether every value of a column stays as it is in another: of the same
// type, a longer one of the same kind, or a text without a limit.
func (db *DB) Holds(to, from *change.Column) bool {
	if to.Type == from.Type {
		return true
	}
	if a, b := whole[to.Type], whole[from.Type]; a > 0 && b > 0 {
		return a > b
	}
	varying := func(c *change.Column) bool {
		return c.Type == "text" || strings.HasPrefix(c.Type, "character varying")
	}
	return varying(to) && varying(from) && (to.Length == 0 || from.Length > 0 && to.Length >= from.Length)
}
