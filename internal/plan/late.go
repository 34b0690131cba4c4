package plan

import (
	"context"
	"fmt"
	"slices"

	"jugatum/internal/change"
	"jugatum/internal/job"
	"jugatum/internal/sqltext"
)

// lastPass is what the names of the changes of a last pass have behind the step's.
const lastPass = ": last pass"

// late makes the changes of a step a second time: they are carried out once all the others of the
// step are, over rows that have come to match since. Each is a step of the run's record, so that
// whatever happens to it happens as to any. What the first pass has changed the last one must leave.
func (p *Plan) late(ctx context.Context, i int, s job.Step, look change.Catalogue) error {
	fail := func(format string, args ...any) error {
		return p.Job.At(&change.FieldError{Step: s.Name, Field: "late", Err: fmt.Errorf(format, args...)})
	}
	for _, c := range p.Changes {
		if c.Of != i {
			continue
		}
		why := c.Recurs()
		switch {
		case c.Verb == sqltext.Insert:
			return fail("rows that are copied match still, and would be copied again")
		case c.Lookup != nil && c.Lookup.Words != nil:
			return fail("with match_as the texts of both sides are read before the run; those that come later are not among them")
		case why != "":
			return fail("the last pass could change rows that are done once more: %s", why)
		}
	}
	from, left := len(p.Changes), len(p.LeftOut)
	s.Name += lastPass
	if err := p.pass(ctx, i, s, look); err != nil {
		return err
	}
	p.LeftOut = p.LeftOut[:left]
	for n, c := range p.Changes[from:] {
		c.Late = true
		if slices.ContainsFunc(p.Changes[:from+n], func(x *change.Change) bool { return x.Step == c.Step }) {
			return fail("another part of a step is called %q; give the step another name", c.Step)
		}
	}
	return nil
}

// Foremost lists the changes without those of last passes: the ones whose rows can be counted and shown
// before a run.
func (p *Plan) Foremost() []*change.Change {
	return slices.DeleteFunc(slices.Clone(p.Changes), func(c *change.Change) bool { return c.Late })
}

// HasLastPass reports whether a change is done once more for rows that have come to match since.
func (p *Plan) HasLastPass(c *change.Change) bool { return !c.Late && p.Job.Steps[c.Of].Late }
