package cli

import (
	"context"
	"database/sql"
	"encoding/csv"
	"fmt"
	"math"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
)

// writeCalls writes the lines for which a statement was called, in the order of the file: the line
// of the file, what became of it, rows affected and what came back where the server tells, the
// error, and the values of the line. NULL is an empty field. See cell for texts that look like
// formulas.
func (x *doneList) writeCalls(ctx context.Context, db engine.DB, l *ledger.Ledger, r *ledger.Run, path string) error {
	f, err := create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	asides, err := l.Asides(ctx, r.ID, math.MaxInt32)
	if err != nil {
		return err
	}
	why := map[string]string{}
	for _, a := range asides {
		if a.Step == x.step && !a.Retried {
			why[a.Key.String()] = a.Error
		}
	}
	head := []string{"line", "outcome", "affected", "returned", "error"}
	for _, name := range x.Extra {
		head = append(head, cell(name))
	}
	w := csv.NewWriter(f)
	if err := w.Write(head); err != nil {
		return err
	}
	q := change.CallsShown(db.Dialect(), x.List, x.Calls)
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
		if fault, aside := why[values[0].String]; aside {
			row[1], row[4] = string(change.Refused), cell(fault)
		} else if row[1] == string(change.Begun) {
			row[1] = "not known"
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
