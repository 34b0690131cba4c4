package plan

import (
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/hazard"
	"jugatum/internal/sqltext"
)

// Postpone lowers what refuses a run by the rows that there are, where a step before the one that
// they stand against may bring it into order: it is asked again when that step begins, and refuses
// it then. despite lists the codes of hazards that a person has overridden.
func (p *Plan) Postpone(c *change.Change, found []hazard.Finding, despite []string) {
	step, table := p.prepares(c)
	if step == "" {
		return
	}
	for i := range found {
		if f := &found[i]; f.Again && refuses(*f, despite) {
			f.Level = hazard.Warning
			f.Text += fmt.Sprintf(" (as things are; step %q, before it, changes %s: it is asked again when the step begins, and refuses it then)", step, table)
		}
	}
}

// prepares names a step before this one, and a table that it changes and that this one reads, changes,
// or is referred to by; "" if there is none.
func (p *Plan) prepares(c *change.Change) (step, table string) {
	mine := map[string]bool{}
	add := func(names ...string) {
		for _, n := range names {
			mine[strings.ToLower(n)] = true
		}
	}
	add(c.Reads.Before...)
	for _, t := range touched(c) {
		add(t.Name)
		for _, r := range t.ReferredBy {
			add(r.Table)
		}
	}
	for _, b := range p.Changes {
		if b.Of >= c.Of {
			continue
		}
		if b.Call != nil {
			return b.Step, "what is not known"
		}
		for _, t := range touched(b) {
			if mine[strings.ToLower(t.Name)] && !(t.Name == c.Table.Name && passesBy(b, c)) {
				return b.Step, t.String()
			}
		}
	}
	return "", ""
}

// passesBy reports whether a change of the same table assigns only columns by which another one does not
// find its rows: then what stands against that stands there afterwards.
func passesBy(b, c *change.Change) bool {
	if b.Verb != sqltext.Update || len(b.Acts) > 0 || len(b.Set) == 0 || b.Triggered() || c.Reads.Target ||
		slices.ContainsFunc(b.Table.Columns, func(x *change.Column) bool { return x.Generated }) {
		return false
	}
	words := map[string]bool{}
	read := func(f sqltext.Fragment) {
		for _, t := range f.Tokens {
			words[strings.ToLower(strings.Trim(t.Text, "\"`[]"))] = true
		}
	}
	for where, f := range c.Fragments() {
		if !strings.HasPrefix(where, "set.") && (c.Lookup == nil || where != "from") { // what is written, and the columns of a source
			read(f)
		}
	}
	var columns []*change.Column
	if l := c.Lookup; l != nil {
		read(l.Where)
		read(l.Match)
	}
	if m := c.Merge; m != nil {
		columns = append(append(columns, m.By...), m.Watched...)
	}
	if c.Table.Key != nil {
		columns = append(columns, c.Table.Key.Columns...)
	}
	for _, x := range columns {
		words[strings.ToLower(x.Name)] = true
	}
	return !slices.ContainsFunc(b.Set, func(s change.Set) bool { return words[strings.ToLower(s.Column.Name)] })
}

// touched lists the tables that a change changes rows of.
func touched(c *change.Change) (out []*change.Table) {
	if c.Lines == nil || c.Table != c.Lines.Table { // the lines of a list are a table of ours
		out = append(out, c.Table)
	}
	if c.Into != nil {
		out = append(out, c.Into.Table)
	}
	for _, a := range c.Acts {
		if !slices.Contains(out, a.Change.Table) {
			out = append(out, a.Change.Table)
		}
	}
	return out
}
