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
)

// DB is an open database. Its methods may be called from several goroutines.
type DB interface {
	Dialect() change.Dialect

	// Name is the URL of the database without its password.
	Name() string

	// LogName names the log that figures are of.
	LogName(l Log) string

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

	// Texts reads the rows of a query of the job's: first the names of its columns, then each row
	// as lists have it: texts as SQL writes them, bytes as \x and hexadecimal, nil for NULL.
	Texts(ctx context.Context, q *change.Query, columns func(names []string) error, each func(values []*string) error) error

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
	// nil, keeps their old and new values there, numbered from base+1 on. Rows that
	// are to move it puts into the other table, as many as it deletes; those that are
	// to be copied, as many as it finds.
	Batch(ctx context.Context, tx *Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (Effect, error)

	// Measure carries out one statement that changes rows and tells its effect;
	// only the Changed field and the log are sure to be set.
	Measure(ctx context.Context, tx *Tx, q *change.Query) (Effect, error)

	// List puts the rows of r that match into a list of the session's own, numbered from
	// base+1 on, and locks them. Changed is how many they are, Scanned those that were
	// read for that, where it is told.
	List(ctx context.Context, tx *Tx, c *change.Change, list *change.Kept, r change.Range, base int64) (Effect, error)

	// KeptTable gives the statements that make the kept-values table.
	KeptTable(kept *change.Kept) []string

	// NewTable gives the statements that make a table of such columns and such a key.
	NewTable(t *change.Table) []string

	// Holds reports whether every value of a column is the same to the byte in another.
	Holds(to, from *change.Column) bool

	// Stage makes a table of what a query gives, within the transaction where the
	// engine can, in the place of one of that name.
	Stage(ctx context.Context, tx *Tx, x Staging) error

	// InsertRows puts rows into a table of ours, within the transaction, in the way that is
	// fastest. A value is a text, as SQL writes it, bytes, a whole number or nil. One that does
	// not go into its column as it is, is an error.
	InsertRows(ctx context.Context, tx *Tx, table string, columns []string, rows [][]any) error

	// Describe has the server read a statement that is to be called for lines, without carrying
	// it out, and says in c what it found; it gives what the server takes the parameters for
	// that have no declared type, by name, as far as it tells. A routine that is not there, or
	// takes other arguments, is an error.
	Describe(ctx context.Context, c *change.Call, params map[string]change.Value) (map[string]*change.Column, error)

	// Calls carries out statements within the transaction, one after the other, up to the first
	// that fails, whose result is the last then. With apart, there is a savepoint before each
	// (LineSavepoint). The error is one of the connection or of our own statements. log is what
	// was written, where that is told before the commit.
	Calls(ctx context.Context, tx *Tx, c *change.Call, all []*change.Query, apart bool) (results []Result, log Log, err error)

	// LedgerTable gives the name, as SQL text, of one of Jugatum's own tables;
	// LedgerSetup the statements that must come before the first can be made.
	LedgerTable(name string) string
	LedgerSetup(ctx context.Context) ([]string, error)

	// HasLedger reports whether the ledger's first table is there.
	HasLedger(ctx context.Context) (bool, error)

	// LedgerObjects lists what is of ours beside the ledger's own tables, by name: what was
	// made there by runs, and what else has a name such as only we give.
	// exact has their sizes told also where that takes reading them.
	LedgerObjects(ctx context.Context, exact bool) ([]LedgerObject, error)

	// LedgerRemains gives the statements that drop the place of the ledger once all of its
	// tables are dropped; none where it is the database itself, or holds anything else.
	LedgerRemains(ctx context.Context) ([]string, error)

	// Overlaps reports whether we can read on another connection of ours while a
	// batch is under way, without either waiting for the other.
	Overlaps() bool

	// Estimate is about how many rows a change concerns, as the planner has it: of
	// a list made of them without keeping others waiting.
	Estimate(ctx context.Context, c *change.Change) (int64, error)

	// Stored is the bytes of a table's rows, without the empty parts of its pages,
	// as the transaction sees them.
	Stored(ctx context.Context, tx *Tx, table string) (int64, error)

	// Load gives a change of the very rows, from values computed by us that it has
	// put where the transaction can read them. They are there until the next call.
	Load(ctx context.Context, tx *Tx, c *change.Change, rows []Rewritten) (*change.Change, error)

	// Locate appends what Load wants to know of a row besides its key, as text;
	// nothing where the key is enough.
	Locate(q *change.Query, c *change.Change)

	// Guarded reports whether rows that another session has changed since they
	// were read are passed by, or fail the batch, so that they need not be locked first.
	Guarded(tx *Tx, c *change.Change) bool

	// CopyTable gives the statements that make an empty table, by the name given as SQL text, with the
	// columns, checks and indexes of another; without its triggers, and references that only
	// constraints of its own tell.
	CopyTable(ctx context.Context, t *change.Table, name string) ([]string, error)

	// Fault says what an error from the database means for a retry.
	Fault(err error) Fault

	Close() error
}

// LedgerObject is a table or view of ours.
type LedgerObject struct {
	Name  string // as LedgerTable takes it
	View  bool
	Bytes int64 // with indexes; -1 unknown
}

// LedgerTables are the ledger's tables, by the names that LedgerTable is given.
var LedgerTables = []string{"ledger", "run", "step", "act", "lane", "batch", "outcome", "waited", "incident", "signal"}

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

// Flow is what a cluster's flow control has done, and how near it is to doing it.
type Flow struct {
	Cluster bool          // false: the server is in none, and the rest means nothing
	HeldUp  time.Duration // that writers were held up since the server began
	Queue   float64       // what waits to be applied on our node, 1: as much as makes it hold up all writers
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
	return Raw(rows, each)
}

// Raw goes through rows as the driver has read them: nil for NULL, and nothing that stays longer than
// until the next one.
func Raw(rows *sql.Rows, each func(values [][]byte) error) error {
	names, err := rows.Columns()
	if err != nil {
		return err
	}
	values := make([][]byte, len(names))
	cells, into := Cells(len(names))
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			return err
		}
		for i := range cells {
			values[i] = cells[i].B
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
	Acts                      []int64       // rows that each act has changed besides
}

// AddLog adds another statement's log; what is unknown of it adds nothing.
func (e *Effect) AddLog(o Log) {
	if e.Log.Scope == "" {
		e.Log = o
	} else {
		e.Log.Add(o)
	}
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
	Fatal           Fault = iota // nothing here helps
	Busy                         // lock timeout, deadlock, serialisation failure: the batch rolled back and may be tried again
	Connection                   // the connection is gone; whether a commit took effect is unknown
	Data                         // a value or a constraint: the same batch fails again
	Cancelled                    // we asked for it
	Denied                       // this user may not
	Invalid                      // the statement itself: a column or function that is not there, types that do not go together
	EndsTransaction              // a procedure that wants to end the transaction that it is called in, and cannot
)

// NotFoundError is a table that does not exist.
type NotFoundError struct {
	What    string // "table visits"
	Nearest string
	Do      string // what lists those there are, if not survey
}

// Absent tells the error from others where this package is not known.
func (e *NotFoundError) Absent() bool { return true }

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
