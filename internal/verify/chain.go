package verify

import (
	"context"
	"database/sql"
	"slices"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
	"jugatum/internal/sqltext"
)

// Several changes of one run may have been of the same row: two steps that follow each
// other, lines of one list with the same key, or an act that takes a row's reference away and
// one that deletes it with rows of a later batch. Then the table shows what the last of them
// left, and of those before it what the next one found: which it has kept as its old values,
// or, where it has made a row, none. After an undo it is the other way round: the table shows
// what the first one found, and of those after it what the one before had left.

// changed is one change of a run in one table, with what was kept of it.
type changed struct {
	c    *change.Change
	kept *change.Kept
	made bool // its rows came into the table; their values are the new ones
}

// removes reports whether its rows went out of the table.
func (x changed) removes() bool { return !x.made && x.c.Verb == sqltext.Delete }

// sides are what a change has done to its own table, and to the one that its rows came into.
func sides(c *change.Change, kept *change.Kept) (out []changed) {
	if c.Verb != sqltext.Insert { // else a copy, which leaves its rows as they are
		out = append(out, changed{c, kept, false})
	}
	if c.Into != nil {
		there, k, _ := c.Landed(kept, change.AsChanged)
		out = append(out, changed{there, k, true})
	}
	return out
}

// inOrder lists the changes of a run in the order in which they were made.
func inOrder(work []*runner.Work) (out []changed) {
	for i := range work {
		w := work[i]
		if w.Undo { // which goes through the steps in reverse
			w = work[len(work)-1-i]
		}
		for _, a := range w.Acts {
			out = append(out, sides(a.Change, a.Kept)...)
		}
		if w.Kept != nil {
			out = append(out, sides(w.Change, w.Kept)...)
		}
	}
	return out
}

// said is what the changes beside one say of a row of its.
type said struct {
	values map[string]string // by column, of the nearest change that speaks of it
	none   bool              // the nearest one found, or left, no row
	known  bool
	made   bool // one of them has made it: of columns that it does not speak of, nobody has kept the value
	gone   bool // as the last of them leaves it, there is no row
}

// chained adds to passed the numbers of those rows found, which are not as recorded in
// the table, that are as the next change of the run found them; in an undo, as the one
// before it left them.
func chained(ctx context.Context, db engine.DB, w *runner.Work, work []*runner.Work, found []ledger.Left, from, to int64, passed map[int64]bool) error {
	for _, side := range sides(w.Change, w.Kept) {
		var rows []ledger.Left
		for _, x := range found {
			if (x.Table != "") == side.made {
				rows = append(rows, x)
			}
		}
		if len(rows) == 0 {
			continue
		}
		seen := map[int64]*said{} // by the row's number
		for _, x := range neighbours(side, w, work) {
			if err := x.read(ctx, db, side, w.Undo, from, to, seen); err != nil {
				return err
			}
		}
		none := side.removes() // what is expected of a row: that there is none
		if w.Undo {
			none = side.made
		}
		for _, x := range rows {
			if s := seen[x.Seq]; s != nil && s.explains(x, none) {
				passed[x.Seq] = true
			}
		}
	}
	return nil
}

// explains reports whether a row that is not as recorded is as the changes beside have it; none
// says that no row is expected.
func (s *said) explains(x ledger.Left, none bool) bool {
	if s.none != none || x.Gone && !s.gone {
		return false
	}
	if none {
		return true
	}
	for name, want := range x.Expected {
		got, ok := s.values[name]
		switch {
		case !ok && (s.made || x.Gone): // the database had filled it in, as the row was made
			continue
		case !ok:
			got = x.Found[name]
		}
		if got != want {
			return false
		}
	}
	return true
}

// neighbours are the changes of the same table after one of w, the next one first; in an
// undo those before it, the last one first.
func neighbours(side changed, w *runner.Work, work []*runner.Work) (out []changed) {
	list := inOrder(work)
	if w.Undo {
		slices.Reverse(list)
	}
	at := slices.IndexFunc(list, func(x changed) bool { return x.kept.Table == side.kept.Table && x.made == side.made })
	if at < 0 {
		return nil
	}
	for _, x := range list[at+1:] {
		if t := x.c.Table; t.Schema == side.c.Table.Schema && t.Name == side.c.Table.Name && x.kept.Table != side.kept.Table && x.finds(side) {
			out = append(out, x)
		}
	}
	return out
}

// finds reports whether the rows of both are told by the same columns.
func (x changed) finds(side changed) bool {
	return slices.EqualFunc(x.kept.Keys, side.kept.Keys, func(a, b change.KeptColumn) bool { return a.Of.Name == b.Of.Name })
}

// read adds what a change says of the rows after from, up to to, that are kept of another.
func (x changed) read(ctx context.Context, db engine.DB, side changed, undo bool, from, to int64, seen map[int64]*said) error {
	mine, theirs, values, none := side.kept.AfterRun(side.c), x.kept, x.kept.Old, x.made // what it found
	if undo {
		mine, theirs, values, none = side.kept, x.kept.AfterRun(x.c), x.kept.New, x.removes() // what it left
	}
	if none {
		values = nil
	}
	q := change.Chained(db.Dialect(), mine, theirs, values, from, to)
	rows, err := db.Pool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	texts := make([]sql.NullString, len(values))
	var seq int64
	into := []any{&seq}
	for i := range texts {
		into = append(into, &texts[i])
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		s := seen[seq]
		if s == nil {
			s = &said{values: map[string]string{}}
			seen[seq] = s
		}
		if !s.known {
			s.known, s.none = true, none
		}
		for i, v := range values {
			if _, ok := s.values[v.Of.Name]; !ok {
				s.values[v.Of.Name] = ledger.Shown(texts[i])
			}
		}
		s.made = s.made || x.made
		if undo {
			s.gone = x.made || s.gone && !x.removes()
		} else {
			s.gone = x.removes() || s.gone && !x.made
		}
	}
	return rows.Err()
}
