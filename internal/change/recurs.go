package change

import (
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/sqltext"
)

// Recurs says why the change, carried out once more over rows that it has been made to, might change
// them again; "" if it would not. It errs on the side of saying so.
func (c *Change) Recurs() string {
	switch {
	case c.Call != nil:
		return "its statement would be called for every line of the list again"
	case c.Lines != nil:
		return "a list says which rows are meant, and means the same ones again"
	case c.First != nil:
		return "each time means the next of the first rows"
	case c.Triggered():
		return "triggers would fire again for every row that matches"
	case c.marked: // rows that are done are not found any more
		return ""
	case c.Reads.Target:
		return "it reads rows of " + c.Table.String() + ", which it has changed"
	case len(c.Reads.Volatile)+len(c.Reads.Once) > 0:
		return strings.Join(slices.Concat(c.Reads.Volatile, c.Reads.Once), ", ") + " gives another value each time"
	case len(c.Reads.Opaque) > 0:
		return "nobody can see what " + strings.Join(c.Reads.Opaque, ", ") + " reads"
	case c.Rewrite != nil:
		return c.rewrites()
	}
	// Which row of another table is joined to a row says what it becomes.
	joins := []sqltext.Fragment{c.With, c.From, c.Where}
	switch {
	case c.Verb != sqltext.Update || c.From.Empty() && c.Lookup == nil:
		joins = nil
	case c.Lookup != nil:
		joins = []sqltext.Fragment{c.Lookup.Match}
	}
	for _, f := range joins {
		if name := c.ReadsAssigned(f); name != "" {
			return "rows are joined by " + name + ", which is changed"
		}
	}
	for _, s := range c.Set {
		switch {
		case s.Implicit || s.Literal != nil:
		case s.Default && !c.constant(s.Column.Default):
			return "the default of " + s.Column.Name + " may be another one each time"
		case s.Default:
		default:
			if from := c.ReadsAssigned(s.Expr); from == s.Column.Name {
				return s.Column.Name + " is computed from itself, and a row that still matches would be changed each time"
			} else if from != "" {
				return fmt.Sprintf("%s is computed from %s, which is changed as well, so that a row that still matches would be changed each time", s.Column.Name, from)
			}
		}
	}
	return ""
}

// rewrites is Recurs of values that are computed by us.
func (c *Change) rewrites() string {
	r := c.Rewrite
	if len(r.Shapes) == 0 {
		if why := r.Recurs(); why != "" {
			return why
		}
	}
	for i, chain := range r.Shapes {
		name, from := c.Set[i].Column.Name, r.Source(i)
		switch {
		case from == nil && !chain.Settles():
			return "what is done to " + name + " might be done to its outcome again"
		case from == nil:
		case from.Named != nil:
			if of := c.ReadsAssigned(from.Named.Expr); of != "" {
				return fmt.Sprintf("%s is made of %s, which reads %s, which is changed as well", name, from.Name(), of)
			}
		case c.assigned(from.Column) != nil:
			return fmt.Sprintf("%s is made of %s, which is changed as well", name, from.Name())
		}
	}
	return ""
}

// constant reports whether a default is one value, whenever it is asked for.
func (c *Change) constant(expr string) bool {
	tokens, err := sqltext.Lex(c.D, expr)
	return err == nil && !slices.ContainsFunc(tokens, func(t sqltext.Token) bool {
		return t.Punct("(") || timely[strings.ToUpper(t.Text)]
	})
}

// ReadsAssigned names a column that an expression reads and the change assigns, or may: one that the
// database computes, or that stands in the row as a whole. "" if there is none. A name in a sub-query
// counts although it may be another table's.
func (c *Change) ReadsAssigned(f sqltext.Fragment) string {
	ref := strings.Trim(c.Ref, "\"`[]")
	target := func(t sqltext.Token) bool { return c.D.Same(t, ref) || c.D.Same(t, c.Table.Name) }
	word := func(i int) bool {
		return i >= 0 && i < len(f.Tokens) && (f.Tokens[i].Kind == sqltext.Ident || f.Tokens[i].Kind == sqltext.QuotedIdent)
	}
	punct := func(i int, s string) bool { return i >= 0 && i < len(f.Tokens) && f.Tokens[i].Punct(s) }
	for i, t := range f.Tokens {
		if !word(i) || punct(i+1, "(") {
			continue
		}
		if punct(i+1, ".") { // what stands before the dot is told by what comes after it
			if target(t) && punct(i+2, "*") {
				return "the row"
			}
			continue
		}
		of := punct(i-1, ".") && word(i-2)
		if of && !target(f.Tokens[i-2]) {
			continue
		}
		switch col := c.Table.Column(c.D, t); {
		case col == nil && (of || target(t)): // the row as a whole, or what is made of it
			return "the row"
		case col == nil:
		case col.Generated, c.assigned(col) != nil:
			return col.Name
		}
	}
	return ""
}
