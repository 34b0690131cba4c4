package preview

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"slices"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Merge is which rows would become one.
type Merge struct {
	By      []string      `json:"by"`      // the columns in which they are the same
	SameAs  string        `json:"same_as"` // when texts are the same
	Groups  int64         `json:"groups"`
	Rows    int64         `json:"rows"`  // of all groups, those that stay among them
	Apart   int64         `json:"apart"` // rows that are in no group, since one of these columns is NULL
	Sizes   []GroupSize   `json:"sizes"` // from the smallest to the largest
	Columns []MergeColumn `json:"columns"`
	Largest []Member      `json:"largest"` // of the largest group, the one that stays first; at most mostMembers
	Of      int64         `json:"of"`      // how many rows that group has
	Blanks  string        `json:"blanks"`  // fill or leave
}

// GroupSize is how many groups have so many rows.
type GroupSize struct {
	Rows   int64 `json:"rows"`
	Groups int64 `json:"groups"`
}

// MergeColumn tells of a column in which the rows of a group need not be the same.
type MergeColumn struct {
	Name     string `json:"name"`
	Missing  int64  `json:"missing"`  // groups in which the row that stays has nothing there, and another has
	Contrary int64  `json:"contrary"` // groups in which two rows have different values there
}

// Member is a row of a group.
type Member struct {
	Key    string  `json:"key"`
	Stays  bool    `json:"stays"`
	Values []Value `json:"values"` // of By, then of Columns
}

// Value is a value of it.
type Value struct {
	Column string  `json:"column"`
	Now    *string `json:"now"`
	Filled *string `json:"filled,omitempty"` // what it becomes in the row that stays
	From   string  `json:"from,omitempty"`   // the key of the row that it comes from
}

// mostMembers is how many rows of the largest group are shown.
const mostMembers = 12

// merged goes through the groups once, one after the other.
func merged(ctx context.Context, db engine.DB, c *change.Change) (*Merge, error) {
	m := c.Merge
	x := &groupReader{of: m, Merge: Merge{By: names(m.By), SameAs: m.SameAs, Blanks: "leave", Sizes: []GroupSize{}, Columns: []MergeColumn{}, Largest: []Member{}}, sizes: map[int64]int64{}}
	if m.Fill {
		x.Blanks = "fill"
	}
	x.cols = m.Filled()
	for _, col := range x.cols {
		x.Columns = append(x.Columns, MergeColumn{Name: col.Name})
	}
	x.by = m.By
	q := m.Members(c.D, slices.Concat(m.By, x.cols))
	rows, err := db.JobPool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return nil, fmt.Errorf("step %q: the groups of %s: %w", c.Step, c.Table, err)
	}
	defer rows.Close()
	if err := x.read(rows, len(c.Table.Key.Columns)); err != nil {
		return nil, fmt.Errorf("step %q: the groups of %s: %w", c.Step, c.Table, err)
	}
	for _, size := range slices.Sorted(maps.Keys(x.sizes)) {
		x.Sizes = append(x.Sizes, GroupSize{size, x.sizes[size]})
	}
	if q := m.ApartRows(c); q != nil {
		if err := db.JobPool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&x.Apart); err != nil {
			return nil, fmt.Errorf("step %q: rows of %s in no group: %w", c.Step, c.Table, err)
		}
	}
	return &x.Merge, nil
}

func names(cols []*change.Column) (out []string) {
	for _, c := range cols {
		out = append(out, c.Name)
	}
	return out
}

// groupReader takes up rows group by group: the one that stays, then those that go in their order.
type groupReader struct {
	Merge
	of       *change.Merge
	by, cols []*change.Column
	sizes    map[int64]int64

	// Of the group at hand:
	found    []at   // of each column the first value that is there
	missing  []bool // in the row that stays
	contrary []bool
	rows     []groupRow // as many as are shown
	size     int64
}

// at is a value, and where it is.
type at struct {
	there     bool
	text, key string
}

// groupRow is a row of a group.
type groupRow struct {
	key    string
	values []sql.NullString
}

// read goes through rows of: number in the group, the key, then the values.
func (x *groupReader) read(rows *sql.Rows, keys int) error {
	n := keys + len(x.by) + len(x.cols)
	texts := make([]sql.NullString, n)
	var nth int64
	into := []any{&nth}
	for i := range texts {
		into = append(into, &texts[i])
	}
	open := false
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		if nth == 0 {
			if open {
				x.end()
			}
			x.begin()
			open = true
		}
		key := ""
		for i, t := range texts[:keys] {
			if i > 0 {
				key += ", "
			}
			key += t.String
		}
		x.row(key, texts[keys:])
	}
	if open {
		x.end()
	}
	return rows.Err()
}

// begin begins a group.
func (x *groupReader) begin() {
	n := len(x.cols)
	x.found, x.missing, x.contrary = make([]at, n), make([]bool, n), make([]bool, n)
	x.rows, x.size = x.rows[:0], 0
}

// row takes up a row of the group, the one that stays first.
func (x *groupReader) row(key string, values []sql.NullString) {
	for i, v := range values[len(x.by):] {
		switch {
		case !v.Valid || v.String == "" && x.of.FillsEmpty(x.cols[i]):
			x.missing[i] = x.missing[i] || x.size == 0
		case !x.found[i].there:
			x.found[i] = at{true, v.String, key}
		case x.found[i].text != v.String:
			x.contrary[i] = true
		}
	}
	if x.size++; len(x.rows) < mostMembers {
		x.rows = append(x.rows, groupRow{key, slices.Clone(values)})
	}
}

// end counts what the group has come to.
func (x *groupReader) end() {
	x.Groups++
	x.Rows += x.size
	x.sizes[x.size]++
	for i := range x.cols {
		if x.missing[i] && x.found[i].there {
			x.Columns[i].Missing++
		}
		if x.contrary[i] {
			x.Columns[i].Contrary++
		}
	}
	if x.size > x.Of {
		x.Of = x.size
		x.show()
	}
}

// show has the group be the largest so far.
func (x *groupReader) show() {
	x.Largest = nil
	for n, r := range x.rows {
		m := Member{Key: r.key, Stays: n == 0}
		for i, c := range slices.Concat(x.by, x.cols) {
			v := Value{Column: c.Name}
			if r.values[i].Valid {
				v.Now = &r.values[i].String
			}
			if f := i - len(x.by); f >= 0 && m.Stays && x.of.Fill && x.missing[f] && x.found[f].there {
				v.Filled, v.From = &x.found[f].text, x.found[f].key
			}
			m.Values = append(m.Values, v)
		}
		x.Largest = append(x.Largest, m)
	}
}
