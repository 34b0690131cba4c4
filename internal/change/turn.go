package change

import "jugatum/internal/sqltext"

// A list whose lines are carried out in the order of the file may have several lines with one
// key. Each comes in a turn of its own: the first lines of all keys together, then the second
// ones, and so on, so that every statement still carries out many lines, and each line finds
// what the one before it has left.

// NextTurn is the statement that puts those lines of a stretch of a list that have an earlier
// one with the same key into the table of the next turn. columns are those of both.
func NextTurn(d Dialect, from, to *List, columns []string, r Range) *Query {
	q := &Query{D: d}
	q.Add("INSERT INTO ", to.SQL, " (").names("", columns).Add(") SELECT ").names("l", columns).Add(" FROM ", from.SQL, " AS l WHERE ")
	q.Add("EXISTS (SELECT 1 FROM ", from.SQL, " AS p WHERE ").sameKey(from, "p", "l")
	return q.Add(" AND p.", d.Quote(ListLine), " < l.", d.Quote(ListLine), ")").Range("l", from.Table.Key, r)
}

// LeaveTurn is the statement that takes those lines out of the list from which they come.
func LeaveTurn(d Dialect, from, to *List, r Range) *Query {
	q := &Query{D: d}
	l := d.Quote(from.Table.Name) // some databases know no other name for it there
	q.Add("DELETE FROM ", from.SQL, " WHERE EXISTS (SELECT 1 FROM ", to.SQL, " AS p WHERE ").sameKey(from, "p", l)
	return q.Add(" AND p.", d.Quote(ListLine), " = ", l, ".", d.Quote(ListLine), ")").Range(l, from.Table.Key, r)
}

// FindTurn is the statement that says of the lines of a stretch of a later turn whether those
// before them leave a row with their key, or none. all is the action of every line, "" where
// they have their own.
func FindTurn(d Dialect, before, list *List, all string, r Range) *Query {
	action := "p." + d.Quote(ListAction)
	if all != "" {
		action = "'" + all + "'" // one of four words of ours
	}
	rest := "NULL"
	if before.Turn > 0 {
		rest = "p." + d.Quote(ListFound)
	}
	q := &Query{D: d}
	q.Add("UPDATE ", list.SQL, " AS l SET ", d.Quote(ListFound), " = (SELECT CASE WHEN ", action, " IN ('insert', 'upsert') THEN 1 WHEN ", action, " = 'delete' THEN 0 ELSE ", rest, " END FROM ", before.SQL, " AS p WHERE ")
	return q.sameKey(list, "p", "l").Add(") WHERE 1 = 1").Range("l", list.Table.Key, r)
}

// LinesOf is the query for how many lines that a change carries out have a key.
func LinesOf(c *Change, key KeyValue) *Query {
	q := &Query{D: c.D}
	q.Add("SELECT count(*) FROM ", c.Lines.SQL, " AS l WHERE 1 = 1").acting("l", c.Lines.Actions)
	return q.at("l", c.Lines.Table.Key, key)
}

// names appends columns, of an alias unless that is empty.
func (q *Query) names(alias string, columns []string) *Query {
	if alias != "" {
		alias += "."
	}
	for i, name := range columns {
		q.sep(i).Add(alias, q.D.Quote(name))
	}
	return q
}

// sameKey appends that two lines of a list, or a row and a line, have the same key.
func (q *Query) sameKey(l *List, a, b string) *Query {
	for i, k := range l.Table.Key.Columns {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add(a, ".", q.D.Quote(k.Name), " ", k.Op("="), " ", b, ".", q.D.Quote(k.Name))
	}
	return q
}

// found appends that there is a row with the key of a line, once the lines of the turns before
// it are carried out.
func (q *Query) found(c *Change, alias string) *Query {
	if c.Lines.Turn == 0 {
		return q.there(c, alias)
	}
	found := alias + "." + q.D.Quote(ListFound)
	return q.Add("(coalesce(", found, ", 0) = 1 OR ", found, " IS NULL AND ").there(c, alias).Add(")")
}

// LaterTurn reports whether the change carries out lines that others of the same list come before.
func (c *Change) LaterTurn() bool { return c.Lines != nil && c.Lines.Turn > 0 }

// Superseded reports whether the rows of the change may be changed once more by lines of a later turn.
func (c *Change) Superseded() bool { return c.Lines != nil && len(c.Lines.Later) > 0 }

// TurnLines is the query, from FROM on, for the lines of a later turn that the change would carry
// out, by what the lines before them leave; of those that change a row nobody knows whether it
// has their values by then.
func TurnLines(c *Change) *Query {
	q := &Query{D: c.D}
	q.Add(" FROM ", c.Lines.SQL, " AS line WHERE ")
	if c.Verb == sqltext.Insert {
		q.Add("NOT ")
	}
	return q.found(c, "line").acting("line", c.Lines.Actions)
}
