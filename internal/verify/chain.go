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
// other, or an act that takes a row's reference away and one that deletes it with rows of a
// later batch. Then the table shows what the last of them left, and of those before it what
// the next one found, which it has kept as its old values. After an undo it is the other way
// round: the table shows what the first one found, and of those after it what the one
// before had left.

// changed is one change of a run with what was kept of it.
type changed struct {
	c    *change.Change
	kept *change.Kept
}

// inOrder lists the changes of a run in the order in which they were made.
func inOrder(work []*runner.Work) (out []changed) {
	for i := range work {
		w := work[i]
		if w.Undo { // which goes through the steps in reverse
			w = work[len(work)-1-i]
		}
		for _, a := range w.Acts {
			out = append(out, changed{a.Change, a.Kept})
		}
		if w.Kept != nil && w.Change.Verb != sqltext.Insert { // a copy leaves its rows as they are
			out = append(out, changed{w.Change, w.Kept})
		}
	}
	return out
}

// chained adds to passed the numbers of those rows found, which are not as recorded in
// the table, that are as the next change of the run found them; in an undo, as the one
// before it left them.
func chained(ctx context.Context, db engine.DB, w *runner.Work, work []*runner.Work, found []ledger.Left, from, to int64, passed map[int64]bool) error {
	if len(found) == 0 {
		return nil
	}
	seen := map[int64]map[string]string{} // by the row's number: what the other change says of each column
	gone := map[int64]bool{}              // rows that a later change has deleted
	for _, x := range neighbours(w, work) {
		if err := x.read(ctx, db, w, from, to, seen, gone); err != nil {
			return err
		}
	}
	for _, x := range found {
		said := seen[x.Seq]
		if said == nil || x.Gone && !gone[x.Seq] {
			continue
		}
		holds := true
		for name, want := range x.Expected {
			got, ok := said[name]
			if !ok {
				got = x.Found[name]
			}
			holds = holds && got == want
		}
		if holds {
			passed[x.Seq] = true
		}
	}
	return nil
}

// neighbours are the changes of the same table after that of w, the next one first; in an
// undo those before it, the last one first.
func neighbours(w *runner.Work, work []*runner.Work) (out []changed) {
	list := inOrder(work)
	if w.Undo {
		slices.Reverse(list)
	}
	at := slices.IndexFunc(list, func(x changed) bool { return x.kept.Table == w.Kept.Table })
	if at < 0 {
		return nil
	}
	for _, x := range list[at+1:] {
		if t := x.c.Table; t.Schema == w.Change.Table.Schema && t.Name == w.Change.Table.Name {
			out = append(out, x)
		}
	}
	return out
}

// read adds what a change says of the rows after from, up to to, that are kept of w.
func (x changed) read(ctx context.Context, db engine.DB, w *runner.Work, from, to int64, seen map[int64]map[string]string, gone map[int64]bool) error {
	mine, theirs, values := w.Kept.AfterRun(w.Change), x.kept, x.kept.Old
	if w.Undo {
		mine, theirs, values = w.Kept, x.kept.AfterRun(x.c), x.kept.New
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
		said := seen[seq]
		if said == nil {
			said = map[string]string{}
			seen[seq] = said
		}
		for i, v := range values {
			if _, ok := said[v.Of.Name]; !ok {
				said[v.Of.Name] = ledger.Shown(texts[i])
			}
		}
		gone[seq] = gone[seq] || x.c.Verb == sqltext.Delete
	}
	return rows.Err()
}
