package ledger

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"strings"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
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
	Turns  []Turn   `json:"turns,omitempty"` // the later ones of a list that is carried out in the order of the file
}

// Turn are those lines of a list before which as many with the same key come. They are in a table
// of their own; the others are in that of the list.
type Turn struct {
	Table   string   `json:"table"`
	Lines   int64    `json:"lines"`
	Actions []string `json:"actions,omitempty"` // that its lines have, where they have their own
}

// NewListName makes up a name for a table of lines.
func NewListName() string {
	token := make([]byte, 8)
	rand.Read(token)
	return "list_" + hex.EncodeToString(token)
}

// Calls is the table that says what became of its lines, where a statement is called for each.
func (x *List) Calls() string { return "calls_" + strings.TrimPrefix(x.Table, "list_") }

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
	tables := []string{x.Table}
	for _, t := range x.Turns {
		tables = append(tables, t.Table)
	}
	for _, t := range tables {
		if !listName.MatchString(t) {
			return nil, fmt.Errorf("the record names %q for the lines of step %d, which is no name that it would have given", t, step+1)
		}
	}
	return x, nil
}

// Lines counts the lines of a list by their action, "" where all have the same, and by what is
// written to them of what became of them, "" where that is nothing.
func (l *Ledger) Lines(ctx context.Context, x *change.List) (map[string]map[change.Outcome]int64, error) {
	d := l.db.Dialect()
	out := map[string]map[change.Outcome]int64{}
	q := &change.Query{D: d}
	q.Add("SELECT coalesce(", d.Quote(change.ListAction), ", ''), coalesce(", d.Quote(change.ListOutcome), ", ''), count(*) FROM ", x.SQL, " GROUP BY 1, 2")
	err := l.counts(ctx, q, 2, func(words []string, n int64) {
		if out[words[0]] == nil {
			out[words[0]] = map[change.Outcome]int64{}
		}
		out[words[0]][change.Outcome(words[1])] = n
	})
	return out, err
}

// KeptLines counts the lines of which a change has kept rows, by their action.
func (l *Ledger) KeptLines(ctx context.Context, c *change.Change, kept *change.Kept) (map[string]int64, error) {
	out := map[string]int64{}
	err := l.counts(ctx, change.KeptLines(c, kept), 1, func(words []string, n int64) { out[words[0]] = n })
	return out, err
}

// Called counts the lines for which a statement was to be called, by what became of them.
func (l *Ledger) Called(ctx context.Context, x *change.List) (map[change.Outcome]int64, error) {
	out := map[change.Outcome]int64{}
	q := &change.Query{D: l.db.Dialect()}
	q.Add("SELECT ", change.CallOutcome, ", count(*) FROM ", x.Calls, " GROUP BY 1")
	err := l.counts(ctx, q, 1, func(words []string, n int64) { out[change.Outcome(words[0])] = n })
	return out, err
}

// counts reads rows of so many words and a number.
func (l *Ledger) counts(ctx context.Context, q *change.Query, words int, each func(words []string, n int64)) error {
	rows, err := l.db.Pool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		texts, into := make([]string, words), make([]any, words, words+1)
		for i := range texts {
			into[i] = &texts[i]
		}
		var n int64
		if err := rows.Scan(append(into, &n)...); err != nil {
			return err
		}
		each(texts, n)
	}
	return rows.Err()
}

// linesKind are how many lines of a list have come to what. Its step is that of the last of the
// changes that carry out the list.
const linesKind = "lines"

// SetOutcomes records how many lines of a list have come to what, once more in the place of before.
func (l *Ledger) SetOutcomes(ctx context.Context, tx *engine.Tx, run int64, step int, counts map[change.Outcome]int64) error {
	detail, err := json.Marshal(counts)
	if err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, l.sql("DELETE FROM @outcome WHERE run = ? AND step = ? AND kind = ?"), run, step, linesKind); err != nil {
		return err
	}
	_, err = tx.Exec(ctx, l.sql("INSERT INTO @outcome (run, step, kind, n, row_key, detail, at) VALUES (?, ?, ?, 1, '', ?, ?)"), run, step, linesKind, string(detail), stamp(time.Now()))
	return err
}

// Outcomes reads how many lines of the lists of a run have come to what, by the number of the
// last step that carries them out.
func (l *Ledger) Outcomes(ctx context.Context, run int64) (map[int]map[string]int64, error) {
	out := map[int]map[string]int64{}
	err := l.outcomes(ctx, run, linesKind, math.MaxInt32, func(x outcome) error {
		counts := map[string]int64{}
		out[x.step] = counts
		return json.Unmarshal([]byte(x.detail), &counts)
	})
	return out, err
}
