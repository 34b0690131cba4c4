package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/sqltext"
)

// namedApart refuses a named value that stands in a sub-query where its name, or that of a column in it, is one of
// a table there as well: written out, it would be taken for that without a word.
func (p *Plan) namedApart(ctx context.Context, s job.Step, c *change.Change) error {
	bound := c.Bound()
	if len(bound) == 0 {
		return nil
	}
	fail := func(let, name, what string) error {
		err := fmt.Errorf("%s is used within a sub-query, where %s is %s as well: give the value another name", let, name, what)
		if !strings.EqualFold(let, name) {
			err = fmt.Errorf("%s is used within a sub-query, where %s, which stands in it, is %s as well: write %s.%s in the value", let, name, what, c.Ref, name)
		}
		return p.Job.At(&change.FieldError{Step: s.Name, Field: "let." + let, Err: err})
	}
	named := func(name string) (let string, ok bool) {
		for let, names := range bound {
			if slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, name) }) {
				return let, true
			}
		}
		return "", false
	}
	hidden := false // the sub-query reads what nobody can ask for its columns
	for _, f := range c.Fragments() {
		for i, t := range f.Tokens {
			if i == 0 {
				continue
			}
			switch before := f.Tokens[i-1]; {
			case before.Is("AS") && (t.Kind == sqltext.Ident || t.Kind == sqltext.QuotedIdent):
				if let, ok := named(t.Name()); ok {
					return fail(let, t.Name(), "what a query calls a column")
				}
			case t.Punct("(") && slices.ContainsFunc([]string{"FROM", "JOIN", "LATERAL", "USING"}, before.Is), before.Is("WITH"), before.Is("VALUES"):
				hidden = true
			}
		}
	}
	for _, ref := range c.TableRefs() {
		q := &change.Query{D: c.D}
		q.Add("SELECT * FROM ")
		if ref.Qualified {
			q.Add(c.D.Quote(c.D.Name(ref.Schema)), ".")
		}
		table := c.D.Name(ref.Table)
		rows, err := p.DB.JobPool().QueryContext(ctx, q.Add(c.D.Quote(table), " WHERE 1 = 0").String())
		if err != nil && p.DB.Fault(err) == engine.Denied {
			for let := range bound {
				return fail(let, let, "perhaps a column of "+table+", of which "+p.DB.User()+" may not read every column,")
			}
		}
		if err != nil { // what a query calls something else, or what the step itself will meet
			hidden = true
			continue
		}
		columns, err := rows.Columns()
		rows.Close()
		if err != nil {
			return err
		}
		for _, name := range columns {
			if let, ok := named(name); ok {
				return fail(let, name, "a column of "+table)
			}
		}
	}
	for let, names := range bound {
		if hidden && len(names) > 1 {
			return fail(let, names[1], "perhaps a column of a query")
		}
	}
	return nil
}
