// Package engine is the seam between Jugatum and the databases: what every
// engine must do, and small interfaces for what one may do besides. Engines
// know nothing of jobs, runs or ledgers; nothing above them knows a dialect.
package engine

import (
	"context"
	"database/sql"
	"fmt"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/pace"
	"jugatum/internal/sqltext"
)

// DB is an open database. Its methods may be called from several goroutines.
type DB interface {
	Dialect() sqltext.Dialect

	// Name is the URL of the database without its password.
	Name() string

	// Version names the server and its version.
	Version() string

	// User is who we are to the database, "" where it knows no users.
	User() string

	// Table describes one table. A table that is not there is a *NotFoundError;
	// a view or the like is a *RefusedError.
	Table(ctx context.Context, schema, name string) (*change.Table, error)

	// Tables describes every table that is the user's own, in the order of their names.
	Tables(ctx context.Context) ([]*change.Table, error)

	// Accepts has the server compile the statement that the change stands for,
	// without carrying it out, and gives the server's own error: what no server
	// would take, such as an aggregate where there is no query, is not to be taken
	// apart into batches that one does. It is nil where this user may not ask.
	Accepts(ctx context.Context, c *change.Change) error

	// Reads tells what a change reads besides the row that it changes, by what
	// the server makes of its statement.
	Reads(ctx context.Context, c *change.Change) (change.Reads, error)

	// Settings tells the server's settings that matter to a change in batches.
	Settings(ctx context.Context) ([]Setting, error)

	// Pool is for reading what is ours to understand: keys, catalogues, the ledger.
	Pool() *sql.DB

	// JobPool is for reading with the job's own SQL, which means there what it
	// means in a plain session of this user and database.
	JobPool() *sql.DB

	// Session opens a connection that changes rows.
	Session(ctx context.Context, o SessionOptions) (*Session, error)

	// Batch changes the rows of r within the transaction and, if kept is not
	// nil, keeps their old and new values there, numbered from base+1 on.
	Batch(ctx context.Context, tx *Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (Effect, error)

	// Measure carries out one statement that changes rows and tells its effect;
	// only the Changed field and the log are sure to be set.
	Measure(ctx context.Context, tx *Tx, q *change.Query) (Effect, error)

	// KeptTable gives the statements that make the kept-values table.
	KeptTable(kept *change.Kept) []string

	// LedgerTable gives the name, as SQL text, of one of Jugatum's own tables;
	// LedgerSetup the statements that must come before the first can be made.
	LedgerTable(name string) string
	LedgerSetup(ctx context.Context) ([]string, error)

	// HasLedger reports whether the ledger's first table is there.
	HasLedger(ctx context.Context) (bool, error)

	// Fault says what an error from the database means for a retry.
	Fault(err error) Fault

	Close() error
}

// LedgerTables are the ledger's tables, by the names that LedgerTable is given.
var LedgerTables = []string{"ledger", "run", "step", "lane", "batch", "outcome", "waited", "signal"}

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

// Missing holds the statements that would give a user what it lacks.
type Missing struct {
	Read   []string // for looking at the rows at all
	Run    []string // for changing them
	See    []string // for seeing all that goes with them, where it may be hidden
	Undo   []string // for putting them back, where that takes more
	Ledger []string // for keeping the ledger
}

// Exposed is met by engines whose connection can end up unprotected where the URL
// leaves it to the server.
type Exposed interface {
	// InClear reports that it was left to the server, which offers no protection.
	InClear() bool
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

// Yielder is met by engines where others get their turn only if we leave one.
type Yielder interface {
	// Yield is called between batches, outside any transaction. It may do
	// housekeeping that should not lengthen a hold.
	Yield(ctx context.Context, s *Session, lastHold time.Duration) error
}

// Overlapper is met by engines that can read on another connection of ours while
// a batch is under way, without either waiting for the other.
type Overlapper interface{ Overlaps() bool }

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

// ManyWriters is met by engines where several sessions can change different rows
// of a table at the same time.
type ManyWriters interface{ ManyWriters() bool }

// DDLCommitter is met by engines where a CREATE TABLE commits the transaction
// that it stands in.
type DDLCommitter interface{ DDLCommits() bool }

// WaitWatcher is met by engines that can tell which sessions wait for whose locks.
type WaitWatcher interface {
	// Waiting tells who waits for the sessions numbered ids, and which of these
	// wait for others. Waits among them count on neither side. It may be called
	// while they are busy. What it may not see is left out.
	Waiting(ctx context.Context, ids []int64) (Waits, error)
}

// Waits are those at one moment between sessions of ours and others.
type Waits struct {
	Others []Waiter      // that wait for one of ours
	Ours   []Waiter      // that wait for another
	Idle   time.Duration // for which nothing was done but wait until it could be asked
}

// Waiter is a session that waits for a lock.
type Waiter struct {
	Session   string        // the server's number for it
	Waited    time.Duration // so far, 0 where the server does not tell
	For       string        // the table
	Statement string        // its beginning
}

// LagTeller is met by engines that can tell how far replicas are behind.
type LagTeller interface {
	// Lag is that of the replica furthest behind. A replica that was there and
	// does not answer any more counts as standing where it stood.
	Lag(ctx context.Context) (Lag, error)
}

// Lag is how far a replica is behind.
type Lag struct {
	pace.Lag
	Replica string // its name
	Lacks   string // how much it lacks, such as "12 MB of log"; "" if nothing
	Silent  bool   // it does not answer
}

// NoLag is that of no replica.
var NoLag = Lag{Lag: pace.NoLag}

func (l Lag) String() string {
	s := l.Replica
	if l.Lacks != "" {
		s += " lacks " + l.Lacks
		if l.Needs > time.Second {
			s += fmt.Sprintf(", for which it needs about %.0f s", l.Needs.Seconds())
		}
	}
	if l.Silent {
		s += ", does not answer"
	}
	return s
}

// ReplicaFollower is met by engines whose replicas must be asked themselves how
// far they are.
type ReplicaFollower interface {
	// Follow has LagTeller tell of the replicas at these URLs. One that cannot be
	// reached is an *OpenError, or, with patience, counts as standing still.
	Follow(ctx context.Context, urls []string, patience bool) error
}

// FlowTeller is met by engines of clusters in which a node that falls behind
// holds up the writers of all.
type FlowTeller interface {
	Flow(ctx context.Context) (Flow, error)
}

// Flow is what a cluster's flow control has done, and how near it is to doing it.
type Flow struct {
	Cluster bool          // false: the server is in none, and the rest means nothing
	HeldUp  time.Duration // that writers were held up since the server began
	Queue   float64       // what waits to be applied on our node, 1: as much as makes it hold up all writers
}

// ServerTeller is met by engines that count what the whole server writes.
type ServerTeller interface {
	// ServerFigures gives counters and lengths by name; their difference over a
	// run has the scope "server", other sessions' work included.
	ServerFigures(ctx context.Context) (map[string]int64, error)
}

// LogPositioner is met by engines that tell a transaction's own log only at its
// commit, but how far the whole server's log has come at any time.
type LogPositioner interface {
	// LogPosition is in bytes of the log of this kind; only the difference of two
	// answers means something, and its scope is "server".
	LogPosition(ctx context.Context) (position int64, kind string, err error)
}

// Housekeeper is met by engines that leave work behind for later: dead row
// versions, old transaction numbers, history.
type Housekeeper interface {
	// Housekeeping tells how much of that there is now, and what it means for
	// such a change.
	Housekeeping(ctx context.Context, c *change.Change) ([]Setting, error)
}

// Sized is met by engines that can tell within a transaction how much is stored.
type Sized interface {
	// Stored is the bytes of a table's rows, without the empty parts of its pages.
	Stored(ctx context.Context, tx *Tx, table string) (int64, error)
}

// Weigher is met by engines that can tell how much room one table takes.
type Weigher interface {
	// Weigh gives the bytes of a table with its indexes; table is SQL text.
	Weigh(ctx context.Context, table string) (int64, error)
}

// Estimator is met by engines whose planner knows about how many rows a change
// concerns, and which can make a list of them without keeping others waiting.
type Estimator interface {
	Estimate(ctx context.Context, c *change.Change) (rows int64, err error)
}

// LockTeller is met by engines that can tell which locks a transaction holds.
type LockTeller interface {
	// Locks counts the locks of the open transaction by kind.
	Locks(ctx context.Context, tx *Tx) (map[string]int, error)
}

// CommitOverlapper is met by engines where a commit waits for a disk and other
// transactions can go on meanwhile.
type CommitOverlapper interface {
	// OverlapsCommit reports whether a batch of the change may begin while the one
	// before it, over other rows, commits on another session.
	OverlapsCommit(c *change.Change) bool
}

// KeptReader is met by engines that want to be told before kept values are read back.
type KeptReader interface {
	PrepareKept(ctx context.Context, kept *change.Kept) error
}

// Packer is met by engines where the kept values of many rows go into one row of
// a table, since a row of a table for each would cost as much as its change.
type Packer interface {
	// Packs reports whether these columns can be kept so. KeptTable then makes
	// kept.Packed, and kept.Table as a view of it.
	Packs(kept *change.Kept) bool
}

// Unpacker is met by engines where kept values that are packed are read in many
// steps best if they are unpacked first.
type Unpacker interface {
	// Unpack puts the kept rows after from, up to to, where Unpacked finds them, for
	// this session. It is called outside of any transaction.
	Unpack(ctx context.Context, s *Session, kept *change.Kept, from, to int64) error

	// Unpacked gives the layout of those rows; kept itself if they are not unpacked.
	Unpacked(s *Session, kept *change.Kept, from, to int64) *change.Kept
}

// Skimmer is met by engines that can go through the rows of a large query
// quicker than database/sql.
type Skimmer interface {
	// Skim calls each with the texts of every row, nil for NULL, which are there
	// during the call only. An error of each ends it.
	Skim(ctx context.Context, q *change.Query, each func(values [][]byte) error) error
}

// Skim goes through the rows of a query whose columns are all texts.
func Skim(ctx context.Context, db DB, q *change.Query, each func(values [][]byte) error) error {
	if s, ok := db.(Skimmer); ok {
		return s.Skim(ctx, q, each)
	}
	rows, err := db.Pool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	raw, values, into := make([]sql.RawBytes, len(names)), make([][]byte, len(names)), make([]any, len(names))
	for i := range raw {
		into[i] = &raw[i]
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for i, v := range raw {
			values[i] = v
		}
		if err := each(values); err != nil {
			return err
		}
	}
	return rows.Err()
}

// Setting is one server setting and what it means here.
type Setting struct {
	Name    string `json:"name"`
	Value   string `json:"value"`
	Meaning string `json:"meaning"`
	Advice  string `json:"advice,omitempty"` // what to do, where something should be done
}

// SessionOptions are the settings of a session that changes rows.
type SessionOptions struct {
	Purpose     string        // shown to the server's administrators, such as "jugatum run 3"
	LockTimeout time.Duration // longest wait for another session's lock
}

// Effect is what one batch did, as far as the engine can tell; -1 is unknown.
type Effect struct {
	Scanned, Matched, Changed int64
	Kept                      int64 // number of the last kept row
	Log                       Log
	Refused                   []*RefusedRow // rows left as they are, since no new value could be computed
}

// Log is what was written to the write-ahead log or its like.
type Log struct {
	Bytes   int64  // -1 unknown
	Records int64  // log records; on SQLite frames, one a page
	Images  int64  // full-page images among them; -1 where there is no such thing
	Scope   string // "ours", or "server" where other sessions' work is in the figure
}

// NoLog is a log of which nothing is known.
var NoLog = Log{Bytes: -1, Records: -1, Images: -1}

// Add adds another statement's log to l; what is unknown of it adds nothing.
func (l *Log) Add(o Log) {
	for _, x := range []struct {
		sum *int64
		n   int64
	}{{&l.Bytes, o.Bytes}, {&l.Records, o.Records}, {&l.Images, o.Images}} {
		if x.n > 0 {
			*x.sum = max(*x.sum, 0) + x.n
		}
	}
}

// Fault sorts errors by what can be done about them.
type Fault int

const (
	Fatal      Fault = iota // nothing here helps
	Busy                    // lock timeout, deadlock, serialisation failure: the batch rolled back and may be tried again
	Connection              // the connection is gone; whether a commit took effect is unknown
	Data                    // a value or a constraint: the same batch fails again
	Cancelled               // we asked for it
	Denied                  // this user may not
	Invalid                 // the statement itself: a column or function that is not there, types that do not go together
)

// NotFoundError is a table that does not exist.
type NotFoundError struct {
	What    string // "table visits"
	Nearest string
	Do      string // what lists those there are, if not survey
}

func (e *NotFoundError) Error() string {
	if e.Nearest != "" {
		return fmt.Sprintf("there is no %s; did you mean %q?", e.What, e.Nearest)
	}
	if e.Do != "" {
		return fmt.Sprintf("there is no %s; %s", e.What, e.Do)
	}
	return fmt.Sprintf("there is no %s; `jugatum survey` lists the tables", e.What)
}

// RefusedError is something that cannot be changed by Jugatum, with the reason.
type RefusedError struct{ Msg string }

func (e *RefusedError) Error() string { return e.Msg }

// UntrustedError says that what is there is not used, since somebody else could
// have made it what it is.
type UntrustedError struct{ Msg string }

func (e *UntrustedError) Error() string { return e.Msg }

// OpenError is a database that could not be opened, with what to do about it.
type OpenError struct {
	Name  string
	Err   error
	Do    string
	Usage bool // the URL or path is wrong, rather than the server in trouble
}

func (e *OpenError) Error() string {
	s := fmt.Sprintf("%s cannot be opened: %v", e.Name, e.Err)
	if e.Do != "" {
		s += "; " + e.Do
	}
	return s
}

func (e *OpenError) Unwrap() error { return e.Err }

// AmbiguousError is a target row for which several source rows give different
// new values.
type AmbiguousError struct {
	Table string
	Key   change.KeyValue
}

func (e *AmbiguousError) Error() string {
	return fmt.Sprintf("%s: row %s matches several source rows that give it different new values; make the match unique", e.Table, e.Key)
}
