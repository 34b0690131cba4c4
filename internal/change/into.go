package change

import (
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/sqltext"
)

// Into is where the rows go that a change takes out of its table. They are told
// there by the key that they have in the table that they come from.
type Into struct {
	Table   *Table
	Make    bool      // it is not there yet: the run makes it
	Copied  bool      // the rows stay in their own table as well
	Cleared bool      // a change before this one deletes rows there that have the same keys
	Pairs   []Pair    // columns that are in both
	Key     []*Column // of Table, for each column of the key of the rows' own table
	Lost    []string  // columns of the rows' own table that Table has not
	Own     []string  // columns that only Table has, which hold what the database puts there
}

// Pair is a column of a row's own table, by its name, and the one it goes to.
type Pair struct {
	From string
	To   *Column
}

// NewInto pairs the columns of two tables by their names.
func NewInto(from, to *Table, make bool) *Into {
	x := &Into{Table: to, Make: make}
	for _, c := range from.Stored() {
		if t := to.Named(c.Name); t != nil && !t.Generated {
			x.Pairs = append(x.Pairs, Pair{c.Name, t})
		} else {
			x.Lost = append(x.Lost, c.Name)
		}
	}
	for _, c := range from.Key.Columns {
		x.Key = append(x.Key, to.Named(c.Name))
	}
	for _, c := range to.Columns {
		if from.Named(c.Name) == nil && !c.Generated {
			x.Own = append(x.Own, c.Name)
		}
	}
	return x
}

// Check says why rows of a table cannot go into the other one, nil if they can.
func (x *Into) Check(from *Table) error {
	if from.Tree != 0 && from.Tree == x.Table.Tree {
		return fmt.Errorf("%s and %s are parts of one partitioned table: a row lies where its values say", from, x.Table)
	}
	var key []string
	for i, c := range from.Key.Columns {
		if x.Key[i] == nil || x.Key[i].Generated {
			return fmt.Errorf("%s has no column %s to take up the key of %s", x.Table, c.Name, from)
		}
		if x.Key[i].Collation != c.Collation {
			return fmt.Errorf("the keys %s.%s and %s.%s have other collations, %s and %s, and could be taken for one another: make them the same", from, c.Name, x.Table, c.Name, named(c.Collation), named(x.Key[i].Collation))
		}
		key = append(key, x.Key[i].Name)
	}
	if !x.Table.Unique(key...) {
		return fmt.Errorf("%s has no unique key over (%s), by which the rows that are moved could be told from those that are there: add one", x.Table, strings.Join(key, ", "))
	}
	for _, c := range from.Columns {
		if to := x.Table.Named(c.Name); c.Generated && to != nil && !to.Generated {
			return fmt.Errorf("%s.%s is computed by the database and %s.%s is not: it would be left empty; let it be computed there as well, or drop it", from, c.Name, x.Table, c.Name)
		}
	}
	return nil
}

// named is a collation's name, also where it is that of the database.
func named(collation string) string {
	if collation == "" {
		return "the default"
	}
	return collation
}

// Unique reports whether no two rows have the same values in these columns, by what
// the catalogue says.
func (t *Table) Unique(columns ...string) bool {
	same := func(names []string) bool {
		return len(names) == len(columns) && !slices.ContainsFunc(names, func(n string) bool { return !slices.Contains(columns, n) })
	}
	return t.Key != nil && same(t.Key.Names()) || slices.ContainsFunc(t.Indexes, func(x Index) bool { return x.Unique && !x.Partial && !x.Finer && !x.Invalid && same(x.Columns) })
}

// Like is a table of another name with the same stored columns and the same key,
// and nothing else of this one.
func (t *Table) Like(name TableName) *Table {
	out := &Table{Schema: name.Schema, Name: name.Name, Strict: t.Strict, Bytes: -1}
	for _, c := range t.Stored() {
		x := *c
		x.Identity, x.OnUpdate, x.Default = false, "", ""
		out.Columns = append(out.Columns, &x)
	}
	if t.Key != nil {
		key := *t.Key
		key.Name, key.Columns = "primary key", nil
		for _, c := range t.Key.Columns {
			key.Columns = append(key.Columns, out.Named(c.Name))
		}
		out.Key = &key
	}
	return out
}

// landed is how a row is found in the other table, once it was moved: a change of that
// table, and its kept values, of which the new ones are the old ones here.
func (c *Change) landed(kept *Kept) (*Change, *Kept) {
	there := &Change{Step: c.Step, D: c.D, Table: c.Into.Table, Ref: c.D.Quote(c.Into.Table.Name)}
	k := &Kept{Table: kept.Table, Packed: kept.Packed}
	for i, key := range kept.Keys {
		k.Keys = append(k.Keys, KeptColumn{key.Name, c.Into.Key[i]})
	}
	for _, o := range kept.Old {
		if to := c.Into.to(o.Of.Name); to != nil {
			k.New = append(k.New, KeptColumn{o.Name, to})
		}
	}
	return there, k
}

// to is the column of the other table that one of the row's own goes to, nil if none.
func (x *Into) to(from string) *Column {
	for _, p := range x.Pairs {
		if p.From == from {
			return p.To
		}
	}
	return nil
}

// Landed is the other table's side of a move, to be held against the table with
// Mismatched: after the run each row is there with its values, after an undo it is gone.
func (c *Change) Landed(kept *Kept, s State) (*Change, *Kept, State) {
	there, k := c.landed(kept)
	if s == AsRestored { // as it is with rows that were deleted
		k.Old, k.New, s = k.New, nil, AsChanged
	}
	return there, k, s
}

// Head appends the beginning of the statement that puts rows into the other table. The
// values of Pairs follow, in their order.
func (x *Into) Head(q *Query) *Query {
	q.Add("INSERT ", x.Table.Or(), "INTO ", x.Table.NameSQL(q.D), " (")
	identity := false
	for i, p := range x.Pairs {
		q.sep(i).Add(q.D.Quote(p.To.Name))
		identity = identity || p.To.Identity
	}
	q.Add(")")
	if identity {
		q.Add(" OVERRIDING SYSTEM VALUE")
	}
	return q
}

// Put is the statement that puts the kept rows after from, up to to, into the other
// table.
func Put(c *Change, kept *Kept, from, to int64) *Query {
	q := &Query{D: c.D}
	c.Into.Head(q).Add(" SELECT ")
	for i, p := range c.Into.Pairs {
		for _, o := range kept.Old {
			if o.Of.Name == p.From {
				q.sep(i).Add("k.", q.D.Quote(o.Name))
			}
		}
	}
	return q.Add(" FROM ", kept.Table, " AS k WHERE ").seq(kept, from, to)
}

// Take is the statement that puts the rows of a range that match into the other table,
// from where they are.
func Take(c *Change, r Range) *Query {
	q := &Query{D: c.D}
	c.Into.Head(q).Add(" SELECT ")
	for i, p := range c.Into.Pairs {
		q.sep(i).Add(c.Ref, ".", q.D.Quote(p.From))
	}
	return q.Source(c, r)
}

// same appends that a row of the other table, jugatum_i, is the one kept in k as it came, and that
// nobody has done anything with it since. deleted: by a join that deletes it.
func (q *Query) same(c *Change, landed *Kept, deleted bool) *Query {
	q.KeyJoin("jugatum_i", "k", landed)
	for _, n := range landed.New {
		q.Add(" AND ").Unchanged(n.Of, "jugatum_i."+q.D.Quote(n.Of.Name), "k."+q.D.Quote(n.Name))
	}
	// By these alone a planner may expect hardly any row, where its statistics are older than the rows
	// that came, and would then go through all of those for each batch: so it must not ask them first.
	for _, s := range c.Into.settled(q.D) {
		q.Add(" AND CASE WHEN k.seq IS NULL THEN 1 = 0 ELSE NOT (").Differs(s.Column, s.value, "jugatum_i."+q.D.Quote(s.Column.Name)).Add(") END")
	}
	for _, fk := range c.Into.Taken() {
		if deleted && fk.Own(c.Into.Table) { // no sub-query may read what is deleted from: see childless
			continue
		}
		q.Add(" AND NOT EXISTS (SELECT 1 FROM ", fk.FromSQL(q.D), " AS jugatum_r WHERE ").Refers(c.Into.Table, fk, "jugatum_i", "jugatum_r").Add(")")
	}
	return q
}

// childless appends, to a list of tables that are joined, rows of the other table that refer to
// jugatum_i, and to the condition that follows, that there are none.
func (q *Query) childless(c *Change) (condition string) {
	for i, fk := range c.Into.Taken() {
		if fk.Own(c.Into.Table) {
			r := "jugatum_r" + itoa(i)
			q.Add(" LEFT JOIN ", fk.FromSQL(q.D), " AS ", r, " ON ").Refers(c.Into.Table, fk, "jugatum_i", r)
			condition += " AND " + r + "." + q.D.Quote(fk.Columns[0]) + " IS NULL"
		}
	}
	return condition
}

// Refers appends that a row, child, refers by a foreign key to one of t, parent.
func (q *Query) Refers(t *Table, fk ForeignKey, parent, child string) *Query {
	for i, column := range fk.Columns {
		if i > 0 {
			q.Add(" AND ")
		}
		op := "="
		if c := t.Named(fk.Parent[i]); c != nil {
			op = c.Op(op)
		}
		// SQLite compares by the collation of what stands on the left.
		q.Add(parent, ".", q.D.Quote(fk.Parent[i]), " ", op, " ", child, ".", q.D.Quote(column))
	}
	return q
}

// Taken are the references from rows that the database would delete, or take their reference from, with
// a row of the other table.
func (x *Into) Taken() (out []ForeignKey) {
	for _, fk := range x.Table.ReferredBy {
		if Follows(fk.OnDelete) {
			out = append(out, fk)
		}
	}
	return out
}

// Takes reports whether the database would change other rows with one of the other table that is taken
// out again, and whether those could be of that table itself.
func (x *Into) Takes() (takes, within bool) {
	refs := x.Taken()
	return len(refs) > 0, slices.ContainsFunc(refs, func(fk ForeignKey) bool { return fk.Own(x.Table) })
}

// settled is a column and the literal that it holds in every row that came.
type settled struct {
	*Column
	value string
}

// settled are those columns that only the other table has of which it is known what the database puts
// there, and that nothing else has a say in.
func (x *Into) settled(d Dialect) (out []settled) {
	if slices.ContainsFunc(x.Table.Triggers, func(t Trigger) bool { return t.Insert }) {
		return nil
	}
	for _, name := range x.Own {
		c := x.Table.Named(name)
		value, ok := "NULL", !c.NotNull
		if c.Default != "" {
			value, ok = literal(d, c.Default)
		}
		if ok && !c.Identity {
			out = append(out, settled{c, value})
		}
	}
	return out
}

// Since is the query for what somebody has done since with rows that were put into the other table, for
// those kept after from, up to to, that are there: the number of each; for each of the columns told the text that it
// held when it came, and the one that it holds now if that is another; and for each reference told whether rows refer to
// it by that. Nil if nothing of the kind is known.
func Since(c *Change, kept *Kept, from, to int64) (q *Query, columns []*Column, refs []ForeignKey) {
	own, refs := c.Into.settled(c.D), c.Into.Taken()
	if len(own)+len(refs) == 0 {
		return nil, nil, nil
	}
	_, landed := c.landed(kept)
	q = &Query{D: c.D}
	q.Add(c.D.Settings(kept.Packed != "")).Add("SELECT k.seq")
	for _, s := range own {
		now := "jugatum_i." + c.D.Quote(s.Name)
		q.Add(", ", q.D.Text(s.Column, s.value), ", CASE WHEN ").Differs(s.Column, s.value, now).Add(" THEN coalesce(", q.D.Text(s.Column, now), ", 'NULL') END")
		columns = append(columns, s.Column)
	}
	for _, fk := range refs {
		q.Add(", CASE WHEN EXISTS (SELECT 1 FROM ", fk.FromSQL(q.D), " AS jugatum_r WHERE ").Refers(c.Into.Table, fk, "jugatum_i", "jugatum_r").Add(") THEN 'yes' END")
	}
	q.Add(" FROM ", kept.Table, " AS k JOIN ", c.Into.Table.SQL(c.D), " AS jugatum_i ON ").KeyJoin("jugatum_i", "k", landed)
	return q.Add(" WHERE ").seq(kept, from, to), columns, refs
}

// literal is the number, text or boolean that a default is, without the type that PostgreSQL
// writes behind it, which anybody may have made; false if it is anything else.
func literal(d Dialect, expr string) (value string, ok bool) {
	tokens, err := sqltext.Lex(d, expr)
	if err != nil {
		return "", false
	}
	for len(tokens) > 0 && (tokens[0].Text == "-" || tokens[0].Text == "+") && tokens[0].Kind == sqltext.Op {
		value, tokens = value+tokens[0].Text, tokens[1:]
	}
	if len(tokens) == 0 || len(tokens) > 1 && tokens[1].Text != "::" {
		return "", false
	}
	t := tokens[0]
	plain := t.Kind == sqltext.String && strings.HasPrefix(t.Text, "'") || t.Kind == sqltext.Number || t.Is("NULL") || t.Is("TRUE") || t.Is("FALSE")
	return value + t.Text, plain
}

// Hold is the query that locks those rows of the other table that are still as they
// were moved, for the kept rows after from, up to to; without locks where a
// transaction has the database to itself.
func Hold(c *Change, kept *Kept, from, to int64) *Query {
	there, landed := c.landed(kept)
	q := &Query{D: c.D}
	q.Add("SELECT count(*) FROM (SELECT 1 FROM ", kept.Table, " AS k JOIN ", there.Table.SQL(c.D), " AS jugatum_i ON ").same(c, landed, false)
	q.Add(" WHERE ").seq(kept, from, to)
	return q.Add(c.D.ForUpdate("jugatum_i"), ") AS jugatum_s")
}

// Withdraw is the statement that takes rows out of the other table again that are back
// in their own, as far as they are still as they were moved: the kept rows after from,
// up to to.
func Withdraw(c *Change, kept *Kept, from, to int64) *Query {
	there, landed := c.landed(kept)
	q := &Query{D: c.D}
	table := there.Table.SQL(c.D)
	back := func() *Query {
		q.KeyJoin("jugatum_t", "k", kept)
		for _, o := range kept.Old {
			q.Add(" AND ").Unchanged(o.Of, "jugatum_t."+c.D.Quote(o.Of.Name), "k."+c.D.Quote(o.Name))
		}
		return q
	}
	switch c.D.Forms().By {
	case ByJoin:
		q.Add("DELETE jugatum_i FROM ", kept.Table, " AS k STRAIGHT_JOIN ", table, " AS jugatum_i ON ").same(c, landed, true)
		q.Add(" STRAIGHT_JOIN ", c.Table.SQL(c.D), " AS jugatum_t ON ")
		back()
		none := q.childless(c)
		q.Add(" WHERE ").seq(kept, from, to).Add(none)
	case ByUsing:
		q.Add("DELETE FROM ", table, " AS jugatum_i USING ", kept.Table, " AS k, ", c.Table.SQL(c.D), " AS jugatum_t WHERE ").seq(kept, from, to)
		q.Add(" AND ").same(c, landed, false).Add(" AND ")
		back()
	default:
		q.Add("DELETE FROM ", table, " WHERE ").amongQuery(there.Ref, c.Into.Key).Add("(SELECT ").Columns("jugatum_i", c.Into.Key)
		q.Add(" FROM ", kept.Table, " AS k JOIN ", table, " AS jugatum_i ON ").same(c, landed, false)
		q.Add(" JOIN ", c.Table.SQL(c.D), " AS jugatum_t ON ")
		back().Add(" WHERE ").seq(kept, from, to).Add(")")
	}
	return q
}

// Uncopy is the statement that takes rows out of the other table again that were put there
// as well, as far as they are still as they were: the kept rows after from, up to to.
func Uncopy(c *Change, kept *Kept, from, to int64) *Query {
	there, landed := c.landed(kept)
	q := &Query{D: c.D}
	table := there.Table.SQL(c.D)
	switch c.D.Forms().By {
	case ByJoin:
		q.Add("DELETE jugatum_i FROM ", kept.Table, " AS k STRAIGHT_JOIN ", table, " AS jugatum_i ON ").same(c, landed, true)
		none := q.childless(c)
		q.Add(" WHERE ").seq(kept, from, to).Add(none)
	case ByUsing:
		q.Add("DELETE FROM ", table, " AS jugatum_i USING ", kept.Table, " AS k WHERE ").seq(kept, from, to).Add(" AND ").same(c, landed, false)
	default:
		q.Add("DELETE FROM ", table, " WHERE ").amongQuery(there.Ref, c.Into.Key).Add("(SELECT ").Columns("jugatum_i", c.Into.Key)
		q.Add(" FROM ", kept.Table, " AS k JOIN ", table, " AS jugatum_i ON ").same(c, landed, false).Add(" WHERE ").seq(kept, from, to).Add(")")
	}
	return q
}

// still appends to Restore that a row is put back only where it is still as it was
// moved in the other table.
func (q *Query) still(c *Change, kept *Kept) *Query {
	if c.Into == nil {
		return q
	}
	there, landed := c.landed(kept)
	return q.Add(" AND EXISTS (SELECT 1 FROM ", there.Table.SQL(c.D), " AS jugatum_i WHERE ").same(c, landed, false).Add(")")
}

// SameKeys is the query for the numbers of those kept rows after from, up to to, of which
// the other kept rows have the same key in one table. keys and otherKeys are the columns
// of that table in which the keys of both stand.
func SameKeys(d Dialect, kept *Kept, keys []*Column, other *Kept, otherKeys []*Column, from, to int64) *Query {
	q := &Query{D: d}
	q.Add("SELECT k.seq FROM ", kept.Table, " AS k WHERE ").seq(kept, from, to)
	var cols []*Column
	for i, k := range kept.Keys {
		cols = append(cols, &Column{Name: k.Name, Operators: keys[i].Operators})
	}
	q.Add(" AND ").amongQuery("k", cols).Add("(SELECT ")
	for i, key := range keys {
		for j, o := range otherKeys {
			if o.Name == key.Name {
				q.sep(i).Add("m.", d.Quote(other.Keys[j].Name))
			}
		}
	}
	return q.Add(" FROM ", other.Table, " AS m)")
}

// Present is the query for the keys, as text, of rows that match and are in the other
// table already.
func Present(c *Change) *Query {
	q := &Query{D: c.D}
	q.With(c, false).Add("SELECT ")
	for i, k := range c.Table.Key.Columns {
		q.sep(i).Add(q.D.Text(k, c.Ref+"."+c.D.Quote(k.Name)))
	}
	q.Source(c, Range{}).Add(" AND EXISTS (SELECT 1 FROM ", c.Into.Table.NameSQL(c.D), " AS jugatum_i WHERE ")
	for i, k := range c.Table.Key.Columns {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add("jugatum_i.", c.D.Quote(c.Into.Key[i].Name), " ", k.Op("="), " ", c.Ref, ".", c.D.Quote(k.Name))
	}
	return q.Add(")")
}
