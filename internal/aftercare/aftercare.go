// Package aftercare says how a database can be told to keep what a job has brought about, also for
// rows to come: by constraints, defaults, indexes and triggers, for review. It carries none of them out.
package aftercare

import (
	"context"
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/kind/merge"
	"jugatum/internal/kind/shape"
	"jugatum/internal/sqltext"
)

// Step is what can be kept of one step.
type Step struct {
	Name  string `json:"name"`
	Table string `json:"table"`
	Rules []Rule `json:"rules"`
	None  string `json:"none,omitempty"` // why there is no rule, or why not for all of it
}

// Rule is one of the ways to keep it. Those of a step are alternatives where they say so.
type Rule struct {
	Kind       change.RuleKind    `json:"kind"`
	Keeps      string             `json:"keeps"`
	Breaking   int64              `json:"breaking"` // rows that break it now; -1 not asked
	Statements []change.Statement `json:"statements"`
	From       string             `json:"from"` // where it is written what they lock
	Instead    bool               `json:"instead,omitempty"`
}

// Look finds the rules for the steps of a job.
func Look(ctx context.Context, db engine.DB, j *job.Job, changes []*change.Change) (out []Step, err error) {
	for _, c := range changes {
		x := finder{c: c}
		if c.Of < len(j.Steps) {
			x.step = j.Steps[c.Of]
		}
		x.find()
		s := Step{Name: c.Step, Table: c.Target().String(), Rules: []Rule{}, None: x.none}
		for i, r := range x.rules {
			one := Rule{Kind: r.Kind, Keeps: r.Why, Breaking: -1, Instead: x.instead[i]}
			if one.Statements, one.From = db.Dialect().Keep(r); len(one.Statements) == 0 {
				continue
			}
			if r.Against != nil {
				if err := db.JobPool().QueryRowContext(ctx, "SELECT count(*)"+r.Against.String(), r.Against.Args...).Scan(&one.Breaking); err != nil {
					return nil, fmt.Errorf("step %q: rows that break %s: %w", c.Step, r.Why, err)
				}
			}
			s.Rules = append(s.Rules, one)
		}
		out = append(out, s)
	}
	return out, nil
}

// finder looks for the rules of one change.
type finder struct {
	c       *change.Change
	step    job.Step
	rules   []*change.Rule
	instead []bool
	none    string
}

// add takes up a rule; instead says that it is another way to keep what the one before it keeps.
func (x *finder) add(instead bool, r *change.Rule) {
	x.rules, x.instead = append(x.rules, r), append(x.instead, instead)
}

func (x *finder) find() {
	c := x.c
	_, shaped := x.step.Kind.(*shape.Step)
	switch {
	case c.Recorded:
		x.none = "its job cannot be read any more"
	case c.Call != nil || c.Lines != nil:
		x.none = "a list says which rows are meant: it is no rule for others"
	case c.Into != nil:
		x.none = "rows are put into another table when a person says so; run the job again for those that come"
	case c.First != nil:
		x.none = "the first rows by an order are no rule for others"
	case c.Merge != nil:
		x.merge()
	case shaped:
		x.shapes()
	case c.Rewrite != nil:
		x.replace()
	case c.Lookup != nil:
		x.fill()
	case c.Verb == sqltext.Delete:
		x.deleted()
	default:
		x.sets()
	}
	if len(x.rules) == 0 && x.none == "" {
		x.none = "nothing of it can be said of a row by itself; run the job again for rows that come"
	}
}

// name makes a name for what keeps a rule.
func (x *finder) name(parts ...string) string {
	return change.RuleName(append([]string{x.c.Table.Name}, parts...)...)
}

// merge has a unique index keep rows from coming to be the same again.
func (x *finder) merge() {
	c, m := x.c, x.c.Merge
	r := &change.Rule{Kind: change.KeepUnique, Table: c.Table, By: m.By, Plain: m.SameAs == string(merge.Exact)}
	var names, apart []string
	for _, col := range m.By {
		value := c.D.Quote(col.Name)
		if col.Class == change.Text {
			value = c.D.Alike(change.Form(m.SameAs), value)
		}
		if !r.Plain && value != c.D.Quote(col.Name) {
			value = "(" + value + ")"
		}
		r.Unique, names = append(r.Unique, value), append(names, col.Name)
		apart = append(apart, c.D.Quote(col.Name)+" IS NOT NULL")
	}
	r.Name = x.name(append(names, "one")...)
	r.Why = "no two rows of " + c.Table.String() + " have the same " + strings.Join(names, " and ")
	r.Against = (&change.Query{D: c.D}).Add(" FROM (SELECT 1 AS n FROM ", c.Table.SQL(c.D), " WHERE ", strings.Join(apart, " AND "), " GROUP BY ", strings.Join(r.Unique, ", "), " HAVING count(*) > 1) AS jugatum_d")
	x.add(false, r)
	if m.Filter != "" {
		x.none = "the step's where stands in no index here: rows that it leaves out must be alone as well"
	}
	if m.SameAs != string(merge.Exact) {
		x.none = "the index goes by the server's own rules for case and blanks, which are not quite those of the run"
	}
}

// shapes has a condition for each transform of which the server can tell whether a text has its form.
func (x *finder) shapes() {
	c := x.c
	var untold []string
	for i, s := range c.Set {
		if s.Implicit || i >= len(c.Rewrite.Shapes) {
			continue
		}
		if c.Rewrite.From != nil && c.Rewrite.From[i] != nil {
			untold = append(untold, s.Column.Name+", which is made of "+c.Rewrite.From[i].Name())
			continue
		}
		var holds []string
		for _, t := range c.Rewrite.Shapes[i] {
			if cond := c.D.Shaped(t.Name, c.D.Quote(s.Column.Name)); cond != "" {
				holds = append(holds, cond)
			} else {
				untold = append(untold, s.Column.Name+": "+t.Name)
			}
		}
		if len(holds) == 0 {
			continue
		}
		x.check(strings.Join(holds, " AND "), s.Column.Name+"_form", s.Column.Name+" is in its form")
	}
	if len(untold) > 0 {
		x.none = "the server cannot tell whether a text has the form of " + strings.Join(untold, ", ") + "; run the job again for rows that come"
	}
}

// check adds a condition, as SQL over the row.
func (x *finder) check(holds, name, why string) {
	f, err := sqltext.Expression(x.c.D, holds)
	if err != nil { // of our own making
		return
	}
	x.holds(f, func(over string) string { return over }, name, why)
}

// holds adds a condition made of a piece of the job's SQL.
func (x *finder) holds(f sqltext.Fragment, with func(over string) string, name, why string) {
	r, no := x.c.Keeps(change.KeepCheck, f, with)
	if no != "" {
		x.none = no + ": it is no condition of a row by itself"
		return
	}
	r.Name, r.Why, r.Against = x.name(name), why, x.c.Broken(r.Holds)
	x.add(false, r)
}

// replace keeps the text out, or replaces it in rows that come.
func (x *finder) replace() {
	c, rules := x.c, x.c.Rewrite.Rules
	if rules.Pattern != "" {
		x.none = "the server does not know the pattern; run the job again for rows that come"
		return
	}
	for _, s := range c.Set {
		if s.Implicit {
			continue
		}
		name := c.D.Quote(s.Column.Name)
		holds, value := []string{}, name
		for _, p := range rules.Pairs {
			find := c.D.Literal(change.Value{Type: change.TextValue, Text: p.Find})
			holds = append(holds, "replace("+name+", "+find+", '') = "+name)
			value = "replace(" + value + ", " + find + ", " + c.D.Literal(change.Value{Type: change.TextValue, Text: p.With}) + ")"
		}
		x.check(strings.Join(holds, " AND "), s.Column.Name+"_without", s.Column.Name+" does not hold the text that was replaced, as it is written")
		x.assign(true, s.Column, value, "", s.Column.Name+"_replaced", "the text is replaced in "+s.Column.Name)
	}
	x.none = "in its other forms, such as within structured values, the server does not find the text; run the job again for those"
}

// assign adds a trigger that gives a column a value. Both are SQL over the row.
func (x *finder) assign(instead bool, col *change.Column, value, when, name, why string) {
	c := x.c
	f, err := sqltext.Expression(c.D, value)
	if err != nil {
		return
	}
	over := func(prefix string) string { text, _ := c.Alone(f, prefix); return text }
	if _, no := c.Alone(f, ""); no != "" {
		x.none = no + ": no trigger over the row alone does that"
		return
	}
	r := &change.Rule{Kind: change.KeepAssign, Table: c.Table, Column: col, New: over, Name: x.name(name), Why: why}
	if when != "" {
		w, err := sqltext.Expression(c.D, when)
		if err != nil {
			return
		}
		var no string
		if r.When, no = c.Alone(w, "NEW."); no != "" {
			x.none = no + ": no trigger over the row alone does that"
			return
		}
	}
	x.add(instead, r)
}

// fill has columns refer to where their values come from, and hold one in every row.
func (x *finder) fill() {
	c, l := x.c, x.c.Lookup
	if l.Missing {
		x.none = "rows without a match are for a person to look at"
		return
	}
	for i, s := range c.Set {
		if s.Implicit {
			continue
		}
		if i < len(l.Copied) && l.Copied[i] != nil && l.Table != nil && l.Table.Unique(l.Copied[i].Name) {
			name, at := c.D.Quote(s.Column.Name), l.Copied[i]
			x.add(false, &change.Rule{Kind: change.KeepReference, Table: c.Table, Column: s.Column, To: l.Table, At: at, Name: x.name(s.Column.Name, "fk"), Why: s.Column.Name + " is one of " + l.Table.String() + "'s",
				Against: (&change.Query{D: c.D}).Add(" FROM ", c.Table.SQL(c.D), " AS jugatum_t WHERE jugatum_t.", name, " IS NOT NULL AND NOT EXISTS (SELECT 1 FROM ", l.Table.SQL(c.D), " AS jugatum_p WHERE ", change.Refers(c.D, at, s.Column, "jugatum_p."+c.D.Quote(at.Name), "jugatum_t."+name), ")")})
		}
		x.notNull(s.Column)
	}
}

// notNull has every row have a value in a column.
func (x *finder) notNull(col *change.Column) {
	if col.NotNull {
		return
	}
	c := x.c
	x.add(false, &change.Rule{Kind: change.KeepNotNull, Table: c.Table, Column: col, Name: x.name(col.Name, "there"), Why: "every row has a " + col.Name,
		Against: (&change.Query{D: c.D}).Add(" FROM ", c.Table.SQL(c.D), " WHERE ", c.D.Quote(col.Name), " IS NULL")})
}

// deleted keeps out rows such as those that were deleted.
func (x *finder) deleted() {
	if x.c.Where.Empty() || !x.c.From.Empty() {
		x.none = "every row of the table went, or other tables say which: that is no condition of a row by itself"
		return
	}
	x.holds(x.c.Where, func(over string) string { return "(" + over + ") IS NOT TRUE" }, "kept_out", "no row is such as those that were deleted")
}

// sets keeps columns that are computed from the row.
func (x *finder) sets() {
	c := x.c
	if !c.From.Empty() {
		x.none = "other tables say what the values are: that is no rule for a row by itself"
		return
	}
	for _, s := range c.Set {
		if s.Literal != nil || s.Implicit || s.Default {
			continue
		}
		switch from := c.ReadsAssigned(s.Expr); {
		case from == s.Column.Name:
			x.none = s.Column.Name + " was computed from what it was: done to every row that comes, that would be done twice"
			return
		case from != "":
			x.none = s.Column.Name + " was computed from what " + from + " was, which the step changes as well: done to every row that comes, that would be done twice"
			return
		}
	}
	where := c.Where.String()
	for _, s := range c.Set {
		if s.Implicit || strings.EqualFold(s.Column.Name, x.step.Once) {
			continue
		}
		name := s.Column.Name
		value := ""
		switch {
		case s.Literal != nil:
			value = c.D.Literal(*s.Literal)
		case !s.Default && !s.Expr.Empty():
			value = "(" + s.Expr.String() + ")"
		default:
			continue
		}
		if s.Literal != nil && x.onlyMissing(s.Column) { // what is missing is filled in
			x.add(false, &change.Rule{Kind: change.KeepDefault, Table: c.Table, Column: s.Column, Value: value, Name: x.name(name, "default"), Why: "a row that comes without a " + name + " has " + value})
			x.notNull(s.Column)
			continue
		}
		x.assign(false, s.Column, value, where, name+"_computed", name+" is computed in every row that comes, or is changed")
		x.equal(s, value, where)
	}
}

// equal has a column be what it is computed as, by a condition.
func (x *finder) equal(s change.Set, value, where string) {
	c := x.c
	column := c.D.Quote(s.Column.Name)
	holds := "CASE WHEN " + column + " IS NULL OR " + value + " IS NULL THEN " + column + " IS NULL AND " + value + " IS NULL ELSE " + column + " = " + value + " END"
	if where != "" {
		holds = "(" + where + ") IS NOT TRUE OR " + holds
	}
	f, err := sqltext.Expression(c.D, holds)
	if err != nil {
		return
	}
	r, no := c.Keeps(change.KeepCheck, f, func(over string) string { return over })
	if no != "" {
		return // told for the trigger
	}
	r.Name, r.Why, r.Against = x.name(s.Column.Name, "as_computed"), s.Column.Name+" is what it is computed as", c.Broken(r.Holds)
	x.add(true, r)
	if by := c.Generable(s); by != "" {
		x.add(true, &change.Rule{Kind: change.KeepGenerated, Table: c.Table, Column: s.Column, Value: by, Why: s.Column.Name + " is computed by the database itself, and nobody can assign it any more", Against: r.Against})
	}
}

// onlyMissing reports whether the step's filter is that a column is NULL, and nothing else.
func (x *finder) onlyMissing(col *change.Column) bool {
	text, why := x.c.Alone(x.c.Where, "")
	return why == "" && strings.EqualFold(strings.Join(strings.Fields(text), " "), x.c.D.Quote(col.Name)+" IS NULL")
}
