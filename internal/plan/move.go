package plan

import (
	"context"
	"fmt"

	"jugatum/internal/change"
	"jugatum/internal/job"
	"jugatum/internal/kind"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
)

// into holds a change that moves rows against the table that they go to: every value
// must stay as it is there, and the step's own filter must not look at it.
func (p *Plan) into(ctx context.Context, s job.Step, c *change.Change, look change.Catalogue) error {
	fail := func(field, format string, args ...any) error {
		return p.Job.At(&change.FieldError{Step: s.Name, Field: field, Err: fmt.Errorf(format, args...)})
	}
	field := "move_to"
	if c.Into.Copied {
		field = "copy_to"
	}
	if !c.Into.Make {
		if err := c.Into.Check(c.Table); err != nil {
			return fail(field, "%w", err)
		}
	}
	if len(c.Table.Heirs) > 0 {
		return fail("table", "other tables inherit from %s, and a %s would take their rows as well: name each table in a step of its own", c.Table, c.Does())
	}
	if len(c.Into.Table.Heirs) > 0 {
		return fail(field, "other tables inherit from %s: a key that is unique there may be in one of those as well", c.Into.Table)
	}
	for _, x := range c.Into.Pairs {
		if from := c.Table.Named(x.From); !p.DB.Holds(x.To, from) {
			return fail(field, "%s.%s is %s and %s.%s is %s, which could change a value or not take it: make it the same type", c.Table, from.Name, typed(from), c.Into.Table, x.To.Name, typed(x.To))
		}
	}
	own := s.Spec // the filter as it is written, without what the kind of step adds
	own.Delete, own.Once = true, ""
	filter, err := change.Build(p.DB.Dialect(), own, p.Values, look)
	if err != nil {
		return p.Job.At(err)
	}
	reads, err := p.DB.Reads(ctx, filter)
	if err != nil {
		return err
	}
	if c.Into.Copied && c.Reads.Target { // its own rows stay as they are, unless a later step or somebody else changes them
		c.Reads.Table(c.Table.Name)
		c.Reads.Target = false
	}
	for _, name := range reads.Tables {
		if name == c.Into.Table.Name { // as if it were its own: later batches would see what earlier ones put there
			c.Reads.Target = true
		}
	}
	return nil
}

// intoOf is where the rows of a recorded step went, by its job, of which nothing else
// is read.
func (p *Plan) intoOf(ctx context.Context, st *ledger.Step, from *change.Table) (*change.Into, error) {
	s := p.Job.Steps[p.Job.Of(st.Name)]
	if s.Kind == nil {
		return nil, Refusef("step %q put rows into another table, and its job does not: the ledger was changed by hand", st.Name)
	}
	spec := change.Spec{Name: s.Name, Table: from.NameSQL(p.DB.Dialect())}
	parts, err := s.Kind.Parts(spec, kind.Place{D: p.DB.Dialect(), Tables: func(schema, name string) (*change.Table, error) { return p.DB.Table(ctx, schema, name) }})
	if err != nil {
		return nil, err
	}
	for _, part := range parts {
		if part.Spec.Into != nil {
			return part.Spec.Into, nil
		}
	}
	return nil, Refusef("step %q put rows into another table, and its job does not: the ledger was changed by hand", st.Name)
}

// make has each table that is to be made be made by the first step that moves rows
// there. One that rows have gone to must be there.
func (p *Plan) make(r *ledger.Run, work []*runner.Work) error {
	made := map[change.TableName]bool{}
	for _, w := range work {
		into := w.Change.Into
		if into == nil || !into.Make {
			continue
		}
		if r.UndoOf != 0 || w.Step.Status != "pending" {
			return Refusef("step %q: %s, the table that rows of %s were put into, is not there any more", w.Step.Name, into.Table, w.Change.Table)
		}
		name := change.TableName{Schema: into.Table.Schema, Name: into.Table.Name}
		if !made[name] {
			w.Make = p.DB.NewTable(into.Table)
		}
		made[name] = true
	}
	return nil
}

// typed tells a column's type, with its collation where that says how it is stored.
func typed(c *change.Column) string {
	switch {
	case c.Type == "":
		return "of no type"
	case c.Collation != "":
		return c.Type + " " + c.Collation
	}
	return c.Type
}
