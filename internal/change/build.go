package change

import (
	"fmt"
	"strings"

	"jugatum/internal/sqltext"
)

// Catalogue looks a table up by name; schema is "" where none was written.
// Names are as written, folded by the dialect's rules unless they were quoted.
type Catalogue func(schema, table string) (*Table, error)

// Build turns a step into its one form. Faults in the step are *FieldError;
// other errors come from the catalogue.
func Build(d Dialect, spec Spec, params map[string]Value, tables Catalogue) (*Change, error) {
	c := &Change{Step: spec.Name, Of: spec.Of, D: d, Params: params, Lines: spec.Lines}
	b := builder{c: c, spec: spec, tables: tables}
	var err error
	if spec.Call != nil {
		return c, b.call()
	}
	if spec.SQL != "" {
		err = b.statement()
	} else {
		err = b.fields()
	}
	if err != nil {
		return nil, err
	}
	if c.First != nil && (c.Table.Key == nil || !c.From.Empty()) {
		if c.Table.Key == nil {
			return nil, b.failf("first", "%s has no key by which its first rows could be told", c.Table)
		}
		return nil, b.failf("first", "the first rows can be told where one table is named, not several")
	}
	if len(spec.Shapes) > 0 {
		if spec.Once != "" {
			return nil, b.failf("once", "a text that is in its form is not changed a second time; leave once out")
		}
		c.Rewrite = &Rewrite{Shapes: spec.Shapes}
		for _, name := range spec.ShapedFrom {
			c.Rewrite.From = append(c.Rewrite.From, c.origin(name))
		}
	}
	if err := b.once(); err != nil {
		return nil, err
	}
	if err := c.implicit(); err != nil {
		return nil, err
	}
	if err := b.fixClock(); err != nil {
		return nil, err
	}
	for i, name := range spec.ShapedSet {
		c.Rewrite.Follows, c.Set[i].Untyped = true, true
		c.Rewrite.From = append(c.Rewrite.From, &Origin{Named: &Named{name, c.Set[i].Expr}})
	}
	return c, b.parameters()
}

// fixClock writes the run's time in the place of what tells the time.
func (b *builder) fixClock() error {
	c := b.c
	c.With, c.Where = b.clock(c.With), b.clock(c.Where)
	before, rest := b.clock(sqltext.Fragment{Tokens: c.From.Tokens[:c.targetAt]}), b.clock(sqltext.Fragment{Tokens: c.From.Tokens[c.targetAt:]})
	c.From, c.targetAt = sqltext.Fragment{Tokens: append(before.Tokens, rest.Tokens...)}, len(before.Tokens)
	if c.First != nil {
		c.First.Order = b.clock(c.First.Order)
	}
	if l := c.Lookup; l != nil {
		l.Where, l.From, l.Match = b.clock(l.Where), b.clock(l.From), b.clock(l.Match)
	}
	for i := range c.Let {
		c.Let[i].Expr = b.clock(c.Let[i].Expr)
	}
	for i := range c.Set {
		s := &c.Set[i]
		s.Expr = b.clock(s.Expr)
		if !s.Default || s.Column.Default == "" {
			continue
		}
		expr, err := sqltext.Expression(c.D, s.Column.Default)
		if err != nil {
			continue // the server's own text of it stands there as it is
		}
		if fixed := b.clock(expr); fixed.String() != expr.String() {
			s.Expr, s.Default, s.Untyped = fixed, false, true // cast to the column's type, as before
		}
	}
	return nil
}

// implicit adds the columns that the database assigns by itself.
func (c *Change) implicit() error {
	if c.Verb != sqltext.Update {
		return nil
	}
	for _, col := range c.Table.Columns {
		if col.OnUpdate == "" || c.assigned(col) != nil {
			continue
		}
		expr, err := sqltext.Expression(c.D, col.OnUpdate)
		if err != nil {
			return err
		}
		c.Set = append(c.Set, Set{Column: col, Expr: expr, Implicit: true})
	}
	return nil
}

type builder struct {
	c      *Change
	spec   Spec
	tables Catalogue
}

func (b *builder) fail(field string, err error) error {
	return &FieldError{Step: b.spec.Name, Field: field, Err: err}
}

func (b *builder) failf(field, format string, args ...any) error {
	return b.fail(field, fmt.Errorf(format, args...))
}

func (b *builder) statement() error {
	st, err := sqltext.Parse(b.c.D, b.spec.SQL)
	if err != nil {
		return b.fail("sql", err)
	}
	c := b.c
	if tokens, err := sqltext.Lex(c.D, b.spec.SQL); err == nil && len((sqltext.Fragment{Tokens: tokens}).Params()) == 0 && b.spec.Once == "" {
		c.written = strings.TrimRight(b.spec.SQL, "; \t\r\n")
	}
	schema := ""
	if st.Target.Qualified {
		schema = b.name(st.Target.Schema)
	}
	if c.Table, err = b.tables(schema, b.name(st.Target.Table)); err != nil {
		return err
	}
	c.Verb, c.Only, c.Recursive = st.Verb, st.Only, st.Recursive
	c.With, c.From, c.Where = st.With, st.From, st.Where
	if !st.Tables.Empty() {
		c.From, c.joined, c.targetAt = st.Tables, true, st.TargetAt
	}
	c.Ref = c.D.Quote(c.Table.Name)
	if st.Alias != nil {
		c.alias = st.Alias.Text
		c.Ref = st.Alias.Text
	} else {
		b.standIn(st.Target.Table)
	}
	for _, a := range st.Set {
		if err := b.assign(a); err != nil {
			return err
		}
	}
	return b.limit(st)
}

// standIn has the job's SQL go on calling the target by the name that was
// written, where the catalogue gave a table that inherits from that one instead.
func (b *builder) standIn(written sqltext.Token) {
	c := b.c
	if name := b.name(written); c.D.Forms().Heirs && name != c.Table.Name {
		c.alias = c.D.Quote(name)
		c.Ref = c.alias
	}
}

func (b *builder) name(t sqltext.Token) string { return b.c.D.Name(t) }

// assign adds one item of a SET list, a row of values taken apart.
func (b *builder) assign(a sqltext.Assignment) error {
	if len(a.Columns) == 1 {
		return b.set("sql", a.Columns[0], a.Expr)
	}
	ts := a.Expr.Tokens
	if ts[0].Is("ROW") {
		ts = ts[1:]
	}
	if len(ts) < 2 || !ts[0].Punct("(") || !ts[len(ts)-1].Punct(")") {
		return b.failf("sql", "expected a row of %d values in brackets for (%s)", len(a.Columns), a.Columns[0].Name())
	}
	inner := ts[1 : len(ts)-1]
	if len(inner) > 0 && (inner[0].Is("SELECT") || inner[0].Is("WITH")) {
		return b.assignRow(a.Columns, inner)
	}
	var items []sqltext.Fragment
	depth, begin := 0, 0
	for i, t := range inner {
		switch {
		case t.Punct("(") || t.Punct("["):
			depth++
		case t.Punct(")") || t.Punct("]"):
			depth--
		case t.Punct(",") && depth == 0:
			items = append(items, sqltext.Fragment{Tokens: inner[begin:i]})
			begin = i + 1
		}
	}
	items = append(items, sqltext.Fragment{Tokens: inner[begin:]})
	if len(items) != len(a.Columns) {
		return b.failf("sql", "%d columns but %d values", len(a.Columns), len(items))
	}
	for i, col := range a.Columns {
		if err := b.set("sql", col, items[i]); err != nil {
			return err
		}
	}
	return nil
}

// assignRow turns (a, b) = (SELECT …) into one sub-query a column. Where it gives
// several rows, of which the first counts (SQLite) or which it cuts itself, each
// of them must meet the same first row: so all columns are asked for in each, or
// the server might take another index for it.
func (b *builder) assignRow(cols []sqltext.Token, query []sqltext.Token) error {
	names := make([]string, len(cols))
	for i := range cols {
		names[i] = "jugatum_" + itoa(i+1)
	}
	for i, col := range cols {
		as, whole := " AS "+b.c.D.Forms().Materialized+"(", "" // every column is computed then
		if b.c.D.Forms().Materialized == "" {
			whole = " WHERE coalesce(" + strings.Join(names, ", ") + ", 1) IS NOT NULL"
		}
		head, err := sqltext.Lex(b.c.D, "(WITH jugatum_row ("+strings.Join(names, ", ")+")"+as)
		if err != nil {
			return err
		}
		tail, err := sqltext.Lex(b.c.D, ") SELECT "+names[i]+" FROM jugatum_row"+whole+")")
		if err != nil {
			return err
		}
		expr := append(append(head, query...), tail...)
		if err := b.set("sql", col, sqltext.Fragment{Tokens: expr}); err != nil {
			return err
		}
		b.c.Set[len(b.c.Set)-1].Row = true
	}
	return nil
}

func (b *builder) set(field string, col sqltext.Token, expr sqltext.Fragment) error {
	s := Set{Expr: expr}
	var err error
	if s.Column, err = b.column(field, col); err != nil {
		return err
	}
	if len(expr.Tokens) == 1 {
		t := expr.Tokens[0]
		s.Default = t.Is("DEFAULT")
		s.Untyped = t.Kind == sqltext.String || t.Is("NULL") || t.Kind == sqltext.Param && b.c.Params[t.Name()].Type == TextValue
	}
	b.c.Set = append(b.c.Set, s)
	return nil
}

func (b *builder) column(field string, tok sqltext.Token) (*Column, error) {
	col := b.c.Table.Column(b.c.D, tok)
	if col == nil {
		return nil, b.failf(field, "table %s has no column %q%s", b.c.Table, tok.Name(), NearestColumn(b.c.Table, tok.Name()))
	}
	if col.Generated {
		return nil, b.failf(field, "column %s.%s is computed by the database and cannot be assigned", b.c.Table, col.Name)
	}
	for _, s := range b.c.Set {
		if s.Column == col {
			return nil, b.failf(field, "column %s.%s is assigned twice", b.c.Table, col.Name)
		}
	}
	return col, nil
}

// fields builds a step that is written in fields of its own.
func (b *builder) fields() error {
	c, spec := b.c, b.spec
	if err := b.target(); err != nil {
		return err
	}
	var err error
	if spec.Where != "" {
		if c.Where, err = sqltext.Expression(c.D, spec.Where); err != nil {
			return b.fail("where", err)
		}
	}
	if spec.First != nil {
		c.First = &First{Skip: spec.Skip, N: *spec.First}
		if c.First.Order, err = sqltext.Expression(c.D, spec.Order); spec.Order != "" && err != nil {
			return b.fail("order", err)
		}
	}
	if err := b.named(); err != nil {
		return err
	}
	c.Where = b.expand(c.Where)
	if spec.Joint != nil {
		if err := b.joint(spec.Joint); err != nil {
			return err
		}
	}
	if spec.Delete {
		c.Verb, c.Into, c.Merge, c.everywhere = sqltext.Delete, spec.Into, spec.Merge, spec.Everywhere
		if c.Into != nil && c.Into.Copied {
			c.Verb = sqltext.Insert
		}
		return nil
	}
	for _, f := range spec.Set {
		field := "set." + f.Name
		expr, err := sqltext.Expression(c.D, f.Expr)
		if err != nil {
			return b.fail(field, err)
		}
		if err := b.set(field, b.token(f.Name), b.expand(expr)); err != nil {
			return err
		}
	}
	for _, l := range spec.Put {
		col, err := b.column("put."+l.Name, b.token(l.Name))
		if err != nil {
			return err
		}
		v := l.Value
		if err := b.kept("put."+l.Name, v); err != nil {
			return err
		}
		c.Set = append(c.Set, Set{Column: col, Literal: &v})
	}
	return b.volatile()
}

// target looks the table up that a step names in a field.
func (b *builder) target() error {
	c := b.c
	written, err := b.tableName("table", b.spec.Table)
	if err != nil {
		return err
	}
	if c.Table, err = b.lookUp(written); err != nil {
		return b.fail("table", err)
	}
	c.Ref = c.D.Quote(c.Table.Name)
	b.standIn(written.Table)
	return nil
}

// tableName reads the name of a table, with its schema or without.
func (b *builder) tableName(field, text string) (sqltext.Name, error) {
	var n sqltext.Name
	name, err := sqltext.Lex(b.c.D, text)
	if err != nil {
		return n, b.fail(field, err)
	}
	if len(name) == 3 && name[1].Punct(".") {
		n.Schema, n.Qualified = name[0], true
		name = name[2:]
	}
	if len(name) != 1 || name[0].Kind != sqltext.Ident && name[0].Kind != sqltext.QuotedIdent {
		return n, b.failf(field, "%q is not a table's name; quote it inside the string if it has unusual characters", text)
	}
	n.Table = name[0]
	return n, nil
}

// lookUp finds a table in the catalogue.
func (b *builder) lookUp(n sqltext.Name) (*Table, error) {
	schema := ""
	if n.Qualified {
		schema = b.name(n.Schema)
	}
	return b.tables(schema, b.name(n.Table))
}

// Target looks the table up that a step names, and tells how its SQL refers to it.
func Target(d Dialect, spec Spec, tables Catalogue) (t *Table, ref string, err error) {
	b := builder{c: &Change{D: d}, spec: spec, tables: tables}
	if err := b.target(); err != nil {
		return nil, "", err
	}
	return b.c.Table, b.c.Ref, nil
}

// AnotherTable looks another table up that a field of the step names; the token is its name
// without the schema. What the catalogue says of it may be an error, as of a view.
func AnotherTable(d Dialect, spec Spec, field, text string, tables Catalogue) (*Table, sqltext.Token, error) {
	b := builder{c: &Change{D: d}, spec: spec, tables: tables}
	n, err := b.tableName(field, text)
	if err != nil {
		return nil, n.Table, err
	}
	t, err := b.lookUp(n)
	return t, n.Table, err
}

// token makes a token of a column's name given as a key of the file: the exact
// name if there is such a column, else as an unquoted word.
func (b *builder) token(name string) sqltext.Token {
	if b.c.Table.Named(name) != nil {
		return sqltext.Token{Kind: sqltext.QuotedIdent, Text: b.c.D.Quote(name)}
	}
	return sqltext.Token{Kind: sqltext.Ident, Text: name}
}

// parameters makes sure that every parameter used has a value.
func (b *builder) parameters() error {
	for field, f := range b.c.Fragments() {
		for _, name := range f.Params() {
			if _, ok := b.c.Params[name]; !ok {
				if b.spec.SQL != "" {
					field = "sql"
				}
				return b.undeclared(field, name)
			}
			if err := b.kept(field, b.c.Params[name]); err != nil {
				return err
			}
		}
	}
	return nil
}

// kept refuses a decimal number of which the database would keep only a part.
func (b *builder) kept(field string, v Value) error {
	most := b.c.D.Forms().Digits
	if v.Type != DecimalValue || v.Null || most == 0 {
		return nil
	}
	digits := strings.TrimLeft(strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, v.Text), "0")
	if strings.Contains(v.Text, ".") {
		digits = strings.TrimRight(digits, "0")
	}
	if len(digits) > most {
		return b.failf(field, "%s has %d digits, of which %s would keep %d; write it as a text if the column is to hold it whole", v.Text, len(digits), b.c.D, most)
	}
	return nil
}

func (b *builder) undeclared(field, name string) error {
	if b.sliced(name) {
		return b.failf(field, "parameter :%s is not declared; in a slice of an array, write [1 : %s] with a blank after the colon if a column is meant", name, name)
	}
	return b.failf(field, "parameter :%s is not declared; add [param.%s] to the job, or give it with --param %s=…", name, name, name)
}

// sliced reports whether a parameter of this name stands within square brackets
// after something else, as the end of a slice would.
func (b *builder) sliced(name string) bool {
	for _, f := range b.c.Fragments() {
		depth := 0
		for i, t := range f.Tokens {
			switch {
			case t.Punct("["):
				depth++
			case t.Punct("]"):
				depth--
			case depth > 0 && t.Kind == sqltext.Param && t.Name() == name && !f.Tokens[i-1].Punct(",") && (i < 2 || !f.Tokens[i-2].Is("ARRAY")):
				return true
			}
		}
	}
	return false
}
