package change

import (
	"slices"
	"strings"

	"jugatum/internal/sqltext"
)

// A Compound is how the batches of a change with acts are carried out. The rows of a batch
// are locked and listed first, and then, from there on outwards, those rows that other
// acts go by: nobody can add a row that refers to one of them any more. Then each act is
// one statement, and the change itself the last.
type Compound struct {
	Source *Change // finds the rows of a batch
	Own    *Change // the same change of the rows that are listed
	List   *Kept   // in a table of the session's own: their keys, and as old values what other rows refer to
	Parts  []*Part // in the order of the acts
	Top    []int   // the parts that have lists, each after those by whose lists its rows are found

	Stays *Stays // of a merge: the rows that stay; nil without one
}

// Stays are the rows that stay where others become one with them: they are locked and listed as well,
// so that none of them goes meanwhile.
type Stays struct {
	Find  *Change
	List  *Kept
	Meant *Query // how many they must be, so that none goes to one that is no longer there; nil where they are locked already
}

// Part is an act of a compound.
type Part struct {
	Act    *Act
	Change *Change   // of the rows that are listed, or else with the condition that finds them
	List   *Kept     // nil if one statement finds and changes the rows
	Find   []*Change // find its rows for the list, one for each reference
	Kept   *Kept     // where its old and new values go
}

// NewCompound lays out the lists; table gives the name of the n-th, as SQL text. The kept
// values of the parts are the caller's to set.
func NewCompound(c *Change, acts []*Act, table func(n int) string) (*Compound, error) {
	x := &Compound{Source: c, Own: listed(c), List: listOf(table(0), c, acts, OwnRows)}
	locked := false
	if c.Merge != nil {
		var err error
		if x.Source, locked, err = c.Merge.source(c); err != nil {
			return nil, err
		}
	}
	tables := []*Table{c.Table}
	lists := []*Kept{x.List} // of the own rows, then of each act's
	for i, a := range acts {
		p := &Part{Act: a, Change: listed(a.Change)}
		if a.Change.Locks() {
			p.List = listOf(table(i+1), a.Change, acts, i)
		}
		x.Parts = append(x.Parts, p)
		tables, lists = append(tables, a.Change.Table), append(lists, p.List)
	}
	for _, p := range x.Parts {
		if p.Act.Stays {
			continue
		}
		for n, f := range p.Act.Follows {
			find := *p.Act.Change
			q := &Query{D: c.D}
			if err := q.refers(&find, f, tables[f.Of+1], lists[f.Of+1]); err != nil {
				return nil, err
			}
			if n > 0 {
				q.unlisted(p.Change, p.List)
			}
			if r := p.Act.Doubled; r != nil {
				q.Add(" AND ")
				c.Merge.doubled(q, r, find.Ref, x.List)
			}
			if r := p.Act.Moved; r != nil {
				if strayed := c.Merge.Strayed(c.D, r); strayed != nil { // the database refuses to let what they refer to go
					q.Add(" AND NOT EXISTS (SELECT 1", strayed.String(), " AND ").sameRow("jugatum_t", find.Ref, p.Act.Change.Table.Key).Add(")")
				}
			}
			for _, o := range x.Parts { // rows that go need not lose their reference first
				if p.Change.Verb == sqltext.Update && o.Change.Verb == sqltext.Delete && o.Change.Table.Is(p.Change.Table) {
					q.unlisted(p.Change, o.List)
				}
			}
			where, err := sqltext.Expression(c.D, q.String())
			if err != nil {
				return nil, err
			}
			find.Where = where
			p.Find = append(p.Find, &find)
		}
		if p.List == nil {
			p.Change = p.Find[0]
		}
	}
	x.sort()
	return x, x.stay(c, table(len(acts)+1), locked)
}

// stay lays out the list of the rows that stay, and says what they get. Where they are locked with those
// that go, and get nothing, there is none.
func (x *Compound) stay(c *Change, table string, locked bool) (err error) {
	if c.Merge == nil || locked && !c.Merge.Fill {
		return nil
	}
	x.Stays = &Stays{List: NewRoster(table, c)}
	if x.Stays.Find, x.Stays.Meant, err = c.Merge.findStays(c, x.List, locked); err != nil {
		return err
	}
	for _, p := range x.Parts {
		if p.Act.Stays {
			p.List, p.Change = x.Stays.List, listed(p.Change)
			p.Change.Set = slices.Clone(p.Change.Set)
			if err := c.Merge.fill(p.Change, x.List); err != nil {
				return err
			}
		}
	}
	return nil
}

// sameRow appends that two aliases stand for one row of a table.
func (q *Query) sameRow(a, b string, k *Key) *Query {
	for i, c := range k.Columns {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add(a, ".", q.D.Quote(c.Name), " ", c.Op("="), " ", b, ".", q.D.Quote(c.Name))
	}
	return q
}

// sort puts the lists into an order in which each can be made.
func (x *Compound) sort() {
	for len(x.Top) < len(x.Parts) {
		before := len(x.Top)
		for i, p := range x.Parts {
			ready := p.List != nil && !p.Act.Stays && !slices.Contains(x.Top, i) &&
				!slices.ContainsFunc(p.Act.Follows, func(f Follow) bool { return f.Of != OwnRows && !slices.Contains(x.Top, f.Of) })
			if ready {
				x.Top = append(x.Top, i)
			}
		}
		if len(x.Top) == before {
			return
		}
	}
}

// listed is a change of rows that are known: it has no filter.
func listed(c *Change) *Change {
	return &Change{Step: c.Step, D: c.D, Verb: c.Verb, Table: c.Table, Ref: c.D.Quote(c.Table.Name), Only: c.Only, Set: c.Set, Into: c.Into, Listed: true, everywhere: true}
}

// needsList reports whether the rows of an act are listed: others' are found by them, or
// there are several ways to find them.
func needsList(acts []*Act, n int) bool {
	if len(acts[n].Follows) > 1 {
		return true
	}
	return slices.ContainsFunc(acts, func(a *Act) bool {
		byIt := slices.ContainsFunc(a.Follows, func(f Follow) bool { return f.Of == n })
		spared := acts[n].Change.Verb == sqltext.Delete && a.Change.Verb == sqltext.Update && a.Change.Table.Is(acts[n].Change.Table)
		return byIt || spared
	})
}

// listOf lays out the list of the rows of an act: keys, and the columns that others refer to.
func listOf(table string, c *Change, acts []*Act, n int) *Kept {
	list := NewRoster(table, c)
	taken := map[string]bool{"seq": true}
	for _, k := range list.Keys {
		taken[strings.ToLower(k.Name)] = true
	}
	for _, a := range acts {
		for _, f := range a.Follows {
			for _, col := range f.Parent {
				if f.Of == n && list.holds(col) == "" {
					list.Old = append(list.Old, KeptColumn{keptName("old_", col.Name, len(list.Old)+1, taken), col})
				}
			}
		}
		if a.Stays && n == OwnRows { // gets what is missing there from these
			for _, s := range a.Change.Set {
				if !s.Implicit && list.holds(s.Column) == "" {
					list.Old = append(list.Old, KeptColumn{keptName("old_", s.Column.Name, len(list.Old)+1, taken), s.Column})
				}
			}
		}
	}
	return list
}

// holds is the name of the column that has a table's column, "" if none.
func (k *Kept) holds(col *Column) string {
	for _, x := range slices.Concat(k.Keys, k.Old) {
		if x.Of == col {
			return x.Name
		}
	}
	return ""
}

// Refers is the condition that a column which refers holds the value of the one referred to. That one
// stands on the left: SQLite compares by its rules.
func Refers(d Dialect, p, c *Column, parent, child string) string {
	return parent + " " + p.Op("=") + " " + child + d.Referred(p, c)
}

// refers appends the condition that a row of the change refers to one that is listed. Where
// a server would rather look at every row of the table, the change is to go through the list
// instead.
func (q *Query) refers(c *Change, f Follow, parent *Table, list *Kept) (err error) {
	c.ByIndex = c.Table.indexOf(f.Columns) != ""
	column := func(i int) string { return c.Ref + "." + q.D.Quote(f.Columns[i].Name) }
	switch q.D.Forms().By {
	case ByUsing:
		q.Add("EXISTS (SELECT 1 FROM ", list.Table, " AS jugatum_l WHERE ")
		for i, p := range f.Parent {
			if i > 0 {
				q.Add(" AND ")
			}
			q.Add(Refers(q.D, p, f.Columns[i], "jugatum_l."+q.D.Quote(list.holds(p)), column(i)))
		}
		q.Add(")")
		return nil
	case ByJoin:
		before := list.Table + " AS jugatum_l STRAIGHT_JOIN "
		tokens, err := sqltext.Lex(q.D, before)
		if err != nil {
			return err
		}
		c.targetAt, c.joined = len(tokens), true
		on := ""
		for i, p := range f.Parent {
			if i > 0 {
				on += " AND "
			}
			on += Refers(q.D, p, f.Columns[i], "jugatum_l."+q.D.Quote(list.holds(p)), column(i))
		}
		hint := ""
		if name := c.Table.indexOf(f.Columns); name != "" {
			// With what it reckons of a table of which rows go, it would at some point rather
			// read all of it.
			hint = " FORCE INDEX (" + q.D.Quote(name) + ")"
		}
		c.From.Tokens, err = sqltext.Lex(q.D, before+c.Table.SQL(q.D)+hint+" ON "+on)
		q.Add("1 = 1")
		return err
	}
	// SQLite compares by the collation of the column that is referred to, and so of what
	// stands on the left here.
	q.Add("(").Columns(c.Ref, c.Table.Key.Columns).Add(") IN (SELECT ").Columns("jugatum_c", c.Table.Key.Columns)
	q.Add(" FROM ", list.Table, " AS jugatum_l CROSS JOIN ", parent.SQL(q.D), " AS jugatum_p ON ").KeyJoin("jugatum_p", "jugatum_l", list)
	q.Add(" CROSS JOIN ", c.Table.SQL(q.D), " AS jugatum_c ON ")
	for i, p := range f.Parent {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add(Refers(q.D, p, f.Columns[i], "jugatum_p."+q.D.Quote(p.Name), "jugatum_c."+q.D.Quote(f.Columns[i].Name)))
	}
	q.Add(")")
	return nil
}

// indexOf is the name of an index that begins with these columns, in whatever order; "" if
// there is none.
func (t *Table) indexOf(columns []*Column) string {
	leads := func(names []string) bool {
		return len(names) >= len(columns) && !slices.ContainsFunc(columns, func(col *Column) bool { return !slices.Contains(names[:len(columns)], col.Name) })
	}
	for _, x := range t.Indexes {
		if leads(x.Columns) && !x.Partial {
			return x.Name
		}
	}
	return ""
}

// unlisted appends that a row is not listed.
func (q *Query) unlisted(c *Change, list *Kept) *Query {
	if !q.D.Forms().HashesNotIn {
		return q.Add(" AND NOT EXISTS (SELECT 1 FROM ", list.Table, " AS jugatum_n WHERE ").KeyJoin(c.Ref, "jugatum_n", list).Add(")")
	}
	q.Add(" AND (").Columns(c.Ref, c.Table.Key.Columns).Add(") NOT IN (SELECT ")
	for i, k := range list.Keys {
		q.sep(i).Add("jugatum_n.", q.D.Quote(k.Name))
	}
	return q.Add(" FROM ", list.Table, " AS jugatum_n)")
}

// Enlist is the statement that puts the rows of a range that match into a list, numbered
// from base+1; lock has them locked. (MariaDB's engine numbers and locks otherwise.)
func Enlist(c *Change, list *Kept, r Range, base int64, lock bool) *Query {
	columns := slices.Concat(list.Keys, list.Old)
	names := quotedNames(c.D, columns)
	return Numbering{Into: list.Table, Names: names, Values: names, Base: base}.Insert(c.D, c, func(q *Query) {
		q.Add("SELECT ").AsKept(c, columns).Source(c, r)
		if lock {
			q.Add(" FOR UPDATE OF ", c.Ref)
			if c.locksToo != "" {
				q.Add(", ", c.locksToo)
			}
		}
	})
}

// Brought is the query for how many rows an act would change besides: with what the change
// finds now, without lists.
func Brought(c *Change, acts []*Act, n int) *Query {
	if c.Merge != nil {
		return c.Merge.Brought(c.D, acts[n])
	}
	q := &Query{D: c.D}
	alias := "jugatum_a" + itoa(n)
	q.Add("SELECT count(*) FROM ", acts[n].Change.Table.SQL(c.D), " AS ", alias, " WHERE ")
	q.brought(c, acts, n, alias)
	for i, o := range acts {
		if acts[n].Change.Verb == sqltext.Update && o.Change.Verb == sqltext.Delete && o.Change.Table.Is(acts[n].Change.Table) {
			q.Add(" AND NOT ").brought(c, acts, i, alias)
		}
	}
	return q
}

// brought appends that a row is one of an act's.
func (q *Query) brought(c *Change, acts []*Act, n int, alias string) *Query {
	q.Add("(")
	for i, f := range acts[n].Follows {
		if i > 0 {
			q.Add(" OR ")
		}
		parent := c.Ref
		if f.Of == OwnRows {
			q.Add("EXISTS (").With(c, false).Add("SELECT 1").Source(c, Range{})
		} else {
			parent = alias + "_" + itoa(f.Of)
			q.Add("EXISTS (SELECT 1 FROM ", acts[f.Of].Change.Table.SQL(c.D), " AS ", parent, " WHERE ").brought(c, acts, f.Of, parent)
		}
		for j, p := range f.Parent {
			q.Add(" AND ", Refers(q.D, p, f.Columns[j], parent+"."+q.D.Quote(p.Name), alias+"."+q.D.Quote(f.Columns[j].Name)))
		}
		q.Add(")")
	}
	return q.Add(")")
}
