package engine

import (
	"context"
	"fmt"
	"strings"

	"jugatum/internal/change"
)

// gatheredAtOnce is how many rows come into a table of ours in one transaction where others wait for it.
const gatheredAtOnce = 10_000

// Gathering is what a statement finds, which goes into a table of ours.
type Gathering struct {
	Into    string                                              // that table, as SQL text
	Columns string                                              // all of them, the number, seq, among them
	Beside  string                                              // what a table of the session may be called meanwhile
	Make    []string                                            // what would make it, were it to stay
	Find    func(into string) *change.Query                     // the statement, for one of the two; it numbers from 1
	Within  func(ctx context.Context, do func(*Tx) error) error // does something in a transaction of the session
}

// Gather carries it out, and tells how many rows there are. Where one session writes at a time, what is found
// goes into a table of the session first, which keeps nobody waiting however long that takes, and from
// there in stretches, after each of which others have their turn.
func (g *Gathering) Gather(ctx context.Context, db DB, s *Session) (n int64, err error) {
	find := func(into string) (err error) {
		q := g.Find(into)
		n, err = s.run(ctx, q.String(), q.Args)
		return err
	}
	if !s.Locks {
		err = g.Within(ctx, func(*Tx) error { return find(g.Into) })
		return n, err
	}
	if err := MakeTemporary(ctx, db, s, g.Make); err != nil {
		return 0, err
	}
	defer s.Quietly(context.WithoutCancel(ctx), "DROP TABLE "+g.Beside) // it ends with the session in any case
	if err := find(g.Beside); err != nil {
		return 0, err
	}
	for from := int64(0); from < n; from += gatheredAtOnce {
		var carried *Tx
		err := g.Within(ctx, func(tx *Tx) error {
			carried = tx
			_, err := tx.Exec(ctx, "INSERT INTO "+g.Into+" ("+g.Columns+") SELECT "+g.Columns+" FROM "+g.Beside+" WHERE seq > ? AND seq <= ?", from, from+gatheredAtOnce)
			return err
		})
		if y, ok := db.(Yielder); ok && err == nil {
			err = y.Yield(ctx, s, carried.Hold)
		}
		if err != nil {
			return 0, err
		}
	}
	return n, nil
}

// MakeTemporary makes a table of the session by the statements that would make one for good.
func MakeTemporary(ctx context.Context, db DB, s *Session, texts []string) error {
	for _, text := range asTemporary(db, texts) {
		if _, err := s.Quietly(ctx, text); err != nil {
			return fmt.Errorf("making a temporary table: %w", err)
		}
	}
	return nil
}

// asTemporary gives what makes a table of the session in the place of one for good.
func asTemporary(db DB, texts []string) []string {
	_, create := db.Dialect().Temporary("")
	out := make([]string, len(texts))
	for i, text := range texts {
		out[i] = strings.Replace(text, "CREATE TABLE ", create, 1)
	}
	return out
}

// Quietly carries out a statement that writes to tables of the session alone, and tells how many rows.
// Where one session writes at a time, that must not be in a transaction of ours, which would take its
// turn for nothing.
func (s *Session) Quietly(ctx context.Context, query string, args ...any) (n int64, err error) {
	if s.Locks {
		return s.run(ctx, query, args)
	}
	_, err = s.InTx(ctx, func(*Tx) (err error) {
		n, err = s.run(ctx, query, args)
		return err
	})
	return n, err
}

func (s *Session) run(ctx context.Context, query string, args []any) (int64, error) {
	res, err := s.Conn.ExecContext(ctx, query, args...)
	if err != nil {
		return 0, err
	}
	return res.RowsAffected()
}
