package hazard

import (
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// What is found by a question to the rows.

// nullKeys are rows that a walk by key would never reach.
func nullKeys(l look) []Question {
	k := l.c.Table.Key
	if k == nil || !l.batched() {
		return nil
	}
	q := &change.Query{D: l.c.D}
	q.Add(" FROM ", l.c.Table.SQL(l.c.D), " WHERE ")
	for i, c := range k.Columns {
		if i > 0 {
			q.Add(" OR ")
		}
		q.Add(l.c.D.Quote(c.Name), " IS NULL")
	}
	if !k.MayNull {
		return nil
	}
	return []Question{{From: q, Quick: true, args: []any{strings.Join(k.Names(), ", ")}}}
}

// lost are rows that match nothing, where there must be none.
func lost(l look) []Question {
	if j := l.c.Lookup; j == nil || j.Missing || j.Unmatched != change.Fail {
		return nil
	}
	return []Question{{From: change.Lost(l.c), Quick: true, args: []any{l.c.Table}}}
}

// standTwice are references that would stand twice where the rows to which they refer become one.
func standTwice(l look) (out []Question) {
	m := l.c.Merge
	if m == nil {
		return nil
	}
	for i := range m.Refers {
		if r := &m.Refers[i]; !r.Drop && len(r.Uniques) > 0 {
			out = append(out, Question{From: m.Referring(l.c.D, r, true), Quick: true, args: []any{r.Table, r.Name()}})
		}
	}
	return out
}

// strayed are references that would be to nothing.
func strayed(l look) (out []Question) {
	m := l.c.Merge
	if m == nil {
		return nil
	}
	for i := range m.Refers {
		if q := m.Strayed(l.c.D, &m.Refers[i]); q != nil {
			out = append(out, Question{From: q, Quick: true, args: []any{m.Refers[i].Table, m.Refers[i].Name()}})
		}
	}
	return out
}

// ambiguousFill is asked also where nothing is counted: a step that fills promises it.
func ambiguousFill(l look) []Question {
	if l.c.Lookup == nil || l.c.Lookup.Unique || l.c.From.Empty() || l.c.Table.Key == nil {
		return nil
	}
	return []Question{{From: change.Doubles(l.c, change.Range{}).Within(" FROM (", ") AS jugatum_d"), Quick: true, Whole: true}}
}

func ambiguous(l look) []Question {
	if l.c.Lookup != nil || l.c.From.Empty() || l.c.Table.Key == nil || l.c.Verb != sqltext.Update {
		return nil
	}
	return []Question{{From: change.Doubles(l.c, change.Range{}).Within(" FROM (", ") AS jugatum_d"), Bare: true}}
}

// missedLines are lines of a list whose key must be there and is not, or the other way round.
func missedLines(which change.Outcome) func(l look) []Question {
	return func(l look) []Question {
		x := l.c.Lines
		if x == nil || !x.Fail || x.Missed != which {
			return nil
		}
		return []Question{{From: change.MissedLines(l.c), Quick: true, args: []any{x.File, l.c.Target()}}}
	}
}

// newCollisions are values of unique indexes that lines would insert once more.
func newCollisions(l look) (out []Question) {
	c := l.c
	if c.Lines == nil || c.Into == nil || l.changes == 0 {
		return nil
	}
	key := c.Lines.Table.Key.Names()
	for _, ix := range c.Into.Table.Indexes {
		ours := !slices.ContainsFunc(ix.Columns, func(name string) bool { return c.Lines.Table.Named(name) == nil })
		if !ix.Unique || ix.Partial || !ours || slices.Equal(ix.Columns, key) {
			continue
		}
		q := &change.Query{D: c.D}
		var cols []*change.Column
		for _, name := range ix.Columns {
			cols = append(cols, c.Lines.Table.Named(name))
		}
		q.Add(" FROM (SELECT ").Columns("jugatum_a", cols).Add(" FROM (SELECT ").Columns(c.Ref, cols).Source(c, change.Range{})
		q.Add(" UNION ALL SELECT ").Columns("jugatum_t", cols).Add(" FROM ", c.Into.Table.SQL(c.D), " AS jugatum_t) AS jugatum_a WHERE 1 = 1")
		for _, col := range cols {
			q.Add(" AND jugatum_a.", c.D.Quote(col.Name), " IS NOT NULL")
		}
		q.Add(" GROUP BY ").Columns("jugatum_a", cols).Add(" HAVING count(*) > 1) AS jugatum_c")
		out = append(out, Question{From: q, Apart: true, args: []any{ix.Name}})
	}
	return out
}

// alreadyThere are rows whose key is in the other table.
func alreadyThere(l look) []Question {
	if l.c.Into == nil || l.c.Into.Make || l.c.Into.Cleared || l.c.Lines != nil {
		return nil
	}
	return []Question{{From: change.Present(l.c).Within(" FROM (", ") AS jugatum_p"), Quick: true, args: []any{l.c.Into.Table}}}
}

// collisions are values of unique indexes that would stand twice once the step is
// done. Where only we know the new values, a row that collides stands alone when
// the step is run.
func collisions(l look) (out []Question) {
	c := l.c
	if c.Rewrite != nil || c.Table.Key == nil || l.changes == 0 {
		return nil
	}
	ask := func(name string, columns []string) {
		if q := collide(c, columns); q != nil {
			out = append(out, Question{From: q, Apart: true, args: []any{name}})
		}
	}
	key := c.Table.Key.Names()
	ask(c.Table.Key.Name, key)
	for _, ix := range c.Table.Indexes {
		if ix.Unique && !ix.Partial && !slices.Equal(ix.Columns, key) {
			ask(ix.Name, ix.Columns)
		}
	}
	return out
}

// collide is the question for one index; nil if the change does not touch it, or
// it holds an expression, of which the database itself will tell.
func collide(c *change.Change, cols []string) *change.Query {
	set := map[string]change.Set{}
	for _, s := range c.Set {
		set[s.Column.Name] = s
	}
	touched := false
	for _, name := range cols {
		if c.Table.Named(name) == nil {
			return nil // an expression: the database itself will tell
		}
		_, ok := set[name]
		touched = touched || ok
	}
	if !touched {
		return nil
	}
	q := &change.Query{D: c.D}
	q.Add(" FROM (")
	list := func(expr func(col string, i int)) {
		for i, name := range cols {
			if i > 0 {
				q.Add(", ")
			}
			expr(name, i)
		}
	}
	u := func(i int) string { return fmt.Sprintf("u%d", i) }
	keys := c.Table.Key.Columns
	q.With(c, true).Add("jugatum_m AS (SELECT ")
	for i, k := range keys {
		q.Add(c.Ref, ".", c.D.Quote(k.Name), fmt.Sprintf(" AS k%d, ", i))
	}
	list(func(name string, i int) {
		if s, ok := set[name]; ok {
			before, after := c.D.Assign(s.Column)
			q.Add(before).NewValue(c, s).Add(after, " AS ", u(i))
		} else {
			q.Add(c.Ref, ".", c.D.Quote(name), " AS ", u(i))
		}
	})
	q.Source(c, change.Range{}).Add(") SELECT 1 FROM (SELECT DISTINCT ")
	for i := range keys {
		q.Add(fmt.Sprintf("k%d, ", i))
	}
	list(func(_ string, i int) { q.Add(u(i)) })
	q.Add(" FROM jugatum_m UNION ALL SELECT ").Columns("jugatum_t", keys).Add(", ")
	list(func(name string, i int) { q.Add("jugatum_t.", c.D.Quote(name)) })
	q.Add(" FROM ", c.Table.SQL(c.D), " AS jugatum_t WHERE NOT EXISTS (SELECT 1 FROM jugatum_m WHERE ")
	for i, k := range keys {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add(fmt.Sprintf("k%d ", i), k.Op("="), " jugatum_t.", c.D.Quote(k.Name))
	}
	q.Add(")) AS jugatum_a WHERE ")
	for i := range cols {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add(u(i), " IS NOT NULL")
	}
	q.Add(" GROUP BY ")
	list(func(_ string, i int) { q.Add(u(i)) })
	q.Add(" HAVING count(*) > 1) AS jugatum_c")
	return q
}

// reference is a foreign key of another table that the change concerns.
type reference struct {
	change.ForeignKey
	event, action string
}

// follows reports whether the database changes the rows that refer.
func (r reference) follows() bool {
	return change.Follows(r.action)
}

func (l look) references() (out []reference) {
	if l.c.Verb == sqltext.Insert || l.c.Merge != nil { // nothing becomes of the rows themselves, or references are moved
		return nil
	}
	for _, fk := range l.c.Table.ReferredBy {
		r := reference{ForeignKey: fk, event: "delete", action: fk.OnDelete}
		if l.c.Verb == sqltext.Update {
			r.event, r.action = "update", fk.OnUpdate
			if !slices.ContainsFunc(l.c.Set, func(s change.Set) bool { return slices.Contains(fk.Parent, s.Column.Name) }) {
				continue
			}
		}
		out = append(out, r)
	}
	return out
}

// from is SQL for the rows that refer to rows concerned.
func (r reference) from(c *change.Change) *change.Query {
	q := &change.Query{D: c.D}
	q.Add(" FROM ", r.FromSQL(c.D), " AS jugatum_c WHERE EXISTS (").With(c, false).Add("SELECT 1").Source(c, change.Range{})
	return q.Add(" AND ").Refers(c.Table, r.ForeignKey, c.Ref, "jugatum_c").Add(")")
}

// cascades are rows elsewhere that go or change with those concerned.
func cascades(event, action string) func(look) []Question {
	return func(l look) (out []Question) {
		for _, r := range l.references() {
			if r.event == event && r.action == action && len(l.c.Acts) == 0 && !(event == "update" && l.c.Back) {
				out = append(out, r.question(l.c))
			}
		}
		return out
	}
}

// question asks for the rows that the database would take along, and tells why they are not
// changed by acts of ours, which undo could take back.
func (r reference) question(c *change.Change) Question {
	why := ""
	if c.NotKept != "" {
		why = " (" + c.NotKept + ")"
	}
	return Question{From: r.from(c), Quick: true, args: []any{r.From(), r.event, strings.ToLower(r.action), why}}
}

// following are rows elsewhere that change with those concerned, and back with them.
func following(l look) (out []Question) {
	for _, r := range l.references() {
		if l.c.Back && r.event == "update" && r.follows() {
			out = append(out, Question{From: r.from(l.c), args: []any{r.From()}})
		}
	}
	return out
}

// losing are rows elsewhere whose reference is taken from them.
func losing(l look) (out []Question) {
	for _, r := range l.references() {
		if r.follows() && r.action != "CASCADE" && len(l.c.Acts) == 0 {
			out = append(out, r.question(l.c))
		}
	}
	return out
}

func referenced(l look) (out []Question) {
	for _, r := range l.references() {
		if !r.follows() {
			out = append(out, Question{From: r.from(l.c), args: []any{r.From(), strings.ToLower(r.action)}})
		}
	}
	return out
}

func triggers(l look) (out []Question) {
	for _, t := range l.c.Table.Triggers {
		if l.fires(t) {
			out = append(out, Question{Rows: l.changes, args: []any{t.Name, t.Events}})
		}
	}
	return out
}
