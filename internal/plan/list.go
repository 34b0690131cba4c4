package plan

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/kind"
	"jugatum/internal/ledger"
	"jugatum/internal/list"
)

// A list is read into a table of ours before anything is made of it: so the server itself
// reads every value, a run that goes on needs the file no more, and the lines are there for
// whoever wants to know what became of them. What is recorded of it is a parameter of the run.

// HasLists reports whether a job has lists, which are read into the database before anything
// else, also for a preview.
func HasLists(j *job.Job) bool {
	return slices.ContainsFunc(j.Steps, func(s job.Step) bool { _, ok := s.Kind.(kind.Listed); return ok })
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
		of, ok := s.Kind.(kind.Listed)
		if !ok {
			continue
		}
		from, format := of.List()
		if p.session == nil {
			if p.session, err = p.DB.Session(ctx, engine.SessionOptions{Purpose: "jugatum list", LockTimeout: 5 * time.Second}); err != nil {
				return err
			}
			defer func() { p.session.Close(); p.session = nil }()
			if err := ledger.Open(p.DB).Ensure(ctx, p.session); err != nil {
				return fmt.Errorf("the lines of %s cannot be read into %s, since the ledger's tables cannot be made: %w", from.Name(), p.DB.Name(), err)
			}
		}
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
	ctx, cancel := context.WithTimeout(context.Background(), 30*time.Second)
	defer cancel()
	s, err := p.DB.Session(ctx, engine.SessionOptions{Purpose: "jugatum list", LockTimeout: 5 * time.Second})
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
	token := make([]byte, 8)
	rand.Read(token)
	record := &ledger.List{File: shown, Table: "list_" + hex.EncodeToString(token)}
	if err := x.lay(ctx, record); err != nil {
		return err
	}
	if err := x.create(ctx); err != nil {
		return err
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
		if err := x.once(ctx); err != nil {
			return err
		}
	}
	record.SHA256, record.Bytes = x.in.Sum()
	record.Lines = x.list.Lines
	if text := x.p.DB.Dialect().Analyze(x.list.SQL); text != "" { // outside a transaction
		if _, err := x.p.session.Conn.ExecContext(ctx, text); err != nil {
			return err
		}
	}
	x.p.setList(x.step, record, x.list)
	return nil
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
	x.Lines, x.Table.Rows = record.Lines, record.Lines
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
		if err == nil {
			out[ledger.ListParam(step)] = change.Value{Type: change.TextValue, Text: record.SHA256}
		}
	}
	return out
}

// create makes the table for the lines.
func (x *loading) create(ctx context.Context) error {
	d := x.p.DB.Dialect()
	layout := x.list.Layout(d)
	for _, c := range layout.Columns {
		x.columns = append(x.columns, c.Name)
	}
	texts := x.p.DB.NewTable(layout)
	if x.list.Calls != "" {
		texts = append(texts, x.p.DB.NewTable(change.CallsTable(d, tableName(d, x.list.Calls)))...)
	}
	tx, err := x.p.session.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, text := range texts {
		if _, err := tx.Exec(ctx, text); err != nil {
			return fmt.Errorf("making a table for the lines of %s: %w", x.list.File, err)
		}
	}
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	x.p.made = append(x.p.made, x.list.SQL)
	if x.list.Calls != "" {
		x.p.made = append(x.p.made, x.list.Calls)
	}
	return nil
}

// Lines that are read before they are written: as many as do not keep others waiting where
// there is one writer at a time.
const (
	stretchLines = 10_000
	stretchBytes = 1 << 20
)

// lines reads the file to its end, a stretch ahead of the one that is being written.
func (x *loading) lines(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ahead := make(chan [][]any)
	var unread error // the fault in the file, once ahead is closed
	go func() {
		defer close(ahead)
		unread = x.stretches(ctx, ahead)
	}()
	for rows := range ahead {
		if err := x.write(ctx, rows); err != nil {
			cancel()
			for range ahead { // until its reader has ended
			}
			return err
		}
		x.list.Lines += int64(len(rows))
		if x.told != nil {
			x.told(x.list.File, x.list.Lines)
		}
	}
	return unread
}

// stretches reads the file and hands its lines on.
func (x *loading) stretches(ctx context.Context, to chan<- [][]any) error {
	var rows [][]any
	size := 0
	for {
		line, err := x.in.Next()
		if err != nil && err != io.EOF {
			return err
		}
		if err == nil {
			row, err := x.layout.Row(x.in.Name, line)
			if err != nil {
				return err
			}
			rows = append(rows, row)
			x.rising.next(row)
			for _, v := range line.Values {
				if v != nil {
					size += len(*v)
				}
			}
		}
		if len(rows) > 0 && (err == io.EOF || len(rows) == stretchLines || size > stretchBytes) {
			select {
			case to <- rows:
			case <-ctx.Done():
				return ctx.Err()
			}
			rows, size = nil, 0
		}
		if err == io.EOF {
			return nil
		}
	}
}

// rising tells whether the keys of a list, whole numbers, rise from line to line: then no two lines
// have the same, and nobody need ask.
type rising struct {
	at    int // of the key among the values of a row; 0: it is not one whole number
	last  int64
	lines int
	ends  bool // one did not rise
}

func (r *rising) next(row []any) {
	if r.at <= 0 || r.ends {
		return
	}
	text, _ := row[r.at].(string)
	n, err := strconv.ParseInt(text, 10, 64)
	r.ends = err != nil || r.lines > 0 && n <= r.last
	r.last, r.lines = n, r.lines+1
}

func (r *rising) always() bool { return r.at > 0 && !r.ends }

// write puts lines into the table, and finds the one that the database does not take.
func (x *loading) write(ctx context.Context, rows [][]any) error {
	err := x.insert(ctx, rows)
	if err == nil || x.p.DB.Fault(err) != engine.Data && x.p.DB.Fault(err) != engine.Invalid {
		return err
	}
	if len(rows) > 1 {
		half := len(rows) / 2
		if err := x.write(ctx, rows[:half]); err != nil {
			return err
		}
		return x.write(ctx, rows[half:])
	}
	return &list.Fault{File: x.in.Name, Line: int(rows[0][0].(int64)), Msg: fmt.Sprintf("the database does not take a value of this line: %v", err)}
}

func (x *loading) insert(ctx context.Context, rows [][]any) error {
	s := x.p.session
	tx, err := s.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := x.p.DB.InsertRows(ctx, tx, x.list.SQL, x.columns, rows); err != nil {
		return err
	}
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	if y, ok := x.p.DB.(engine.Yielder); ok {
		return y.Yield(ctx, s, tx.Hold)
	}
	return nil
}

// shownTwice is how many keys are told that several lines have.
const shownTwice = 3

// once refuses a list in which several lines have the same key.
func (x *loading) once(ctx context.Context) error {
	d := x.p.DB.Dialect()
	q := &change.Query{D: d}
	key := ""
	for i, c := range x.list.Table.Key.Columns {
		if i > 0 {
			key += ", "
		}
		key += d.Quote(c.Name)
	}
	line := d.Quote(change.ListLine)
	q.Add("SELECT min(", line, "), max(", line, ") FROM ", x.list.SQL, " GROUP BY ", key, " HAVING count(*) > 1 ORDER BY 1 LIMIT ", fmt.Sprint(shownTwice+1))
	rows, err := x.p.session.Conn.QueryContext(ctx, q.String())
	if err != nil {
		return err
	}
	defer rows.Close()
	var places []string
	first := 0
	for rows.Next() {
		var a, b int
		if err := rows.Scan(&a, &b); err != nil {
			return err
		}
		if first == 0 {
			first = a
		}
		places = append(places, fmt.Sprintf("%d and %d", a, b))
	}
	if err := rows.Err(); err != nil || len(places) == 0 {
		return err
	}
	more := ""
	if len(places) > shownTwice {
		places, more = places[:shownTwice], " and others"
	}
	return &list.Fault{File: x.in.Name, Line: first, Msg: fmt.Sprintf("lines %s%s have the same key (%s), and nothing says which is meant", strings.Join(places, ", "), more, strings.Join(x.list.Table.Key.Names(), ", "))}
}
