package ledger

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// What became of a row, where it is not the ordinary thing, is an outcome. All of
// them are in one table, each kind with a detail of its own.
const (
	asideKind   = "set aside"
	skippedKind = "skipped"
)

// outcome is one row of that table.
type outcome struct {
	step        int
	n           int64
	key, detail string
	at, settled time.Time
}

// outcomes reads up to limit of a kind, in their order.
func (l *Ledger) outcomes(ctx context.Context, run int64, kind string, limit int, each func(outcome) error) error {
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT step, n, row_key, detail, at, settled_at FROM @outcome WHERE run = ? AND kind = ? ORDER BY step, n LIMIT ?"), run, kind, limit)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var x outcome
		var at, settled moment
		if err := rows.Scan(&x.step, &x.n, &x.key, &x.detail, &at, &settled); err != nil {
			return err
		}
		x.at, x.settled = at.Time, settled.Time
		if err := each(x); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Aside is a row that could not be changed, recorded while the rest went on.
type Aside struct {
	Step    int                `json:"step"`
	N       int64              `json:"n"`
	Key     change.KeyValue    `json:"-"`
	KeyText string             `json:"key"`
	New     map[string]*string `json:"new,omitempty"` // column to the value that was refused; empty if it could not even be worked out
	Error   string             `json:"error"`
	At      time.Time          `json:"at"`
	Retried bool               `json:"retried"` // changed after all
}

// asideDetail is what the ledger keeps of one.
type asideDetail struct {
	New   map[string]*string `json:"new"`
	Error string             `json:"error"`
}

// SetAside records a row, in the transaction that passes it by.
func (l *Ledger) SetAside(ctx context.Context, tx *engine.Tx, run int64, a *Aside) error {
	detail, err := json.Marshal(asideDetail{a.New, a.Error})
	if err != nil {
		return err
	}
	// As one statement it reads what others have committed, even in a transaction that keeps a snapshot.
	_, err = tx.Exec(ctx, l.sql("INSERT INTO @outcome (run, step, kind, n, row_key, detail, at) SELECT ?, ?, ?, coalesce(max(n), 0) + 1, ?, ?, ? FROM @outcome WHERE run = ? AND step = ? AND kind = ?"),
		run, a.Step, asideKind, a.Key.Encode(), string(detail), stamp(time.Now()), run, a.Step, asideKind)
	return err
}

// Retry records what another try of a row that was set aside brought: "" if it
// was changed.
func (l *Ledger) Retry(ctx context.Context, tx *engine.Tx, run int64, a Aside, fault string) error {
	var at any
	if fault == "" {
		at, fault = stamp(time.Now()), a.Error
	}
	detail, err := json.Marshal(asideDetail{a.New, fault})
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, l.sql("UPDATE @outcome SET settled_at = ?, detail = ? WHERE run = ? AND step = ? AND kind = ? AND n = ?"), at, string(detail), run, a.Step, asideKind, a.N)
	return err
}

// Asides reads up to limit of the rows that a run set aside.
func (l *Ledger) Asides(ctx context.Context, run int64, limit int) ([]Aside, error) {
	out := []Aside{}
	err := l.outcomes(ctx, run, asideKind, limit, func(x outcome) error {
		var d asideDetail
		if err := json.Unmarshal([]byte(x.detail), &d); err != nil {
			return err
		}
		key, err := decodeKey(x.key)
		out = append(out, Aside{Step: x.step, N: x.n, Key: key, KeyText: key.String(), New: d.New, Error: d.Error, At: x.at, Retried: !x.settled.IsZero()})
		return err
	})
	return out, err
}

// AsideCount is how many rows of a run are set aside and not yet changed.
func (l *Ledger) AsideCount(ctx context.Context, run int64) (n int64, err error) {
	err = l.db.Pool().QueryRowContext(ctx, l.read("SELECT count(*) FROM @outcome WHERE run = ? AND kind = ? AND settled_at IS NULL"), run, asideKind).Scan(&n)
	return n, err
}

// Left is a row that an undo skipped because others had changed it since.
type Left struct {
	Step     int               `json:"step"`
	Seq      int64             `json:"seq"`
	Key      string            `json:"key"`
	Expected map[string]string `json:"expected"`
	Found    map[string]string `json:"found,omitempty"`
	Gone     bool              `json:"gone"`
	Table    string            `json:"table,omitempty"` // where it was looked for, if that is not the step's own
}

// skippedDetail is what the ledger keeps of one.
type skippedDetail struct {
	Expected map[string]string `json:"expected"`
	Found    map[string]string `json:"found,omitempty"`
	Table    string            `json:"table,omitempty"`
}

// RefusedBecause stands, among the columns found, for the database's reason where
// it refused to have the old values back.
const RefusedBecause = "(refused)"

// Columns are the columns of which there is something to tell, and RefusedBecause behind them where there is
// a reason.
func (x Left) Columns() []string {
	out := slices.Sorted(maps.Keys(x.Expected))
	if x.Found[RefusedBecause] != "" {
		out = append(out, RefusedBecause)
	}
	return out
}

// RecordSkipped records rows that were skipped, in the batch's transaction.
func (l *Ledger) RecordSkipped(ctx context.Context, tx *engine.Tx, run int64, rows []Left) error {
	now := stamp(time.Now())
	for _, x := range rows {
		d := skippedDetail{Expected: x.Expected, Table: x.Table}
		if !x.Gone {
			d.Found = x.Found
		}
		detail, err := json.Marshal(d)
		if err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, l.sql("INSERT INTO @outcome (run, step, kind, n, row_key, detail, at) VALUES (?, ?, ?, ?, ?, ?, ?)"),
			run, x.Step, skippedKind, x.Seq, x.Key, string(detail), now); err != nil {
			return err
		}
	}
	return nil
}

// Skipped reads up to limit of the rows that a run skipped.
func (l *Ledger) Skipped(ctx context.Context, run int64, limit int) ([]Left, error) {
	var out []Left
	err := l.outcomes(ctx, run, skippedKind, limit, func(x outcome) error {
		var d skippedDetail
		err := json.Unmarshal([]byte(x.detail), &d)
		out = append(out, Left{Step: x.step, Seq: x.n, Key: x.key, Expected: d.Expected, Found: d.Found, Gone: d.Found == nil, Table: d.Table})
		return err
	})
	return out, err
}
