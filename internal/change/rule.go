package change

import (
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/sqltext"
)

// A Rule is what a database could be told so that rows to come are as a step has made those that are
// there. Dialect.Keep has the statements for it. All SQL of a rule stands in DDL, where nothing is
// bound: values are written out.
type Rule struct {
	Kind  RuleKind
	Table *Table
	Name  string // of the constraint, index or trigger that keeps it
	Why   string // what it keeps, in a few words

	Column *Column // of Default, NotNull, Reference, Assign and Generated
	Value  string  // of Default; of Assign and Generated the expression, over the row

	// Holds is the condition of a Check, When that of an Assign, over the row by its columns' names;
	// "" for every row. New gives the same over the new row of a trigger.
	Holds, When string
	New         func(of string) string

	Unique []string  // of Unique: the columns, or expressions over them, in the order of By
	By     []*Column // whose values they are
	Plain  bool      // they are the columns themselves
	To     *Table    // of Reference
	At     *Column

	Against *Query // from FROM on: the rows that break it now; nil where that is not asked
}

// RuleKind is what a rule is.
type RuleKind string

const (
	KeepDefault   RuleKind = "default"
	KeepNotNull   RuleKind = "not null"
	KeepCheck     RuleKind = "check"
	KeepReference RuleKind = "foreign key"
	KeepUnique    RuleKind = "unique index"
	KeepAssign    RuleKind = "trigger"
	KeepGenerated RuleKind = "generated column"
)

// Statement is a statement for a rule.
type Statement struct {
	SQL   string `json:"sql"`
	Locks string `json:"locks"` // what it locks, and for how long
}

// Alone writes an SQL expression over the rows of a change's table as it can stand in DDL: columns by
// their bare names, after prefix ("" or "NEW."), and values written out. why says what keeps it from
// that: it reads other rows, tells the time, or calls what gives another value each time.
func (c *Change) Alone(f sqltext.Fragment, prefix string) (text string, why string) {
	ref := strings.Trim(c.Ref, "\"`[]")
	var b strings.Builder
	for i := 0; i < len(f.Tokens); i++ {
		t := f.Tokens[i]
		if i > 0 && t.Space {
			b.WriteByte(' ')
		}
		next := func(n int) sqltext.Token {
			if i+n < len(f.Tokens) {
				return f.Tokens[i+n]
			}
			return sqltext.Token{}
		}
		switch {
		case t.Is("SELECT") || t.Is("EXISTS"):
			return "", "it reads other rows"
		case t.Kind == sqltext.Param:
			v, ok := c.Params[t.Name()]
			if !ok || v.List != nil {
				return "", "it has a value of the run"
			}
			b.WriteString(c.D.Literal(v))
		case t.Punct("@"):
			return "", "it reads a variable"
		case t.Kind == sqltext.Ident || t.Kind == sqltext.QuotedIdent:
			qualified := next(1).Punct(".") && (c.D.Same(t, ref) || c.D.Same(t, c.Table.Name))
			if qualified {
				i += 2
				t = f.Tokens[i]
			}
			col := c.Table.Column(c.D, t)
			if col == nil || next(1).Punct("(") || i > 0 && f.Tokens[i-1].Punct(".") && !qualified {
				b.WriteString(t.Text)
				continue
			}
			b.WriteString(prefix + c.D.Quote(col.Name))
		default:
			b.WriteString(t.Text)
		}
	}
	return b.String(), ""
}

// immutable are functions and words that every server takes in a generated column: they give the same for
// the same values, whatever is set.
var immutable = map[string]bool{"abs": true, "round": true, "coalesce": true, "nullif": true, "upper": true, "lower": true, "trim": true, "length": true,
	"case": true, "when": true, "then": true, "else": true, "end": true, "is": true, "not": true, "null": true, "and": true, "or": true}

// Generable gives the expression by which a server can compute a column itself, over the row by its columns'
// names; "" where it cannot, or where an index over it would have to be given up for that.
func (c *Change) Generable(s Set) string {
	text, why := c.Alone(s.Expr, "")
	col := s.Column
	if why != "" || s.Expr.Empty() || s.Default || s.Row || !c.Where.Empty() || !c.From.Empty() || col.Identity || col.OnUpdate != "" || col.Class == Other || col.Binary {
		return ""
	}
	for _, x := range c.Table.Indexes {
		if slices.ContainsFunc(x.Columns, func(name string) bool { return name == col.Name || name == "" }) {
			return ""
		}
	}
	tokens, err := sqltext.Lex(c.D, text)
	if err != nil {
		return ""
	}
	for _, t := range tokens {
		switch t.Kind {
		case sqltext.Ident, sqltext.QuotedIdent:
			of := c.Table.Column(c.D, t)
			if of == nil && !immutable[strings.ToLower(t.Text)] || of != nil && (of.Generated || of.Class != col.Class || of.Binary || of == col) {
				return ""
			}
		case sqltext.Number:
		default:
			if !slices.Contains([]string{"(", ")", ",", "+", "-", "*", "/", "<", ">", "=", "<=", ">=", "<>"}, t.Text) {
				return ""
			}
		}
	}
	return text
}

// Keeps makes a rule that is kept by a condition over the row, or says why there is none.
func (c *Change) Keeps(kind RuleKind, f sqltext.Fragment, with func(over string) string) (*Rule, string) {
	over, why := c.Alone(f, "")
	if why != "" {
		return nil, why
	}
	r := &Rule{Kind: kind, Table: c.Table, New: func(of string) string {
		text, _ := c.Alone(f, of)
		return with(text)
	}}
	r.Holds = with(over)
	return r, ""
}

// RuleName makes the name of a constraint or the like of its parts, no longer than every server takes.
func RuleName(parts ...string) string {
	name := strings.ToLower(strings.Join(parts, "_"))
	name = strings.Map(func(r rune) rune {
		if r == '_' || r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '_'
	}, name)
	const longest = 50 // what follows it in the name of a trigger fits as well
	if len(name) > longest {
		sum := 0
		for _, b := range []byte(name) {
			sum = (sum*31 + int(b)) % 99991
		}
		name = fmt.Sprintf("%s_%d", name[:longest-6], sum)
	}
	return name
}

// Broken is the query for the rows that do not hold to a condition: NULL holds, as in a CHECK.
func (c *Change) Broken(holds string) *Query {
	q := &Query{D: c.D}
	return q.Add(" FROM ", c.Table.SQL(c.D), " WHERE NOT coalesce((", holds, "), ", c.D.Literal(Value{Type: BooleanValue, Text: "true"}), ")")
}
