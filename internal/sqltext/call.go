package sqltext

import (
	"slices"
	"strings"
)

// Call is one statement that is carried out again and again, each time with other values in
// the place of its parameters.
type Call struct {
	Fragment
	Verb      string     // its first word, in upper case
	Procedure []Token    // the name after CALL: NAME or SCHEMA . NAME; nil for any other statement
	Args      []Fragment // of the procedure
}

// callVerbs are the words with which such a statement may begin. Others end transactions, make
// or change tables, or have no parameters.
var callVerbs = []string{"CALL", "SELECT", "WITH", "INSERT", "UPDATE", "DELETE", "MERGE", "REPLACE"}

// ParseCall reads exactly one statement that calls a procedure, or selects or changes rows.
// Errors are *Error. What the statement means is left to the server.
func ParseCall(d Dialect, src string) (*Call, error) {
	tokens, err := Lex(d, src)
	if err != nil {
		return nil, err
	}
	for len(tokens) > 0 && tokens[len(tokens)-1].Punct(";") {
		tokens = tokens[:len(tokens)-1]
	}
	p := parser{d: d.Rules(), src: src, tokens: tokens}
	if p.done() {
		return nil, p.fail("there is no statement here")
	}
	c := &Call{Fragment: Fragment{Tokens: tokens}, Verb: strings.ToUpper(p.tok().Text)}
	if p.tok().Kind != Ident || !slices.Contains(callVerbs, c.Verb) {
		return nil, p.fail("expected one statement that begins with %s, not %q", strings.Join(callVerbs, ", "), p.tok().Text)
	}
	depth := 0
	for i, t := range tokens {
		switch {
		case t.Punct("("):
			depth++
		case t.Punct(")"):
			if depth--; depth < 0 {
				p.i = i
				return nil, p.fail("this bracket was not opened")
			}
		case t.Punct(";"):
			p.i = i
			return nil, p.fail("expected one statement, and nothing after it")
		}
	}
	if depth > 0 {
		p.i = len(tokens) - 1
		return nil, p.fail("a bracket is not closed after this")
	}
	if c.Verb == "CALL" {
		return c, p.procedure(c)
	}
	return c, nil
}

// procedure reads the name and the arguments of a procedure.
func (p *parser) procedure(c *Call) error {
	p.i++
	name, err := p.name("a procedure's name")
	if err != nil {
		return err
	}
	c.Procedure = []Token{name}
	if p.tok().Punct(".") {
		p.i++
		if name, err = p.name("a procedure's name"); err != nil {
			return err
		}
		c.Procedure = append(c.Procedure, name)
	}
	if p.done() { // without brackets, where a server has that
		return nil
	}
	if !p.tok().Punct("(") {
		return p.fail("expected the arguments of %s in brackets", name.Name())
	}
	begin, depth := p.i+1, 0
	for ; !p.done(); p.i++ {
		t := p.tok()
		switch {
		case t.Punct("(") || t.Punct("["):
			depth++
			continue
		case t.Punct(")") || t.Punct("]"):
			depth--
		case !t.Punct(",") || depth != 1:
			continue
		}
		if depth > 1 || depth == 1 && !t.Punct(",") {
			continue
		}
		if arg := p.fragment(begin); !arg.Empty() {
			c.Args = append(c.Args, arg)
		} else if depth == 1 || len(c.Args) > 0 {
			return p.fail("an argument is missing here")
		}
		begin = p.i + 1
		if depth == 0 {
			p.i++
			break
		}
	}
	if !p.done() {
		return p.fail("expected nothing after the arguments of %s", name.Name())
	}
	return nil
}

// Returns reports whether rows may come back from the statement.
func (c *Call) Returns() bool {
	return c.Verb == "CALL" || c.Verb == "SELECT" || c.Verb == "WITH" || slices.ContainsFunc(c.Tokens, func(t Token) bool { return t.Is("RETURNING") })
}

// Parameter gives the name of the one parameter that a fragment is; "" if it is anything else.
func (f Fragment) Parameter() string {
	if len(f.Tokens) == 1 && f.Tokens[0].Kind == Param {
		return f.Tokens[0].Name()
	}
	return ""
}
