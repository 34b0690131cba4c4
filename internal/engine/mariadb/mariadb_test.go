package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/testserver"
)

var (
	server *testserver.MariaDB
	none   error
	next   int
)

func TestMain(m *testing.M) {
	os.Exit(func() int {
		// A server that refuses zero dates and logs by statement, as some do.
		server, none = testserver.StartMariaDB("log-bin=bin", "binlog-format=STATEMENT", "sql-mode=STRICT_TRANS_TABLES,NO_ZERO_DATE,NO_ZERO_IN_DATE,ANSI_QUOTES,NO_BACKSLASH_ESCAPES", "innodb-flush-log-at-trx-commit=0")
		if none != nil && (os.Getenv("CI") != "" || !errors.Is(none, testserver.ErrMissing)) {
			fmt.Fprintln(os.Stderr, none)
			return 1
		}
		if server != nil {
			defer server.Stop()
		}
		return m.Run()
	}())
}

// open makes a database with tables, and opens it by the engine and plainly.
func open(t *testing.T, texts ...string) (*DB, *sql.DB) {
	t.Helper()
	if server == nil {
		t.Skip(none)
	}
	next++
	name := fmt.Sprintf("d%d", next)
	admin, err := sql.Open("mysql", server.DSN("mysql"))
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close()
	if _, err := admin.Exec("CREATE DATABASE " + name + " CHARACTER SET utf8mb4"); err != nil {
		t.Fatal(err)
	}
	plain, err := sql.Open("mysql", server.DSN(name)+"&sql_mode=%27ALLOW_INVALID_DATES%27&binlog_format=%27ROW%27")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { plain.Close() })
	for _, text := range texts {
		if _, err := plain.Exec(text); err != nil {
			t.Fatalf("%s\n%v", text, err)
		}
	}
	db, err := Open(context.Background(), server.URL(name))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db, plain
}

// build makes a change of one statement.
func build(t *testing.T, db *DB, text string) *change.Change {
	t.Helper()
	c, err := change.Build(d, change.Spec{Name: "s", SQL: text}, nil, func(schema, name string) (*change.Table, error) {
		return db.Table(context.Background(), schema, name)
	})
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// carry carries a change out as one batch over the whole table and commits.
func carry(t *testing.T, db *DB, c *change.Change, kept *change.Kept) (engine.Effect, error) {
	t.Helper()
	ctx := context.Background()
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "test", LockTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if kept != nil {
		for _, text := range db.KeptTable(kept) {
			if _, err := s.Conn.ExecContext(ctx, text); err != nil {
				t.Fatalf("%s\n%v", text, err)
			}
		}
	}
	tx, err := s.Start(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	e, err := db.Batch(ctx, tx, c, kept, change.Range{}, 0)
	if err != nil {
		return e, err
	}
	locks, err := db.Locks(ctx, tx)
	if err != nil {
		t.Fatal(err)
	}
	if len(locks) > 0 && int64(locks["rows modified"]) < e.Changed {
		t.Errorf("locks %v for %d rows", locks, e.Changed)
	}
	if err := tx.Commit(ctx); err != nil {
		return e, err
	}
	e.Log = tx.Log
	return e, nil
}

func one(t *testing.T, db *sql.DB, query string) string {
	t.Helper()
	var s sql.NullString
	if err := db.QueryRow(query).Scan(&s); err != nil {
		t.Fatalf("%s\n%v", query, err)
	}
	return s.String
}

// TestTable holds what is read of a table, and which keys can be walked.
// TestReferences: tables that refer to one are found by InnoDB's list of them, whatever
// their names and in other databases, and the same ones by a user who may not read that list.
func TestReferences(t *testing.T) {
	db, other := open(t,
		"CREATE TABLE `Ät#b /x` (id int PRIMARY KEY, n int UNIQUE)", "CREATE TABLE `ät#b /x2` (id int PRIMARY KEY)",
		"CREATE TABLE `kid/2` (a int, b int, FOREIGN KEY (a) REFERENCES `Ät#b /x` (id) ON DELETE CASCADE, FOREIGN KEY (b) REFERENCES `Ät#b /x` (n) ON DELETE SET NULL)",
		"CREATE TABLE none (a int, FOREIGN KEY (a) REFERENCES `ät#b /x2` (id))")
	var here string
	if err := other.QueryRow("SELECT DATABASE()").Scan(&here); err != nil {
		t.Fatal(err)
	}
	beside := here + "_Größe-1"
	for _, text := range []string{"CREATE DATABASE `" + beside + "`", "CREATE TABLE `" + beside + "`.late (a int, FOREIGN KEY (a) REFERENCES `" + here + "`.`Ät#b /x` (id) ON UPDATE CASCADE)",
		"CREATE USER low@'%'", "GRANT BINLOG ADMIN ON *.* TO low@'%'", "GRANT ALL ON `" + here + "`.* TO low@'%'", "GRANT ALL ON `" + beside + "`.* TO low@'%'"} {
		if _, err := other.Exec(text); err != nil {
			t.Fatal(err)
		}
	}
	defer other.Exec("DROP DATABASE `" + beside + "`")
	defer other.Exec("DROP USER low@'%'")
	low, err := Open(context.Background(), strings.Replace(server.URL(here), "root@", "low@", 1))
	if err != nil {
		t.Fatal(err)
	}
	defer low.Close()
	for who, db := range map[string]*DB{"root": db, "a user without PROCESS": low} {
		table, err := db.Table(context.Background(), "", "Ät#b /x")
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, fk := range table.ReferredBy {
			got = append(got, strings.TrimPrefix(fk.Schema, here)+"."+fk.Table+" "+strings.Join(fk.Columns, ",")+">"+strings.Join(fk.Parent, ",")+" "+fk.OnUpdate+"/"+fk.OnDelete)
		}
		slices.Sort(got)
		if want := []string{".kid/2 a>id RESTRICT/CASCADE", ".kid/2 b>n RESTRICT/SET NULL", "_Größe-1.late a>id CASCADE/RESTRICT"}; !slices.Equal(got, want) {
			t.Errorf("%s: %q, want %q", who, got, want)
		}
	}
}

func TestTable(t *testing.T) {
	db, _ := open(t,
		"CREATE TABLE Berth (no int unsigned AUTO_INCREMENT PRIMARY KEY, zone varchar(8) CHARACTER SET latin1 NOT NULL, rate decimal(8,2), raw varbinary(9), at timestamp(3) NOT NULL DEFAULT current_timestamp(3) ON UPDATE current_timestamp(3), g int AS (no + 1) VIRTUAL, UNIQUE KEY z (zone))",
		"CREATE TABLE rope (berth int unsigned, FOREIGN KEY f (berth) REFERENCES Berth (no) ON DELETE CASCADE)",
		"CREATE TABLE kinds (e enum('b', 'a') PRIMARY KEY, n int NOT NULL, UNIQUE KEY n (n))",
		"CREATE TABLE short (s text NOT NULL, UNIQUE KEY s (s(10)))",
		"CREATE TABLE old (id int PRIMARY KEY) ENGINE = MyISAM", "CREATE VIEW v AS SELECT * FROM old", "CREATE SEQUENCE sq",
		"CREATE TRIGGER tg BEFORE UPDATE ON Berth FOR EACH ROW SET new.zone = old.zone")
	ctx := context.Background()
	b, err := db.Table(ctx, "", "Berth")
	if err != nil {
		t.Fatal(err)
	}
	if !b.Key.Integer || b.Key.Names()[0] != "no" || b.Named("zone").Base != "latin1" || b.Named("zone").Length != 8 || b.Named("rate").Base != "DECIMAL(65,2)" || !b.Named("raw").Binary ||
		!strings.HasPrefix(b.Named("at").OnUpdate, "current_timestamp") || !b.Named("g").Generated || len(b.Indexes) != 2 || len(b.ReferredBy) != 1 || b.ReferredBy[0].OnDelete != "CASCADE" || !b.Triggers[0].Update {
		t.Errorf("%+v %+v", b, b.ReferredBy)
	}
	k, err := db.Table(ctx, "", "kinds")
	if err != nil || k.Key == nil || k.Key.Names()[0] != "n" {
		t.Errorf("an enumeration cannot be walked, the number beside it can: %+v %v", k, err)
	}
	if s, err := db.Table(ctx, "", "short"); err != nil || s.Key != nil {
		t.Errorf("an index over the beginning of a text is no key: %+v %v", s, err)
	}
	for name, want := range map[string]string{"old": "no transactions", "v": "is a view", "sq": "is a sequence"} {
		var refused *engine.RefusedError
		if _, err := db.Table(ctx, "", name); !errors.As(err, &refused) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	var missing *engine.NotFoundError
	if _, err := db.Table(ctx, "", "berht"); !errors.As(err, &missing) || missing.Nearest != "Berth" {
		t.Errorf("%v", err)
	}
	if _, err := db.Table(ctx, "mysql", "user"); err == nil {
		t.Error("the server's own tables may be changed")
	}
	all, err := db.Tables(ctx)
	if err != nil || len(all) != 5 || all[2].Name != "old" || all[2].Refused == "" {
		t.Errorf("%d tables, %v", len(all), err)
	}
	settings, err := db.Settings(ctx)
	if err != nil || len(settings) < 10 {
		t.Errorf("%v %v", settings, err)
	}
}

// TestSessions: ours are strict and READ COMMITTED whatever the server's
// default, the pool only reads, and the log is written by row.
func TestSessions(t *testing.T) {
	db, _ := open(t, "CREATE TABLE t (id int PRIMARY KEY, n tinyint)", "INSERT INTO t VALUES (1, 1)")
	ctx := context.Background()
	if _, err := db.Pool().Exec("UPDATE t SET n = 2"); err == nil {
		t.Error("the pool can write")
	}
	s, err := db.Session(ctx, engine.SessionOptions{LockTimeout: 200 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var mode, isolation, format, wait string
	if err := s.Conn.QueryRowContext(ctx, "SELECT @@sql_mode, @@tx_isolation, @@binlog_format, @@innodb_lock_wait_timeout").Scan(&mode, &isolation, &format, &wait); err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(mode, "STRICT_ALL_TABLES") || strings.Contains(mode, "ANSI_QUOTES") || strings.Contains(mode, "NO_BACKSLASH") || !strings.Contains(mode, "NO_ZERO_DATE") || isolation != "READ-COMMITTED" || format != "ROW" || wait != "1" || s.ID == 0 {
		t.Error(mode, isolation, format, wait, s.ID)
	}
	if _, err := carry(t, db, build(t, db, "UPDATE t SET n = 1000"), nil); db.Fault(err) != engine.Data {
		t.Errorf("a value that does not fit gives %v", err)
	}
}

// TestKept: old values are kept whatever they are, ON UPDATE columns with
// them, and what a trigger makes of the new ones; rows that stay the same to
// the byte are not written, those that differ only by case are.
func TestKept(t *testing.T) {
	db, plain := open(t, "CREATE TABLE t (id int PRIMARY KEY, s varchar(20), day date, at datetime DEFAULT '2001-01-01' ON UPDATE current_timestamp, wide varchar(15000))",
		"INSERT INTO t (id, s, day, wide) VALUES (1, 'a', '0000-00-00', 'w'), (2, 'A', '2020-02-31', NULL), (3, 'b', NULL, ''), (4, 'X', '2020-01-01', 'y')",
		"CREATE TRIGGER tg BEFORE UPDATE ON t FOR EACH ROW SET new.s = concat(new.s, '!')")
	c := build(t, db, "UPDATE t SET s = upper(s), wide = concat(coalesce(wide, ''), 'z') WHERE id < 4")
	kept := change.NewKept("k", c)
	e, err := carry(t, db, c, kept)
	if err != nil || e.Matched != 3 || e.Changed != 3 || e.Kept != 3 || e.Scanned < 3 || e.Log.Bytes < 50 || e.Log.Scope != "ours" {
		t.Fatalf("%+v %v", e, err)
	}
	if got := one(t, plain, "SELECT group_concat(key_id, old_s, new_s, new_wide ORDER BY seq) FROM k"); got != "1aA!wz,2AA!z,3bB!z" {
		t.Error(got)
	}
	if got := one(t, plain, "SELECT count(*) FROM k JOIN t ON t.id = key_id WHERE old_at = '2001-01-01' AND new_at = t.at AND t.at > '2020-01-01'"); got != "3" {
		t.Errorf("%s rows have their ON UPDATE column kept", got)
	}
	c = build(t, db, "UPDATE t SET day = day + INTERVAL 0 DAY, s = lower(s) WHERE id = 4 OR id = 99")
	if e, err = carry(t, db, c, change.NewKept("k2", c)); err != nil || e.Changed != 1 {
		t.Errorf("only the case changes: %+v %v", e, err)
	}
	one(t, plain, "SELECT 1 FROM k2 WHERE old_s = BINARY 'X' AND new_s = BINARY 'x!'")
	c = build(t, db, "UPDATE t SET wide = wide WHERE id > 0")
	if e, err = carry(t, db, c, change.NewKept("k3", c)); err != nil || e.Matched != 4 || e.Changed != 0 || one(t, plain, "SELECT count(*) FROM k3") != "0" {
		t.Errorf("nothing changes: %+v %v", e, err)
	}
	c = build(t, db, "DELETE FROM t WHERE day = 0 OR id = 2")
	if e, err = carry(t, db, c, change.NewKept("k4", c)); err != nil || e.Changed != 2 || one(t, plain, "SELECT group_concat(old_day ORDER BY seq) FROM k4") != "0000-00-00,2020-02-31" {
		t.Errorf("deleted: %+v %v", e, err)
	}
}

// TestWaiting sees a session that waits for ours.
func TestWaiting(t *testing.T) {
	db, plain := open(t, "CREATE TABLE t (id int PRIMARY KEY, n int)", "INSERT INTO t VALUES (1, 1)")
	ctx := context.Background()
	s, err := db.Session(ctx, engine.SessionOptions{LockTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	tx, err := s.Start(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	if _, err := tx.Exec(ctx, "UPDATE t SET n = 2"); err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() {
		_, err := plain.Exec("UPDATE t SET n = n + 10")
		done <- err
	}()
	for begun := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		w, err := db.Waiting(ctx, []int64{s.ID})
		if err != nil {
			t.Fatal(err)
		}
		if len(w.Others) == 1 && len(w.Ours) == 0 {
			x := w.Others[0]
			if !strings.Contains(x.For, "t") || !strings.HasPrefix(x.Statement, "UPDATE t SET n = n + 10") || x.Session == "" {
				t.Errorf("%+v", x)
			}
			// Were it the session of ours that waits, it would be told the other way
			// round; and if both were, it would be nobody's business.
			id, err := strconv.ParseInt(x.Session, 10, 64)
			if err != nil {
				t.Fatal(err)
			}
			if w, err := db.Waiting(ctx, []int64{id}); err != nil || len(w.Others) != 0 || len(w.Ours) != 1 || w.Ours[0] != x {
				t.Errorf("%+v %v", w, err)
			}
			if w, err := db.Waiting(ctx, []int64{id, s.ID}); err != nil || len(w.Others)+len(w.Ours) != 0 {
				t.Errorf("%+v %v", w, err)
			}
			break
		}
		if time.Since(begun) > 4*time.Minute {
			t.Fatal("the session that waits is not seen")
		}
	}
	if err := tx.Commit(ctx); err != nil {
		t.Fatal(err)
	}
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	if got := one(t, plain, "SELECT n FROM t"); got != "12" {
		t.Error(got)
	}
}

// TestLocksAreTrue compares what a batch tells of its locks with what was done,
// and with InnoDB's own account of the transaction, read by another session.
func TestLocksAreTrue(t *testing.T) {
	db, plain := open(t, "CREATE TABLE t (id int PRIMARY KEY, n int)", "INSERT INTO t SELECT seq, seq FROM seq_1_to_3000")
	ctx := context.Background()
	s, err := db.Session(ctx, engine.SessionOptions{LockTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	tx, err := s.Start(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	if n, err := tx.Exec(ctx, "UPDATE t SET n = -n WHERE id > 200 AND id <= 1200"); err != nil || n != 1000 {
		t.Fatal(n, err)
	}
	time.Sleep(2 * accountIdle) // the account is not read in between, or it would stay old
	got, err := db.Locks(ctx, tx)
	if err != nil || got == nil {
		t.Fatalf("%v %v", got, err)
	}
	if got["rows modified"] != 1000 || got["rows"] < 1000 || got["rows"] > 1050 {
		t.Errorf("1,000 rows were changed, and the batch tells %v", got)
	}
	time.Sleep(2 * accountIdle)
	want := map[string]int{}
	var rows, modified, structs, memory int
	if err := plain.QueryRow("SELECT trx_rows_locked, trx_rows_modified, trx_lock_structs, trx_lock_memory_bytes FROM information_schema.innodb_trx WHERE trx_mysql_thread_id = ?", s.ID).Scan(&rows, &modified, &structs, &memory); err != nil {
		t.Fatal(err)
	}
	want["rows"], want["rows modified"], want["lock structs"], want["lock memory bytes"] = rows, modified, structs, memory
	for name, n := range want {
		if g := got[name]; g < n*95/100 || g > n*105/100 {
			t.Errorf("%s: the batch tells %d, the account %d", name, g, n)
		}
	}
}

func TestFaults(t *testing.T) {
	db, _ := open(t)
	for number, want := range map[uint16]engine.Fault{1205: engine.Busy, 1213: engine.Busy, 1927: engine.Connection, 1047: engine.Connection, 1180: engine.Connection, 1290: engine.Connection, 1062: engine.Data,
		4025: engine.Data, 1406: engine.Data, 1054: engine.Invalid, 1064: engine.Invalid, 1317: engine.Cancelled, 1142: engine.Denied, 1146: engine.Invalid, 1114: engine.Fatal} {
		if got := db.Fault(fmt.Errorf("batch: %w", &mysql.MySQLError{Number: number})); got != want {
			t.Errorf("error %d is sorted as %v, want %v", number, got, want)
		}
	}
	if db.Fault(&mysql.MySQLError{Number: 30001, SQLState: [5]byte{'4', '5', '0', '0', '0'}}) != engine.Data || db.Fault(mysql.ErrInvalidConn) != engine.Connection || db.Fault(context.Canceled) != engine.Cancelled || db.Fault(errors.New("x")) != engine.Fatal {
		t.Error("an error is sorted wrongly")
	}
}

func TestOpenFails(t *testing.T) {
	if server == nil {
		t.Skip(none)
	}
	for url, want := range map[string]string{
		server.URL("nowhere"): "SHOW DATABASES",
		server.URL(""):        "names no database",
		strings.Replace(server.URL("mysql"), "root@", "nobody:secret@", 1): "MYSQL_PWD",
		"mariadb://root@127.0.0.1:1/x":                                     "check host and port",
		server.URL("mysql") + "?fast=1":                                    "unknown option fast",
	} {
		_, err := Open(context.Background(), url)
		var oe *engine.OpenError
		if !errors.As(err, &oe) || !strings.Contains(err.Error(), want) || strings.Contains(err.Error(), "secret") {
			t.Errorf("%s: %v", url, err)
		}
	}
}

func TestTransaction(t *testing.T) {
	for position, want := range map[string]int64{"": 0, "0-1-4711": 4711, "2-3-16,0-1-7": 7, "1-1-9": 0, "0-1": 0, "0-1-x": 0, " 0-9-12 ,3-1-1": 12} {
		if got := transaction(position, "0"); got != want {
			t.Errorf("%q: %d, want %d", position, got, want)
		}
	}
}

// TestLanesApart: a batch goes by its own kept rows alone, though those of
// another lane, with higher numbers, stand in the same table.
func TestLanesApart(t *testing.T) {
	db, plain := open(t, "CREATE TABLE t (id integer PRIMARY KEY, n integer)", "CREATE TABLE o (k integer, v integer)",
		"INSERT INTO t SELECT seq, seq FROM seq_1_to_20", "INSERT INTO o SELECT seq, 100 + seq FROM seq_1_to_20", "INSERT INTO o VALUES (3, 103)")
	ctx := context.Background()
	c := build(t, db, "UPDATE o JOIN t ON t.id = o.k SET t.n = o.v + 0 * rand()")
	kept := change.NewKept("jugatum_kept_9_1", c)
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "test", LockTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for _, text := range append(db.KeptTable(kept), "INSERT INTO jugatum_kept_9_1 VALUES (1000, 15, 15, 115), (1001, 15, 15, 115), (1002, 16, 7, 7)") {
		if _, err := s.Conn.ExecContext(ctx, text); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := plain.Exec("UPDATE t SET n = -1 WHERE id > 14"); err != nil { // since then, by somebody else
		t.Fatal(err)
	}
	tx, err := s.Start(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	e, err := db.Batch(ctx, tx, c, kept, change.Range{Hi: change.KeyValue{"10"}}, 0)
	if err != nil || e.Changed != 10 || e.Matched != 10 {
		t.Fatalf("%+v %v", e, err)
	}
	if err := tx.Commit(ctx); err != nil {
		t.Fatal(err)
	}
	if got := one(t, plain, "SELECT group_concat(n ORDER BY id) FROM t WHERE id IN (10, 11, 15, 16)"); got != "110,11,-1,-1" {
		t.Errorf("rows 10, 11, 15, 16: %s", got)
	}
	if got := one(t, plain, "SELECT count(*) FROM jugatum_kept_9_1 WHERE seq >= 1000"); got != "3" {
		t.Errorf("%s of the other lane's 3 kept rows are left", got)
	}
}
