package trial

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Commit is what the end of a transaction costs, which a transaction that is rolled back does not
// tell: measured with transactions of our own, over a table that nobody else knows.
type Commit struct {
	Each time.Duration // of one that writes little: our own record of a batch, and the commit
	Byte float64       // nanoseconds for each byte of log besides
}

// Transactions by which a commit is measured.
const (
	commits   = 9
	largeText = 1 << 20 // bytes
)

// scratch is the table by which commits are measured.
const scratch = "trial_commit"

// recordBytes is about what our own record of a batch takes.
const recordBytes = 300

// recordTable makes that table.
func recordTable(db engine.DB) []string {
	types := db.Dialect().Types()
	id := &change.Column{Name: "id", Type: types.Int, NotNull: true}
	t := &change.Table{Key: &change.Key{Name: "primary key", Columns: []*change.Column{id}}, Columns: []*change.Column{id, {Name: "v", Type: types.Text}}}
	t.Schema, t.Name = named(db, db.LedgerTable(scratch))
	return db.NewTable(t)
}

// measureCommit measures it. The table is dropped again; one that a kill has left is dropped first.
func measureCommit(ctx context.Context, db engine.DB, s *engine.Session) (c Commit, err error) {
	at := db.LedgerTable(scratch)
	if err := apart(ctx, s, append([]string{"DROP TABLE IF EXISTS " + at}, recordTable(db)...)); err != nil {
		return c, fmt.Errorf("making a table by which commits are measured: %w", err)
	}
	defer apart(context.WithoutCancel(ctx), s, []string{"DROP TABLE " + at})
	noise := make([]byte, largeText/2)
	rand.Read(noise) // which nothing can pack
	texts := map[bool]string{false: strings.Repeat("x", recordBytes), true: hex.EncodeToString(noise)}
	times := map[bool][]time.Duration{}
	for n := range 2 * commits {
		large := n%2 == 1
		tx, err := s.Start(ctx)
		if err != nil {
			return c, err
		}
		begun := time.Now()
		if _, err := tx.Exec(ctx, "INSERT INTO "+at+" (id, v) VALUES (?, ?)", n, texts[large]); err != nil {
			tx.Rollback()
			return c, err
		}
		inserted := time.Now()
		if err := engine.CommitAndYield(ctx, db, tx); err != nil {
			return c, err
		}
		took := time.Since(inserted)
		if !large {
			took = time.Since(begun) // the record of a batch is such a row
		}
		times[large] = append(times[large], took)
	}
	median := func(list []time.Duration) time.Duration { slices.Sort(list); return list[len(list)/2] }
	small, big := median(times[false]), median(times[true])
	return Commit{Each: small, Byte: max(float64(big-small), 0) / largeText}, nil
}

// named parts the SQL text of a table of the ledger's into schema and name.
func named(db engine.DB, text string) (schema, name string) {
	parts := strings.Split(text, ".")
	unquote := func(s string) string { return strings.Trim(s, "\"`") }
	if len(parts) > 1 {
		schema = unquote(parts[0])
	}
	return schema, unquote(parts[len(parts)-1])
}

// apart carries out statements in a transaction of their own.
func apart(ctx context.Context, s *engine.Session, texts []string) error {
	_, err := s.InTx(ctx, func(tx *engine.Tx) error {
		for _, text := range texts {
			if _, err := tx.Exec(ctx, text); err != nil {
				return err
			}
		}
		return nil
	})
	return err
}
