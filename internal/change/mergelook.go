package change

import (
	"cmp"
	"slices"

	"jugatum/internal/sqltext"
)

// What is asked of a merge before it is carried out, and after.

// Referring is the query, from FROM on, for the rows that refer to rows that go; with twice, of these
// those that would stand twice under a unique index.
func (m *Merge) Referring(d Dialect, r *Reference, twice bool) *Query {
	q := &Query{D: d}
	from, where := m.lines(d, r, "jugatum_t", "jugatum_m", m.goes)
	q.Add(" FROM ", r.Table.SQL(d), " AS jugatum_t WHERE EXISTS (SELECT 1 FROM ", from, " WHERE ", where, ")")
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
		q.Add(" FROM ", m.List.SQL, " AS jugatum_m JOIN ", m.Table.SQL(d), " AS ", alias, " ON ", m.on(d, alias, "jugatum_m", name))
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
	r := cmp.Or(a.Doubled, a.Moved)
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
	q.Add("SELECT count(*) FROM ", m.List.SQL, " AS jugatum_f JOIN ", m.Table.SQL(d), " AS jugatum_s ON ", m.on(d, "jugatum_s", "jugatum_f", m.stays), " WHERE jugatum_f.", MergeNth, " = 1 AND (1 = 0")
	for _, s := range a.Change.Set {
		if s.Implicit {
			continue
		}
		here, there := "jugatum_s."+d.Quote(s.Column.Name), "jugatum_t."+d.Quote(s.Column.Name)
		q.Add(" OR ", m.missing(d, s.Column, here), " AND EXISTS (SELECT 1 FROM ", m.List.SQL, " AS jugatum_m JOIN ", m.Table.SQL(d), " AS jugatum_t ON ", m.on(d, "jugatum_t", "jugatum_m", m.goes))
		q.Add(" WHERE ", m.on(d, "jugatum_s", "jugatum_m", m.stays), " AND NOT ", m.missing(d, s.Column, there), ")")
	}
	return q.Add(")")
}

// Strayed is the query, from FROM on, for the rows that refer to rows that go by columns of which one
// is NULL in the row that stays, so that they would refer to nothing; nil where that cannot be.
func (m *Merge) Strayed(d Dialect, r *Reference) *Query {
	null := ""
	for _, p := range r.Parent {
		if !slices.Contains(m.keys(), p) && !p.NotNull {
			null += " OR jugatum_m." + m.stays(p) + " IS NULL"
		}
	}
	if null == "" {
		return nil
	}
	q := &Query{D: d}
	from, where := m.lines(d, r, "jugatum_t", "jugatum_m", m.goes)
	return q.Add(" FROM ", r.Table.SQL(d), " AS jugatum_t WHERE EXISTS (SELECT 1 FROM ", from, " WHERE ", where, " AND (1 = 0", null, "))")
}

// Dangling is the query for how many rows refer to rows that went. These can no longer be asked how they
// compare: where the catalogue does not tell, the reference is compared as it is written.
func (m *Merge) Dangling(d Dialect, r *Reference) *Query {
	q := &Query{D: d}
	q.Add("SELECT count(*) FROM ", r.Table.SQL(d), " AS jugatum_t WHERE EXISTS (SELECT 1 FROM ", m.List.SQL, " AS jugatum_m WHERE ", m.asWritten(d, r, "jugatum_t", "jugatum_m", m.goes), ")")
	return q.Add(" AND NOT EXISTS (SELECT 1 FROM ", m.Table.SQL(d), " AS jugatum_p WHERE ", r.to(d, "jugatum_p", "jugatum_t"), ")")
}
