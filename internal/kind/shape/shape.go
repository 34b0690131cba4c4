// Package shape is the kind of step that brings the texts of columns into a form, computed here
// rather than by the server, so that it is the same on each.
package shape

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/kind"
	"jugatum/internal/list"
	"jugatum/internal/shape"
)

// Keys are the keys of such a step in a job file, besides table, where and once.
type Keys struct {
	Shape map[string]any `toml:"shape"`
	Let   map[string]any `toml:"-"` // those of the step's named values that are made by transforms
}

// Used reports whether any of the keys is there.
func (k Keys) Used() bool { return k.Shape != nil }

// Names lists them.
func (Keys) Names() string { return "shape" }

// Step is such a step as its author wrote it.
type Step struct {
	Columns []Column // in the order of the file
	Named   []Column `json:",omitempty"` // values that they may be made of, spelled out in them
}

// Column is one of its columns with what is done to its texts, from left to right.
type Column struct {
	Name  string
	Of    string `json:",omitempty"` // the column whose texts they are; "" for its own
	Chain []shape.Spec
}

// Kind is the kind's name.
func (*Step) Kind() string { return "shape" }

// Read makes the step of its keys.
func (k Keys) Read(order func(key string, m any) []string) (kind.Step, string, error) {
	if len(k.Shape) == 0 {
		return nil, "shape", errors.New("shape names no column")
	}
	columns, field, err := Read(k.Shape, order)
	if err != nil {
		return nil, field, err
	}
	named, field, err := read("let", k.Let, order)
	if err != nil {
		return nil, field, err
	}
	for i := range named {
		if err := named[i].spelled(named, []string{named[i].Name}); err != nil {
			return nil, "let." + named[i].Name, fmt.Errorf("let.%s: %w", named[i].Name, err)
		}
	}
	for i := range columns { // of values that are spelled out by now
		if err := columns[i].spelled(named, nil); err != nil {
			return nil, "shape." + columns[i].Name, fmt.Errorf("shape.%s: %w", columns[i].Name, err)
		}
	}
	return &Step{columns, named}, "", nil
}

// spelled puts what a named value is made by in the place of its name. within are the names that are
// being spelled out.
func (c *Column) spelled(named []Column, within []string) error {
	i := slices.IndexFunc(named, func(n Column) bool { return strings.EqualFold(n.Name, c.Of) })
	if i < 0 {
		return nil
	}
	n := named[i]
	if slices.Contains(within, n.Name) {
		return fmt.Errorf("let.%s is made of itself: have it begin with a column of the table, and be called otherwise", n.Name)
	}
	if err := n.spelled(named, append(within, n.Name)); err != nil {
		return err
	}
	c.Of, c.Chain = n.Of, slices.Concat(n.Chain, c.Chain)
	return nil
}

// Read reads what is done to the texts of each column; an error has its place, a field.
func Read(keys map[string]any, order func(key string, m any) []string) ([]Column, string, error) {
	return read("shape", keys, order)
}

// read reads it of a table of the file. Named values must say what they are made of.
func read(key string, keys map[string]any, order func(key string, m any) []string) (out []Column, field string, err error) {
	for _, name := range order(key, keys) {
		fail := func(err error) ([]Column, string, error) {
			return nil, key + "." + name, fmt.Errorf("%s.%s: %w", key, name, err)
		}
		list, ok := keys[name].([]any)
		if !ok {
			list = []any{keys[name]}
		}
		c := Column{Name: name}
		for n, v := range list {
			if m, ok := v.(map[string]any); ok && m["of"] != nil {
				of, text := m["of"].(string)
				if !text || of == "" || len(m) > 1 || n > 0 {
					return fail(errors.New("{ of = \"another column\" } stands first, and by itself"))
				}
				c.Of, list = of, list[1:]
			}
		}
		if key == "let" && c.Of == "" {
			return fail(errors.New("a list of transforms begins with { of = \"a column\" } here"))
		}
		if c.Of == "" || len(list) > 0 {
			if c.Chain, err = shape.Specs(list); err != nil {
				return fail(err)
			}
		}
		out = append(out, c)
	}
	return out, "", nil
}

// Each has no SQL to call do for.
func (s *Step) Each(func(sql string) string) kind.Step { return s }

// Parts makes the change's spec: each column is assigned a value that is computed here, of its own text
// or of another column's. Rows in which all of these are NULL are not concerned, unless something
// stands for NULL.
func (s *Step) Parts(spec change.Spec, at kind.Place) ([]kind.Part, error) {
	p := kind.Checker{D: at.D, Step: spec.Name}
	t, ref, err := change.Target(at.D, spec, at.Tables)
	if err != nil {
		return nil, err
	}
	if t.Key == nil {
		return nil, p.Failf("table", "%s has no key by which its rows could be changed one by one", t)
	}
	for _, n := range s.Named {
		field := "let." + n.Name
		if change.Loosely(t, n.Name) != nil {
			return nil, p.Failf(field, "table %s has a column %s: give the value another name", t, n.Name)
		}
		if _, err := shape.Made(n.Chain); err != nil && len(n.Chain) > 0 {
			return nil, p.Fail(field, err)
		}
	}
	var some []string
	others := false
	for _, c := range s.Columns {
		field := "shape." + c.Name
		col := change.Loosely(t, c.Name)
		switch {
		case col == nil:
			return nil, p.Failf(field, "table %s has no column %s%s", t, c.Name, change.NearestColumn(t, c.Name))
		case col.Generated:
			return nil, p.Failf(field, "column %s.%s is computed by the database and cannot be assigned", t, col.Name)
		}
		from, named := col, slices.ContainsFunc(spec.Let, func(l change.Field) bool { return strings.EqualFold(l.Name, c.Of) })
		switch {
		case named:
			from = nil
		case c.Of != "":
			if from = change.Loosely(t, c.Of); from == nil {
				return nil, p.Failf(field, "table %s has no column %s%s, and let no value of that name", t, c.Of, change.NearestColumn(t, c.Of))
			}
		}
		if !named && (from.Class != change.Text || from.Binary) {
			return nil, p.Failf(field, "%s.%s is of type %s; only texts are brought into a form (let can name one: let = { x = \"CAST(%[2]s AS text)\" }, { of = \"x\" })", t, from.Name, from.Type)
		}
		chain, err := shape.Made(c.Chain)
		if err != nil {
			return nil, p.Fail(field, err)
		}
		if from != col {
			fits, err := Fitting(at.D, col, c.Chain)
			if err != nil {
				return nil, p.Fail(field, err)
			}
			chain, others = append(chain, fits), true
		}
		if col.NotNull && chain.MakesNull() {
			return nil, p.Failf(field, "%s.%s is NOT NULL, and a text may come out as NULL", t, col.Name)
		}
		own, of := at.D.Quote(col.Name), ""
		text := c.Of // the SQL of what the value is made of
		switch {
		case named:
			// The server reads what the value reads, though it is computed here.
			own, of = "CASE WHEN "+c.Of+" IS NULL THEN "+own+" ELSE "+own+" END", c.Of
		default:
			text = ref + "." + at.D.Quote(from.Name)
			if from != col {
				of = from.Name
			}
		}
		spec.Set = append(spec.Set, change.Field{Name: col.Name, Expr: own})
		spec.Shapes, spec.ShapedFrom = append(spec.Shapes, chain), append(spec.ShapedFrom, of)
		some = append(some, text+" IS NOT NULL")
		if chain.TakesNull() {
			some = append(some, text+" IS NULL")
		}
	}
	if !others {
		spec.ShapedFrom = nil
	}
	filter := strings.Join(some, " OR ")
	if spec.Where != "" {
		if err := p.Expression("where", spec.Where); err != nil {
			return nil, err
		}
		filter = "(" + p.Uncommented(spec.Where) + ") AND (" + filter + ")"
	}
	spec.Where = filter
	return []kind.Part{{Spec: spec}}, nil
}

// Fitting is the last transform of a value that comes from another column: that it goes into the column
// as it is. What is no text must be made a number or a date before.
func Fitting(d change.Dialect, col *change.Column, chain []shape.Spec) (shape.Transform, error) {
	last := ""
	if len(chain) > 0 {
		last = chain[len(chain)-1].Word
	}
	typ := kind.Typed(d, col)
	switch {
	case col.Class == change.Text && !col.Binary:
	case typ.Kind == list.Number && last == "number", typ.Kind == list.Date && last == "date", typ.Kind == list.Timestamp && last == "date":
	default:
		return shape.Transform{}, fmt.Errorf("%s is of type %s; a text goes there as a number or a date: end with { number = \".\" } or { date = \"02.01.2006\" }", col.Name, col.Type)
	}
	return shape.Fitting(func(text string) error {
		_, err := list.Format{}.Value(typ, text)
		return err
	}), nil
}
