package preview

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Fill is what a step that fills columns from other rows finds there, and does not.
type Fill struct {
	Step      string      `json:"step"`
	Columns   []string    `json:"columns"` // of the target, which are matched; none where the match is a condition
	Rows      int64       `json:"source_rows"`
	Unused    int64       `json:"source_rows_unused"` // that no row of the table matches, whatever the filter
	Unmatched int64       `json:"unmatched"`          // rows within the filter that match nothing
	Becomes   string      `json:"unmatched_becomes"`  // leave, null or fail
	Values    []Unmatched `json:"unmatched_values"`   // the most frequent first
	Several   []Several   `json:"several"`            // rows with several source rows that do not agree
	Advice    []string    `json:"advice,omitempty"`   // what could be declared now
}

// Unmatched is a value, or several of as many columns, that no source row has.
type Unmatched struct {
	Values []*string `json:"values"`
	Rows   int64     `json:"rows"`
}

// Several is a row for which there are several source rows.
type Several struct {
	Key     string   `json:"key"`
	Rows    int64    `json:"source_rows"`
	Choices []Choice `json:"choices"` // of the columns of which they give different values
}

// Choice is the least and the greatest value for a column.
type Choice struct {
	Column string  `json:"column"`
	Least  *string `json:"least"`
	Most   *string `json:"greatest"`
}

// Filled asks what a step finds in its source; limit is how many values and rows are
// listed.
func Filled(ctx context.Context, db engine.DB, c *change.Change, limit int) (*Fill, error) {
	l := c.Lookup
	f := &Fill{Step: c.Step, Columns: []string{}, Becomes: string(l.Unmatched), Values: []Unmatched{}, Several: []Several{}}
	for _, col := range l.Columns {
		f.Columns = append(f.Columns, col.Name)
	}
	count := func(q *change.Query, n *int64) error {
		err := db.JobPool().QueryRowContext(ctx, "SELECT count(*)"+q.String(), q.Args...).Scan(n)
		if err != nil {
			return fmt.Errorf("step %q: %w", c.Step, err)
		}
		return nil
	}
	if err := count((&change.Query{D: c.D}).SourceRows(c), &f.Rows); err != nil {
		return nil, err
	}
	if err := count(change.Unused(c), &f.Unused); err != nil {
		return nil, err
	}
	if err := count(change.Lost(c), &f.Unmatched); err != nil {
		return nil, err
	}
	if f.Unmatched > 0 && len(l.Columns) > 0 {
		if err := f.values(ctx, db, c, limit); err != nil {
			return nil, err
		}
	}
	if l.Unique || c.Table.Key == nil {
		return f, nil
	}
	return f, f.several(ctx, db, c, limit)
}

// values lists what most rows without a match have in the columns that are matched.
func (f *Fill) values(ctx context.Context, db engine.DB, c *change.Change, limit int) error {
	q := &change.Query{D: c.D}
	q.Add("SELECT ")
	var by, order []string
	for i, col := range c.Lookup.Columns {
		name := c.Ref + "." + c.D.Quote(col.Name)
		q.Add(q.D.Text(col, name), ", ")
		by = append(by, name)
		order = append(order, fmt.Sprint(i+1))
	}
	lost := change.Lost(c)
	q.Args = lost.Args
	q.Add("count(*)", lost.String(), " GROUP BY ", strings.Join(by, ", "))
	q.Add(" ORDER BY ", fmt.Sprint(len(by)+1), " DESC, ", strings.Join(order, ", "), fmt.Sprintf(" LIMIT %d", limit))
	return eachRow(ctx, db, c, q, len(by), func(values []sql.NullString, n int64) {
		u := Unmatched{Rows: n}
		for _, v := range values {
			u.Values = append(u.Values, pointer(v))
		}
		f.Values = append(f.Values, u)
	})
}

// several lists rows for which the source has several rows that do not agree.
func (f *Fill) several(ctx context.Context, db engine.DB, c *change.Change, limit int) error {
	q := change.DoublesShown(c)
	keys := len(c.Table.Key.Columns)
	q.Add(fmt.Sprintf(" ORDER BY 1 LIMIT %d", limit))
	return eachRow(ctx, db, c, q, keys+2*len(c.Set), func(values []sql.NullString, n int64) {
		var key []string
		for _, v := range values[:keys] {
			key = append(key, v.String)
		}
		x := Several{Key: strings.Join(key, ", "), Rows: n, Choices: []Choice{}}
		for i, s := range c.Set {
			least, most := values[keys+2*i], values[keys+2*i+1]
			if least != most {
				x.Choices = append(x.Choices, Choice{s.Column.Name, pointer(least), pointer(most)})
			}
		}
		f.Several = append(f.Several, x)
	})
}

// eachRow reads rows of texts with a count at their end.
func eachRow(ctx context.Context, db engine.DB, c *change.Change, q *change.Query, texts int, do func(values []sql.NullString, n int64)) error {
	rows, err := db.JobPool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return fmt.Errorf("step %q: %w", c.Step, err)
	}
	defer rows.Close()
	for rows.Next() {
		values := make([]sql.NullString, texts)
		into := make([]any, texts, texts+1)
		for i := range values {
			into[i] = &values[i]
		}
		var n int64
		if err := rows.Scan(append(into, &n)...); err != nil {
			return err
		}
		do(values, n)
	}
	return rows.Err()
}

// Advise lists what could be declared by the rows as they are.
func (f *Fill) Advise(ctx context.Context, db engine.DB, c *change.Change) error {
	for _, a := range change.Advices(c) {
		var against int64
		if err := db.JobPool().QueryRowContext(ctx, "SELECT count(*) FROM (SELECT 1"+a.Against.String()+" LIMIT 1) AS jugatum_e", a.Against.Args...).Scan(&against); err != nil {
			return fmt.Errorf("step %q: %w", c.Step, err)
		}
		if against == 0 {
			f.Advice = append(f.Advice, a.Text)
		}
	}
	return nil
}
