// Package fill is the kind of step that fills columns of a table with values of
// another table, or of a query, whose rows match.
package fill

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/kind"
	shapes "jugatum/internal/kind/shape"
	"jugatum/internal/shape"
	"jugatum/internal/sqltext"
)

// Keys are the keys of such a step in a job file, besides table, where and once.
type Keys struct {
	From      *string           `toml:"from"`
	Match     any               `toml:"match"`
	Fill      map[string]string `toml:"fill"`
	MatchAs   *string           `toml:"match_as"`
	Unmatched *string           `toml:"unmatched"`
	Pick      *string           `toml:"pick"`
	Advise    bool              `toml:"advise"`

	Shape map[string]any `toml:"-"` // of columns that are filled; the key is that of another kind as well
}

// Used reports whether any of the keys is there.
func (k Keys) Used() bool {
	return k.From != nil || k.Match != nil || k.MatchAs != nil || k.Fill != nil || k.Unmatched != nil || k.Pick != nil || k.Advise
}

// Names lists the main ones.
func (Keys) Names() string { return "from, match and fill" }

// Read makes the step of its keys.
func (k Keys) Read(order func(key string, m any) []string) (kind.Step, string, error) {
	s, field, err := k.read(order)
	if err != nil {
		return nil, field, err
	}
	return s, "", nil
}

// Step is such a step as its author wrote it.
type Step struct {
	From      string         // a table, or a query in brackets
	Match     []change.Field // a column of the target, and the expression over the source that it equals
	On        string         `json:",omitempty"` // instead of Match: a condition over both
	MatchAs   change.Form    `json:",omitempty"` // "" to match texts as they are
	Fill      []change.Field // a column of the target, and the expression over the source that it is to hold
	Unmatched change.Unmatched
	Shape     []shapes.Column `json:",omitempty"` // the form into which texts are brought on the way
	Pick      string          `json:",omitempty"` // the order by which one of several source rows is taken
	Advise    bool            `json:"-"`          // tell which constraints could be set afterwards
}

func (k Keys) read(order func(key string, m any) []string) (s *Step, field string, err error) {
	s = &Step{Unmatched: change.Leave, Advise: k.Advise}
	if k.From == nil {
		return nil, "", errors.New("from is missing: the table that the values come from, or a query in brackets")
	}
	if s.From = strings.TrimSpace(*k.From); s.From == "" {
		return nil, "from", errors.New("from is empty; it names a table, or is a query in brackets")
	}
	switch m := k.Match.(type) {
	case nil:
		return nil, "", errors.New("match is missing: { column = \"column of the source\" }, or an SQL condition")
	case string:
		if s.On = m; strings.TrimSpace(m) == "" {
			return nil, "match", errors.New("match is empty")
		}
	case map[string]any:
		for _, name := range order("match", m) {
			text, ok := m[name].(string)
			if !ok {
				return nil, "match." + name, fmt.Errorf("match.%s: expected a text, the source's column", name)
			}
			s.Match = append(s.Match, change.Field{Name: name, Expr: text})
		}
		if len(s.Match) == 0 {
			return nil, "match", errors.New("match is empty")
		}
	default:
		return nil, "match", errors.New("match: expected { column = \"column of the source\" }, or a text with an SQL condition")
	}
	if k.MatchAs != nil {
		s.MatchAs = change.Form(*k.MatchAs)
		switch {
		case s.MatchAs != change.Trimmed && s.MatchAs != change.Folded:
			return nil, "match_as", fmt.Errorf("match_as: %q is not trimmed or folded", *k.MatchAs)
		case s.On != "":
			return nil, "match_as", errors.New("match_as goes with a match of columns, not with a condition")
		}
	}
	for _, name := range order("fill", k.Fill) {
		s.Fill = append(s.Fill, change.Field{Name: name, Expr: k.Fill[name]})
	}
	if len(s.Fill) == 0 {
		return nil, "fill", errors.New("fill is missing: { column = \"column of the source\" }")
	}
	if k.Unmatched != nil {
		s.Unmatched = change.Unmatched(*k.Unmatched)
		if !slices.Contains([]change.Unmatched{change.Leave, change.Null, change.Fail}, s.Unmatched) {
			return nil, "unmatched", fmt.Errorf("unmatched: %q is not leave, null or fail", *k.Unmatched)
		}
	}
	if k.Pick != nil {
		if s.Pick = *k.Pick; strings.TrimSpace(s.Pick) == "" {
			return nil, "pick", errors.New("pick is empty; leave it out to have rows with several source rows refused")
		}
		if s.On != "" {
			return nil, "pick", errors.New("pick goes with a match of columns; here, let from be a query that gives each row once")
		}
	}
	s.Shape, field, err = shapes.Read(k.Shape, order)
	return s, field, err
}

// Kind is the kind's name.
func (s *Step) Kind() string { return "fill" }

// Each calls do for every piece of SQL of the step, to be replaced by what it gives.
func (s *Step) Each(do func(sql string) string) kind.Step { return s.each(do) }

func (s *Step) each(do func(sql string) string) *Step {
	out := *s
	out.From, out.On, out.Pick = do(s.From), do(s.On), do(s.Pick)
	out.Match, out.Fill = slices.Clone(s.Match), slices.Clone(s.Fill)
	for _, list := range [][]change.Field{out.Match, out.Fill} {
		for i := range list {
			list[i].Expr = do(list[i].Expr)
		}
	}
	return &out
}

// Names of columns of the source as the change reads them: matched ones and others.
const (
	matched = "jugatum_m"
	filled  = "jugatum_f"
)

// Parts makes the changes' specs: one that fills, and where rows without a match are
// to be NULL one for those.
func (s *Step) Parts(spec change.Spec, at kind.Place) ([]kind.Part, error) {
	p := parts{Checker: kind.Checker{D: at.D, Step: spec.Name}, s: s, spec: spec, tables: at.Tables, once: at.Once}
	return p.make()
}

type parts struct {
	kind.Checker
	s      *Step
	spec   change.Spec
	tables change.Catalogue
	once   bool // a table that is joined is to be read once, too

	target *change.Table
	ref    string        // how SQL refers to it
	source *change.Table // nil if the source is a query, or nothing is known of it
	origin string        // the source as an item of a FROM list, with its alias
	alias  string        // how the job's SQL calls it
}

func (p *parts) make() ([]kind.Part, error) {
	var err error
	if p.target, p.ref, err = change.Target(p.D, p.spec, p.tables); err != nil {
		return nil, err
	}
	if err := p.check(); err != nil {
		return nil, err
	}
	p.s = p.s.each(p.Uncommented)
	if err := p.origins(); err != nil {
		return nil, err
	}
	j := p.joint()
	first := p.spec
	for i, f := range p.s.Fill {
		first.Set = append(first.Set, change.Field{Name: f.Name, Expr: p.value(j, i)})
	}
	first.Joint = j
	if err := p.shapes(&first); err != nil {
		return nil, err
	}
	out := []kind.Part{{Name: "", Spec: first}}
	if p.s.Unmatched != change.Null {
		return out, nil
	}
	rest := p.spec
	for _, f := range p.s.Fill {
		rest.Set = append(rest.Set, change.Field{Name: f.Name, Expr: "NULL"})
	}
	missing := *j
	missing.Missing = true
	rest.Joint = &missing
	return append(out, kind.Part{Name: ": no match", Spec: rest}), nil
}

// shapes has what fills the columns brought into a form on the way, by us: then that is so of all of
// them, also of those that are to be as they are in the source.
func (p *parts) shapes(spec *change.Spec) error {
	if len(p.s.Shape) == 0 {
		return nil
	}
	for _, c := range p.s.Shape {
		switch field := "shape." + c.Name; {
		case !slices.ContainsFunc(p.s.Fill, func(f change.Field) bool { return p.column(f.Name) == p.column(c.Name) }):
			return p.Failf(field, "%s is not among the columns that are filled; a step of its own brings its texts into a form", c.Name)
		case c.Of != "":
			return p.Failf(field, "what %s is made of stands in fill", c.Name)
		}
	}
	if p.target.Key == nil {
		return p.Failf("shape", "%s has no key by which its rows could be changed one by one", p.target)
	}
	for _, f := range p.s.Fill {
		col, field := p.column(f.Name), "fill."+f.Name
		if col == nil {
			return p.Failf(field, "table %s has no column %q%s", p.target, f.Name, change.NearestColumn(p.target, f.Name))
		}
		var specs []shape.Spec
		for _, c := range p.s.Shape {
			if p.column(c.Name) == col {
				field, specs = "shape."+c.Name, c.Chain
			}
		}
		if len(specs) == 0 && (col.Class != change.Text || col.Binary) {
			return p.Failf(field, "%s is of type %s; beside columns with a shape only texts are filled: fill it in a step of its own", col.Name, col.Type)
		}
		chain, err := shape.Made(specs)
		if err != nil {
			return p.Fail(field, err)
		}
		fits, err := shapes.Fitting(p.D, col, specs)
		if err != nil {
			return p.Fail(field, err)
		}
		if col.NotNull && chain.MakesNull() {
			return p.Failf(field, "%s.%s is NOT NULL, and a text may come out as NULL", p.target, col.Name)
		}
		spec.Shapes, spec.ShapedSet = append(spec.Shapes, append(chain, fits)), append(spec.ShapedSet, f.Expr)
	}
	return nil
}

// origins reads where the values come from.
func (p *parts) origins() error {
	tokens, err := sqltext.Lex(p.D, p.s.From)
	if err != nil {
		return p.Fail("from", err)
	}
	if len(tokens) > 0 && tokens[0].Punct("(") {
		inner := strings.TrimSuffix(strings.TrimPrefix(p.s.From, "("), ")")
		if !tokens[len(tokens)-1].Punct(")") || inner == p.s.From {
			return p.Failf("from", "expected a query in brackets, and nothing after it; it is called source")
		}
		if err := sqltext.Source(p.D, inner); err != nil {
			return p.Fail("from", err)
		}
		p.alias, p.origin = "source", "("+inner+") AS source"
		return nil
	}
	table, name, err := change.AnotherTable(p.D, p.spec, "from", p.s.From, p.tables)
	var fault *change.FieldError
	if errors.As(err, &fault) {
		return err
	}
	if err == nil { // else a view, or what is not there, of which the server will tell
		p.source = table
	}
	if p.source != nil && p.source.Schema == p.target.Schema && p.source.Name == p.target.Name {
		return p.Failf("from", "%s is the table that is filled; let from be a query over it, in brackets", p.target)
	}
	p.alias, p.origin = name.Text, p.s.From+" AS "+name.Text
	return nil
}

// check reads every piece of SQL by itself, so that none can reach into another.
func (p *parts) check() error {
	for _, m := range p.s.Match {
		if p.column(m.Name) == nil {
			return p.Failf("match."+m.Name, "table %s has no column %q%s", p.target, m.Name, change.NearestColumn(p.target, m.Name))
		}
		if err := p.Expression("match."+m.Name, m.Expr); err != nil {
			return err
		}
	}
	for _, f := range p.s.Fill {
		if err := p.Expression("fill."+f.Name, f.Expr); err != nil {
			return err
		}
	}
	for _, f := range []change.Field{{Name: "match", Expr: p.s.On}, {Name: "pick", Expr: p.s.Pick}} {
		if f.Expr == "" {
			continue
		}
		if err := p.Expression(f.Name, f.Expr); err != nil {
			return err
		}
	}
	if p.s.MatchAs != "" && !slices.ContainsFunc(p.s.Match, func(m change.Field) bool { return p.spelled(p.column(m.Name)) }) {
		return p.Failf("match_as", "none of the columns of %s that are matched holds texts; leave it out", p.target)
	}
	if p.s.Unmatched == change.Null {
		return p.checkNull()
	}
	return nil
}

// spelled reports whether a column of the target is matched by the form of its texts.
func (p *parts) spelled(col *change.Column) bool {
	return p.s.MatchAs != "" && col.Class == change.Text
}

// checkNull refuses what makes it unsure which rows match nothing. They are found by
// a statement of their own, after that which fills the others: what a row is matched
// by must not have changed by then.
func (p *parts) checkNull() error {
	if p.s.MatchAs != "" {
		return p.Failf("unmatched", "null does not go with match_as: which texts there are is read before the run, and a row that is given another way of writing meanwhile would be taken for one without a match; fill first, and write a step for the rows that are left")
	}
	for _, t := range p.target.Triggers {
		if t.Update {
			return p.Failf("unmatched", "null takes a statement of its own after the one that fills, and trigger %s may change in between what a row is matched by; leave it out and write a step for those rows", t.Name)
		}
	}
	matched := map[*change.Column]bool{}
	for _, m := range p.s.Match {
		matched[p.column(m.Name)] = true
	}
	on, err := sqltext.Expression(p.D, p.s.On)
	for _, t := range on.Tokens {
		if col := p.target.Column(p.D, t); err == nil && col != nil {
			matched[col] = true
		}
	}
	for col := range matched {
		if col.Generated {
			return p.Failf("unmatched", "null cannot be told by %s.%s, which the database computes and which may change with what is filled", p.target, col.Name)
		}
		for _, fk := range p.target.ReferredBy {
			if fk.Own(p.target) && slices.Contains(fk.Columns, col.Name) && fk.OnUpdate != "NO ACTION" && fk.OnUpdate != "RESTRICT" {
				return p.Failf("unmatched", "null cannot be told by %s.%s, which follows another row of the table (%s)", p.target, col.Name, fk.Name)
			}
		}
	}
	for _, f := range p.s.Fill {
		col := p.column(f.Name)
		switch {
		case col == nil: // told when the change is made
		case matched[col]:
			return p.Failf("unmatched", "null cannot be told by %s.%s, which is filled itself", p.target, col.Name)
		case col.NotNull:
			return p.Failf("unmatched", "%s.%s is NOT NULL and cannot become NULL where nothing matches", p.target, col.Name)
		}
	}
	return nil
}

// column finds a column of the target by a key of the job file.
func (p *parts) column(name string) *change.Column {
	if c := p.target.Named(name); c != nil {
		return c
	}
	return p.target.Column(p.D, sqltext.Token{Kind: sqltext.Ident, Text: name})
}

// plain is the column of the source that an expression is, nil if it is none.
func (p *parts) plain(expr string) *change.Column {
	tokens, err := sqltext.Lex(p.D, expr)
	if p.source == nil || err != nil || len(tokens) != 1 {
		return nil
	}
	return p.source.Column(p.D, tokens[0])
}

// as is how a change calls the source: in a condition of the author's by the author's
// name, else by one that no column of the target's filter can be taken for.
func (p *parts) as() string {
	if p.s.On != "" {
		return p.alias
	}
	return "jugatum_source"
}

// joint is how the source is joined to the target. A table is joined as it is where
// an index finds the rows and nothing is worked out from its columns, unless the
// engine would rather not. Anything else is worked out once, before the first batch:
// some servers would do so in every batch. A condition of the author's over a table is
// left to the server.
func (p *parts) joint() *change.Joint {
	j := &change.Joint{As: p.as(), Unmatched: p.s.Unmatched}
	direct := p.source != nil && p.s.On != ""
	if p.s.MatchAs != "" {
		j.Words = p.words()
	}
	if p.s.On == "" {
		direct, j.Unique = p.indexed()
		direct = direct && !p.once && j.Words == nil
		j.Unique = j.Unique && j.Words == nil // several may have the same form
	}
	j.Table = p.source
	for _, f := range p.s.Fill {
		j.Copied = append(j.Copied, p.plain(f.Expr))
	}
	var match []string
	for i, m := range p.s.Match {
		col := p.column(m.Name)
		name := matched + strconv.Itoa(i+1)
		j.Columns = append(j.Columns, col.Name)
		j.Index = append(j.Index, name)
		if direct {
			name = p.D.Quote(p.plain(m.Expr).Name)
		}
		if own := p.ref + "." + p.D.Quote(col.Name); p.spelled(col) {
			match = append(match, j.As+"."+name+" = "+p.D.Spelled(own))
		} else {
			match = append(match, own+" = "+j.As+"."+name)
		}
	}
	if j.Match = strings.Join(match, " AND "); p.s.On != "" {
		j.Match = p.s.On
	}
	if direct {
		j.From = p.s.From + " AS " + j.As
		return j
	}
	j.Query = p.query()
	j.From = "(" + j.Query + ") AS " + j.As
	return j
}

// value is the expression for a column that is filled.
func (p *parts) value(j *change.Joint, i int) string {
	expr := p.s.Fill[i].Expr
	switch col := p.plain(expr); {
	case p.s.On == "" && j.Query != "":
		return j.As + "." + filled + strconv.Itoa(i+1)
	case col != nil:
		return j.As + "." + p.D.Quote(col.Name)
	}
	return expr // beside a condition of the author's, where both tables have their names
}

// query gives the source's rows: what is matched, and what is filled in; all columns
// beside a condition of the author's.
func (p *parts) query() string {
	end := ""
	if p.s.MatchAs != "" || p.D.Forms().IndexesDerived {
		end = p.D.Forms().Unmerged // worked out once, rather than for each row of the target
	}
	if p.s.On != "" {
		return "SELECT * FROM " + p.origin + end
	}
	var names, cols, by []string
	add := func(name, expr string) {
		names = append(names, name)
		cols = append(cols, "("+expr+") AS "+name)
	}
	for i, m := range p.s.Match {
		expr := m.Expr
		if p.spelled(p.column(m.Name)) {
			expr = "jugatum_w." + change.WordColumn(true, i)
		}
		add(matched+strconv.Itoa(i+1), expr)
		by = append(by, "("+expr+")")
	}
	for i, f := range p.s.Fill {
		add(filled+strconv.Itoa(i+1), f.Expr)
	}
	from := p.origin
	if p.s.MatchAs != "" {
		from = p.byWords()
	}
	if p.s.Pick == "" {
		return "SELECT " + strings.Join(cols, ", ") + " FROM " + from + end
	}
	// Rows that are the first alike stay both, to be refused if they give other values.
	cols = append(cols, "rank() OVER (PARTITION BY "+strings.Join(by, ", ")+" ORDER BY "+p.s.Pick+") AS jugatum_rank")
	return "SELECT " + strings.Join(names, ", ") + " FROM (SELECT " + strings.Join(cols, ", ") + " FROM " + from + ") AS jugatum_p WHERE jugatum_rank = 1" + end
}

// indexed reports whether the table's rows can be joined as they are, found by an
// index; and whether the catalogue says that there is at most one for each row.
func (p *parts) indexed() (indexed, unique bool) {
	if p.source == nil || p.s.Pick != "" {
		return false, false
	}
	for _, f := range p.s.Fill {
		if p.plain(f.Expr) == nil {
			return false, false
		}
	}
	var cols []string
	same := true // they compare alike on both sides, and equal means the same
	for _, m := range p.s.Match {
		col := p.plain(m.Expr)
		if col == nil {
			return false, false
		}
		cols = append(cols, col.Name)
		same = same && col.Class == change.Number && p.column(m.Name).Class == change.Number && col.Type == p.column(m.Name).Type
	}
	begins := func(names []string) bool { // with the matched columns, in whatever order
		if len(names) < len(cols) {
			return false
		}
		for i, c := range cols {
			if !slices.Contains(names[:len(cols)], c) || slices.Contains(cols[:i], c) {
				return false
			}
		}
		return true
	}
	if k := p.source.Key; k != nil && begins(k.Names()) {
		indexed = true
		unique = same && !k.MayNull && len(k.Columns) == len(cols) && len(p.source.Heirs) == 0 // each table has its own index
	}
	return indexed || slices.ContainsFunc(p.source.Indexes, func(ix change.Index) bool { return !ix.Partial && begins(ix.Columns) }), unique
}

// words says which texts of both sides are matched by their form.
func (p *parts) words() *change.Words {
	w := &change.Words{Form: p.s.MatchAs, Origin: p.origin}
	w.Alone = !slices.ContainsFunc(p.s.Match, func(m change.Field) bool { return !p.spelled(p.column(m.Name)) })
	var cols []string
	on := []string{"1 = 1"}
	for i, m := range p.s.Match {
		col := p.column(m.Name)
		own, theirs := p.ref+"."+p.D.Quote(col.Name), "jugatum_u."+matched+strconv.Itoa(i+1)
		if !p.spelled(col) {
			cols = append(cols, "("+m.Expr+") AS "+matched+strconv.Itoa(i+1))
			on = append(on, own+" = "+theirs)
			continue
		}
		expr := p.D.Spelled("(" + m.Expr + ")")
		w.Own, w.Theirs = append(w.Own, p.D.Spelled(own)), append(w.Theirs, expr)
		cols = append(cols, expr+" AS "+matched+strconv.Itoa(i+1))
		on = append(on, "jugatum_w."+change.WordColumn(false, i)+" = "+theirs)
		if !w.Alone {
			on = append(on, "jugatum_w."+change.WordColumn(true, i)+" = "+p.D.Spelled(own))
		}
	}
	// The source's columns are given names of their own first: within a sub-query the
	// target's would be meant.
	w.Rows = "(SELECT " + strings.Join(cols, ", ") + " FROM " + p.origin + ") AS jugatum_u"
	w.Table, w.On = p.wordsTable(), strings.Join(on, " AND ")
	return w
}

// byWords is the source's rows joined to the words, as a FROM list. Where a server looks rows
// up in what a query gives only if it is the last, and is in no hurry to look up few, that is
// the source, with the texts that are matched as columns of its own.
func (p *parts) byWords() string {
	last := p.D.Forms().By == change.BySubset
	columns, on := p.alias+".*", []string{"1 = 1"}
	for i, m := range p.s.Match {
		if !p.spelled(p.column(m.Name)) {
			continue
		}
		text, name := p.D.Spelled("("+m.Expr+")"), "jugatum_e"+strconv.Itoa(i+1)
		columns += ", " + text + " AS " + name
		if last {
			text = p.alias + "." + name
		}
		on = append(on, text+" = jugatum_w."+change.WordColumn(false, i))
	}
	condition := " ON " + strings.Join(on, " AND ")
	if !last {
		return p.origin + " JOIN " + p.wordsTable() + condition
	}
	return p.wordsTable() + " CROSS JOIN (SELECT " + columns + " FROM " + p.origin + p.D.Forms().Unmerged + ") AS " + p.alias + condition
}

// wordsTable is the texts of both sides as an item of a FROM list.
func (p *parts) wordsTable() string {
	var columns []string
	for i, m := range p.s.Match {
		if p.spelled(p.column(m.Name)) {
			columns = append(columns, change.WordColumn(true, i), change.WordColumn(false, i))
		}
	}
	return p.D.Words(":"+change.WordsParam, columns) + " AS jugatum_w"
}
