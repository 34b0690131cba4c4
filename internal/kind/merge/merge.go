// Package merge is the kind of step that makes one row of several which mean the same: one of
// each group stays, references to the others are moved to it, and these are deleted.
package merge

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/kind"
	"jugatum/internal/sqltext"
)

// Keys are the keys of such a step in a job file, besides table and where.
type Keys struct {
	Merge  []string `toml:"merge"`
	SameAs *string  `toml:"same_as"`
	Nulls  *string  `toml:"nulls"`
	Stays  *string  `toml:"stays"`
	Blanks *string  `toml:"blanks"`
	Also   []string `toml:"also"`
	Twice  *string  `toml:"twice"`
}

// Used reports whether any of the keys is there.
func (k Keys) Used() bool {
	return k.Merge != nil || k.SameAs != nil || k.Nulls != nil || k.Stays != nil || k.Blanks != nil || k.Also != nil || k.Twice != nil
}

// Names lists the main ones.
func (Keys) Names() string { return "merge, same_as, stays and blanks" }

// Exact has values be the same to the byte.
const Exact change.Form = "exact"

// Words of the other keys.
const (
	Apart  = "apart"  // rows with a NULL belong to no group
	Equal  = "equal"  // NULL is the same as NULL
	Leave  = "leave"  // the row that stays is as it was
	Fill   = "fill"   // what is missing in it is taken from the others
	Refuse = "refuse" // a reference that would stand twice under a unique key
	Drop   = "merge"  // is one with that which stands there
)

// Step is such a step as its author wrote it.
type Step struct {
	By     []string
	SameAs change.Form
	Nulls  bool     `json:",omitempty"` // NULL is the same as NULL
	Stays  string   `json:",omitempty"` // the order by which the first stays; that of the key decides between equals
	Fill   bool     `json:",omitempty"`
	Also   []string `json:",omitempty"` // references that are not declared: table.column
	Drop   bool     `json:",omitempty"`
}

// Kind is the kind's name.
func (*Step) Kind() string { return "merge" }

// Read makes the step of its keys.
func (k Keys) Read(func(key string, m any) []string) (kind.Step, string, error) {
	s := &Step{By: k.Merge, SameAs: Exact, Also: k.Also}
	if len(k.Merge) == 0 {
		return nil, "merge", errors.New("merge is missing or empty: the columns in which rows are the same that are to become one")
	}
	for i, name := range k.Merge {
		if slices.Contains(k.Merge[:i], name) {
			return nil, "merge", fmt.Errorf("merge names %q twice", name)
		}
	}
	word := func(field string, given *string, into *string, among ...string) error {
		if given == nil {
			return nil
		}
		if *into = *given; !slices.Contains(among, *given) {
			return fmt.Errorf("%s: %q is not %s or %s", field, *given, strings.Join(among[:len(among)-1], ", "), among[len(among)-1])
		}
		return nil
	}
	same, nulls, blanks, twice := string(Exact), Apart, Leave, Refuse
	for _, x := range []struct {
		field string
		given *string
		into  *string
		among []string
	}{
		{"same_as", k.SameAs, &same, []string{string(Exact), string(change.Trimmed), string(change.Folded)}},
		{"nulls", k.Nulls, &nulls, []string{Apart, Equal}},
		{"blanks", k.Blanks, &blanks, []string{Leave, Fill}},
		{"twice", k.Twice, &twice, []string{Refuse, Drop}},
	} {
		if err := word(x.field, x.given, x.into, x.among...); err != nil {
			return nil, x.field, err
		}
	}
	s.SameAs, s.Nulls, s.Fill, s.Drop = change.Form(same), nulls == Equal, blanks == Fill, twice == Drop
	if k.Stays != nil {
		if s.Stays = strings.TrimSpace(*k.Stays); s.Stays == "" {
			return nil, "stays", errors.New("stays is empty; it is an order, of which the first row stays. Leave it out for that of the key")
		}
	}
	return s, "", nil
}

// Each calls do for every piece of SQL of the step.
func (s *Step) Each(do func(sql string) string) kind.Step {
	out := *s
	if s.Stays != "" {
		out.Stays = do(s.Stays)
	}
	return &out
}

// Parts makes the change's spec: rows that are written down as such that go are deleted.
func (s *Step) Parts(spec change.Spec, at kind.Place) ([]kind.Part, error) {
	p := kind.Checker{D: at.D, Step: spec.Name}
	m, ref, err := s.Resolve(spec, at.D, at.Tables)
	if err != nil {
		return nil, err
	}
	if at.List == nil {
		return nil, p.Failf("merge", "it is not known any more which rows of %s are to become one", m.Table)
	}
	m.List = at.List
	spec.Delete, spec.Merge = true, m
	spec.Where = m.Condition(at.D, ref)
	if m.Filter != "" {
		spec.Where = "(" + m.Filter + ") AND " + spec.Where
	}
	return []kind.Part{{Spec: spec}}, nil
}

// Resolve holds the step against the catalogue; which rows go is not known yet. ref is how the
// step's SQL refers to the table.
func (s *Step) Resolve(spec change.Spec, d change.Dialect, tables change.Catalogue) (m *change.Merge, ref string, err error) {
	x := resolver{Checker: kind.Checker{D: d, Step: spec.Name}, s: s, spec: spec, tables: tables}
	m, ref, err = x.target()
	if err != nil {
		return nil, "", err
	}
	if err := x.references(m); err != nil {
		return nil, "", err
	}
	return m, ref, nil
}

type resolver struct {
	kind.Checker
	s      *Step
	spec   change.Spec
	tables change.Catalogue
}

// target looks up the table and the columns in which its rows are the same.
func (x *resolver) target() (*change.Merge, string, error) {
	t, ref, err := change.Target(x.D, x.spec, x.tables)
	if err != nil {
		return nil, "", err
	}
	switch {
	case t.Key == nil:
		return nil, "", x.Failf("table", "%s, by which one row could be told from another", t.Keyless())
	case len(t.Heirs) > 0:
		return nil, "", x.Failf("table", "other tables inherit from %s, and rows of several tables cannot become one: name one table", t)
	case x.spec.Once != "":
		return nil, "", x.Failf("once", "rows that have become one are no longer there to become one again; leave it out")
	}
	m := &change.Merge{Table: t, Fill: x.s.Fill, SameAs: string(x.s.SameAs), Nulls: x.s.Nulls}
	for _, name := range x.s.By {
		c := change.Loosely(t, name)
		switch {
		case c == nil:
			return nil, "", x.Failf("merge", "table %s has no column %q%s", t, name, change.NearestColumn(t, name))
		case slices.Contains(m.By, c):
			return nil, "", x.Failf("merge", "column %s.%s is named twice", t, c.Name)
		case slices.Contains(t.Key.Columns, c) && len(t.Key.Columns) == 1:
			return nil, "", x.Failf("merge", "no two rows of %s have the same %s, which is its key", t, c.Name)
		case x.s.SameAs != Exact && c.Binary:
			return nil, "", x.Failf("merge", "%s.%s holds bytes, which have no form but their own; use same_as = \"exact\"", t, c.Name)
		}
		m.By = append(m.By, c)
	}
	if x.s.SameAs != Exact && !slices.ContainsFunc(m.By, func(c *change.Column) bool { return c.Class == change.Text }) {
		return nil, "", x.Failf("same_as", "none of the columns holds texts, which alone have a form; leave same_as out")
	}
	m.Watched = slices.Clone(m.By)
	if x.spec.Where != "" {
		if err := x.Expression("where", x.spec.Where); err != nil {
			return nil, "", err
		}
		m.Filter = x.Uncommented(x.spec.Where)
	}
	if x.s.Stays != "" {
		if _, err := sqltext.Expression(x.D, x.s.Stays); err != nil {
			return nil, "", x.Fail("stays", err)
		}
	}
	return m, ref, nil
}

// references finds what refers to the rows.
func (x *resolver) references(m *change.Merge) error {
	for _, fk := range m.Table.ReferredBy {
		if fk.Own(m.Table) {
			return x.Failf("table", "rows of %s refer to each other (%s), and one could come to refer to itself; a merge does not do that yet: clear these references first, or write the step in SQL", m.Table, fk.Name)
		}
		child, err := x.tables(fk.In(m.Table), fk.Table)
		if err != nil {
			return fmt.Errorf("%s, which refers to %s: %w", fk.From(), m.Table, err)
		}
		r := change.Reference{Table: child, Declared: true}
		for i, name := range fk.Columns {
			c, p := change.Loosely(child, name), change.Loosely(m.Table, fk.Parent[i])
			if c == nil || p == nil {
				return x.Failf("table", "%s.%s, which refers to %s.%s, is not there", child, name, m.Table, fk.Parent[i])
			}
			r.Columns, r.Parent = append(r.Columns, c), append(r.Parent, p)
		}
		if err := x.refers(m, r, "table"); err != nil {
			return err
		}
	}
	for _, text := range x.s.Also {
		r, err := x.also(m, text)
		if err != nil {
			return err
		}
		if err := x.refers(m, *r, "also"); err != nil {
			return err
		}
	}
	return nil
}

// also reads a reference that nobody has declared: table.column.
func (x *resolver) also(m *change.Merge, text string) (*change.Reference, error) {
	tokens, err := sqltext.Lex(x.D, text)
	if err != nil {
		return nil, x.Fail("also", err)
	}
	n := len(tokens)
	if n < 3 || !tokens[n-2].Punct(".") {
		return nil, x.Failf("also", "%q: expected a column that refers to %s, as table.column", text, m.Table)
	}
	if len(m.Table.Key.Columns) != 1 {
		return nil, x.Failf("also", "%q: the key of %s has %d columns, and one column cannot refer to it", text, m.Table, len(m.Table.Key.Columns))
	}
	child, _, err := change.AnotherTable(x.D, x.spec, "also", sqltext.Fragment{Tokens: tokens[:n-2]}.String(), x.tables)
	if err != nil {
		if kind.Absent(err) {
			return nil, x.Fail("also", err)
		}
		return nil, err
	}
	c := child.Column(x.D, tokens[n-1])
	if c == nil {
		return nil, x.Failf("also", "table %s has no column %q%s", child, tokens[n-1].Name(), change.NearestColumn(child, tokens[n-1].Name()))
	}
	if child.Is(m.Table) {
		return nil, x.Failf("also", "%q: rows of %s would refer to each other, which a merge does not do yet", text, m.Table)
	}
	return &change.Reference{Table: child, Columns: []*change.Column{c}, Parent: m.Table.Key.Columns}, nil
}

// refers takes up a reference, or says why what refers cannot be moved.
func (x *resolver) refers(m *change.Merge, r change.Reference, field string) error {
	t := r.Table
	fail := func(format string, args ...any) error {
		return x.Failf(field, "references of %s cannot be moved to the row that stays: %s", r.Name(), fmt.Sprintf(format, args...))
	}
	switch {
	case t.Refused != "":
		return fail("%s", t.Refused)
	case t.Key == nil || t.Key.Hidden:
		return fail("%s, by which they could be put back", t.Keyless())
	case t.Policies:
		return fail("row policies of %s may hide some", t)
	case len(t.Heirs) > 0:
		return fail("other tables inherit from %s", t)
	}
	for i, c := range r.Columns {
		p := r.Parent[i]
		if c.Generated {
			return fail("column %s is computed by the database", c.Name)
		}
		if c.Class != p.Class || (!r.Declared || x.D.Forms().LooseReference) && c.Class != change.Number && !strings.EqualFold(c.Type, p.Type) {
			return fail("%s.%s and %s.%s are not of the same type", t, c.Name, m.Table, p.Name)
		}
		if !slices.Contains(m.Table.Key.Columns, p) && !slices.Contains(m.Watched, p) {
			m.Watched = append(m.Watched, p)
		}
	}
	for _, fk := range t.ReferredBy {
		if change.Follows(fk.OnUpdate) && slices.ContainsFunc(r.Columns, func(c *change.Column) bool { return slices.Contains(fk.Parent, c.Name) }) {
			return fail("%s refers to the same columns, and follows them", fk.From())
		}
	}
	for _, o := range m.Refers {
		if o.Table.Is(t) && slices.ContainsFunc(r.Columns, func(c *change.Column) bool { return slices.ContainsFunc(o.Columns, named(c)) }) {
			if slices.EqualFunc(o.Columns, r.Columns, sameName) && slices.EqualFunc(o.Parent, r.Parent, sameName) {
				return nil // named although it is declared, or declared twice
			}
			return fail("%s refers by the same columns", o.Name())
		}
	}
	return x.uniques(m, r, fail)
}

// sameName and named tell columns of one table by their names: it may have been looked up twice.
func sameName(a, b *change.Column) bool { return a.Name == b.Name }

func named(c *change.Column) func(*change.Column) bool {
	return func(o *change.Column) bool { return sameName(c, o) }
}

// uniques finds the unique indexes in which a reference could come to stand twice.
func (x *resolver) uniques(m *change.Merge, r change.Reference, fail func(format string, args ...any) error) error {
	sets := [][]string{r.Table.Key.Names()}
	for _, index := range r.Table.Indexes {
		if index.Unique && !index.Partial && !index.Finer && !slices.Contains(index.Columns, "") {
			sets = append(sets, index.Columns)
		}
	}
	for _, names := range sets {
		var cols []*change.Column
		own := false
		for _, name := range names {
			c := r.Table.Named(name)
			cols = append(cols, c)
			own = own || slices.Contains(r.Columns, c)
		}
		if !own || slices.ContainsFunc(r.Uniques, func(u []*change.Column) bool { return slices.Equal(u, cols) }) {
			continue
		}
		for _, o := range m.Refers {
			if o.Table.Is(r.Table) && slices.ContainsFunc(o.Columns, func(c *change.Column) bool { return slices.ContainsFunc(cols, named(c)) }) {
				return fail("the unique index over %s has two references to %s in it, and rows could come to stand twice by both of them", strings.Join(names, ", "), m.Table)
			}
		}
		r.Uniques = append(r.Uniques, cols)
	}
	r.Drop = x.s.Drop
	if r.Drop && len(r.Uniques) > 0 && len(r.Table.ReferredBy) > 0 {
		return fail("rows of %s that stand twice would be deleted (twice = %q), and %s refers to them", r.Table, Drop, r.Table.ReferredBy[0].From())
	}
	m.Refers = append(m.Refers, r)
	return nil
}
