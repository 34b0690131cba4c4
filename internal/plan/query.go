package plan

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/kind"
	"jugatum/internal/list"
	"jugatum/internal/sqltext"
)

// query asks for the lines of a list. What comes back is written to a file first, since not every
// database can be written to while it is read, and then read as any list is.
func (x *loading) query(ctx context.Context) error {
	d, field := x.p.DB.Dialect(), x.kind.Kind()
	fail := func(err error) error {
		return &change.FieldError{Step: x.of.Name, Field: field, Err: err}
	}
	if err := sqltext.Source(d, x.from.SQL); err != nil {
		return fail(err)
	}
	if x.format.Header != nil || x.format.Separator != 0 || x.format.Encoding != "" || x.format.Null != nil || x.format.Guarded {
		return fail(fmt.Errorf("header, separator, null, encoding and guarded are for files: a query has columns and values of its own"))
	}
	tokens, err := sqltext.Lex(d, x.from.SQL)
	if err != nil {
		return fail(err)
	}
	for len(tokens) > 0 && tokens[len(tokens)-1].Punct(";") {
		tokens = tokens[:len(tokens)-1]
	}
	text := sqltext.Fragment{Tokens: tokens}
	for _, name := range text.Params() {
		if _, ok := x.p.Values[name]; !ok {
			return fail(fmt.Errorf("parameter :%s is not declared; add [param.%s] to the job, or give it with --param %s=…", name, name, name))
		}
	}
	f, err := os.CreateTemp("", "jugatum-*.jsonl")
	if err != nil {
		return fmt.Errorf("a file for what the query gives: %w", err)
	}
	defer os.Remove(f.Name()) // where a file that is open cannot be removed
	defer f.Close()
	os.Remove(f.Name()) // so that nothing of it stays, however we end
	var out *list.Writer
	lines := int64(0)
	var names []string
	err = x.p.DB.Texts(ctx, (&change.Query{D: d}).Fragment(text, x.p.Values), func(columns []string) error {
		names = columns
		out, err = list.NewWriter(queryName, f, columns, "")
		return err
	}, func(values []*string) error {
		if lines++; x.told != nil && lines%stretchLines == 0 {
			x.told(x.from.Name(), lines)
		}
		return out.Write(values)
	})
	if err != nil {
		return x.p.badSQL(x.of.Name, field, err)
	}
	if err := out.Flush(); err != nil {
		return fmt.Errorf("writing what the query gives: %w", err)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if lines == 0 {
		if x.in, err = list.None(queryName, names); err != nil {
			return err
		}
	} else if x.in, err = list.Open(queryName, f, x.format); err != nil {
		return err
	}
	return x.read(ctx, queryName, "a query")
}

// queryName is what places in the lines of a query begin with; its end says how they are read.
const queryName = "query.jsonl"

// stale refuses a list that a query gives where a step before it changes what the query reads: it
// is asked before the run begins, and would tell of rows as they were.
func (p *Plan) stale(ctx context.Context, step int) error {
	of := p.Job.Steps[step]
	listed, ok := of.Kind.(kind.Listed)
	if !ok {
		return nil
	}
	from, _ := listed.List()
	if from.SQL == "" {
		return nil
	}
	refuse := func(format string, args ...any) error {
		why := fmt.Sprintf(format, args...)
		return p.Job.At(&change.FieldError{Step: of.Name, Field: listed.Kind(), Err: fmt.Errorf("the query is asked before the run begins, and %s: carry out the steps before this one as a job of their own first", why)})
	}
	for _, c := range p.Changes {
		if c.Of >= step {
			continue
		}
		if c.Call != nil {
			return refuse("what the statement of step %q changes is not known", c.Step)
		}
		for _, t := range touched(c) {
			if c.Into != nil && c.Into.Make && t == c.Into.Table { // which nothing can read yet
				continue
			}
			why, err := p.readsAgain(ctx, of, from.SQL, t)
			if err != nil {
				return err
			}
			if why != "" {
				return refuse("%s, which step %q changes before", why, c.Step)
			}
		}
	}
	return nil
}

// readsAgain says how a query reads a table, or what a trigger of that writes to; "" if it does not.
// The server is asked about a statement on the table that has the query in its filter.
func (p *Plan) readsAgain(ctx context.Context, of job.Step, query string, t *change.Table) (string, error) {
	d := p.DB.Dialect()
	once := "SELECT * FROM (" + strings.TrimRight(query, "; \t\r\n") + "\n) AS jugatum_q"
	// A union within needs all its columns: of a query that is only asked for rows a server leaves out
	// what none depends on.
	spec := change.Spec{Name: of.Name, Of: of.Spec.Of, Table: t.NameSQL(d), Where: "EXISTS (SELECT * FROM (" + once + " UNION " + once + ") AS jugatum_u)", Delete: true}
	c, err := change.Build(d, spec, p.Values, p.catalogue(ctx))
	if err != nil {
		return "", err
	}
	r, err := p.DB.Reads(ctx, c)
	switch {
	case err != nil && p.DB.Fault(err) == engine.Invalid: // values of which no two can be compared
		return "whether it reads " + t.String() + " cannot be told", nil
	case err != nil:
		return "", err
	case r.Target || len(r.Live) > 0:
		return "reads " + t.String(), nil
	case len(r.Opaque) > 0:
		return "what " + strings.Join(r.Opaque, ", ") + " reads cannot be seen: perhaps " + t.String(), nil
	}
	for _, trigger := range t.Triggers {
		for _, name := range r.Tables {
			if trigger.Writes(d, name) {
				return "reads " + name + ", to which trigger " + trigger.Name + " of " + t.String() + " writes", nil
			}
		}
	}
	return "", nil
}
