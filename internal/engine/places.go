package engine

import (
	"context"
	"database/sql"
	"net/url"
	"time"

	"jugatum/internal/change"
)

// Who may do what, and where Jugatum keeps its own.

// LedgerPlacer is met by engines where the ledger may be in one of several
// places: schemas, or databases of the same server.
type LedgerPlacer interface {
	// Ledgers names the places in which there is a ledger of this database.
	Ledgers(ctx context.Context) ([]string, error)

	// PlaceLedger has it be in a place that holds it already, is empty or is not
	// there yet; anything else is a *RefusedError. It is called before any other
	// use of the ledger.
	PlaceLedger(ctx context.Context, name string) error
	LedgerPlace() string

	// LedgerMark ends the statement that makes the first table, so that Ledgers
	// can tell whose ledger it is.
	LedgerMark() string
}

// LedgerKeeper is met by engines that refuse a ledger to which others may write,
// so that what is there was written by the user who is named or by one who may do
// anything anyway.
type LedgerKeeper interface{ KeepsLedger() bool }

// ReaderTeller is met by engines that can tell who may read kept values and not
// the table that they are of. It is asked where there is a ledger.
type ReaderTeller interface {
	KeptReaders(ctx context.Context) (map[change.TableName][]string, error)
}

// KeptGuard is met by engines where a kept-values table may be something else by
// now than what was made, which could do anything when it is read.
type KeptGuard interface {
	// TrustKept gives an *UntrustedError for one that somebody else has made.
	TrustKept(ctx context.Context, kept *change.Kept) error
}

// ReadOnlyTeller is met by engines where a user or a database can be told to
// change nothing unless asked to: a guard that somebody has put there.
type ReadOnlyTeller interface {
	// ReadOnly names the setting, "" if it is not set.
	ReadOnly(ctx context.Context) (string, error)
}

// PrivilegeTeller is met by engines whose users may do different things.
type PrivilegeTeller interface {
	// Missing tells what this user lacks for a change of which values are kept or not.
	Missing(ctx context.Context, c *change.Change, keep bool) (Missing, error)
}

// Exposed is met by engines whose connection can end up unprotected where the URL
// leaves it to the server.
type Exposed interface {
	// InClear reports that it was left to the server, which offers no protection.
	InClear() bool
}

// Abandoner is met by engines whose server goes on with a query when the program that asked is
// gone. Asked when a signal has ended a command that looks; without it, the server notices.
type Abandoner interface {
	// Abandon ends what is still being done for connections that look. The database may be closed.
	Abandon(ctx context.Context) error
}

// Adviser is met by engines whose servers end a statement that takes longer than somebody allows. Asked
// when a command has failed; without it, an error says all there is to say.
type Adviser interface {
	// Advice is what a person can do about an error, "" where nothing more than it says is known.
	Advice(err error) string
}

// RunLocker is met by engines with locks that end with the session that holds
// them. Without it, a lease in the ledger says who works on a run.
type RunLocker interface {
	// HasRunLock is false where this server has no such locks after all.
	HasRunLock() bool

	// LockRun waits up to the given time for the sole right to work on a run.
	LockRun(ctx context.Context, s *Session, run int64, wait time.Duration) (bool, error)
}

// SessionEnder is met by engines whose server can be told to end sessions.
type SessionEnder interface {
	// EndSessions has the server end those of the sessions numbered ids, which were
	// opened for purpose, that are still there, and gives how many there still were.
	// A session is there until what it was at is rolled back.
	EndSessions(ctx context.Context, purpose string, ids []int64) (left int, err error)
}

// DDLCommitter is met by engines where a CREATE TABLE commits the transaction
// that it stands in.
type DDLCommitter interface{ DDLCommits() bool }

// DDLCommits asks a database for that.
func DDLCommits(db DB) bool {
	c, ok := db.(DDLCommitter)
	return ok && c.DDLCommits()
}

// SchemaMaker is met by engines that can have several sets of tables beside each other,
// under names of their own.
type SchemaMaker interface {
	// MakeSchema makes one of this name by a session that may write, and has the URL lead into it. If there is one
	// already, nothing is made, and drop is the statement that would drop it.
	MakeSchema(ctx context.Context, s *Session, name string, u *url.URL) (drop string, err error)
}

// Missing holds the statements that would give a user what it lacks.
type Missing struct {
	Read   []string // for looking at the rows at all
	Run    []string // for changing them
	See    []string // for seeing all that goes with them, where it may be hidden
	Undo   []string // for putting them back, where that takes more
	Ledger []string // for keeping the ledger
}

// ReadObjects reads the rows of a query for LedgerObjects: name, whether it is a view, bytes.
func ReadObjects(rows *sql.Rows, err error) ([]LedgerObject, error) {
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []LedgerObject
	for rows.Next() {
		var x LedgerObject
		if err := rows.Scan(&x.Name, &x.View, &x.Bytes); err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, rows.Err()
}
