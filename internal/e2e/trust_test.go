package e2e

import (
	"fmt"
	"strings"
	"syscall"
	"testing"
)

// TestInheritance: PostgreSQL's statement reaches the rows of tables that inherit;
// each becomes a step of its own, with its own columns kept.
func TestInheritance(t *testing.T) {
	beside(t)
	d := fresh(t, "postgres")
	d.exec("CREATE TABLE t (id int PRIMARY KEY, v int)", "CREATE TABLE c (extra text, PRIMARY KEY (id)) INHERITS (t)", "INSERT INTO t VALUES (1, 10)", "INSERT INTO c VALUES (1, 1000, 'x'), (2, 5, 'y')")
	rows := func() []string {
		return append(d.lines("SELECT x::text FROM ONLY t x ORDER BY 1"), d.lines("SELECT x::text FROM c x ORDER BY 1")...)
	}
	before := rows()
	d.must(0, "run", "--sql", "UPDATE t SET v = v + 1", "--every-row", "--accept", "3", "--batch", "7")
	same(t, "updated", rows(), []string{"(1,11)", "(1,1001,x)", "(2,6,y)"})
	d.must(0, "verify", "1")
	d.must(0, "undo", "1")
	same(t, "undone", rows(), before)
	d.must(0, "run", "--sql", "DELETE FROM t WHERE v > 5", "--accept", "any")
	same(t, "deleted", rows(), []string{"(2,5,y)"})
	d.must(0, "undo", "3")
	same(t, "put back", rows(), before)
	d.must(0, "run", "--sql", "UPDATE ONLY t SET v = 0", "--every-row", "--accept", "1")
	d.must(0, "verify", "5")
	// Also as one statement a table each, the second would see what the first did.
	if o := d.must(3, "run", "--sql", "UPDATE t SET v = (SELECT sum(v) FROM t)", "--method", "single", "--every-row", "--accept", "any"); !strings.Contains(o.err, "with ONLY") {
		t.Error(o.err)
	}
	d.exec("CREATE TABLE g () INHERITS (c)")
	if o := d.must(3, "run", "--sql", "UPDATE t SET v = 7", "--every-row", "--accept", "any"); !strings.Contains(o.err, "no-key") {
		t.Error(o.err)
	}
}

// TestTextOfHeirs: text is looked for and replaced in tables that inherit a column as well where that
// of the table above them is named, as an UPDATE of it does; what they have of their own is not.
func TestTextOfHeirs(t *testing.T) {
	beside(t)
	d := fresh(t, "postgres")
	d.exec("CREATE TABLE berth (id int PRIMARY KEY, note text)", "CREATE TABLE dry_dock (own text, PRIMARY KEY (id)) INHERITS (berth)", "CREATE TABLE lift (PRIMARY KEY (id)) INHERITS (dry_dock)",
		"INSERT INTO berth VALUES (1, 'west pier')", "INSERT INTO dry_dock VALUES (1, 'west dock', 'west')", "INSERT INTO lift VALUES (1, 'west lift', 'west')")
	rows := func() []string {
		return append(append(d.lines("SELECT x::text FROM ONLY berth x"), d.lines("SELECT x::text FROM ONLY dry_dock x")...), d.lines("SELECT x::text FROM lift x")...)
	}
	before := rows()
	if o := d.must(0, "find", "west", "--in", "berth.*"); !strings.Contains(o.out, "lift") || strings.Contains(o.out, "own") {
		t.Error(o.out)
	}
	job := d.job("[[step]]\nin = ['berth.*']\nreplace = { find = 'west', with = 'north' }\n")
	if o := d.must(0, "preview", job); !strings.Contains(o.out, "dry_dock") {
		t.Error(o.out)
	}
	d.must(0, "run", job, "--accept", "3")
	same(t, "replaced", rows(), []string{`(1,"north pier")`, `(1,"north dock",west)`, `(1,"north lift",west)`})
	d.must(0, "verify", "1")
	d.must(0, "undo", "1")
	same(t, "undone", rows(), before)
	d.must(0, "run", d.job("[[step]]\nin = ['berth.note']\nexcept = ['lift.*']\nreplace = { find = 'west', with = 'north' }\n"), "--accept", "2")
	same(t, "but for one", rows(), []string{`(1,"north pier")`, `(1,"north dock",west)`, `(1,"west lift",west)`})
	d.must(0, "run", d.job("[[step]]\nin = ['*.*']\nexcept = ['berth.note']\nreplace = { find = 'west', with = 'south' }\n"), "--accept", "2")
	same(t, "what is not inherited", rows(), []string{`(1,"north pier")`, `(1,"north dock",south)`, `(1,"west lift",south)`})
}

// TestEmptyKeys: no bytes and no text are keys like any other.
func TestEmptyKeys(t *testing.T) {
	beside(t)
	d := fresh(t, "sqlite")
	for i, values := range []string{"(x'', 1), (x'01', 2), (x'02', 3)", "(x'', 1)", "('', 1), (x'', 2), (x'00', 3)", "('', 1)"} {
		d.exec("DROP TABLE IF EXISTS t", "CREATE TABLE t (id any PRIMARY KEY, a)", "INSERT INTO t VALUES "+values)
		before := d.dump("t")
		rows := d.one("SELECT count(*) FROM t")
		d.must(0, "run", "--sql", "UPDATE t SET a = a + 1", "--every-row", "--accept", rows, "--batch", "1", "--again")
		if got := d.one("SELECT sum(a) FROM t"); got != map[string]string{"1": "2", "3": "9"}[rows] {
			t.Errorf("%s: the sum is %s", values, got)
		}
		run := fmt.Sprint(2*i + 1)
		d.must(0, "verify", run)
		d.must(0, "undo", run, "--batch", "1")
		same(t, "undone", d.dump("t"), before)
	}
}

// TestPlainSettings: the job's SQL means what it means in a plain session.
func TestPlainSettings(t *testing.T) {
	beside(t)
	d := fresh(t, "postgres")
	name := d.one("SELECT current_database()")
	d.exec("ALTER DATABASE "+name+" SET datestyle = 'SQL, DMY'", "ALTER DATABASE "+name+" SET extra_float_digits = -3", "ALTER DATABASE "+name+" SET bytea_output = 'escape'", "ALTER DATABASE "+name+" SET intervalstyle = 'sql_standard'",
		"CREATE TABLE t (d date PRIMARY KEY, ts timestamptz, txt text, f float8, b bytea)", "INSERT INTO t SELECT date '2020-01-01' + i, timestamptz '2020-01-01' + i * interval '1 day', '', i / 3.0, '\\x00ff' FROM generate_series(1, 60) AS i", "CREATE TABLE plain AS SELECT * FROM t")
	other := &database{t: t, engine: "postgres", url: d.url}
	other.open() // a session that begins with these settings
	const set = " SET txt = f::text || b::text || d::text || (ts - '01/02/2020')::text || coalesce(nullif(d, '03/02/2020')::text, '!') WHERE d > '02/01/2020'"
	other.exec("UPDATE plain" + set)
	d.must(0, "run", "--sql", "UPDATE t"+set, "--accept", "59", "--batch", "7")
	same(t, "batches", other.lines("SELECT x::text FROM t x ORDER BY d"), other.lines("SELECT x::text FROM plain x ORDER BY d"))
	d.must(0, "verify", "1")
	d.must(0, "undo", "1", "--batch", "5")
	if got := other.one("SELECT count(*) FROM t WHERE txt <> ''"); got != "0" {
		t.Errorf("%s rows were not put back", got)
	}
}

// TestOneClock: a run that is stopped and resumed writes one time.
func TestOneClock(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.killTable()
		d.exec("ALTER TABLE t ADD COLUMN ts " + map[string]string{"sqlite": "TEXT", "postgres": "timestamptz", "mariadb": "datetime(6)"}[d.engine])
		now := map[string]string{"sqlite": "strftime('%Y-%m-%d %H:%M:%f', 'now')", "postgres": "now()", "mariadb": "now(6)"}[d.engine]
		cmd := d.start("run", "--sql", "UPDATE t SET ts = "+now+" WHERE id > 0", "--accept", "any", "--batch", "200")
		release := d.gate(killRows - 9)
		d.waitForBatches(3)
		cmd.Process.Signal(syscall.SIGTERM)
		cmd.Wait()
		release()
		if got := cmd.ProcessState.ExitCode(); got != 4 {
			t.Fatalf("exit status %d\n%s", got, cmd.Stderr)
		}
		d.must(0, "resume", "1")
		if got := d.one("SELECT count(DISTINCT ts) FROM t"); got != "1" {
			t.Errorf("%s different times were written", got)
		}
		d.must(0, "verify", "1")
	})
}

// TestAnyAsksWhatTheCatalogueTells: --accept any lifts no refusal.
func TestAnyAsksWhatTheCatalogueTells(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t SELECT i, i FROM "+d.numbers(20))
		for _, rule := range []string{"CASCADE", "SET NULL"} {
			d.exec("DROP TABLE IF EXISTS child", "CREATE TABLE child (c integer PRIMARY KEY, t_id integer, CONSTRAINT fk FOREIGN KEY (t_id) REFERENCES t (id) ON DELETE "+rule+")", "INSERT INTO child VALUES (1, 3), (2, NULL)")
			before := d.dump("child")
			o := d.must(3, "run", "--sql", "DELETE FROM t WHERE n < 10", "--accept", "any", "--keep", "none")
			if !strings.Contains(o.err, "cascade") || !strings.Contains(o.err, "--despite cascade") {
				t.Errorf("%s: %s", rule, o.err)
			}
			same(t, "child", d.dump("child"), before)
		}
		d.must(0, "run", "--sql", "DELETE FROM t WHERE n > 10", "--accept", "any") // to which nothing refers
	})
}

// TestReadOnlyByDefault: a database that somebody has made read-only is left alone.
func TestReadOnlyByDefault(t *testing.T) {
	d := fresh(t, "postgres")
	d.exec("CREATE TABLE t (id int PRIMARY KEY, n int)", "INSERT INTO t VALUES (1, 1)", "ALTER DATABASE "+d.one("SELECT current_database()")+" SET default_transaction_read_only = on")
	list := d.job("[[step]]\ntable = 't'\nchanges = '" + d.list("t.csv", "id,n\n1,2\n") + "'\naction = 'update'\n")
	for _, command := range []string{"preview", "run"} { // whose lines would be written
		if o := d.must(3, command, list); !strings.Contains(o.err, "default_transaction_read_only") || d.haveLedger() {
			t.Errorf("%s: %s", command, o.err)
		}
	}
	args := []string{"run", "--sql", "UPDATE t SET n = 2 WHERE id = 1", "--accept", "1"}
	if o := d.must(3, args...); !strings.Contains(o.err, "--despite read-only") {
		t.Error(o.err)
	}
	d.must(0, append(args, "--despite", "read-only")...)
	d.must(3, "undo", "1")
	d.must(0, "undo", "1", "--despite", "read-only")
}

// TestStopIsForOneLife: a stop that came too late for its run does not stop the next resume.
func TestStopIsForOneLife(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.killTable()
		cmd := d.start("run", "--sql", killSQL, "--accept", "any", "--batch", map[bool]string{true: "20", false: "250"}[d.engine == "sqlite"])
		release := d.gate(killRows - 9)
		d.waitForBatches(3)
		cmd.Process.Kill()
		cmd.Wait()
		release()
		d.exec("INSERT INTO " + d.ledger("signal") + " (run, n, at, kind, args, who, host) VALUES (1, 1, '2026-01-01 00:00:00.000000+00:00', 'stop', '{}', 'clerk', 'quay')")
		d.must(0, "resume", "1")
		d.changedOnce()
	})
}

// TestAccountCanFail: where the numbers do not add up, the run says so.
func TestAccountCanFail(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t SELECT i, i FROM "+d.numbers(100), "CREATE TABLE u (id integer PRIMARY KEY, n integer)", "INSERT INTO u VALUES (1, 1)")
		d.settled("t")
		d.must(0, "run", "--sql", "UPDATE t SET n = n + 1 WHERE id > 0", "--accept", "100", "--batch", "30")
		// What stands for a fault of ours: a row that was kept is not there.
		kept := d.ledger("kept_1_1")
		if d.engine == "mariadb" {
			kept = d.ledger("packed_1_1")
		}
		d.exec("DELETE FROM "+kept+" WHERE "+d.by("last", "seq")+" = (SELECT x FROM (SELECT max("+d.by("last", "seq")+") AS x FROM "+kept+") AS y)", "UPDATE "+d.ledger("run")+" SET status = 'failed' WHERE id = 1")
		if o := d.must(6, "resume", "1"); !strings.Contains(o.err, "does not add up") {
			t.Error(o.err)
		}
		d.must(6, "verify", "1")
	})
}

// TestUndoHasNoDeadEnd: what went through once goes back, or is listed.
func TestUndoHasNoDeadEnd(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, v integer UNIQUE)", "INSERT INTO t SELECT i, 51 - i FROM "+d.numbers(50))
		before := d.dump("t")
		d.must(0, "run", "--sql", "UPDATE t SET v = v + 1 WHERE id > 0", "--accept", "any", "--batch", "7")
		d.must(0, "undo", "1", "--batch", "7")
		same(t, "undone", d.dump("t"), before)
		if d.engine != "postgres" {
			return
		}
		d.exec("CREATE TABLE r (id integer PRIMARY KEY, n integer)", "INSERT INTO r VALUES (1, 200), (2, 20), (3, 30)", "ALTER TABLE r ADD CONSTRAINT small CHECK (n < 100) NOT VALID")
		d.must(0, "run", "--sql", "UPDATE r SET n = 5 WHERE id > 0", "--accept", "any")
		o := d.must(5, "undo", "3")
		if !strings.Contains(o.out, "small") {
			t.Errorf("it does not say why a row was left alone: %s", o.out)
		}
		same(t, "but for one row", d.lines("SELECT r::text FROM r ORDER BY 1"), []string{"(1,5)", "(2,20)", "(3,30)"})
	})
}

// TestFewRowsByIndex: a few rows that an index finds are a few batches, however
// large the table.
func TestFewRowsByIndex(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		const rows = 150_000
		d.exec("CREATE TABLE t (id "+d.integer()+" PRIMARY KEY, n integer, s varchar(20))", "INSERT INTO t SELECT i, i % 15000, 'x' FROM "+d.numbers(rows), "CREATE INDEX by_n ON t (n)")
		d.settled("t")
		for i, where := range []string{"n = 78", fmt.Sprintf("id = %d", rows/2)} {
			d.must(0, "run", "--sql", "UPDATE t SET s = 'y' WHERE "+where, "--accept", "any")
			if got := atoi(d.one(fmt.Sprintf("SELECT count(*) FROM %s WHERE run = %d", d.ledger("batch"), i+1))); got > 3 {
				t.Errorf("%s: %d batches", where, got)
			}
			d.must(0, "verify", fmt.Sprint(i+1))
		}
		if got := d.one("SELECT count(*) FROM t WHERE s = 'y'"); got != "11" {
			t.Errorf("%s rows changed", got)
		}
	})
}

// TestRowOfQuery: columns that are set from one query get values of one row, also
// where the query gives several and an index would give each column another first one.
func TestRowOfQuery(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		if d.engine == "mariadb" {
			return // which has no such assignment
		}
		d.within = true
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, x integer, y integer)", "INSERT INTO t SELECT i, 0, 0 FROM "+d.numbers(20),
			"CREATE TABLE o (k integer, a integer, b integer)", "INSERT INTO o SELECT 1 + i % 20, i, 1000 - i FROM "+d.numbers(400),
			"CREATE INDEX oa ON o (k, a)", "CREATE INDEX ob ON o (k, b)", "CREATE TABLE plain (id integer PRIMARY KEY, x integer, y integer)", "INSERT INTO plain SELECT * FROM t")
		const set = " SET (x, y) = (SELECT a, b FROM o WHERE o.k = "
		if d.engine == "sqlite" { // the first of several rows counts
			d.exec("UPDATE plain" + set + "plain.id)")
			d.must(0, "run", "--every-row", "--accept", "any", "--batch", "3", "--sql", "UPDATE t"+set+"t.id)")
			same(t, "rows", d.dump("t"), d.dump("plain"))
		}
		d.must(3, "run", "--every-row", "--accept", "any", "--sql", "UPDATE t"+set+"t.id ORDER BY random() LIMIT 1)")
		if d.engine == "postgres" {
			o := d.must(3, "run", "--every-row", "--accept", "any", "--sql", "UPDATE t"+set+"t.id LIMIT 1)")
			if !strings.Contains(o.err, "row-query") {
				t.Error(o.err)
			}
			d.exec("UPDATE plain" + set + "plain.id AND a <= 20)")
			d.must(0, "run", "--every-row", "--accept", "any", "--batch", "3", "--sql", "UPDATE t"+set+"t.id AND a <= 20)")
			same(t, "rows", d.dump("t"), d.dump("plain"))
		}
	})
}

// TestNoStatement: what the server itself would not take is refused, although each
// batch of it would make sense to it.
func TestNoStatement(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t SELECT i, i FROM "+d.numbers(20))
		before := d.dump("t")
		for _, set := range []string{"n = sum(n)", "n = row_number() OVER ()", "n = 1 WHERE count(*) > 3", "n = sum(n) + :x"} {
			for _, cmd := range []string{"preview", "run"} {
				args := []string{cmd, "--every-row", "--sql", "UPDATE t SET " + set}
				if strings.Contains(set, ":x") {
					args = append(args, "--param", "x=1")
				}
				if cmd == "run" {
					args = append(args, "--accept", "any")
				}
				d.must(2, args...)
			}
		}
		same(t, "t", d.dump("t"), before)
	})
}

// TestConstraintsThatCanWait: where one statement goes through and batches do not,
// since a constraint is checked at its end, that is told, and single does it.
func TestConstraintsThatCanWait(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		if d.engine == "mariadb" {
			return // which checks each row by itself
		}
		d.within = true
		for _, c := range []struct {
			engine, sql string
			tables      []string
		}{
			{"postgres", "UPDATE t SET v = v + 1", []string{"CREATE TABLE t (id integer PRIMARY KEY, v integer UNIQUE DEFERRABLE)", "INSERT INTO t SELECT i, i FROM " + d.numbers(20)}},
			{"", "DELETE FROM t WHERE id < 21", []string{"CREATE TABLE t (id integer PRIMARY KEY, v integer REFERENCES t (id))", "INSERT INTO t SELECT i, CASE WHEN i > 1 THEN 1 END FROM " + d.numbers(20)}},
		} {
			if c.engine != "" && c.engine != d.engine {
				continue
			}
			d.exec(append([]string{"DROP TABLE IF EXISTS t"}, c.tables...)...)
			o := d.must(1, "run", "--every-row", "--again", "--accept", "any", "--batch", "3", "--sql", c.sql)
			if !strings.Contains(o.err, "warning at-once") || strings.Count(o.err, "--method single") < 2 {
				t.Errorf("%s:\n%s", c.sql, o.err)
			}
			d.must(0, "undo", d.lastRun())
			before := d.dump("t")
			d.must(0, "run", "--every-row", "--again", "--accept", "20", "--method", "single", "--sql", c.sql)
			d.must(0, "undo", d.lastRun())
			same(t, "undone", d.dump("t"), before)
		}
	})
}

// TestYearKeys: the years 0000 and 2000 are two keys, by whatever way a batch finds its rows.
func TestYearKeys(t *testing.T) {
	beside(t)
	d := fresh(t, "mariadb")
	d.within = true
	for _, where := range []string{"n > 0", "n % 10 = 1"} {
		for _, args := range [][]string{{"--method", "roster"}, {"--batch", "3"}, {"--batch", "3", "--keep", "none"}, {"--method", "single"}} {
			d.exec("DROP TABLE IF EXISTS t", "CREATE TABLE t (k year PRIMARY KEY, n integer)", "INSERT INTO t SELECT 1980 + i, 2 FROM "+d.numbers(60), "INSERT INTO t VALUES ('0000', 1) ON DUPLICATE KEY UPDATE n = 1", "UPDATE t SET n = 11 WHERE k = '2000'")
			before := d.dump("t")
			want := d.lines("SELECT concat(k, ' ', n + IF(" + where + ", 100, 0)) FROM t ORDER BY k")
			d.must(0, append([]string{"run", "--again", "--accept", "any", "--sql", "UPDATE t SET n = n + 100 WHERE " + where}, args...)...)
			same(t, where, d.lines("SELECT concat(k, ' ', n) FROM t ORDER BY k"), want)
			if args[len(args)-1] != "none" {
				d.must(0, "verify", d.lastRun())
				d.must(0, "undo", d.lastRun())
				same(t, where+", undone", d.dump("t"), before)
			}
		}
	}
}

// TestOnConflict: a constraint by which SQLite would delete or pass by rows without
// a word is an error in the batch that meets it, and undo replaces no row either.
func TestOnConflict(t *testing.T) {
	beside(t)
	d := fresh(t, "sqlite")
	d.within = true
	for _, rule := range []string{"REPLACE", "IGNORE", "FAIL", "ROLLBACK"} {
		d.exec("DROP TABLE IF EXISTS t", "CREATE TABLE t (id integer PRIMARY KEY, u integer UNIQUE ON CONFLICT "+rule+", n integer NOT NULL ON CONFLICT "+rule+" DEFAULT 9)",
			"INSERT INTO t SELECT i, i * 2, i FROM "+d.numbers(20))
		before := d.dump("t")
		for _, set := range []string{"u = u + 2", "n = NULL"} {
			for _, more := range [][]string{{"--batch", "3"}, {"--method", "single"}, {"--keep", "none"}} {
				args := append([]string{"run", "--again", "--every-row", "--accept", "any", "--sql", "UPDATE t SET " + set}, more...)
				if o := d.must(1, args...); !strings.Contains(o.err, "on-conflict") {
					t.Error(o.err)
				}
				same(t, rule+": "+set, d.dump("t"), before)
				if more[0] != "--keep" {
					d.must(0, "undo", d.lastRun())
				} else {
					d.exec("UPDATE jugatum_run SET status = 'done'") // it cannot be taken back, and changed nothing
				}
			}
		}
		// A row that another has taken the place of stays away; nobody's is replaced.
		d.must(0, "run", "--again", "--accept", "any", "--sql", "DELETE FROM t WHERE id = 5")
		d.exec("INSERT INTO t VALUES (50, 10, 50)")
		d.must(5, "undo", d.lastRun())
		if got := d.one("SELECT count(*) FROM t WHERE id = 50"); got != "1" {
			t.Errorf("%s: the other's row is gone", rule)
		}
		d.exec("DELETE FROM t")
	}
}

// TestMovedKeysOfSameValues: a trigger changes the keys of rows whose values stay what
// they were. The first batch that meets one ends the run, else the walk would come to
// the row again and again.
func TestMovedKeysOfSameValues(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id "+d.integer()+" PRIMARY KEY, n integer)", "INSERT INTO t SELECT i * 1000, 1 FROM "+d.numbers(20))
		switch d.engine {
		case "postgres":
			d.exec("CREATE FUNCTION away() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN NEW.id := NEW.id + 151; RETURN NEW; END'", "CREATE TRIGGER away BEFORE UPDATE ON t FOR EACH ROW EXECUTE FUNCTION away()")
		case "mariadb":
			d.exec("CREATE TRIGGER away BEFORE UPDATE ON t FOR EACH ROW SET NEW.id = NEW.id + 151")
		default:
			d.exec("CREATE TRIGGER away AFTER UPDATE OF n ON t BEGIN UPDATE t SET id = id + 151 WHERE id = NEW.id; END")
		}
		before := d.dump("t")
		for _, keep := range []string{"values", "none"} {
			o := d.must(1, "run", "--sql", "UPDATE t SET n = n WHERE n = 1", "--accept", "any", "--batch", "3", "--again", "--keep", keep, "--despite", "trigger-target")
			if !strings.Contains(o.err, "has another key after the change") {
				t.Error(o.err)
			}
			same(t, "t", d.dump("t"), before)
			if keep == "values" { // else nothing is to be put back
				d.must(0, "undo", d.lastRun())
			}
		}
		// One statement changes each row once. An undo finds none of them by its key.
		d.must(0, "run", "--sql", "UPDATE t SET n = n + 0 WHERE n = 1", "--accept", "any", "--method", "single", "--despite", "trigger-target")
		if got := d.one("SELECT count(*) FROM t WHERE id % 1000 = 151"); got != "20" {
			t.Errorf("%s rows were changed by one statement, want 20", got)
		}
		if o := d.jugatum("undo", d.lastRun()); o.status != 5 {
			t.Errorf("undo: exit status %d, want 5\n%s%s", o.status, o.out, o.err)
		}
	})
}

// TestTriggersOfPartitions: a trigger of one partition is one of the table's.
func TestTriggersOfPartitions(t *testing.T) {
	beside(t)
	d := fresh(t, "postgres")
	d.within = true
	d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer) PARTITION BY RANGE (id)", "CREATE TABLE p1 PARTITION OF t FOR VALUES FROM (0) TO (1000)", "CREATE TABLE p2 PARTITION OF t FOR VALUES FROM (1000) TO (2000)",
		"INSERT INTO t SELECT i, 0 FROM generate_series(1, 40) AS i",
		"CREATE FUNCTION away() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN NEW.id := NEW.id + 100; RETURN NEW; END'",
		"CREATE TRIGGER away BEFORE UPDATE ON p1 FOR EACH ROW EXECUTE FUNCTION away()")
	before := d.dump("t")
	if o := d.must(1, "run", "--sql", "UPDATE t SET n = n + 1", "--every-row", "--accept", "any", "--batch", "7"); !strings.Contains(o.err, "has another key after the change") {
		t.Error(o.err)
	}
	same(t, "t", d.dump("t"), before)
	// So is a reference to one: what goes with its rows is told, and comes back.
	d.exec("CREATE TABLE stay (id integer PRIMARY KEY, of integer REFERENCES p1 (id) ON DELETE CASCADE)", "INSERT INTO stay VALUES (1, 3)")
	for _, table := range []string{"t", "p1"} {
		before := append(d.dump(table), d.dump("stay")...)
		if o := d.must(3, "run", "--sql", "DELETE FROM "+table+" WHERE id < 10", "--accept", "any", "--keep", "none", "--again"); !strings.Contains(o.err, "cascade") {
			t.Error(o.err)
		}
		d.must(0, "run", "--sql", "DELETE FROM "+table+" WHERE id < 10", "--accept", "10", "--again")
		if got := d.one("SELECT count(*) FROM stay"); got != "0" {
			t.Errorf("%s rows stay", got)
		}
		d.must(0, "undo", d.lastRun())
		same(t, "undone", append(d.dump(table), d.dump("stay")...), before)
		d.exec("ALTER TABLE stay DROP CONSTRAINT stay_of_fkey", "ALTER TABLE stay ADD CONSTRAINT stay_of_fkey FOREIGN KEY (of) REFERENCES t (id) ON DELETE CASCADE")
	}
	// One that fires once a statement fires once a batch here: that is told.
	d.exec("DROP TRIGGER away ON p1", "CREATE TABLE noted (at integer)", "CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN INSERT INTO noted VALUES (1); RETURN NULL; END'",
		"CREATE TRIGGER note AFTER UPDATE ON t FOR EACH STATEMENT EXECUTE FUNCTION note()")
	if o := d.must(0, "preview", "--sql", "UPDATE t SET n = n + 1 WHERE id > 0"); !strings.Contains(o.out, "warning statement-trigger") {
		t.Error(o.out)
	}
}

// TestVerifyOfOneStatement: one statement may read the table that it changes, and
// asked again its filter and values answer otherwise, with nothing wrong.
func TestVerifyOfOneStatement(t *testing.T) {
	beside(t)
	for _, engine := range []string{"sqlite", "postgres"} { // MariaDB refuses such a statement
		d := fresh(t, engine)
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t SELECT i, i FROM "+d.numbers(8))
		d.must(0, "run", "--sql", "UPDATE t SET n = (SELECT count(*) FROM t AS x WHERE x.n > 5) WHERE id < 8", "--method", "single", "--accept", "any")
		if engine == "postgres" { // SQLite's own statement sees what it has changed
			if got := d.one("SELECT count(*) FROM t WHERE n = 3"); got != "7" {
				t.Errorf("%s rows have the value that the table gave before", got)
			}
		}
		d.must(0, "verify", "1")
		d.must(0, "undo", "1")
	}
}
