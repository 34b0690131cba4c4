package engine

import (
	"context"

	"jugatum/internal/change"
)

// What engines do that stage a batch in its kept-values table before they write it.

// Staging is a table of ours to be made of what a query gives.
type Staging struct {
	Table     string // as SQL text
	Query     *change.Query
	Index     []string // columns of the query by which rows are found, as far as an index can be made of them; none without
	Temporary bool     // seen by this session alone, and gone with it
}

// Staged are the kept rows of a batch by their numbers: after From, up to To.
// Beyond them may lie another lane's.
type Staged struct{ From, To int64 }

// Of appends the condition that a kept row is one of them; alias may be "".
func (s Staged) Of(q *change.Query, alias string) *change.Query {
	if alias != "" {
		alias += "."
	}
	return q.Add(alias, "seq > ").Arg(s.From, "").Add(" AND ", alias, "seq <= ").Arg(s.To, "")
}

// Unchanged is the statement that drops the staged rows whose new values are
// the old ones.
func Unchanged(c *change.Change, kept *change.Kept, staged Staged) *change.Query {
	q := &change.Query{D: c.D}
	return unchanged(q.Add("DELETE"), c, kept, staged)
}

// CountUnchanged is the query for how many there are.
func CountUnchanged(c *change.Change, kept *change.Kept, staged Staged) *change.Query {
	q := &change.Query{D: c.D}
	return unchanged(q.Add("SELECT count(*)"), c, kept, staged)
}

func unchanged(q *change.Query, c *change.Change, kept *change.Kept, staged Staged) *change.Query {
	staged.Of(q.Add(" FROM ", kept.Table, " WHERE "), "")
	for i, n := range kept.New {
		if !c.Set[i].Implicit {
			q.Add(" AND ").Unchanged(n.Of, c.D.Quote(n.Name), c.D.Quote(kept.Old[i].Name))
		}
	}
	return q
}

// DropDoubles looks for target rows that were staged more than once because
// several source rows match them, and leaves one of each. The same new values
// are one change; different ones are an *AmbiguousError, since nobody could say
// which is meant. It tells how many it dropped.
func DropDoubles(ctx context.Context, tx *Tx, c *change.Change, kept *change.Kept, staged Staged) (int64, error) {
	keys, shown := "", ""
	for i, k := range kept.Keys {
		if i > 0 {
			keys += ", "
			shown += ", "
		}
		keys += "k." + c.D.Quote(k.Name)
		shown += c.D.Text(k.Of, "k."+c.D.Quote(k.Name))
	}
	var twice int64
	if err := tx.Scan(ctx, "SELECT count(*) FROM (SELECT 1 FROM "+kept.Table+" AS k WHERE k.seq > ? AND k.seq <= ? GROUP BY "+keys+" HAVING count(*) > 1) AS jugatum_d", []any{staged.From, staged.To}, &twice); err != nil || twice == 0 {
		return 0, err
	}
	q := &change.Query{D: c.D}
	q.Add("SELECT ", shown, " FROM ", kept.Table, " AS k JOIN ", kept.Table, " AS o ON o.seq > ").Arg(staged.From, "").Add(" AND o.seq < k.seq")
	for _, k := range kept.Keys {
		q.Add(" AND o.", c.D.Quote(k.Name), " ", k.Of.Op("="), " k.", c.D.Quote(k.Name))
	}
	staged.Of(q.Add(" WHERE "), "k").Add(" AND NOT (1 = 1")
	for _, n := range kept.New {
		q.Add(" AND ").Unchanged(n.Of, "k."+c.D.Quote(n.Name), "o."+c.D.Quote(n.Name))
	}
	q.Add(") LIMIT 1")
	key := make(change.KeyValue, len(kept.Keys))
	into := make([]any, len(key))
	for i := range key {
		var s string
		key[i], into[i] = "", &s
	}
	rows, err := tx.Query(ctx, q.String(), q.Args...)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	if rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return 0, err
		}
		for i := range key {
			key[i] = *into[i].(*string)
		}
		return 0, &AmbiguousError{Table: c.Table.String(), Key: key}
	}
	if err := rows.Err(); err != nil {
		return 0, err
	}
	rows.Close()
	// The list of those to leave is one level down, so that the server makes it
	// before it deletes from the same table.
	return tx.Exec(ctx, "DELETE FROM "+kept.Table+" WHERE seq > ? AND seq <= ? AND seq NOT IN (SELECT first FROM (SELECT min(k.seq) AS first FROM "+kept.Table+" AS k WHERE k.seq > ? AND k.seq <= ? GROUP BY "+keys+") AS jugatum_d)", staged.From, staged.To, staged.From, staged.To)
}
