package verify

import (
	"context"
	"database/sql"
	"slices"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
)

// Several changes of one run may have been of the same row: two steps that follow each
// other, lines of one list with the same key, or an act that takes a row's reference away and
// one that deletes it with rows of a later batch. Then the table shows what the last of them
// left, and of those before it what the next one found: which it has kept as its old values,
// or, where it has made a row, none. After an undo it is the other way round: the table shows
// what the first one found, and of those after it what the one before had left.

// inOrder lists the changes of a run in the order in which they were made.
func inOrder(work []*runner.Work) (out []runner.Side) {
	for i := range work {
		w := work[i]
		if w.Undo { // which goes through the steps in reverse
			w = work[len(work)-1-i]
		}
		out = append(out, w.Sides()...)
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
	for _, side := range runner.Sides(w.Change, w.Kept) {
		var rows []ledger.Left
		for _, x := range found {
			if (x.Table != "") == side.Made {
				rows = append(rows, x)
			}
		}
		if len(rows) == 0 {
			continue
		}
		seen := map[int64]*said{} // by the row's number
		for _, x := range neighbours(side, w, work) {
			if err := read(ctx, db, x, side, w, from, to, seen); err != nil {
				return err
			}
		}
		none := side.Removes() // what is expected of a row: that there is none
		if w.Undo {
			none = side.Made
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
func neighbours(side runner.Side, w *runner.Work, work []*runner.Work) (out []runner.Side) {
	list := inOrder(work)
	if w.Undo {
		slices.Reverse(list)
	}
	at := slices.IndexFunc(list, func(x runner.Side) bool { return x.Kept.Table == side.Kept.Table && x.Made == side.Made })
	if at < 0 {
		return nil
	}
	if w.Repeats(side.Change) { // what it did to the same row another time comes first
		out = append(out, side)
	}
	for _, x := range list[at+1:] {
		if x.Change.Table.Is(side.Change.Table) && x.Kept.Table != side.Kept.Table && sameColumns(x, side) {
			out = append(out, x)
		}
	}
	return out
}

// sameColumns reports whether the rows of both are told by the same columns.
func sameColumns(x, side runner.Side) bool {
	return slices.EqualFunc(x.Kept.Keys, side.Kept.Keys, func(a, b change.KeptColumn) bool { return a.Of.Name == b.Of.Name })
}

// read adds to seen what a change, x, says of the rows after from, up to to, that are kept of another.
func read(ctx context.Context, db engine.DB, x, side runner.Side, w *runner.Work, from, to int64, seen map[int64]*said) error {
	undo := w.Undo
	mine, theirs, values, none := side.Kept.AfterRun(side.Change), x.Kept, x.Kept.Old, x.Made // what it found
	if undo {
		mine, theirs, values, none = side.Kept, x.Kept.AfterRun(x.Change), x.Kept.New, x.Removes() // what it left
	}
	if none {
		values = nil
	}
	q := change.Chained(db.Dialect(), mine, theirs, values, from, to)
	if x.Kept.Table == side.Kept.Table { // the nearest first
		q.Add(map[bool]string{false: " AND m.seq > k.seq ORDER BY m.seq", true: " AND m.seq < k.seq ORDER BY m.seq DESC"}[undo])
	}
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
		s.made = s.made || x.Made
		if undo {
			s.gone = x.Made || s.gone && !x.Removes()
		} else {
			s.gone = x.Removes() || s.gone && !x.Made
		}
	}
	return rows.Err()
}
