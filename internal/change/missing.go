package change

// Missing counts values in which there is nothing to be seen, by what stands there instead.
type Missing struct {
	Null  int64 `json:"null"`
	Empty int64 `json:"empty"` // the empty text
	Blank int64 `json:"blank"` // nothing but spaces
}

// Any reports whether there are any.
func (m *Missing) Any() bool { return m != nil && *m != Missing{} }

// Count appends to a query that sums up rows what counts these of a column's value among the rows
// for which a condition holds, and gives what that is to be read into. Of what is no text
// only NULL is counted.
func (m *Missing) Count(q *Query, col *Column, when, value string) []any {
	count := func(condition string) {
		q.Add(", ", q.D.Own("count"), "(CASE WHEN ", when, " AND ", condition, " THEN 1 END)")
	}
	count(value + " IS NULL")
	if col.Class != Text {
		return []any{&m.Null}
	}
	text := q.D.Text(nil, value)
	count(q.D.Characters(text) + " = 0")
	count(q.D.Characters(text) + " > 0 AND trim(" + text + ") = ''")
	return []any{&m.Null, &m.Empty, &m.Blank}
}
