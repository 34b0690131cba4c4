// Package move is the kind of step that puts rows of a table into another one, and, unless
// they are only to be copied, takes them out of the first in the same transaction.
package move

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/kind"
	"jugatum/internal/sqltext"
)

// Keys are the keys of such a step in a job file, besides table, where and once.
type Keys struct {
	MoveTo  *string `toml:"move_to"`
	CopyTo  *string `toml:"copy_to"`
	Present *string `toml:"present"`
}

// Used reports whether any of the keys is there.
func (k Keys) Used() bool { return k.MoveTo != nil || k.CopyTo != nil || k.Present != nil }

// Names lists them.
func (Keys) Names() string { return "move_to, copy_to and present" }

// Present says what becomes of rows whose key is in the other table already.
type Present string

const (
	Fail    Present = "fail"    // the run is refused
	Keep    Present = "keep"    // the row that is there stays; the one that was to be moved is deleted, one to be copied not copied
	Replace Present = "replace" // the row that is there is deleted, and the other takes its place
)

// Step is such a step as its author wrote it.
type Step struct {
	To      string // a table
	Copy    bool   // the rows stay as well
	Present Present
}

// Kind is the kind's name.
func (s *Step) Kind() string {
	if s.Copy {
		return "copy"
	}
	return "move"
}

// key is the key of the job file that names the other table.
func (s *Step) key() string { return s.Kind() + "_to" }

// Read makes the step of its keys.
func (k Keys) Read(func(key string, m any) []string) (kind.Step, string, error) {
	s := &Step{Present: Fail, Copy: k.CopyTo != nil}
	to := k.MoveTo
	switch {
	case to != nil && s.Copy:
		return nil, "copy_to", errors.New("a step has either move_to or copy_to")
	case s.Copy:
		to = k.CopyTo
	case to == nil:
		return nil, "", errors.New("move_to or copy_to is missing: the table that the rows go to")
	}
	if s.To = strings.TrimSpace(*to); s.To == "" {
		return nil, s.key(), fmt.Errorf("%s is empty; it names a table", s.key())
	}
	if k.Present != nil {
		s.Present = Present(*k.Present)
		if !slices.Contains([]Present{Fail, Keep, Replace}, s.Present) {
			return nil, "present", fmt.Errorf("present: %q is not fail, keep or replace", *k.Present)
		}
	}
	return s, "", nil
}

// Each calls do for every piece of SQL of the step.
func (s *Step) Each(do func(sql string) string) kind.Step {
	out := *s
	out.To = do(s.To)
	return &out
}

// Parts makes the changes' specs: one that moves, and before it, where rows may be in
// both tables, one that deletes them in the one or the other.
func (s *Step) Parts(spec change.Spec, at kind.Place) ([]kind.Part, error) {
	p := parts{Checker: kind.Checker{D: at.D, Step: spec.Name}, s: s, spec: spec, tables: at.Tables}
	return p.make()
}

type parts struct {
	kind.Checker
	s      *Step
	spec   change.Spec
	tables change.Catalogue
}

func (p *parts) make() ([]kind.Part, error) {
	from, ref, err := change.Target(p.D, p.spec, p.tables)
	if err != nil {
		return nil, err
	}
	if len(from.Columns) == 0 { // a server that shows nobody more than they may read
		return nil, p.Failf("table", "no column of %s can be seen: this user must have SELECT on it", from)
	}
	if from.Key == nil || from.Key.Hidden {
		return nil, p.Failf("table", "%s has no key, by which its rows could be told in the other table", from)
	}
	if p.spec.Where != "" {
		if err := p.Expression("where", p.spec.Where); err != nil {
			return nil, err
		}
		p.spec.Where = p.Uncommented(p.spec.Where)
	}
	into, err := p.into(from)
	if err != nil {
		return nil, err
	}
	moved := p.spec
	moved.Delete, moved.Into, into.Copied = true, into, p.s.Copy
	if into.Make || p.s.Present == Fail || len(into.Table.Columns) == 0 {
		return []kind.Part{{Spec: moved}}, nil
	}
	first := kind.Part{Name: ": already there", Spec: p.spec}
	first.Spec.Delete = true
	to := into.Table.NameSQL(p.D)
	// One of the two tables has a name of its own within the query, so that columns of
	// the filter are those of the table that it was written for.
	switch p.s.Present {
	case Keep:
		there := "EXISTS (SELECT 1 FROM " + to + " AS jugatum_i WHERE " + p.same(into, from, "jugatum_i", ref) + ")"
		first.Spec.Where, moved.Where, moved.Everywhere = there, "NOT "+there, p.spec.Where == ""
		if p.spec.Where != "" {
			first.Spec.Where = "(" + p.spec.Where + ") AND " + there
			moved.Where = "(" + p.spec.Where + ") AND NOT " + there
		}
	case Replace:
		into.Cleared = true
		first.Spec.Table, first.Spec.Once = to, ""
		first.Spec.Where = "EXISTS (SELECT 1 FROM " + p.spec.Table + " WHERE " + p.same(into, from, p.D.Quote(into.Table.Name), ref)
		if p.spec.Where != "" {
			first.Spec.Where += " AND (" + p.spec.Where + ")"
		}
		first.Spec.Where += ")"
		if strings.EqualFold(into.Table.Name, from.Name) {
			return nil, p.Failf("present", "replace does not go with two tables of one name, %s and %s", from, into.Table)
		}
	}
	if p.s.Copy && p.s.Present == Keep { // nothing becomes of rows that are there already
		return []kind.Part{{Spec: moved}}, nil
	}
	return []kind.Part{first, {Spec: moved}}, nil
}

// same is the condition that rows of both tables have the same key.
func (p *parts) same(into *change.Into, from *change.Table, to, ref string) string {
	var all []string
	for i, c := range from.Key.Columns {
		all = append(all, to+"."+p.D.Quote(into.Key[i].Name)+" "+c.Op("=")+" "+ref+"."+p.D.Quote(c.Name))
	}
	return strings.Join(all, " AND ")
}

// into looks the other table up. A name without a schema is one in the schema of the
// table itself.
func (p *parts) into(from *change.Table) (*change.Into, error) {
	name, err := sqltext.Lex(p.D, p.s.To)
	if err != nil {
		return nil, p.Fail(p.s.key(), err)
	}
	text := p.s.To
	if len(name) == 1 && from.Schema != "" {
		text = p.D.Quote(from.Schema) + "." + text
	}
	to, token, err := change.AnotherTable(p.D, p.spec, p.s.key(), text, p.tables)
	var fault *change.FieldError
	switch {
	case kind.Absent(err):
		made := change.TableName{Schema: from.Schema, Name: p.D.Name(token)}
		if len(name) == 3 {
			made.Schema = p.D.Name(name[0])
		}
		return change.NewInto(from, from.Like(made), true), nil
	case errors.As(err, &fault):
		return nil, err
	case err != nil:
		return nil, p.Fail(p.s.key(), err)
	case to.Schema == from.Schema && to.Name == from.Name:
		return nil, p.Failf(p.s.key(), "%s is the table itself", to)
	}
	into := change.NewInto(from, to, false)
	if len(to.Columns) == 0 { // perhaps this user may see nothing of it (MariaDB), which is told later with what to grant
		return into, nil
	}
	if err := into.Check(from); err != nil {
		return nil, p.Fail(p.s.key(), err)
	}
	return into, nil
}
