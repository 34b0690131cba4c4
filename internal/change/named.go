package change

import (
	"slices"
	"strings"

	"jugatum/internal/sqltext"
)

// Named in-between values: read, and written out wherever their names stand.

// named reads the let fields, each of which may use those before it and after it.
func (b *builder) named() error {
	raw := map[string]sqltext.Fragment{}
	for _, f := range b.spec.Let {
		field := "let." + f.Name
		word, err := sqltext.Lex(b.c.D, f.Name)
		if err != nil || len(word) != 1 || word[0].Kind != sqltext.Ident {
			return b.failf(field, "%q cannot name a value; use one word", f.Name)
		}
		if b.c.Table.Column(b.c.D, word[0]) != nil {
			return b.failf(field, "table %s has a column of that name; choose another", b.c.Table)
		}
		if raw[strings.ToLower(f.Name)], err = sqltext.Expression(b.c.D, f.Expr); err != nil {
			return b.fail(field, err)
		}
	}
	for _, f := range b.spec.Let {
		b.within(raw[strings.ToLower(f.Name)])
	}
	// Written out one after the other until nothing is left to write out; what
	// goes on longer than there are names goes round in a circle.
	for _, f := range b.spec.Let {
		expr := raw[strings.ToLower(f.Name)]
		for round := 0; ; round++ {
			next, found := substitute(b.c.D, expr, raw)
			if !found {
				break
			}
			if round > len(raw) {
				return b.failf("let."+f.Name, "this value is defined by itself")
			}
			expr = next
		}
		b.c.Let = append(b.c.Let, Named{f.Name, expr})
	}
	return nil
}

// origin is the named value, or the column, of a name; nil for "".
func (c *Change) origin(name string) *Origin {
	if name == "" {
		return nil
	}
	for i := range c.Let {
		if strings.EqualFold(c.Let[i].Name, name) {
			return &Origin{Named: &c.Let[i]}
		}
	}
	return &Origin{Column: c.Table.Named(name)}
}

func (b *builder) expand(f sqltext.Fragment) sqltext.Fragment {
	b.within(f)
	m := map[string]sqltext.Fragment{}
	for _, l := range b.c.Let {
		m[strings.ToLower(l.Name)] = l.Expr
	}
	f, _ = substitute(b.c.D, f, m)
	return f
}

// within takes down which named values a piece of SQL has within a sub-query: there a name may be that
// of a column as well, and so may those that stand in the value.
func (b *builder) within(f sqltext.Fragment) {
	inQuery := inQueries(f.Tokens, false)
	for i, t := range f.Tokens {
		if t.Kind != sqltext.Ident || !inQuery[i] {
			continue
		}
		for _, l := range b.spec.Let {
			if strings.EqualFold(l.Name, t.Text) && !b.c.nests(l.Name) {
				b.c.nested = append(b.c.nested, l.Name)
			}
		}
	}
}

// nests reports whether a named value is used within a sub-query.
func (c *Change) nests(let string) bool {
	return slices.ContainsFunc(c.nested, func(n string) bool { return strings.EqualFold(n, let) })
}

// Bound lists, for each named value that is used within a sub-query, the names there that could be taken
// for columns of what the sub-query reads: its own, and those of columns that stand in it by themselves.
func (c *Change) Bound() map[string][]string {
	out := map[string][]string{}
	for _, l := range c.Let {
		if !c.nests(l.Name) {
			continue
		}
		out[l.Name] = []string{l.Name}
		for i, t := range l.Expr.Tokens {
			qualified := i > 0 && l.Expr.Tokens[i-1].Punct(".") || i+1 < len(l.Expr.Tokens) && l.Expr.Tokens[i+1].Punct(".")
			if col := c.Table.Column(c.D, t); col != nil && !qualified && (t.Kind == sqltext.Ident || t.Kind == sqltext.QuotedIdent) {
				out[l.Name] = append(out[l.Name], col.Name)
			}
		}
	}
	return out
}

// substitute writes out the named values in f, in brackets.
func substitute(d Dialect, f sqltext.Fragment, named map[string]sqltext.Fragment) (sqltext.Fragment, bool) {
	var out []sqltext.Token
	found := false
	for i, t := range f.Tokens {
		expr, ok := named[strings.ToLower(t.Text)]
		if !ok || t.Kind != sqltext.Ident ||
			i > 0 && (f.Tokens[i-1].Punct(".") || f.Tokens[i-1].Is("AS")) ||
			i+1 < len(f.Tokens) && (f.Tokens[i+1].Punct(".") || f.Tokens[i+1].Punct("(")) {
			out = append(out, t)
			continue
		}
		found = true
		out = append(out, sqltext.Token{Kind: sqltext.Punct, Text: "(", Pos: t.Pos, Space: t.Space})
		out = append(out, expr.Tokens...)
		out = append(out, sqltext.Token{Kind: sqltext.Punct, Text: ")", Pos: t.Pos})
	}
	return sqltext.Fragment{Tokens: out}, found
}

// volatileFunctions give another value at every call.
var volatileFunctions = map[string]bool{"random": true, "randomblob": true, "gen_random_uuid": true, "uuid_generate_v4": true,
	"clock_timestamp": true, "nextval": true, "rand": true, "uuid": true, "timeofday": true, "random_normal": true}

// volatile refuses a named value that is written out in several places and
// would come out different in each.
func (b *builder) volatile() error {
	for _, l := range b.spec.Let {
		expr, err := sqltext.Expression(b.c.D, l.Expr)
		if err != nil {
			return b.fail("let."+l.Name, err)
		}
		for _, t := range expr.Tokens {
			if t.Kind != sqltext.Ident || !volatileFunctions[strings.ToLower(t.Text)] {
				continue
			}
			uses := 0
			for _, other := range append(append([]Field{{"", b.spec.Where}}, b.spec.Let...), b.spec.Set...) {
				toks, _ := sqltext.Lex(b.c.D, other.Expr)
				for _, o := range toks {
					if o.Is(strings.ToUpper(l.Name)) {
						uses++
					}
				}
			}
			if uses > 1 {
				return b.failf("let."+l.Name, "%s() gives another value at every use, and the name is used %d times; write it where it belongs", t.Text, uses)
			}
		}
	}
	return nil
}
