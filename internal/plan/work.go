package plan

import (
	"context"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
)

// Work makes a run's steps ready to be carried out, from the ledger's record.
func (p *Plan) Work(ctx context.Context, l *ledger.Ledger, r *ledger.Run) ([]*runner.Work, error) {
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
		if err := sameKey(st.Name, c.Table, st.KeyColumns, r.ID); err != nil {
			return nil, err
		}
		if len(st.Acts) == 0 {
			c.Acts = nil
		}
		w := &runner.Work{Step: st, Change: c, Kept: l.Kept(st, c)}
		if r.UndoOf == 0 { // an undo goes by the mark of the run that it takes back
			w.Mark = mark(l, r, st, c.Table)
		}
		if err := p.acts(ctx, l, r, w); err != nil {
			return nil, err
		}
		out = append(out, w)
	}
	if err := p.make(r, out); err != nil {
		return nil, err
	}
	if r.UndoOf != 0 { // its values are kept
		return out, nil
	}
	return out, p.sources(l, r, out)
}

// sources has the changes that read their source once read it from a table. All that
// one step of the job became read the same one, made before the first of them begins
// and dropped after the last.
func (p *Plan) sources(l *ledger.Ledger, r *ledger.Run, work []*runner.Work) error {
	tables := map[int]string{} // by the job's step
	for i, w := range work {
		c := w.Change
		if !c.Stages() {
			continue
		}
		of := c.Of
		if tables[of] == "" {
			q, err := change.Source(c)
			if err != nil {
				return err
			}
			tables[of] = l.Source(r.ID, w.Step)
			w.Staging = &engine.Staging{Table: tables[of], Query: q, Index: c.Lookup.Index}
		}
		var err error
		if w.Change, err = c.Staged(tables[of]); err != nil {
			return err
		}
		if i+1 == len(work) || work[i+1].Change.Of != of {
			w.Unstage = tables[of]
		}
	}
	return nil
}

// mark is the table that tells whether the rows of a step of a run still have the numbers by
// which it goes; "" where it goes by a key.
func mark(l *ledger.Ledger, r *ledger.Run, st *ledger.Step, t *change.Table) string {
	if t.Key == nil || !t.Key.Hidden || len(st.KeyColumns) == 0 {
		return ""
	}
	return l.Mark(r.ID, st.N)
}

// sameKey refuses to go by another key than a run went by.
func sameKey(step string, t *change.Table, recorded []string, run int64) error {
	var keys []string
	if t.Key != nil {
		keys = t.Key.Names()
	}
	if slices.Equal(keys, recorded) || len(recorded) == 0 && t.Key != nil && t.Key.Hidden {
		return nil
	}
	now := "none"
	if len(keys) > 0 {
		now = "(" + strings.Join(keys, ", ") + ")"
	}
	return Refusef("step %q: the key of %s was (%s) when run %d began and is %s now; nothing can go on over another key: make the old one again",
		step, t, strings.Join(recorded, ", "), run, now)
}
