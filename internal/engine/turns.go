package engine

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"jugatum/internal/change"
)

// How batches follow one another, and what is known of rows that others write.

// ManyWriters is met by engines where several sessions can change different rows
// of a table at the same time.
type ManyWriters interface{ ManyWriters() bool }

// Yielder is met by engines where others get their turn only if we leave one.
type Yielder interface {
	// Yield is called between batches, outside any transaction. It may do
	// housekeeping that should not lengthen a hold.
	Yield(ctx context.Context, s *Session, lastHold time.Duration) error
}

// CommitAndYield commits a transaction and, where others get their turn only so, leaves them one.
func CommitAndYield(ctx context.Context, db DB, tx *Tx) error {
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	if y, ok := db.(Yielder); ok { // which copies the log back
		return y.Yield(ctx, tx.S, tx.Hold)
	}
	return nil
}

// CommitOverlapper is met by engines where a commit waits for a disk and other
// transactions can go on meanwhile.
type CommitOverlapper interface {
	// OverlapsCommit reports whether a batch of the change may begin while the one
	// before it, over other rows, commits on another session.
	OverlapsCommit(c *change.Change) bool
}

// Foreseer is met by engines that can do the reading of a batch before its turn,
// beside the batch before it.
type Foreseer interface {
	// Foresees reports whether the change is known by now to be fit for that, and
	// it would pay.
	Foresees(c *change.Change, kept *change.Kept) bool

	// Foresee begins on s the transaction of the batch over r and reads there,
	// without locks, what the batch will change; Batch, given the same transaction
	// and range, goes on from there, and fails if another session has changed those
	// rows since. If base is not -1, it keeps their values already, numbered from
	// base+1 on. If the new values are computed by us, it only begins. It gives no
	// transaction if it cannot after all. It may be called while another session of
	// ours carries out a batch.
	Foresee(ctx context.Context, s *Session, c *change.Change, kept *change.Kept, r change.Range, base int64) (*Tx, error)

	// ForeseeRows does for rows whose new values we have computed what of
	// RowWriter's WriteRows can be done before its turn.
	ForeseeRows(ctx context.Context, tx *Tx, c *change.Change, kept *change.Kept, after change.KeyValue, rows []Rewritten, base int64) error
}

// Marker is met by engines with one writer at a time, which can tell whether any
// session but this one has changed the database.
type Marker interface {
	// Mark gives the same number in two transactions of a session if no other has
	// changed anything between the beginning of the first and that of the second.
	Mark(ctx context.Context, tx *Tx) (int64, error)
}

// Witness is met by engines whose rows tell when they were last written.
type Witness interface {
	// Moment names the present.
	Moment(ctx context.Context, tx *Tx) (string, error)

	// Untouched appends " AND …": that nobody has written the row since a moment.
	Untouched(q *change.Query, alias, moment string)
}

// RowNumberer is met by engines where a row without a key is told by a number that the
// server may change (Key.Hidden).
type RowNumberer interface {
	// MarkNumbers makes a table of ours by which NumbersHold tells later whether the rows
	// of t still have the numbers that they have now.
	MarkNumbers(ctx context.Context, tx *Tx, mark string, t *change.Table) error
	NumbersHold(ctx context.Context, q Querier, mark string, t *change.Table) (bool, error)
}

// Querier is a pool or a connection.
type Querier interface {
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

// RenumberedError is that rows which are told by their numbers have others now.
type RenumberedError struct{ Table string }

func (e *RenumberedError) Error() string {
	return fmt.Sprintf("the rows of %s have been given other numbers since the run began, by VACUUM or because the table was made anew, and it has no key by which they could be told: the run can neither go on nor be verified or undone. What it kept stays in the ledger (jugatum_kept_RUN_STEP), from which rows can be put right by hand; `run --again` does the job anew, for every row that matches now", e.Table)
}

// NumbersHold asks a database for that; where there is no mark they do. It gives a
// *RenumberedError if they do not.
func NumbersHold(ctx context.Context, db DB, q Querier, mark string, t *change.Table) error {
	n, ok := db.(RowNumberer)
	if mark == "" || !ok {
		return nil
	}
	holds, err := n.NumbersHold(ctx, q, mark, t)
	if err != nil {
		return fmt.Errorf("looking whether the rows of %s still have their numbers: %w", t, err)
	}
	if !holds {
		return &RenumberedError{t.String()}
	}
	return nil
}
