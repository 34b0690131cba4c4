package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/preview"
	"jugatum/internal/runner"
	"jugatum/internal/sqltext"
	"jugatum/internal/term"
)

// jobFlags are those that say what is to be done.
func jobFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "sql", Usage: "the job: one UPDATE or DELETE", TakesFile: false},
		&cli.StringSliceFlag{Name: "param", Usage: "a parameter, NAME=VALUE; beside --sql also NAME:TYPE=VALUE"},
		&cli.StringFlag{Name: "method", Usage: "sweep (the table in key order, in batches), roster (the keys listed first, then that list in batches) or single (one statement); left out, the cheaper of the first two"},
	}
}

// plan is a job made ready for one database.
type plan struct {
	db      engine.DB
	job     *job.Job
	values  map[string]change.Value
	digest  string
	written string // the digest that earlier versions recorded
	method  string
	changes []*change.Change
	tables  []*change.Table // all there are; read where a step needs them
	leftOut []string        // why tables that a pattern takes in are not changed

	unreadable error // why the job of a run cannot be read any more; its changes are from the record then
}

// load reads the job that a command's arguments name.
func (a *app) load(c *cli.Command) (*job.Job, error) {
	sql := c.String("sql")
	switch {
	case sql != "" && c.Args().Present():
		return nil, usagef("a job file and --sql cannot both be given")
	case sql != "":
		return job.FromSQL(sql), nil
	}
	path, err := oneArg(c, "a job file (or --sql with one statement)")
	if err != nil {
		return nil, err
	}
	text, err := readJob(path)
	if err != nil {
		return nil, usagef("the job file %s cannot be read: %v", path, err)
	}
	return job.Parse(path, text)
}

// plan reads the job and its parameters and turns its steps into changes.
func (a *app) plan(ctx context.Context, c *cli.Command, db engine.DB) (*plan, error) {
	j, err := a.load(c)
	if err != nil {
		return nil, err
	}
	given, err := params(c.StringSlice("param"))
	if err != nil {
		return nil, err
	}
	values, missing, err := j.Values(given)
	if err != nil {
		return nil, usagef("%v", err)
	}
	for _, p := range missing {
		if !a.keyboard.TTY {
			return nil, usagef("parameter %s is missing; give --param %s=… (%s)", p.Name, p.Name, p.Type)
		}
		for {
			question := p.Ask
			if question == "" {
				question = p.Name
			}
			text, err := a.keyboard.Ask(a.err, question+" ("+string(p.Type)+"):")
			if err != nil {
				return nil, usagef("parameter %s is missing", p.Name)
			}
			if values[p.Name], err = job.ParseValue(p.Type, text); err == nil {
				break
			}
			a.err.Printf("%v\n", err)
		}
	}
	p := &plan{db: db, job: j, values: values, digest: j.Digest(db.Dialect(), values), written: j.WrittenDigest(values), method: c.String("method")}
	values[change.Clock] = change.ClockValue(time.Now())
	switch p.method {
	case "", "sweep", "single", "roster":
	default:
		return nil, usagef("--method %s: there is sweep, roster and single", p.method)
	}
	return p, p.build(ctx)
}

func params(list []string) (map[string]string, error) {
	out := map[string]string{}
	for _, s := range list {
		name, value, ok := strings.Cut(s, "=")
		if !ok || name == "" {
			return nil, usagef("--param %s: write NAME=VALUE", s)
		}
		if _, twice := out[name]; twice {
			return nil, usagef("--param %s is given twice", name)
		}
		out[name] = value
	}
	return out, nil
}

// build makes the changes and has the database read each of them.
func (p *plan) build(ctx context.Context) error {
	tables := map[[2]string]*change.Table{}
	look := func(schema, name string) (*change.Table, error) {
		k := [2]string{schema, name}
		if t, ok := tables[k]; ok {
			return t, nil
		}
		t, err := p.db.Table(ctx, schema, name)
		if err == nil {
			tables[k] = t
		}
		return t, err
	}
	for i, s := range p.job.Steps {
		for _, c := range s.Checks {
			if err := sqltext.Query(p.db.Dialect(), c.SQL); err != nil {
				return p.job.At(&change.FieldError{Step: s.Name, Field: "check", Err: err})
			}
		}
		if s.Replace != nil {
			if err := p.replace(ctx, i); err != nil {
				return err
			}
			continue
		}
		first, err := p.change(ctx, s, s.Name, look)
		if err != nil {
			return err
		}
		heirs := first.Table.Heirs
		if first.Only || len(heirs) == 0 {
			p.changes = append(p.changes, first)
			continue
		}
		if first.First != nil {
			return p.job.At(&change.FieldError{Step: s.Name, Field: "first", Err: fmt.Errorf("other tables inherit from %s, and the first rows of all of them together have no common key; name one table, or write UPDATE ONLY", first.Table)})
		}
		// The statement reaches the rows of other tables as well, each with keys and
		// columns of its own: it becomes one change a table.
		parent := first.Table
		for _, t := range append([]change.TableName{{Schema: parent.Schema, Name: parent.Name}}, heirs...) {
			name := s.Name + ": " + (&change.Table{Schema: t.Schema, Name: t.Name}).String()
			c, err := p.change(ctx, s, name, func(schema, written string) (*change.Table, error) {
				x, err := look(schema, written)
				if err != nil || x != parent {
					return x, err
				}
				return look(t.Schema, t.Name)
			})
			if err != nil {
				return err
			}
			c.Split = true
			p.changes = append(p.changes, c)
		}
	}
	return nil
}

// change makes the change of a step, to be called name, and has the database read it.
func (p *plan) change(ctx context.Context, s job.Step, name string, look change.Catalogue) (*change.Change, error) {
	spec := s.Spec
	spec.Name = name
	c, err := change.Build(p.db.Dialect(), spec, p.values, look)
	if err != nil {
		var nf *engine.NotFoundError
		var rf *engine.RefusedError
		if s.SQL != "" && (errors.As(err, &nf) || errors.As(err, &rf)) {
			err = &change.FieldError{Step: s.Name, Field: "sql", Err: err}
		}
		return nil, p.job.At(err)
	}
	if err := p.readable(ctx, c); err != nil {
		return nil, err
	}
	err = p.db.Accepts(ctx, c)
	if err == nil {
		err = preview.Check(ctx, p.db, c)
	}
	if err != nil {
		var placed *sqltext.Error
		if f := p.db.Fault(err); f == engine.Invalid || f == engine.Data || errors.As(err, &placed) {
			return nil, p.job.At(&change.FieldError{Step: s.Name, Field: fieldOf(s), Err: err})
		}
		if p.db.Fault(err) == engine.Denied {
			err = refusef("step %q: %v; %s must have SELECT on every table that the statement reads, and EXECUTE on its functions", c.Step, err, p.db.User())
		}
		return nil, err
	}
	if c.Reads, err = p.db.Reads(ctx, c); err != nil {
		return nil, err
	}
	return c, nil
}

func fieldOf(s job.Step) string {
	if s.SQL != "" {
		return "sql"
	}
	return "table"
}

// work makes a run's steps ready to be carried out, from the ledger's record.
func (p *plan) work(l *ledger.Ledger, r *ledger.Run) ([]*runner.Work, error) {
	var out []*runner.Work
	for _, st := range r.Steps {
		var c *change.Change
		for _, x := range p.changes {
			if x.Step == st.Name {
				c = x
			}
		}
		if c == nil {
			return nil, refusef("run %d has a step %q that its job does not have: the ledger was changed by hand", r.ID, st.Name)
		}
		if err := sameKey(c, st, r.ID); err != nil {
			return nil, err
		}
		out = append(out, &runner.Work{Step: st, Change: c, Kept: l.Kept(st, c)})
	}
	return out, nil
}

// sameKey refuses to go by another key than a run went by.
func sameKey(c *change.Change, st *ledger.Step, run int64) error {
	var keys []string
	if c.Table.Key != nil {
		keys = c.Table.Key.Names()
	}
	if slices.Equal(keys, st.KeyColumns) {
		return nil
	}
	now := "none"
	if len(keys) > 0 {
		now = "(" + strings.Join(keys, ", ") + ")"
	}
	return refusef("step %q: the key of %s was (%s) when run %d began and is %s now; nothing can go on over another key: make the old one again",
		st.Name, c.Table, strings.Join(st.KeyColumns, ", "), run, now)
}

// Few enough rows of a table large enough are listed first: looking at the
// whole table in the order in which it is stored takes about half the time of
// walking it by its key.
const (
	rosterFrom  = 100_000 // rows of the table
	rosterShare = 100     // one in so many
)

// choose settles the method of a step of which so many rows match, -1 if they
// were not counted.
func (p *plan) choose(ctx context.Context, c *change.Change, matched int64) (string, error) {
	if c.Rewrite != nil && p.method == "roster" {
		return "", refusef("step %q: text is replaced by sweep or single, not by roster", c.Step)
	}
	switch {
	case c.First != nil && p.method == "sweep":
		return "", refusef("step %q: %s are listed first (roster), or changed by one statement (single); sweep goes by key", c.Step, c.First)
	case c.First != nil && p.method == "":
		return "roster", nil
	case p.method != "":
		return p.method, nil
	}
	if c.Rewrite != nil {
		return "sweep", nil
	}
	e, ok := p.db.(engine.Estimator)
	if !ok || c.Table.Rows < rosterFrom || c.Where.Empty() && c.From.Empty() {
		return "sweep", nil
	}
	estimate, err := e.Estimate(ctx, c)
	if err != nil {
		return "", err
	}
	if matched < 0 || p.db.Dialect() != sqltext.PostgreSQL { // elsewhere a list is worth it only where an index finds the rows
		matched = estimate
	}
	if matched*rosterShare > c.Table.Rows {
		return "sweep", nil
	}
	return "roster", nil
}

// restoreLoosely makes the plan of a run that is to be taken back or held against
// the database; where its job cannot be read any more, from the record of its steps.
func restoreLoosely(ctx context.Context, db engine.DB, r *ledger.Run) (*plan, error) {
	p, err := restore(ctx, db, r)
	if err == nil || p == nil {
		return p, err
	}
	p.unreadable = err
	if lerr := p.fromRecord(ctx, r); lerr != nil {
		return nil, lerr
	}
	return p, nil
}

// restore makes the plan of a run that is in the ledger.
func restore(ctx context.Context, db engine.DB, r *ledger.Run) (*plan, error) {
	j, err := job.Restore(r.Source)
	if err != nil {
		return nil, err
	}
	p := &plan{db: db, job: j, values: r.Params, digest: r.Digest}
	return p, p.build(ctx)
}

// json writes one document.
func (a *app) json(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	if err := e.Encode(v); err != nil {
		return err
	}
	text := b.Bytes()
	if a.out.TTY {
		text = term.CleanJSON(text)
	}
	_, err := a.out.Write(text)
	return err
}

// sortedKeys lists a map's keys in order.
func sortedKeys[V any](m map[string]V) []string {
	out := make([]string, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	sort.Strings(out)
	return out
}

// planFile plans a job file that has no parameters.
func planFile(ctx context.Context, db engine.DB, path string) (*plan, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	j, err := job.Parse(path, text)
	if err != nil {
		return nil, err
	}
	p := &plan{db: db, job: j, values: map[string]change.Value{change.Clock: change.ClockValue(time.Now())}}
	return p, p.build(ctx)
}
