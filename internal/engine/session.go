package engine

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"strconv"
	"strings"
	"time"
)

// Session is one connection that changes rows.
type Session struct {
	Conn      *sql.Conn
	ID        int64     // the server's number for the session, 0 where it has none
	Begin     string    // statement that begins a transaction
	Locks     bool      // it takes the write lock, and waits for it
	Numbered  bool      // placeholders are $1, $2, … instead of ?
	State     any       // the engine's own
	Started   func(*Tx) // after the transaction began
	Ending    func(*Tx) // before it commits
	Ended     func(*Tx) // after it committed
	LockFirst int       // batches to go that lock rows before they read them; see Batch

	made     map[string]bool      // temporary tables of ours that are there, by name; see emptied
	prepared map[string]*sql.Stmt // see Prepared

	// Durable makes the next commit, and with it all that went before, wait
	// until it is safe on disk. Until then a crash of the server may take the
	// last batches back, as if they had not been: rows, kept values and
	// checkpoint together, so that a resumed run does them again.
	Durable func(ctx context.Context) error

	// FlushCommit makes the commit of one transaction wait likewise; nil where it
	// does so anyway, or where a crash of the database is one of ours as well.
	FlushCommit func(ctx context.Context, tx *Tx) error
}

// Close ends the connection itself rather than giving it back for other uses:
// its settings, and a lock that lives as long as the session, must not linger.
func (s *Session) Close() error {
	s.Conn.Raw(func(any) error { return driver.ErrBadConn })
	return s.Conn.Close()
}

// MostPrepared is how many statements a session has prepared: the forms of one that is called for
// lines differ by which of its values are NULL, or how long they are.
const MostPrepared = 64

// Prepared gives a statement that the session has prepared, so that only its values are sent each
// time; beyond so many, release ends the one that was made for this time.
func (s *Session) Prepared(ctx context.Context, text string) (st *sql.Stmt, release func(), err error) {
	if st, ok := s.prepared[text]; ok {
		return st, func() {}, nil
	}
	if st, err = s.Conn.PrepareContext(ctx, text); err != nil {
		return nil, nil, err
	}
	if len(s.prepared) == MostPrepared {
		return st, func() { st.Close() }, nil
	}
	if s.prepared == nil {
		s.prepared = map[string]*sql.Stmt{}
	}
	s.prepared[text] = st
	return st, func() {}, nil
}

// Tx is one transaction. It must be ended by Commit or Rollback, and is used
// from one goroutine.
type Tx struct {
	S     *Session
	began time.Time
	Wait  time.Duration // for the write lock, before the transaction held anything
	Hold  time.Duration // set by Commit: from the first statement, or the beginning of its turn, to the end of the commit
	Ends  time.Duration // set by Commit: the part of Hold that the commit took
	Log   Log           // set by Commit where the engine tells the log only then
	State any           // the engine's own
	done  bool

	// Foreseen is how many rows the batch will keep, where Foresee has found that
	// out; else -1.
	Foreseen int64
	outlook  *Outlook // what was read of its range before its turn
	// Weighs asks for what the statements write to temporary files, in bytes: Temporary has that, or -1
	// where the engine cannot tell.
	Weighs    bool
	Temporary int64
	made      []string // temporary tables, there for good once it commits
}

// Start begins a transaction. On SQLite that takes the write lock.
func (s *Session) Start(ctx context.Context) (*Tx, error) {
	t0 := time.Now()
	if _, err := s.Conn.ExecContext(ctx, s.Begin); err != nil {
		return nil, err
	}
	tx := &Tx{S: s, began: time.Now(), Log: NoLog, Foreseen: -1}
	if s.Locks { // else it was only a round trip
		tx.Wait = tx.began.Sub(t0)
	}
	if s.Started != nil {
		s.Started(tx)
	}
	return tx, nil
}

// InTx does something in a transaction of its own, which is rolled back if do fails. hold is how long
// it held its locks.
func (s *Session) InTx(ctx context.Context, do func(tx *Tx) error) (hold time.Duration, err error) {
	tx, err := s.Start(ctx)
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	if err := do(tx); err != nil {
		return 0, err
	}
	err = tx.Commit(ctx)
	return tx.Hold, err
}

// begin has the hold begin now.
func (t *Tx) begin() { t.began = time.Now() }

// Exec carries out one statement, whose placeholders are ?, and gives the rows affected.
func (t *Tx) Exec(ctx context.Context, query string, args ...any) (int64, error) {
	r, err := t.S.Conn.ExecContext(ctx, t.S.Bind(query), args...)
	if err != nil {
		return 0, err
	}
	return r.RowsAffected()
}

// Query asks within the transaction; placeholders are ?.
func (t *Tx) Query(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	return t.S.Conn.QueryContext(ctx, t.S.Bind(query), args...)
}

// Scan reads the one row that a query gives.
func (t *Tx) Scan(ctx context.Context, query string, args []any, into ...any) error {
	return t.S.Conn.QueryRowContext(ctx, t.S.Bind(query), args...).Scan(into...)
}

// Commit ends the transaction. After an error it is rolled back if it still can be.
func (t *Tx) Commit(ctx context.Context) error {
	if t.S.Ending != nil {
		t.S.Ending(t)
	}
	work := time.Since(t.began)
	_, err := t.S.Conn.ExecContext(ctx, "COMMIT")
	t.Hold = time.Since(t.began)
	t.Ends = t.Hold - work
	if err != nil {
		t.Rollback()
		return err
	}
	t.done = true
	for _, name := range t.made {
		if t.S.made == nil {
			t.S.made = map[string]bool{}
		}
		t.S.made[name] = true
	}
	if t.S.Ended != nil {
		t.S.Ended(t)
	}
	return nil
}

// Rollback ends the transaction without effect; after Commit it does nothing.
// It works also when the caller's context has ended.
func (t *Tx) Rollback() {
	if t.done {
		return
	}
	t.done = true
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	do := func(text string) error {
		_, err := t.S.Conn.ExecContext(ctx, text)
		return err
	}
	if do("ROLLBACK") == nil {
		return
	}
	// Perhaps there was none any more, which a trigger can bring about: then another can begin.
	if do(t.S.Begin) == nil && do("ROLLBACK") == nil {
		return
	}
	// A connection whose state is unknown must not be used again.
	t.S.Conn.Raw(func(any) error { return driver.ErrBadConn })
}

// Bind writes ? placeholders the way the server wants them. The texts are
// Jugatum's own and hold no question mark in a string.
func (s *Session) Bind(query string) string {
	if !s.Numbered {
		return query
	}
	return Numbered(query)
}

// Numbered turns ? into $1, $2, …, but for those in names and texts.
func Numbered(query string) string {
	var b strings.Builder
	n, quote := 0, rune(0)
	for _, r := range query {
		switch {
		case r == quote: // a doubled one begins the next part at once
			quote = 0
		case quote == 0 && (r == '\'' || r == '"'):
			quote = r
		case quote == 0 && r == '?':
			n++
			b.WriteString("$" + strconv.Itoa(n))
			continue
		}
		b.WriteRune(r)
	}
	return b.String()
}
