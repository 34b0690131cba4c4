// Package preview asks a database what a job would do, without changing anything.
package preview

import (
	"context"
	"database/sql"
	"fmt"
	"strconv"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/hazard"
	"jugatum/internal/sqltext"
)

// Step is what one step would do.
type Step struct {
	Name      string           `json:"name"`
	Table     string           `json:"table"`
	Verb      string           `json:"verb"`
	Method    string           `json:"method"`
	First     string           `json:"first,omitempty"`     // which of the rows that match are meant
	LastPass  bool             `json:"last_pass,omitempty"` // rows that have come to match by then are changed in one
	Rehearsal *Rehearsal       `json:"rehearsal,omitempty"`
	Keeping   []engine.Setting `json:"housekeeping,omitempty"`
	// Replacement is there for a step that replaces text.
	Replacement *Replacement `json:"replacement,omitempty"`
	// Fill is there for a step that fills columns from other rows.
	Fill *Fill `json:"fill,omitempty"`
	// Lines is there for a step that carries out a list.
	Lines *Lines `json:"lines,omitempty"`
	// Call is there for a step that calls a statement for each line of a list.
	Call *Call `json:"call,omitempty"`
	// Move is there for a step that moves rows to another table.
	Move *Move `json:"move,omitempty"`
	// Merge is there for a step that makes one row of several.
	Merge     *Merge           `json:"merge,omitempty"`
	Acts      []Act            `json:"acts,omitempty"` // rows of other tables that would change first, by table
	Key       []string         `json:"key"`
	TableRows int64            `json:"table_rows"`
	Estimated bool             `json:"table_rows_estimated"`
	Matched   int64            `json:"matched"` // rows that the filter finds
	Changes   int64            `json:"changes"` // of these, rows whose new value differs, or rows to delete
	Columns   []Column         `json:"columns"`
	Named     []string         `json:"named"` // names of in-between values
	Sample    []Row            `json:"sample"`
	Hazards   []hazard.Finding `json:"hazards"`
}

// Column tells about one assigned column, over the rows that change. Figures
// are text, exact as the database gives them.
type Column struct {
	Name    string  `json:"name"`
	Type    string  `json:"type"`
	Before  *Figure `json:"before,omitempty"` // numbers only
	After   *Figure `json:"after,omitempty"`
	Longest int64   `json:"longest,omitempty"` // characters of the longest new text
	Width   int     `json:"width,omitempty"`   // characters that the column takes, 0 without a limit

	MissingBefore *change.Missing `json:"missing_before,omitempty"` // over the rows that change
	MissingAfter  *change.Missing `json:"missing_after,omitempty"`
}

// Figure sums up a column of numbers.
type Figure struct {
	Min      string `json:"min"`
	Max      string `json:"max"`
	Sum      string `json:"sum"`
	Distinct int64  `json:"distinct"`
}

// Row is one row of the sample.
type Row struct {
	Key     string    `json:"key"`
	Named   []*string `json:"named"`
	Changes []Cell    `json:"changes"`
}

// Cell is one value before and after; nil is NULL. After is meaningless where rows go.
type Cell struct {
	Column string   `json:"column"`
	Before *string  `json:"before"`
	After  *string  `json:"after"`
	Forms  []string `json:"forms,omitempty"` // of the occurrences, where text is replaced
}

// Count asks only how many rows match and how many would change.
func Count(ctx context.Context, db engine.DB, c *change.Change) (matched, changes int64, err error) {
	if c.Call != nil {
		return c.Lines.Lines, c.Lines.Lines, nil
	}
	if c.Rewrite != nil {
		var p Step
		err := p.replacement(ctx, db, c, false, 0)
		return p.Matched, p.Changes, err
	}
	if c.LaterTurn() {
		err = db.JobPool().QueryRowContext(ctx, "SELECT count(*)"+change.TurnLines(c).String()).Scan(&matched)
		return matched, matched, err
	}
	q := &change.Query{D: c.D}
	q.With(c, false).Add("SELECT count(*), ")
	q.Add(q.D.Own("count"), "(CASE WHEN changes THEN 1 END) FROM (")
	inner(q, c, false)
	q.Add(") AS jugatum_s")
	err = db.JobPool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&matched, &changes)
	return matched, changes, err
}

// Check has the database read the change without looking at a row, so that a
// column or a function that is not there is known before anything begins.
func Check(ctx context.Context, db engine.DB, c *change.Change) error {
	q := &change.Query{D: c.D}
	if c.D.Forms().ReadByExplain {
		q.Add("EXPLAIN SELECT * FROM (")
		inner(q, c, true)
		rows, err := db.JobPool().QueryContext(ctx, q.Add(") AS jugatum_s").String(), q.Args...)
		if err != nil {
			return err
		}
		return rows.Close()
	}
	q.With(c, false).Add("SELECT count(*) FROM (SELECT * FROM (")
	inner(q, c, true)
	q.Add(") AS jugatum_s LIMIT 0) AS jugatum_e")
	var n int64
	return db.JobPool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&n)
}

// inner is the query for matched rows: k0, k1, …, o0, n0, …, l0, …, changes.
// Where a target row can have several source rows, one of them stands for it.
func inner(q *change.Query, c *change.Change, named bool) {
	key := []*change.Column(nil)
	if c.Table.Key != nil {
		key = c.Table.Key.Columns
	}
	single := !c.From.Empty() && len(key) > 0
	q.Add("SELECT jugatum_m.*, ")
	if c.Verb != sqltext.Update {
		q.Add("1 = 1")
	} else {
		q.Add("1 = 0")
		for i, s := range c.Set {
			if s.Implicit {
				continue
			}
			q.Add(" OR ")
			n, o := fmt.Sprintf("jugatum_m.n%d", i), fmt.Sprintf("jugatum_m.o%d", i)
			if fits := q.D.Fits(s.Column, n); fits != "" {
				// A value that does not fit would end the whole query; it differs for sure.
				q.Add("CASE WHEN ", fits, " THEN ").Differs(s.Column, n, o).Add(" ELSE true END")
			} else {
				q.Differs(s.Column, n, o)
			}
		}
	}
	q.Add(" AS changes FROM (SELECT ")
	sep := ""
	for i, k := range key {
		q.Add(sep, c.Ref, ".", c.D.Quote(k.Name), fmt.Sprintf(" AS k%d", i))
		sep = ", "
	}
	if c.Verb != sqltext.Update {
		for i, col := range c.Table.Stored() {
			q.Add(sep, c.Ref, ".", c.D.Quote(col.Name), fmt.Sprintf(" AS o%d", i))
			sep = ", "
		}
	}
	for i, s := range c.Set {
		q.Add(sep, c.Ref, ".", c.D.Quote(s.Column.Name), fmt.Sprintf(" AS o%d, ", i)).NewValue(c, s).Add(fmt.Sprintf(" AS n%d", i))
		sep = ", "
	}
	if named {
		for i, l := range c.Let {
			q.Add(sep, "(").Fragment(l.Expr, c.Params).Add(fmt.Sprintf(") AS l%d", i))
		}
	}
	if single {
		q.Add(", row_number() OVER (PARTITION BY ").Columns(c.Ref, key).Add(") AS source")
	}
	q.Source(c, change.Range{})
	// Keeps the planner from working out the new values once for every use.
	q.Add(c.D.Forms().Unmerged, ") AS jugatum_m")
	if single {
		q.Add(" WHERE source = 1")
	}
}

// Look previews one step. sample is how many rows to show.
func Look(ctx context.Context, db engine.DB, c *change.Change, method string, sample int) (*Step, error) {
	p := &Step{Name: c.Step, Table: c.Table.String(), Verb: c.Does(), Method: method, TableRows: c.Table.Rows, Estimated: c.Table.Estimated, Hazards: hazard.Text(c, method)}
	if c.Table.Key != nil {
		p.Key = c.Table.Key.Names()
	}
	if c.Call != nil {
		return p, p.called(ctx, db, c, sample)
	}
	if c.First != nil {
		p.First = c.First.String()
	}
	for _, l := range c.Let {
		p.Named = append(p.Named, l.Name)
	}
	if c.LaterTurn() { // its rows are not yet what it will find
		p.Columns, p.Sample = []Column{}, []Row{}
		var err error
		if p.Matched, p.Changes, err = Count(ctx, db, c); err != nil {
			return nil, fmt.Errorf("step %q: %w", c.Step, err)
		}
	} else if c.Rewrite != nil {
		p.Columns, p.Sample = []Column{}, []Row{}
		if err := p.replacement(ctx, db, c, sample > 0, sample); err != nil {
			return nil, err
		}
		if err := p.filled(ctx, db, c, sample); err != nil {
			return nil, err
		}
	} else {
		if err := p.figures(ctx, db, c); err != nil {
			return nil, err
		}
		if err := p.sample(ctx, db, c, sample); err != nil {
			return nil, err
		}
		if err := p.filled(ctx, db, c, sample); err != nil {
			return nil, err
		}
	}
	p.Move = moved(c)
	var err error
	if c.Merge != nil && sample > 0 {
		if p.Merge, err = merged(ctx, db, c); err != nil {
			return nil, err
		}
	}
	if p.Lines, err = lines(ctx, db, c, p); err != nil {
		return nil, err
	}
	if p.Acts, err = acts(ctx, db, c); err != nil {
		return nil, err
	}
	if h, ok := db.(engine.Housekeeper); ok {
		if p.Keeping, err = h.Housekeeping(ctx, c); err != nil {
			return nil, err
		}
	}
	return p, p.hazards(ctx, db, c)
}

// filled looks at the source of a step that fills columns.
func (p *Step) filled(ctx context.Context, db engine.DB, c *change.Change, sample int) (err error) {
	if c.Lookup != nil && !c.Lookup.Missing && c.Lines == nil && sample > 0 {
		p.Fill, err = Filled(ctx, db, c, sample)
	}
	return err
}

// figures counts the rows and sums up the columns in one pass.
func (p *Step) figures(ctx context.Context, db engine.DB, c *change.Change) error {
	q := &change.Query{D: c.D}
	count := q.D.Own("count")
	q.With(c, false).Add("SELECT count(*), ", count, "(CASE WHEN changes THEN 1 END)")
	into := []any{&p.Matched, &p.Changes}
	p.Columns = make([]Column, len(c.Set))
	misfits := make([]int64, len(c.Set))
	for i, s := range c.Set {
		col := &p.Columns[i]
		col.Name, col.Type, col.Width = s.Column.Name, s.Column.Type, s.Column.Length
		n := fmt.Sprintf("n%d", i)
		if f := c.D.Fits(s.Column, n); f != "" {
			q.Add(", ", count, "(CASE WHEN NOT ", f, " THEN 1 END)")
			into = append(into, &misfits[i])
		}
		col.MissingBefore, col.MissingAfter = &change.Missing{}, &change.Missing{}
		into = append(into, col.MissingBefore.Count(q, s.Column, "changes", fmt.Sprintf("o%d", i))...)
		into = append(into, col.MissingAfter.Count(q, s.Column, "changes", n)...)
		switch s.Column.Class {
		case change.Number:
			col.Before, col.After = &Figure{}, &Figure{}
			for _, side := range []struct {
				v string
				f *Figure
			}{{fmt.Sprintf("o%d", i), col.Before}, {n, col.After}} {
				v := side.v
				if side.f == col.After {
					v = c.D.Number(s.Column, v)
				}
				for _, agg := range []string{"min", "max", "sum"} {
					q.Add(", coalesce(", q.D.Text(nil, q.D.Own(agg)+"(CASE WHEN changes THEN "+v+" END)"), ", 'NULL')")
				}
				q.Add(", ", count, "(DISTINCT CASE WHEN changes THEN ", v, " END)")
				into = append(into, &side.f.Min, &side.f.Max, &side.f.Sum, &side.f.Distinct)
			}
		case change.Text:
			q.Add(", coalesce(max(CASE WHEN changes THEN ", c.D.Characters(c.D.Text(nil, n)), " END), 0)")
			into = append(into, &col.Longest)
		}
	}
	q.Add(" FROM (")
	inner(q, c, false)
	q.Add(") AS jugatum_s")
	if err := db.JobPool().QueryRowContext(ctx, q.String(), q.Args...).Scan(into...); err != nil {
		return fmt.Errorf("step %q: %w", c.Step, err)
	}
	for i, n := range misfits {
		if n > 0 {
			p.found(hazard.Found(c.Step, hazard.DoesNotFit, n, c.Table, c.Set[i].Column.Name, c.Set[i].Column.Type), true)
		}
	}
	return nil
}

func (p *Step) found(f hazard.Finding, ok bool) {
	if ok {
		p.Hazards = append(p.Hazards, f)
	}
}

// sample reads rows spread evenly over those that change, the first and the
// last among them.
func (p *Step) sample(ctx context.Context, db engine.DB, c *change.Change, n int) error {
	if p.Changes == 0 || n < 1 {
		return nil
	}
	var picks []string
	last := int64(-1)
	for i := 0; i < n; i++ {
		at := int64(0)
		if n > 1 {
			at = int64(float64(p.Changes-1) * float64(i) / float64(n-1))
		}
		if at != last {
			picks = append(picks, strconv.FormatInt(at+1, 10))
		}
		last = at
	}
	q := &change.Query{D: c.D}
	keys := 0
	if c.Table.Key != nil {
		keys = len(c.Table.Key.Columns)
	}
	q.With(c, false).Add("SELECT ")
	sep := ""
	text := func(col *change.Column, name string) {
		q.Add(sep, q.D.Text(col, name))
		sep = ", "
	}
	for i := 0; i < keys; i++ {
		text(c.Table.Key.Columns[i], fmt.Sprintf("k%d", i))
	}
	for i := range c.Let {
		text(&change.Column{}, fmt.Sprintf("l%d", i))
	}
	cols := cells(c)
	for i, col := range cols {
		text(col, fmt.Sprintf("o%d", i))
		if c.Verb == sqltext.Update {
			text(col, fmt.Sprintf("n%d", i))
		}
	}
	q.Add(" FROM (SELECT jugatum_s.*, row_number() OVER (")
	for i := 0; i < keys; i++ {
		if i == 0 {
			q.Add("ORDER BY ")
		} else {
			q.Add(", ")
		}
		q.Add(fmt.Sprintf("k%d", i))
	}
	q.Add(") AS place FROM (")
	inner(q, c, true)
	q.Add(") AS jugatum_s WHERE changes) AS jugatum_p WHERE place IN (", strings.Join(picks, ", "), ") ORDER BY place")
	rows, err := db.JobPool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return fmt.Errorf("step %q: %w", c.Step, err)
	}
	defer rows.Close()
	for rows.Next() {
		row := Row{}
		width := keys + len(c.Let) + len(cols)
		if c.Verb == sqltext.Update {
			width += len(cols)
		}
		vals := make([]sql.NullString, width)
		into := make([]any, width)
		for i := range vals {
			into[i] = &vals[i]
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		var key []string
		for _, v := range vals[:keys] {
			key = append(key, v.String)
		}
		row.Key = strings.Join(key, ", ")
		for _, v := range vals[keys : keys+len(c.Let)] {
			row.Named = append(row.Named, pointer(v))
		}
		rest := vals[keys+len(c.Let):]
		for i, col := range cols {
			cell := Cell{Column: col.Name}
			if c.Verb == sqltext.Update {
				cell.Before, cell.After = pointer(rest[2*i]), pointer(rest[2*i+1])
			} else {
				cell.Before = pointer(rest[i])
			}
			row.Changes = append(row.Changes, cell)
		}
		p.Sample = append(p.Sample, row)
	}
	return rows.Err()
}

// cells are the columns that a sample row shows.
func cells(c *change.Change) []*change.Column {
	if c.Verb != sqltext.Update {
		return c.Table.Stored()
	}
	var cols []*change.Column
	for _, s := range c.Set {
		cols = append(cols, s.Column)
	}
	return cols
}

func pointer(s sql.NullString) *string {
	if !s.Valid {
		return nil
	}
	return &s.String
}
