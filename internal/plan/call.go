package plan

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/kind"
	"jugatum/internal/kind/each"
	"jugatum/internal/ledger"
)

// describe reads the statement of a step that is called for each line, and has the server say what
// it takes its parameters for. columns are those of the list.
func (p *Plan) describe(ctx context.Context, step string, s *each.Step, columns []string) (*change.Call, map[string]*change.Column, error) {
	c, err := s.Statement(p.DB.Dialect(), step)
	if err != nil {
		return nil, nil, err
	}
	for _, name := range columns {
		if slices.Contains(c.Statement.Params(), name) {
			c.Columns = append(c.Columns, name)
		}
	}
	for _, name := range c.Statement.Params() { // told where columns and parameters are held against each other
		if _, ok := p.Values[name]; !ok && !slices.Contains(c.Columns, name) {
			return c, nil, nil
		}
	}
	told, err := p.DB.Describe(ctx, c, p.Values)
	return c, told, p.badSQL(step, "call", err)
}

// badSQL says of what the server does not take that it is the fault of a field of the step.
func (p *Plan) badSQL(step, field string, err error) error {
	if err == nil {
		return nil
	}
	var rf *engine.RefusedError
	switch f := p.DB.Fault(err); {
	case f == engine.Denied:
		return Refusef("step %q: %v; %s needs what that takes: EXECUTE on what is called, SELECT on what is read", step, err, p.DB.User())
	case f == engine.Invalid || f == engine.Data || errors.As(err, &rf):
		return &change.FieldError{Step: step, Field: field, Err: err}
	}
	return err
}

// call makes the change of a step that calls a statement for each line.
func (p *Plan) call(ctx context.Context, s job.Step, spec change.Spec) error {
	c, err := change.Build(p.DB.Dialect(), spec, p.Values, nil)
	if err != nil {
		return p.Job.At(err)
	}
	if _, err := p.DB.Describe(ctx, c.Call, p.Values); err != nil && !p.recordedLists { // of a run that was made it matters once it goes on
		return p.Job.At(p.badSQL(s.Name, "call", err))
	}
	p.Changes = append(p.Changes, c)
	return nil
}

// called names the steps of a run that called statements: nothing of what these did is kept.
func (p *Plan) called() (names []string) {
	for _, c := range p.Changes {
		if c.Call != nil {
			names = append(names, fmt.Sprintf("%q", c.Step))
		}
	}
	return names
}

// recordedCall makes the change of a step that called a statement from the record alone.
func (p *Plan) recordedCall(ctx context.Context, st *ledger.Step, r *ledger.Run) (*change.Change, error) {
	i := p.Job.Of(st.Name)
	if i < 0 {
		return nil, Refusef("run %d has a step %q that its job does not have: the ledger was changed by hand", r.ID, st.Name)
	}
	record, err := ledger.ListOf(r.Params, i)
	if err != nil || record == nil {
		return nil, errors.Join(err, Refusef("step %q: the run's record says nothing of its list", st.Name))
	}
	s := p.Job.Steps[i]
	x, err := p.listOf(ctx, s, record)
	if err != nil {
		return nil, err
	}
	x.Lines = record.Lines
	parts, err := s.Kind.Parts(s.Spec, kind.Place{D: p.DB.Dialect(), List: x})
	if err != nil {
		return nil, err
	}
	parts[0].Spec.Of = i
	return change.Build(p.DB.Dialect(), parts[0].Spec, r.Params, nil)
}
