// Command bench compares a change in batches with the database's own single
// statement, on the same data in one run, and prints ratios of times. Absolute
// times say little about another machine; the ratios are what is held to.
//
//	go run ./bench                    both engines, 1,000,000 rows, 5 rounds
//	go run ./bench -find -rows 2000000   find against statements written by hand
//	go run ./bench -load -rounds 3    what other sessions wait meanwhile; with -rate 800, that many transactions a second
//	go run ./bench -growth -rows 400000   every kind of step, each command on it, at a tenth of the rows and at all of them
//	go run ./bench -beside -rows 300000 -workers 2   every kind of step and its undo beside others: their longest waits, and errors
//	go run ./bench -cost              a run against one that does not measure what its batches cost
//	go run ./bench -engine sqlite -rows 200000 -rounds 3
package main

import (
	"context"
	"database/sql"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib"
	_ "modernc.org/sqlite"

	"jugatum/internal/testserver"
)

// shape is one change that is timed.
type shape struct {
	name, sql string  // one statement, or several of one transaction: see then
	bare      float64 // highest ratio wanted without kept values
	kept      float64 // with
	rare      bool    // few rows change
	job       string  // a job that does the same as sql
	sources   bool    // it reads the tables rate and cargo
	refers    bool    // rows of another table go with those of visit
}

const (
	inGo = 2.0 // ratio wanted where new values are computed in Go, without kept values and with
	fill = `SELECT i, i %% 997, (i %% 100000 + 1) / 7.0, CASE WHEN i %% 8 = 0 THEN 'see http://charts.saltmere.test/berth/' || i ELSE 'moor with care at the north mole, no. ' || i END FROM %s`
)

func shapes(engine string) []shape {
	bare, kept, rare := 1.10, 1.5, 1.5
	if engine == "sqlite" {
		bare, kept, rare = 1.25, 2, 1.5
	}
	return []shape{
		{"1 in 8 rows, text replaced", "UPDATE visit SET note = replace(note, 'http://charts', 'https://charts') WHERE note LIKE '%http://charts%'", bare, kept, false, "", false, false},
		{"1 in 8 rows, text replaced in Go", "UPDATE visit SET note = replace(note, 'http://charts', 'https://charts') WHERE note LIKE '%http://charts%'", inGo, inGo, false, "[[step]]\nin = [\"visit.note\"]\nreplace = { find = \"http://charts\", with = \"https://charts\" }\n", false, false},
		{"every row computed", "UPDATE visit SET dues = round(dues * 1.05, 2) WHERE id > 0", bare, kept, false, "", false, false},
		{"1 in 1,000 rows, no index", "UPDATE visit SET berth = berth + 1000 WHERE berth = 500", rare, rare, true, "", false, false},
		filled(engine, "every row filled by a key", "rate", "rate.berth = visit.berth", "rate.day_rate", filledBare, kept,
			"from = \"rate\"\nmatch = { berth = \"berth\" }\nfill = { dues = \"day_rate\" }\n"),
		filled(engine, "1 in 2 rows filled from sums", "("+sums+") AS s", "s.visit_id = visit.id", "s.tonnes", filledBare, kept,
			"from = \"("+sums+")\"\nmatch = { id = \"visit_id\" }\nfill = { dues = \"tonnes\" }\n"),
		moved("1 in 2 rows moved", "berth < 499"),
		moved("1 in 100 rows moved", "berth < 10"),
		copied("1 in 2 rows copied", "berth < 499"),
		{name: "1 in 2 rows deleted, 3 others with each", sql: "DELETE FROM visit WHERE berth < 499", bare: movedBare, kept: movedKept, refers: true},
	}
}

// latest is a change of rows that lie together, after nine times as many that stay: what shows is how
// long the first batch that reaches them holds its locks.
func latest(rows int) shape {
	return shape{name: "the latest 1 in 10 rows, no index", sql: fmt.Sprintf("UPDATE visit SET dues = round(dues * 1.05, 2) WHERE id * 10 > %d", 9*rows), bare: 1.5, kept: 2, rare: true}
}

// moved is a step that moves rows, and the two statements that do the same.
func moved(name, where string) shape {
	return shape{name, "INSERT INTO visit_archive SELECT * FROM visit WHERE " + where + then + "DELETE FROM visit WHERE " + where, movedBare, movedKept, false,
		"[[step]]\ntable = \"visit\"\nwhere = \"" + where + "\"\nmove_to = \"visit_archive\"\n", false, false}
}

// copied is a step that copies rows, and the statement that does the same.
func copied(name, where string) shape {
	return shape{name: name, sql: "INSERT INTO visit_archive SELECT * FROM visit WHERE " + where, bare: movedBare, kept: movedKept,
		job: "[[step]]\ntable = \"visit\"\nwhere = \"" + where + "\"\ncopy_to = \"visit_archive\"\n"}
}

// then stands between statements of one transaction.
const then = ";\n"

const (
	filledBare = 1.15 // ratio wanted of a step that fills, without kept values
	movedBare  = 1.25 // of one that moves rows
	movedKept  = 1.5
	sums       = "SELECT visit_id, sum(tonnes) AS tonnes FROM cargo GROUP BY visit_id"
)

// filled is a step that fills dues, and the join that does the same.
func filled(engine, name, source, on, value string, bare, kept float64, job string) shape {
	sql := "UPDATE visit SET dues = " + value + " FROM " + source + " WHERE " + on
	if engine == "mariadb" {
		sql = "UPDATE visit JOIN " + source + " ON " + on + " SET visit.dues = " + value
	}
	return shape{name, sql, bare, kept, false, "[[step]]\ntable = \"visit\"\n" + job, true, false}
}

// wanted is -only.
var wanted string

// workers is -workers.
var workers int

// growthLimit is -limit.
var growthLimit time.Duration

type result struct {
	Engine, Shape, Keep string
	Workers             int
	Ratio, Low, High    float64 // median, least and greatest of the rounds
	Wanted              float64
	Single              float64 // seconds, median
	HoldP99             float64 // ms, greatest of the rounds
	Rows                int64
	unmeasured          bool
	method              string // of the run, "" for the one that it chooses
	plain               bool   // not a run: the statement itself, in two sessions with half of the keys each
}

func main() {
	engine := flag.String("engine", "all", "sqlite, postgres, mariadb or all")
	rows := flag.Int("rows", 1_000_000, "rows of the table")
	rounds := flag.Int("rounds", 5, "rounds, of which the median counts")
	out := flag.String("out", "", "write the results as Markdown to this file")
	load := flag.Bool("load", false, "instead: what other sessions' transactions take, alone, beside a run and beside the single statement (postgres, mariadb)")
	rate := flag.Int("rate", 0, "with -load: transactions a second, 0 as many as there can be")
	sessions := flag.Int("sessions", 4, "with -load: sessions of it")
	with := flag.String("with", "--hold 100ms --waiters 0", "with -load: the run's options")
	only := flag.String("only", "", "changes whose name holds this")
	search := flag.Bool("find", false, "instead: find over the demo database, against statements written by hand")
	cost := flag.Bool("cost", false, "instead: what the measuring of batches costs (postgres, mariadb)")
	lists := flag.Bool("lists", false, "instead: lists in files, against joins and loads by hand")
	merges := flag.Bool("merge", false, "instead: rows that are the same become one, against statements by hand")
	undo := flag.Bool("undo", false, "instead: what an undo takes, against its run")
	tryWays := flag.Bool("trial", false, "instead: what trials estimate, against runs")
	flag.BoolVar(&onCopy, "copy", false, "with -trial: trials on a copy of the table")
	grows := flag.Bool("growth", false, "instead: how much longer each command takes at ten times the rows, for every kind of step")
	besides := flag.Bool("beside", false, "instead: what sessions beside every kind of step and its undo wait for, and whether they fail")
	flag.IntVar(&workers, "workers", 1, "with -beside: workers of the run")
	limit := flag.Duration("limit", 5*time.Minute, "with -growth and -beside: how long one command may take")
	flag.Parse()
	wanted, growthLimit = *only, *limit
	mode := ""
	for name, on := range map[string]bool{"load": *load, "find": *search, "cost": *cost, "undo": *undo, "lists": *lists, "merge": *merges, "trial": *tryWays, "growth": *grows, "beside": *besides} {
		if on {
			mode += name
		}
	}
	if err := run(*engine, *rows, *rounds, *rate, *sessions, *with, *out, mode); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(engine string, rows, rounds, rate, sessions int, with, out, mode string) error {
	dir, err := os.MkdirTemp("", "jugatum-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	bin := filepath.Join(dir, "jugatum")
	for _, more := range [][]string{{"-o", bin}, {"-tags", "unmeasured", "-o", bin + "-unmeasured"}} {
		build := exec.Command("go", append(append([]string{"build"}, more...), "jugatum/cmd/jugatum")...)
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if text, err := build.CombinedOutput(); err != nil {
			return fmt.Errorf("building: %w\n%s", err, text)
		}
	}
	os.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config")) // where the key of this user is
	var all []result
	heads := map[string]string{"load": loadHead, "find": findHead, "cost": costHead, "undo": undoHead, "lists": listsHead, "merge": mergeHead, "trial": trialHead, "growth": growthHead, "beside": besideHead}
	instead := heads[mode]
	if mode != "" && instead == "" {
		return fmt.Errorf("only one of -load, -find, -cost, -lists, -merge, -trial, -growth, -beside and -undo at a time")
	}
	for _, e := range []string{"postgres", "mariadb", "sqlite"} {
		if engine != "all" && engine != e {
			continue
		}
		b, err := newBench(e, bin, dir, rows)
		if err != nil {
			return err
		}
		if mode != "" {
			var text string
			var err error
			switch {
			case mode == "find":
				text, err = b.search(rounds)
			case mode == "merge":
				text, err = b.merges(rounds)
			case mode == "lists":
				text, err = b.lists(rounds)
			case mode == "growth":
				text, err = b.growth(growthLimit)
			case mode == "beside":
				var options []string
				if workers > 1 && e != "sqlite" {
					options = []string{"--workers", fmt.Sprint(workers)}
				}
				text, err = b.beside(growthLimit, options)
			case mode == "trial":
				text, err = b.trials(rounds)
			case mode == "undo":
				text, err = b.undos(rounds)
			case e == "sqlite": // one writer, and nothing to ask
			case mode == "load":
				text, err = b.underLoad(rounds, rate, sessions, with)
			default:
				text, err = b.costs(rounds)
			}
			b.close()
			if err != nil {
				return fmt.Errorf("%s: %w", e, err)
			}
			fmt.Print(text)
			instead += text
			continue
		}
		for _, s := range append(shapes(e), latest(b.rows)) {
			if !strings.Contains(s.name, wanted) {
				continue
			}
			list, err := b.compare(s, rounds)
			if err != nil {
				b.close()
				return fmt.Errorf("%s, %s: %w", e, s.name, err)
			}
			for _, r := range list {
				fmt.Println(line(r))
			}
			all = append(all, list...)
		}
		b.close()
	}
	text := report(all, rows, rounds)
	if mode != "" {
		text = instead
	}
	fmt.Print("\n" + text)
	if out != "" {
		return os.WriteFile(out, []byte(text), 0o644)
	}
	return nil
}

// bench is one engine with its data.
type bench struct {
	engine, bin, url string
	db               *sql.DB
	stop             func()
	maria            *testserver.MariaDB
	file             string
	rows             int
	sources          bool // the tables that some changes read are made as well
	refers           bool // and one that refers to the table
}

func newBench(engine, bin, dir string, rows int) (*bench, error) {
	b := &bench{engine: engine, bin: bin, rows: rows}
	var err error
	switch engine {
	case "postgres":
		s, err := testserver.StartPostgres("max_wal_size=8GB", "min_wal_size=4GB", "shared_buffers=512MB", "checkpoint_timeout=30min")
		if err != nil {
			return nil, err
		}
		b.url, b.stop = s.URL("postgres"), s.Stop
		if b.db, err = sql.Open("pgx", b.url); err != nil {
			return nil, err
		}
		// A server that has run for a while uses the files of its log over and over;
		// a new one makes and flushes one every 16 MB, for which everybody waits.
		for range 150 {
			if _, err := b.db.Exec("SELECT pg_logical_emit_message(false, 'fill', repeat('x', 16000000))"); err != nil {
				return nil, err
			}
		}
		if _, err := b.db.Exec("CHECKPOINT"); err != nil {
			return nil, err
		}
	case "mariadb":
		s, err := testserver.StartMariaDB("log-bin=bin", "binlog-format=ROW", "innodb-buffer-pool-size=1G", "innodb-log-file-size=2G", "max-binlog-cache-size=4G")
		if err != nil {
			return nil, err
		}
		b.url, b.stop, b.maria = s.URL("bench"), s.Stop, s
		admin, err := sql.Open("mysql", s.DSN("mysql"))
		if err != nil {
			return nil, err
		}
		defer admin.Close()
		if _, err := admin.Exec("CREATE DATABASE bench CHARACTER SET utf8mb4"); err != nil {
			return nil, err
		}
		if b.db, err = sql.Open("mysql", s.DSN("bench")); err != nil {
			return nil, err
		}
	default:
		b.file = filepath.Join(dir, "bench.db")
		b.url = "sqlite:" + b.file
		b.db, err = sql.Open("sqlite", "file:"+b.file+"?_pragma=busy_timeout(5000)&_pragma=cache_size(-8000)")
		b.db.SetMaxOpenConns(1)
	}
	return b, err
}

func (b *bench) close() {
	b.db.Close()
	if b.stop != nil {
		b.stop()
	}
}

// fresh makes the table anew, so that every run meets the same pages.
func (b *bench) fresh() error {
	ctx := context.Background()
	var texts []string
	switch b.engine {
	case "mariadb":
		b.db.SetMaxIdleConns(0) // they are about to be cut
		b.db.SetMaxIdleConns(2)
		// A buffer pool that has seen other tables come and go makes a difference of
		// a third, to the statement and to the run alike.
		if err := b.maria.Halt(); err != nil {
			return err
		}
		if err := b.maria.Start(); err != nil {
			return err
		}
		texts = []string{"DROP TABLE IF EXISTS line", "DROP TABLE IF EXISTS visit"}
		if rows, err := b.db.Query("SELECT concat(if(table_type = 'VIEW', 'VIEW ', 'TABLE '), table_name) FROM information_schema.tables WHERE table_schema = 'bench' AND table_name LIKE 'jugatum%'"); err == nil {
			for rows.Next() {
				var name string
				rows.Scan(&name)
				texts = append(texts, "DROP "+name)
			}
			rows.Close()
		}
		texts = append(texts, "CREATE TABLE visit (id bigint PRIMARY KEY, berth integer, dues numeric(10,2), note text)",
			"INSERT INTO visit SELECT i, i % 997, (i % 100000 + 1) / 7.0, CASE WHEN i % 8 = 0 THEN concat('see http://charts.saltmere.test/berth/', i) ELSE concat('moor with care at the north mole, no. ', i) END FROM (SELECT seq AS i FROM seq_1_to_"+
				fmt.Sprint(b.rows)+") AS s", "FLUSH TABLES", "FLUSH BINARY LOGS", "PURGE BINARY LOGS BEFORE NOW() + INTERVAL 1 DAY")
	case "postgres":
		texts = []string{"DROP SCHEMA IF EXISTS jugatum CASCADE", "DROP TABLE IF EXISTS line", "DROP TABLE IF EXISTS visit",
			"CREATE TABLE visit (id bigint PRIMARY KEY, berth integer, dues numeric(10,2), note text)",
			"INSERT INTO visit " + fmt.Sprintf(fill, fmt.Sprintf("generate_series(1, %d) AS i", b.rows)), "VACUUM (ANALYZE) visit", "CHECKPOINT"}
	default:
		b.db.Close()
		for _, s := range []string{"", "-wal", "-shm"} {
			os.Remove(b.file + s)
		}
		var err error
		if b.db, err = sql.Open("sqlite", "file:"+b.file+"?_pragma=busy_timeout(5000)&_pragma=cache_size(-8000)"); err != nil {
			return err
		}
		b.db.SetMaxOpenConns(1)
		texts = []string{"PRAGMA journal_mode = WAL", "CREATE TABLE visit (id INTEGER PRIMARY KEY, berth INTEGER, dues NUMERIC, note TEXT)",
			"INSERT INTO visit " + fmt.Sprintf(fill, fmt.Sprintf("(WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < %d) SELECT i FROM s)", b.rows)), "PRAGMA wal_checkpoint(TRUNCATE)"}
	}
	archive := map[string]string{"postgres": "CREATE TABLE visit_archive (LIKE visit, PRIMARY KEY (id))", "mariadb": "CREATE TABLE visit_archive LIKE visit",
		"sqlite": "CREATE TABLE visit_archive (id INTEGER PRIMARY KEY, berth INTEGER, dues NUMERIC, note TEXT)"}[b.engine]
	texts = append(texts, "DROP TABLE IF EXISTS visit_archive", archive)
	if b.sources {
		texts = append(texts, b.sourceTables()...)
	}
	if b.refers {
		texts = append(texts, b.referring()...)
	}
	for _, text := range texts {
		if _, err := b.db.ExecContext(ctx, text); err != nil {
			return fmt.Errorf("%s: %w", text, err)
		}
	}
	if b.engine == "mariadb" {
		return b.settle()
	}
	return nil
}

// numbers is a table of the numbers from 1 on.
func (b *bench) numbers(n int) string {
	switch b.engine {
	case "postgres":
		return fmt.Sprintf("generate_series(1, %d) AS i", n)
	case "mariadb":
		return fmt.Sprintf("(SELECT seq AS i FROM seq_1_to_%d) AS s", n)
	}
	return fmt.Sprintf("(WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < %d) SELECT i FROM s)", n)
}

// referring makes a table of three rows for each visit, which go with it.
func (b *bench) referring() []string {
	texts := []string{"CREATE TABLE line (id bigint PRIMARY KEY, visit_id bigint, tonnes numeric(9,3), CONSTRAINT of_visit FOREIGN KEY (visit_id) REFERENCES visit (id) ON DELETE CASCADE)",
		fmt.Sprintf("INSERT INTO line SELECT i, 1 + (i - 1) / 3, 0.25 + i %% 500 FROM %s", b.numbers(3*b.rows))}
	switch b.engine {
	case "mariadb": // which makes the index itself, and divides otherwise
		texts[1] = strings.Replace(texts[1], "(i - 1) / 3", "(i - 1) DIV 3", 1)
	case "postgres":
		texts = append(texts, "CREATE INDEX by_visit ON line (visit_id)", "VACUUM (ANALYZE) line", "CHECKPOINT")
	default:
		texts = append(texts, "CREATE INDEX by_visit ON line (visit_id)", "PRAGMA foreign_keys = on")
	}
	return texts
}

// sourceTables makes a table of a value for each berth, and one of two rows for each
// second visit.
func (b *bench) sourceTables() []string {
	numbers := b.numbers
	texts := []string{"DROP TABLE IF EXISTS rate", "DROP TABLE IF EXISTS cargo",
		"CREATE TABLE rate (berth integer PRIMARY KEY, day_rate numeric(10,2))", "INSERT INTO rate SELECT i - 1, -3.5 * i FROM " + numbers(997),
		"CREATE TABLE cargo (visit_id bigint, line integer, tonnes numeric(9,3), PRIMARY KEY (visit_id, line))",
		"INSERT INTO cargo SELECT i - i % 2 + 1, i % 2, -0.25 - i % 500 FROM " + numbers(b.rows)}
	if b.engine == "postgres" {
		texts = append(texts, "VACUUM (ANALYZE) rate", "VACUUM (ANALYZE) cargo", "CHECKPOINT")
	}
	return texts
}

// settle has MariaDB write its dirty pages and clear up old versions, as
// CHECKPOINT and VACUUM do on PostgreSQL: else what making the table has left to
// do is done while something else is timed, more of it the later in a round.
func (b *bench) settle() error {
	if _, err := b.db.Exec("SET GLOBAL innodb_max_dirty_pages_pct = 0, innodb_io_capacity_max = 40000, innodb_io_capacity = 20000"); err != nil {
		return err
	}
	for begin := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		var left int64
		if err := b.db.QueryRow(`SELECT sum(variable_value) FROM information_schema.global_status
			WHERE variable_name IN ('INNODB_BUFFER_POOL_PAGES_DIRTY', 'INNODB_HISTORY_LIST_LENGTH')`).Scan(&left); err != nil {
			return err
		}
		if left == 0 {
			break
		}
		if time.Since(begin) > 2*time.Minute {
			return fmt.Errorf("%d pages and old versions are still to be written or cleared up after two minutes", left)
		}
	}
	_, err := b.db.Exec("SET GLOBAL innodb_max_dirty_pages_pct = 90, innodb_io_capacity = 200, innodb_io_capacity_max = 2000") // the defaults
	return err
}

// twoWorkers is the ratio wanted without kept values; with them, times what
// those may cost.
const twoWorkers = 0.75

func line(r result) string {
	verdict := "within"
	if r.Ratio > r.Wanted {
		verdict = "ABOVE"
	}
	if r.plain {
		return fmt.Sprintf("| %s | %s | the statement itself | %d sessions | %.2f | %.2f … %.2f | | | |", r.Engine, r.Shape, r.Workers, r.Ratio, r.Low, r.High)
	}
	return fmt.Sprintf("| %s | %s | %s | %d | %.2f | %.2f … %.2f | ≤ %.2f | %s | %.0f ms |", r.Engine, r.Shape, r.Keep, r.Workers, r.Ratio, r.Low, r.High, r.Wanted, verdict, r.HoldP99)
}

func report(all []result, rows, rounds int) string {
	var b strings.Builder
	cpu := "unknown processor"
	if text, err := os.ReadFile("/proc/cpuinfo"); err == nil {
		for _, l := range strings.Split(string(text), "\n") {
			if name, v, ok := strings.Cut(l, ":"); ok && strings.TrimSpace(name) == "model name" {
				cpu = strings.TrimSpace(v)
				break
			}
		}
	}
	fmt.Fprintf(&b, "%s rows, %d rounds, %s, %d cores, %s, %s. Time of the run in batches divided by that of the single statement; hold target 200 ms.\n\n", group(rows), rounds, cpu, runtime.NumCPU(), runtime.Version(), time.Now().Format("2006-01-02"))
	fmt.Fprintf(&b, "| engine | change | kept values | workers | ratio (median) | least … greatest | wanted | | hold, 99th percentile |\n|---|---|---|---|---|---|---|---|---|\n")
	for _, r := range all {
		b.WriteString(line(r) + "\n")
	}
	return b.String()
}

func group(n int) string {
	s := fmt.Sprint(n)
	for i := len(s) - 3; i > 0; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}
