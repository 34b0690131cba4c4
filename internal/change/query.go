package change

import (
	"slices"
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
		q.Columns(alias, k.Columns).Add(" ", op, " ")
		return q.Arg(v[0], keyType(k.Columns[0]))
	}
	q.Add("(").Columns(alias, k.Columns).Add(") ", op, " (")
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
		q.Add(" AND ", alias, ".", q.D.Quote(c.Name), " = ")
		if q.D == sqltext.MariaDB {
			q.KeyArg(v[i], c)
		} else {
			q.Arg(v[i], keyType(c))
		}
	}
	return q
}

// enrolled appends the condition that the row's key stands in a stretch of the roster.
func (q *Query) enrolled(alias string, k *Key, r Range) *Query {
	q.Add(" AND (").Columns(alias, k.Columns).Add(") IN (SELECT ")
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
		q.Add(a, ".", q.D.Quote(c.Of.Name), " = ", k, ".", q.D.Quote(c.Name))
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
	q.Add("UPDATE ", c.TargetSQL(), " SET ")
	for i, s := range c.Set {
		q.sep(i).Add(c.D.Quote(s.Column.Name), " = ").NewValue(c, s)
	}
	if !c.From.Empty() {
		q.Add(" FROM ").Fragment(c.From, c.Params)
	}
	return q.Filter(c, r)
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
	return q.Add(a, " IS NOT DISTINCT FROM ", b)
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
	return q.Add(a, " IS DISTINCT FROM ", b)
}

// Restore is the statement that puts kept values back: rows seq in (from, to]
// whose present values are still the ones the run left. A deleted row is put
// back where its key is free.
func Restore(c *Change, kept *Kept, from, to int64) *Query {
	q := &Query{D: c.D}
	target := c.Table.SQL(c.D)
	if len(kept.New) == 0 {
		q.Add("INSERT INTO ", c.Table.NameSQL(c.D), " (")
		for i, o := range kept.Old {
			q.sep(i).Add(c.D.Quote(o.Of.Name))
		}
		q.Add(")")
		for _, col := range c.Table.Columns {
			if col.Identity {
				q.Add(" OVERRIDING SYSTEM VALUE")
				break
			}
		}
		q.Add(" SELECT ")
		for i, o := range kept.Old {
			q.sep(i).Add("k.", c.D.Quote(o.Name))
		}
		q.Add(" FROM ", kept.Table, " AS k WHERE ").seq(kept, from, to)
		q.Add(" AND NOT EXISTS (SELECT 1 FROM ", target, " AS jugatum_t WHERE ").KeyJoin("jugatum_t", "k", kept.AfterRun(c))
		return q.Add(")")
	}
	if q.D == sqltext.MariaDB {
		return q.restoreMariaDB(c, kept, from, to)
	}
	q.Add("UPDATE ", target, " AS jugatum_t SET ")
	for i, o := range kept.Old {
		q.sep(i).Add(c.D.Quote(o.Of.Name), " = k.", c.D.Quote(o.Name))
	}
	q.Add(" FROM ", kept.Table, " AS k WHERE ").seq(kept, from, to).Add(" AND ").KeyJoin("jugatum_t", "k", kept.AfterRun(c))
	for _, n := range kept.New {
		q.Add(" AND ").Unchanged(n.Of, "jugatum_t."+c.D.Quote(n.Of.Name), "k."+c.D.Quote(n.Name))
	}
	return q
}

// AfterRun is the kept layout by which a row is found once the run has changed
// it: a key column that the run assigned is looked for by its new value.
func (k *Kept) AfterRun(c *Change) *Kept {
	out := *k
	out.Keys = append([]KeptColumn(nil), k.Keys...)
	for i, key := range out.Keys {
		for _, n := range k.New {
			if n.Of == key.Of {
				out.Keys[i] = n
			}
		}
	}
	return &out
}

// State says what verify expects of the rows in a kept-values table.
type State int

const (
	AsChanged  State = iota // the new values; deleted rows gone
	AsRestored              // the old values; deleted rows back
)

// Astray is the query for the kept rows seq in (from, to] that are not in the
// given state: seq, the key, then for each kept column the value expected and
// the value found, all as text. A row that is gone has only NULL found, and
// the column "present" tells it from one that is there.
//
// shown says which values count as expected in the output: those of the state
// for verify; for an undo that left rows alone, those that the run had left.
func Astray(c *Change, kept *Kept, state, shown State, from, to int64, limit int) *Query {
	q := &Query{D: c.D}
	text := func(alias, name string, col *Column) string {
		return q.TextOf(col, alias+"."+c.D.Quote(name))
	}
	byKey := kept
	if state == AsChanged {
		byKey = kept.AfterRun(c)
	}
	present := "jugatum_t." + c.D.Quote(kept.Keys[0].Of.Name)
	want := kept.Values(state)
	if kept.Packed != "" {
		q.Add(anyDate)
	}
	q.Add("SELECT k.seq, CASE WHEN ", present, " IS NULL THEN 0 ELSE 1 END")
	for _, key := range kept.Keys {
		q.Add(", ", text("k", key.Name, key.Of))
	}
	for _, w := range kept.Values(shown) {
		q.Add(", ", text("k", w.Name, w.Of), ", ", text("jugatum_t", w.Of.Name, w.Of))
	}
	q.Add(" FROM ", kept.Table, " AS k LEFT JOIN ", c.Table.SQL(c.D), " AS jugatum_t ON ").KeyJoin("jugatum_t", "k", byKey)
	q.Add(" WHERE ").seq(kept, from, to).Add(" AND ")
	if len(kept.New) == 0 && state == AsChanged {
		q.Add(present, " IS NOT NULL")
	} else {
		q.Add("(", present, " IS NULL")
		for _, w := range want {
			q.Add(" OR NOT (").Unchanged(w.Of, "jugatum_t."+c.D.Quote(w.Of.Name), "k."+c.D.Quote(w.Name)).Add(")")
		}
		q.Add(")")
	}
	return q.Add(" ORDER BY k.seq LIMIT ", itoa(limit))
}

// Values are the columns that hold a state's values.
func (k *Kept) Values(s State) []KeptColumn {
	if s == AsChanged && len(k.New) > 0 {
		return k.New
	}
	return k.Old
}

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

// seq appends the condition that the kept row is one of those after from, up to
// to. Where they are packed, it says as well in which packs they are.
func (q *Query) seq(kept *Kept, from, to int64) *Query {
	q.Add("k.seq > ").Arg(from, "bigint").Add(" AND k.seq <= ").Arg(to, "bigint")
	if kept.Packed != "" {
		q.Add(" AND k.packed_to > ").Arg(from, "bigint").Add(" AND k.packed_to < ").Arg(AddInt(to, PackedRows), "bigint")
	}
	return q
}

// Vanished is the query for the first of the kept rows after from, up to to, that
// is not found by the key that it had: that key, each column as text.
func Vanished(c *Change, kept *Kept, from, to int64) *Query {
	q := &Query{D: c.D}
	if kept.Packed != "" {
		q.Add(anyDate)
	}
	q.Add("SELECT ")
	for i, k := range kept.Keys {
		q.sep(i).Add(q.TextOf(k.Of, "k."+c.D.Quote(k.Name)))
	}
	q.Add(" FROM ", kept.Table, " AS k WHERE ").seq(kept, from, to)
	if c.D == sqltext.PostgreSQL { // where other workers' rows may be numbered in between, and deleted by now
		q.Add(" AND age(k.xmin) <= age(CAST(pg_current_xact_id() AS xid))")
	}
	return q.Add(" AND NOT EXISTS (SELECT 1 FROM ", c.Table.SQL(c.D), " AS jugatum_t WHERE ").KeyJoin("jugatum_t", "k", kept).Add(") LIMIT 1")
}

// Refresh is the statement that has the kept rows after from, up to to, hold the
// new values that the table has now: a trigger may have changed them once more
// after the row was written.
func Refresh(c *Change, kept *Kept, from, to int64) *Query {
	q := &Query{D: c.D}
	q.Add("UPDATE ", kept.Table, " AS k SET ")
	for i, n := range kept.New {
		q.sep(i).Add(c.D.Quote(n.Name), " = jugatum_t.", c.D.Quote(n.Of.Name))
	}
	q.Add(" FROM ", c.Table.SQL(c.D), " AS jugatum_t WHERE ").seq(kept, from, to).Add(" AND ").KeyJoin("jugatum_t", "k", kept).Add(" AND NOT (1 = 1")
	for _, n := range kept.New {
		q.Add(" AND ").Unchanged(n.Of, "jugatum_t."+c.D.Quote(n.Of.Name), "k."+c.D.Quote(n.Name))
	}
	return q.Add(")")
}

// ForgetUnchanged is the statement that drops those of the kept rows after from,
// up to to, whose new values are the old ones.
func ForgetUnchanged(c *Change, kept *Kept, from, to int64) *Query {
	q := &Query{D: c.D}
	q.Add("DELETE FROM ", kept.Table, " AS k WHERE ").seq(kept, from, to)
	for i, n := range kept.New {
		if !c.Set[i].Implicit {
			q.Add(" AND ").Unchanged(n.Of, "k."+c.D.Quote(n.Name), "k."+c.D.Quote(kept.Old[i].Name))
		}
	}
	return q
}

// Interferes reports whether a trigger fires for the rows of the change, and so
// may keep some of them from changing.
func (c *Change) Interferes() bool {
	return c.Triggered() || c.Verb == sqltext.Delete && slices.ContainsFunc(c.Table.Triggers, func(t Trigger) bool { return t.Delete })
}

// Missed is the query for how many rows match, would change, and are not among
// those kept. more appends a further condition for the row of that alias.
func Missed(c *Change, kept *Kept, more func(q *Query, alias string)) *Query {
	q := &Query{D: c.D}
	q.With(c, false).Add("SELECT count(*) FROM (SELECT DISTINCT ").Columns(c.Ref, c.Table.Key.Columns).Source(c, Range{})
	if c.Verb == sqltext.Update {
		q.Changing(c)
	}
	more(q, c.Ref)
	if q.D != sqltext.PostgreSQL { // these make a list of them once; they would go through all of them for every row otherwise
		q.Add(" AND (").Columns(c.Ref, c.Table.Key.Columns).Add(") NOT IN (SELECT ")
		for i, k := range kept.Keys {
			q.sep(i).Add("k.", c.D.Quote(k.Name))
		}
		return q.Add(" FROM ", kept.Table, " AS k)) AS jugatum_s")
	}
	return q.Add(" AND NOT EXISTS (SELECT 1 FROM ", kept.Table, " AS k WHERE ").KeyJoin(c.Ref, "k", kept).Add(")) AS jugatum_s")
}

// ChangedTwice is the query for how many rows are kept more than once.
func ChangedTwice(c *Change, kept *Kept) *Query {
	q := &Query{D: c.D}
	names := ""
	for i, k := range kept.Keys {
		if i > 0 {
			names += ", "
		}
		names += c.D.Quote(k.Name)
	}
	return q.Add("SELECT count(*) FROM (SELECT 1 FROM ", kept.Table, " AS k GROUP BY ", names, " HAVING count(*) > 1) AS jugatum_s")
}

// CountKept is the query for how many kept rows there are after from, up to to.
func CountKept(d sqltext.Dialect, kept *Kept, from, to int64) *Query {
	q := &Query{D: d}
	if kept.Packed == "" {
		return q.Add("SELECT count(*) FROM ", kept.Table, " AS k WHERE ").seq(kept, from, to)
	}
	q.Add("SELECT CAST(coalesce(sum(least(last, ").Arg(to, "bigint").Add(") - greatest(first, ").Arg(from, "bigint")
	return q.Add(")), 0) AS SIGNED) FROM ", kept.Packed, " WHERE last > ").Arg(from, "bigint").Add(" AND first < ").Arg(to, "bigint")
}

// NextKept is the query for the number before that of the first kept row after
// from; it gives NULL or nothing if there is none.
func NextKept(d sqltext.Dialect, kept *Kept, from int64) *Query {
	q := &Query{D: d}
	if kept.Packed == "" {
		return q.Add("SELECT min(seq) - 1 FROM ", kept.Table, " WHERE seq > ").Arg(from, "bigint")
	}
	q.Add("SELECT greatest(first, ").Arg(from, "bigint")
	return q.Add(") FROM ", kept.Packed, " WHERE last > ").Arg(from, "bigint").Add(" ORDER BY last LIMIT 1")
}

// KeptNumbers is the query for the numbers of the kept rows after from, up to to,
// the last first.
func KeptNumbers(d sqltext.Dialect, kept *Kept, from, to int64) *Query {
	q := &Query{D: d}
	return q.Add("SELECT k.seq FROM ", kept.Table, " AS k WHERE ").seq(kept, from, to).Add(" ORDER BY k.seq DESC")
}

// PreviousKept is the query for the number of the last kept row up to to; it
// gives NULL or nothing if there is none.
func PreviousKept(d sqltext.Dialect, kept *Kept, to int64) *Query {
	q := &Query{D: d}
	if kept.Packed == "" {
		return q.Add("SELECT max(seq) FROM ", kept.Table, " WHERE seq <= ").Arg(to, "bigint")
	}
	q.Add("SELECT least(last, ").Arg(to, "bigint")
	return q.Add(") FROM ", kept.Packed, " WHERE first < ").Arg(to, "bigint").Add(" ORDER BY last DESC LIMIT 1")
}

func (q *Query) sep(i int) *Query {
	if i > 0 {
		q.Add(", ")
	}
	return q
}

// Doubles is the query for the keys of target rows that have several source
// rows which give them different new values.
func Doubles(c *Change, r Range) *Query {
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
		q.Add(" OR min(", t, ") <> max(", t, ") OR count(", n, ") NOT IN (0, count(*))")
	}
	return q.Add(")")
}
