package change

import (
	"fmt"

	"jugatum/internal/rewrite"
	"jugatum/internal/shape"
	"jugatum/internal/sqltext"
)

// Replace is a text replacement over columns of any tables.
type Replace struct {
	In, Except []string // patterns of TABLE.COLUMN
	Rules      rewrite.Rules
}

// Rewrite computes new values outside the database: row by row, from the text of
// the columns that the change assigns.
type Rewrite struct {
	*rewrite.Rewriter               // replaces texts, by these rules
	Rules             rewrite.Rules //
	Shapes            []shape.Chain // or brings them into a form, each column's its own; none where texts are replaced
}

// New is the new text of a column, by its place among those assigned. An error is that of the value.
func (r *Rewrite) New(column int, v []byte) ([]byte, error) {
	if r.Shapes != nil {
		return r.Shapes[column].Apply(v)
	}
	return r.Replace(v)
}

// NewReplace makes the change of one table, for the columns given. Where the
// database's own replace() gives the same result it is used; otherwise the
// change has a Rewrite, and its filter finds every row that may hold the text.
func NewReplace(d Dialect, step string, t *Table, cols []*Column, rules rewrite.Rules) (*Change, error) {
	rw, err := rewrite.New(rules)
	if err != nil {
		return nil, err
	}
	c := &Change{Step: step, D: d, Verb: sqltext.Update, Table: t, Ref: d.Quote(t.Name), Params: map[string]Value{}}
	native := Native(rules)
	if !native {
		c.Rewrite = &Rewrite{Rewriter: rw, Rules: rules}
	}
	param := func(name, text string) string {
		c.Params[name] = Value{Type: TextValue, Text: text}
		return ":" + name
	}
	filter := &Query{D: d}
	for i, col := range cols {
		if i > 0 {
			filter.Add(" OR ")
		}
		name := c.Ref + "." + d.Quote(col.Name)
		expr := name
		if native {
			p := rules.Pairs[0]
			expr = d.Replaced(col, name, param("jugatum_find", p.Find), param("jugatum_with", p.With))
		}
		fragment, err := sqltext.Expression(d, expr)
		if err != nil {
			return nil, err
		}
		c.Set = append(c.Set, Set{Column: col, Expr: fragment})
		narrow(filter, c, col, rules, param)
	}
	if c.Where, err = sqltext.Expression(d, filter.String()); err != nil {
		return nil, err
	}
	b := builder{c: c}
	return c, b.c.implicit()
}

// Native reports whether the database's own replace() gives the same result:
// one text, in just this writing, in values that are taken as plain text.
func Native(r rewrite.Rules) bool {
	plain := r.Forms == nil || len(r.Forms) == 1 && r.Forms[0] == rewrite.Plain
	return r.Flat && plain && len(r.Pairs) == 1 && r.Pattern == "" && r.Case == rewrite.Exact && !r.Words
}

// narrow writes the condition that a column may hold one of the texts.
func narrow(q *Query, c *Change, col *Column, rules rewrite.Rules, param func(name, text string) string) {
	if rules.Pattern != "" {
		q.Add(c.Ref, ".", c.D.Quote(col.Name), " IS NOT NULL")
		return
	}
	for i, p := range rules.Pairs {
		if i > 0 {
			q.Add(" OR ")
		}
		text, fold := rewrite.Anchor(p.Find), rules.Case != rewrite.Exact
		if Native(rules) {
			text = p.Find
		}
		if text == "" { // nothing is written the same in every form
			q.Add(c.Ref, ".", c.D.Quote(col.Name), " IS NOT NULL")
			continue
		}
		one := &Query{D: c.D, param: func(v any) string { return param(fmt.Sprintf("jugatum_a%d", i), v.(string)) }}
		q.Add(one.Contains(c.Ref, col, text, fold).String())
	}
}

// FromLoaded is the change of rows whose new values were worked out by us and
// loaded: from is the source, as jugatum_v with columns n0, n1, …, in the order
// of the assignments, NULL where a value stays; where joins it to the target.
// cast writes a new value in the column's type.
func (c *Change) FromLoaded(from, where string, params map[string]Value, cast func(value string, col *Column) string) (*Change, error) {
	out := *c
	out.Rewrite, out.Loaded, out.Params = nil, true, params
	tokens, err := sqltext.Lex(c.D, from)
	if err != nil {
		return nil, err
	}
	out.From = sqltext.Fragment{Tokens: tokens}
	if out.Where, err = sqltext.Expression(c.D, where); err != nil {
		return nil, err
	}
	out.Set = append([]Set(nil), c.Set...)
	for i := range out.Set {
		s := &out.Set[i]
		if s.Implicit {
			continue
		}
		value := fmt.Sprintf("jugatum_v.n%d", i)
		if cast != nil {
			value = cast(value, s.Column)
		}
		if s.Expr, err = sqltext.Expression(c.D, "coalesce("+value+", "+c.Ref+"."+c.D.Quote(s.Column.Name)+")"); err != nil {
			return nil, err
		}
	}
	return &out, nil
}
