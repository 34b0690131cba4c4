package change

import (
	"errors"
	"slices"
	"strings"

	"jugatum/internal/sqltext"
)

// Merge is what a change does that makes one row of several which mean the same: of each group
// one row stays, and the others go. Which these are is written down before, in a table of ours:
// a row for each that goes, with the key of the one that stays, group by group, numbered.
type Merge struct {
	List    *List     // that table
	Table   *Table    // whose rows are merged
	By      []*Column // in which the rows of a group are the same
	Watched []*Column // whose values are written down: By, and those besides the key to which others refer
	SameAs  string    // when texts are the same, as the step says it
	Nulls   bool      // NULL is the same as NULL
	Filter  string    // the step's own, which every row of a group meets
	Fill    bool      // what is missing in the row that stays is taken from those that go, in their order
	Refers  []Reference
}

// Reference is a reference from another table to rows that go.
type Reference struct {
	Table    *Table
	Columns  []*Column // that refer
	Parent   []*Column // of the rows that go, to which they refer
	Declared bool      // as a foreign key

	// Uniques are the columns of each unique index of the table over columns that refer. Drop
	// says that a row which would have the same values in one of them as another is deleted.
	Uniques [][]*Column
	Drop    bool
}

// Name is what a reference is called in messages: "visit (vessel_id)".
func (r *Reference) Name() string {
	var names []string
	for _, c := range r.Columns {
		names = append(names, c.Name)
	}
	return r.Table.String() + " (" + strings.Join(names, ", ") + ")"
}

// MergeNth is the column that says which of those of its group that go a row is, from 1.
const MergeNth = "nth"

// goes and stays are the names of the columns that hold a column's value in the row that goes and
// in the one that stays.
func (m *Merge) goes(col *Column) string { return m.named("k", "v", col) }
func (m *Merge) stays(col *Column) string {
	if slices.Contains(m.exactly(), col) && !slices.Contains(m.keys(), col) {
		return m.goes(col)
	}
	return m.named("s", "w", col)
}

// exactly are the columns in which the rows of a group are the same to the byte, so that the value in
// the one that stays need not be written down beside that in the others.
func (m *Merge) exactly() (out []*Column) {
	for _, c := range m.By {
		if c.Class == Text && m.SameAs == "exact" {
			out = append(out, c)
		}
	}
	return out
}

func (m *Merge) named(key, watched string, col *Column) string {
	if i := slices.Index(m.keys(), col); i >= 0 {
		return key + itoa(i)
	}
	return watched + itoa(slices.Index(m.Watched, col))
}

func (m *Merge) keys() []*Column { return m.Table.Key.Columns }

// Layout is the table of rows that go, as it is made.
func (m *Merge) Layout(d Dialect) *Table {
	t := &Table{Schema: m.List.Table.Schema, Name: m.List.Table.Name, Strict: m.Table.Strict}
	types := d.Types()
	seq := &Column{Name: "seq", Type: types.Int, NotNull: true}
	t.Key = &Key{Name: "primary key", Columns: []*Column{seq}, Integer: true}
	t.Columns = append(t.Columns, seq)
	exactly := m.exactly()
	add := func(prefix string, cols []*Column) {
		for i, c := range cols {
			if prefix == "w" && slices.Contains(exactly, c) {
				continue
			}
			x := *c
			x.Name = prefix + itoa(i)
			x.Identity, x.Generated, x.OnUpdate, x.Default, x.NotNull = false, false, "", "", false
			t.Columns = append(t.Columns, &x)
		}
	}
	add("k", m.keys())
	add("s", m.keys())
	add("v", m.Watched)
	add("w", m.Watched)
	t.Columns = append(t.Columns, &Column{Name: MergeNth, Type: types.Int})
	return t
}

// Indexes lists the columns of each index that the table of rows that go has besides its key: what
// rows are found by, those that stay, and what others refer to.
func (m *Merge) Indexes() [][]string {
	own := func(prefix string) (names []string) {
		for i := range m.keys() {
			names = append(names, prefix+itoa(i))
		}
		return names
	}
	out := [][]string{own("k"), append(own("s"), MergeNth)}
	for _, r := range m.Refers {
		var names []string
		for _, c := range r.Parent {
			names = append(names, m.goes(c))
		}
		if !slices.ContainsFunc(out, func(x []string) bool { return slices.Equal(x, names) }) {
			out = append(out, names)
		}
	}
	return out
}

// Roster is the table of rows that go as a list of keys.
func (m *Merge) Roster() *Kept {
	k := &Kept{Table: m.List.SQL}
	for i, c := range m.keys() {
		k.Keys = append(k.Keys, KeptColumn{"k" + itoa(i), c})
	}
	return k
}

// Groups is the statement that finds the groups and writes down the rows that go, in into, a
// table of that layout. order is by which the rows of a group come, the one that stays first; rows
// is where they come from, an item of a FROM list in which ref stands for the table; and apart what
// tells one group from another, as expressions. extra is a further condition.
func (m *Merge) Groups(d Dialect, into, rows, ref string, order sqltext.Fragment, apart []string, extra string, params map[string]Value, where sqltext.Fragment) *Query {
	q := &Query{D: d}
	var columns []string
	for _, c := range m.Layout(d).Columns[1:] { // without the number
		columns = append(columns, c.Name)
	}
	values := strings.Join(columns[:len(columns)-1], ", ")
	q.Add("INSERT INTO ", into, " (seq, ", values, ", ", MergeNth, ") SELECT row_number() OVER (ORDER BY ", strings.Join(numberedNames("s", m.keys()), ", "), ", ", MergeNth, "), ", values, ", ", MergeNth, " - 1 FROM (SELECT ")
	first := d.Own("first_value")
	for _, x := range []struct {
		prefix, before, after string
		cols                  []*Column
	}{{"k", "", "", m.keys()}, {"s", first + "(", ") OVER jugatum_w", m.keys()}, {"v", "", "", m.Watched}, {"w", first + "(", ") OVER jugatum_w", m.Watched}} {
		for i, c := range x.cols {
			if name := x.prefix + itoa(i); slices.Contains(columns, name) {
				q.Add(x.before, ref, ".", d.Quote(c.Name), x.after, " AS ", name, ", ")
			}
		}
	}
	q.Add("row_number() OVER jugatum_w AS ", MergeNth)
	q.Add(" FROM ", rows, " WHERE 1 = 1", extra)
	if !where.Empty() {
		q.Add(" AND (").Fragment(where, params).Add(")")
	}
	q.Add(" WINDOW jugatum_w AS (PARTITION BY ", strings.Join(apart, ", "), " ORDER BY ")
	if !order.Empty() {
		q.Fragment(order, params).Add(", ")
	}
	return q.Columns(ref, m.keys()).Add(")) AS jugatum_g WHERE ", MergeNth, " > 1")
}

func numberedNames(prefix string, cols []*Column) (names []string) {
	for i := range cols {
		names = append(names, prefix+itoa(i))
	}
	return names
}

// Condition is the filter, as SQL text, of the rows that go: each is still what it was when it was
// written down, and so is the one that stays.
func (m *Merge) Condition(d Dialect, ref string) string {
	return "EXISTS (SELECT 1 FROM " + m.List.SQL + " AS jugatum_m WHERE " + m.same(d, ref, m.goes) + m.unchanged(d, ref, m.goes, false) + " AND " + m.staysThere(d) + ")"
}

// staysThere is the condition that the row that stays is there, beside a row of the list.
func (m *Merge) staysThere(d Dialect) string {
	name := d.Quote(m.Table.Name)
	text := "EXISTS (SELECT 1 FROM " + m.Table.SQL(d) + " WHERE " + m.same(d, name, m.stays) + m.unchanged(d, name, m.stays, true)
	if m.asksStays(d) {
		text += " AND (" + m.Filter + ")"
	}
	return text + ")"
}

// same is the condition that a row has the key that is written down, and unchanged, " AND …", that it
// has the values.
func (m *Merge) same(d Dialect, ref string, name func(*Column) string) string {
	var all []string
	for _, c := range m.keys() {
		all = append(all, ref+"."+d.Quote(c.Name)+" "+c.Op("=")+" jugatum_m."+name(c))
	}
	return strings.Join(all, " AND ")
}

func (m *Merge) unchanged(d Dialect, ref string, name func(*Column) string, stays bool) string {
	q := &Query{D: d}
	for _, c := range m.Watched {
		m.still(q, c, ref, name(c), stays)
	}
	return q.String()
}

// still appends that a row has the value of a watched column that was written down. What was NULL in
// the row that stays, and is no reason for the group, has nothing to refer to, and may have been filled
// by an earlier batch.
func (m *Merge) still(q *Query, c *Column, alias, written string, stays bool) {
	now := alias + "." + q.D.Quote(c.Name)
	if !stays || slices.Contains(m.By, c) {
		q.Add(" AND ").Unchanged(c, now, "jugatum_m."+written)
		return
	}
	q.Add(" AND (jugatum_m.", written, " IS NULL OR ").Unchanged(c, now, "jugatum_m."+written).Add(")")
}

// asksStays reports whether the row that stays is to meet the step's filter still when others become one
// with it: not where that names what is filled in, which changes the answer for those that are left.
func (m *Merge) asksStays(d Dialect) bool {
	if m.Filter == "" || !m.Fill {
		return m.Filter != ""
	}
	tokens, err := sqltext.Lex(d, m.Filter)
	if err != nil { // it was read before
		return false
	}
	for _, t := range tokens {
		if slices.ContainsFunc(m.Filled(), func(c *Column) bool { return d.Same(t, c.Name) }) {
			return false
		}
	}
	return true
}

// Acts gives what goes with the rows that go: references to them are moved to the row that stays, and
// what is missing there is filled in.
func (m *Merge) Acts(c *Change) ([]*Act, error) {
	var acts []*Act
	d := c.D
	on := func(t *Table, verb sqltext.Verb) *Change {
		return &Change{Step: c.Step, D: d, Verb: verb, Table: t, Ref: d.Quote(t.Name), Listed: true, everywhere: true}
	}
	for i := range m.Refers {
		r := &m.Refers[i]
		follow := Follow{Columns: r.Columns, Parent: r.Parent, Of: OwnRows}
		if r.Drop && len(r.Uniques) > 0 {
			acts = append(acts, &Act{Change: on(r.Table, sqltext.Delete), Follows: []Follow{follow}, Doubled: r})
		}
		x := on(r.Table, sqltext.Update)
		match := ""
		for n, p := range r.Parent {
			if n > 0 {
				match += " AND "
			}
			match += "jugatum_m." + m.goes(p) + " " + p.Op("=") + " " + x.Ref + "." + d.Quote(r.Columns[n].Name)
		}
		for n, p := range r.Parent {
			expr, err := sqltext.Expression(d, "(SELECT jugatum_m."+m.stays(p)+" FROM "+m.List.SQL+" AS jugatum_m WHERE "+match+")")
			if err != nil {
				return nil, err
			}
			x.Set = append(x.Set, Set{Column: r.Columns[n], Expr: expr})
		}
		if err := x.implicit(); err != nil {
			return nil, err
		}
		acts = append(acts, &Act{Change: x, Follows: []Follow{follow}, Moved: r})
	}
	if m.Fill {
		x := on(c.Table, sqltext.Update)
		x.Ref = c.Ref
		for _, col := range m.Filled() {
			x.Set = append(x.Set, Set{Column: col}) // of what, the lists of a batch tell: see fill
		}
		if err := x.implicit(); err != nil {
			return nil, err
		}
		if len(x.Set) > 0 {
			acts = append(acts, &Act{Change: x, Stays: true})
		}
	}
	if why := (&cascade{c: c, acts: acts}).meddled(); why != "" {
		return nil, &FieldError{Step: c.Step, Field: "table", Err: errors.New(why + ": what a merge moves would depend on the order of its batches")}
	}
	for i, a := range acts {
		a.Change.locked = needsList(acts, i) || a.Doubled != nil
	}
	return acts, nil
}

// Filled lists the columns that may be filled in the row that stays.
func (m *Merge) Filled() (out []*Column) {
	for _, col := range m.Table.Stored() {
		if !col.Identity && col.OnUpdate == "" && !slices.Contains(m.keys(), col) && !slices.Contains(m.By, col) {
			out = append(out, col)
		}
	}
	return out
}

// FillsEmpty reports whether an empty text counts as missing in a column, as NULL does: not where
// others refer to it.
func (m *Merge) FillsEmpty(col *Column) bool {
	return col.Class == Text && !slices.Contains(m.Watched, col)
}

// missing is the condition that there is nothing in a column.
func (m *Merge) missing(d Dialect, col *Column, value string) string {
	if !m.FillsEmpty(col) {
		return value + " IS NULL"
	}
	return "(" + value + " IS NULL OR " + d.Characters(d.Text(nil, value)) + " = 0)"
}

// fill gives the change of rows that stay their new values: of what is missing there, the first that
// one of the listed rows has.
func (m *Merge) fill(c *Change, own *Kept) error {
	for i := range c.Set {
		s := &c.Set[i]
		if s.Implicit {
			continue
		}
		old, here := "jugatum_l."+c.D.Quote(own.holds(s.Column)), c.Ref+"."+c.D.Quote(s.Column.Name)
		q := &Query{D: c.D}
		q.Add("CASE WHEN ", m.missing(c.D, s.Column, here), " THEN coalesce((SELECT ", old, " FROM ", m.List.SQL, " AS jugatum_m JOIN ", own.Table, " AS jugatum_l ON ")
		m.listed(q, own).Add(" WHERE ")
		for n, k := range m.keys() {
			if n > 0 {
				q.Add(" AND ")
			}
			q.Add(c.Ref, ".", c.D.Quote(k.Name), " ", k.Op("="), " jugatum_m.", m.stays(k))
		}
		q.Add(" AND NOT ", m.missing(c.D, s.Column, old), " ORDER BY jugatum_m.seq LIMIT 1), ", here, ") ELSE ", here, " END")
		var err error
		if s.Expr, err = sqltext.Expression(c.D, q.String()); err != nil {
			return err
		}
	}
	return nil
}

// beside joins a table to the list of a batch, which is read first: of what is in that no planner
// knows anything.
func (m *Merge) beside(d Dialect) string {
	switch d.Forms().By {
	case ByJoin:
		return " STRAIGHT_JOIN "
	case BySubset:
		return " CROSS JOIN "
	}
	return " JOIN "
}

// listed appends the condition that a row that goes is one of those that a batch has listed.
func (m *Merge) listed(q *Query, own *Kept) *Query {
	for i, k := range own.Keys {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add("jugatum_m.", m.goes(k.Of), " ", k.Of.Op("="), " jugatum_l.", q.D.Quote(k.Name))
	}
	return q
}

// source is the change that finds the rows of a stretch of the list, and locks with each the one that
// stays. joined is false where it does not: a step's filter, whose names must be those of the table
// alone, is in the way of joining both to the list.
func (m *Merge) source(c *Change) (source *Change, joined bool, err error) {
	out := *c
	out.ByIndex = true
	if m.Filter != "" {
		return &out, false, nil
	}
	out.enrolledAs, out.locksToo = "jugatum_m", stayAlias
	list := m.List.SQL + " AS jugatum_m" + map[Way]string{ByUsing: " JOIN ", ByJoin: " STRAIGHT_JOIN ", BySubset: " CROSS JOIN "}[c.D.Forms().By] + c.Table.SQL(c.D) + " AS " + stayAlias + " ON " + m.same(c.D, stayAlias, m.stays) + m.unchanged(c.D, stayAlias, m.stays, true)
	return &out, true, out.joinList(list, m.same(c.D, c.Ref, m.goes), m.unchanged(c.D, c.Ref, m.goes, false))
}

// stayAlias is what the row that stays is called beside one that goes.
const stayAlias = "jugatum_k"

// joinList has the change read its rows by those of a list, which stands first.
func (c *Change) joinList(list, on, where string) (err error) {
	if c.D.Forms().By == ByUsing {
		where = on + where
		c.From.Tokens, err = sqltext.Lex(c.D, list)
	} else {
		before := list + map[Way]string{ByJoin: " STRAIGHT_JOIN ", BySubset: " CROSS JOIN "}[c.D.Forms().By]
		tokens, err := sqltext.Lex(c.D, before)
		if err != nil {
			return err
		}
		c.targetAt, c.joined = len(tokens), true
		if c.From.Tokens, err = sqltext.Lex(c.D, before+c.TargetSQL()+" ON "+on); err != nil {
			return err
		}
		where = "1 = 1" + where
	}
	if err == nil {
		c.Where, err = sqltext.Expression(c.D, where)
	}
	return err
}

// findStays gives the change that finds the rows that stay of those that a batch has listed, and the
// query for how many there must be; nil where they are locked already.
func (m *Merge) findStays(c *Change, own *Kept, locked bool) (find *Change, meant *Query, err error) {
	d := c.D
	find = &Change{Step: c.Step, D: d, Verb: sqltext.Delete, Table: c.Table, Ref: c.Ref, Only: c.Only, alias: c.alias, Params: c.Params, Listed: true, locked: true, ByIndex: true}
	each := func(columns []string) *Query {
		q := &Query{D: d}
		q.Add("(SELECT DISTINCT ", strings.Join(prefixed("jugatum_m.", columns), ", "), " FROM ", own.Table, " AS jugatum_l", m.beside(d), m.List.SQL, " AS jugatum_m ON ")
		return m.listed(q, own).Add(")")
	}
	keys := numberedNames("s", m.keys())
	if m.asksStays(d) {
		q := &Query{D: d}
		q.amongQuery(find.Ref, m.keys()).Add(each(keys).String(), " AND EXISTS (SELECT 1 FROM ", m.List.SQL, " AS jugatum_m WHERE ", m.same(d, find.Ref, m.stays), m.unchanged(d, find.Ref, m.stays, true), ") AND (", m.Filter, ")")
		find.Where, err = sqltext.Expression(d, q.String())
	} else {
		columns := keys
		for _, w := range m.Watched {
			if name := m.stays(w); !slices.Contains(columns, name) {
				columns = append(columns, name)
			}
		}
		err = find.joinList(each(columns).String()+" AS jugatum_m", m.same(d, find.Ref, m.stays), m.unchanged(d, find.Ref, m.stays, true))
	}
	if err != nil {
		return nil, nil, err
	}
	b := builder{c: c}
	find.Where = b.clock(find.Where)
	if locked {
		return find, nil, nil
	}
	meant = &Query{D: d}
	return find, meant.Add("SELECT count(*) FROM ", each(keys).String(), " AS jugatum_d"), nil
}

func prefixed(prefix string, names []string) []string {
	out := make([]string, len(names))
	for i, n := range names {
		out[i] = prefix + n
	}
	return out
}

// doubled appends that a row which refers to one that goes would have the same values in a unique
// index as another: one that refers to the row that stays, or that comes before it among those
// that a batch moves there. with has the other's row be one of the batch's; without lists every row
// that goes counts.
func (m *Merge) doubled(q *Query, r *Reference, ref string, own *Kept) *Query {
	d := q.D
	refers := func(alias, name string, of func(*Column) string) string {
		var all []string
		for i, p := range r.Parent {
			all = append(all, name+"."+of(p)+" "+p.Op("=")+" "+alias+"."+d.Quote(r.Columns[i].Name))
		}
		return strings.Join(all, " AND ")
	}
	sameStays := func(a, b string) string {
		var all []string
		for _, k := range m.keys() {
			all = append(all, a+"."+m.stays(k)+" "+k.Op("=")+" "+b+"."+m.stays(k))
		}
		return strings.Join(all, " AND ")
	}
	q.Add("(")
	for i, u := range r.Uniques {
		if i > 0 {
			q.Add(" OR ")
		}
		q.Add("EXISTS (SELECT 1 FROM ", m.List.SQL, " AS jugatum_m JOIN ", r.Table.SQL(d), " AS jugatum_o ON (", refers("jugatum_o", "jugatum_m", m.stays))
		q.Add(" OR EXISTS (SELECT 1 FROM ", m.List.SQL, " AS jugatum_b")
		if own != nil {
			q.Add(" JOIN ", own.Table, " AS jugatum_l ON ")
			for n, k := range own.Keys {
				if n > 0 {
					q.Add(" AND ")
				}
				q.Add("jugatum_b.", m.goes(k.Of), " ", k.Of.Op("="), " jugatum_l.", d.Quote(k.Name))
			}
		}
		q.Add(" WHERE ", refers("jugatum_o", "jugatum_b", m.goes), " AND ", sameStays("jugatum_b", "jugatum_m"), " AND jugatum_b.seq < jugatum_m.seq))")
		for _, c := range u {
			if !slices.Contains(r.Columns, c) {
				q.Add(" AND jugatum_o.", d.Quote(c.Name), " ", c.Op("="), " ", ref, ".", d.Quote(c.Name))
			}
		}
		q.Add(" WHERE ", refers(ref, "jugatum_m", m.goes), ")")
	}
	return q.Add(")")
}

// Referring is the query, from FROM on, for the rows that refer to rows that go; with twice, of these
// those that would stand twice under a unique index.
func (m *Merge) Referring(d Dialect, r *Reference, twice bool) *Query {
	q := &Query{D: d}
	q.Add(" FROM ", r.Table.SQL(d), " AS jugatum_t WHERE EXISTS (SELECT 1 FROM ", m.List.SQL, " AS jugatum_m WHERE ")
	for i, p := range r.Parent {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add("jugatum_m.", m.goes(p), " ", p.Op("="), " jugatum_t.", d.Quote(r.Columns[i].Name))
	}
	q.Add(")")
	if twice {
		q.Add(" AND ")
		m.doubled(q, r, "jugatum_t", nil)
	}
	return q
}

// Members is the query for the rows of all groups, one group after the other, the one that stays
// first: which of those that go it is, 0 for the one that stays, the key, and the values of columns,
// all as text.
func (m *Merge) Members(d Dialect, cols []*Column) *Query {
	q := &Query{D: d}
	values := func(alias string) {
		for i, c := range slices.Concat(m.keys(), cols) {
			q.Add(", ", d.Text(c, alias+"."+d.Quote(c.Name)), " AS c", itoa(i))
		}
	}
	from := func(alias string, name func(*Column) string) {
		q.Add(" FROM ", m.List.SQL, " AS jugatum_m JOIN ", m.Table.SQL(d), " AS ", alias, " ON ")
		for i, k := range m.keys() {
			if i > 0 {
				q.Add(" AND ")
			}
			q.Add(alias, ".", d.Quote(k.Name), " ", k.Op("="), " jugatum_m.", name(k))
		}
	}
	q.Add("SELECT ", MergeNth)
	for i := range slices.Concat(m.keys(), cols) {
		q.Add(", c", itoa(i))
	}
	q.Add(" FROM (SELECT jugatum_m.seq AS seq, 0 AS ", MergeNth)
	values("jugatum_s")
	from("jugatum_s", m.stays)
	q.Add(" WHERE jugatum_m.", MergeNth, " = 1 UNION ALL SELECT jugatum_m.seq, jugatum_m.", MergeNth)
	values("jugatum_t")
	from("jugatum_t", m.goes)
	return q.Add(") AS jugatum_g ORDER BY seq, ", MergeNth)
}

// ApartRows is the query for the rows that are in no group since a column by which rows are the same
// is NULL; nil where that is none.
func (m *Merge) ApartRows(c *Change) *Query {
	q := &Query{D: c.D}
	q.Add("SELECT count(*) FROM ", m.Table.SQL(c.D), " WHERE (1 = 0")
	some := false
	for _, col := range m.By {
		if some = some || !col.NotNull; !col.NotNull {
			q.Add(" OR ", c.D.Quote(col.Name), " IS NULL")
		}
	}
	if m.Nulls || !some {
		return nil
	}
	q.Add(")")
	if m.Filter != "" {
		where, err := sqltext.Expression(c.D, m.Filter)
		if err != nil { // it was read before
			return nil
		}
		q.Add(" AND (").Fragment(where, c.Params).Add(")")
	}
	return q
}

// Brought is the query for how many rows the n-th act of the merge changes.
func (m *Merge) Brought(d Dialect, a *Act) *Query {
	q := &Query{D: d}
	if a.Stays {
		return m.gaining(q, a)
	}
	var r *Reference
	for i := range m.Refers {
		if x := &m.Refers[i]; x == a.Doubled || a.Doubled == nil && x.Table.Is(a.Change.Table) && slices.Equal(x.Columns, a.Follows[0].Columns) {
			r = x
		}
	}
	q.Add("SELECT count(*)", m.Referring(d, r, a.Doubled != nil).String())
	if a.Doubled == nil && r.Drop && len(r.Uniques) > 0 {
		q.Add(" AND NOT ")
		m.doubled(q, r, "jugatum_t", nil)
	}
	return q
}

// gaining is the query for how many rows that stay get something from others.
func (m *Merge) gaining(q *Query, a *Act) *Query {
	d := q.D
	at := func(alias string, name func(*Column) string, line string) string {
		var all []string
		for _, k := range m.keys() {
			all = append(all, alias+"."+d.Quote(k.Name)+" "+k.Op("=")+" "+line+"."+name(k))
		}
		return strings.Join(all, " AND ")
	}
	q.Add("SELECT count(*) FROM ", m.List.SQL, " AS jugatum_f JOIN ", m.Table.SQL(d), " AS jugatum_s ON ", at("jugatum_s", m.stays, "jugatum_f"), " WHERE jugatum_f.", MergeNth, " = 1 AND (1 = 0")
	for _, s := range a.Change.Set {
		if s.Implicit {
			continue
		}
		here, there := "jugatum_s."+d.Quote(s.Column.Name), "jugatum_t."+d.Quote(s.Column.Name)
		q.Add(" OR ", m.missing(d, s.Column, here), " AND EXISTS (SELECT 1 FROM ", m.List.SQL, " AS jugatum_m JOIN ", m.Table.SQL(d), " AS jugatum_t ON ", at("jugatum_t", m.goes, "jugatum_m"))
		q.Add(" WHERE ", at("jugatum_s", m.stays, "jugatum_m"), " AND NOT ", m.missing(d, s.Column, there), ")")
	}
	return q.Add(")")
}

// Strayed is the query, from FROM on, for the rows that refer to rows that go by columns of which one
// is NULL in the row that stays, so that they would refer to nothing; nil where that cannot be.
func (m *Merge) Strayed(d Dialect, r *Reference) *Query {
	q := &Query{D: d}
	null := ""
	for i, p := range r.Parent {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add("jugatum_m.", m.goes(p), " ", p.Op("="), " jugatum_t.", d.Quote(r.Columns[i].Name))
		if !slices.Contains(m.keys(), p) && !p.NotNull {
			null += " OR jugatum_m." + m.stays(p) + " IS NULL"
		}
	}
	if null == "" {
		return nil
	}
	return q.Within(" FROM "+r.Table.SQL(d)+" AS jugatum_t WHERE EXISTS (SELECT 1 FROM "+m.List.SQL+" AS jugatum_m WHERE ", " AND (1 = 0"+null+"))")
}

// Dangling is the query for how many rows refer to rows that went.
func (m *Merge) Dangling(d Dialect, r *Reference) *Query {
	q := &Query{D: d}
	q.Add("SELECT count(*)", m.Referring(d, r, false).String(), " AND NOT EXISTS (SELECT 1 FROM ", m.Table.SQL(d), " AS jugatum_p WHERE ")
	for i, p := range r.Parent {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add("jugatum_p.", d.Quote(p.Name), " ", p.Op("="), " jugatum_t.", d.Quote(r.Columns[i].Name))
	}
	return q.Add(")")
}

// GroupEnds is the query for where the group of a numbered row that goes begins and ends.
func (m *Merge) GroupEnds(d Dialect, at int64) *Query {
	q := &Query{D: d}
	q.Add("SELECT a.seq - a.", MergeNth, " + 1, a.seq - a.", MergeNth, " + (SELECT ", d.Own("max"), "(b.", MergeNth, ") FROM ", m.List.SQL, " AS b WHERE ")
	for i, k := range m.keys() {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add("b.s", itoa(i), " ", k.Op("="), " a.s", itoa(i))
	}
	return q.Add(") FROM ", m.List.SQL, " AS a WHERE a.seq = ").Arg(at, "bigint")
}
