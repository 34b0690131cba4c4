package runner

import (
	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// Side is what a change has done to one table: its own, or the one that its rows came into.
type Side struct {
	Change *change.Change // whose Table is that table
	Kept   *change.Kept   // what is kept of the rows there
	Made   bool           // its rows came into the table; their values are the new ones
}

// Removes reports whether its rows went out of the table.
func (x Side) Removes() bool { return !x.Made && x.Change.Verb == sqltext.Delete }

// Sides are those of a change of which values are kept.
func Sides(c *change.Change, kept *change.Kept) (out []Side) {
	if c.Verb != sqltext.Insert { // else a copy, which leaves its rows as they are
		out = append(out, Side{c, kept, false})
	}
	if c.Into != nil {
		there, k, _ := c.Landed(kept, change.AsChanged)
		out = append(out, Side{there, k, true})
	}
	return out
}

// Sides are those of a step, of its acts first, as its batches carry them out, but for what comes after it. A change
// of which nothing is kept has none.
func (w *Work) Sides() (out []Side) {
	for _, a := range w.Acts {
		if !w.Repeats(a.Change) {
			out = append(out, Sides(a.Change, a.Kept)...)
		}
	}
	if w.Kept != nil {
		out = append(out, Sides(w.Change, w.Kept)...)
	}
	for _, a := range w.Acts {
		if w.Repeats(a.Change) {
			out = append(out, Sides(a.Change, a.Kept)...)
		}
	}
	return out
}

// Repeats reports whether a change is that of the rows that stay in a merge, which comes after the
// step's own, and may be of the same row in several batches.
func (w *Work) Repeats(c *change.Change) bool {
	return w.Step.Verb == "merge" && c.Verb == sqltext.Update && c.Table.Schema == w.Step.TableSchema && c.Table.Name == w.Step.TableName
}

// tables are those whose rows a step changes, whatever is kept of them: its own, that into which
// its rows go, those of its acts. What a statement for each line does is not known.
func (w *Work) tables() []*change.Table {
	if w.Change.Call != nil {
		return nil
	}
	out := []*change.Table{w.Change.Target()}
	if w.Change.Into != nil && w.Change.Verb != sqltext.Insert { // else a copy
		out = append(out, w.Change.Table)
	}
	for _, a := range w.Acts {
		out = append(out, a.Change.Table)
	}
	return out
}
