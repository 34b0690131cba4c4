package sqltext

import "strings"

// Where an UPDATE or DELETE over several tables names all of them before SET or after
// FROM, the target among them (Syntax.TablesFirst), they are kept as they stand, with the
// place of the target.

// modifiers are words after UPDATE or DELETE that change what an error or a
// lock means.
var modifiers = []string{"LOW_PRIORITY", "QUICK", "IGNORE"}

func (p *parser) plain() error {
	for _, m := range modifiers {
		if p.tok().Is(m) {
			return p.fail("%s is not supported: a row that cannot be changed must not pass unseen", m)
		}
	}
	return nil
}

func (p *parser) updateTables(s *Statement) error {
	if err := p.plain(); err != nil {
		return err
	}
	begin := p.tok()
	tables, err := p.until("SET")
	if err != nil {
		return err
	}
	if tables.Empty() {
		return p.fail("expected a table's name")
	}
	if !p.take("SET") {
		return p.fail("expected SET")
	}
	var owner *Token // what qualifies the columns assigned
	for {
		a, q, err := p.qualified()
		if err != nil {
			return err
		}
		if q != nil {
			if owner != nil && !strings.EqualFold(owner.Name(), q.Name()) {
				return &Error{p.src, q.Pos, "one table at a time: this assigns columns of " + owner.Name() + " and of " + q.Name() + "; make two steps of it"}
			}
			owner = q
		}
		s.Set = append(s.Set, a)
		if !p.tok().Punct(",") {
			break
		}
		p.i++
	}
	if err := p.among(s, tables, begin, owner); err != nil {
		return err
	}
	return p.where(s)
}

// qualified reads an assignment whose column may have its table before it.
func (p *parser) qualified() (Assignment, *Token, error) {
	var owner *Token
	for p.i+2 < len(p.tokens) && p.tokens[p.i+1].Punct(".") { // table.column, or schema.table.column
		t, err := p.name("a column's name")
		if err != nil {
			return Assignment{}, nil, err
		}
		owner = &t
		p.i++
	}
	a, err := p.assignment()
	return a, owner, err
}

func (p *parser) deleteTables(s *Statement) error {
	if err := p.plain(); err != nil {
		return err
	}
	single := p.take("FROM")
	begin := p.tok()
	target, err := p.name("a table's name")
	if err != nil {
		return err
	}
	schema := Token{Kind: -1}
	if p.tok().Punct(".") {
		p.i++
		if t := p.tok(); t.Text == "*" {
			p.i++
		} else {
			schema = target
			if target, err = p.name("a table's name"); err != nil {
				return err
			}
		}
	}
	if p.tok().Punct(",") {
		return p.fail("one table at a time: rows of several are deleted here; make a step for each")
	}
	word := "FROM"
	if single {
		word = "USING"
	}
	if !p.take(word) {
		if !single {
			return p.fail("expected FROM")
		}
		s.Target = Name{Schema: schema, Table: target, Qualified: schema.Kind >= 0}
		return p.where(s)
	}
	tables, err := p.clause(word, "WHERE")
	if err != nil {
		return err
	}
	if err := p.among(s, tables, begin, &target); err != nil {
		return err
	}
	return p.where(s)
}

// limit reads [ORDER BY …] LIMIT n.
func (p *parser) limit(s *Statement) error {
	order := p.take("ORDER")
	if order {
		if !p.take("BY") {
			return p.fail("expected BY")
		}
		var err error
		if s.Order, err = p.until("LIMIT"); err != nil {
			return err
		}
		if s.Order.Empty() {
			return p.fail("nothing stands after ORDER BY")
		}
	}
	if !p.take("LIMIT") {
		if order {
			return p.fail("expected LIMIT: without one the order of the rows does not matter, batches go by key")
		}
		return nil
	}
	t := p.tok()
	if p.done() || t.Kind != Number && t.Kind != Param {
		return p.fail("expected a number of rows")
	}
	p.i++
	s.Limit = &t
	return nil
}

// source is one table in a list of tables.
type source struct {
	schema, table, alias *Token
	at                   int // of its first token
}

// named is the word by which columns refer to the table.
func (x source) named() string {
	if x.alias != nil {
		return x.alias.Name()
	}
	return x.table.Name()
}

// among finds the target in a list of tables: the one called owner, or the only one.
func (p *parser) among(s *Statement, tables Fragment, begin Token, owner *Token) error {
	list := sources(tables.Tokens)
	if len(list) == 0 {
		return &Error{p.src, begin.Pos, "expected a table's name"}
	}
	var found *source
	for i := range list {
		if owner == nil || strings.EqualFold(list[i].named(), owner.Name()) {
			found = &list[i]
			break
		}
	}
	switch {
	case found == nil:
		return &Error{p.src, owner.Pos, "no table is called " + owner.Name() + " here"}
	case owner == nil && len(list) > 1:
		return &Error{p.src, begin.Pos, "several tables are named here: put the table before each column that is assigned (" + list[0].named() + ".column = …)"}
	}
	s.Target.Table = *found.table
	if found.schema != nil {
		s.Target = Name{Schema: *found.schema, Table: *found.table, Qualified: true}
	}
	s.Alias = found.alias
	if len(list) > 1 || found.at > 0 || p.extra(tables, *found) {
		s.Tables, s.TargetAt = tables, found.at
	}
	return nil
}

// extra reports whether there is more in the list than the one table: a derived one, say.
func (p *parser) extra(tables Fragment, x source) bool {
	n := 1
	if x.schema != nil {
		n += 2
	}
	if x.alias != nil {
		n++
		if tables.Tokens[x.at+n-1].Is("AS") {
			n++
		}
	}
	return len(tables.Tokens) > n
}

// sources lists the tables named outside brackets.
func sources(tokens []Token) []source {
	var out []source
	wanted, depth := true, 0
	for i := 0; i < len(tokens); i++ {
		t := tokens[i]
		switch {
		case t.Punct("("):
			depth++
			wanted = false
		case t.Punct(")"):
			depth--
		case depth > 0:
		case t.Punct(","), t.Is("JOIN"), t.Is("STRAIGHT_JOIN"):
			wanted = true
		case wanted && (t.Kind == Ident || t.Kind == QuotedIdent):
			wanted = false
			x := source{table: &tokens[i], at: i}
			if i+2 < len(tokens) && tokens[i+1].Punct(".") {
				x.schema, x.table = &tokens[i], &tokens[i+2]
				i += 2
			}
			if i+1 < len(tokens) {
				next := tokens[i+1]
				switch {
				case next.Is("AS") && i+2 < len(tokens):
					x.alias = &tokens[i+2]
					i += 2
				case (next.Kind == Ident || next.Kind == QuotedIdent) && !joins(next):
					x.alias = &tokens[i+1]
					i++
				}
			}
			out = append(out, x)
		}
	}
	return out
}

// joins reports whether a word goes on after a table rather than naming it.
func joins(t Token) bool {
	for _, w := range []string{"JOIN", "INNER", "LEFT", "RIGHT", "CROSS", "NATURAL", "STRAIGHT_JOIN", "ON", "USING", "FORCE", "USE", "IGNORE", "PARTITION", "FOR"} {
		if t.Is(w) {
			return true
		}
	}
	return false
}
