// Package e2e drives the built program on files in a temporary folder and on a
// real PostgreSQL and MariaDB servers of its own.
package e2e

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	_ "github.com/jackc/pgx/v5/stdlib"
	_ "modernc.org/sqlite"

	"jugatum/internal/cli"
	"jugatum/internal/testserver"
)

var (
	bin    string // the program
	server *testserver.Postgres
	noPG   error // why there is no server
	maria  *testserver.MariaDB
	noM    error
	nextDB int
	dbLock sync.Mutex
)

func TestMain(m *testing.M) {
	os.Exit(func() int {
		dir, err := os.MkdirTemp("", "jugatum-e2e-")
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer os.RemoveAll(dir)
		bin = filepath.Join(dir, "jugatum")
		build := exec.Command("go", "build", "-o", bin, "jugatum/cmd/jugatum")
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if out, err := build.CombinedOutput(); err != nil {
			fmt.Fprintf(os.Stderr, "building: %v\n%s", err, out)
			return 1
		}
		server, noPG = testserver.StartPostgres("jit=off", "fsync=off", "max_wal_size=2GB", "max_connections=200", "autovacuum=off")
		if noPG != nil && (os.Getenv("CI") != "" || !errors.Is(noPG, testserver.ErrMissing)) {
			fmt.Fprintln(os.Stderr, noPG)
			return 1
		}
		if server != nil {
			defer server.Stop()
		}
		// || joins texts, so that most statements are the same on every engine.
		maria, noM = testserver.StartMariaDB("log-bin=bin", "binlog-format=ROW", "innodb-flush-log-at-trx-commit=0", "innodb-buffer-pool-size=256M", "innodb-log-file-size=256M",
			"sql-mode=STRICT_TRANS_TABLES,ERROR_FOR_DIVISION_BY_ZERO,NO_ENGINE_SUBSTITUTION,PIPES_AS_CONCAT")
		if noM != nil && (os.Getenv("CI") != "" || !errors.Is(noM, testserver.ErrMissing)) {
			fmt.Fprintln(os.Stderr, noM)
			return 1
		}
		if maria != nil {
			defer maria.Stop()
		}
		mysql.SetLogger(log.New(io.Discard, "", 0))                // servers are killed on purpose
		os.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config")) // where the key of this user is
		os.Unsetenv("JUGATUM_DB")
		return m.Run()
	}())
}

// database is one fresh database.
type database struct {
	t      testing.TB
	engine string
	url    string
	db     *sql.DB
	server *testserver.Postgres // its own, or nil
	within bool                 // the program's code is run in this process
	said   string               // file to which the program started last writes its messages
}

// parallel are the tests that run beside others already.
var parallel sync.Map

// beside has a test run beside others; it may be asked for more than once.
func beside(t *testing.T) {
	if _, there := parallel.LoadOrStore(t, true); !there {
		t.Parallel()
	}
}

// engines runs a test on each engine, with a fresh database.
func engines(t *testing.T, f func(t *testing.T, d *database)) {
	beside(t)
	for _, e := range []string{"sqlite", "postgres", "mariadb"} {
		t.Run(e, func(t *testing.T) {
			t.Parallel()
			f(t, fresh(t, e))
		})
	}
}

func fresh(t testing.TB, engine string) *database {
	t.Helper()
	return named(t, engine, newName())
}

// named makes an empty database of this name.
func named(t testing.TB, engine, name string) *database {
	t.Helper()
	d := &database{t: t, engine: engine}
	var err error
	if engine == "sqlite" {
		path := filepath.Join(t.TempDir(), name+".db")
		d.url = "sqlite:" + path
		d.db, err = sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(20000)&_pragma=journal_mode(wal)")
	} else if engine == "mariadb" {
		if maria == nil {
			t.Skip(noM)
		}
		admin, aerr := sql.Open("mysql", maria.DSN("mysql"))
		if aerr != nil {
			t.Fatal(aerr)
		}
		defer admin.Close()
		if _, err := admin.Exec("CREATE DATABASE " + name + " CHARACTER SET utf8mb4"); err != nil {
			t.Fatal(err)
		}
		d.url = maria.URL(name)
		d.db, err = sql.Open("mysql", maria.DSN(name)+"&sql_mode=%27STRICT_TRANS_TABLES,PIPES_AS_CONCAT,ANSI_QUOTES%27")
	} else {
		if server == nil {
			t.Skip(noPG)
		}
		admin, aerr := sql.Open("pgx", server.URL("postgres"))
		if aerr != nil {
			t.Fatal(aerr)
		}
		defer admin.Close()
		if _, err := admin.Exec("CREATE DATABASE " + name); err != nil {
			t.Fatal(err)
		}
		d.url = server.URL(name)
		d.db, err = sql.Open("pgx", d.url+"&default_query_exec_mode=exec") // tables are made anew under the same names
	}
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.db.Close() })
	return d
}

func newName() string {
	dbLock.Lock()
	defer dbLock.Unlock()
	nextDB++
	return fmt.Sprintf("t%d", nextDB)
}

// numbers is something to select from that gives i from 1 to n.
func (d *database) numbers(n int) string {
	switch d.engine {
	case "sqlite":
		return fmt.Sprintf("(WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < %d) SELECT i FROM s) AS s", n)
	case "mariadb":
		return fmt.Sprintf("(SELECT seq AS i FROM seq_1_to_%d) AS s", n)
	}
	return fmt.Sprintf("generate_series(1, %d) AS i", n)
}

// integer is the type of a wide integer key; on SQLite the one that is the row's own number.
func (d *database) integer() string {
	if d.engine == "sqlite" {
		return "INTEGER"
	}
	return "bigint"
}

// settled lets the server look at a table that was just filled.
func (d *database) settled(table string) {
	if d.engine != "sqlite" {
		d.exec(map[string]string{"postgres": "ANALYZE ", "mariadb": "ANALYZE TABLE "}[d.engine] + table)
	}
}

// by picks the engine's own form of a statement: for MariaDB, or for the others.
func (d *database) by(maria, others string) string {
	if d.engine == "mariadb" {
		return maria
	}
	return others
}

// quote writes a name in a job's SQL.
func (d *database) quote(name string) string {
	return d.by("`"+name+"`", `"`+name+`"`)
}

// ownServer gives a database on a server that the test may stop.
func ownServer(t *testing.T, settings ...string) *database {
	t.Helper()
	if server == nil {
		t.Skip(noPG)
	}
	s, err := testserver.StartPostgres(settings...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Stop)
	d := &database{t: t, engine: "postgres", url: s.URL("postgres"), server: s}
	if d.db, err = sql.Open("pgx", d.url); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.db.Close() })
	return d
}

// ownMariaDB gives a database on a MariaDB server that the test may kill.
func ownMariaDB(t *testing.T, settings ...string) (*testserver.MariaDB, *database) {
	t.Helper()
	if maria == nil {
		t.Skip(noM)
	}
	m, err := testserver.StartMariaDB(settings...)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(m.Stop)
	d := &database{t: t, engine: "mariadb", url: m.URL("saltmere")}
	if d.db, err = sql.Open("mysql", m.DSN("")); err != nil {
		t.Fatal(err)
	}
	d.exec("CREATE DATABASE saltmere CHARACTER SET utf8mb4")
	d.db.Close()
	if d.db, err = sql.Open("mysql", m.DSN("saltmere")); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { d.db.Close() })
	return m, d
}

// open connects to a PostgreSQL database anew.
func (d *database) open() {
	d.t.Helper()
	var err error
	if d.db, err = sql.Open("pgx", d.url+"&default_query_exec_mode=exec"); err != nil {
		d.t.Fatal(err)
	}
	d.t.Cleanup(func() { d.db.Close() })
}

// reopen goes on with another SQLite file.
func (d *database) reopen(path string) {
	d.t.Helper()
	var err error
	if d.db, err = sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(20000)"); err != nil {
		d.t.Fatal(err)
	}
	d.t.Cleanup(func() { d.db.Close() })
}

// exec runs statements.
func (d *database) exec(texts ...string) {
	d.t.Helper()
	for _, s := range texts {
		if _, err := d.db.Exec(s); err != nil {
			d.t.Fatalf("%s\n%v", s, err)
		}
	}
}

// lines reads a query of one text column.
func (d *database) lines(query string, args ...any) []string {
	d.t.Helper()
	rows, err := d.db.Query(query, args...)
	if err != nil {
		d.t.Fatalf("%s\n%v", query, err)
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var s sql.NullString
		if err := rows.Scan(&s); err != nil {
			d.t.Fatal(err)
		}
		out = append(out, s.String)
	}
	if err := rows.Err(); err != nil {
		d.t.Fatal(err)
	}
	return out
}

func (d *database) one(query string, args ...any) string {
	d.t.Helper()
	l := d.lines(query, args...)
	if len(l) != 1 {
		d.t.Fatalf("%s gave %d rows", query, len(l))
	}
	return l[0]
}

// dump gives every byte of a table, row by row: on SQLite with storage classes.
func (d *database) dump(table string) []string {
	d.t.Helper()
	if d.engine == "postgres" {
		return d.lines(`SELECT x::text FROM ` + table + ` AS x ORDER BY x::text COLLATE "C"`)
	}
	var parts []string
	if d.engine == "mariadb" {
		for _, c := range d.lines("SELECT column_name FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = ? ORDER BY ordinal_position", strings.Trim(table, "`\"")) {
			parts = append(parts, "coalesce(hex(cast(`"+strings.ReplaceAll(c, "`", "``")+"` AS binary)), 'NULL')")
		}
		return d.lines("SELECT concat_ws(',', " + strings.Join(parts, ", ") + ") FROM " + table + " ORDER BY 1")
	}
	for _, c := range d.lines(`SELECT name FROM pragma_table_xinfo(?)`, strings.ReplaceAll(strings.Trim(table, `"`), `""`, `"`)) {
		parts = append(parts, `quote("`+strings.ReplaceAll(c, `"`, `""`)+`")`)
	}
	return d.lines("SELECT " + strings.Join(parts, " || ',' || ") + " FROM " + table + " ORDER BY 1")
}

func same(t testing.TB, what string, got, want []string) {
	t.Helper()
	if len(got) != len(want) {
		t.Fatalf("%s: %d rows, want %d", what, len(got), len(want))
	}
	for i := range got {
		if got[i] != want[i] {
			t.Fatalf("%s: row %d is\n%.300s\nwant\n%.300s", what, i, got[i], want[i])
		}
	}
}

// outcome is how the program ended.
type outcome struct {
	status      int
	out, err    string
	maxRSSBytes int64
}

// jugatum runs the program to its end, without a terminal.
func (d *database) jugatum(args ...string) outcome {
	d.t.Helper()
	if d.within {
		return within(d.t, append(args, "--db", d.url)...)
	}
	return command(d.t, append(args, "--db", d.url)...)
}

// within runs the program's own code in this process, which spares its start.
func within(t testing.TB, args ...string) outcome {
	t.Helper()
	dir := t.TempDir()
	open := func(name string) *os.File {
		f, err := os.Create(filepath.Join(dir, name))
		if err != nil {
			t.Fatal(err)
		}
		return f
	}
	stdout, stderr := open("out"), open("err")
	defer stdout.Close()
	defer stderr.Close()
	stdin, err := os.Open(os.DevNull)
	if err != nil {
		t.Fatal(err)
	}
	defer stdin.Close()
	o := outcome{status: cli.Main(append([]string{"jugatum"}, args...), stdin, stdout, stderr)}
	for f, text := range map[*os.File]*string{stdout: &o.out, stderr: &o.err} {
		b, err := os.ReadFile(f.Name())
		if err != nil {
			t.Fatal(err)
		}
		*text = string(b)
	}
	return o
}

func command(t testing.TB, args ...string) outcome {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 4*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, bin, args...)
	var stdout, stderr bytes.Buffer
	cmd.Stdout, cmd.Stderr = &stdout, &stderr
	if err := cmd.Start(); err != nil {
		t.Fatalf("%v: %v", args, err)
	}
	ended, most := make(chan struct{}), make(chan int64)
	go func() { most <- peak(cmd.Process.Pid, ended) }()
	err := cmd.Wait()
	close(ended)
	var ee *exec.ExitError
	if err != nil && !errors.As(err, &ee) {
		t.Fatalf("%v: %v", args, err)
	}
	o := outcome{status: cmd.ProcessState.ExitCode(), out: stdout.String(), err: stderr.String()}
	o.maxRSSBytes = <-most
	if strings.Contains(o.err, "goroutine ") {
		t.Fatalf("%v crashed:\n%s", args, o.err)
	}
	return o
}

// must is jugatum with an exit status that has to come.
func (d *database) must(status int, args ...string) outcome {
	d.t.Helper()
	o := d.jugatum(args...)
	if o.status != status {
		d.t.Fatalf("jugatum %s\nexit status %d, want %d\n%s%s", strings.Join(args, " "), o.status, status, o.out, o.err)
	}
	return o
}

func seeded(n uint64) *rand.Rand {
	return rand.New(rand.NewPCG(n, 7+uint64(atoi(os.Getenv("JUGATUM_SEED")))))
}
