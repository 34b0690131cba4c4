package ledger

import (
	"context"
	"encoding/json"
	"math"
	"time"

	"jugatum/internal/engine"
)

// verifiedKind are the verifications of a run, each with a number; their step is 0.
const verifiedKind = "verified"

// Verified is what a verification of a run found.
type Verified struct {
	At         time.Time      `json:"at"`
	Who        string         `json:"who"`
	Host       string         `json:"host"`
	Holds      bool           `json:"holds"`
	Compared   int64          `json:"compared"`   // rows held against the table
	Mismatched int64          `json:"mismatched"` // of these
	Checks     []CheckOutcome `json:"checks,omitempty"`
	Seal       string         `json:"seal,omitempty"` // of what SignedVerified gives, by the user who verified
}

// SignedVerified is what the seal of a verification covers.
func (l *Ledger) SignedVerified(run int64, v Verified) ([]byte, error) {
	v.Seal = ""
	return json.Marshal(struct {
		What     string
		Database string
		Run      int64
		Verified Verified
	}{"verified", l.Database(), run, v})
}

// CheckOutcome is what one of the job's own checks gave.
type CheckOutcome struct {
	SQL  string `json:"sql"`
	Want string `json:"want"`
	Got  string `json:"got"`
	OK   bool   `json:"ok"`
}

// RecordVerified records a verification of a run that just ended. sealer gives its seal; it may be nil.
func (l *Ledger) RecordVerified(ctx context.Context, s *engine.Session, run int64, v Verified, sealer func(record []byte) string) error {
	v.Who, v.At = OSUser(), time.Now().UTC()
	v.Host, _, _ = holder()
	if sealer != nil {
		text, err := l.SignedVerified(run, v)
		if err != nil {
			return err
		}
		v.Seal = sealer(text)
	}
	detail, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return l.inTx(ctx, s, func(tx *engine.Tx) error {
		_, err := tx.Exec(ctx, l.sql("INSERT INTO @outcome (run, step, kind, n, row_key, detail, at) SELECT ?, 0, ?, coalesce(max(n), 0) + 1, '', ?, ? FROM @outcome WHERE run = ? AND step = 0 AND kind = ?"),
			run, verifiedKind, string(detail), stamp(v.At), run, verifiedKind)
		return err
	})
}

// LastVerified reads the last verification of a run, nil if there is none.
func (l *Ledger) LastVerified(ctx context.Context, run int64) (*Verified, error) {
	var last *Verified
	err := l.outcomes(ctx, run, verifiedKind, math.MaxInt32, func(x outcome) error {
		last = &Verified{}
		return json.Unmarshal([]byte(x.detail), last)
	})
	return last, err
}
