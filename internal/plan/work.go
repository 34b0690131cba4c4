package plan

import (
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
)

// Work makes a run's steps ready to be carried out, from the ledger's record.
func (p *Plan) Work(l *ledger.Ledger, r *ledger.Run) ([]*runner.Work, error) {
	var out []*runner.Work
	for _, st := range r.Steps {
		var c *change.Change
		for _, x := range p.Changes {
			if x.Step == st.Name {
				c = x
			}
		}
		if c == nil {
			return nil, Refusef("run %d has a step %q that its job does not have: the ledger was changed by hand", r.ID, st.Name)
		}
		if err := sameKey(c, st, r.ID); err != nil {
			return nil, err
		}
		out = append(out, &runner.Work{Step: st, Change: c, Kept: l.Kept(st, c)})
	}
	return out, nil
}

// sameKey refuses to go by another key than a run went by.
func sameKey(c *change.Change, st *ledger.Step, run int64) error {
	var keys []string
	if c.Table.Key != nil {
		keys = c.Table.Key.Names()
	}
	if slices.Equal(keys, st.KeyColumns) {
		return nil
	}
	now := "none"
	if len(keys) > 0 {
		now = "(" + strings.Join(keys, ", ") + ")"
	}
	return Refusef("step %q: the key of %s was (%s) when run %d began and is %s now; nothing can go on over another key: make the old one again",
		st.Name, c.Table, strings.Join(st.KeyColumns, ", "), run, now)
}
