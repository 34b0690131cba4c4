package mariadb

import (
	"strings"

	"jugatum/internal/change"
)

// The statement that gives each of many rows values of its own.

// cases is the UPDATE of n rows, in the order of their keys and all after after,
// each to values of its own; a nil leaves the column as it is. The key is one
// column. Where it is ordered, a row finds its values by halving.
func cases(c *change.Change, after change.KeyValue, n int, row func(i int) (change.KeyValue, []*string)) *change.Query {
	q := &change.Query{D: d}
	q.Add("UPDATE ", c.TargetSQL(), " SET ")
	set := 0
	for j, s := range c.Set {
		x := values{q: q, key: c.Table.Key.Columns[0], keySQL: c.Ref + "." + q.D.Quote(c.Table.Key.Columns[0].Name), column: c.Ref + "." + q.D.Quote(s.Column.Name),
			row: func(i int) (any, *string) { k, values := row(i); return k[0], values[j] }}
		if x.none(0, n) {
			continue
		}
		if set > 0 {
			q.Add(", ")
		}
		q.Add(x.column, " = ")
		set++
		if ordered(x.key) {
			x.halve(0, n)
		} else {
			x.list(n)
		}
	}
	keys := make([]change.KeyValue, n)
	for i := range keys {
		keys[i], _ = row(i)
	}
	// Within these bounds, whatever the planner makes of the list.
	q.Add(" WHERE 1 = 1").Range(c.Ref, c.Table.Key, change.Range{Lo: after, Hi: keys[n-1]})
	return q.Add(" AND ").Among(c.Ref, c.Table.Key, keys)
}

// ordered reports whether < surely puts the values of a key column in the
// very order in which it sorts them; long texts it may sort by their beginning
// alone (max_sort_length, 1,024 bytes).
func ordered(key *change.Column) bool {
	switch name, _, _ := strings.Cut(key.Type, "("); strings.Fields(name)[0] {
	case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "date", "datetime":
		return true
	case "char", "varchar", "binary", "varbinary":
		return key.Length <= 255
	}
	return false
}

// values writes the expression that gives each row its value of one column.
type values struct {
	q              *change.Query
	key            *change.Column
	keySQL, column string
	row            func(i int) (key any, value *string)
}

// none reports whether the column stays as it is in the rows from a up to b.
func (x *values) none(a, b int) bool {
	for i := a; i < b; i++ {
		if _, v := x.row(i); v != nil {
			return false
		}
	}
	return true
}

// same is the column's value as it is, in the character set of the new ones.
func (x *values) same() { x.q.Add("CONVERT(", x.column, " USING utf8mb4)") }

func (x *values) halve(a, b int) {
	_, v := x.row(a)
	switch mid := (a + b) / 2; {
	case x.none(a, b):
		x.same()
	case b-a == 1:
		x.q.Arg(*v, "")
	default:
		k, _ := x.row(mid)
		x.q.Add("IF(", x.keySQL, " < ").Key(k, x.key).Add(", ")
		x.halve(a, mid)
		x.q.Add(", ")
		x.halve(mid, b)
		x.q.Add(")")
	}
}

func (x *values) list(n int) {
	x.q.Add("CASE ", x.keySQL)
	some := 0
	for i := range n {
		if k, v := x.row(i); v != nil {
			x.q.Add(" WHEN ").Key(k, x.key).Add(" THEN ").Arg(*v, "")
			some++
		}
	}
	if some < n {
		x.q.Add(" ELSE ")
		x.same()
	}
	x.q.Add(" END")
}
