package change

import (
	"errors"
	"slices"
	"strings"

	"jugatum/internal/sqltext"
)

// What a batch of a merge does: it finds its rows, moves references, deletes, and fills in.

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
		from, where := m.lines(d, r, x.Ref, "jugatum_m", m.goes)
		for n, p := range r.Parent {
			expr, err := sqltext.Expression(d, "(SELECT jugatum_m."+m.stays(p)+" FROM "+from+" WHERE "+where+")")
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

// Filled lists the columns that may be filled in the row that stays: those of which something can be missing.
func (m *Merge) Filled() (out []*Column) {
	for _, col := range m.Table.Stored() {
		if (!col.NotNull || m.FillsEmpty(col)) && !col.Identity && col.OnUpdate == "" && !slices.Contains(m.keys(), col) && !slices.Contains(m.By, col) {
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
		m.listed(q, "jugatum_m", own).Add(" WHERE ", m.on(c.D, c.Ref, "jugatum_m", m.stays))
		q.Add(" AND NOT ", m.missing(c.D, s.Column, old), " ORDER BY jugatum_m.seq LIMIT 1), ", here, ") ELSE ", here, " END")
		var err error
		if s.Expr, err = sqltext.Expression(c.D, q.String()); err != nil {
			return err
		}
	}
	return nil
}

// listFirst joins a table to a list of ours, which is read first: of what is in that no planner knows
// anything.
func listFirst(d Dialect) string {
	switch d.Forms().By {
	case ByJoin:
		return " STRAIGHT_JOIN "
	case BySubset:
		return " CROSS JOIN "
	}
	return " JOIN "
}

// listed appends the condition that the row that goes of a line is one of those that a batch has listed.
func (m *Merge) listed(q *Query, line string, own *Kept) *Query {
	for i, k := range own.Keys {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add(line, ".", m.goes(k.Of), " ", k.Of.Op("="), " jugatum_l.", q.D.Quote(k.Name))
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
	list := m.List.SQL + " AS jugatum_m" + listFirst(c.D) + c.Table.SQL(c.D) + " AS " + stayAlias + " ON " + m.same(c.D, stayAlias, m.stays) + m.unchanged(c.D, stayAlias, m.stays, true)
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
		before := list + listFirst(c.D)
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
		q.Add("(SELECT DISTINCT ", strings.Join(prefixed("jugatum_m.", columns), ", "), " FROM ", own.Table, " AS jugatum_l", listFirst(d), m.List.SQL, " AS jugatum_m ON ")
		return m.listed(q, "jugatum_m", own).Add(")")
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
// that a batch moves there: of those that own lists, or, where that is nil, of all that go.
func (m *Merge) doubled(q *Query, r *Reference, ref string, own *Kept) *Query {
	d := q.D
	refers := func(row, line string, name func(*Column) string) string { return m.refers(d, r, row, line, name) }
	from, where := m.lines(d, r, ref, "jugatum_m", m.goes)
	q.Add("(")
	for i, u := range r.Uniques {
		if i > 0 {
			q.Add(" OR ")
		}
		q.Add("EXISTS (SELECT 1 FROM ", from, " JOIN ", r.Table.SQL(d), " AS jugatum_o ON (", refers("jugatum_o", "jugatum_m", m.stays))
		q.Add(" OR EXISTS (SELECT 1 FROM ", m.List.SQL, " AS jugatum_b")
		if own != nil {
			q.Add(" JOIN ", own.Table, " AS jugatum_l ON ")
			m.listed(q, "jugatum_b", own)
		}
		q.Add(" WHERE ", refers("jugatum_o", "jugatum_b", m.goes), " AND ", m.sameStays("jugatum_b", "jugatum_m"), " AND jugatum_b.seq < jugatum_m.seq))")
		for _, c := range u {
			if !slices.Contains(r.Columns, c) {
				q.Add(" AND jugatum_o.", d.Quote(c.Name), " ", c.Op("="), " ", ref, ".", d.Quote(c.Name))
			}
		}
		q.Add(" WHERE ", where, ")")
	}
	return q.Add(")")
}
