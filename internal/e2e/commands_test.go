package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestDemo goes the newcomer's way, with the same bytes for the same seed.
func TestDemo(t *testing.T) {
	var dumps [][]string
	for range 2 {
		dir := t.TempDir()
		o := command(t, "demo", "--rows", "3000", dir)
		if o.status != 0 || !strings.Contains(o.out, "It holds.") || !strings.Contains(o.out, "undo of 1, done") {
			t.Fatalf("exit status %d\n%s%s", o.status, o.out, o.err)
		}
		d := &database{t: t, engine: "sqlite"}
		d.reopen(filepath.Join(dir, "saltmere.db"))
		var all []string
		for _, table := range []string{"quay", "berth", "tariff", "vessel", "visit", "cargo_line", "notice", "setting"} {
			all = append(all, d.dump(table)...)
		}
		dumps = append(dumps, all)
		if o := command(t, "demo", dir); o.status != 3 {
			t.Errorf("a second demo in the same folder: exit status %d\n%s", o.status, o.err)
		}
	}
	same(t, "the demo's data, made twice", dumps[1], dumps[0])
	if server != nil {
		d := fresh(t, "postgres")
		o := d.must(0, "demo", "--rows", "2000", t.TempDir())
		if !strings.Contains(o.out, "It holds.") {
			t.Error(o.out)
		}
		d.must(3, "demo", t.TempDir())
	}
	if maria != nil {
		d := fresh(t, "mariadb")
		o := d.must(0, "demo", "--rows", "2000", t.TempDir())
		if !strings.Contains(o.out, "It holds.") {
			t.Error(o.out)
		}
		d.must(3, "demo", t.TempDir())
	}
	if o := command(t, "demo", "--rows", "10"); o.status != 2 {
		t.Errorf("a demo of 10 rows: exit status %d", o.status)
	}
}

type previewJSON struct {
	Total int64
	Steps []struct {
		Matched, Changes int64
		Acts             []struct {
			Name string
			Rows int64
		}
		Named   []string
		Columns []struct {
			Name    string
			Longest int64
			Before  *struct{ Min, Max, Sum string }
			After   *struct{ Min, Max, Sum string }

			MissingBefore struct{ Null, Empty, Blank int } `json:"missing_before"`
			MissingAfter  struct{ Null, Empty, Blank int } `json:"missing_after"`
		}
		Sample []struct {
			Key     string
			Named   []*string
			Changes []struct {
				Column        string
				Before, After *string
			}
		}
		Hazards []struct {
			Code, Level, Text string
			Rows              int64
		}
	}
}

func (d *database) preview(args ...string) previewJSON {
	d.t.Helper()
	o := d.jugatum(append([]string{"preview", "--json"}, args...)...)
	var p previewJSON
	if err := json.Unmarshal([]byte(o.out), &p); err != nil {
		d.t.Fatalf("%v\n%s", err, o.out)
	}
	refused := false
	for _, s := range p.Steps {
		for _, h := range s.Hazards {
			refused = refused || h.Level == "refusal" && h.Code != "missing-grant"
		}
	}
	if want := map[bool]int{true: 3}[refused]; o.status != want && len(args) < 4 { // none is overridden
		d.t.Errorf("preview %q: exit status %d, want %d\n%s", args, o.status, want, o.err)
	}
	return p
}

// TestPreview holds what is counted, sampled and found, and that nothing changes.
func TestPreview(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE berth (no integer PRIMARY KEY, rate numeric(6,2), zone varchar(4) UNIQUE, closed boolean)",
			"CREATE TABLE rope (berth integer REFERENCES berth (no) ON DELETE CASCADE)", "CREATE TABLE source (no integer, zone varchar(9))")
		for i := 1; i <= 20; i++ {
			d.exec(fmt.Sprintf("INSERT INTO berth VALUES (%d, %d.50, 'z%d', %v)", i, i*100, i, i > 15), fmt.Sprintf("INSERT INTO rope VALUES (%d)", i))
		}
		d.exec("UPDATE berth SET rate = 0 WHERE no = 3")
		before := d.dump("berth")
		path := filepath.Join(t.TempDir(), "job.toml")
		os.WriteFile(path, []byte("[param.f]\ntype = \"decimal\"\n[[step]]\ntable = \"berth\"\nwhere = \"NOT closed\"\nlet = { full = \"rate * :f\" }\nset = { rate = \"round(full, 2)\" }\n"), 0o644)
		s := d.preview(path, "--param", "f=1.5", "--sample", "3").Steps[0]
		if s.Matched != 15 || s.Changes != 14 || len(s.Sample) != 3 || s.Sample[0].Key != "1" || s.Sample[2].Key != "15" {
			t.Errorf("%+v", s)
		}
		if len(s.Sample[0].Named) != 1 || !strings.HasPrefix(*s.Sample[0].Named[0], "150.75") {
			t.Errorf("the named value: %v", *s.Sample[0].Named[0])
		}
		if got, want := *s.Sample[0].Changes[0].After, "150.75"; got != want {
			t.Errorf("after is %s, want %s", got, want)
		}
		if c := s.Columns[0]; !strings.HasPrefix(c.Before.Min, "100.5") || !strings.HasPrefix(c.After.Max, "2250.75") {
			t.Errorf("figures %+v %+v", c.Before, c.After)
		}
		for _, c := range []struct {
			sql, code string
			rows      int64
			engine    string
		}{
			{"UPDATE berth SET zone = 'z1' WHERE no < 4", "unique-collision", 1, ""},
			{"DELETE FROM berth WHERE no < 4", "cascade", 3, ""}, // rope has no key
			{"UPDATE berth SET rate = rate * 10 WHERE no > 5", "does-not-fit", 11, "servers"},
			{"UPDATE berth SET zone = zone || 'long' WHERE no > 5", "does-not-fit", 15, "servers"},
			{"UPDATE berth SET zone = 'y' || no WHERE zone = NULL", "equals-null", -1, ""},
		} {
			if c.engine == "servers" && d.engine == "sqlite" {
				continue
			}
			found := false
			for _, h := range d.preview("--sql", c.sql).Steps[0].Hazards {
				if h.Code == c.code {
					found = true
					if h.Rows != c.rows {
						t.Errorf("%s: %s finds %d rows, want %d", c.sql, c.code, h.Rows, c.rows)
					}
				}
			}
			if !found {
				t.Errorf("%s: %s is not found", c.sql, c.code)
			}
		}
		d.exec("INSERT INTO source VALUES (1, 'aa'), (1, 'bb'), (2, 'cc'), (2, 'cc')")
		two := d.by("UPDATE berth JOIN source AS s ON s.no = berth.no SET berth.zone = s.zone", "UPDATE berth SET zone = s.zone FROM source AS s WHERE s.no = berth.no")
		if p := d.preview("--sql", two).Steps[0]; p.Matched != 2 || len(p.Hazards) == 0 || p.Hazards[0].Code != "ambiguous-source" {
			t.Errorf("%+v", p)
		}
		d.must(3, "run", "--sql", two, "--accept", "2")
		o := d.must(1, "run", "--sql", two, "--accept", "any") // not counted beforehand: the batch itself finds it
		if !strings.Contains(o.err, "several source rows") {
			t.Error(o.err)
		}
		d.must(3, "run", "--sql", two, "--accept", "any", "--keep", "none") // and here no batch would: it is looked for beforehand
		same(t, "after all that", d.dump("berth"), before)
		d.exec("DELETE FROM source WHERE no = 1")
		d.must(0, "undo", "1")
		d.must(0, "run", "--sql", two, "--accept", "1") // two sources that agree are one change
		if got := d.one("SELECT zone FROM berth WHERE no = 2"); got != "cc" {
			t.Error(got)
		}
		d.must(0, "verify", d.lastRun())
		d.exec("UPDATE source SET zone = 'dd'", "INSERT INTO source VALUES (3, 'ee')")
		d.must(0, "verify", d.lastRun()) // rows that match now, by what others have written in another table since
	})
}

// TestTriggersAndForeignKeys: what a trigger makes of a value is what is kept
// and verified; rows it keeps from changing are not counted; a cascade is
// refused unless it is meant.
func TestTriggersAndForeignKeys(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, s varchar(40))", "CREATE TABLE log (id integer, s varchar(40))", "CREATE TABLE child (t integer REFERENCES t (id) ON DELETE CASCADE)")
		for i := 1; i <= 30; i++ {
			d.exec(fmt.Sprintf("INSERT INTO t VALUES (%d, 'a%d')", i, i))
		}
		if d.engine == "sqlite" {
			d.exec("CREATE TRIGGER keep BEFORE UPDATE ON t WHEN old.id = 7 BEGIN SELECT RAISE(IGNORE); END",
				"CREATE TRIGGER note AFTER UPDATE ON t BEGIN INSERT INTO log VALUES (new.id, new.s); END")
		} else if d.engine == "mariadb" {
			d.exec("CREATE TRIGGER shout BEFORE UPDATE ON t FOR EACH ROW SET new.s = IF(old.id = 7, old.s, upper(new.s))",
				"CREATE TRIGGER note AFTER UPDATE ON t FOR EACH ROW INSERT INTO log SELECT new.id, new.s FROM DUAL WHERE new.id <> 7")
		} else {
			d.exec("CREATE FUNCTION shout() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF old.id = 7 THEN RETURN NULL; END IF; new.s := upper(new.s); RETURN new; END $$",
				"CREATE TRIGGER shout BEFORE UPDATE ON t FOR EACH ROW EXECUTE FUNCTION shout()",
				"CREATE FUNCTION note() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO log VALUES (new.id, new.s); RETURN NULL; END $$",
				"CREATE TRIGGER note AFTER UPDATE ON t FOR EACH ROW EXECUTE FUNCTION note()")
		}
		d.must(0, "run", "--sql", "UPDATE t SET s = s || 'x' WHERE s LIKE 'a%'", "--accept", "30", "--batch", "7")
		d.must(0, "verify", "1")
		if got := d.one("SELECT count(*) FROM log"); got != "29" {
			t.Errorf("the trigger fired %s times", got)
		}
		want := map[string]string{"sqlite": "a8x", "postgres": "A8X", "mariadb": "A8X"}[d.engine]
		if got := d.one("SELECT s FROM t WHERE id = 8") + d.one("SELECT s FROM t WHERE id = 7"); got != want+"a7" {
			t.Error(got)
		}
		d.exec("INSERT INTO child VALUES (1), (1), (2)")
		d.must(3, "run", "--sql", "DELETE FROM t WHERE id < 4", "--accept", "3")
		d.must(0, "run", "--sql", "DELETE FROM t WHERE id < 4", "--accept", "3", "--despite", "cascade")
		if got := d.one("SELECT count(*) FROM child"); got != "0" {
			t.Errorf("%s children left", got)
		}
	})
}

// TestVerifyFindsWhatIsAstray changes rows behind the run's back.
func TestVerifyFindsWhatIsAstray(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, s varchar(40), n integer)")
		for i := 1; i <= 30; i++ {
			d.exec(fmt.Sprintf("INSERT INTO t VALUES (%d, 'a%d', 1)", i, i))
		}
		d.must(0, "run", "--sql", "UPDATE t SET s = s || 'x', n = NULL WHERE id <= 20", "--accept", "20")
		d.must(0, "verify", "1")
		d.exec("UPDATE t SET s = 'other\x1b[31m' WHERE id = 5", "DELETE FROM t WHERE id = 6", "UPDATE t SET n = 2 WHERE id = 7", "UPDATE t SET s = 'free' WHERE id = 25")
		o := d.must(6, "verify", "1")
		for _, w := range []string{"3 not as recorded", `other\u001b[31m`, "the row is gone", "It does not hold."} {
			if !strings.Contains(o.out, w) {
				t.Errorf("verify does not say %q:\n%s", w, o.out)
			}
		}
		if strings.Contains(o.out, "\x1b") {
			t.Error("a cell's control characters reach the terminal")
		}
		o = d.must(5, "undo", "1")
		if !strings.Contains(o.out, "skipped") {
			t.Error(o.out)
		}
		if got := d.one("SELECT count(*) FROM t WHERE n = 1"); got != "27" {
			t.Errorf("%s rows were put back", got)
		}
		d.must(0, "verify", "2")
		var show struct {
			Skipped []struct {
				Key  string
				Gone bool
			} `json:"skipped"`
		}
		if err := json.Unmarshal([]byte(d.must(0, "show", "2", "--json").out), &show); err != nil || len(show.Skipped) != 3 || !show.Skipped[1].Gone {
			t.Errorf("%v %+v", err, show)
		}
	})
}

// TestNullKeys refuses to pass over rows that a walk would never reach.
func TestNullKeys(t *testing.T) {
	d := fresh(t, "sqlite")
	d.exec("CREATE TABLE t (k TEXT PRIMARY KEY, n INTEGER)", "INSERT INTO t VALUES (NULL, 1), ('a', 1), (NULL, 2), ('', 1)")
	o := d.must(3, "run", "--sql", "UPDATE t SET n = 5 WHERE n > 0", "--accept", "4")
	if !strings.Contains(o.err, "2 rows have NULL in the key") {
		t.Error(o.err)
	}
	d.exec("UPDATE t SET k = 'b' || rowid WHERE k IS NULL")
	d.must(0, "run", "--sql", "UPDATE t SET n = 5 WHERE n > 0", "--accept", "4")
	if got := d.one("SELECT sum(n) FROM t"); got != "20" {
		t.Error(got)
	}
}

// TestSeveralSteps runs the steps of a job in order, checks between them, and
// takes them back in reverse order.
func TestSeveralSteps(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, s varchar(40))", "INSERT INTO t VALUES (1, 'a'), (2, 'b'), (3, NULL)")
		before := d.dump("t")
		job := filepath.Join(t.TempDir(), "job.toml")
		os.WriteFile(job, []byte(`title = "two, steps"
[param.tail]
type = "text"
[[step]]
name = "first"
table = "t"
where = "s IS NOT NULL"
set = { s = "s || :tail" }
expect = 2
check = [{ sql = "SELECT count(*) FROM t WHERE s = 'a,;'", is = "1" }]
[[step]]
name = "second"
sql = "UPDATE t SET s = s || '2' WHERE s LIKE '%,;'"
expect = "2..2"
[[step]]
name = "third"
table = "t"
where = "s IS NULL"
delete = true
`), 0o644)
		d.must(3, "run", job, "--param", "tail=,;", "--accept", "2")
		d.must(0, "run", job, "--param", "tail=,;", "--accept", "3")
		if got := strings.Join(d.lines("SELECT s FROM t ORDER BY id"), " "); got != "a,;2 b,;2" {
			t.Error(got)
		}
		d.must(0, "undo", "1")
		same(t, "undone", d.dump("t"), before)
		d.must(0, "run", job, "--param", "tail=,;", "--accept", "any") // undone, so it may be done anew
		d.must(3, "run", job, "--param", "tail=,;", "--accept", "any")
		runs := d.must(0, "runs", "--json").out
		var list struct{ Runs []struct{ Status string } }
		if err := json.Unmarshal([]byte(runs), &list); err != nil || len(list.Runs) != 3 {
			t.Errorf("%v\n%s", err, runs)
		}
	})
}

// TestCheckAfterFails ends the run there with status 6.
func TestCheckAfterFails(t *testing.T) {
	d := fresh(t, "sqlite")
	d.exec("CREATE TABLE t (id INTEGER PRIMARY KEY, n INTEGER)", "INSERT INTO t VALUES (1, 1), (2, 2)")
	job := filepath.Join(t.TempDir(), "job.toml")
	os.WriteFile(job, []byte("[[step]]\nname = \"one\"\ntable = \"t\"\nwhere = \"n = 1\"\nput = { n = 9 }\ncheck = [{ sql = \"SELECT count(*) FROM t WHERE n = 9\", is = 2 }]\n[[step]]\nname = \"two\"\ntable = \"t\"\nwhere = \"n = 2\"\nput = { n = 9 }\n"), 0o644)
	d.must(6, "run", job, "--accept", "2")
	if got := d.one("SELECT sum(n) FROM t"); got != "11" {
		t.Errorf("the second step was carried out: %s", got)
	}
	d.must(6, "resume", "1") // it is asked again before anything else
	if got := d.one("SELECT sum(n) FROM t"); got != "11" {
		t.Errorf("the second step was carried out: %s", got)
	}
	d.must(0, "resume", "1", "--despite", "check")
	if got := d.one("SELECT sum(n) FROM t"); got != "18" {
		t.Error(got)
	}
	d.must(0, "verify", "1") // by now the check holds
}

// TestCostIsMeasured holds the log figures against what the server itself says.
func TestCostIsMeasured(t *testing.T) {
	beside(t)
	t.Run("sqlite counts the frames of its own commits", func(t *testing.T) {
		d := fresh(t, "sqlite")
		d.killTable()
		d.exec("PRAGMA wal_checkpoint(TRUNCATE)")
		d.db.SetMaxOpenConns(1)
		d.must(0, "run", "--sql", killSQL, "--accept", "any", "--batch", "100000", "--keep", "none")
		frames := atoi(d.one("SELECT log_records FROM jugatum_batch"))
		pages := atoi(d.one("PRAGMA page_count"))
		if frames < pages/2 || frames > pages*2 {
			t.Errorf("%d frames for a file of %d pages", frames, pages)
		}
		if bytes := atoi(d.one("SELECT log_bytes FROM jugatum_batch")); bytes != frames*(24+4096) {
			t.Errorf("%d bytes in %d frames", bytes, frames)
		}
	})
	t.Run("postgres tells its own WAL", func(t *testing.T) {
		d := ownServer(t)
		d.killTable()
		d.exec("VACUUM t", "CHECKPOINT")
		begin := d.one("SELECT pg_current_wal_insert_lsn()::text")
		d.must(0, "run", "--sql", killSQL, "--accept", "any", "--batch", "10000")
		server := atoi(d.one("SELECT pg_wal_lsn_diff(pg_current_wal_insert_lsn(), $1)::bigint::text", begin))
		ours := atoi(d.one("SELECT sum(log_bytes)::bigint::text FROM jugatum.batch"))
		t.Logf("ours %d bytes, the whole server %d", ours, server)
		if ours > server || ours < server*85/100 { // the ledger itself, its tables and the catalogue are not in it
			t.Errorf("ours %d bytes, the whole server %d", ours, server)
		}
		if got := d.one("SELECT count(*)::text FROM jugatum.batch WHERE locks LIKE '%RowExclusiveLock%' AND hold_ms > 0"); got != "10" {
			t.Errorf("%s batches with locks and hold", got)
		}
		// Record by record, as the log itself has them: those of the table and its kept values.
		d.exec("CREATE EXTENSION pg_walinspect")
		count := func(what string) int {
			return atoi(d.one(`SELECT coalesce(sum(`+what+`), 0)::bigint::text FROM pg_get_wal_records_info($1, pg_current_wal_flush_lsn()) AS r
				WHERE EXISTS (SELECT 1 FROM pg_class c WHERE (c.relname IN ('t', 't_pkey') OR c.relname LIKE 'kept_1_1%' AND relkind = 'r') AND r.block_ref LIKE '%/' || pg_relation_filenode(c.oid) || ' %')`, begin))
		}
		records, bytes := atoi(d.one("SELECT sum(log_records)::bigint::text FROM jugatum.batch")), ours
		t.Logf("ours %d records and %d bytes; in the log %d and %d", records, bytes, count("1"), count("record_length"))
		if n := count("1"); records < n*95/100 || records > n*105/100 {
			t.Errorf("ours %d records, in the log %d", records, n)
		}
		if n := count("record_length"); bytes < n*95/100 || bytes > n*105/100 {
			t.Errorf("ours %d bytes, in the log %d", bytes, n)
		}
	})
	t.Run("mariadb tells its own binary log", func(t *testing.T) {
		_, d := ownMariaDB(t, "log-bin=bin", "binlog-format=ROW")
		d.killTable()
		size := func() (n int) {
			rows, err := d.db.Query("SHOW BINARY LOGS")
			if err != nil {
				t.Fatal(err)
			}
			defer rows.Close()
			for rows.Next() {
				var name string
				var bytes int
				if err := rows.Scan(&name, &bytes); err != nil {
					t.Fatal(err)
				}
				n += bytes
			}
			return n
		}
		begin := size()
		d.must(0, "run", "--sql", killSQL, "--accept", "any", "--batch", "10000")
		server, ours := size()-begin, atoi(d.one("SELECT sum(log_bytes) FROM jugatum_batch"))
		t.Logf("ours %d bytes, the files grew by %d", ours, server)
		if ours > server || ours < server*95/100 {
			t.Errorf("ours %d bytes, the files grew by %d", ours, server)
		}
		if got := d.one("SELECT count(*) FROM jugatum_batch WHERE locks LIKE '%rows modified%' AND hold_ms > 0"); got == "0" {
			t.Error("no batch tells its locks")
		}
	})
}

// TestRehearsal carries out a batch and leaves no trace of it; the run that
// follows says beside what came what was estimated.
func TestRehearsal(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id "+d.integer()+" PRIMARY KEY, n bigint, s varchar(40))", "INSERT INTO t SELECT i, i, 'moor with care' FROM "+d.numbers(50_000))
		d.settled("t")
		before := d.dump("t")
		args := []string{"--sql", "UPDATE t SET n = n * 3 + 1, s = 'x' || s WHERE id % 2 = 0", "--rehearse"}
		var p struct {
			Steps []struct {
				Rehearsal *struct {
					Rows, Changed, Batches int64
					WorkMS                 float64 `json:"work_ms"`
					LogRow                 float64 `json:"log_bytes_a_row"`
					KeptRow                float64 `json:"kept_bytes_a_row"`
					LogBytes               int64   `json:"log_bytes"`
					LogKind                string  `json:"log_kind"`
					KeptBytes              int64   `json:"kept_bytes"`
				}
			}
		}
		if err := json.Unmarshal([]byte(d.must(0, append([]string{"preview", "--json"}, args...)...).out), &p); err != nil {
			t.Fatal(err)
		}
		x := p.Steps[0].Rehearsal
		p.Steps = nil
		slow := append([]string{"preview", "--json", "--batch", "200"}, args...)
		if d.engine != "sqlite" {
			slow = append(slow, "--workers", "3")
		}
		if err := json.Unmarshal([]byte(d.must(0, slow...).out), &p); err != nil {
			t.Fatal(err)
		}
		few := p.Steps[0].Rehearsal // as on a machine that is too slow for more
		want := int64(250)
		if d.engine != "sqlite" { // three parts of 16,667 rows
			want = 252
		}
		if few.Batches != want {
			t.Errorf("estimated %d batches of 200 rows, want %d", few.Batches, want)
		}
		if x == nil || x.Rows < 200 || x.Changed < x.Rows/3 || x.Changed > x.Rows*2/3 || x.WorkMS <= 0 || x.Batches < 1 {
			t.Fatalf("%+v", x)
		}
		if d.engine != "sqlite" && (x.LogRow < 50 || x.LogRow > 100_000) || x.KeptRow < 20 || x.KeptRow > 2000 {
			t.Errorf("%+v", x)
		}
		same(t, "after the rehearsal", d.dump("t"), before)
		if d.engine == "postgres" && d.one("SELECT count(*) FROM pg_namespace WHERE nspname = 'jugatum'") != "0" || d.engine == "sqlite" && d.one("SELECT count(*) FROM sqlite_schema WHERE name LIKE 'jugatum%'") != "0" {
			t.Error("it left tables behind")
		}
		o := d.must(0, append([]string{"run", "--accept", "25000"}, args...)...)
		if !strings.Contains(o.out, "estimate about") || !strings.Contains(o.err, "rehearsed") {
			t.Errorf("%s%s", o.out, o.err)
		}
		// What was estimated from one batch, against what came of all.
		s := d.show("1")
		if d.engine == "postgres" {
			near(t, "log", x.LogBytes, s.Log.Bytes)
		}
		if d.engine == "mariadb" && (x.LogKind != "redo log" || x.LogBytes < s.Server["redo_bytes"]/50) { // other tests write there, too
			t.Errorf("estimated %d bytes of %s, the whole server wrote %d", x.LogBytes, x.LogKind, s.Server["redo_bytes"])
		}
		if d.engine != "sqlite" {
			near(t, "kept values", x.KeptBytes, s.KeptBytes)
			near(t, "kept values, from few rows", few.KeptBytes, s.KeptBytes)
		}
		d.must(0, "verify", "1")
		d.must(0, "undo", "1")
		same(t, "undone", d.dump("t"), before)
	})
}

// near fails unless two sizes are within a factor of two: kept values are in
// pages that are more or less full, and log begins with images of whole pages.
func near(t *testing.T, what string, estimated, came int64) {
	t.Helper()
	if estimated < came/2 || estimated > came*2 {
		t.Errorf("%s: estimated %d bytes, came %d", what, estimated, came)
	}
	t.Logf("%s: estimated %d bytes, came %d", what, estimated, came)
}

// TestRunsBeginTogether: runs that begin at the same moment have numbers and
// kept values of their own, also where another has made its table and no more.
func TestRunsBeginTogether(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		const runs = 3
		for i := range runs {
			d.exec(fmt.Sprintf("CREATE TABLE t%d (id %s PRIMARY KEY, n integer)", i, d.integer()), fmt.Sprintf("INSERT INTO t%d SELECT i, i FROM %s", i, d.numbers(200+i)))
		}
		if d.engine == "mariadb" {
			d.exec("CREATE TABLE jugatum_kept_1_1 (of_another integer)", "CREATE TABLE jugatum_packed_2_1 (of_another integer)")
		}
		var started []*exec.Cmd
		for i := range runs {
			started = append(started, d.start("run", "--sql", fmt.Sprintf("UPDATE t%d SET n = n + 1000", i), "--every-row", "--accept", "any", "--batch", "20"))
		}
		for _, cmd := range started {
			if err := cmd.Wait(); err != nil {
				t.Fatalf("%v\n%s", err, cmd.Stderr)
			}
		}
		for i, id := range d.lines("SELECT id FROM " + d.by("jugatum_run", map[string]string{"sqlite": "jugatum_run", "postgres": "jugatum.run"}[d.engine]) + " ORDER BY id") {
			if d.engine == "mariadb" && i == 0 && id != "3" {
				t.Errorf("the first run is number %s, though tables 1 and 2 are another's", id)
			}
			d.must(0, "verify", id)
			d.must(0, "undo", id)
		}
		for i := range runs {
			if got := d.one(fmt.Sprintf("SELECT count(*) FROM t%d WHERE n = id", i)); got != fmt.Sprint(200+i) {
				t.Errorf("table %d: %s rows are as they were", i, got)
			}
		}
		if d.engine == "mariadb" && d.one("SELECT count(*) FROM information_schema.columns WHERE column_name = 'of_another' AND table_schema = DATABASE()") != "2" {
			t.Error("another's tables are gone")
		}
	})
}

// TestCompletion: each shell gets a script, and the program lists what may follow.
func TestCompletion(t *testing.T) {
	for shell, want := range map[string]string{"bash": "complete ", "zsh": "compdef", "fish": "complete -c jugatum", "pwsh": "Register-ArgumentCompleter"} {
		if o := command(t, "completion", shell); o.status != 0 || !strings.Contains(o.out, want) {
			t.Errorf("%s: exit status %d\n%.300s%s", shell, o.status, o.out, o.err)
		}
	}
	for _, x := range []struct {
		args []string
		want []string
	}{
		{[]string{"ru", "--generate-shell-completion"}, []string{"run", "runs"}},
		{[]string{"run", "--ba", "--generate-shell-completion"}, []string{"--batch"}},
	} {
		o := command(t, x.args...)
		for _, w := range x.want {
			if !strings.Contains(o.out, w) {
				t.Errorf("%q: no %s in %q %s", x.args, w, o.out, o.err)
			}
		}
	}
	for _, args := range [][]string{{"completion"}, {"completion", "tcsh"}} {
		if o := command(t, args...); o.status != 2 || !strings.Contains(o.err, "bash, zsh, fish or pwsh") {
			t.Errorf("%q: exit status %d, %q", args, o.status, o.out+o.err)
		}
	}
}
