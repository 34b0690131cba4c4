package change

import (
	"slices"

	"jugatum/internal/sqltext"
)

// Queries over the kept values: putting them back, and holding them against the table.

// Restore is the statement that puts kept values back: rows seq in (from, to]
// whose present values are still the ones the run left. A deleted row is put
// back where its key is free.
func Restore(c *Change, kept *Kept, from, to int64) *Query {
	q := &Query{D: c.D}
	target := c.Table.SQL(c.D)
	if len(kept.New) == 0 {
		q.Add("INSERT ", c.Table.Or(), "INTO ", c.Table.NameSQL(c.D), " (")
		all := kept.Old
		if c.Table.Key.Hidden {
			all = slices.Concat(kept.Keys, kept.Old)
		}
		for i, o := range all {
			q.sep(i).Add(c.D.Quote(o.Of.Name))
		}
		q.Add(")")
		for _, col := range c.Table.Columns {
			if col.Identity {
				q.Add(" OVERRIDING SYSTEM VALUE")
				break
			}
		}
		q.Add(" SELECT ")
		for i, o := range all {
			q.sep(i).Add("k.", c.D.Quote(o.Name))
		}
		q.Add(" FROM ", kept.Table, " AS k WHERE ").seq(kept, from, to)
		q.Add(" AND NOT EXISTS (SELECT 1 FROM ", target, " AS jugatum_t WHERE ").KeyJoin("jugatum_t", "k", kept.AfterRun(c))
		return q.Add(")").still(c, kept)
	}
	still := func() *Query {
		for _, n := range kept.New {
			q.Add(" AND ").Unchanged(n.Of, "jugatum_t."+c.D.Quote(n.Of.Name), "k."+c.D.Quote(n.Name))
		}
		return q
	}
	if q.D.Forms().By == ByJoin {
		q.FromKept(c, kept, kept.AfterRun(c), kept.Old).Add(" WHERE ").seq(kept, from, to)
		return still()
	}
	q.Add("UPDATE ", c.Table.Or(), target, " AS jugatum_t SET ")
	for i, o := range kept.Old {
		q.sep(i).Add(c.D.Quote(o.Of.Name), " = k.", c.D.Quote(o.Name))
	}
	q.Add(" FROM ", kept.Table, " AS k WHERE ").seq(kept, from, to).Add(" AND ").KeyJoin("jugatum_t", "k", kept.AfterRun(c))
	return still()
}

// FromKept appends an UPDATE of the target from kept values: the kept rows are read first,
// and each finds its row by byKey. A condition follows.
func (q *Query) FromKept(c *Change, kept, byKey *Kept, values []KeptColumn) *Query {
	q.Add("UPDATE ", kept.Table, " AS k STRAIGHT_JOIN ", c.Table.SQL(c.D), " AS jugatum_t ON ").KeyJoin("jugatum_t", "k", byKey).Add(" SET ")
	for i, v := range values {
		q.sep(i).Add("jugatum_t.", c.D.Quote(v.Of.Name), " = k.", c.D.Quote(v.Name))
	}
	return q
}

// AfterRun is the kept layout by which a row is found once the run has changed
// it: a key column that the run assigned is looked for by its new value.
func (k *Kept) AfterRun(c *Change) *Kept {
	out := *k
	out.Keys = append([]KeptColumn(nil), k.Keys...)
	for i, key := range out.Keys {
		for _, n := range k.New {
			if n.Of == key.Of {
				out.Keys[i] = n
			}
		}
	}
	return &out
}

// State says what verify expects of the rows in a kept-values table.
type State int

const (
	AsChanged  State = iota // the new values; deleted rows gone
	AsRestored              // the old values; deleted rows back
)

// Mismatched is the query for the kept rows seq in (from, to] that are not in the
// given state: seq, the key, then for each kept column the value expected and
// the value found, all as text. A row that is gone has only NULL found, and
// the column "present" tells it from one that is there.
//
// shown says which values count as expected in the output: those of the state
// for verify; for an undo that left rows alone, those that the run had left.
func Mismatched(c *Change, kept *Kept, state, shown State, from, to int64, limit int) *Query {
	q := &Query{D: c.D}
	text := func(alias, name string, col *Column) string {
		return q.D.Text(col, alias+"."+c.D.Quote(name))
	}
	byKey := kept
	if state == AsChanged {
		byKey = kept.AfterRun(c)
	}
	present := "jugatum_t." + c.D.Quote(kept.Keys[0].Of.Name)
	want := kept.Values(state)
	q.Add(c.D.Settings(kept.Packed != ""))
	q.Add("SELECT k.seq, CASE WHEN ", present, " IS NULL THEN 0 ELSE 1 END")
	for _, key := range kept.Keys {
		q.Add(", ", text("k", key.Name, key.Of))
	}
	for _, w := range kept.Values(shown) {
		q.Add(", ", text("k", w.Name, w.Of), ", ", text("jugatum_t", w.Of.Name, w.Of))
	}
	q.Add(" FROM ", kept.Table, " AS k LEFT JOIN ", c.Table.SQL(c.D), " AS jugatum_t ON ").KeyJoin("jugatum_t", "k", byKey)
	q.Add(" WHERE ").seq(kept, from, to).Add(" AND ")
	if len(kept.New) == 0 && state == AsChanged {
		q.Add(present, " IS NOT NULL")
		if c.Table.Key.Hidden { // the number of the last row goes to the next one that is made
			for _, o := range kept.Old {
				q.Add(" AND ").Unchanged(o.Of, "jugatum_t."+c.D.Quote(o.Of.Name), "k."+c.D.Quote(o.Name))
			}
		}
	} else {
		q.Add("(", present, " IS NULL")
		for _, w := range want {
			q.Add(" OR NOT (").Unchanged(w.Of, "jugatum_t."+c.D.Quote(w.Of.Name), "k."+c.D.Quote(w.Name)).Add(")")
		}
		q.Add(")")
	}
	return q.Add(" ORDER BY k.seq LIMIT ", itoa(limit))
}

// Values are the columns that hold a state's values.
func (k *Kept) Values(s State) []KeptColumn {
	if s == AsChanged && len(k.New) > 0 {
		return k.New
	}
	return k.Old
}

// seq appends the condition that the kept row is one of those after from, up to
// to. Where they are packed, it says as well in which packs they are.
func (q *Query) seq(kept *Kept, from, to int64) *Query {
	q.Add("k.seq > ").Arg(from, "bigint").Add(" AND k.seq <= ").Arg(to, "bigint")
	if kept.Packed != "" {
		q.Add(" AND k.packed_to > ").Arg(from, "bigint").Add(" AND k.packed_to < ").Arg(AddInt(to, PackedRows), "bigint")
	}
	return q
}

// Numbered appends the condition that a kept row, k, is one of those after from, up to to.
func (q *Query) Numbered(kept *Kept, from, to int64) *Query { return q.seq(kept, from, to) }

// apart appends the kept rows, with their numbers and these columns, as an item of a FROM list
// in which they are found by their columns; from and to, if not both 0, say of which numbers.
// Packed ones are unpacked once for it, rather than once for each row that they are joined to, and
// a server that makes an index of such a list does so for the others as well, since their table has
// none by the key.
func (q *Query) apart(kept *Kept, columns []KeptColumn, from, to int64) *Query {
	if kept.Packed == "" && q.D.Forms().Unmerged == "" {
		return q.Add(kept.Table)
	}
	seen := map[string]bool{}
	q.Add("(SELECT k.seq")
	for _, c := range columns {
		if !seen[c.Name] {
			seen[c.Name] = true
			q.Add(", k.", q.D.Quote(c.Name))
		}
	}
	q.Add(" FROM ", kept.Table, " AS k")
	if from != 0 || to != 0 {
		q.Add(" WHERE ").seq(kept, from, to)
	}
	return q.Add(q.D.Forms().Unmerged, ")")
}

// Chained is the query for those kept rows after from, up to to, of which other has one with
// the same key: the number, and these values of the other one, as text.
func Chained(d Dialect, kept, other *Kept, values []KeptColumn, from, to int64) *Query {
	q := &Query{D: d}
	q.Add(d.Settings(kept.Packed != "" || other.Packed != ""), "SELECT k.seq")
	for _, v := range values {
		q.Add(", ", q.D.Text(v.Of, "m."+d.Quote(v.Name)))
	}
	q.Add(" FROM ", kept.Table, " AS k JOIN ").apart(other, slices.Concat(other.Keys, values), 0, 0).Add(" AS m ON ")
	for i, key := range kept.Keys {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add("k.", d.Quote(key.Name), " ", key.Of.Op("="), " m.", d.Quote(other.Keys[i].Name))
	}
	return q.Add(" WHERE ").seq(kept, from, to)
}

// Repeated is the query for the last number, after from and up to to, of a kept row after which
// comes another of the same row of the table; NULL without one.
func Repeated(d Dialect, kept *Kept, from, to int64) *Query {
	q := &Query{D: d}
	q.Add(d.Settings(kept.Packed != ""), "SELECT max(k.seq) FROM ", kept.Table, " AS k JOIN ").apart(kept, kept.Keys, from, to).Add(" AS m ON m.seq > k.seq")
	for _, key := range kept.Keys {
		q.Add(" AND k.", d.Quote(key.Name), " ", key.Of.Op("="), " m.", d.Quote(key.Name))
	}
	return q.Add(" AND m.seq <= ").Arg(to, "bigint").Add(" WHERE ").seq(kept, from, to)
}

// KeptAmong is the query for which of some keys, by their place in the list, are those of kept
// rows. They are of the columns of byKey.
func KeptAmong(d Dialect, kept, byKey *Kept, keys []KeyValue) *Query {
	q := &Query{D: d}
	q.Add(d.Settings(kept.Packed != ""), "SELECT DISTINCT n FROM (SELECT CASE")
	for n, key := range keys {
		q.Add(" WHEN 1 = 1")
		for i, k := range byKey.Keys {
			d.KeyIs(q.Add(" AND "), k.Of, "k."+d.Quote(k.Name), "=", key[i])
		}
		q.Add(" THEN ", itoa(n))
	}
	return q.Add(" END AS n FROM ", kept.Table, " AS k) AS jugatum_s WHERE n IS NOT NULL")
}

// Vanished is the query for the first of the kept rows after from, up to to, that
// is not found by the key that it had: that key, each column as text.
func Vanished(c *Change, kept *Kept, from, to int64) *Query {
	q := &Query{D: c.D}
	q.Add(c.D.Settings(kept.Packed != ""))
	q.Add("SELECT ")
	for i, k := range kept.Keys {
		q.sep(i).Add(q.D.Text(k.Of, "k."+c.D.Quote(k.Name)))
	}
	q.Add(" FROM ", kept.Table, " AS k WHERE ").seq(kept, from, to)
	return q.Add(c.D.Settled("k"), " AND NOT EXISTS (SELECT 1 FROM ", c.Table.SQL(c.D), " AS jugatum_t WHERE ").KeyJoin("jugatum_t", "k", kept).Add(") LIMIT 1")
}

// Refresh is the statement that has the kept rows after from, up to to, hold the
// new values that the table has now: a trigger may have changed them once more
// after the row was written.
func Refresh(c *Change, kept *Kept, from, to int64) *Query {
	q := &Query{D: c.D}
	q.Add("UPDATE ", kept.Table, " AS k SET ")
	for i, n := range kept.New {
		q.sep(i).Add(c.D.Quote(n.Name), " = jugatum_t.", c.D.Quote(n.Of.Name))
	}
	q.Add(" FROM ", c.Table.SQL(c.D), " AS jugatum_t WHERE ").seq(kept, from, to).Add(" AND ").KeyJoin("jugatum_t", "k", kept).Add(" AND NOT (1 = 1")
	for _, n := range kept.New {
		q.Add(" AND ").Unchanged(n.Of, "jugatum_t."+c.D.Quote(n.Of.Name), "k."+c.D.Quote(n.Name))
	}
	return q.Add(")")
}

// ForgetUnchanged is the statement that drops those of the kept rows after from,
// up to to, whose new values are the old ones.
func ForgetUnchanged(c *Change, kept *Kept, from, to int64) *Query {
	q := &Query{D: c.D}
	q.Add("DELETE FROM ", kept.Table, " AS k WHERE ").seq(kept, from, to)
	for i, n := range kept.New {
		if !c.Set[i].Implicit {
			q.Add(" AND ").Unchanged(n.Of, "k."+c.D.Quote(n.Name), "k."+c.D.Quote(kept.Old[i].Name))
		}
	}
	return q
}

// Missed is the query for how many rows match, would change, and are not among
// those kept. more appends a further condition for the row of that alias.
func Missed(c *Change, kept *Kept, more func(q *Query, alias string)) *Query {
	q := &Query{D: c.D}
	q.With(c, false).Add("SELECT count(*) FROM (SELECT DISTINCT ").Columns(c.Ref, c.Table.Key.Columns).Source(c, Range{})
	if c.Verb == sqltext.Update {
		q.Changing(c)
	}
	more(q, c.Ref)
	if q.D.Forms().HashesNotIn { // otherwise all of them would be gone through for every row
		q.Add(" AND (").Columns(c.Ref, c.Table.Key.Columns).Add(") NOT IN (SELECT ")
		for i, k := range kept.Keys {
			q.sep(i).Add("k.", c.D.Quote(k.Name))
		}
		return q.Add(" FROM ", kept.Table, " AS k)) AS jugatum_s")
	}
	return q.Add(" AND NOT EXISTS (SELECT 1 FROM ", kept.Table, " AS k WHERE ").KeyJoin(c.Ref, "k", kept).Add(")) AS jugatum_s")
}

// ChangedTwice is the query for how many rows are kept more than once.
func ChangedTwice(c *Change, kept *Kept) *Query {
	q := &Query{D: c.D}
	names := ""
	for i, k := range kept.Keys {
		if i > 0 {
			names += ", "
		}
		names += c.D.Quote(k.Name)
	}
	return q.Add("SELECT count(*) FROM (SELECT 1 FROM ", kept.Table, " AS k GROUP BY ", names, " HAVING count(*) > 1) AS jugatum_s")
}

// CountKept is the query for how many kept rows there are after from, up to to.
func CountKept(d Dialect, kept *Kept, from, to int64) *Query {
	q := &Query{D: d}
	if kept.Packed == "" {
		return q.Add("SELECT count(*) FROM ", kept.Table, " AS k WHERE ").seq(kept, from, to)
	}
	q.Add("SELECT CAST(coalesce(sum(least(last, ").Arg(to, "bigint").Add(") - greatest(first, ").Arg(from, "bigint")
	return q.Add(")), 0) AS SIGNED) FROM ", kept.Packed, " WHERE last > ").Arg(from, "bigint").Add(" AND first < ").Arg(to, "bigint")
}

// NextKept is the query for the number before that of the first kept row after
// from; it gives NULL or nothing if there is none.
func NextKept(d Dialect, kept *Kept, from int64) *Query {
	q := &Query{D: d}
	if kept.Packed == "" {
		return q.Add("SELECT min(seq) - 1 FROM ", kept.Table, " WHERE seq > ").Arg(from, "bigint")
	}
	q.Add("SELECT greatest(first, ").Arg(from, "bigint")
	return q.Add(") FROM ", kept.Packed, " WHERE last > ").Arg(from, "bigint").Add(" ORDER BY last LIMIT 1")
}

// KeptNumbers is the query for the numbers of the kept rows after from, up to to,
// the last first.
func KeptNumbers(d Dialect, kept *Kept, from, to int64) *Query {
	q := &Query{D: d}
	return q.Add("SELECT k.seq FROM ", kept.Table, " AS k WHERE ").seq(kept, from, to).Add(" ORDER BY k.seq DESC")
}

// PreviousKept is the query for the number of the last kept row up to to; it
// gives NULL or nothing if there is none.
func PreviousKept(d Dialect, kept *Kept, to int64) *Query {
	q := &Query{D: d}
	if kept.Packed == "" {
		return q.Add("SELECT max(seq) FROM ", kept.Table, " WHERE seq <= ").Arg(to, "bigint")
	}
	q.Add("SELECT least(last, ").Arg(to, "bigint")
	return q.Add(") FROM ", kept.Packed, " WHERE first < ").Arg(to, "bigint").Add(" ORDER BY last DESC LIMIT 1")
}
