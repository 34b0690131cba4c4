// Package postgres is the engine for PostgreSQL servers, from version 13 on.
package postgres

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/engine"
)

var d = dialect.PostgreSQL

// DB is one database of a PostgreSQL server.
type DB struct {
	pool *sql.DB // whose texts of values are exact, and the same everywhere
	jobs *sql.DB // as the user and the database have it
	name string
	vers string
	user string

	database string
	ledger   string       // its schema
	believed atomic.Value // the schema whose ledger was found to be ours
	number   int          // server_version_num
	standbys standbys

	pathRead sync.Mutex
	path     []string // the schemas in which a job's names are looked up, in their order; nil: not read yet

	orders  sync.Mutex
	ordered map[uint32][]string // see orderings; nil: not read yet
}

// Open connects to a postgres:// URL. The PG… environment variables and the
// password file count as they do for psql.
func Open(ctx context.Context, raw string) (*DB, error) {
	name := engine.SafeURL(raw)
	cfg, err := pgx.ParseConfig(raw)
	if err != nil || engine.Unsure(name) {
		return nil, &engine.OpenError{Name: name, Err: errors.New("this is not a usable URL"), Do: "write postgres://USER@HOST:PORT/DATABASE; " + engine.Encode, Usage: true}
	}
	if cfg.ConnectTimeout == 0 {
		cfg.ConnectTimeout = 10 * time.Second
	}
	set := func(key, value string) {
		if _, ok := cfg.RuntimeParams[key]; !ok {
			cfg.RuntimeParams[key] = value
		}
	}
	set("application_name", "jugatum")
	plainly := cfg.Copy()
	// Key values travel as text; these make the text exact and the same everywhere.
	cfg.RuntimeParams["datestyle"] = "ISO, YMD"
	cfg.RuntimeParams["intervalstyle"] = "postgres"
	cfg.RuntimeParams["bytea_output"] = "hex"
	cfg.RuntimeParams["extra_float_digits"] = "1"
	// Looking must change nothing, whatever functions a job's expressions call;
	// only the transactions of a Session may write, and say so. It is not said when
	// connecting, or no server would be one that target_session_attrs=read-write wants.
	looking := func(more string) stdlib.OptionOpenDB {
		return stdlib.OptionAfterConnect(func(ctx context.Context, c *pgx.Conn) error {
			// Without array_nulls a key that is an array would be another when it is read back.
			if _, err := c.Exec(ctx, "SET default_transaction_read_only = on; SET array_nulls = on"+encoding(c)+more); err != nil {
				return err
			}
			return watchClient(ctx, c)
		})
	}
	// Anybody may make a function or an operator in a schema of the user's path, one
	// that suits our arguments better than the server's own. Our questions are asked
	// where there is nothing but the server's own.
	pool, jobs := stdlib.OpenDB(*cfg, looking("; SET search_path = pg_catalog")), stdlib.OpenDB(*plainly, looking(""))
	pool.SetMaxIdleConns(2)
	jobs.SetMaxIdleConns(2)
	db := &DB{pool: pool, jobs: jobs, name: name, ledger: ledgerSchema}
	db.believed.Store("")
	err = pool.QueryRowContext(ctx, "SELECT current_setting('server_version'), current_setting('server_version_num')::int, current_user, current_database()").Scan(&db.vers, &db.number, &db.user, &db.database)
	if err != nil {
		db.Close()
		var pe *pgconn.PgError
		return nil, &engine.OpenError{Name: name, Err: plain(err), Do: advice(err), Usage: errors.As(err, &pe) && pe.Code == "3D000"}
	}
	if db.number < 130000 {
		db.Close()
		return nil, &engine.OpenError{Name: name, Err: fmt.Errorf("the server is version %s", db.vers), Do: "version 13 is the oldest that tells what a statement writes to its log"}
	}
	return db, nil
}

// encoding has texts travel in UTF-8, in which jobs are written and we read them, whatever the database has
// or the user's settings say. A database without an encoding gives and takes bytes as they are.
func encoding(c *pgx.Conn) string {
	if c.PgConn().ParameterStatus("server_encoding") == "SQL_ASCII" || c.PgConn().ParameterStatus("client_encoding") == "UTF8" {
		return ""
	}
	return "; SET client_encoding = 'UTF8'"
}

// plain is the server's or the network's own message.
func plain(err error) error {
	var pe *pgconn.PgError
	if errors.As(err, &pe) {
		return fmt.Errorf("%s (SQLSTATE %s)", pe.Message, pe.Code)
	}
	if x := engine.Uncertified(err); x != nil {
		return x
	}
	var ce *pgconn.ConnectError
	if errors.As(err, &ce) {
		var op *net.OpError
		if errors.As(err, &op) {
			return op
		}
	}
	return err
}

func advice(err error) string {
	var pe *pgconn.PgError
	if errors.As(err, &pe) {
		switch pe.Code {
		case "3D000":
			return "psql -l lists the databases there are"
		case "28P01", "28000":
			return "check the user, and the password in PGPASSWORD or the password file"
		}
		return ""
	}
	if engine.Uncertified(err) != nil {
		return "sslrootcert=PATH in the URL names the authority that the server's certificate is from; sslmode=require takes any"
	}
	return "check host and port, and that the server runs"
}

func (db *DB) Dialect() change.Dialect { return d }
func (db *DB) Name() string            { return db.name }
func (db *DB) Version() string         { return "PostgreSQL " + db.vers }
func (db *DB) User() string            { return db.user }

// LogName is that of the one log there is.
func (db *DB) LogName(engine.Log) string { return "write-ahead log" }
func (db *DB) Overlaps() bool            { return true }
func (db *DB) Pool() *sql.DB             { return db.pool }
func (db *DB) JobPool() *sql.DB          { return db.jobs }
func (db *DB) Close() error              { return errors.Join(db.pool.Close(), db.jobs.Close()) }

// schemas gives the search path of a job's SQL.
func (db *DB) schemas(ctx context.Context) ([]string, error) {
	db.pathRead.Lock()
	defer db.pathRead.Unlock()
	if db.path != nil {
		return db.path, nil
	}
	var path textArray
	if err := db.jobs.QueryRowContext(ctx, "SELECT CAST(pg_catalog.current_schemas(true) AS text)").Scan(&path); err != nil {
		return nil, err
	}
	db.path = path
	return path, nil
}

// trusted refuses a search path by which functions and operators of a schema
// come before the server's own of the same name: also those that our part of a
// statement is made of.
func (db *DB) trusted(ctx context.Context) error {
	path, err := db.schemas(ctx)
	if err != nil {
		return err
	}
	for _, schema := range path {
		if schema == "pg_catalog" {
			break
		}
		if !strings.HasPrefix(schema, "pg_temp") { // where the server looks for no functions
			return &engine.RefusedError{Msg: fmt.Sprintf("the search_path of %s puts schema %s before pg_catalog, so that functions in it take the place of the server's own; leave pg_catalog out of it, for example by search_path=%s in the URL", db.user, schema, schema)}
		}
	}
	return nil
}

// ReadOnly tells whether the user, the database or the server has sessions begin
// as read-only.
func (db *DB) ReadOnly(ctx context.Context) (string, error) {
	var on bool
	err := db.pool.QueryRowContext(ctx, "SELECT reset_val = 'on' FROM pg_catalog.pg_settings WHERE name = 'default_transaction_read_only'").Scan(&on)
	if err != nil || !on {
		return "", err
	}
	return "default_transaction_read_only", nil
}

// dataClasses are the classes of errors that are those of a row: a value, a constraint, what a
// trigger or a routine raises by itself.
var dataClasses = []string{"09", "20", "21", "22", "23", "38", "39", "44", "P0"}

// Advice knows who else than we may end a statement.
func (db *DB) Advice(err error) string {
	var pe *pgconn.PgError
	if errors.As(err, &pe) && pe.Code == "57014" {
		return "if that was statement_timeout, which " + db.user + " has for statements that only look, statement_timeout=0 in the URL lifts it for this command, and ALTER ROLE for all of them"
	}
	return ""
}

// Fault sorts errors by SQLSTATE (PostgreSQL documentation, appendix A).
func (db *DB) Fault(err error) engine.Fault {
	var pe *pgconn.PgError
	if errors.As(err, &pe) {
		switch {
		case pe.Code == "40001" || pe.Code == "40P01" || pe.Code == "55P03":
			return engine.Busy
		case pe.Code == "57P01" || pe.Code == "57P02" || pe.Code == "57P03" || pe.Code == "53300" || strings.HasPrefix(pe.Code, "08") ||
			pe.Code == "25006": // read-only: after a failover another server may take the address
			return engine.Connection
		case pe.Code == "57014":
			return engine.Cancelled
		case pe.Code == "42P07" || pe.Code == "42P06" || pe.Code == "42710": // a table or the like that another process has just made
			return engine.Data
		case pe.Code == "42501":
			return engine.Denied
		case strings.HasPrefix(pe.Code, "42"):
			return engine.Invalid
		case pe.Code == "2D000":
			return engine.EndsTransaction
		case slices.Contains(dataClasses, pe.Code[:min(len(pe.Code), 2)]) && pe.Code != "P0000":
			return engine.Data
		}
		return engine.Fatal
	}
	if errors.Is(err, context.Canceled) {
		return engine.Cancelled
	}
	var ne net.Error
	var ce *pgconn.ConnectError
	if errors.Is(err, driver.ErrBadConn) || errors.Is(err, sql.ErrConnDone) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.As(err, &ne) || errors.As(err, &ce) || strings.Contains(err.Error(), "conn closed") {
		return engine.Connection
	}
	return engine.Fatal
}

// watchClient has the server look whether we are still there: a killed client's batch must
// not go on, nor a query that nobody waits for. From version 14 on, and not on every platform.
func watchClient(ctx context.Context, c *pgx.Conn) error {
	_, err := c.Exec(ctx, "SET client_connection_check_interval = '500ms'")
	var pe *pgconn.PgError
	if errors.As(err, &pe) {
		return nil
	}
	return err
}

// Session opens the connection that writes.
func (db *DB) Session(ctx context.Context, o engine.SessionOptions) (*engine.Session, error) {
	if err := db.trusted(ctx); err != nil {
		return nil, err
	}
	conn, err := db.jobs.Conn(ctx)
	if err != nil {
		return nil, err
	}
	s := &engine.Session{Conn: conn, Begin: readCommitted, Numbered: true, State: &session{}}
	// All in one statement: a run may open many sessions, and has to again after a lost connection.
	text, args := "SELECT pg_catalog.pg_backend_pid()", []any{}
	for _, setting := range [][2]string{
		{"application_name", o.Purpose},
		{"lock_timeout", fmt.Sprintf("%dms", max(o.LockTimeout.Milliseconds(), 1))},
		{"statement_timeout", "0"},
		{"synchronous_commit", "off"}, // until Durable: what depends on a batch is in the log after it
		{"idle_in_transaction_session_timeout", "60s"},
		{"jit", "off"}, // compiling costs more than a batch takes
	} {
		args = append(args, setting[0], setting[1])
		text += fmt.Sprintf(", pg_catalog.set_config($%d, $%d, false)", len(args)-1, len(args))
	}
	into := make([]any, 1+len(args)/2)
	into[0] = &s.ID
	for i := range into[1:] {
		into[1+i] = new(string)
	}
	if err := conn.QueryRowContext(ctx, text, args...).Scan(into...); err != nil {
		conn.Close()
		return nil, err
	}
	s.Durable = func(ctx context.Context) error {
		_, err := conn.ExecContext(ctx, "RESET synchronous_commit")
		return err
	}
	s.FlushCommit = func(ctx context.Context, tx *engine.Tx) error {
		_, err := tx.Exec(ctx, "SET LOCAL synchronous_commit TO DEFAULT")
		return err
	}
	return s, nil
}

// advisoryClass marks Jugatum's advisory locks among those of others: "jugt".
const advisoryClass = 0x6a756774

// HasRunLock is always true.
func (db *DB) HasRunLock() bool { return true }

// LockRun takes a session-level advisory lock, which goes with the session.
func (db *DB) LockRun(ctx context.Context, s *engine.Session, run int64, wait time.Duration) (bool, error) {
	for begin := time.Now(); ; {
		var got bool
		if err := s.Conn.QueryRowContext(ctx, "SELECT pg_catalog.pg_try_advisory_lock($1, $2)", int32(advisoryClass), int32(run)).Scan(&got); err != nil || got {
			return got, err
		}
		if time.Since(begin) > wait {
			return false, nil
		}
		select {
		case <-ctx.Done():
			return false, ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// Locks counts the locks of our own transaction by mode, relation and target alike.
func (db *DB) Locks(ctx context.Context, tx *engine.Tx) (map[string]int, error) {
	rows, err := tx.S.Conn.QueryContext(ctx, "SELECT mode, count(*) FROM pg_catalog.pg_locks WHERE pid = pg_catalog.pg_backend_pid() AND granted AND locktype IN ('relation', 'tuple') AND relation <> CAST(CAST('pg_catalog.pg_locks' AS regclass) AS oid) GROUP BY mode")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]int{}
	for rows.Next() {
		var mode string
		var n int
		if err := rows.Scan(&mode, &n); err != nil {
			return nil, err
		}
		out[mode] = n
	}
	return out, rows.Err()
}
