package change

import (
	"fmt"
	"math/big"
	"slices"
	"strings"

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
	Given             bool          // or they were worked out elsewhere, any of them may be NULL
	From              []*Origin     // of shapes: what each is made of, nil for the column's own text; none where that is so of all
	Follows           bool          // what is made of NULL is NULL
}

// Origin is what a new value is made of: another column's text, or that of a named value.
type Origin struct {
	Column *Column
	Named  *Named // of the change; nil where it is a column
}

// Name is what its author calls it.
func (o *Origin) Name() string {
	if o.Named != nil {
		return o.Named.Name
	}
	return o.Column.Name
}

// out appends its text, NULL where there is none.
func (o *Origin) out(q *Query, c *Change) {
	if o.Named != nil {
		q.TextOf(o.Named.Expr, c.Params)
		return
	}
	q.AsText(c.Ref, o.Column)
}

// TextOf appends what an expression gives, as text.
func (q *Query) TextOf(f sqltext.Fragment, params map[string]Value) *Query {
	const place = "\x01" // of the expression, which a dialect may write several times
	for i, part := range strings.Split(q.D.Text(nil, place), place) {
		if i > 0 {
			q.Add("(").Fragment(f, params).Add(")")
		}
		q.Add(part)
	}
	return q
}

// Plain reports whether each new value is a text in the place of another one of the same column.
func (r *Rewrite) Plain() bool { return len(r.From) == 0 && !r.Nulls() }

// Nulls reports whether NULL may become something else, or something NULL.
func (r *Rewrite) Nulls() bool {
	return r.Given || r.Follows || slices.ContainsFunc(r.Shapes, func(c shape.Chain) bool { return c.TakesNull() || c.MakesNull() })
}

// Source is what a new value is made of; nil where that is its column's own text.
func (r *Rewrite) Source(i int) *Origin {
	if len(r.From) == 0 {
		return nil
	}
	return r.From[i]
}

// Texts says where in a row that is read for a rewrite is what: the texts that new values are made of
// come first, in the order of the assignments.
type Texts struct {
	N    int // cells
	r    *Rewrite
	cols []Set
	own  []int // where the column's value as it is stands, if that is another; 0 if not
	null []int // where it stands that a value is NULL and not merely no text; 0 if nobody asks
}

// Texts appends to a query what is read of each row for a rewrite of some columns.
func (q *Query) Texts(c *Change, cols []Set) Texts {
	x := Texts{N: len(cols), r: c.Rewrite, cols: cols, own: make([]int, len(cols)), null: make([]int, len(cols))}
	from := make([]*Origin, len(cols))
	for i, s := range cols {
		if from[i] = c.Rewrite.Source(i); from[i] == nil {
			from[i] = &Origin{Column: s.Column}
		}
		from[i].out(q.sep(i), c)
	}
	for i, s := range cols {
		if from[i].Column != s.Column {
			x.own[i], x.N = x.N, x.N+1
			q.Add(", ", q.D.Text(s.Column, c.Ref+"."+q.D.Quote(s.Column.Name)))
		}
	}
	for i := range cols {
		if c.Rewrite.Follows || len(c.Rewrite.Shapes) > 0 && c.Rewrite.Shapes[i].TakesNull() {
			x.null[i], x.N = x.N, x.N+1
			q.Add(", CASE WHEN ")
			if n := from[i].Named; n != nil {
				q.Add("(").Fragment(n.Expr, c.Params).Add(")")
			} else {
				q.Add(c.Ref, ".", q.D.Quote(from[i].Column.Name))
			}
			q.Add(" IS NULL THEN '1' END")
		}
	}
	return x
}

// New gives the new value of a column and the one that it has, from the cells of a row; nil is NULL.
// done is false where nothing is to be done: there is no text, and NULL stays.
func (x Texts) New(i int, cells [][]byte) (out, now []byte, done bool, err error) {
	v := cells[i]
	if v == nil && (x.null[i] == 0 || cells[x.null[i]] == nil) {
		return nil, nil, false, nil
	}
	if now = v; x.own[i] > 0 {
		now = cells[x.own[i]]
	}
	out, err = x.r.New(i, v)
	return out, now, true, err
}

// Same reports whether a new value is the one that the column has.
func (x Texts) Same(i int, out, now []byte) bool {
	if out == nil || now == nil || string(out) == string(now) {
		return (out == nil) == (now == nil)
	}
	col := x.cols[i].Column
	switch {
	case x.own[i] == 0 || col.Class == Text:
		return false
	case col.Class == Number:
		a, ok := new(big.Rat).SetString(string(out))
		b, fine := new(big.Rat).SetString(string(now))
		return ok && fine && a.Cmp(b) == 0
	}
	const day = len("2006-01-02")
	return len(out) == day && strings.HasPrefix(string(now), string(out)) && strings.Trim(string(now[day:]), " T:0.+Z") == ""
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

// LoadedNulls is the column of loaded values that says which of a row become NULL: a text with a 1 for
// each of these and a 0 for each other. It is there where Rewrite.Nulls is true.
const LoadedNulls = "nulls"

// FromLoaded is the change of rows whose new values were worked out by us and
// loaded: from is the source, as jugatum_v with columns n0, n1, …, in the order
// of the assignments, NULL where a value stays; where joins it to the target.
// cast writes a new value in the column's type.
func (c *Change) FromLoaded(from, where string, params map[string]Value, cast func(value string, col *Column) string) (*Change, error) {
	out := *c
	out.Rewrite, out.Lookup, out.Loaded, out.Params = nil, nil, true, params
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
		s.Untyped = false
		value := fmt.Sprintf("jugatum_v.n%d", i)
		if cast != nil {
			value = cast(value, s.Column)
		}
		text := "coalesce(" + value + ", " + c.Ref + "." + c.D.Quote(s.Column.Name) + ")"
		if c.Rewrite.Nulls() {
			text = "CASE WHEN " + c.D.Own("substr") + "(jugatum_v." + LoadedNulls + ", " + itoa(i+1) + ", 1) = '1' THEN NULL ELSE " + text + " END"
		}
		if s.Expr, err = sqltext.Expression(c.D, text); err != nil {
			return nil, err
		}
	}
	return &out, nil
}
