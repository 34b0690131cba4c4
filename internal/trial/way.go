// Package trial times the ways to carry a change out on a database as it is: each in
// transactions that are rolled back, in turns, so that none is favoured, and estimates from them
// what each would take for the whole table.
package trial

import (
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Way is one way to carry a step out.
type Way struct {
	Method  string // sweep, roster or single; rowwise
	Workers int
	Keep    bool // old and new values are kept

	// Yardstick is a way that is there to be compared with, and not a choice.
	Yardstick bool
}

// Name is what the way is called.
func (w Way) Name() string {
	parts := []string{w.Method}
	if w.Workers > 1 {
		parts = append(parts, fmt.Sprintf("%d workers", w.Workers))
	}
	if !w.Keep {
		parts = append(parts, "nothing kept")
	}
	return strings.Join(parts, ", ")
}

// Options are those of `run` that choose the way.
func (w Way) Options() string {
	text := "--method " + w.Method
	if w.Workers > 1 {
		text += fmt.Sprintf(" --workers %d", w.Workers)
	}
	if !w.Keep {
		text += " --keep none"
	}
	return text
}

// Untriable says why nothing can be tried of a change, "" if it can.
func Untriable(c *change.Change) string {
	switch {
	case c.Call != nil:
		return "a rollback may not take back all that the statement does, so there is nothing to try"
	case c.Table.Key == nil:
		return c.Table.String() + " has no key by which a batch could be told, so it is carried out as one statement"
	case c.Into != nil && c.Lines == nil: // measured: on servers estimates were up to eight times what runs took
		return "rows that are put into another table and rolled back cost a server far more than those that stay, so that a trial would tell nothing"
	case c.Lines != nil || c.First != nil || c.Merge != nil:
		return "there is one way to carry it out"
	}
	return ""
}

// Rowwise is the way of a loop that sends a statement for each row: a yardstick.
const Rowwise = "rowwise"

// Array is the way of a program that works new values out by itself and sends those of many rows at
// once: a yardstick as well.
const Array = "array"

// Ways are the sensible ways to carry a change out: by several workers where alone is "", by a
// list of keys where that is a way of the change.
func Ways(c *change.Change, alone bool, roster bool) (out []Way) {
	for _, keep := range []bool{true, false} {
		out = append(out, Way{Method: "sweep", Workers: 1, Keep: keep})
		if !alone {
			out = append(out, Way{Method: "sweep", Workers: 2, Keep: keep})
			if keep {
				out = append(out, Way{Method: "sweep", Workers: 4, Keep: keep})
			}
		}
		if roster {
			out = append(out, Way{Method: "roster", Workers: 1, Keep: keep})
		}
		out = append(out, Way{Method: "single", Workers: 1, Keep: keep})
	}
	if c.Rewrite == nil && len(c.Acts) == 0 && !c.Stages() {
		out = append(out, Way{Method: Rowwise, Workers: 1, Yardstick: true})
	}
	if engine.Arrayed(c) {
		out = append(out, Way{Method: Array, Workers: 1, Yardstick: true})
	}
	return out
}
