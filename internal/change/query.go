package change

import (
	"strconv"
	"strings"

	"jugatum/internal/sqltext"
)

// Query is SQL text being put together with the values bound to it.
type Query struct {
	D    sqltext.Dialect
	text strings.Builder
	Args []any
}

// String is the text so far.
func (q *Query) String() string { return q.text.String() }

// Within is the query between two pieces of SQL.
func (q *Query) Within(before, after string) *Query {
	out := &Query{D: q.D, Args: q.Args}
	return out.Add(before, q.String(), after)
}

// Add appends SQL text as it is. Nothing from data or from people goes in here.
func (q *Query) Add(parts ...string) *Query {
	for _, p := range parts {
		q.text.WriteString(p)
	}
	return q
}

// Arg binds a value, cast to typ where the dialect wants to be told.
func (q *Query) Arg(v any, typ string) *Query {
	if b, ok := v.([]byte); ok && b == nil { // SQLite's driver gives no bytes as nil, and would bind that as NULL
		v = []byte{}
	}
	q.Args = append(q.Args, v)
	switch {
	case q.D == sqltext.MariaDB && typ == "FROM_UNIXTIME":
		q.Add("FROM_UNIXTIME(?)")
	case q.D == sqltext.MariaDB && typ != "" && typ != "bigint": // exact decimals and times, which text would make floats of
		q.Add("CAST(? AS ", typ, ")")
	case q.D != sqltext.PostgreSQL:
		q.text.WriteByte('?')
	case typ == "":
		q.Add("$", strconv.Itoa(len(q.Args)))
	default:
		q.Add("CAST($", strconv.Itoa(len(q.Args)), " AS ", typ, ")")
	}
	return q
}

// Fragment appends a piece of the job's SQL, its parameters bound.
func (q *Query) Fragment(f sqltext.Fragment, params map[string]Value) *Query {
	for i, t := range f.Tokens {
		if i > 0 && t.Space {
			q.text.WriteByte(' ')
		}
		if t.Kind != sqltext.Param {
			q.text.WriteString(t.Text)
			continue
		}
		arg, cast := params[t.Name()].bind(q.D)
		q.Arg(arg, cast)
	}
	return q
}

// keyType is what a key's bound value is cast to on PostgreSQL.
func keyType(c *Column) string { return c.Base }

// Columns appends alias.column, … for the columns.
func (q *Query) Columns(alias string, cols []*Column) *Query {
	for i, c := range cols {
		if i > 0 {
			q.Add(", ")
		}
		q.Add(alias, ".", q.D.Quote(c.Name))
	}
	return q
}

// After appends the condition that the key lies after lo, Upto that it does not
// lie after hi. SQLite and PostgreSQL walk their indexes by row values.
func (q *Query) After(alias string, k *Key, lo KeyValue) *Query { return q.compare(alias, k, ">", lo) }

// Upto is the other end of After.
func (q *Query) Upto(alias string, k *Key, hi KeyValue) *Query { return q.compare(alias, k, "<=", hi) }

func (q *Query) compare(alias string, k *Key, op string, v KeyValue) *Query {
	if q.D == sqltext.MariaDB {
		return q.expanded(alias, k.Columns, op, v)
	}
	if len(k.Columns) == 1 {
		q.Columns(alias, k.Columns).Add(" ", k.Columns[0].Op(op), " ")
		return q.Arg(v[0], keyType(k.Columns[0]))
	}
	own, one := commonOp(k.Columns, op)
	if !one { // a comparison of rows has one operator for all of its columns
		return q.expanded(alias, k.Columns, op, v)
	}
	q.Add("(").Columns(alias, k.Columns).Add(") ", own, " (")
	for i, c := range k.Columns {
		if i > 0 {
			q.Add(", ")
		}
		q.Arg(v[i], keyType(c))
	}
	return q.Add(")")
}

// Range is a stretch of a table in key order: after Lo, up to and with Hi.
// A nil end is open; the zero value is the whole table. With a roster, it is a
// stretch of that instead: Lo and Hi are numbers in it.
type Range struct {
	Lo, Hi KeyValue
	Roster *Kept      // only its keys; nil without a roster
	Keys   []KeyValue // the rows with these keys, if not nil (MariaDB)
	At     KeyValue   // the row with this key alone, if not nil
}

// Walked reports whether r is a stretch of the table itself, with an end: what
// a walk in key order gives.
func (r Range) Walked() bool {
	return r.Hi != nil && r.At == nil && r.Keys == nil && r.Roster == nil
}

// Same reports whether two stretches of a walk are the same.
func (r Range) Same(o Range) bool {
	return r.Walked() && o.Walked() && r.Lo.Encode() == o.Lo.Encode() && r.Hi.Encode() == o.Hi.Encode()
}

// Range appends " AND …" for both ends.
func (q *Query) Range(alias string, k *Key, r Range) *Query {
	if r.At != nil {
		return q.at(alias, k, r.At)
	}
	if r.Keys != nil {
		return q.Add(" AND ").Among(alias, k, r.Keys)
	}
	if r.Roster != nil {
		return q.enrolled(alias, k, r)
	}
	if r.Lo != nil {
		q.Add(" AND ").After(alias, k, r.Lo)
	}
	if r.Hi != nil {
		q.Add(" AND ").Upto(alias, k, r.Hi)
	}
	return q
}

// at appends the condition that the row has this key.
func (q *Query) at(alias string, k *Key, v KeyValue) *Query {
	for i, c := range k.Columns {
		q.Add(" AND ", alias, ".", q.D.Quote(c.Name), " ", c.Op("="), " ").keyArg(v[i], c)
	}
	return q
}

// enrolled appends the condition that the row's key stands in a stretch of the roster.
func (q *Query) enrolled(alias string, k *Key, r Range) *Query {
	q.Add(" AND ").amongQuery(alias, k.Columns).Add("(SELECT ")
	for i, c := range r.Roster.Keys {
		q.sep(i).Add("jugatum_r.", q.D.Quote(c.Name))
	}
	q.Add(" FROM ", r.Roster.Table, " AS jugatum_r WHERE jugatum_r.seq > ").Arg(r.Lo[0], "bigint")
	return q.Add(" AND jugatum_r.seq <= ").Arg(r.Hi[0], "bigint").Add(")")
}

// Enrol is the statement that writes the keys of the rows that match into a
// roster, each once, numbered from 1 in key order.
func Enrol(c *Change, roster *Kept) *Query {
	q := &Query{D: c.D}
	keys := ""
	for i, k := range roster.Keys {
		if i > 0 {
			keys += ", "
		}
		keys += q.D.Quote(k.Name)
	}
	q.Add("INSERT INTO ", roster.Table, " (seq, ", keys, ") ").With(c, false)
	q.Add("SELECT row_number() OVER (ORDER BY ", keys, "), ", keys, " FROM (SELECT ")
	if !c.From.Empty() {
		q.Add("DISTINCT ")
	}
	for i, k := range roster.Keys {
		q.sep(i).Add(c.Ref, ".", q.D.Quote(k.Of.Name), " AS ", q.D.Quote(k.Name))
	}
	return q.Source(c, Range{}).Add(") AS jugatum_s")
}

// KeyJoin appends the condition that the row of table alias a is the one kept in k.
func (q *Query) KeyJoin(a, k string, kept *Kept) *Query {
	for i, c := range kept.Keys {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add(a, ".", q.D.Quote(c.Of.Name), " ", c.Of.Op("="), " ", k, ".", q.D.Quote(c.Name))
	}
	return q
}

// With appends the job's own WITH list, if any, then those of ours, and reports
// nothing: each of ours is "name AS (…)" already written by the caller.
func (q *Query) With(c *Change, more bool) *Query {
	if c.With.Empty() {
		if more {
			q.Add("WITH ")
		}
		return q
	}
	q.Add("WITH ")
	if c.Recursive {
		q.Add("RECURSIVE ")
	}
	q.Fragment(c.With, c.Params)
	if more {
		q.Add(", ")
	} else {
		q.Add(" ")
	}
	return q
}

// Source appends " FROM target, sources WHERE filter AND range".
func (q *Query) Source(c *Change, r Range) *Query {
	return q.Add(" FROM ").tables(c).Filter(c, r)
}

// tables appends the target and its sources.
func (q *Query) tables(c *Change) *Query {
	switch {
	case c.joined:
		return q.Fragment(c.From, c.Params)
	case c.From.Empty():
		return q.Add(c.TargetSQL())
	}
	return q.Add(c.TargetSQL(), ", ").Fragment(c.From, c.Params)
}

// Filter appends " WHERE range AND filter". The range stands first: of two
// lower bounds for a key SQLite uses the one it meets first, and with the
// filter's own (id > 0) every batch would read the table from its beginning.
func (q *Query) Filter(c *Change, r Range) *Query {
	q.Add(" WHERE 1 = 1").Range(c.Ref, c.Table.Key, r)
	if !c.Where.Empty() {
		q.Add(" AND (").Fragment(c.Where, c.Params).Add(")")
	}
	if c.First != nil && r.Roster == nil && r.Keys == nil && r.At == nil { // otherwise the rows are known
		q.first(c)
	}
	return q
}

// NewValue appends the new value of one assignment as an expression of a type
// that the column takes by assignment.
func (q *Query) NewValue(c *Change, s Set) *Query {
	cast := q.D == sqltext.PostgreSQL && s.Column.Base != ""
	switch {
	case s.Literal != nil && q.D == sqltext.MariaDB:
		return q.Arg(s.Literal.bind(q.D))
	case s.Literal != nil:
		arg, _ := s.Literal.bind(q.D)
		return q.Arg(arg, s.Column.Base)
	case s.Default:
		expr := s.Column.Default
		if expr == "" {
			expr = "NULL"
		}
		if cast {
			return q.Add("CAST(", expr, " AS ", s.Column.Base, ")")
		}
		return q.Add("(", expr, ")")
	case s.Untyped && cast:
		return q.Add("CAST(").Fragment(s.Expr, c.Params).Add(" AS ", s.Column.Base, ")")
	}
	return q.Add("(").Fragment(s.Expr, c.Params).Add(")")
}

// Statement appends the change as one statement with the range added. Like the
// author's own, it writes every row that matches, also where the new value is
// the old one.
func (q *Query) Statement(c *Change, r Range) *Query {
	q.With(c, false)
	if c.Verb == sqltext.Insert { // the other table may not be there yet
		return q.Add("SELECT 1").Source(c, r)
	}
	if q.D == sqltext.MariaDB {
		return q.statementMariaDB(c, r)
	}
	if c.Verb == sqltext.Delete {
		q.Add("DELETE FROM ", c.TargetSQL())
		if !c.From.Empty() {
			q.Add(" USING ").Fragment(c.From, c.Params)
		}
		return q.Filter(c, r)
	}
	q.Add("UPDATE ", c.Table.Or(), c.TargetSQL(), " SET ")
	for i, s := range c.Set {
		q.sep(i).Add(c.D.Quote(s.Column.Name), " = ").NewValue(c, s)
	}
	if !c.From.Empty() {
		q.Add(" FROM ").Fragment(c.From, c.Params)
	}
	return q.Filter(c, r)
}

// Plain appends the change as its author wrote it, or else the one statement that
// it stands for: what the server itself must take before anything is made of it.
func (q *Query) Plain(c *Change) *Query {
	if c.written != "" {
		return q.Add(c.written)
	}
	whole := *c
	whole.First = nil
	return q.Statement(&whole, Range{})
}

// Misplaced gives an error of the server in a statement that Plain wrote its
// place there: offset is in characters from the beginning of it.
func (c *Change) Misplaced(msg string, offset int) error {
	chars := []rune(c.written)
	if c.written == "" || offset < 0 || offset > len(chars) {
		return nil
	}
	return &sqltext.Error{Src: c.written, Offset: len(string(chars[:offset])), Msg: msg}
}

// Changing appends " AND …": that some new value is not the one that the row has.
func (q *Query) Changing(c *Change) *Query {
	q.Add(" AND (1 = 0")
	for _, s := range c.Set {
		if s.Implicit {
			continue
		}
		q.Add(" OR ")
		value := &Query{D: q.D, Args: q.Args} // placeholders go on counting
		value.NewValue(c, s)
		q.Args = value.Args
		q.Differs(s.Column, value.String(), c.Ref+"."+c.D.Quote(s.Column.Name))
	}
	return q.Add(")")
}

// Unchanged appends the condition that two values of a column, each given as
// SQL text, are the same to the byte; NULL is the same as NULL.
func (q *Query) Unchanged(col *Column, a, b string) *Query {
	if q.D == sqltext.SQLite {
		return q.Add("(", a, " IS ", b, " COLLATE BINARY AND typeof(", a, ") = typeof(", b, "))")
	}
	if q.D == sqltext.MariaDB {
		if col.Same == ByEquality {
			return q.Add(a, " <=> ", b)
		}
		return q.Add("BINARY ", a, " <=> BINARY ", b)
	}
	switch col.Same {
	case ByImage:
		return q.Add("ROW(", a, ")::record *= ROW(", b, ")::record")
	case ByText:
		return q.Add("CAST(", a, ` AS text) COLLATE "C" IS NOT DISTINCT FROM CAST(`, b, ` AS text) COLLATE "C"`)
	}
	return q.Add(exactly(col, a), " IS NOT DISTINCT FROM ", exactly(col, b))
}

// Differs appends the condition that a new value, as SQL text of whatever type,
// would change the column's stored value b. The new value is first brought to
// the column's type, in a way that does not cut it short.
func (q *Query) Differs(col *Column, a, b string) *Query {
	if q.D == sqltext.SQLite {
		// Comparing with a column applies the column's affinity, as storing would;
		// where there is none, the storage class counts too.
		q.Add("(", a, " IS NOT ", b, " COLLATE BINARY")
		if col.Class == Other {
			q.Add(" OR typeof(", a, ") <> typeof(", b, ")")
		}
		return q.Add(")")
	}
	if q.D == sqltext.MariaDB {
		return q.differsMariaDB(col, a, b)
	}
	a = "CAST(" + a + " AS " + col.Base + ")"
	switch col.Same {
	case ByImage:
		return q.Add("ROW(", a, ")::record *<> ROW(", b, ")::record")
	case ByText:
		return q.Add("CAST(", a, ` AS text) COLLATE "C" IS DISTINCT FROM CAST(`, b, ` AS text) COLLATE "C"`)
	}
	return q.Add(exactly(col, a), " IS DISTINCT FROM ", exactly(col, b))
}

// exactly casts a value to a type of which the server itself has an operator =
// (PostgreSQL). For any other, such as varchar or a domain, one that somebody
// made in a schema of the search path would be a better match; and IS DISTINCT
// FROM has no form that names the operator's schema.
func exactly(col *Column, expr string) string {
	switch typ := col.BaseType(); {
	case typ == "varchar" || typ == "text":
		return "CAST(" + expr + " AS text)"
	case strings.HasPrefix(expr, "CAST(") || col.Base == col.Type:
		return expr
	}
	return "CAST(" + expr + " AS " + col.Base + ")"
}

const (
	AsChanged  State = iota // the new values; deleted rows gone
	AsRestored              // the old values; deleted rows back
)

// TextOf is Text for a value of a column.
func (q *Query) TextOf(col *Column, expr string) string {
	if q.D == sqltext.MariaDB && col.Binary {
		return "CONCAT('0x', LOWER(HEX(" + expr + ")))"
	}
	return q.Text(expr)
}

// Text writes an expression as text for reading: bytes in hexadecimal.
func (q *Query) Text(expr string) string {
	if q.D == sqltext.MariaDB {
		return "CAST(" + expr + " AS CHAR)"
	}
	if q.D == sqltext.SQLite {
		return "CASE typeof(" + expr + ") WHEN 'blob' THEN '0x' || lower(hex(" + expr + ")) ELSE CAST(" + expr + " AS TEXT) END"
	}
	return "CAST(" + expr + " AS text)"
}

func (q *Query) sep(i int) *Query {
	if i > 0 {
		q.Add(", ")
	}
	return q
}

// Doubles is the query for the keys of target rows that have several source
// rows which give them different new values.
func Doubles(c *Change, r Range) *Query { return doubles(c, r, false) }

// DoublesShown is Doubles over the whole table with the least and the greatest of
// each column's new values, as text, and how many source rows there are.
func DoublesShown(c *Change) *Query { return doubles(c, Range{}, true) }

func doubles(c *Change, r Range, show bool) *Query {
	q := &Query{D: c.D}
	q.With(c, false).Add("SELECT ")
	keys := ""
	for i := range c.Table.Key.Columns {
		q.sep(i).Add(q.TextOf(c.Table.Key.Columns[i], "k"+itoa(i)))
		if i > 0 {
			keys += ", "
		}
		keys += "k" + itoa(i)
	}
	if show {
		for i, s := range c.Set {
			t := q.TextOf(s.Column, "n"+itoa(i))
			q.Add(", ", q.D.Own("min"), "(", t, "), ", q.D.Own("max"), "(", t, ")")
		}
		q.Add(", count(*)")
	}
	q.Add(" FROM (SELECT ")
	for i, k := range c.Table.Key.Columns {
		q.sep(i).Add(c.Ref, ".", c.D.Quote(k.Name), " AS k", itoa(i))
	}
	for i, s := range c.Set {
		q.Add(", ").NewValue(c, s).Add(" AS n", itoa(i))
	}
	q.Source(c, r).Add(") AS jugatum_s GROUP BY ", keys, " HAVING count(*) > 1 AND (1 = 0")
	for i := range c.Set {
		n := "n" + itoa(i)
		t := q.Text(n)
		q.Add(" OR min(", t, ") <> max(", t, ") OR ", q.D.Own("count"), "(", n, ") NOT IN (0, count(*))")
	}
	return q.Add(")")
}
