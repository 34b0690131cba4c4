package plan

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"strings"
	"unicode/utf8"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/kind"
	"jugatum/internal/kind/merge"
	"jugatum/internal/ledger"
	"jugatum/internal/sqltext"
)

// Which rows of a merge go, and which stay, is found out before anything is changed, and written
// into a table of ours, as the lines of a list are: so a preview, the run and one that goes on
// speak of the same groups. A batch asks of each row, and of the one that stays, whether it still is
// what it was.

// grouping finds the groups of one step.
type grouping struct {
	p     *Plan
	step  int
	of    job.Step
	s     *merge.Step
	m     *change.Merge
	ref   string // how the step's SQL refers to the table
	where sqltext.Fragment
	order sqltext.Fragment
	told  Reading
}

// catalogue asks the database for a table.
func (p *Plan) catalogue(ctx context.Context) change.Catalogue {
	return func(schema, name string) (*change.Table, error) { return p.DB.Table(ctx, schema, name) }
}

// groups finds the groups of a step that merges rows.
func (p *Plan) groups(ctx context.Context, step int, of job.Step, s *merge.Step, told Reading) error {
	x, err := p.grouping(ctx, step, of, s, told)
	if err != nil {
		return err
	}
	record := &ledger.List{File: x.m.Table.String(), Table: ledger.NewListName(), Key: x.m.Table.Key.Names(), Others: names(x.m.Watched)}
	x.m.List = p.mergeList(record)
	if err := x.make(ctx); err != nil {
		return p.badSQL(of.Name, "merge", err)
	}
	record.Lines = x.m.List.Lines
	p.setList(step, record, x.m.List)
	return nil
}

// regroup finds the groups of a step once more, in the same table: the steps before it may have
// changed what its rows are, and to which others refer. The step has not begun.
func (p *Plan) regroup(ctx context.Context, step int) (err error) {
	of := p.Job.Steps[step]
	s, ok := of.Kind.(*merge.Step)
	if !ok {
		return nil
	}
	x, err := p.grouping(ctx, step, of, s, nil)
	if err != nil {
		return err
	}
	x.m.List = p.lists[step] // which the step's changes know
	if p.session, err = p.listSession(ctx); err != nil {
		return err
	}
	defer func() { p.session.Close(); p.session = nil }()
	err = p.apart(ctx, func(tx *engine.Tx) error {
		_, err := tx.Exec(ctx, "DROP TABLE IF EXISTS "+x.m.List.SQL) // not there if a kill came between
		return err
	})
	if err != nil {
		return err
	}
	if err := x.make(ctx); err != nil {
		return fmt.Errorf("step %q: finding the groups: %w", of.Name, err)
	}
	x.m.List.Table.Rows = x.m.List.Lines
	return nil
}

// grouping reads a step that merges rows.
func (p *Plan) grouping(ctx context.Context, step int, of job.Step, s *merge.Step, told Reading) (x *grouping, err error) {
	x = &grouping{p: p, step: step, of: of, s: s, told: told}
	d := p.DB.Dialect()
	if x.m, x.ref, err = s.Resolve(of.Spec, d, p.catalogue(ctx)); err != nil {
		return nil, err
	}
	for _, f := range []struct {
		field, text string
		into        *sqltext.Fragment
	}{{"where", x.m.Filter, &x.where}, {"stays", s.Stays, &x.order}} {
		if f.text == "" {
			continue
		}
		if *f.into, err = sqltext.Expression(d, f.text); err != nil {
			return nil, &change.FieldError{Step: of.Name, Field: f.field, Err: err}
		}
		for _, name := range f.into.Params() {
			if _, ok := p.Values[name]; !ok {
				return nil, &change.FieldError{Step: of.Name, Field: f.field, Err: fmt.Errorf("parameter :%s is not declared; add [param.%s] to the job, or give it with --param %s=…", name, name, name)}
			}
		}
	}
	return x, nil
}

// mergeList describes the table of rows that go by its record.
func (p *Plan) mergeList(record *ledger.List) *change.List {
	text := p.DB.LedgerTable(record.Table)
	at := tableName(p.DB.Dialect(), text)
	return &change.List{File: record.File, SQL: text, Lines: record.Lines, Extra: record.Others, Table: &change.Table{Schema: at.Schema, Name: at.Name, Shown: record.File, Bytes: -1}}
}

// make makes the table and fills it.
func (x *grouping) make(ctx context.Context) error {
	d, db, s := x.p.DB.Dialect(), x.p.DB, x.p.session
	l := x.m.List
	layout := x.m.Layout(d)
	one := func(text string) error {
		return x.p.apart(ctx, func(tx *engine.Tx) error { _, err := tx.Exec(ctx, text); return err })
	}
	for _, text := range db.NewTable(layout) {
		if err := one(text); err != nil {
			return fmt.Errorf("making a table for the rows of %s that go: %w", l.File, err)
		}
	}
	x.p.made = append(x.p.made, l.SQL)
	if s.Locks { // others would wait while all of it is indexed
		if err := x.index(one); err != nil {
			return err
		}
	}
	rows, apart, extra, err := x.rows(ctx)
	if err != nil {
		return err
	}
	beside := x.temporary("groups", layout)
	g := engine.Gathering{Into: l.SQL, Columns: strings.Join(names(layout.Columns), ", "), Beside: beside.SQL(d), Make: db.NewTable(beside),
		Find: func(into string) *change.Query {
			return x.m.Groups(d, into, change.MergeRows{From: rows, Ref: x.ref, Apart: apart, Extra: extra, Where: x.where, Order: x.order, Params: x.p.Values})
		},
		Within: func(ctx context.Context, do func(*engine.Tx) error) error {
			_, err := s.InTx(ctx, do)
			return err
		}}
	if l.Lines, err = g.Gather(ctx, db, s); err != nil {
		return err
	}
	if !s.Locks {
		if err := x.index(one); err != nil {
			return err
		}
	}
	if text := d.Analyze(l.SQL); text != "" {
		_, err = s.Conn.ExecContext(ctx, text) // outside a transaction
	}
	return err
}

// index makes the indexes of the table of rows that go.
func (x *grouping) index(one func(text string) error) error {
	d := x.p.DB.Dialect()
	name := x.m.List.Table.Name
	for i, columns := range x.m.Indexes() {
		if err := one(fmt.Sprintf("CREATE INDEX %s ON %s (%s)", d.Quote(fmt.Sprintf("%s_%d", name, i+1)), x.m.List.SQL, strings.Join(columns, ", "))); err != nil {
			return fmt.Errorf("making an index for the rows of %s that go: %w", x.m.List.File, err)
		}
	}
	return nil
}

// stretches does something for numbers up to n, some at a time.
func (x *grouping) stretches(n int64, do func(from, to int64) error) error {
	for from := int64(0); from < n; from += stretchLines {
		if err := do(from, min(from+stretchLines, n)); err != nil {
			return err
		}
	}
	return nil
}

// temporary describes a table of the session.
func (x *grouping) temporary(name string, layout *change.Table) *change.Table {
	t := *layout
	at := tableName(x.p.DB.Dialect(), engine.Temporary(x.p.DB, fmt.Sprintf("merge_%d_%s", x.step+1, name)))
	t.Schema, t.Name = at.Schema, at.Name
	return &t
}

// made makes one.
func (x *grouping) made(ctx context.Context, name string, layout *change.Table) (string, error) {
	t := x.temporary(name, layout)
	return t.SQL(x.p.DB.Dialect()), engine.MakeTemporary(ctx, x.p.DB, x.p.session, x.p.DB.NewTable(t))
}

// rows says where the rows come from, what tells one group from another, and which rows are in none.
func (x *grouping) rows(ctx context.Context) (rows string, apart []string, extra string, err error) {
	d := x.p.DB.Dialect()
	rows = x.m.Table.SQL(d)
	column := func(c *change.Column) string { return x.ref + "." + d.Quote(c.Name) }
	for _, c := range x.m.By {
		if !x.s.Nulls {
			extra += " AND " + column(c) + " IS NOT NULL"
		}
		if x.s.SameAs == merge.Exact || c.Class != change.Text {
			apart = append(apart, d.Grouped(c, column(c)))
		}
	}
	if x.s.SameAs == merge.Exact {
		return rows, apart, extra, nil
	}
	f := &forms{grouping: x}
	join, err := f.make(ctx, extra)
	return rows + join, append(apart, "jugatum_f.form"), extra, err
}

// forms works out the forms of the texts by which rows are the same, which no two servers would
// agree on: the texts are read, a stretch at a time, and what counts of them is written beside.
type forms struct {
	*grouping
	texts []*change.Column
}

// Columns of the tables of the session.
const (
	formNumber = "jugatum_n"
	formText   = "jugatum_v"
	formKey    = "jugatum_k"
)

// make gives what joins each row to its form.
func (x *forms) make(ctx context.Context, extra string) (join string, err error) {
	d, s := x.p.DB.Dialect(), x.p.session
	number := &change.Column{Name: formNumber, Type: d.Types().Int, NotNull: true}
	read := &change.Table{Key: &change.Key{Columns: []*change.Column{number}}, Columns: []*change.Column{number}, Strict: x.m.Table.Strict}
	var values, conditions []string
	keep := func(prefix string, i int, c *change.Column) string {
		own := *c
		own.Name, own.Identity, own.Generated, own.OnUpdate, own.Default, own.NotNull = fmt.Sprintf("%s%d", prefix, i), false, false, "", "", false
		read.Columns = append(read.Columns, &own)
		values = append(values, x.ref+"."+d.Quote(c.Name)+" AS "+own.Name)
		return "jugatum_r." + own.Name
	}
	for i, c := range x.m.Table.Key.Columns {
		conditions = append(conditions, x.ref+"."+d.Quote(c.Name)+" "+c.Op("=")+" "+keep(formKey, i, c))
	}
	for _, c := range x.m.By {
		if c.Class == change.Text {
			conditions = append(conditions, d.Unchanged(c, x.ref+"."+d.Quote(c.Name), keep(formText, len(x.texts), c)))
			x.texts = append(x.texts, c)
		}
	}
	rows, err := x.made(ctx, "texts", read)
	if err != nil {
		return "", err
	}
	columns := strings.Join(names(read.Columns[1:]), ", ")
	q := change.Numbering{Into: rows, Names: columns, Values: columns, Number: formNumber}.Insert(d, nil, func(q *change.Query) {
		q.Add("SELECT ", strings.Join(values, ", "), " FROM ", x.m.Table.SQL(d), " WHERE 1 = 1", extra)
		if !x.where.Empty() {
			q.Add(" AND (").Fragment(x.where, x.p.Values).Add(")")
		}
	})
	n, err := x.p.session.Quietly(ctx, q.String(), q.Args...)
	if err != nil {
		return "", err
	}
	form := &change.Column{Name: "form", Type: d.Types().Word}
	forms, err := x.made(ctx, "forms", &change.Table{Key: read.Key, Columns: []*change.Column{number, form}})
	if err != nil {
		return "", err
	}
	err = x.stretches(n, func(from, to int64) error {
		out, err := x.read(ctx, rows, from, to)
		if err != nil {
			return err
		}
		if x.told != nil {
			x.told(x.m.Table.String(), to)
		}
		_, err = s.InTx(ctx, func(tx *engine.Tx) error {
			return x.p.DB.InsertRows(ctx, tx, forms, []string{formNumber, "form"}, out)
		})
		return err
	})
	return " JOIN " + rows + " AS jugatum_r ON " + strings.Join(conditions, " AND ") + " JOIN " + forms + " AS jugatum_f ON jugatum_f." + formNumber + " = jugatum_r." + formNumber, err
}

// read reads the texts of a stretch and gives their forms.
func (x *forms) read(ctx context.Context, rows string, from, to int64) (out [][]any, err error) {
	d := x.p.DB.Dialect()
	q := &change.Query{D: d}
	q.Add("SELECT ", formNumber)
	for i, c := range x.texts {
		q.Add(", ", d.AsText(c, fmt.Sprintf("jugatum_r.%s%d", formText, i)))
	}
	q.Add(" FROM ", rows, " AS jugatum_r WHERE ", formNumber, " > ").Arg(from, "bigint").Add(" AND ", formNumber, " <= ").Arg(to, "bigint")
	found, err := x.p.session.Conn.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return nil, err
	}
	defer found.Close()
	texts := make([]*string, len(x.texts))
	n := int64(0)
	into := []any{&n}
	for i := range texts {
		into = append(into, &texts[i])
	}
	for found.Next() {
		if err := found.Scan(into...); err != nil {
			return nil, err
		}
		out = append(out, []any{n, formOf(x.s.SameAs, texts)})
	}
	return out, found.Err()
}

// formOf is a digest of what counts of some texts, as long as a word of the server. A text of which
// nobody can say which characters it has counts as it is.
func formOf(f change.Form, texts []*string) string {
	sum := sha256.New()
	for _, t := range texts {
		if t == nil {
			sum.Write([]byte{0})
			continue
		}
		text, valid := *t, byte(1)
		if utf8.ValidString(text) {
			text = f.Of(text)
		} else {
			valid = 2
		}
		var size [9]byte
		size[0] = valid
		binary.BigEndian.PutUint64(size[1:], uint64(len(text)))
		sum.Write(size[:])
		sum.Write([]byte(text))
	}
	return hex.EncodeToString(sum.Sum(nil)[:20])
}

// merged is the list of a step that merges rows, by its record.
func (p *Plan) merged(step int) error {
	record, err := ledger.ListOf(p.Values, step)
	if err != nil {
		return err
	}
	if record == nil {
		return Refusef("step %q merges rows of which the run's record says nothing: the ledger was changed by hand", p.Job.Steps[step].Name)
	}
	p.setList(step, record, p.mergeList(record))
	return nil
}

// mergeActs gives a merge what goes with its rows.
func (p *Plan) mergeActs(ctx context.Context, c *change.Change) (err error) {
	if c.Acts, err = c.Merge.Acts(c); err != nil {
		return p.Job.At(err)
	}
	for _, a := range c.Acts {
		null, err := p.nullKeys(ctx, a.Change.Table)
		if err != nil {
			return err
		}
		if null && !a.Stays {
			return Refusef("step %q: rows of %s have NULL in their key, by which they could not be put back: give them one first", c.Step, a.Change.Table)
		}
	}
	return nil
}

// needsTables reports whether a step writes to the database before anything is changed.
func needsTables(s job.Step) bool {
	switch s.Kind.(type) {
	case kind.Listed, *merge.Step:
		return true
	}
	return false
}
