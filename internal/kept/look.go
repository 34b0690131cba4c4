package kept

import (
	"context"
	"database/sql"
	"fmt"
	"slices"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
	"jugatum/internal/sqltext"
)

// Look is what a few of a step's rows were and became, and what its columns of numbers came to.
type Look struct {
	Step    string   `json:"step"`
	Table   string   `json:"table"`
	Does    string   `json:"does"` // update, delete, merge, insert, copy or move
	Kept    int64    `json:"rows"` // in all
	Rows    []Row    `json:"sample"`
	Figures []Figure `json:"figures"`           // of columns of numbers, over all rows
	Summed  bool     `json:"summed"`            // figures were worked out: there are not too many rows for that
	Missing string   `json:"missing,omitempty"` // why there is nothing to be seen
}

// Row is one row: its key, and its values before and after.
type Row struct {
	Key    string `json:"key"`
	Values []Cell `json:"values"`
}

// Cell is one column of a row; nil is NULL. A row that came into the table has nothing before,
// one that went nothing after.
type Cell struct {
	Column string  `json:"column"`
	Before *string `json:"before"`
	After  *string `json:"after"`
}

// Figure is what the values of a column come to; "" where there are none.
type Figure struct {
	Column string `json:"column"`
	Before Sums   `json:"before"`
	After  Sums   `json:"after"`
}

// Sums are exact, as the database gives them.
type Sums struct {
	Min string `json:"min"`
	Max string `json:"max"`
	Sum string `json:"sum"`
}

// How many rows may be gone through: all are read for sums, and to find some that are spread over
// the table where the kept values have no index by their numbers.
const (
	mostSummed       = 1_000_000
	mostSummedPacked = 100_000 // each pack is taken apart
)

// Looks reads up to n rows of what was kept of each step, spread over its rows.
func Looks(ctx context.Context, db engine.DB, work []*runner.Work, n int) (out []Look, err error) {
	for _, w := range work {
		if w.Kept == nil || w.Kept.Table == "" || w.Step.Totals.Changed == 0 {
			continue
		}
		x, err := look(ctx, db, w, n)
		if err != nil {
			return nil, fmt.Errorf("the kept values of step %q cannot be read: %w", w.Step.Name, err)
		}
		out = append(out, *x)
	}
	return out, nil
}

func look(ctx context.Context, db engine.DB, w *runner.Work, n int) (*Look, error) {
	c := w.Change
	x := &Look{Step: w.Step.Name, Table: c.Table.String(), Does: c.Does(), Kept: w.Step.Totals.Changed, Rows: []Row{}, Figures: []Figure{}}
	if c.Verb == sqltext.Insert {
		x.Table = c.Into.Table.String()
	}
	most := int64(mostSummed)
	if w.Kept.Packed != "" {
		most = mostSummedPacked
	}
	x.Summed = x.Kept <= most
	if !x.Summed && w.Kept.Packed == "" {
		return x, x.rows(ctx, db, w, func(q *change.Query) { q.Add(" LIMIT ", fmt.Sprint(n)) }, nil)
	}
	shown := map[int64]bool{}
	at, err := placed(ctx, db, w, n)
	if err != nil {
		return nil, err
	}
	for _, at := range at {
		from, err := ledger.NextKept(ctx, db, w.Kept, at, w.Step.LastKept())
		if err != nil {
			return nil, err
		}
		if err := x.rows(ctx, db, w, func(q *change.Query) { q.Add(" WHERE ").Numbered(w.Kept, from, from+1) }, shown); err != nil {
			return nil, err
		}
	}
	if !x.Summed {
		return x, nil
	}
	return x, x.sum(ctx, db, w)
}

// placed are the numbers of kept rows of a step after which to look for one. Those of its acts are
// numbered with its own, which may all come after them.
func placed(ctx context.Context, db engine.DB, w *runner.Work, n int) (out []int64, err error) {
	if len(w.Step.Acts) == 0 {
		return places(w.Step, n), nil
	}
	first, err := ledger.NextKept(ctx, db, w.Kept, 0, w.Step.LastKept())
	if err != nil {
		return nil, err
	}
	last, err := ledger.PreviousKept(ctx, db, w.Kept, w.Step.LastKept())
	for i := range int64(n) {
		out = append(out, first+(last-first)*i/int64(n))
	}
	return out, err
}

// places are the numbers of kept rows after which to look for one.
func places(s *ledger.Step, n int) (out []int64) {
	if last := s.LastKept(); last <= 2*s.Totals.Changed { // numbered without large gaps
		for i := range int64(n) {
			out = append(out, last*i/int64(n))
		}
		return out
	}
	for _, lane := range s.Lanes { // each has numbers of its own
		if lane.Kept > 0 {
			out = append(out, lane.Kept-1)
		}
	}
	for len(out) > n {
		out = slices.Delete(out, len(out)/2, len(out)/2+1)
	}
	return out
}

// rows adds those kept rows that are asked for and not shown yet.
func (x *Look) rows(ctx context.Context, db engine.DB, w *runner.Work, which func(q *change.Query), shown map[int64]bool) error {
	d := db.Dialect()
	q := &change.Query{D: d}
	q.Add(d.Settings(w.Kept.Packed != ""), "SELECT k.seq")
	columns := slices.Concat(w.Kept.Keys, w.Kept.Old, w.Kept.New)
	for _, k := range columns {
		q.Add(", ", d.Text(k.Of, "k."+d.Quote(k.Name)))
	}
	q.Add(" FROM ", w.Kept.Table, " AS k")
	which(q)
	rows, err := db.Pool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var seq int64
		texts := make([]sql.NullString, len(columns))
		into := []any{&seq}
		for i := range texts {
			into = append(into, &texts[i])
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		if !shown[seq] {
			if shown != nil {
				shown[seq] = true
			}
			x.Rows = append(x.Rows, made(w, texts))
		}
	}
	return rows.Err()
}

// made makes a row of its texts: the key, the old values, the new ones.
func made(w *runner.Work, texts []sql.NullString) (out Row) {
	keys, old := texts[:len(w.Kept.Keys)], texts[len(w.Kept.Keys):]
	for i, k := range keys {
		if i > 0 {
			out.Key += ", "
		}
		out.Key += k.String
	}
	at := func(s sql.NullString) *string {
		if !s.Valid {
			return nil
		}
		return &s.String
	}
	for i, k := range w.Kept.Old {
		x := Cell{Column: k.Of.Name}
		switch {
		case len(w.Kept.New) > 0:
			x.Before, x.After = at(old[i]), at(old[len(w.Kept.Old)+i])
		case w.Change.Verb == sqltext.Insert:
			x.After = at(old[i])
		default:
			x.Before = at(old[i])
		}
		out.Values = append(out.Values, x)
	}
	return out
}

// sum works out the figures of columns of numbers.
func (x *Look) sum(ctx context.Context, db engine.DB, w *runner.Work) error {
	d := db.Dialect()
	q := &change.Query{D: d}
	q.Add(d.Settings(w.Kept.Packed != ""), "SELECT 1")
	var texts []*sql.NullString
	one := 0
	into := []any{&one}
	ask := func(k change.KeptColumn) {
		for _, f := range []string{"min", "max", "sum"} {
			q.Add(", ", d.Text(nil, d.Own(f)+"(k."+d.Quote(k.Name)+")"))
			t := new(sql.NullString)
			texts, into = append(texts, t), append(into, t)
		}
	}
	for i, k := range w.Kept.Old {
		if k.Of.Class != change.Number {
			continue
		}
		x.Figures = append(x.Figures, Figure{Column: k.Of.Name})
		ask(k)
		if len(w.Kept.New) > i {
			ask(w.Kept.New[i])
		}
	}
	if len(x.Figures) == 0 {
		return nil
	}
	q.Add(" FROM ", w.Kept.Table, " AS k")
	if err := db.Pool().QueryRowContext(ctx, q.String(), q.Args...).Scan(into...); err != nil {
		return err
	}
	take := func() (s Sums) {
		s, texts = Sums{texts[0].String, texts[1].String, texts[2].String}, texts[3:]
		return s
	}
	for i := range x.Figures {
		f := &x.Figures[i]
		switch {
		case len(w.Kept.New) > 0:
			f.Before, f.After = take(), take()
		case w.Change.Verb == sqltext.Insert:
			f.After = take()
		default:
			f.Before = take()
		}
	}
	return nil
}
