package postgres

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/engine"
	"jugatum/internal/testserver"
)

var (
	server *testserver.Postgres
	noPG   error
)

func TestMain(m *testing.M) {
	os.Exit(func() int {
		server, noPG = testserver.StartPostgres("fsync=off")
		if noPG != nil && (os.Getenv("CI") != "" || !errors.Is(noPG, testserver.ErrMissing)) {
			fmt.Fprintln(os.Stderr, noPG)
			return 1
		}
		if server != nil {
			defer server.Stop()
		}
		return m.Run()
	}())
}

// open gives the test's database and a connection of somebody else's.
func open(t *testing.T, statements ...string) (*DB, *sql.DB) {
	t.Helper()
	if server == nil {
		t.Skip(noPG)
	}
	other, err := sql.Open("pgx", server.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { other.Close() })
	for _, s := range append([]string{"DROP SCHEMA public CASCADE", "CREATE SCHEMA public"}, statements...) {
		if _, err := other.Exec(s); err != nil {
			t.Fatalf("%s: %v", s, err)
		}
	}
	db, err := Open(context.Background(), server.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db, other
}

func TestTextArray(t *testing.T) {
	for in, want := range map[string][]string{`{}`: nil, `{a,b}`: {"a", "b"}, `{"a,b","c\"d","e\\f"}`: {"a,b", `c"d`, `e\f`}, `{"",x}`: {"", "x"}} {
		var got textArray
		if err := got.Scan(in); err != nil || !slices.Equal(got, want) {
			t.Errorf("%s: %q %v", in, got, err)
		}
	}
}

func TestColumns(t *testing.T) {
	db, _ := open(t, "CREATE DOMAIN code AS varchar(3) NOT NULL", "CREATE TYPE mood AS ENUM ('calm', 'rough')", "CREATE COLLATION blind (provider = icu, locale = 'und-u-ks-level1', deterministic = false)",
		`CREATE TABLE t (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, v varchar(10), c char(4), n numeric(6,2), m numeric, at timestamp(0), d code, e mood, j json, a int[], x text COLLATE blind, y text COLLATE "C", g int GENERATED ALWAYS AS (1) STORED)`)
	table, err := db.Table(context.Background(), "", "t")
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]string{
		"id": "bigint bigint 0 0 true", "v": "character varying(10) pg_catalog.\"varchar\" 0 10 false", "c": "character(4) pg_catalog.bpchar 0 4 false",
		"n": "numeric(6,2) numeric(6,2) 0 0 false", "m": "numeric numeric 1 0 false", "at": "timestamp(0) without time zone timestamp(0) without time zone 0 0 false",
		"d": "public.code pg_catalog.\"varchar\" 0 3 true", "e": "public.mood public.mood 1 0 false", "j": "json pg_catalog.json 1 0 false", "a": "integer[] pg_catalog._int4 1 0 false",
		"x": "text pg_catalog.text 2 0 false", "y": "text pg_catalog.text 0 0 false", "g": "integer integer 0 0 false",
	}
	for _, c := range table.Columns {
		base := strings.Replace(c.Base, `"json"`, "json", 1) // a word of SQL itself since PostgreSQL 17, and so in quotes
		if got := fmt.Sprintf("%s %s %d %d %v", c.Type, base, c.Same, c.Length, c.NotNull); got != want[c.Name] {
			t.Errorf("%s: %s, want %s", c.Name, got, want[c.Name])
		}
	}
	if !table.Named("g").Generated || !table.Named("id").Identity || table.Named("y").Collation != `pg_catalog."C"` || table.Named("v").Collation != "" || !table.Key.Integer {
		t.Errorf("%+v", table)
	}
}

func TestKeysAndKinds(t *testing.T) {
	db, _ := open(t, "CREATE TABLE a (x int, y int NOT NULL, z int NOT NULL)", "CREATE UNIQUE INDEX a1 ON a (x)", "CREATE UNIQUE INDEX a2 ON a (y) WHERE z > 0", "CREATE UNIQUE INDEX a3 ON a ((y + 1))", "CREATE UNIQUE INDEX a4 ON a (z, y) INCLUDE (x)",
		"CREATE TABLE b (x int)", "CREATE VIEW v AS SELECT 1", "CREATE MATERIALIZED VIEW mv AS SELECT 1", "CREATE TABLE p (id int PRIMARY KEY) PARTITION BY RANGE (id)", "CREATE TABLE p1 PARTITION OF p DEFAULT",
		`CREATE TABLE "Odd ""näme" (id int PRIMARY KEY)`)
	ctx := context.Background()
	for name, want := range map[string]string{"a": "a4 [z y]", "b": "", "p": "primary key [id]", `Odd "näme`: "primary key [id]"} {
		table, err := db.Table(ctx, "", name)
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		if table.Key != nil {
			got = fmt.Sprint(table.Key.Name, " ", table.Key.Names())
		}
		if got != want || table.Partitioned != (name == "p") {
			t.Errorf("%s: key %q, want %q; partitioned %v", name, got, want, table.Partitioned)
		}
	}
	for name, want := range map[string]string{"v": "view", "mv": "materialised view", "pg_class": "belongs to", "aa": `did you mean "a"`} {
		_, err := db.Table(ctx, "", name)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	all, err := db.Tables(ctx)
	if err != nil || len(all) != 4 {
		t.Errorf("%v: %d tables; a partition is a part of its table", err, len(all))
	}
}

// TestWalk covers a dense and a sparse integer key, and one of several columns.
func TestWalk(t *testing.T) {
	db, other := open(t, "CREATE TABLE dense (id int PRIMARY KEY)", "INSERT INTO dense SELECT i FROM generate_series(-50, 1000) i WHERE i % 3 <> 0",
		"CREATE TABLE sparse (id bigint PRIMARY KEY)", "INSERT INTO sparse SELECT i::bigint * i * 1000 - 5 FROM generate_series(1, 700) i", "INSERT INTO sparse VALUES (9223372036854775807), (-9223372036854775808)",
		`CREATE TABLE pair (a text COLLATE "en-x-icu", b timestamptz, PRIMARY KEY (a, b))`, "INSERT INTO pair SELECT chr(65 + i % 50), '2020-01-01'::timestamptz + i * interval '1 microsecond' FROM generate_series(1, 700) i")
	ctx := context.Background()
	for _, name := range []string{"dense", "sparse", "pair"} {
		table, err := db.Table(ctx, "", name)
		if err != nil {
			t.Fatal(err)
		}
		for _, n := range []int{1, 64, 100000} {
			w := engine.NewWalk(db, table)
			end, err := w.End(ctx)
			if err != nil {
				t.Fatal(err)
			}
			if err := w.Survey(ctx, end); err != nil {
				t.Fatal(err)
			}
			var at change.KeyValue
			total := int64(0)
			for at == nil || at.Encode() != end.Encode() {
				r, _, err := w.Next(ctx, at, end, n)
				if err != nil {
					t.Fatal(err)
				}
				q := &change.Query{D: dialect.PostgreSQL}
				q.Add("SELECT count(*) FROM "+table.SQL(d)+" AS x WHERE 1 = 1").Range("x", table.Key, r)
				var rows int64
				if err := db.pool.QueryRow(q.String(), q.Args...).Scan(&rows); err != nil {
					t.Fatal(err)
				}
				if rows > int64(n) {
					t.Errorf("%s: a range of %d rows where %d were wanted", name, rows, n)
				}
				total += rows
				at = r.Hi
			}
			var want int64
			if err := other.QueryRow("SELECT count(*) FROM " + name).Scan(&want); err != nil || total != want {
				t.Errorf("%s in ranges of %d: %d rows, want %d (%v)", name, n, total, want, err)
			}
		}
	}
}

func TestRunLock(t *testing.T) {
	db, _ := open(t)
	ctx := context.Background()
	session := func() *engine.Session {
		s, err := db.Session(ctx, engine.SessionOptions{Purpose: "test"})
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	a, b := session(), session()
	defer b.Close()
	if ok, err := db.LockRun(ctx, a, 7, 0); !ok || err != nil {
		t.Fatal(ok, err)
	}
	if ok, _ := db.LockRun(ctx, b, 7, 200*time.Millisecond); ok {
		t.Error("two sessions work on one run")
	}
	if ok, _ := db.LockRun(ctx, b, 8, 0); !ok {
		t.Error("another run is locked as well")
	}
	var pid int
	if err := a.Conn.QueryRowContext(ctx, "SELECT pg_backend_pid()").Scan(&pid); err != nil {
		t.Fatal(err)
	}
	if _, err := b.Conn.ExecContext(ctx, "SELECT pg_terminate_backend($1)", pid); err != nil {
		t.Fatal(err)
	}
	if ok, err := db.LockRun(ctx, b, 7, 5*time.Second); !ok || err != nil {
		t.Error("the lock outlives its session", err)
	}
	_, err := a.Start(ctx)
	if db.Fault(err) != engine.Connection {
		t.Errorf("a session that was ended is fault %v: %v", db.Fault(err), err)
	}
	a.Close()
}

// batch runs one batch over the whole of t in a transaction of its own.
func batch(t *testing.T, db *DB, s *engine.Session, c *change.Change, kept *change.Kept, base int64, during func()) (engine.Effect, error) {
	t.Helper()
	ctx := context.Background()
	tx, err := s.Start(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	if during != nil {
		during()
	}
	e, err := db.Batch(ctx, tx, c, kept, change.Range{Hi: change.KeyValue{"1000000"}}, base)
	if err != nil {
		return e, err
	}
	return e, tx.Commit(ctx)
}

// TestRowChangedBetweenReadingAndWriting makes another session commit a change
// of a row after the batch has read it and before it writes it: the batch must
// work from what the other left.
func TestRowChangedBetweenReadingAndWriting(t *testing.T) {
	db, other := open(t, "CREATE TABLE t (id bigint PRIMARY KEY, n bigint)", "INSERT INTO t SELECT i, i FROM generate_series(1, 50) i", "CREATE SCHEMA IF NOT EXISTS jugatum", "DROP TABLE IF EXISTS jugatum.k")
	ctx := context.Background()
	table, err := db.Table(ctx, "", "t")
	if err != nil {
		t.Fatal(err)
	}
	c, err := change.Build(d, change.Spec{Name: "s", SQL: "UPDATE t SET n = n * 10 WHERE n > 0"}, nil, func(string, string) (*change.Table, error) { return table, nil })
	if err != nil {
		t.Fatal(err)
	}
	kept := change.NewKept("jugatum.k", c)
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "test", LockTimeout: 10 * time.Second})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	tx, err := s.Start(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range db.KeptTable(kept) {
		if _, err := tx.Exec(ctx, text); err != nil {
			t.Fatal(err)
		}
	}
	if err := tx.Commit(ctx); err != nil {
		t.Fatal(err)
	}
	// The other session holds rows 7 and 8 when the batch comes to them, and lets go later.
	blocker, err := other.Begin()
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{"UPDATE t SET n = n + 1 WHERE id = 7", "UPDATE t SET n = -1 WHERE id = 8", "DELETE FROM t WHERE id = 9"} {
		if _, err := blocker.Exec(text); err != nil {
			t.Fatal(err)
		}
	}
	time.AfterFunc(300*time.Millisecond, func() { blocker.Commit() })
	e, err := batch(t, db, s, c, kept, 100, nil)
	if err != nil {
		t.Fatal(err)
	}
	if e.Changed != 48 || e.Matched != 48 || e.Kept < 48 { // numbers taken by the first attempt are gone
		t.Errorf("%+v", e)
	}
	var seven, eight, pre int64
	if err := other.QueryRow("SELECT (SELECT n FROM t WHERE id = 7), (SELECT n FROM t WHERE id = 8), (SELECT old_n FROM jugatum.k WHERE key_id = 7)").Scan(&seven, &eight, &pre); err != nil {
		t.Fatal(err)
	}
	if seven != 80 || eight != -1 || pre != 8 {
		t.Errorf("row 7 is %d (kept %d), row 8 is %d", seven, pre, eight)
	}
	if e.Log.Bytes <= 0 || e.Log.Scope != "ours" {
		t.Errorf("log %+v", e.Log)
	}
	// Quiet again: the next batch reads and writes at once, and tells what it went over.
	e, err = batch(t, db, s, c, kept, 148, nil)
	if err != nil || e.Changed != 48 || e.Matched != 48 || e.Scanned < 49 {
		t.Errorf("%+v %v", e, err)
	}
}

func TestFaults(t *testing.T) {
	db, other := open(t, "CREATE TABLE t (id int PRIMARY KEY, n int CHECK (n < 100))", "INSERT INTO t VALUES (1, 1), (2, 2)")
	ctx := context.Background()
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "test", LockTimeout: 100 * time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	hold, err := other.Begin()
	if err != nil {
		t.Fatal(err)
	}
	defer hold.Rollback()
	if _, err := hold.Exec("UPDATE t SET n = 5 WHERE id = 1"); err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]engine.Fault{
		"UPDATE t SET n = 6 WHERE id = 1":               engine.Busy,
		"UPDATE t SET n = 200 WHERE id = 2":             engine.Data,
		"UPDATE t SET m = 1":                            engine.Invalid,
		"UPDATE t SET n = 1 / (id - 2) WHERE id = 2":    engine.Data,
		"SELECT pg_terminate_backend(pg_backend_pid())": engine.Connection,
	} {
		tx, err := s.Start(ctx)
		if err != nil { // after the last: anew
			s.Close()
			if s, err = db.Session(ctx, engine.SessionOptions{Purpose: "test", LockTimeout: 100 * time.Millisecond}); err != nil {
				t.Fatal(err)
			}
			if tx, err = s.Start(ctx); err != nil {
				t.Fatal(err)
			}
		}
		_, err = tx.Exec(ctx, text)
		if got := db.Fault(err); got != want {
			t.Errorf("%s: fault %v, want %v (%v)", text, got, want, err)
		}
		tx.Rollback()
	}
	if db.Fault(context.Canceled) != engine.Cancelled {
		t.Error("a cancelled context is a fault of the database")
	}
	if _, err := db.pool.Exec("UPDATE t SET n = 3"); err == nil {
		t.Error("the pool writes")
	}
}

// TestLocksAreTrue compares what a batch tells of its locks with pg_locks as
// another session sees it.
func TestLocksAreTrue(t *testing.T) {
	db, plain := open(t, "CREATE TABLE t (id int PRIMARY KEY, n int)", "CREATE INDEX ON t (n)", "INSERT INTO t SELECT i, i FROM generate_series(1, 500) AS i")
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
	if _, err := tx.Exec(ctx, "UPDATE t SET n = -n WHERE id <= 100"); err != nil {
		t.Fatal(err)
	}
	got, err := db.Locks(ctx, tx)
	if err != nil {
		t.Fatal(err)
	}
	// But for pg_locks, which it held to look at it.
	rows, err := plain.Query("SELECT mode, count(*) FROM pg_locks l JOIN pg_class c ON c.oid = l.relation WHERE pid = $1 AND granted AND relname <> 'pg_locks' GROUP BY mode", s.ID)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	want := map[string]int{}
	for rows.Next() {
		var mode string
		var n int
		if err := rows.Scan(&mode, &n); err != nil {
			t.Fatal(err)
		}
		want[mode] = n
	}
	if got["RowExclusiveLock"] != 3 || !maps.Equal(got, want) { // the table and its two indexes
		t.Errorf("the batch tells %v, pg_locks %v", got, want)
	}
}
