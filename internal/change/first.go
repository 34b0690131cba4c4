package change

import (
	"strconv"

	"jugatum/internal/sqltext"
)

// First says that of the rows that match, only the first N after Skip are
// meant, in an order in which the key decides between equals.
type First struct {
	Order   sqltext.Fragment // empty: that of the key
	Skip, N int64
}

// String words it.
func (f *First) String() string {
	s := "the first " + strconv.FormatInt(f.N, 10)
	if f.Skip > 0 {
		s += " after " + strconv.FormatInt(f.Skip, 10)
	}
	if f.Order.Empty() {
		return s + " in the order of the key"
	}
	return s + " by " + f.Order.String()
}

// limit takes LIMIT and what goes with it.
func (b *builder) limit(st *sqltext.Statement) error {
	if st.Limit == nil {
		return nil
	}
	text := st.Limit.Text
	if st.Limit.Kind == sqltext.Param {
		v, ok := b.c.Params[st.Limit.Name()]
		if !ok {
			return b.undeclared("sql", st.Limit.Name())
		}
		text = v.Text
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return b.failf("sql", "LIMIT %s: expected a number of rows, not %q", st.Limit.Text, text)
	}
	b.c.First = &First{Order: st.Order, N: n}
	return nil
}

// first appends " AND …": that the row is one of the first. They are one level
// down, where MariaDB allows LIMIT, and the target of an UPDATE to be read.
func (q *Query) first(c *Change) {
	q.Add(" AND ").amongQuery(c.Ref, c.Table.Key.Columns).Add("(SELECT * FROM (SELECT ").Columns(c.Ref, c.Table.Key.Columns)
	q.Add(" FROM ", c.TargetSQL())
	if !c.Where.Empty() {
		q.Add(" WHERE ").Fragment(c.Where, c.Params)
	}
	q.Add(" ORDER BY ")
	if !c.First.Order.Empty() {
		q.Fragment(c.First.Order, c.Params).Add(", ")
	}
	q.Columns(c.Ref, c.Table.Key.Columns).Add(" LIMIT ", strconv.FormatInt(c.First.N, 10), " OFFSET ", strconv.FormatInt(c.First.Skip, 10), ") AS jugatum_first)")
}
