package plan

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/kind"
	"jugatum/internal/kind/merge"
	"jugatum/internal/ledger"
	"jugatum/internal/list"
)

// A list is read into a table of ours before anything is made of it: so the server itself
// reads every value, a run that goes on needs the file no more, and the lines are there for
// whoever wants to know what became of them. What is recorded of it is a parameter of the run.

// HasLists reports whether a job has lists, which are read into the database before anything
// else, also for a preview.
func HasLists(j *job.Job) bool {
	return slices.ContainsFunc(j.Steps, needsTables)
}

// readLists reads the lists of the job's steps. What tells one from another is put into
// values, which the job's digest is made of.
func (p *Plan) readLists(ctx context.Context, told Reading) (err error) {
	defer func() {
		if err != nil {
			p.Close()
		}
	}()
	for i, s := range p.Job.Steps {
		if !needsTables(s) {
			continue
		}
		if p.session == nil {
			if p.session, err = p.listSession(ctx); err != nil {
				return err
			}
			defer func() { p.session.Close(); p.session = nil }()
			if err := ledger.Open(p.DB).Ensure(ctx, p.session); err != nil {
				return fmt.Errorf("step %q: what it is to change cannot be written down in %s, since the ledger's tables cannot be made: %w", s.Name, p.DB.Name(), err)
			}
		}
		if m, ok := s.Kind.(*merge.Step); ok {
			if err := p.groups(ctx, i, s, m, told); err != nil {
				return p.Job.At(err)
			}
			continue
		}
		of := s.Kind.(kind.Listed)
		from, format := of.List()
		x := &loading{p: p, step: i, of: s, kind: of, from: from, format: format, told: told}
		if err := x.load(ctx); err != nil {
			var fault *list.Fault
			if errors.As(err, &fault) { // which has a place of its own
				return &BadList{fault}
			}
			return p.Job.At(err)
		}
	}
	return nil
}

// BadList is a fault in a list. Nothing was changed.
type BadList struct{ Fault *list.Fault }

func (e *BadList) Error() string { return e.Fault.Error() + "; nothing was changed" }
func (e *BadList) Unwrap() error { return e.Fault }

// Close drops what was read of lists, unless a run has recorded it.
func (p *Plan) Close() {
	if p.recordedLists || len(p.made) == 0 {
		return
	}
	ctx, cancel := ending()
	defer cancel()
	s, err := p.listSession(ctx)
	if err != nil { // what stays is in nobody's way
		return
	}
	defer s.Close()
	for _, table := range p.made {
		if tx, err := s.Start(ctx); err == nil {
			if _, err := tx.Exec(ctx, "DROP TABLE "+table); err == nil {
				tx.Commit(ctx)
			}
			tx.Rollback()
		}
	}
	p.made = nil
}

// listSession is one in which tables of lists and of groups are made, filled and dropped.
func (p *Plan) listSession(ctx context.Context) (*engine.Session, error) {
	return p.DB.Session(ctx, engine.SessionOptions{Purpose: "jugatum list", LockTimeout: 5 * time.Second})
}

// ending gives the time for clearing up, also after a signal.
func ending() (context.Context, context.CancelFunc) {
	return context.WithTimeout(context.Background(), 30*time.Second)
}

// loading reads one list.
type loading struct {
	p      *Plan
	step   int
	of     job.Step
	kind   kind.Listed
	from   list.Source
	format list.Format
	told   Reading

	in      *list.Reader
	layout  layout
	list    *change.List
	columns []string
	rising  rising
	atOnce  int           // lines that are written in one transaction where others wait for it
	held    time.Duration // how long the last of these held its locks
}

// layout says which value of a line goes where.
type layout interface {
	Row(file string, line list.Line) ([]any, error)
}

// path is where the list is: beside the job's file, unless it says otherwise.
func (x *loading) path() string {
	if filepath.IsAbs(x.from.File) || x.p.Job.Source.SQL {
		return x.from.File
	}
	return filepath.Join(filepath.Dir(x.p.Job.Source.Name), x.from.File)
}

func (x *loading) load(ctx context.Context) error {
	switch {
	case x.from.SQL != "":
		return x.query(ctx)
	case x.from.File == list.Stdin:
		return x.open(ctx, list.Stdin, "standard input", os.Stdin)
	}
	path := x.path()
	fail := func(err error) error {
		var pe *os.PathError
		if errors.As(err, &pe) {
			err = pe.Err
		}
		return &change.FieldError{Step: x.of.Name, Field: x.kind.Kind(), Err: fmt.Errorf("%s cannot be read: %w", path, err)}
	}
	f, err := os.Open(path)
	if err != nil {
		return fail(err)
	}
	defer f.Close()
	before, err := f.Stat()
	if err != nil {
		return fail(err)
	}
	if before.IsDir() {
		return fail(errors.New("it is a folder"))
	}
	if err := x.open(ctx, path, filepath.Base(path), f); err != nil {
		return err
	}
	after, err := os.Stat(path)
	if err != nil || !os.SameFile(before, after) || after.Size() != before.Size() || !after.ModTime().Equal(before.ModTime()) {
		return &list.Fault{File: path, Msg: "the file was changed while it was read; wait until it is whole"}
	}
	return nil
}

// open reads the list of a file.
func (x *loading) open(ctx context.Context, name, shown string, file io.Reader) (err error) {
	if x.in, err = list.Open(name, file, x.format); err != nil {
		return err
	}
	return x.read(ctx, name, shown)
}

// read reads the lines, whatever they come from; shown is what the list is called in the record.
func (x *loading) read(ctx context.Context, name, shown string) error {
	defer x.in.Close()
	record := &ledger.List{File: shown, Table: ledger.NewListName()}
	if err := x.lay(ctx, record); err != nil {
		return err
	}
	if err := x.create(ctx, x.list); err != nil {
		return err
	}
	for _, c := range x.list.Layout(x.p.DB.Dialect()).Columns {
		x.columns = append(x.columns, c.Name)
	}
	if k := x.list.Table.Key; x.list.Calls == "" && k.Integer {
		x.rising.at = slices.Index(x.columns, k.Columns[0].Name)
	}
	if err := x.lines(ctx); err != nil {
		return err
	}
	if x.list.Lines == 0 && x.from.SQL == "" {
		return &list.Fault{File: name, Msg: "there is no line after the header"}
	}
	if x.list.Calls == "" && !x.rising.always() {
		if err := x.several(ctx, record); err != nil {
			return err
		}
	}
	record.SHA256, record.Bytes = x.in.Sum()
	record.Lines = x.list.Lines
	if err := x.analyze(ctx, x.list); err != nil {
		return err
	}
	x.p.setList(x.step, record, x.list)
	return nil
}

// analyze has the planner know a table of lines.
func (x *loading) analyze(ctx context.Context, l *change.List) error {
	text := x.p.DB.Dialect().Analyze(l.SQL)
	if text == "" {
		return nil
	}
	_, err := x.p.session.Conn.ExecContext(ctx, text) // outside a transaction
	return err
}

func names(columns []*change.Column) (out []string) {
	for _, c := range columns {
		out = append(out, c.Name)
	}
	return out
}

// target looks the table up that a step names.
func (p *Plan) target(ctx context.Context, spec change.Spec) (*change.Table, error) {
	t, _, err := change.Target(p.DB.Dialect(), spec, func(schema, name string) (*change.Table, error) { return p.DB.Table(ctx, schema, name) })
	return t, err
}

// setList takes down a list that is there.
func (p *Plan) setList(step int, record *ledger.List, x *change.List) {
	if p.lists == nil {
		p.lists = map[int]*change.List{}
	}
	x.Lines = record.Lines
	for _, t := range record.Turns {
		x.Lines -= t.Lines
	}
	x.Table.Rows = x.Lines
	p.lists[step] = x
	text, err := json.Marshal(record)
	if err != nil { // texts and numbers
		panic(err)
	}
	p.Values[ledger.ListParam(step)] = change.Value{Type: change.TextValue, Text: string(text)}
}

// restoreLists describes the lists of a run from its record.
func (p *Plan) restoreLists(ctx context.Context) error {
	for i, s := range p.Job.Steps {
		if _, ok := s.Kind.(*merge.Step); ok {
			if err := p.merged(i); err != nil {
				return err
			}
			continue
		}
		if _, ok := s.Kind.(kind.Listed); !ok {
			continue
		}
		record, err := ledger.ListOf(p.Values, i)
		if err != nil {
			return err
		}
		if record == nil {
			return Refusef("step %q has a list of which the run's record says nothing: the ledger was changed by hand", s.Name)
		}
		x, err := p.listOf(ctx, s, record)
		if err != nil {
			return p.Job.At(err)
		}
		p.setList(i, record, x)
	}
	return nil
}

// digestValues are those of the parameters, with what tells a list from another in the
// place of its record.
func (p *Plan) digestValues() map[string]change.Value {
	out := maps.Clone(p.Values)
	for step := range p.lists {
		record, err := ledger.ListOf(p.Values, step)
		switch {
		case err != nil:
		case record.SHA256 == "": // what it says is found in the database, by what the job says
			delete(out, ledger.ListParam(step))
		default:
			out[ledger.ListParam(step)] = change.Value{Type: change.TextValue, Text: record.SHA256}
		}
	}
	return out
}
