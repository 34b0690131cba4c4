package cli

import (
	"context"
	"database/sql"
	"encoding/csv"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
	"jugatum/internal/runner"
)

// doneList is a list of a run with its turns and the changes that carry them out.
type doneList struct {
	*change.Lines     // of the first turn
	of            int // the job's step
	turns         []change.Carried
	step          int // the number of the last step that carries it out
}

// add takes down one of the changes.
func (x *doneList) add(w *runner.Work) {
	if n := len(x.turns); n == 0 || x.turns[n-1].List != w.Change.Lines.List {
		x.turns = append(x.turns, change.Carried{Lines: w.Change.Lines, Done: true})
	}
	last := &x.turns[len(x.turns)-1]
	last.By, last.Done = append(last.By, change.Settled{Change: w.Change, Kept: w.Kept}), last.Done && w.Step.Status == ledger.Done
	x.step = w.Step.N
}

// writeLines writes the lines of a run's lists as CSV, each list into a file: the first into the
// one that is named, each further one into one with its number before the end of that name.
func writeLines(ctx context.Context, db engine.DB, l *ledger.Ledger, r *ledger.Run, path string) error {
	if r.Pruned != nil {
		return refusef("run %d %s, and its lines with them; `jugatum show %d` has the numbers", r.ID, r.Lost(), r.ID)
	}
	if r.UndoOf != 0 {
		return usagef("run %d takes another one back and has no list: `jugatum show %d --lines %s`", r.ID, r.UndoOf, path)
	}
	_, work, err := plan.Prepare(ctx, db, l, r)
	if err != nil {
		return err
	}
	var lists []*doneList
	for _, w := range work {
		x := w.Change.Lines
		if x == nil {
			continue
		}
		if n := len(lists); n == 0 || lists[n-1].of != w.Change.Of {
			lists = append(lists, &doneList{Lines: x, of: w.Change.Of})
		}
		lists[len(lists)-1].add(w)
	}
	if len(lists) == 0 {
		return usagef("run %d has no list", r.ID)
	}
	if !r.Options.Keep && slices.ContainsFunc(lists, func(x *doneList) bool { return x.Calls == "" }) {
		return usagef("run %d has kept nothing (--keep none), so that nobody knows what became of each line; `jugatum show %d` has the numbers", r.ID, r.ID)
	}
	for i, x := range lists {
		to := path
		if end := filepath.Ext(path); i > 0 {
			to = fmt.Sprintf("%s-%d%s", strings.TrimSuffix(path, end), i+1, end)
		}
		write := x.write
		if x.Calls != "" {
			write = func(ctx context.Context, db engine.DB, path string) error { return x.writeCalls(ctx, db, l, r, path) }
		}
		if err := write(ctx, db, to); err != nil {
			return err
		}
	}
	return nil
}

// write writes the lines in the order of the file: the line of the file, its action where it has
// one of its own, what became of it, its values, and what the row had before. NULL is an empty
// field. See cell for texts that look like formulas.
func (x *doneList) write(ctx context.Context, db engine.DB, path string) error {
	head := []string{"line", "action", "outcome"}
	for _, old := range []string{"", "old_"} {
		for _, c := range x.Table.Columns {
			head = append(head, cell(old+c.Name))
		}
	}
	return x.writeRows(ctx, db, path, head, change.LinesShown(db.Dialect(), x.turns), nil)
}

// writeRows writes the rows of a query, of as many columns as head has, into a new file; amend, which
// may be nil, changes a row before it is written.
func (x *doneList) writeRows(ctx context.Context, db engine.DB, path string, head []string, q *change.Query, amend func(row []string)) error {
	f, err := create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	w := csv.NewWriter(f)
	if err := w.Write(head); err != nil {
		return err
	}
	rows, err := db.Pool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return fmt.Errorf("the lines of %s cannot be read: %w", x.File, err)
	}
	defer rows.Close()
	values, into := make([]sql.NullString, len(head)), make([]any, len(head))
	for i := range values {
		into[i] = &values[i]
	}
	row := make([]string, len(head))
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for i, v := range values {
			row[i] = cell(v.String)
		}
		if amend != nil {
			amend(row)
		}
		if err := w.Write(row); err != nil {
			return err
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	w.Flush()
	if err := w.Error(); err != nil {
		return err
	}
	return f.Close()
}
