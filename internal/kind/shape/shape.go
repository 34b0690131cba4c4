// Package shape is the kind of step that brings the texts of columns into a form, computed here
// rather than by the server, so that it is the same on each.
package shape

import (
	"errors"
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/kind"
	"jugatum/internal/shape"
)

// Keys are the keys of such a step in a job file, besides table, where and once.
type Keys struct {
	Shape map[string]any `toml:"shape"`
}

// Used reports whether any of the keys is there.
func (k Keys) Used() bool { return k.Shape != nil }

// Names lists them.
func (Keys) Names() string { return "shape" }

// Step is such a step as its author wrote it.
type Step struct {
	Columns []Column // in the order of the file
}

// Column is one of its columns with what is done to its texts, from left to right.
type Column struct {
	Name  string
	Chain []shape.Spec
}

// Kind is the kind's name.
func (*Step) Kind() string { return "shape" }

// Read makes the step of its keys.
func (k Keys) Read(order func(key string, m any) []string) (kind.Step, string, error) {
	s := &Step{}
	if len(k.Shape) == 0 {
		return nil, "shape", errors.New("shape names no column")
	}
	for _, name := range order("shape", k.Shape) {
		list, ok := k.Shape[name].([]any)
		if !ok {
			list = []any{k.Shape[name]}
		}
		c := Column{Name: name}
		for _, v := range list {
			spec, _, err := shape.Read(v)
			if err != nil {
				return nil, "shape." + name, fmt.Errorf("shape.%s: %w", name, err)
			}
			c.Chain = append(c.Chain, spec)
		}
		if len(c.Chain) == 0 {
			return nil, "shape." + name, fmt.Errorf("shape.%s: there is no transform", name)
		}
		s.Columns = append(s.Columns, c)
	}
	return s, "", nil
}

// Each has no SQL to call do for.
func (s *Step) Each(func(sql string) string) kind.Step { return s }

// Parts makes the change's spec: each column is assigned its own value, which is computed here. Rows in
// which all of them are NULL are not concerned.
func (s *Step) Parts(spec change.Spec, at kind.Place) ([]kind.Part, error) {
	p := kind.Checker{D: at.D, Step: spec.Name}
	t, ref, err := change.Target(at.D, spec, at.Tables)
	if err != nil {
		return nil, err
	}
	if t.Key == nil {
		return nil, p.Failf("table", "%s has no key by which its rows could be changed one by one", t)
	}
	var some []string
	for _, c := range s.Columns {
		field := "shape." + c.Name
		col := change.Loosely(t, c.Name)
		switch {
		case col == nil:
			return nil, p.Failf(field, "table %s has no column %s%s", t, c.Name, change.NearestColumn(t, c.Name))
		case col.Class != change.Text || col.Binary:
			return nil, p.Failf(field, "%s.%s is of type %s; only texts are brought into a form", t, col.Name, col.Type)
		}
		var chain shape.Chain
		for _, x := range c.Chain {
			one, err := x.Make()
			if err != nil {
				return nil, p.Fail(field, err)
			}
			chain = append(chain, one)
		}
		name := at.D.Quote(col.Name)
		spec.Set = append(spec.Set, change.Field{Name: col.Name, Expr: name})
		spec.Shapes = append(spec.Shapes, chain)
		some = append(some, ref+"."+name+" IS NOT NULL")
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
