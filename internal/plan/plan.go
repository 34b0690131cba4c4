// Package plan turns a job and a database into steps that are ready to run: it makes
// the changes, asks what stands against them, counts, and records the run.
package plan

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/kind"
	"jugatum/internal/preview"
	"jugatum/internal/sqltext"
)

// Plan is a job made ready for one database.
type Plan struct {
	DB      engine.DB
	Job     *job.Job
	Values  map[string]change.Value // of the parameters, and the run's clock
	Digest  string
	Written string // the digest that earlier versions recorded
	Method  string // sweep, roster, single; "" to be chosen step by step
	Changes []*change.Change
	Tables  []*change.Table // all there are; read where a step needs them
	LeftOut []string        // why tables that a pattern takes in are not changed

	session       *engine.Session      // that reads lists; nil without any
	lists         map[int]*change.List // by the job's step
	made          []string             // tables for them that were made, as SQL text
	recordedLists bool                 // a run goes by them

	Unreadable error // why the job of a run cannot be read any more; its changes are from the record then
}

// Reading is told how many lines of a list have been read so far.
type Reading func(file string, lines int64)

// New makes the plan of a job with its parameters. told, which may be nil, hears of lists that
// are read. Whoever does not record a run of the plan closes it.
func New(ctx context.Context, db engine.DB, j *job.Job, values map[string]change.Value, method string, told Reading) (*Plan, error) {
	if err := CheckMethod(method); err != nil {
		return nil, err
	}
	if err := j.Apart(); err != nil {
		return nil, err
	}
	p := &Plan{DB: db, Job: j, Values: maps.Clone(values), Method: method}
	if p.Values == nil {
		p.Values = map[string]change.Value{}
	}
	if err := p.readLists(ctx, told); err != nil {
		return nil, err
	}
	of := p.digestValues()
	p.Digest, p.Written = j.Digest(db.Dialect(), of), j.WrittenDigest(of)
	p.Values[change.Clock] = change.ClockValue(time.Now())
	err := p.build(ctx)
	for i := range j.Steps {
		if err == nil {
			err = p.stale(ctx, i)
		}
	}
	for _, c := range p.Changes {
		if err == nil {
			err = p.words(ctx, c)
		}
	}
	if err != nil {
		p.Close()
	}
	return p, err
}

// build makes the changes and has the database read each of them.
func (p *Plan) build(ctx context.Context) error {
	tables := map[[2]string]*change.Table{}
	look := func(schema, name string) (*change.Table, error) {
		k := [2]string{schema, name}
		if t, ok := tables[k]; ok {
			return t, nil
		}
		t, err := p.DB.Table(ctx, schema, name)
		if err == nil {
			tables[k] = t
		}
		return t, err
	}
	for _, first := range p.lists {
		for _, x := range append([]*change.List{first}, first.Later...) {
			tables[[2]string{x.Table.Schema, x.Table.Name}] = x.Table
		}
	}
	for i, s := range p.Job.Steps {
		s.Spec.Of, s.Spec.Mark = i, s.Name
		for _, c := range s.Checks {
			if err := sqltext.Query(p.DB.Dialect(), c.SQL); err != nil {
				return p.Job.At(&change.FieldError{Step: s.Name, Field: "check", Err: err})
			}
		}
		if err := p.pass(ctx, i, s, look); err != nil {
			return err
		}
		if s.Late {
			if err := p.late(ctx, i, s, look); err != nil {
				return err
			}
		}
	}
	return nil
}

// pass makes the changes of a step for one pass over its rows. The name of s begins theirs.
func (p *Plan) pass(ctx context.Context, i int, s job.Step, look change.Catalogue) error {
	if s.Replace != nil {
		return p.replace(ctx, i, s)
	}
	parts := []kind.Part{{Spec: s.Spec}}
	if s.Kind != nil {
		var err error
		if parts, err = s.Kind.Parts(s.Spec, kind.Place{D: p.DB.Dialect(), Tables: look, Once: p.stagesSources(), List: p.lists[i]}); err != nil {
			return p.Job.At(err)
		}
	}
	for _, part := range parts {
		part.Spec.Name = s.Name + part.Name
		if part.Spec.Call != nil {
			if err := p.call(ctx, s, part.Spec); err != nil {
				return err
			}
			continue
		}
		if err := p.step(ctx, s, part.Spec, look); err != nil {
			return err
		}
	}
	return nil
}

// stagesSources reports whether the engine would rather have a joined table read once.
func (p *Plan) stagesSources() bool {
	x, ok := p.DB.(engine.SourceStager)
	return ok && x.StagesSources()
}

// step makes the changes of a spec: one, or one for each table that its statement
// reaches.
func (p *Plan) step(ctx context.Context, s job.Step, spec change.Spec, look change.Catalogue) error {
	first, err := p.change(ctx, s, spec, look)
	if err != nil {
		return err
	}
	if first.Into != nil {
		if err := p.into(ctx, s, first, look); err != nil {
			return err
		}
	}
	heirs := first.Table.Heirs
	if first.Only || len(heirs) == 0 {
		p.Changes = append(p.Changes, first)
		return p.follow(ctx, first, look)
	}
	if first.First != nil {
		return p.Job.At(&change.FieldError{Step: s.Name, Field: "first", Err: fmt.Errorf("other tables inherit from %s, and the first rows of all of them together have no common key; name one table, or write UPDATE ONLY", first.Table)})
	}
	// The statement reaches the rows of other tables as well, each with keys and
	// columns of its own: it becomes one change a table.
	parent := first.Table
	for _, t := range append([]change.TableName{{Schema: parent.Schema, Name: parent.Name}}, heirs...) {
		own := spec
		own.Name += ": " + (&change.Table{Schema: t.Schema, Name: t.Name}).String()
		c, err := p.change(ctx, s, own, func(schema, written string) (*change.Table, error) {
			x, err := look(schema, written)
			if err != nil || x != parent {
				return x, err
			}
			return look(t.Schema, t.Name)
		})
		if err != nil {
			return err
		}
		c.Split = true
		p.Changes = append(p.Changes, c)
		if err := p.follow(ctx, c, look); err != nil {
			return err
		}
	}
	return nil
}

// change makes the change of a spec, and has the database read it.
func (p *Plan) change(ctx context.Context, s job.Step, spec change.Spec, look change.Catalogue) (*change.Change, error) {
	c, err := change.Build(p.DB.Dialect(), spec, p.Values, look)
	if err != nil {
		var nf *engine.NotFoundError
		var rf *engine.RefusedError
		if s.SQL != "" && (errors.As(err, &nf) || errors.As(err, &rf)) {
			err = &change.FieldError{Step: s.Name, Field: "sql", Err: err}
		}
		return nil, p.Job.At(err)
	}
	if err := p.readable(ctx, c); err != nil {
		return nil, err
	}
	if err := p.namedApart(ctx, s, c); err != nil {
		return nil, err
	}
	err = p.DB.Accepts(ctx, c)
	if err == nil {
		err = preview.Check(ctx, p.DB, c)
	}
	if err != nil {
		var placed *sqltext.Error
		if f := p.DB.Fault(err); f == engine.Invalid || f == engine.Data || errors.As(err, &placed) {
			return nil, p.Job.At(&change.FieldError{Step: s.Name, Field: fieldOf(s), Err: err})
		}
		if p.DB.Fault(err) == engine.Denied {
			err = Refusef("step %q: %v; %s must have SELECT on every table that the statement reads, and EXECUTE on its functions", c.Step, err, p.DB.User())
		}
		return nil, err
	}
	if c.Reads, err = p.reads(ctx, c, spec, look); c.Lines != nil { // a table of ours, which nobody changes
		c.Reads.Tables = slices.DeleteFunc(c.Reads.Tables, func(name string) bool { return name == c.Lines.Table.Name })
	}
	return c, err
}

// reads tells what a change reads while it is carried out. What is read once, before
// the first batch, is none of that, but for whose rights and policies hold there. A
// condition of the author's that joins it to the rows is asked in each batch.
func (p *Plan) reads(ctx context.Context, c *change.Change, spec change.Spec, look change.Catalogue) (change.Reads, error) {
	all, err := p.DB.Reads(ctx, c)
	all.Before = slices.Clone(all.Tables)
	switch {
	case err != nil:
		return all, err
	case c.Merge != nil: // of the rest, the rows that stay do not go, and nobody changes the list of those that do
		spec.Merge, spec.Where = nil, c.Merge.Filter
	case !c.Stages() || len(c.Lookup.Columns) == 0:
		return all, err
	}
	spec.Joint, spec.Once = nil, ""
	spec.Set = slices.Clone(spec.Set)
	for i := range spec.Set {
		spec.Set[i].Expr = "NULL"
	}
	filter, err := change.Build(p.DB.Dialect(), spec, p.Values, look)
	if err != nil {
		return all, err
	}
	own, err := p.DB.Reads(ctx, filter)
	own.Definer, own.Policies, own.Before = all.Definer, all.Policies, all.Before
	return own, err
}

// fieldOf is where a fault is told of which nobody knows the field.
func fieldOf(s job.Step) string {
	switch {
	case s.SQL != "":
		return "sql"
	case s.Kind != nil && (s.Kind.Kind() == "fill" || s.Kind.Kind() == "changes" || s.Kind.Kind() == "each"):
		return s.Kind.Kind()
	}
	return "table"
}
