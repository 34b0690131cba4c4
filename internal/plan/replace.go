package plan

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/find"
	"jugatum/internal/job"
	"jugatum/internal/preview"
	"jugatum/internal/rewrite"
)

// replace makes the changes of a step that replaces text: one a table.
func (p *Plan) replace(ctx context.Context, step int, s job.Step) error {
	if p.Tables == nil {
		var err error
		if p.Tables, err = p.DB.Tables(ctx); err != nil {
			return err
		}
	}
	fail := func(field string, err error) error {
		return p.Job.At(&change.FieldError{Step: s.Name, Field: field, Err: err})
	}
	type part struct {
		t     *change.Table
		cols  []*change.Column
		named bool // one of the columns is named exactly, not by a pattern alone
	}
	var parts []part
	used := map[string]bool{}
	for _, t := range p.Tables {
		var cols []*change.Column
		byName := false
		for _, c := range t.Columns {
			named := ""
			for _, pattern := range s.Replace.In {
				if find.Match([]string{pattern}, t, c.Name) && (named == "" || !strings.ContainsAny(pattern, "*?[")) {
					named = pattern
				}
			}
			if named == "" || find.Match(s.Replace.Except, t, c.Name) {
				continue
			}
			used[named] = true
			exactly := !strings.ContainsAny(named, "*?[")
			key := t.Key != nil && slices.Contains(t.Key.Columns, c)
			switch {
			case c.Holds == change.WholeText && !c.Generated && (!key || exactly):
				cols = append(cols, c)
				byName = byName || exactly
			case !exactly: // what a pattern takes in by the way
			case c.Generated:
				return fail("in", fmt.Errorf("%s.%s is computed by the database and cannot be assigned", t, c.Name))
			case c.Holds == change.TextParts:
				return fail("in", fmt.Errorf("%s.%s is of type %s, an array or an enumeration, in which text is found but not replaced; write a step in SQL", t, c.Name, c.Type))
			case c.Holds == change.Bytes:
				return fail("in", fmt.Errorf("%s.%s is of type %s: bytes, in which text is found but not replaced", t, c.Name, c.Type))
			default:
				return fail("in", fmt.Errorf("%s.%s is of type %s and holds no text", t, c.Name, c.Type))
			}
		}
		if len(cols) > 0 {
			parts = append(parts, part{t, cols, byName})
		}
	}
	for _, pattern := range s.Replace.In {
		if !used[pattern] && !matchesAny(p.Tables, pattern) {
			return fail("in", fmt.Errorf("there is no column %q%s", pattern, nearest(p.Tables, pattern)))
		}
	}
	if len(parts) == 0 {
		return fail("in", errors.New("none of these columns holds text that can be replaced"))
	}
	for _, x := range parts {
		name := s.Name
		if len(parts) > 1 {
			name += ": " + x.t.String()
		}
		if why := find.Unchangeable(x.t, s.Replace.Rules); why != "" && !x.named { // what a pattern takes in by the way
			p.LeftOut = append(p.LeftOut, why)
			continue
		}
		if x.t.Refused != "" {
			return fail("in", fmt.Errorf("%s: %s", x.t, x.t.Refused))
		}
		c, err := change.NewReplace(p.DB.Dialect(), name, x.t, x.cols, s.Replace.Rules)
		if err != nil {
			return fail("replace", err)
		}
		c.Of = step
		if c.Rewrite != nil && x.t.Key == nil {
			return fail("in", fmt.Errorf("%s has no key by which its rows could be changed one by one; leave it out, or, for plain text alone, add structured = false", x.t))
		}
		if err := p.readable(ctx, c); err != nil {
			if x.named {
				return err
			}
			p.LeftOut = append(p.LeftOut, err.Error())
			continue
		}
		if err := preview.Check(ctx, p.DB, c); err != nil {
			return fail("in", err)
		}
		p.Changes = append(p.Changes, c)
	}
	return nil
}

func matchesAny(tables []*change.Table, pattern string) bool {
	for _, t := range tables {
		for _, c := range t.Columns {
			if find.Match([]string{pattern}, t, c.Name) {
				return true
			}
		}
	}
	return false
}

// nearest suggests a column for one that is not there.
func nearest(tables []*change.Table, pattern string) string {
	var names []string
	for _, t := range tables {
		for _, c := range t.Columns {
			names = append(names, t.Name+"."+c.Name)
		}
	}
	if near := change.Nearest(pattern, names); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	return "; `jugatum survey` lists the tables"
}

// Replaced lists the texts that the job was to replace, and in which columns.
func (p *Plan) Replaced() (out []find.Replaced) {
	seen := map[string]bool{}
	for _, s := range p.Job.Steps {
		if s.Replace == nil || s.Replace.Rules.Pattern != "" {
			continue
		}
		for _, pair := range s.Replace.Rules.Pairs {
			if seen[pair.Find] {
				continue
			}
			seen[pair.Find] = true
			x := find.Replaced{Text: pair.Find, With: pair.With, Columns: map[string]bool{}}
			for _, c := range p.Changes {
				if replaces(p.Job.Steps[c.Of], pair.Find) { // several steps may replace the same text
					for _, set := range c.Set {
						x.Columns[find.Place(p.DB, c.Table, set.Column.Name)] = true
					}
				}
			}
			out = append(out, x)
		}
	}
	return out
}

// replaces reports whether a step replaces this text.
func replaces(s job.Step, text string) bool {
	return s.Replace != nil && slices.ContainsFunc(s.Replace.Rules.Pairs, func(p rewrite.Pair) bool { return p.Find == text })
}
