package change

// AsText appends a column's value as text, NULL where there is none.
func (q *Query) AsText(alias string, col *Column) *Query {
	return q.Add(q.D.AsText(col, alias+"."+q.D.Quote(col.Name)))
}

// Contains appends the condition that a column's value contains a text; fold
// takes ASCII letters of either case for the same, and perhaps more.
func (q *Query) Contains(alias string, col *Column, text string, fold bool) *Query {
	q.D.Contains(q, col, alias+"."+q.D.Quote(col.Name), text, fold)
	return q
}

// AsHex appends a column's bytes in hexadecimal, NULL where there are none.
func (q *Query) AsHex(alias string, col *Column) *Query {
	return q.Add(q.D.AsHex(alias + "." + q.D.Quote(col.Name)))
}

// MayHold appends a condition that is true if a column's bytes contain a text of
// ASCII letters and digits, in whichever case, and perhaps otherwise.
func (q *Query) MayHold(alias string, col *Column, text string) *Query {
	q.D.MayHold(q, alias+"."+q.D.Quote(col.Name), text)
	return q
}
