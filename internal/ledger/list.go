package ledger

import (
	"context"
	"encoding/json"
	"fmt"
	"regexp"
	"strings"

	"jugatum/internal/change"
)

// List is what is recorded of a list that a step of a run carries out: a parameter of the run.
// Its lines are in a table of their own, as long as the run is on record.
type List struct {
	File   string   `json:"file"` // its name, without folders
	SHA256 string   `json:"sha256"`
	Bytes  int64    `json:"bytes"`
	Lines  int64    `json:"lines"`
	Table  string   `json:"table"` // in the ledger's place
	Key    []string `json:"key"`
	Others []string `json:"columns"`
	Extra  []string `json:"extra,omitempty"`
}

const listParam = "list of step "

// ListParam names the parameter for the list of a step of the job, counted from 0. No job can
// declare it.
func ListParam(step int) string { return fmt.Sprintf("%s%d", listParam, step+1) }

// IsListParam reports whether a parameter is what is recorded of a list.
func IsListParam(name string) bool { return strings.HasPrefix(name, listParam) }

// ListName is the form of the names of their tables.
var listName = regexp.MustCompile(`^list_[0-9a-f]{16}$`)

// ListOf reads what is recorded of the list of a job's step, counted from 0; nil if it has none.
func ListOf(params map[string]change.Value, step int) (*List, error) {
	v, ok := params[ListParam(step)]
	if !ok {
		return nil, nil
	}
	x := &List{}
	if err := json.Unmarshal([]byte(v.Text), x); err != nil {
		return nil, fmt.Errorf("what is recorded of the list of step %d cannot be read: %w", step+1, err)
	}
	if !listName.MatchString(x.Table) {
		return nil, fmt.Errorf("the record names %q for the lines of step %d, which is no name that it would have given", x.Table, step+1)
	}
	return x, nil
}

// Outcomes counts the lines of a list by what became of them; "" is not settled, or not known.
func (l *Ledger) Outcomes(ctx context.Context, x *List) (map[change.Outcome]int64, error) {
	d := l.db.Dialect()
	rows, err := l.db.Pool().QueryContext(ctx, "SELECT coalesce("+d.Quote(change.ListOutcome)+", ''), count(*) FROM "+l.db.LedgerTable(x.Table)+" GROUP BY 1")
	if err != nil {
		return nil, fmt.Errorf("the lines of %s cannot be read: %w", x.File, err)
	}
	defer rows.Close()
	out := map[change.Outcome]int64{}
	for rows.Next() {
		var outcome string
		var n int64
		if err := rows.Scan(&outcome, &n); err != nil {
			return nil, err
		}
		out[change.Outcome(outcome)] = n
	}
	return out, rows.Err()
}
