package sqlite

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"testing"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// file makes a database file out of statements and opens it.
func file(t *testing.T, mode string, statements ...string) (*DB, *sql.DB) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "x y?.db")
	raw, err := sql.Open("sqlite", "file:"+strings.ReplaceAll(strings.ReplaceAll(path, "?", "%3f"), " ", "%20")+"?_pragma=journal_mode("+mode+")")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { raw.Close() })
	for _, s := range append(statements, "CREATE TABLE IF NOT EXISTS anything (x)") {
		if _, err := raw.Exec(s); err != nil {
			t.Fatalf("%s: %v", s, err)
		}
	}
	return reopen(t, path), raw
}

func reopen(t *testing.T, path string) *DB {
	t.Helper()
	// A question mark in the path would begin the options; a link with a plain
	// name leads to it, and the log lies beside the file all the same.
	if err := os.Symlink(path, filepath.Join(filepath.Dir(path), "link.db")); err != nil {
		t.Fatal(err)
	}
	db, err := Open(context.Background(), "sqlite:"+filepath.Join(filepath.Dir(path), "link.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

func TestAffinity(t *testing.T) {
	// The examples of https://sqlite.org/datatype3.html#affinity_name_examples.
	for declared, want := range map[string]string{"INT": "INTEGER", "UNSIGNED BIG INT": "INTEGER", "VARYING CHARACTER(255)": "TEXT", "CLOB": "TEXT", "BLOB": "BLOB", "": "BLOB",
		"DOUBLE PRECISION": "REAL", "FLOAT": "REAL", "DECIMAL(10,5)": "NUMERIC", "BOOLEAN": "NUMERIC", "DATETIME": "NUMERIC", "FLOATING POINT": "INTEGER", "STRING": "NUMERIC"} {
		if got := affinity(declared); got != want {
			t.Errorf("%q: %s, want %s", declared, got, want)
		}
	}
}

func TestKeys(t *testing.T) {
	db, _ := file(t, "wal",
		"CREATE TABLE rowid (id INTEGER PRIMARY KEY, n)",
		"CREATE TABLE loose (k TEXT PRIMARY KEY)",
		"CREATE TABLE firm (k TEXT NOT NULL PRIMARY KEY)",
		"CREATE TABLE without (a TEXT, b INT, PRIMARY KEY (b, a)) WITHOUT ROWID",
		"CREATE TABLE uniq (a INT, b INT NOT NULL, c INT NOT NULL)", "CREATE UNIQUE INDEX u1 ON uniq (a)", "CREATE UNIQUE INDEX u2 ON uniq (b) WHERE c > 0", "CREATE UNIQUE INDEX u3 ON uniq (c, b)",
		"CREATE TABLE none (a INT NOT NULL)", "CREATE INDEX i ON none (a)",
		"CREATE TABLE expr (a INT NOT NULL, RowID)", "CREATE UNIQUE INDEX e ON expr (a + 1)",
		"CREATE TABLE all_taken (rowid, oid, _ROWID_)")
	for name, want := range map[string]string{
		"rowid": "primary key (id) integer", "loose": "primary key (k) may be NULL", "firm": "primary key (k)", "without": "primary key (b, a)",
		"uniq": "u3 (c, b)", "none": "row number (rowid) integer", "expr": "row number (_rowid_) integer", "all_taken": "", "ROWID": "primary key (id) integer",
	} {
		table, err := db.Table(context.Background(), "", name)
		if err != nil {
			t.Fatal(err)
		}
		got := ""
		if k := table.Key; k != nil {
			got = fmt.Sprintf("%s (%s)", k.Name, strings.Join(k.Names(), ", "))
			if k.Integer {
				got += " integer"
			}
			if k.MayNull {
				got += " may be NULL"
			}
		}
		if got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
}

func TestCatalogue(t *testing.T) {
	db, _ := file(t, "wal",
		`CREATE TABLE "odd ""name" (id INTEGER PRIMARY KEY, g INT AS (id + 1), s TEXT DEFAULT 'x')`,
		"CREATE TABLE parent (id INTEGER PRIMARY KEY, a INT, b INT, UNIQUE (a, b))",
		"CREATE TABLE child (p INT REFERENCES parent ON DELETE SET NULL, a INT, b INT, FOREIGN KEY (a, b) REFERENCES parent (a, b) ON UPDATE CASCADE)",
		"CREATE TRIGGER t1 AFTER UPDATE OF a ON parent BEGIN SELECT 1; END", "CREATE TRIGGER t2 DELETE ON parent BEGIN SELECT 1; END", "CREATE TRIGGER t3 BEFORE INSERT ON parent BEGIN SELECT 1; END",
		"CREATE VIEW v AS SELECT 1", "CREATE TABLE jugatum_x (a)", "INSERT INTO parent VALUES (3, 1, 1), (9, 2, 2)")
	ctx := context.Background()
	odd, err := db.Table(ctx, "main", `odd "name`)
	if err != nil || !odd.Columns[1].Generated || odd.Columns[2].Default != "'x'" || len(odd.Stored()) != 2 {
		t.Errorf("%v %+v", err, odd)
	}
	p, err := db.Table(ctx, "", "parent")
	if err != nil {
		t.Fatal(err)
	}
	for i := range p.Triggers {
		if !strings.HasPrefix(p.Triggers[i].Text, "CREATE TRIGGER t") {
			t.Errorf("trigger text %q", p.Triggers[i].Text)
		}
		p.Triggers[i].Text = ""
	}
	if want := []change.Trigger{{Name: "t1", Events: "after update", Update: true}, {Name: "t2", Events: "before delete", Delete: true}, {Name: "t3", Events: "before insert", Insert: true}}; !reflect.DeepEqual(p.Triggers, want) {
		t.Errorf("triggers %+v, want %+v", p.Triggers, want)
	}
	if got, want := fmt.Sprint(p.ReferredBy), "[{child (a)  child [a b] [a b] CASCADE NO ACTION []} {child (p)  child [p] [id] NO ACTION SET NULL []}]"; got != want {
		t.Errorf("references %s, want %s", got, want)
	}
	if p.Rows != 7 || !p.Estimated {
		t.Errorf("rows from the span of the key: %d", p.Rows)
	}
	for name, want := range map[string]string{"v": "view", "jugatum_x": "belongs to Jugatum", "sqlite_schema": "", "parents": `did you mean "parent"`} {
		_, err := db.Table(ctx, "", name)
		var nf *engine.NotFoundError
		var rf *engine.RefusedError
		if !errors.As(err, &nf) && !errors.As(err, &rf) || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", name, err)
		}
	}
	all, err := db.Tables(ctx)
	if err != nil || len(all) != 4 {
		t.Errorf("%v: %d tables", err, len(all))
	}
}

// TestWalkReachesEveryRowOnce, in key order, whatever the ranges' size, and
// nothing beyond the end that was fixed at first.
func TestWalkReachesEveryRowOnce(t *testing.T) {
	db, raw := file(t, "wal", "CREATE TABLE t (a TEXT COLLATE NOCASE NOT NULL, b INT NOT NULL, PRIMARY KEY (a, b))",
		"INSERT INTO t SELECT char(97 + i % 5), i FROM (WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < 101) SELECT i FROM s)", "UPDATE t SET a = upper(a) WHERE b % 2 = 0")
	ctx := context.Background()
	table, err := db.Table(ctx, "", "t")
	if err != nil {
		t.Fatal(err)
	}
	for _, n := range []int{1, 7, 50, 101, 5000} {
		w := engine.NewWalk(db, table)
		end, err := w.End(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if n == 7 {
			if _, err := raw.Exec("INSERT INTO t VALUES ('zz', 1)"); err != nil {
				t.Fatal(err)
			}
		}
		var at change.KeyValue
		total, ranges := int64(0), 0
		for at == nil || at.Encode() != end.Encode() {
			r, rows, err := w.Next(ctx, at, end, n)
			if err != nil || rows < 1 || rows > int64(n) {
				t.Fatalf("%v: %d rows after %v", err, rows, at)
			}
			at = r.Hi
			total += rows
			ranges++
		}
		if total != 101 || ranges != (101+n-1)/n {
			t.Errorf("ranges of %d: %d rows in %d ranges", n, total, ranges)
		}
		if _, err := raw.Exec("DELETE FROM t WHERE a = 'zz'"); err != nil {
			t.Fatal(err)
		}
	}
}

// TestLogIsCounted holds frames against the size of the log file, also after
// the log has started again from its beginning, and with others writing.
func TestLogIsCounted(t *testing.T) {
	db, raw := file(t, "wal", "CREATE TABLE t (id INTEGER PRIMARY KEY, s TEXT)", "PRAGMA wal_checkpoint(TRUNCATE)")
	ctx := context.Background()
	s, err := db.Session(ctx, engine.SessionOptions{LockTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	size := func() int64 {
		fi, err := os.Stat(db.path + "-wal")
		if err != nil {
			return 0
		}
		return fi.Size()
	}
	for round := 0; round < 6; round++ {
		if round == 3 { // everything is in the file, so the next writer begins the log anew
			if err := s.Conn.QueryRowContext(ctx, "PRAGMA wal_checkpoint(TRUNCATE)").Scan(new(int), new(int), new(int)); err != nil {
				t.Fatal(err)
			}
		}
		before := size()
		tx, err := s.Start(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := tx.Exec(ctx, "INSERT INTO t (s) SELECT hex(randomblob(3000)) FROM (WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < 40) SELECT i FROM s)"); err != nil {
			t.Fatal(err)
		}
		if err := tx.Commit(ctx); err != nil {
			t.Fatal(err)
		}
		header := int64(0)
		if before == 0 {
			header = walHeader
		}
		if got, want := tx.Log.Bytes, size()-before-header; got != want || tx.Log.Records*(frameHeader+4096) != got || got == 0 {
			t.Errorf("round %d: %d bytes in %d frames, the file grew by %d", round, got, tx.Log.Records, want)
		}
		if tx.Hold <= 0 || tx.Hold < tx.Ends {
			t.Errorf("hold %v, commit %v", tx.Hold, tx.Ends)
		}
		if _, err := raw.Exec("UPDATE t SET s = 'short' WHERE id = 1"); err != nil {
			t.Fatal(err)
		}
	}
}

func TestJournalIsTold(t *testing.T) {
	db, _ := file(t, "delete", "CREATE TABLE t (id INTEGER PRIMARY KEY, s TEXT)", "INSERT INTO t SELECT i, hex(randomblob(500)) FROM (WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < 400) SELECT i FROM s)")
	ctx := context.Background()
	s, err := db.Session(ctx, engine.SessionOptions{LockTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if s.Durable != nil {
		t.Error("in rollback-journal mode the flush is not ours to leave out")
	}
	tx, err := s.Start(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := tx.Exec(ctx, "UPDATE t SET s = s || 'x'"); err != nil {
		t.Fatal(err)
	}
	if err := tx.Commit(ctx); err != nil {
		t.Fatal(err)
	}
	if tx.Log.Bytes < 100*4096 || tx.Log.Scope != "ours" {
		t.Errorf("journal %+v", tx.Log)
	}
	var mode string
	if err := db.pool.QueryRow("PRAGMA journal_mode").Scan(&mode); err != nil || mode != "delete" {
		t.Errorf("the file's mode became %s", mode)
	}
}

// TestLookingCannotWrite: only sessions may.
func TestLookingCannotWrite(t *testing.T) {
	db, _ := file(t, "wal", "CREATE TABLE t (id INTEGER PRIMARY KEY)")
	if _, err := db.pool.Exec("INSERT INTO t VALUES (1)"); err == nil {
		t.Error("the pool writes")
	}
	s, err := db.Session(context.Background(), engine.SessionOptions{})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := s.Conn.ExecContext(context.Background(), "INSERT INTO t VALUES (1)"); err != nil {
		t.Error(err)
	}
	_, err = s.Conn.ExecContext(context.Background(), "INSERT INTO t VALUES (1)")
	if db.Fault(err) != engine.Data {
		t.Errorf("a key that is taken is fault %v: %v", db.Fault(err), err)
	}
	_, err = s.Conn.ExecContext(context.Background(), "INSERT INTO nothing VALUES (1)")
	if db.Fault(err) != engine.Invalid {
		t.Errorf("a table that is not there is fault %v: %v", db.Fault(err), err)
	}
}

// TestWriteLockIsWaitedFor, but not for ever.
func TestWriteLockIsWaitedFor(t *testing.T) {
	db, raw := file(t, "wal", "CREATE TABLE t (id INTEGER PRIMARY KEY)")
	raw.SetMaxOpenConns(1)
	ctx := context.Background()
	s, err := db.Session(ctx, engine.SessionOptions{LockTimeout: time.Millisecond})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := raw.Exec("BEGIN IMMEDIATE"); err != nil {
		t.Fatal(err)
	}
	if _, err = s.Start(ctx); db.Fault(err) != engine.Busy {
		t.Errorf("%v", err)
	}
	begun := time.Now()
	time.AfterFunc(200*time.Millisecond, func() { raw.Exec("ROLLBACK") })
	tx, err := s.Start(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if tx.Wait <= 0 || tx.Wait > time.Since(begun) {
		t.Errorf("a wait of %v was told", tx.Wait)
	}
	tx.Rollback()
	tx.Rollback() // does nothing
}

// TestGatheringLocksNobodyOut: what a statement finds comes into a table of ours in short transactions, and is
// found outside of them: while another session holds the write lock, which it gives up only before the first.
func TestGatheringLocksNobodyOut(t *testing.T) {
	ctx := context.Background()
	for name, gather := range map[string]func(*testing.T, *DB, *engine.Session, func(context.Context, func(*engine.Tx) error) error){
		"a list": func(t *testing.T, db *DB, s *engine.Session, within func(context.Context, func(*engine.Tx) error) error) {
			beside := engine.Temporary(db, "beside")
			g := engine.Gathering{Into: "list", Columns: "seq, k", Beside: beside, Make: []string{"CREATE TABLE " + beside + " (seq INTEGER PRIMARY KEY, k)"},
				Find: func(into string) *change.Query {
					q := &change.Query{D: d}
					return q.Add("INSERT INTO ", into, " (k) SELECT -id FROM t ORDER BY id DESC")
				},
				Within: within}
			if n, err := g.Gather(ctx, db, s); err != nil || n != 25_000 {
				t.Fatalf("%d rows: %v", n, err)
			}
			if n, err := g.Gather(ctx, db, s); err == nil {
				t.Errorf("%d rows came twice", n)
			}
		},
		"a source": func(t *testing.T, db *DB, s *engine.Session, within func(context.Context, func(*engine.Tx) error) error) {
			q := &change.Query{D: d}
			q.Add("SELECT 25001 - id AS seq, -id AS k FROM t ORDER BY id DESC")
			x := engine.Staging{Table: "list", Query: q, Index: []string{"seq"}}
			for range 2 { // one of an earlier try is made anew
				if err := engine.StageBeside(ctx, db, s, x, engine.Temporary(db, "beside"), within); err != nil {
					t.Fatal(err)
				}
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			db, raw := file(t, "wal", "CREATE TABLE t (id INTEGER PRIMARY KEY, n)", "CREATE TABLE list (seq INTEGER PRIMARY KEY, k)",
				"INSERT INTO t WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < 25000) SELECT i, i % 2 FROM s")
			s, err := db.Session(ctx, engine.SessionOptions{LockTimeout: time.Second})
			if err != nil {
				t.Fatal(err)
			}
			defer s.Close()
			other, err := raw.Conn(ctx)
			if err != nil {
				t.Fatal(err)
			}
			defer other.Close()
			if _, err := other.ExecContext(ctx, "BEGIN IMMEDIATE"); err != nil {
				t.Fatal(err)
			}
			if _, err := raw.ExecContext(ctx, "DELETE FROM list"); err == nil {
				t.Error("the write lock is not held")
			}
			stretches := 0
			gather(t, db, s, func(ctx context.Context, do func(*engine.Tx) error) error {
				if stretches++; stretches == 1 {
					if _, err := other.ExecContext(ctx, "ROLLBACK"); err != nil {
						return err
					}
				}
				_, err := s.InTx(ctx, do)
				return err
			})
			if stretches < 3 {
				t.Errorf("they came in %d stretches", stretches)
			}
			var count, first, last int
			if err := raw.QueryRow("SELECT count(*), (SELECT k FROM list WHERE seq = 1), (SELECT k FROM list WHERE seq = 25000) FROM list").Scan(&count, &first, &last); err != nil || count != 25_000 || first != -25_000 || last != -1 {
				t.Error(count, first, last, err)
			}
		})
	}
}

// TestReferencesOfMany: what a table is told of those that refer to it is the same alone and among all tables,
// whatever letters its name has.
func TestReferencesOfMany(t *testing.T) {
	ctx := context.Background()
	db, _ := file(t, "wal", "CREATE TABLE Ärmel (id INTEGER PRIMARY KEY)", "CREATE TABLE knopf (id INTEGER PRIMARY KEY, a REFERENCES ÄRMEL ON DELETE CASCADE, b INTEGER REFERENCES Ärmel (id))",
		"CREATE TABLE own (id INTEGER PRIMARY KEY, up REFERENCES OWN)")
	all, err := db.Tables(ctx)
	if err != nil || len(all) != 4 { // one is of every file
		t.Fatal(all, err)
	}
	for _, x := range all {
		one, err := db.Table(ctx, "", x.Name)
		if err != nil || !reflect.DeepEqual(one.ReferredBy, x.ReferredBy) {
			t.Errorf("%s: alone %v, among all %v: %v", x.Name, one.ReferredBy, x.ReferredBy, err)
		}
		if want := map[string]int{"Ärmel": 2, "own": 1}[x.Name]; len(x.ReferredBy) != want {
			t.Errorf("%s has %d references: %v", x.Name, len(x.ReferredBy), x.ReferredBy)
		}
	}
}
