package change

import (
	"strconv"
	"strings"

	"jugatum/internal/sqltext"
)

// What MariaDB's SQL has another form for.

// anyDate lets one statement read dates from packed values as they are, also
// those that are none, such as 0000-00-00.
const anyDate = "SET STATEMENT sql_mode = 'ALLOW_INVALID_DATES' FOR "

// expanded compares a key column by column, which is what MariaDB's planner
// makes index ranges of: a >= 1 AND (a > 1 OR a = 1 AND (b > 2)).
func (q *Query) expanded(alias string, cols []*Column, op string, v KeyValue) *Query {
	c, col := cols[0], alias+"."+q.D.Quote(cols[0].Name)
	if len(cols) == 1 {
		return q.Add(col, " ", c.Op(op), " ").keyArg(v[0], c)
	}
	strict := op[:1]
	q.Add(col, " ", c.Op(strict+"="), " ").keyArg(v[0], c)
	q.Add(" AND (", col, " ", c.Op(strict), " ").keyArg(v[0], c)
	q.Add(" OR ", col, " ", c.Op("="), " ").keyArg(v[0], c)
	return q.Add(" AND (").expanded(alias, cols[1:], op, v[1:]).Add("))")
}

// keyArg binds a key's value in the way of the dialect.
func (q *Query) keyArg(v any, c *Column) *Query {
	if q.D == sqltext.MariaDB {
		return q.KeyArg(v, c)
	}
	return q.Arg(v, keyType(c))
}

// KeyArg binds a key's value, given in its text form, on MariaDB: bytes in
// hexadecimal, numbers as such.
func (q *Query) KeyArg(v any, c *Column) *Query {
	s, isText := v.(string)
	switch {
	case c.Binary && isText:
		q.Add("UNHEX(?)")
		q.Args = append(q.Args, s)
		return q
	case c.Class == Number && isText:
		if n, err := strconv.ParseInt(s, 10, 64); err == nil {
			return q.Arg(n, "")
		}
		if n, err := strconv.ParseUint(s, 10, 64); err == nil {
			return q.Arg(n, "")
		}
		return q.Arg(s, c.Base)
	}
	return q.Arg(v, "")
}

// statementMariaDB is Statement for MariaDB, which names the sources before SET,
// and in a DELETE knows an alias only in the form for several tables.
func (q *Query) statementMariaDB(c *Change, r Range) *Query {
	if c.Verb == sqltext.Delete {
		q.Add("DELETE ")
		if c.joined || c.alias != "" {
			q.Add(c.Ref, " ")
		}
		return q.Add("FROM ").tables(c).Filter(c, r)
	}
	q.Add("UPDATE ").tables(c).Add(" SET ")
	n := 0
	for _, s := range c.Set {
		if !s.Implicit {
			q.sep(n).Add(c.Ref, ".", c.D.Quote(s.Column.Name), " = ").NewValue(c, s)
			n++
		}
	}
	return q.Filter(c, r)
}

// differsMariaDB compares in the column's type; texts byte by byte in its
// character set, since its collation would take 'a' and 'A' for the same.
func (q *Query) differsMariaDB(col *Column, a, b string) *Query {
	switch {
	case col.Same == ByText:
		return q.Add("NOT (BINARY CONVERT(", a, " USING ", col.Base, ") <=> BINARY ", b, ")")
	case col.Same == ByImage:
		return q.Add("NOT (BINARY ", a, " <=> BINARY ", b, ")")
	case col.Base == "":
		return q.Add("NOT (", a, " <=> ", b, ")")
	}
	return q.Add("NOT (CAST(", a, " AS ", col.Base, ") <=> ", b, ")")
}

// restoreMariaDB is Restore's UPDATE: the kept rows first, each finding its row by key.
func (q *Query) restoreMariaDB(c *Change, kept *Kept, from, to int64) *Query {
	q.FromKept(c, kept, kept.AfterRun(c), kept.Old).Add(" WHERE ").seq(kept, from, to)
	for _, n := range kept.New {
		q.Add(" AND ").Unchanged(n.Of, "jugatum_t."+c.D.Quote(n.Of.Name), "k."+c.D.Quote(n.Name))
	}
	return q
}

// FromKept appends MariaDB's UPDATE of the target from kept values: the kept
// rows are read first, and each finds its row by byKey. A condition follows.
func (q *Query) FromKept(c *Change, kept, byKey *Kept, values []KeptColumn) *Query {
	q.Add("UPDATE ", kept.Table, " AS k STRAIGHT_JOIN ", c.Table.SQL(c.D), " AS jugatum_t ON ").KeyJoin("jugatum_t", "k", byKey).Add(" SET ")
	for i, v := range values {
		q.sep(i).Add("jugatum_t.", c.D.Quote(v.Of.Name), " = k.", c.D.Quote(v.Name))
	}
	return q
}

// Among appends the condition that the row's key is one of these.
func (q *Query) Among(alias string, k *Key, keys []KeyValue) *Query {
	open, end := "", ""
	if len(k.Columns) > 1 {
		open, end = "(", ")"
	}
	q.Add(open).Columns(alias, k.Columns).Add(end, " IN (")
	for i, key := range keys {
		q.sep(i).Add(open)
		for j, c := range k.Columns {
			q.sep(j).KeyArg(key[j], c)
		}
		q.Add(end)
	}
	return q.Add(")")
}

// Cases is the UPDATE of n rows, in the order of their keys and all after after,
// each to values of its own; a nil leaves the column as it is. The key is one
// column. Where it is Ordered, a row finds its values by halving.
func (q *Query) Cases(c *Change, after KeyValue, n int, row func(i int) (KeyValue, []*string)) *Query {
	q.Add("UPDATE ", c.TargetSQL(), " SET ")
	set := 0
	for j, s := range c.Set {
		x := cases{q: q, key: c.Table.Key.Columns[0], keySQL: c.Ref + "." + q.D.Quote(c.Table.Key.Columns[0].Name), column: c.Ref + "." + q.D.Quote(s.Column.Name),
			row: func(i int) (any, *string) { k, values := row(i); return k[0], values[j] }}
		if x.none(0, n) {
			continue
		}
		q.sep(set).Add(x.column, " = ")
		set++
		if Ordered(x.key) {
			x.halve(0, n)
		} else {
			x.list(n)
		}
	}
	keys := make([]KeyValue, n)
	for i := range keys {
		keys[i], _ = row(i)
	}
	// Within these bounds, whatever the planner makes of the list.
	q.Add(" WHERE 1 = 1").Range(c.Ref, c.Table.Key, Range{Lo: after, Hi: keys[n-1]})
	return q.Add(" AND ").Among(c.Ref, c.Table.Key, keys)
}

// Ordered reports whether MariaDB's < surely puts the values of a key column in the
// very order in which it sorts them; long texts it may sort by their beginning
// alone (max_sort_length, 1,024 bytes).
func Ordered(key *Column) bool {
	switch name, _, _ := strings.Cut(key.Type, "("); strings.Fields(name)[0] {
	case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "date", "datetime":
		return true
	case "char", "varchar", "binary", "varbinary":
		return key.Length <= 255
	}
	return false
}

// cases writes the expression that gives each row its value of one column.
type cases struct {
	q              *Query
	key            *Column
	keySQL, column string
	row            func(i int) (key any, value *string)
}

// none reports whether the column stays as it is in the rows from a up to b.
func (x *cases) none(a, b int) bool {
	for i := a; i < b; i++ {
		if _, v := x.row(i); v != nil {
			return false
		}
	}
	return true
}

// same is the column's value as it is, in the character set of the new ones.
func (x *cases) same() { x.q.Add("CONVERT(", x.column, " USING utf8mb4)") }

func (x *cases) halve(a, b int) {
	_, v := x.row(a)
	switch mid := (a + b) / 2; {
	case x.none(a, b):
		x.same()
	case b-a == 1:
		x.q.Arg(*v, "")
	default:
		k, _ := x.row(mid)
		x.q.Add("IF(", x.keySQL, " < ").KeyArg(k, x.key).Add(", ")
		x.halve(a, mid)
		x.q.Add(", ")
		x.halve(mid, b)
		x.q.Add(")")
	}
}

func (x *cases) list(n int) {
	x.q.Add("CASE ", x.keySQL)
	some := 0
	for i := range n {
		if k, v := x.row(i); v != nil {
			x.q.Add(" WHEN ").KeyArg(k, x.key).Add(" THEN ").Arg(*v, "")
			some++
		}
	}
	if some < n {
		x.q.Add(" ELSE ")
		x.same()
	}
	x.q.Add(" END")
}
