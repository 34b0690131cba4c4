package plan

import (
	"context"
	"fmt"

	"jugatum/internal/change"
)

// CheckMethod refuses a method that there is not; "" leaves it to Choose.
func CheckMethod(method string) error {
	switch method {
	case "", "sweep", "roster", "single":
		return nil
	}
	return fmt.Errorf("--method %s: there is sweep, roster and single", method)
}

// Few enough rows of a table large enough are listed first: looking at the
// whole table in the order in which it is stored takes about half the time of
// walking it by its key.
const (
	rosterFrom  = 100_000 // rows of the table
	rosterShare = 100     // one in so many
)

// MethodOf is the method that a person has chosen for a step: on the command line, or else in the
// job; "" if neither says so.
func (p *Plan) MethodOf(c *change.Change) string {
	if p.Method != "" || c.Of < 0 || c.Of >= len(p.Job.Steps) {
		return p.Method
	}
	return p.Job.Steps[c.Of].Method
}

// Choose settles the method of a step of which so many rows match, -1 if they
// were not counted.
func (p *Plan) Choose(ctx context.Context, c *change.Change, matched int64) (string, error) {
	method := p.MethodOf(c)
	if c.Rewrite != nil && method == "roster" {
		return "", Refusef("step %q: its values are computed here, by sweep or single, not by roster", c.Step)
	}
	switch {
	case c.Merge != nil && method == "sweep":
		return "", Refusef("step %q: the rows that go are listed group by group (roster), or deleted by one statement (single); sweep goes by key", c.Step)
	case c.First != nil && method == "sweep":
		return "", Refusef("step %q: %s are listed first (roster), or changed by one statement (single); sweep goes by key", c.Step, c.First)
	case (c.First != nil || c.Merge != nil) && method == "":
		return "roster", nil
	case method != "":
		return method, nil
	}
	if c.Rewrite != nil {
		return "sweep", nil
	}
	if c.Walked() != c.Table { // whose lines are scanned, and no other row
		return "sweep", nil
	}
	if c.Lookup != nil && c.Lines == nil { // what the planner makes of the source says little of the rows
		c = c.Sought()
	}
	if c.Table.Rows < rosterFrom || c.Where.Empty() && c.From.Empty() {
		return "sweep", nil
	}
	estimate := int64(0)
	if c.Lines != nil {
		estimate = c.Lines.Lines
	} else {
		var err error
		if estimate, err = p.DB.Estimate(ctx, c); err != nil {
			return "", err
		}
	}
	if matched < 0 || !p.DB.Dialect().Forms().ListsPay { // it is worth it only where an index finds the rows
		matched = estimate
	}
	if matched*rosterShare > c.Table.Rows {
		return "sweep", nil
	}
	return "roster", nil
}
