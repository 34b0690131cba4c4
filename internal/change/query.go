package change

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"jugatum/internal/sqltext"
)

// Query is SQL text being put together with the values bound to it.
type Query struct {
	D    Dialect
	text strings.Builder
	Args []any

	// param, if there is one, gives what is written in the place of a value: the query is
	// to become a part of a job's SQL, with parameters of its own.
	param func(v any) string
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
func (q *Query) Arg(v any, typ string) *Query { return q.Bound(q.D.BindAs(v, typ)) }

// Key binds a value of a key.
func (q *Query) Key(v any, c *Column) *Query { return q.Bound(q.D.BindKey(v, c)) }

// Bound appends a value that is bound.
func (q *Query) Bound(b Bound) *Query {
	if q.param != nil {
		return q.Add(q.param(b.Arg))
	}
	if bytes, ok := b.Arg.([]byte); ok && bytes == nil { // SQLite's driver gives no bytes as nil, and would bind that as NULL
		b.Arg = []byte{}
	}
	q.Args = append(q.Args, b.Arg)
	if q.D.Forms().Numbered {
		return q.Add(b.Before, "$", strconv.Itoa(len(q.Args)), b.After)
	}
	return q.Add(b.Before, "?", b.After)
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
		q.Bound(q.D.Bind(params[t.Name()]))
	}
	return q
}

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
// lie after hi.
func (q *Query) After(alias string, k *Key, lo KeyValue) *Query { return q.compare(alias, k, ">", lo) }

// Upto is the other end of After.
func (q *Query) Upto(alias string, k *Key, hi KeyValue) *Query { return q.compare(alias, k, "<=", hi) }

func (q *Query) compare(alias string, k *Key, op string, v KeyValue) *Query {
	own, one := commonOp(k.Columns, op)
	if len(k.Columns) == 1 || !one || !q.D.Forms().RowComparison { // a comparison of rows has one operator for all of its columns
		return q.expanded(alias, k.Columns, op, v)
	}
	q.Add("(").Columns(alias, k.Columns).Add(") ", own, " (")
	for i, c := range k.Columns {
		if i > 0 {
			q.Add(", ")
		}
		q.Key(v[i], c)
	}
	return q.Add(")")
}

// expanded compares a key column by column: a >= 1 AND (a > 1 OR a = 1 AND (b > 2)).
func (q *Query) expanded(alias string, cols []*Column, op string, v KeyValue) *Query {
	c, col := cols[0], alias+"."+q.D.Quote(cols[0].Name)
	is := func(op string) { q.D.KeyIs(q, c, col, op, v[0]) }
	if len(cols) == 1 {
		is(op)
		return q
	}
	strict := op[:1]
	is(strict + "=")
	q.Add(" AND (")
	is(strict)
	q.Add(" OR ")
	is("=")
	return q.Add(" AND (").expanded(alias, cols[1:], op, v[1:]).Add("))")
}

// KeyIs is what Dialect.KeyIs does where a value's text says which one it is: it compares.
func KeyIs(q *Query, c *Column, value, op string, v any) *Query {
	return q.Add(value, " ", c.Op(op), " ").Key(v, c)
}

// Range is a stretch of a table in key order: after Lo, up to and with Hi.
// A nil end is open; the zero value is the whole table. With a roster, it is a
// stretch of that instead: Lo and Hi are numbers in it.
type Range struct {
	Lo, Hi KeyValue
	Roster *Kept      // only its keys; nil without a roster
	Keys   []KeyValue // the rows with these keys, if not nil
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
	return q.Add(" AND ").is(alias, k, v)
}

// is appends the condition that the key is v.
func (q *Query) is(alias string, k *Key, v KeyValue) *Query {
	for i, c := range k.Columns {
		if i > 0 {
			q.Add(" AND ")
		}
		q.D.KeyIs(q, c, alias+"."+q.D.Quote(c.Name), "=", v[i])
	}
	return q
}

// Among appends the condition that the row's key is one of these.
func (q *Query) Among(alias string, k *Key, keys []KeyValue) *Query {
	if slices.ContainsFunc(k.Columns, func(c *Column) bool { return c.Instant }) { // whose texts cannot stand in a list
		q.Add("(")
		for i, key := range keys {
			if i > 0 {
				q.Add(" OR ")
			}
			q.is(alias, k, key)
		}
		return q.Add(")")
	}
	open, end := "", ""
	if len(k.Columns) > 1 {
		open, end = "(", ")"
	}
	q.Add(open).Columns(alias, k.Columns).Add(end, " IN (")
	for i, key := range keys {
		q.sep(i).Add(open)
		for j, c := range k.Columns {
			q.sep(j).Key(key[j], c)
		}
		q.Add(end)
	}
	return q.Add(")")
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
	keys := quotedNames(c.D, roster.Keys)
	return Numbering{Into: roster.Table, Names: keys, Values: keys, Order: keys}.Insert(c.D, c, func(q *Query) {
		q.Add("SELECT ")
		if !c.From.Empty() {
			q.Add("DISTINCT ")
		}
		q.AsKept(c, roster.Keys).Source(c, Range{})
	})
}

// Numbered lists the columns of a roster, its number first.
func (k *Kept) Numbered(d Dialect) string { return "seq, " + quotedNames(d, k.Keys) }

// AsKept appends columns of the row that a change is about, called as they are kept.
func (q *Query) AsKept(c *Change, columns []KeptColumn) *Query {
	for i, k := range columns {
		q.sep(i).Add(c.Ref, ".", q.D.Quote(k.Of.Name), " AS ", q.D.Quote(k.Name))
	}
	return q
}

// quotedNames lists columns of a kept-values table.
func quotedNames(d Dialect, columns []KeptColumn) string {
	names := make([]string, len(columns))
	for i, k := range columns {
		names[i] = d.Quote(k.Name)
	}
	return strings.Join(names, ", ")
}

// Numbering is how the rows of a query come into a table of ours, numbered.
type Numbering struct {
	Into   string // the table, as SQL text
	Names  string // of its columns besides the number, which is called Number
	Values string // for them, of what the query calls jugatum_s
	Where  string // which of its rows; empty: all
	Number string // "seq" if empty
	Order  string // by which they are numbered; empty: as they come
	Base   int64  // after which they are numbered; the table holds so many rows
}

// Insert is the statement that puts them there. c, if there is one, is the change whose own WITH
// list the query uses.
func (n Numbering) Insert(d Dialect, c *Change, query func(q *Query)) *Query {
	q := &Query{D: d}
	number, order := cmp.Or(n.Number, "seq")+", ", ""
	if n.Order != "" {
		order = " ORDER BY " + n.Order
	}
	if d.Forms().CountsUp {
		number = ""
	}
	q.Add("INSERT INTO ", n.Into, " (", number, n.Names, ") ")
	if c != nil {
		q.With(c, false)
	}
	q.Add("SELECT ")
	if number != "" {
		if n.Base > 0 {
			q.Arg(n.Base, "bigint").Add(" + ")
		}
		q.Add("row_number() OVER (", strings.TrimSpace(order), "), ")
	}
	q.Add(n.Values, " FROM (")
	query(q)
	q.Add(") AS jugatum_s")
	if n.Where != "" {
		q.Add(" WHERE ", n.Where)
	}
	if number == "" {
		q.Add(order)
	}
	return q
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
	q.Add(" WHERE 1 = 1")
	if c.enrolledAs != "" && r.Roster != nil {
		q.Add(" AND ", c.enrolledAs, ".seq > ").Arg(r.Lo[0], "bigint").Add(" AND ", c.enrolledAs, ".seq <= ").Arg(r.Hi[0], "bigint")
	} else {
		q.Range(c.Ref, c.Table.Key, r)
	}
	if k := c.lineRange(); k != nil && r.Keys == nil && r.Roster == nil {
		q.Range(c.Lookup.As, k, r)
	}
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
	before, after := q.D.Assign(s.Column)
	switch {
	case s.Literal != nil:
		return q.Bound(q.D.BindTo(*s.Literal, s.Column))
	case s.Default:
		return q.Add(before, cmp.Or(s.Column.Default, "NULL"), after)
	case s.Untyped:
		return q.Add(before).Fragment(s.Expr, c.Params).Add(after)
	}
	return q.Add("(").Fragment(s.Expr, c.Params).Add(")")
}

// NewText appends the new value of one assignment as text.
func (q *Query) NewText(c *Change, s Set) *Query {
	v := &Query{D: q.D, Args: q.Args} // placeholders go on counting
	v.NewValue(c, s)
	q.Args = v.Args
	return q.Add(q.D.Text(s.Column, v.String()))
}

// Statement appends the change as one statement with the range added. Like the
// author's own, it writes every row that matches, also where the new value is
// the old one.
func (q *Query) Statement(c *Change, r Range) *Query {
	q.With(c, false)
	if c.Verb == sqltext.Insert { // the other table may not be there yet
		return q.Add("SELECT 1").Source(c, r)
	}
	if q.D.Rules().TablesFirst {
		return q.tablesFirst(c, r)
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

// tablesFirst is Statement where the sources are named before SET, and an alias is known in
// a DELETE only in the form for several tables.
func (q *Query) tablesFirst(c *Change, r Range) *Query {
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
func (q *Query) Unchanged(col *Column, a, b string) *Query { return q.Add(q.D.Unchanged(col, a, b)) }

// Differs appends the condition that a new value, as SQL text of whatever type,
// would change the column's stored value b.
func (q *Query) Differs(col *Column, a, b string) *Query { return q.Add(q.D.Differs(col, a, b)) }

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
	// What is brought into a form on its way is compared as it comes, and need not fit its column.
	raw := c.Rewrite != nil && c.Rewrite.Follows
	q.With(c, false).Add("SELECT ")
	keys := ""
	for i := range c.Table.Key.Columns {
		q.sep(i).Add(q.D.Text(c.Table.Key.Columns[i], "k"+itoa(i)))
		if i > 0 {
			keys += ", "
		}
		keys += "k" + itoa(i)
	}
	if show {
		for i, s := range c.Set {
			for _, end := range []string{q.D.Own("min"), q.D.Own("max")} {
				n := "n" + itoa(i)
				switch {
				case raw:
					q.Add(", ", end, "(", q.D.Text(nil, n), ")")
				case s.Column.Class == Number: // as text 14 would come before 9
					q.Add(", ", q.D.Text(s.Column, end+"("+n+")"))
				default:
					q.Add(", ", end, "(", q.D.Text(s.Column, n), ")")
				}
			}
		}
		q.Add(", count(*)")
	}
	q.Add(" FROM (SELECT ")
	for i, k := range c.Table.Key.Columns {
		q.sep(i).Add(c.Ref, ".", c.D.Quote(k.Name), " AS k", itoa(i))
	}
	for i, s := range c.Set {
		s.Untyped = s.Untyped && !raw
		q.Add(", ").NewValue(c, s).Add(" AS n", itoa(i))
	}
	q.Source(c, r).Add(") AS jugatum_s GROUP BY ", keys, " HAVING count(*) > 1 AND (1 = 0")
	for i := range c.Set {
		n := "n" + itoa(i)
		t := q.D.Text(nil, n)
		q.Add(" OR min(", t, ") <> max(", t, ") OR ", q.D.Own("count"), "(", n, ") NOT IN (0, count(*))")
	}
	return q.Add(")")
}
