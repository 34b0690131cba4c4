// Package sqlite is the engine for SQLite files.
package sqlite

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// DB is one SQLite file.
type DB struct {
	pool *sql.DB
	path string
	name string
	vers string
	wal  bool
}

// Open opens an existing file: "sqlite:path", with ?mode=ro for reading only.
// Foreign keys are enforced unless the URL says ?foreign_keys=off.
func Open(ctx context.Context, raw string) (*DB, error) {
	rest := strings.TrimPrefix(strings.TrimPrefix(raw, "sqlite:"), "//")
	path, query, _ := strings.Cut(rest, "?")
	opts, err := url.ParseQuery(query)
	if err != nil {
		return nil, &engine.OpenError{Name: raw, Err: err, Do: "write sqlite:PATH?mode=ro or the like"}
	}
	fail := func(err error, do string) (*DB, error) {
		return nil, &engine.OpenError{Name: "sqlite:" + path, Err: err, Do: do, Usage: do != ""}
	}
	mode, fk := "rw", "1"
	for k := range opts {
		v := opts.Get(k)
		switch {
		case k == "mode" && (v == "ro" || v == "rw"):
			mode = v
		case k == "foreign_keys" && (v == "on" || v == "off"):
			if v == "off" {
				fk = "0"
			}
		default:
			return fail(fmt.Errorf("unknown option %s=%s", k, v), "known are mode=ro and foreign_keys=off")
		}
	}
	st, err := os.Stat(path)
	switch {
	case err != nil:
		return fail(errors.New("no such file"), "give the path of an existing database, or try `jugatum demo DIR`")
	case st.IsDir():
		return fail(errors.New("this is a directory"), "give the path of the database file in it")
	}
	abs, err := filepath.Abs(path)
	if err == nil {
		abs, err = filepath.EvalSymlinks(abs) // SQLite keeps its log beside the file itself, not beside a link to it
	}
	if err != nil {
		return fail(err, "")
	}
	dsn := url.URL{Scheme: "file", Path: abs, RawQuery: "mode=" + mode +
		"&_pragma=query_only(1)&_pragma=busy_timeout(5000)&_pragma=foreign_keys(" + fk + ")&_pragma=cache_size(-2000)&_pragma=trusted_schema(0)&_defensive=1"}
	pool, err := sql.Open(guarded, dsn.String())
	if err != nil {
		return fail(err, "")
	}
	pool.SetMaxOpenConns(4)
	db := &DB{pool: pool, path: abs, name: "sqlite:" + path}
	var journal string
	if err := pool.QueryRowContext(ctx, "SELECT sqlite_version() FROM (SELECT count(*) FROM sqlite_schema)").Scan(&db.vers); err == nil {
		err = pool.QueryRowContext(ctx, "PRAGMA journal_mode").Scan(&journal)
		if err != nil {
			pool.Close()
			return fail(plain(err), "")
		}
	} else {
		pool.Close()
		return fail(plain(err), "")
	}
	db.wal = journal == "wal"
	return db, nil
}

// plain takes the driver's decoration off an error.
func plain(err error) error {
	var se *sqlite.Error
	if errors.As(err, &se) {
		return errors.New(strings.TrimPrefix(strings.SplitN(se.Error(), " (", 2)[0], "SQL logic error: "))
	}
	return err
}

func (db *DB) Dialect() change.Dialect { return d }
func (db *DB) Name() string            { return db.name }
func (db *DB) Version() string         { return "SQLite " + db.vers }
func (db *DB) User() string            { return "" }

// LogName goes by the figures: a rollback journal has no records that could be counted.
func (db *DB) LogName(l engine.Log) string {
	if l.Records < 0 {
		return "rollback journal"
	}
	return "write-ahead log"
}
func (db *DB) Pool() *sql.DB    { return db.pool }
func (db *DB) JobPool() *sql.DB { return db.pool }
func (db *DB) Overlaps() bool   { return db.wal } // a rollback journal lets nobody read beside a commit
func (db *DB) Close() error     { return db.pool.Close() }

// LedgerTable prefixes the name: SQLite has no schemas.
func (db *DB) LedgerTable(name string) string { return d.Quote("jugatum_" + name) }

// LedgerSetup has nothing to do.
func (db *DB) LedgerSetup(context.Context) ([]string, error) { return nil, nil }

// HasLedger looks for the ledger's first table, and refuses a ledger that is more
// than tables: what is read and written there must do nothing else.
func (db *DB) HasLedger(ctx context.Context) (there bool, err error) {
	ours := " lower(%s) IN ('jugatum_" + strings.Join(engine.LedgerTables, "', 'jugatum_") + "')"
	var strange sql.NullString
	err = db.pool.QueryRowContext(ctx, "SELECT count(*) > 0, min(CASE WHEN type <> 'table' OR sql LIKE 'CREATE VIRTUAL%' THEN type || ' ' || name END) FROM sqlite_schema WHERE type <> 'index' AND ("+
		fmt.Sprintf(ours, "name")+" OR type = 'trigger' AND"+fmt.Sprintf(ours, "tbl_name")+")").Scan(&there, &strange)
	if err == nil && strange.Valid {
		err = &engine.UntrustedError{Msg: fmt.Sprintf("the ledger in %s is not used: %s is none of its tables, and could do anything when it is read or written; drop it", db.name, strange.String)}
	}
	return there && err == nil, err
}

// sized is how large a file may be for the sizes of tables to be told by the way, in bytes: to tell
// one, SQLite reads its pages.
const sized = 256 << 20

// LedgerObjects are those whose names begin as ours do.
func (db *DB) LedgerObjects(ctx context.Context, exact bool) ([]engine.LedgerObject, error) {
	rows, err := db.pool.QueryContext(ctx, `SELECT substr(name, 9), type = 'view', CASE WHEN (SELECT page_count * page_size FROM pragma_page_count, pragma_page_size) > ? AND NOT ? THEN -1
			ELSE coalesce((SELECT sum(x.pgsize) FROM sqlite_schema i JOIN dbstat x ON x.name = i.name AND x.aggregate = 1 WHERE i.tbl_name = s.name), 0) END
		FROM sqlite_schema s WHERE type IN ('table', 'view') AND name LIKE 'jugatum\_%' ESCAPE '\' AND lower(substr(name, 9)) NOT IN ('`+strings.Join(engine.LedgerTables, "', '")+"') ORDER BY name", int64(sized), exact)
	return engine.ReadObjects(rows, err)
}

// LedgerRemains are none: the place is the file.
func (db *DB) LedgerRemains(context.Context) ([]string, error) { return nil, nil }

// Fault sorts errors by SQLite's result codes (https://sqlite.org/rescode.html).
func (db *DB) Fault(err error) engine.Fault {
	var se *sqlite.Error
	switch {
	case errors.Is(err, context.Canceled):
		return engine.Cancelled
	case errors.Is(err, sql.ErrConnDone) || errors.Is(err, driver.ErrBadConn): // closed by us, since its state was not known
		return engine.Connection
	case errors.As(err, &se):
		switch se.Code() & 0xff {
		case lib.SQLITE_BUSY, lib.SQLITE_LOCKED:
			return engine.Busy
		case lib.SQLITE_ERROR:
			return engine.Invalid
		case lib.SQLITE_INTERRUPT:
			return engine.Cancelled
		case lib.SQLITE_CONSTRAINT, lib.SQLITE_MISMATCH, lib.SQLITE_TOOBIG:
			return engine.Data
		}
	}
	return engine.Fatal
}

// session is what a session that writes remembers.
type session struct {
	wal       *walFile      // nil in rollback-journal mode
	frames    int64         // of ours since the log was last copied in a gap
	copied    int64         // of these, those that were there when the last copying beside a batch began
	copying   chan struct{} // closed when that is over
	version   int64         // PRAGMA data_version: moves when another connection commits
	contended time.Time
	probed    time.Time // when a longer gap was left; at the first batch none was
}

// waitForLock is how long a batch waits for the write lock. It holds nothing
// while it waits, so this may be longer than a batch.
const waitForLock = 2 * time.Second

// Session opens the connection that writes. In WAL mode it does not copy the
// log back into the file inside a commit, where that would lengthen the hold;
// Yield does so between batches.
func (db *DB) Session(ctx context.Context, o engine.SessionOptions) (*engine.Session, error) {
	conn, err := db.pool.Conn(ctx)
	if err != nil {
		return nil, err
	}
	st := &session{copying: make(chan struct{})}
	close(st.copying)
	s := &engine.Session{Conn: conn, Begin: "BEGIN IMMEDIATE", Locks: true, State: st}
	settings := []string{
		fmt.Sprintf("PRAGMA busy_timeout = %d", max(o.LockTimeout, waitForLock).Milliseconds()),
		"PRAGMA temp_store = FILE",
		"PRAGMA cache_size = -8000", // KiB: what a batch changes is not to be written before its end
		"PRAGMA query_only = 0",     // every other connection only reads
	}
	if db.wal {
		var level int
		if err := conn.QueryRowContext(ctx, "PRAGMA synchronous").Scan(&level); err != nil {
			conn.Close()
			return nil, err
		}
		settings = append(settings, "PRAGMA wal_autocheckpoint = 0")
		if level > 1 {
			// In WAL mode the file is whole after a power cut either way; NORMAL
			// leaves out the flush at every commit (https://sqlite.org/pragma.html#pragma_synchronous).
			settings = append(settings, "PRAGMA synchronous = NORMAL")
			s.Durable = func(ctx context.Context) error {
				st.settle()
				_, err := conn.ExecContext(ctx, fmt.Sprintf("PRAGMA synchronous = %d", level))
				return err
			}
		}
		st.wal = openWAL(db.path + "-wal")
	}
	if err := conn.Raw(func(c any) error { return authorize(c, writing) }); err != nil {
		conn.Close()
		return nil, err
	}
	for _, text := range settings {
		if _, err := conn.ExecContext(ctx, text); err != nil {
			conn.Close()
			return nil, err
		}
	}
	if err := conn.QueryRowContext(ctx, "PRAGMA data_version").Scan(&st.version); err != nil {
		conn.Close()
		return nil, err
	}
	s.Started = func(tx *engine.Tx) {
		if st.wal != nil {
			st.wal.skip()
		}
	}
	s.Ending = func(tx *engine.Tx) {
		if st.wal == nil { // what the journal holds just before it vanishes
			tx.Log.Scope = "ours"
			if fi, err := os.Stat(db.path + "-journal"); err == nil {
				tx.Log.Bytes = fi.Size()
			}
		}
	}
	s.Ended = func(tx *engine.Tx) {
		if st.wal != nil {
			frames, bytes := st.wal.count()
			tx.Log = engine.Log{Bytes: bytes, Records: frames, Images: -1, Scope: "ours"}
			st.frames += frames
		}
	}
	return s, nil
}

// Pauses between batches. A connection that waits for SQLite's write lock
// sleeps and looks again, at most 50 ms apart in its first 228 ms and 100 ms
// apart from then on (sqlite3.c, sqliteDefaultBusyCallback: 1, 2, 5, 10, 15, 20,
// 25, 25, 25, 50, 50, 100 ms). So a gap of a little more than 50 ms lets everyone
// in who came during a hold of 200 ms, and one of a little more than 100 ms
// everyone. Nobody can see whether anyone waits; so the longer one is left every
// two seconds, and while others are seen to commit the shorter one after every
// batch, and the longer one twice a second, for those whose turn another took.
// Who came while a run began has not waited long, and looks again within 25 ms:
// so long is the gap after the first batch.
const (
	turnGap        = 55 * time.Millisecond
	probeGap       = 105 * time.Millisecond
	firstGap       = 26 * time.Millisecond
	probeEvery     = 2 * time.Second
	contendedProbe = 500 * time.Millisecond
	contendedFor   = 3 * time.Second
	checkpointFrom = 4000 // frames: SQLite's own default is 1000, but it would flush four times as often
)

// Yield copies the log back when it is long, and leaves others their turn. The
// copying goes on beside the next batches, on a connection of its own. Since
// these add to the log meanwhile, it would never come to the log's end, and the
// log could never start again from its beginning; so the rest is copied while
// a gap is left.
func (db *DB) Yield(ctx context.Context, s *engine.Session, lastHold time.Duration) error {
	st := s.State.(*session)
	var version int64
	if err := s.Conn.QueryRowContext(ctx, "PRAGMA data_version").Scan(&version); err != nil {
		return err
	}
	now := time.Now()
	if version != st.version {
		st.contended = now
	}
	st.version = version
	first, contended := st.probed.IsZero(), now.Sub(st.contended) < contendedFor
	every := probeEvery
	if contended {
		every = contendedProbe
	}
	probe := now.Sub(st.probed) > every
	if probe || contended {
		length := turnGap
		switch {
		case first && !contended:
			length = firstGap
		case probe && !first:
			length = probeGap
		}
		if probe {
			st.probed = now
		}
		gap := time.NewTimer(length)
		defer gap.Stop()
		if st.wal != nil && st.frames >= checkpointFrom {
			st.settle()
			st.frames = 0
			if err := db.checkpoint(ctx); err != nil {
				return err
			}
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-gap.C:
			return nil
		}
	}
	if st.wal != nil && st.frames-st.copied >= checkpointFrom {
		select {
		case <-st.copying:
		default:
			return nil // the one before is not over yet
		}
		st.copied = st.frames
		st.copying = make(chan struct{})
		go func(over chan struct{}) {
			defer close(over)
			db.checkpoint(ctx) // what it leaves undone is done in the next gap, where an error is told
		}(st.copying)
	}
	return nil
}

// Mark is what SQLite counts up when another connection commits.
func (db *DB) Mark(ctx context.Context, tx *engine.Tx) (n int64, err error) {
	err = tx.Scan(ctx, "PRAGMA data_version", nil, &n)
	return n, err
}

// checkpoint copies as much of the log into the file as can be copied without
// waiting for anybody. It is no change of the database, and the connections
// that only read may do it.
func (db *DB) checkpoint(ctx context.Context) error {
	rows, err := db.pool.QueryContext(ctx, "PRAGMA wal_checkpoint(PASSIVE)")
	if err != nil {
		return err
	}
	return rows.Close()
}

// settle waits for the checkpoint under way.
func (st *session) settle() { <-st.copying }
