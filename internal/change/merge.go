package change

import (
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
	out := [][]string{own("k")}
	if m.Fill {
		out = append(out, append(own("s"), MergeNth))
	}
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

// MergeRows are the rows of which groups are made.
type MergeRows struct {
	From   string           // where they come from: the table, as an item of a FROM list, and what is joined to it
	Ref    string           // how that calls the table
	Apart  []string         // what tells one group from another, as expressions
	Extra  string           // a further condition, " AND …"
	Where  sqltext.Fragment // the step's own
	Order  sqltext.Fragment // by which the rows of a group come, the one that stays first
	Params map[string]Value
}

// Groups is the statement that finds the groups and writes down the rows that go, in into, a table
// of that layout.
func (m *Merge) Groups(d Dialect, into string, rows MergeRows) *Query {
	var columns []string
	for _, c := range m.Layout(d).Columns[1:] { // without the number
		columns = append(columns, c.Name)
	}
	number := Numbering{Into: into, Names: strings.Join(columns, ", "), Where: MergeNth + " > 1", Order: strings.Join(append(numberedNames("s", m.keys()), MergeNth), ", ")}
	number.Values = strings.TrimSuffix(number.Names, MergeNth) + MergeNth + " - 1"
	return number.Insert(d, nil, func(q *Query) {
		q.Add("SELECT ")
		first := d.Own("first_value")
		for _, x := range []struct {
			prefix, before, after string
			cols                  []*Column
		}{{"k", "", "", m.keys()}, {"s", first + "(", ") OVER jugatum_w", m.keys()}, {"v", "", "", m.Watched}, {"w", first + "(", ") OVER jugatum_w", m.Watched}} {
			for i, c := range x.cols {
				if name := x.prefix + itoa(i); slices.Contains(columns, name) {
					q.Add(x.before, rows.Ref, ".", d.Quote(c.Name), x.after, " AS ", name, ", ")
				}
			}
		}
		q.Add("row_number() OVER jugatum_w AS ", MergeNth)
		q.Add(" FROM ", rows.From, " WHERE 1 = 1", rows.Extra)
		if !rows.Where.Empty() {
			q.Add(" AND (").Fragment(rows.Where, rows.Params).Add(")")
		}
		q.Add(" WINDOW jugatum_w AS (PARTITION BY ", strings.Join(rows.Apart, ", "), " ORDER BY ")
		if !rows.Order.Empty() {
			q.Fragment(rows.Order, rows.Params).Add(", ")
		}
		q.Columns(rows.Ref, m.keys()).Add(d.Forms().Frame, ")")
	})
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
	return m.on(d, ref, "jugatum_m", name)
}

// on is the condition that a row has the key that a line of the list has, as name calls it there.
func (m *Merge) on(d Dialect, row, line string, name func(*Column) string) string {
	var all []string
	for _, k := range m.keys() {
		all = append(all, row+"."+d.Quote(k.Name)+" "+k.Op("=")+" "+line+"."+name(k))
	}
	return strings.Join(all, " AND ")
}

// refers is the condition that a row refers to the one that a line of the list has, as name calls it
// there.
func (m *Merge) refers(d Dialect, r *Reference, row, line string, name func(*Column) string) string {
	if m.byOwnRules(d, r) {
		return "EXISTS (SELECT 1 FROM " + m.Table.SQL(d) + " AS jugatum_p WHERE " + m.on(d, "jugatum_p", line, name) + " AND " + r.to(d, "jugatum_p", row) + ")"
	}
	return m.asWritten(d, r, row, line, name)
}

// asWritten is that condition by what is written down of the row referred to.
func (m *Merge) asWritten(d Dialect, r *Reference, row, line string, name func(*Column) string) string {
	var all []string
	for i, p := range r.Parent {
		all = append(all, Refers(d, p, r.Columns[i], line+"."+name(p), row+"."+d.Quote(r.Columns[i].Name)))
	}
	return strings.Join(all, " AND ")
}

// lines are the lines of the list to whose rows, as name calls them, a row refers: items of a FROM list
// and a condition.
func (m *Merge) lines(d Dialect, r *Reference, row, line string, name func(*Column) string) (from, where string) {
	if !m.byOwnRules(d, r) {
		return m.List.SQL + " AS " + line, m.refers(d, r, row, line, name)
	}
	return m.Table.SQL(d) + " AS jugatum_p CROSS JOIN " + m.List.SQL + " AS " + line + " ON " + m.on(d, "jugatum_p", line, name), r.to(d, "jugatum_p", row)
}

// byOwnRules reports whether a reference is compared by rules of the column referred to of which the
// catalogue does not tell, so that nothing but that column itself can be compared.
func (m *Merge) byOwnRules(d Dialect, r *Reference) bool {
	return !d.Forms().Collations && slices.ContainsFunc(r.Parent, func(p *Column) bool { return p.Class != Number })
}

// to is the condition that a row refers to another. The column referred to stands on the left: its rules
// are those of the comparison.
func (r *Reference) to(d Dialect, parent, row string) string {
	var all []string
	for i, p := range r.Parent {
		all = append(all, Refers(d, p, r.Columns[i], parent+"."+d.Quote(p.Name), row+"."+d.Quote(r.Columns[i].Name)))
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

// sameStays is the condition that the same row stays for two lines of the list.
func (m *Merge) sameStays(a, b string) string {
	var all []string
	for _, k := range m.keys() {
		all = append(all, a+"."+m.stays(k)+" "+k.Op("=")+" "+b+"."+m.stays(k))
	}
	return strings.Join(all, " AND ")
}

// GroupAt is the query for where the group of a numbered row that goes begins, and whether it goes on
// after that row: 1, else 0.
func (m *Merge) GroupAt(d Dialect, at int64) *Query {
	q := &Query{D: d}
	q.Add("SELECT a.seq - a.", MergeNth, " + 1, (SELECT count(*) FROM ", m.List.SQL, " AS b WHERE b.seq = a.seq + 1 AND b.", MergeNth, " > 1)")
	return q.Add(" FROM ", m.List.SQL, " AS a WHERE a.seq = ").Arg(at, "bigint")
}
