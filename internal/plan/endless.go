package plan

import (
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/rewrite"
)

// Endless says why a job could be carried out again and again without coming to an end: rows that it has
// changed would be changed once more. "" if nothing speaks for that.
func (p *Plan) Endless() string {
	for _, c := range p.Changes {
		again := func(why string) string { return fmt.Sprintf("step %q: %s", c.Step, why) }
		switch {
		case c.Call != nil:
			return again("its statement would be called for every line of the list again")
		case c.Lines != nil:
			return again("a list says which rows are meant, and means the same ones again")
		case c.First != nil:
			return again("each run means the next of the first rows")
		case c.Triggered():
			return again("triggers would fire again for every row that matches")
		case c.Rewrite != nil && slices.ContainsFunc(c.Rewrite.Rules.Pairs, func(x rewrite.Pair) bool { return strings.Contains(x.With, x.Find) }):
			return again("the new text contains the one that it replaces, and would be found again")
		}
		for _, s := range c.Set {
			if c.Rewrite == nil && s.Literal == nil && !s.Implicit && c.Refers(s.Expr, s.Column) {
				return again(s.Column.Name + " is computed from itself, and a row that still matches would be changed each time")
			}
		}
		if len(c.Reads.Volatile) > 0 {
			return again(strings.Join(c.Reads.Volatile, ", ") + " gives another value each time")
		}
	}
	return ""
}
