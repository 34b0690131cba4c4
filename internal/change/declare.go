package change

import "slices"

// Advice is something that could be declared once a step has filled its columns, and
// the query for the rows that stand against it: with none of them it can.
type Advice struct {
	Against *Query // SQL from FROM on
	Text    string // the statement, or what to do where there is none
}

// Advices lists what could be declared of the columns that a change fills: that they
// refer to the table they were filled from, that they hold a value in every row, and
// that what the rows were matched by is not needed any more.
func Advices(c *Change) (out []Advice) {
	l := c.Lookup
	from := func() *Query { return (&Query{D: c.D}).Add(" FROM ", c.TargetSQL(), " WHERE ") }
	for i, s := range c.Set {
		if s.Implicit || i >= len(l.Copied) {
			continue
		}
		col, name := s.Column, c.D.Quote(s.Column.Name)
		if parent := l.Copied[i]; parent != nil && l.Table.Unique(parent.Name) && !l.Table.referredBy(c.Table, col) {
			q := from().Add(c.Ref, ".", name, " IS NOT NULL AND NOT EXISTS (SELECT 1 FROM ", l.Table.SQL(c.D), " AS jugatum_p WHERE ", Refers(c.D, parent, col, "jugatum_p."+c.D.Quote(parent.Name), c.Ref+"."+name), ")")
			out = append(out, Advice{q, c.D.DeclareReference(c.Table, col, l.Table, parent)})
		}
		if !col.NotNull {
			out = append(out, Advice{from().Add(c.Ref, ".", name, " IS NULL"), c.D.DeclareNotNull(c.Table, col)})
		}
	}
	for _, col := range l.Columns {
		if c.Table.Key != nil && slices.Contains(c.Table.Key.Columns, col) || col.Generated {
			continue
		}
		q := from().Add(c.Ref, ".", c.D.Quote(col.Name), " IS NOT NULL AND NOT EXISTS (SELECT 1 FROM ").Fragment(l.From, c.Params).Add(" WHERE ").Fragment(l.Match, c.Params).Add(")")
		out = append(out, Advice{q, "ALTER TABLE " + c.Table.NameSQL(c.D) + " DROP COLUMN " + c.D.Quote(col.Name) + " (every value of it has a match)"})
	}
	return out
}

// referredBy reports whether a column of another table refers to this one.
func (t *Table) referredBy(other *Table, col *Column) bool {
	return slices.ContainsFunc(t.ReferredBy, func(fk ForeignKey) bool {
		return fk.Table == other.Name && (fk.Schema == "" || fk.Schema == other.Schema) && slices.Contains(fk.Columns, col.Name)
	})
}
