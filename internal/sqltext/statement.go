package sqltext

import (
	"fmt"
	"strings"
)

// Verb is what a statement does to its target's rows.
type Verb int

const (
	Update Verb = iota
	Delete
	Insert
	Calling // a statement for each line of a list
)

func (v Verb) String() string { return [...]string{"update", "delete", "insert", "call"}[v] }

// Fragment is a stretch of SQL: an expression, a list of sources, a WITH list.
// The zero value is an absent one.
type Fragment struct {
	Tokens []Token
}

// Empty reports whether there is nothing in the fragment.
func (f Fragment) Empty() bool { return len(f.Tokens) == 0 }

// String writes the fragment on one line without its comments.
func (f Fragment) String() string {
	var b strings.Builder
	for i, t := range f.Tokens {
		if i > 0 && t.Space {
			b.WriteByte(' ')
		}
		b.WriteString(t.Text)
	}
	return b.String()
}

// Params lists the names of the parameters in the fragment, in order, with repeats.
func (f Fragment) Params() []string {
	var names []string
	for _, t := range f.Tokens {
		if t.Kind == Param {
			names = append(names, t.Name())
		}
	}
	return names
}

// Name is a table's name as written, perhaps with its schema.
type Name struct {
	Schema, Table Token
	Qualified     bool
}

// Assignment is one item of a SET list. Several columns on the left take a row
// of as many values.
type Assignment struct {
	Columns []Token
	Expr    Fragment
}

// Statement is one UPDATE or DELETE in its parts.
type Statement struct {
	Verb      Verb
	Recursive bool     // WITH RECURSIVE
	With      Fragment // the list after WITH
	Only      bool     // PostgreSQL: not the tables that inherit from it
	Target    Name
	Alias     *Token
	Set       []Assignment
	From      Fragment // FROM of an UPDATE, USING of a DELETE
	Where     Fragment
	Order     Fragment // of the rows, only with a Limit
	Limit     *Token   // a number or a parameter, where a statement may have one
	Tables    Fragment // where they are named together: those of a statement over several, the target among them
	TargetAt  int      // index in Tables of the target's first token
}

// Parse reads exactly one UPDATE or DELETE. Errors are *Error.
func Parse(d Dialect, src string) (*Statement, error) {
	tokens, err := Lex(d, src)
	if err != nil {
		return nil, err
	}
	p := parser{d: d.Rules(), src: src, tokens: tokens}
	return p.statement()
}

// Expression reads one SQL expression, as stands after WHERE or on the right
// of an assignment: brackets balance, nothing follows it, no clause begins.
func Expression(d Dialect, src string) (Fragment, error) {
	tokens, err := Lex(d, src)
	if err != nil {
		return Fragment{}, err
	}
	if len(tokens) == 0 {
		return Fragment{}, &Error{src, 0, "an expression is missing here"}
	}
	p := parser{d: d.Rules(), src: src, tokens: tokens}
	f, err := p.until("WHERE", "RETURNING", "ORDER", "LIMIT", "SET", "GROUP", "HAVING", "UNION")
	if err != nil {
		return Fragment{}, err
	}
	if !p.done() {
		return Fragment{}, p.fail("%s cannot stand in an expression", strings.ToUpper(p.tok().Text))
	}
	return f, nil
}

type parser struct {
	d      *Syntax
	src    string
	tokens []Token
	i      int
}

func (p *parser) done() bool { return p.i >= len(p.tokens) }

func (p *parser) tok() Token {
	if p.done() {
		return Token{Kind: -1, Pos: len(p.src)}
	}
	return p.tokens[p.i]
}

func (p *parser) fail(format string, args ...any) error {
	return &Error{p.src, p.tok().Pos, fmt.Sprintf(format, args...)}
}

func (p *parser) take(word string) bool {
	if !p.done() && p.tok().Is(word) {
		p.i++
		return true
	}
	return false
}

func (p *parser) statement() (*Statement, error) {
	s := &Statement{}
	if p.done() {
		return nil, p.fail("there is no statement here")
	}
	if p.tok().Is("WITH") && p.d.NoWith {
		return nil, p.fail("%s has no WITH before UPDATE or DELETE; use a sub-query", p.d)
	}
	if p.take("WITH") {
		s.Recursive = p.take("RECURSIVE")
		with, err := p.until("UPDATE", "DELETE", "SELECT", "INSERT", "MERGE")
		if err != nil {
			return nil, err
		}
		for i, t := range with.Tokens {
			if (t.Is("INSERT") || t.Is("UPDATE") || t.Is("DELETE") || t.Is("MERGE")) && i > 0 && with.Tokens[i-1].Punct("(") {
				return nil, &Error{p.src, t.Pos, "a WITH that itself changes rows is not supported; make it a step of its own"}
			}
		}
		s.With = with
	}
	switch {
	case p.take("UPDATE"):
		s.Verb = Update
	case p.take("DELETE"):
		s.Verb = Delete
	default:
		return nil, p.fail("expected one UPDATE or DELETE, not %q", p.tok().Text)
	}
	var err error
	if s.Verb == Update {
		err = p.update(s)
	} else {
		err = p.delete(s)
	}
	if err != nil {
		return nil, err
	}
	return s, p.end()
}

func (p *parser) update(s *Statement) error {
	if p.d.TablesFirst {
		return p.updateTables(s)
	}
	if p.tok().Is("OR") {
		return p.fail("UPDATE OR is not supported: a conflict must not pass unseen")
	}
	if err := p.target(s, "SET"); err != nil {
		return err
	}
	if p.tok().Punct(",") || p.tok().Is("JOIN") || p.tok().Is("INNER") || p.tok().Is("LEFT") {
		return p.fail("several tables before SET are not supported for %s; write UPDATE … SET … FROM …", p.d)
	}
	if !p.take("SET") {
		return p.fail("expected SET")
	}
	for {
		a, err := p.assignment()
		if err != nil {
			return err
		}
		s.Set = append(s.Set, a)
		if !p.tok().Punct(",") {
			break
		}
		p.i++
	}
	var err error
	if p.take("FROM") {
		if s.From, err = p.clause("FROM", "WHERE"); err != nil {
			return err
		}
	}
	return p.where(s)
}

func (p *parser) delete(s *Statement) error {
	if p.d.TablesFirst {
		return p.deleteTables(s)
	}
	if !p.take("FROM") {
		return p.fail("expected FROM")
	}
	if err := p.target(s, "USING", "WHERE"); err != nil {
		return err
	}
	if p.take("USING") {
		if p.d.NoUsing {
			p.i--
			return p.fail("%s has no DELETE … USING; use WHERE … IN (SELECT …)", p.d)
		}
		var err error
		if s.From, err = p.clause("USING", "WHERE"); err != nil {
			return err
		}
	}
	return p.where(s)
}

func (p *parser) where(s *Statement) error {
	if p.take("WHERE") {
		if p.tok().Is("CURRENT") {
			return p.fail("WHERE CURRENT OF is not supported: there is no cursor here")
		}
		var err error
		if s.Where, err = p.clause("WHERE"); err != nil {
			return err
		}
	}
	if p.d.TablesFirst && s.Tables.Empty() {
		return p.limit(s)
	}
	return nil
}

// clause reads what follows a keyword; it may not be empty.
func (p *parser) clause(after string, stops ...string) (Fragment, error) {
	f, err := p.until(append(stops, "RETURNING", "ORDER", "LIMIT")...)
	if err == nil && f.Empty() {
		err = p.fail("nothing stands after %s", after)
	}
	return f, err
}

// target reads [ONLY] [schema.]table [*] [[AS] alias], where a bare alias is any word but one of stops.
func (p *parser) target(s *Statement, stops ...string) error {
	s.Only = p.d.Inherits && p.take("ONLY")
	first, err := p.name("a table's name")
	if err != nil {
		return err
	}
	s.Target.Table = first
	if p.tok().Punct(".") {
		p.i++
		second, err := p.name("a table's name")
		if err != nil {
			return err
		}
		s.Target = Name{Schema: first, Table: second, Qualified: true}
	}
	if p.d.Inherits && p.tok().Punct("*") {
		p.i++
	}
	if p.tok().Is("INDEXED") || p.tok().Is("NOT") && p.d.NotIndexed {
		return p.fail("INDEXED BY is not supported: the batches choose their own way through the table")
	}
	if p.take("AS") {
		a, err := p.name("an alias")
		s.Alias = &a
		return err
	}
	t := p.tok()
	if t.Kind != Ident && t.Kind != QuotedIdent {
		return nil
	}
	for _, stop := range append(stops, "RETURNING", "ORDER", "LIMIT", "JOIN", "INNER", "LEFT", "CROSS", "NATURAL", "WHERE", "SET", "FROM") {
		if t.Is(stop) {
			return nil
		}
	}
	s.Alias = &t
	p.i++
	return nil
}

func (p *parser) name(what string) (Token, error) {
	t := p.tok()
	if t.Kind != Ident && t.Kind != QuotedIdent {
		return t, p.fail("expected %s", what)
	}
	p.i++
	return t, nil
}

func (p *parser) assignment() (Assignment, error) {
	var a Assignment
	if p.tok().Punct("(") {
		p.i++
		for {
			c, err := p.name("a column's name")
			if err != nil {
				return a, err
			}
			a.Columns = append(a.Columns, c)
			if p.tok().Punct(",") {
				p.i++
				continue
			}
			break
		}
		if !p.tok().Punct(")") {
			return a, p.fail("expected )")
		}
		p.i++
	} else {
		c, err := p.name("a column's name")
		if err != nil {
			return a, err
		}
		if p.tok().Punct(".") || p.tok().Punct("[") {
			return a, p.fail("a part of column %q cannot be assigned by itself; assign the whole value", c.Name())
		}
		a.Columns = []Token{c}
	}
	if !p.tok().Punct("=") {
		return a, p.fail("expected =")
	}
	p.i++
	begin := p.i
	expr, err := p.item("FROM", "WHERE", "RETURNING", "ORDER", "LIMIT")
	if err != nil {
		return a, err
	}
	if expr.Empty() {
		p.i = begin
		return a, p.fail("an expression is missing here")
	}
	a.Expr = expr
	return a, nil
}

// item reads up to a comma outside brackets, or what until stops at.
func (p *parser) item(stops ...string) (Fragment, error) { return p.scan(true, stops) }

// until reads up to one of the bare keywords outside brackets, or the end.
func (p *parser) until(stops ...string) (Fragment, error) { return p.scan(false, stops) }

func (p *parser) scan(comma bool, stops []string) (Fragment, error) {
	begin := p.i
	var open []Token
	cases := 0
	for ; !p.done(); p.i++ {
		t := p.tok()
		switch {
		case t.Punct("(") || t.Punct("["):
			open = append(open, t)
		case t.Punct(")") || t.Punct("]"):
			if len(open) == 0 || (open[len(open)-1].Text == "(") != (t.Text == ")") {
				return Fragment{}, p.fail("this %s closes nothing", t.Text)
			}
			open = open[:len(open)-1]
		case t.Punct(";"):
			if len(open) == 0 {
				return p.fragment(begin), nil
			}
		case t.Is("CASE"):
			cases++
		case t.Is("END") && cases > 0:
			cases--
		case comma && len(open) == 0 && t.Punct(","):
			return p.fragment(begin), nil
		case t.Kind == Ident && len(open) == 0 && cases == 0:
			for _, stop := range stops {
				// IS [NOT] DISTINCT FROM is an operator, not a clause.
				if t.Is(stop) && !(stop == "FROM" && p.i > 0 && p.tokens[p.i-1].Is("DISTINCT")) && !(p.i > 0 && p.tokens[p.i-1].Punct(".")) {
					return p.fragment(begin), nil
				}
			}
		}
	}
	if len(open) > 0 {
		return Fragment{}, &Error{p.src, open[len(open)-1].Pos, fmt.Sprintf("this %s is not closed", open[len(open)-1].Text)}
	}
	return p.fragment(begin), nil
}

func (p *parser) fragment(begin int) Fragment { return Fragment{p.tokens[begin:p.i]} }

// end makes sure that nothing but a last semicolon follows.
func (p *parser) end() error {
	if !p.done() && p.tok().Punct(";") {
		p.i++
		if !p.done() {
			return p.fail("only one statement is accepted; this begins a second")
		}
	}
	if p.done() {
		return nil
	}
	word := strings.ToUpper(p.tok().Text)
	switch word {
	case "RETURNING":
		return p.fail("RETURNING is not supported: the kept values hold what was changed")
	case "ORDER", "LIMIT":
		return p.fail("%s is not supported here; a step with order and first takes the first rows", word)
	}
	if word == "FROM" && p.d.TablesFirst {
		return p.fail("%s's UPDATE has no FROM: write UPDATE target JOIN other ON … SET target.column = …", p.d)
	}
	return p.fail("%q is not expected here", p.tok().Text)
}
