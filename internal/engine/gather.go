package engine

import (
	"context"
	"fmt"
	"strings"
	"time"

	"jugatum/internal/change"
)

// Rows come into a table of ours in stretches where others wait for each: so many at first, and then as
// many as keep them waiting for about so long.
const (
	firstStretch  = 10_000
	stretchTarget = 100 * time.Millisecond
)

// NextStretch is how many rows are written at once after as many have kept others waiting for hold; 0: none
// were written yet.
func NextStretch(rows int64, hold time.Duration) int64 {
	switch {
	case rows == 0:
		return firstStretch
	case hold > stretchTarget:
		return max(int64(float64(rows)*float64(stretchTarget)/float64(hold)), 1)
	case hold < stretchTarget/2:
		return min(2*rows, firstStretch)
	}
	return rows
}

// Within does something in a transaction of the session.
type Within func(ctx context.Context, do func(*Tx) error) error

// Gathering is what a statement finds, which goes into a table of ours.
type Gathering struct {
	Into    string                          // that table, as SQL text
	Columns string                          // all of them, the number, seq, among them
	Beside  string                          // what a table of the session may be called meanwhile
	Make    []string                        // what would make it, were it to stay
	Find    func(into string) *change.Query // the statement, for one of the two; it numbers from 1
	Within  Within
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
	err = carryOver(ctx, db, s, g.Within, n, "INSERT INTO "+g.Into+" ("+g.Columns+") SELECT "+g.Columns+" FROM "+g.Beside+" WHERE seq > ? AND seq <= ?")
	return n, err
}

// carryOver carries out a statement for the numbers up to n, by stretches: after the first, up to the second.
func carryOver(ctx context.Context, db DB, s *Session, within Within, n int64, query string) error {
	from, rows := int64(0), NextStretch(0, 0)
	for from < n {
		var carried *Tx
		err := within(ctx, func(tx *Tx) error {
			carried = tx
			_, err := tx.Exec(ctx, query, from, from+rows)
			return err
		})
		if y, ok := db.(Yielder); ok && err == nil {
			err = y.Yield(ctx, s, carried.Hold)
		}
		if err != nil {
			return err
		}
		from, rows = from+rows, NextStretch(rows, carried.Hold)
	}
	return nil
}

// StageBeside makes the table of a Staging, in transactions of within. Where one session writes at a time, the
// query is asked beside them, as Gather asks its own; beside is what the table is called meanwhile.
func StageBeside(ctx context.Context, db DB, s *Session, x Staging, beside string, within Within) error {
	if !s.Locks {
		return within(ctx, func(tx *Tx) error { return db.Stage(ctx, tx, x) })
	}
	if _, err := s.Quietly(ctx, "DROP TABLE IF EXISTS "+beside); err != nil { // of an earlier try
		return err
	}
	if err := StageTemporary(ctx, db, s, Staging{Table: beside, Query: x.Query}); err != nil {
		return err
	}
	defer s.Quietly(context.WithoutCancel(ctx), "DROP TABLE "+beside) // it ends with the session in any case
	var n int64
	if err := s.Conn.QueryRowContext(ctx, "SELECT count(*) FROM "+beside).Scan(&n); err != nil {
		return err
	}
	empty := x
	empty.Query = &change.Query{D: db.Dialect()}
	empty.Query.Add("SELECT * FROM ", beside, " WHERE 1 = 0")
	if err := within(ctx, func(tx *Tx) error { return db.Stage(ctx, tx, empty) }); err != nil {
		return err
	}
	return carryOver(ctx, db, s, within, n, "INSERT INTO "+x.Table+" SELECT * FROM "+beside+" WHERE rowid > ? AND rowid <= ?")
}

// StageTemporary makes the table of a Staging as one of the session, unless that is there already, where one
// session writes at a time.
func StageTemporary(ctx context.Context, db DB, s *Session, x Staging) error {
	_, create := db.Dialect().Temporary("")
	if _, err := s.Quietly(ctx, create+x.Table+" AS "+x.Query.String(), x.Query.Args...); err != nil || len(x.Index) == 0 {
		return err
	}
	schema, table, _ := strings.Cut(x.Table, ".")
	_, err := s.Quietly(ctx, "CREATE INDEX IF NOT EXISTS "+schema+"."+table+"_by_match ON "+table+" ("+strings.Join(x.Index, ", ")+")")
	return err
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
