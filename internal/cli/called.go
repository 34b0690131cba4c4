package cli

import (
	"context"
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
	return x.writeRows(ctx, db, path, head, change.CallsShown(db.Dialect(), x.List), func(row []string) {
		if fault, aside := why[row[0]]; aside {
			row[1], row[4] = string(change.Refused), cell(fault)
		} else if row[1] == string(change.Begun) {
			row[1] = "not known"
		}
	})
}
