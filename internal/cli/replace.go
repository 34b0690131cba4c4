package cli

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
)

// replace makes the changes of a step that replaces text: one a table.
func (p *plan) replace(ctx context.Context, step int) error {
	s := p.job.Steps[step]
	if p.tables == nil {
		var err error
		if p.tables, err = p.db.Tables(ctx); err != nil {
			return err
		}
	}
	fail := func(field string, err error) error {
		return p.job.At(&change.FieldError{Step: s.Name, Field: field, Err: err})
	}
	type part struct {
		t    *change.Table
		cols []*change.Column
	}
	var parts []part
	used := map[string]bool{}
	for _, t := range p.tables {
		var cols []*change.Column
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
			case !exactly: // what a pattern takes in by the way
			case c.Generated:
				return fail("in", fmt.Errorf("%s.%s is computed by the database and cannot be assigned", t, c.Name))
			case c.Holds == change.TextParts:
				return fail("in", fmt.Errorf("%s.%s is of type %s, an array or an enumeration, in which text is found but not replaced; write a step in SQL", t, c.Name, c.Type))
			default:
				return fail("in", fmt.Errorf("%s.%s is of type %s and holds no text", t, c.Name, c.Type))
			}
		}
		if len(cols) > 0 {
			parts = append(parts, part{t, cols})
		}
	}
	for _, pattern := range s.Replace.In {
		if !used[pattern] && !matchesAny(p.tables, pattern) {
			return fail("in", fmt.Errorf("there is no column %q%s", pattern, nearest(p.tables, pattern)))
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
		if x.t.Refused != "" {
			return fail("in", fmt.Errorf("%s: %s", x.t, x.t.Refused))
		}
		c, err := change.NewReplace(p.db.Dialect(), name, x.t, x.cols, s.Replace.Rules)
		if err != nil {
			return fail("replace", err)
		}
		if c.Rewrite != nil && x.t.Key == nil {
			return fail("in", fmt.Errorf("%s has no key by which its rows could be changed one by one; leave it out, or, for plain text alone, add structured = false", x.t))
		}
		if err := preview.Check(ctx, p.db, c); err != nil {
			return fail("in", err)
		}
		p.changes = append(p.changes, c)
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

// stepOf is the step of the job that a change comes from.
func stepOf(j *job.Job, c *change.Change) int { return j.Of(c.Step) }
