// Package mariadb is the engine for MariaDB servers, from version 10.6 on.
package mariadb

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/engine"
)

var d = dialect.MariaDB

// DB is one database of a MariaDB server.
type DB struct {
	pool      *sql.DB
	name      string
	vers      string
	user      string
	schema    string       // the database connected to
	ledger    string       // the one that the ledger is in
	believed  atomic.Value // the one whose ledger was found to be made of plain tables
	strict    string       // sql_mode in which a job's statement is carried out
	stage     string       // sql_mode in which old values are copied, whatever they are
	binlog    bool
	noFiles   atomic.Bool // the server takes no files of rows
	galera    bool
	statement int    // bytes of values that one statement of ours carries
	dormant   bool   // sessions begin as read-only
	clear     bool   // no TLS, though it was preferred
	modes     string // the server's sql_mode
	granted   grants // what the user may do
	snap      bool   // the server can fail a transaction that would change what was changed since its snapshot

	knowing sync.Mutex
	learned map[*change.Change]*known

	account account
	config  *mysql.Config // for replicas that name no user or password of their own
	follows []*replica

	lookingMu sync.Mutex
	looking   []int64 // numbers of the pool's connections
}

// Open connects to mariadb://USER@HOST:PORT/DATABASE (or mysql://…), with
// ?socket=PATH for a Unix socket and ?tls=NAME for TLS. Without a password in
// the URL, that of MYSQL_PWD is used.
func Open(ctx context.Context, raw string) (*DB, error) {
	name := engine.SafeURL(raw)
	fail := func(err error, do string, usage bool) (*DB, error) {
		return nil, &engine.OpenError{Name: name, Err: err, Do: do, Usage: usage}
	}
	cfg, err := parse(raw)
	var oe *engine.OpenError
	if errors.As(err, &oe) {
		return nil, oe
	}
	if cfg.DBName == "" {
		return fail(errors.New("the URL names no database"), "write mariadb://USER@HOST:PORT/DATABASE", true)
	}
	cfg.InterpolateParams = true // one round trip a statement instead of two or three
	db := &DB{name: name, schema: cfg.DBName, ledger: cfg.DBName, config: cfg.Clone()}
	if err := db.greet(ctx, cfg); err != nil {
		var me *mysql.MySQLError
		return fail(plain(err), advice(err), errors.As(err, &me) && me.Number == 1049)
	}
	if !strings.Contains(db.vers, "MariaDB") {
		return fail(fmt.Errorf("the server is version %s", db.vers), "only MariaDB is supported", false)
	}
	// Looking must change nothing, whatever functions a job's expressions call;
	// only a Session may write.
	cfg.Params = map[string]string{"tx_read_only": "1", "sql_mode": "'" + db.strict + "'", "tx_isolation": "'READ-COMMITTED'"}
	for name, value := range ours {
		cfg.Params[name] = value
	}
	connector, err := mysql.NewConnector(cfg)
	if err != nil {
		return fail(err, "write mariadb://USER@HOST:PORT/DATABASE", true)
	}
	db.pool = sql.OpenDB(tracked{connector, db})
	db.pool.SetMaxIdleConns(2)
	db.vers = strings.SplitN(db.vers, "-", 2)[0]
	return db, nil
}

// ours are settings on which it depends what our statements say, how much they read and when they are over.
// A server may begin sessions with others (init_connect, skip-character-set-client-handshake, SET GLOBAL).
var ours = map[string]string{
	"character_set_client": "utf8mb4", "character_set_results": "utf8mb4", "collation_connection": "utf8mb4_general_ci",
	"autocommit": "1", "sql_select_limit": "18446744073709551615", "sql_auto_is_null": "0",
	"foreign_key_checks": "1", "unique_checks": "1",
}

// parse reads a database's URL.
func parse(raw string) (*mysql.Config, error) {
	u, err := url.Parse(raw)
	if err != nil || u.Scheme != "mariadb" && u.Scheme != "mysql" || engine.Unsure(engine.SafeURL(raw)) {
		return nil, &engine.OpenError{Name: engine.SafeURL(raw), Err: errors.New("this is not a usable URL"), Do: "write mariadb://USER@HOST:PORT/DATABASE; " + engine.Encode, Usage: true}
	}
	cfg := mysql.NewConfig()
	cfg.Net, cfg.Addr, cfg.DBName = "tcp", u.Host, strings.TrimPrefix(u.Path, "/")
	cfg.User = u.User.Username()
	if cfg.User == "" {
		cfg.User = os.Getenv("USER")
	}
	var given bool
	if cfg.Passwd, given = u.User.Password(); !given {
		cfg.Passwd = os.Getenv("MYSQL_PWD")
	}
	if u.Port() == "" {
		cfg.Addr = net.JoinHostPort(u.Hostname(), "3306")
	}
	tls, ca := "", ""
	for k, v := range u.Query() {
		switch k {
		case "socket":
			cfg.Net, cfg.Addr = "unix", v[0]
		case "tls":
			tls = v[0]
		case "tls-ca":
			ca = v[0]
		default:
			return nil, &engine.OpenError{Name: engine.SafeURL(raw), Usage: true, Err: fmt.Errorf("unknown option %s", k), Do: "known are socket=PATH, tls=true, false, skip-verify or preferred, and tls-ca=PATH"}
		}
	}
	if err := secure(cfg, engine.SafeURL(raw), tls, ca); err != nil {
		return nil, err
	}
	cfg.Timeout = 10 * time.Second
	cfg.Logger = silent{}
	return cfg, nil
}

// greet asks the server what it is and how it would read a job's SQL.
func (db *DB) greet(ctx context.Context, cfg *mysql.Config) error {
	connector, err := mysql.NewConnector(cfg)
	if err != nil {
		return err
	}
	probe := sql.OpenDB(connector)
	defer probe.Close()
	var mode, format string
	var packet int
	if err := probe.QueryRowContext(ctx, "SELECT @@version, CURRENT_USER(), @@sql_mode, @@log_bin AND @@sql_log_bin, @@binlog_format, @@tx_read_only, @@max_allowed_packet").Scan(&db.vers, &db.user, &mode, &db.binlog, &format, &db.dormant, &packet); err != nil {
		return err
	}
	db.statement = min(statementBytes, packet/4) // writing values out may double them, and the last may be long
	// Neither of these is a variable of every server.
	if err := probe.QueryRowContext(ctx, `SELECT coalesce(max(variable_name = 'wsrep_on' AND variable_value = 'ON'), 0), coalesce(max(variable_name = 'innodb_snapshot_isolation'), 0)
		FROM information_schema.global_variables WHERE variable_name IN ('wsrep_on', 'innodb_snapshot_isolation')`).Scan(&db.galera, &db.snap); err != nil {
		return err
	}
	if cfg.TLSConfig == "preferred" {
		var name, version string
		if err := probe.QueryRowContext(ctx, "SHOW SESSION STATUS LIKE 'Ssl_version'").Scan(&name, &version); err != nil {
			return err
		}
		db.clear = version == ""
	}
	if db.granted, err = readGrants(ctx, probe); err != nil {
		return err
	}
	db.noFiles.Store(db.binlog && format == "MIXED") // which might log a file as a statement
	db.modes = mode
	db.strict, db.stage = modes(mode)
	if db.binlog && format == "STATEMENT" {
		// READ COMMITTED, without which INSERT … SELECT locks the gaps between
		// rows, cannot be written to such a log.
		if _, err := probe.ExecContext(ctx, "SET SESSION binlog_format = 'ROW'"); err != nil {
			return fmt.Errorf("binlog_format is STATEMENT, which forbids READ COMMITTED, and it cannot be set for our sessions (%w): ask for MIXED or ROW, or for the privilege BINLOG ADMIN", plain(err))
		}
	}
	return nil
}

// modes derives the two sql_modes of our sessions from the server's. The names
// of combinations are left out, since they would bring back their parts.
func modes(server string) (strict, stage string) {
	drop := map[string]bool{"ANSI": true, "ANSI_QUOTES": true, "NO_BACKSLASH_ESCAPES": true, "TRADITIONAL": true, "ORACLE": true, "MSSQL": true, "DB2": true,
		"MAXDB": true, "POSTGRESQL": true, "MYSQL323": true, "MYSQL40": true, "EMPTY_STRING_IS_NULL": true, "": true}
	zero := map[string]bool{"NO_ZERO_DATE": true, "NO_ZERO_IN_DATE": true}
	// Nothing is cut short; 0 is a key like any other when a deleted row is put
	// back; a SET list is worked out from the old row, as the standard has it.
	always := []string{"STRICT_ALL_TABLES", "STRICT_TRANS_TABLES", "ERROR_FOR_DIVISION_BY_ZERO", "NO_AUTO_VALUE_ON_ZERO", "SIMULTANEOUS_ASSIGNMENT"}
	a, b := append([]string(nil), always...), append([]string{"ALLOW_INVALID_DATES"}, always...)
	for _, m := range strings.Split(server, ",") {
		if drop[m] {
			continue
		}
		a = append(a, m)
		if !zero[m] {
			b = append(b, m)
		}
	}
	return strings.Join(a, ","), strings.Join(b, ",")
}

// silent keeps the driver's own remarks off the terminal.
type silent struct{}

func (silent) Print(...any) {}

func plain(err error) error {
	var me *mysql.MySQLError
	if errors.As(err, &me) {
		return fmt.Errorf("%s (error %d)", me.Message, me.Number)
	}
	var op *net.OpError
	if errors.As(err, &op) {
		return op
	}
	return err
}

func advice(err error) string {
	if text, ok := certificate(err); ok {
		return text
	}
	var me *mysql.MySQLError
	if errors.As(err, &me) {
		switch me.Number {
		case 1049:
			return "SHOW DATABASES lists those there are"
		case 1045, 1044, 1698:
			return "check the user, and the password in MYSQL_PWD"
		}
		return ""
	}
	return "check host and port, and that the server runs"
}

func (db *DB) Dialect() change.Dialect { return d }
func (db *DB) Name() string            { return db.name }
func (db *DB) Version() string         { return "MariaDB " + db.vers }
func (db *DB) User() string            { return db.user }

// LogName is the binary log where the figures are ours alone, the engine's own otherwise.
func (db *DB) LogName(l engine.Log) string {
	if l.Scope == "ours" {
		return "binary log"
	}
	return "redo log"
}
func (db *DB) Overlaps() bool   { return true }
func (db *DB) DDLCommits() bool { return true }
func (db *DB) Pool() *sql.DB    { return db.pool }
func (db *DB) JobPool() *sql.DB { return db.pool }
func (db *DB) Close() error     { return db.pool.Close() }

// ReadOnly tells whether the server has sessions begin as read-only.
func (db *DB) ReadOnly(context.Context) (string, error) {
	if db.dormant {
		return "tx_read_only", nil
	}
	return "", nil
}

// Advice knows who else than we may end a statement.
func (db *DB) Advice(err error) string {
	var me *mysql.MySQLError
	if errors.As(err, &me) && me.Number == errTooLong {
		return "a statement that only looks has the time that max_statement_time gives " + db.user + "; ALTER USER … WITH MAX_STATEMENT_TIME 0 lifts that, or SET GLOBAL max_statement_time where the server gives it to all"
	}
	return ""
}

// errTooLong is the server's error for a statement that takes longer than max_statement_time.
const errTooLong = 1969

// Fault sorts errors by number (MariaDB documentation, "MariaDB Error Codes").
func (db *DB) Fault(err error) engine.Fault {
	var me *mysql.MySQLError
	if errors.As(err, &me) {
		switch me.Number {
		case 1205, 1213, 1020: // lock wait timeout; deadlock or, in a cluster, certification; changed since read
			return engine.Busy
		case 1040, 1203, 1226, 1053, 1927, 1047, 1180, 1152, 1158, 1159, 1160, 1161, 2006, 2013, // too many connections, shut down, killed, cluster node not ready or cut off in a commit, network
			1290, 1836, 1792: // read-only: after a failover another server may take the address
			return engine.Connection
		case 1317, errTooLong:
			return engine.Cancelled
		case 1048, 1050, 1062, 1263, 1264, 1265, 1292, 1365, 1366, 1367, 1406, 1411, 1416, 1441, 1451, 1452, 1557, 1644, 1690, 1748, 4025, 1761, 1762, 1867, 1906, 1916, 4038:
			return engine.Data
		case 1044, 1142, 1143, 1227, 1345, 1370:
			return engine.Denied
		case 4015, 4016, 4074, 1054, 1064, 1146, 1305, 1582, 1583, 1630, 1222, 1052, 1060, 1066, 1109, 1111, 1241, 1242, 1270, 1271, 1267:
			return engine.Invalid
		}
		if me.SQLState == [5]byte{'4', '5', '0', '0', '0'} {
			return engine.Data // SIGNAL in a trigger
		}
		return engine.Fatal
	}
	if errors.Is(err, context.Canceled) {
		return engine.Cancelled
	}
	var ne net.Error
	if errors.Is(err, driver.ErrBadConn) || errors.Is(err, mysql.ErrInvalidConn) || errors.Is(err, sql.ErrConnDone) || errors.Is(err, io.EOF) ||
		errors.Is(err, io.ErrUnexpectedEOF) || errors.As(err, &ne) {
		return engine.Connection
	}
	return engine.Fatal
}

// session is what a session that writes remembers.
type session struct {
	relaxed bool           // sql_mode is that for staging
	log     int64          // the counter of bytes written to the log, at the last commit
	told    bool           // may ask about our own locks
	changed int64          // rows of the batch under way
	loaded  *change.Change // for which the table of new values was made
	staging any            // for whom the temporary table of a batch's rows was made

	frozen bool // transactions begin as REPEATABLE READ

	unpacked   map[*change.Kept]unpacked // of one step, and which: that of this kept-values table
	unpackedOf string
}

// Session opens the connection that writes. READ COMMITTED keeps INSERT … SELECT
// and ranges from locking the gaps between rows.
func (db *DB) Session(ctx context.Context, o engine.SessionOptions) (*engine.Session, error) {
	conn, err := db.pool.Conn(ctx)
	if err != nil {
		return nil, err
	}
	st := &session{told: true}
	wait := max(int(o.LockTimeout.Round(time.Second).Seconds()), 1) // whole seconds are the finest there is
	settings := []string{
		"SET SESSION tx_read_only = 0",
		fmt.Sprintf("SET SESSION innodb_lock_wait_timeout = %d, lock_wait_timeout = %d", wait, wait),
		"SET SESSION max_statement_time = 0",
		"SET SESSION optimizer_switch = 'mrr=off'",          // rows in key order, as they lie
		"SET SESSION in_predicate_conversion_threshold = 0", // a list of keys is a list of ranges
	}
	if db.binlog {
		settings = append(settings, "SET SESSION binlog_format = IF(@@binlog_format = 'STATEMENT', 'ROW', @@binlog_format)")
	}
	for _, text := range settings {
		if _, err := conn.ExecContext(ctx, text); err != nil && !strings.Contains(text, "binlog_format") {
			conn.Close()
			return nil, err
		}
	}
	s := &engine.Session{Conn: conn, Begin: "START TRANSACTION READ WRITE", State: st}
	s.Started = func(tx *engine.Tx) { tx.State = &view{frozen: st.frozen, kept: -1} }
	st.log, _ = db.written(ctx, conn)
	if err := conn.QueryRowContext(ctx, "SELECT CONNECTION_ID()").Scan(&s.ID); err != nil {
		conn.Close()
		return nil, err
	}
	if !engine.Measured {
		return s, nil
	}
	s.Ended = func(tx *engine.Tx) {
		ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
		defer cancel()
		now, err := db.written(ctx, conn)
		if err != nil {
			return
		}
		tx.Log = engine.Log{Bytes: now - st.log, Records: -1, Images: -1, Scope: "ours"}
		if !db.binlog {
			tx.Log.Scope = "server"
		}
		st.log = now
	}
	return s, nil
}

// written reads how much was written to the log: this session's part of the
// binary log or, where there is none, the whole server's redo log.
func (db *DB) written(ctx context.Context, conn *sql.Conn) (int64, error) {
	query := "SHOW SESSION STATUS LIKE 'Binlog_bytes_written'"
	if !db.binlog {
		query = "SHOW GLOBAL STATUS LIKE 'Innodb_os_log_written'"
	}
	var name string
	var n int64
	err := conn.QueryRowContext(ctx, query).Scan(&name, &n)
	return n, err
}

// HasRunLock is false in a Galera cluster, where a named lock is known to one node only.
func (db *DB) HasRunLock() bool { return !db.galera }

// LockRun takes a named lock, which goes with the session.
func (db *DB) LockRun(ctx context.Context, s *engine.Session, run int64, wait time.Duration) (bool, error) {
	var got sql.NullInt64
	err := s.Conn.QueryRowContext(ctx, "SELECT GET_LOCK(CONCAT('jugatum ', MD5(DATABASE()), ?), ?)", fmt.Sprintf(" run %d", run), wait.Seconds()).Scan(&got)
	return got.Int64 == 1, err
}

// account is InnoDB's account of transactions and locks in information_schema.
// The server renews it only if nobody has read it for a tenth of a second
// (trx0i_s.cc, CACHE_MIN_IDLE_TIME_NS), so that looking often would show the
// same old state for ever.
type account struct {
	mu   sync.Mutex // held while somebody of us reads, or waits to
	read time.Time
}

const accountIdle = 110 * time.Millisecond

// Locks tells what our own transaction holds, as InnoDB counts it. Where the
// account cannot be fresh, or is older than the batch, nothing is told: a batch
// does not wait for that.
func (db *DB) Locks(ctx context.Context, tx *engine.Tx) (map[string]int, error) {
	st := tx.S.State.(*session)
	if !st.told || !db.account.mu.TryLock() {
		return nil, nil
	}
	defer db.account.mu.Unlock()
	if time.Since(db.account.read) < accountIdle {
		return nil, nil
	}
	db.account.read = time.Now()
	var locked, modified, structs, memory int
	err := tx.Scan(ctx, "SELECT trx_rows_locked, trx_rows_modified, trx_lock_structs, trx_lock_memory_bytes FROM information_schema.innodb_trx WHERE trx_mysql_thread_id = CONNECTION_ID()", nil,
		&locked, &modified, &structs, &memory)
	var me *mysql.MySQLError
	switch {
	case errors.Is(err, sql.ErrNoRows):
		return nil, nil
	case errors.As(err, &me) && me.Number == errNoProcess:
		st.told = false
		return nil, nil
	case err != nil:
		return nil, err
	case int64(modified) < st.changed:
		return nil, nil
	}
	return map[string]int{"rows": locked, "rows modified": modified, "lock structs": structs, "lock memory bytes": memory}, nil
}
