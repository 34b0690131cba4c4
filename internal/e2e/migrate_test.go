package e2e

import (
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"jugatum/internal/engine"
	"jugatum/internal/engine/mariadb"
	"jugatum/internal/engine/postgres"
	"jugatum/internal/report"
)

// The ledgers in testdata/ledgers were made by earlier versions of the program, as
// the dumps that the databases' own tools write of them. A program of that time,
// named by JUGATUM_OLD, makes them anew:
//
//	JUGATUM_OLD=/tmp/old JUGATUM_OLD_VERSION=3 go test -run TestEarlierLedgers ./internal/e2e
const earlier = "testdata/ledgers"

// made are the versions whose ledgers are there. A program that makes its own anew
// is the one of JUGATUM_OLD_VERSION.
var made = []string{"2", "3", "4"}

// madeBy has an earlier version of the program make runs of every end.
func (d *database) madeBy(old, config string) {
	d.t.Helper()
	do := func(status int, args ...string) {
		cmd := exec.Command(old, append(args, "--db", d.url)...)
		cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+config)
		if out, _ := cmd.CombinedOutput(); cmd.ProcessState.ExitCode() != status {
			d.t.Fatalf("%v: exit status %d\n%s", args, cmd.ProcessState.ExitCode(), out)
		}
	}
	d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer, note varchar(40))", "INSERT INTO t SELECT i, i, 'berth ' || i FROM "+d.numbers(60),
		"CREATE TABLE u (id integer PRIMARY KEY, n integer)", "INSERT INTO u SELECT i, i FROM "+d.numbers(60),
		"CREATE TABLE t_before AS SELECT * FROM t")
	do(0, "run", "--sql", "UPDATE t SET n = n * 2 + 1 WHERE id > 20", "--accept", "40", "--batch", "15")
	do(0, "run", "--sql", "DELETE FROM t WHERE id <= 20", "--accept", "20", "--batch", "15")
	do(0, "undo", "2", "--batch", "15")
	d.fault("u", 25)
	do(1, append([]string{"run", "--sql", "UPDATE u SET n = n * 3 + 1 WHERE id % 10 <> 0", "--accept", "54", "--batch", "8"}, d.workers(3)...)...)
	d.faultless("u")
	d.exec("CREATE TABLE w (id integer PRIMARY KEY, n integer, CONSTRAINT five CHECK (n <> 5))", "INSERT INTO w VALUES (1, 1), (2, 2), (3, 3), (4, 4), (8, 8), (9, 9), (10, 10)")
	do(5, "run", "--sql", "UPDATE w SET n = n + 1 WHERE id > 0", "--accept", "7", "--set-aside", "3")
	do(0, "run", "--sql", "UPDATE w SET n = 100 + id WHERE id > 7", "--accept", "3")
	d.exec("UPDATE w SET n = 7777 WHERE id = 9", "DELETE FROM w WHERE id = 10")
	do(5, "undo", "6")
}

// dumped writes the database as statements.
func (d *database) dumped(path string) {
	d.t.Helper()
	var cmd *exec.Cmd
	switch d.engine {
	case "sqlite":
		cmd = exec.Command("sqlite3", strings.TrimPrefix(d.url, "sqlite:"), ".dump")
	case "postgres":
		cmd = exec.Command("pg_dump", "--inserts", "--no-comments", d.url)
	default:
		cmd = exec.Command("mariadb-dump", "--skip-comments", "--skip-extended-insert", "--hex-blob", "--skip-add-locks", "--skip-disable-keys", "-h127.0.0.1", "-P"+regexp.MustCompile(`:(\d+)/`).FindStringSubmatch(d.url)[1], "-uroot", d.one("SELECT DATABASE()"))
	}
	out, err := cmd.Output()
	if err != nil {
		d.t.Fatal(err)
	}
	if err := os.WriteFile(path, out, 0o644); err != nil {
		d.t.Fatal(err)
	}
}

// loaded carries out such statements.
func (d *database) loaded(path string) {
	d.t.Helper()
	text, err := os.ReadFile(path)
	if err != nil {
		d.t.Fatal(err)
	}
	d.db.SetMaxOpenConns(1) // the dump sets variables of its session
	defer d.db.SetMaxOpenConns(0)
	// Lines for the tools that read a dump, and settings of theirs.
	dump := regexp.MustCompile(`(?m)^(\\|SET |SELECT pg_catalog\.set_config|PRAGMA foreign_keys|BEGIN TRANSACTION|COMMIT|/\*M?!999999).*\n`).ReplaceAllString(string(text), "")
	dump = strings.ReplaceAll(dump, "`saltmere_v"+filepath.Base(filepath.Dir(path))+"`.", "") // a view names the database that it was made in
	for _, s := range regexp.MustCompile(`;[ \t]*\n`).Split(dump, -1) {
		if strings.TrimSpace(s) != "" {
			d.exec(s)
		}
	}
}

// ledgerForm tells the columns of the ledger's tables, with their types.
func (d *database) ledgerForm() (out []string) {
	d.t.Helper()
	for _, table := range engine.LedgerTables {
		rows, err := d.db.Query("SELECT * FROM " + d.ledger(table) + " WHERE 1 = 0")
		if err != nil {
			d.t.Fatal(err)
		}
		types, err := rows.ColumnTypes()
		rows.Close()
		if err != nil {
			d.t.Fatal(err)
		}
		for _, c := range types {
			null, _ := c.Nullable()
			text := table + "." + c.Name() + " " + c.DatabaseTypeName()
			if null && d.engine == "mariadb" { // the others' drivers do not tell
				text += " null"
			}
			out = append(out, text)
		}
	}
	return out
}

// TestEarlierLedgers: what an earlier version recorded is verified, taken back and
// gone on with by this one.
func TestEarlierLedgers(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		old := os.Getenv("JUGATUM_OLD")
		made := made
		if old != "" {
			made = []string{os.Getenv("JUGATUM_OLD_VERSION")}
		}
		for _, version := range made {
			folder := filepath.Join(earlier, version)
			dump := filepath.Join(folder, d.engine+".sql")
			config := t.TempDir()
			d := named(t, d.engine, "saltmere_v"+version)
			if old != "" {
				if err := os.MkdirAll(folder, 0o755); err != nil {
					t.Fatal(err)
				}
				d.madeBy(old, config)
				d.dumped(dump)
				key, err := os.ReadFile(filepath.Join(config, "jugatum", "key"))
				if err == nil {
					err = os.WriteFile(filepath.Join(folder, d.engine+".key"), key, 0o600)
				}
				if err != nil {
					t.Fatal(err)
				}
				continue
			}
			d.loaded(dump)
			key, err := os.ReadFile(filepath.Join(folder, d.engine+".key"))
			if err != nil {
				t.Fatal(err)
			}
			if err := os.Mkdir(filepath.Join(config, "jugatum"), 0o700); err != nil {
				t.Fatal(err)
			}
			if err := os.WriteFile(filepath.Join(config, "jugatum", "key"), key, 0o600); err != nil {
				t.Fatal(err)
			}
			do := func(status int, args ...string) outcome {
				t.Helper()
				o := d.as(config, args...)
				if o.status != status {
					t.Fatalf("%v: exit status %d, want %d\n%s%s", args, o.status, status, o.out, o.err)
				}
				return o
			}
			if d.engine == "mariadb" && version == "2" { // as a kill between two statements leaves it
				d.exec("ALTER TABLE jugatum_step ADD COLUMN walk longtext CHARACTER SET utf8mb4 COLLATE utf8mb4_bin NOT NULL DEFAULT ''")
			}
			told := "was brought from version " + version
			if o := do(0, "runs"); !strings.Contains(o.err, told) || !strings.Contains(o.out, "UPDATE u SET") {
				t.Error(o.out, o.err)
			}
			if o := do(0, "runs"); strings.Contains(o.err, told) {
				t.Error("once more:", o.err)
			}
			for _, run := range []string{"1", "3"} {
				do(0, "verify", run)
			}
			do(0, "undo", "1", "--batch", "7")
			same(t, "undone", d.dump("t"), d.dump("t_before"))
			// How its rows were divided version 2 did not seal; PostgreSQL's ledger is nobody else's.
			if d.engine != "postgres" && version == "2" {
				if o := do(3, "resume", "4"); !strings.Contains(o.err, "--trust-record") {
					t.Error(o.err)
				}
			}
			var trusting []string
			if version == "2" {
				trusting = []string{"--trust-record"}
			}
			do(0, append([]string{"resume", "4"}, trusting...)...)
			do(0, append([]string{"verify", "4"}, trusting...)...)
			if n := d.one("SELECT count(*) FROM u WHERE n = CASE WHEN id % 10 <> 0 THEN id * 3 + 1 ELSE id END"); n != "60" {
				t.Errorf("%s of 60 rows are right", n)
			}
			var aside, undone report.Run
			for run, into := range map[string]*report.Run{"5": &aside, "7": &undone} {
				if err := json.Unmarshal([]byte(do(0, "show", run, "--json").out), into); err != nil {
					t.Fatal(err)
				}
			}
			if aside.SetAside != 1 || len(aside.Asides) != 1 || aside.Asides[0].KeyText != "4" || *aside.Asides[0].New["n"] != "5" || !strings.Contains(aside.Asides[0].Error, "five") {
				t.Errorf("%+v", aside)
			}
			if len(undone.Skipped) != 2 || undone.Skipped[0].Key != "9" || undone.Skipped[0].Found["n"] != "7777" || undone.Skipped[0].Expected["n"] != "109" || !undone.Skipped[1].Gone {
				t.Errorf("%+v", undone)
			}
			d.exec("UPDATE w SET n = 40 WHERE id = 4")
			do(0, "resume", "5", "--retry-set-aside")
			if n := d.one("SELECT n FROM w WHERE id = 4"); n != "41" {
				t.Errorf("the row that was set aside has %s", n)
			}
			anew := fresh(t, d.engine)
			anew.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t VALUES (1, 1)")
			anew.must(0, "run", "--sql", "UPDATE t SET n = 2 WHERE id = 1", "--accept", "1")
			same(t, "form", d.ledgerForm(), anew.ledgerForm())
		}
	})
}

// TestMigrationWaits: a ledger is not brought up to date under a process of an
// earlier version that is at work by it.
func TestMigrationWaits(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		if os.Getenv("JUGATUM_OLD") != "" {
			t.Skip("the ledgers are being made")
		}
		d = named(t, d.engine, "saltmere_busy")
		d.loaded(filepath.Join(earlier, "2", d.engine+".sql"))
		d.exec("UPDATE " + d.ledger("run") + " SET status = 'running' WHERE id = 4")
		switch d.engine {
		case "sqlite": // by a lease that somebody elsewhere has just renewed
			d.exec("UPDATE jugatum_run SET heartbeat = strftime('%Y-%m-%d %H:%M:%S.000000+00:00', 'now', '+1 day'), host = 'another', holder = 'x' WHERE id = 4")
		case "postgres":
			db, err := postgres.Open(context.Background(), d.url)
			holds(t, db, db, err)
		default:
			db, err := mariadb.Open(context.Background(), d.url)
			holds(t, db, db, err)
		}
		before := d.ledgerTables()
		o := d.must(1, "runs")
		if !strings.Contains(o.err, "at work on run 4") {
			t.Error(o.err)
		}
		same(t, "tables", d.ledgerTables(), before)
	})
}

// holds has a session work on run 4, until the test ends.
func holds(t *testing.T, db engine.DB, locker engine.RunLocker, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	s, err := db.Session(context.Background(), engine.SessionOptions{})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	if got, err := locker.LockRun(context.Background(), s, 4, 0); !got || err != nil {
		t.Fatal("run 4 is not free", err)
	}
}
