package plan

import (
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/hazard"
	"jugatum/internal/ledger"
)

// Undo makes the run that takes another back: its steps in reverse, each with the
// values that its run kept. The plan's changes are put in that order.
func (p *Plan) Undo(orig *ledger.Run, opts ledger.Options) (*ledger.Run, error) {
	opts.Backwards = true
	u := &ledger.Run{Title: orig.Title, Reason: orig.Reason, UndoOf: orig.ID, Source: orig.Source, Params: orig.Params, Digest: orig.Digest, Options: opts}
	p.Changes = slices.DeleteFunc(p.Changes, func(c *change.Change) bool { return c.Call != nil }) // of which nothing is kept
	slices.Reverse(p.Changes)
	for i, ch := range p.Changes {
		st := &ledger.Step{N: i + 1, Name: ch.Step, Verb: ch.Does(), TableSchema: ch.Table.Schema, TableName: ch.Table.Name, SetColumns: ch.SetNames(),
			Method: "undo", Matched: -1, ToChange: -1, Status: "pending"}
		for _, o := range orig.Steps {
			if o.Name != ch.Step {
				continue
			}
			if err := sameKey(o.Name, ch.Table, o.KeyColumns, orig.ID); err != nil {
				return nil, err
			}
			st.Verb = o.Verb // which the job may not tell any more
			st.KeptTable, st.PackedTable, st.ToChange = o.KeptTable, o.PackedTable, o.Totals.Changed
			for _, a := range o.Acts {
				back := *a
				back.ToChange, back.Changed = a.Changed, 0
				st.Acts = append(st.Acts, &back)
			}
		}
		st.KeyColumns = ch.Table.Key.Names()
		u.Steps = append(u.Steps, st)
	}
	return u, nil
}

// Keepable refuses to take back a run of which nothing can be, or only a part that a person has not
// said is enough.
func (p *Plan) Keepable(orig *ledger.Run, despite []string) error {
	called := p.called()
	switch {
	case len(called) == 0:
		return nil
	case len(called) == len(p.Changes):
		return Refusef("run %d called statements, and nothing of what they did is kept: there is nothing to put back", orig.ID)
	case !slices.Contains(despite, hazard.NoUndo):
		return Refusef("step %s of run %d called a statement for each line, and what that did stays; --despite %s takes the other steps back", strings.Join(called, ", "), orig.ID, hazard.NoUndo)
	}
	return nil
}
