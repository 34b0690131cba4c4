// Package each is the kind of step that carries out one statement for each line of a list, a
// procedure's call above all.
package each

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/kind"
	"jugatum/internal/list"
	"jugatum/internal/sqltext"
)

// Keys are the keys of such a step in a job file.
type Keys struct {
	Each  any               `toml:"each"`
	Call  *string           `toml:"call"`
	Types map[string]string `toml:"types"`

	Written list.Keys `toml:"-"`
}

// Used reports whether any of the keys is there.
func (k Keys) Used() bool { return k.Each != nil || k.Call != nil || k.Types != nil }

// Names lists them.
func (Keys) Names() string { return "each, call and types" }

// Step is such a step as its author wrote it.
type Step struct {
	From   list.Source `json:"-"` // what tells lists apart is what is in them
	Call   string
	Types  map[string]change.ValueType `json:",omitempty"` // of columns of the list
	Format list.Format
}

// Kind is the kind's name.
func (s *Step) Kind() string { return "each" }

// List says where the lines are, and how they are written.
func (s *Step) List() (list.Source, list.Format) { return s.From, s.Format }

// types are those that a column of the list can be declared with.
var types = []change.ValueType{change.TextValue, change.IntegerValue, change.DecimalValue, change.BooleanValue, change.DateValue, change.TimestampValue}

// Read makes the step of its keys.
func (k Keys) Read(order func(key string, m any) []string) (kind.Step, string, error) {
	s := &Step{Types: map[string]change.ValueType{}}
	var err error
	if k.Each == nil {
		return nil, "", errors.New("each is missing: the file with the list")
	}
	if s.From, err = list.ReadSource("each", k.Each); err != nil {
		return nil, "each", err
	}
	if k.Call == nil {
		return nil, "", errors.New("call is missing: the statement for each line")
	}
	if s.Call = *k.Call; strings.TrimSpace(s.Call) == "" {
		return nil, "call", errors.New("call is empty")
	}
	for _, name := range order("types", k.Types) {
		t := change.ValueType(k.Types[name])
		if !slices.Contains(types, t) {
			return nil, "types." + name, fmt.Errorf("types.%s: %q is not a type; use text, integer, decimal, boolean, date or timestamp", name, t)
		}
		s.Types[name] = t
	}
	field := ""
	s.Format, field, err = k.Written.Read()
	return s, field, err
}

// Each calls do for every piece of SQL of the step.
func (s *Step) Each(do func(sql string) string) kind.Step {
	out := *s
	out.Call = do(s.Call)
	return &out
}

// Statement reads the step's statement.
func (s *Step) Statement(d change.Dialect, step string) (*change.Call, error) {
	st, err := sqltext.ParseCall(d, s.Call)
	if err != nil {
		return nil, &change.FieldError{Step: step, Field: "call", Err: err}
	}
	return &change.Call{Statement: st, Types: s.Types}, nil
}

// Parts makes the spec of the one change that calls the statement.
func (s *Step) Parts(spec change.Spec, at kind.Place) ([]kind.Part, error) {
	x := kind.Checker{D: at.D, Step: spec.Name}
	if at.List == nil {
		return nil, x.Failf("each", "the lines of %s are not there any more", s.From.Name())
	}
	call, err := s.Statement(at.D, spec.Name)
	if err != nil {
		return nil, err
	}
	call.Columns = at.List.Extra
	spec.Call, spec.Lines = call, &change.Lines{List: at.List, All: "call"}
	return []kind.Part{{Spec: spec}}, nil
}
