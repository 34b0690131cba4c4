package cli

import (
	"context"
	"database/sql"
	"encoding/csv"
	"fmt"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
)

// writeLines writes the lines of a run's list as CSV, in the order of the file: the line of the
// file, its action where it has one of its own, what became of it, its values, and what the row
// had before. NULL is an empty field. See cell for texts that look like formulas.
func writeLines(ctx context.Context, db engine.DB, l *ledger.Ledger, r *ledger.Run, path string) error {
	if r.UndoOf != 0 {
		return usagef("run %d takes another one back and has no list: `jugatum show %d --lines %s`", r.ID, r.UndoOf, path)
	}
	p, err := plan.RestoreLoosely(ctx, db, r)
	if err != nil {
		return err
	}
	work, err := p.Work(ctx, l, r)
	if err != nil {
		return err
	}
	var list *change.List
	var by []change.Settled
	all, done := "", true
	for _, w := range work {
		x := w.Change.Lines
		if x == nil {
			continue
		}
		if list != nil && list != x.List {
			return usagef("run %d has several lists; docs/job-files.md says how to read their tables", r.ID)
		}
		all, done = x.All, done && w.Step.Status == ledger.Done
		list, by = x.List, append(by, change.Settled{Change: w.Change, Kept: w.Kept})
	}
	if list == nil {
		return usagef("run %d has no list", r.ID)
	}
	if !r.Options.Keep {
		return usagef("run %d has kept nothing, so that nobody knows what became of each line", r.ID)
	}
	f, err := create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	head := []string{"line", "action", "outcome"}
	for _, old := range []string{"", "old_"} {
		for _, c := range list.Table.Columns {
			head = append(head, cell(old+c.Name))
		}
	}
	w := csv.NewWriter(f)
	if err := w.Write(head); err != nil {
		return err
	}
	q := change.LinesShown(db.Dialect(), list, by, all, done)
	rows, err := db.Pool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return fmt.Errorf("the lines of %s cannot be read: %w", list.File, err)
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
