package e2e

import (
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
)

// as runs the program with another user's configuration: without this one's key.
func (d *database) as(config string, args ...string) outcome {
	d.t.Helper()
	cmd := exec.Command(bin, append(args, "--db", d.url)...)
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+config)
	var out, err strings.Builder
	cmd.Stdout, cmd.Stderr = &out, &err
	cmd.Run()
	return outcome{status: cmd.ProcessState.ExitCode(), out: out.String(), err: err.String()}
}

// TestRecordsOfOthers: nothing that stands in a record is carried out unless this
// user wrote it, or was shown it and said so.
func TestRecordsOfOthers(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t SELECT i, i FROM "+d.numbers(100))
		d.must(0, "run", "--sql", "UPDATE t SET n = n + 1 WHERE id > 50", "--accept", "50")
		d.must(0, "verify", "1")
		changed := d.dump("t")
		step, run := d.ledger("step"), d.ledger("run")
		// By whom it was made cannot be told with another key. PostgreSQL's ledger is
		// writable for nobody else, and says which database user it was.
		stranger := t.TempDir()
		o := d.as(stranger, "verify", "1")
		if d.engine == "postgres" {
			if o.status != 0 {
				t.Errorf("status %d\n%s", o.status, o.err)
			}
			d.exec("UPDATE jugatum.run SET db_user = 'another'")
			o = d.as(stranger, "verify", "1")
			defer d.exec("UPDATE jugatum.run SET db_user = 'postgres'")
		}
		if o.status != 3 || !strings.Contains(o.err, "UPDATE t SET n = n + 1 WHERE id > 50") || !strings.Contains(o.err, "--trust-record") {
			t.Errorf("status %d\n%s%s", o.status, o.out, o.err)
		}
		if o := d.as(stranger, "kept", "1"); o.status != 3 || !strings.Contains(o.err, "--trust-record") {
			t.Errorf("status %d\n%s%s", o.status, o.out, o.err)
		}
		for _, command := range []string{"verify", "kept"} {
			if o := d.as(stranger, command, "1", "--trust-record"); o.status != 0 {
				t.Errorf("status %d\n%s%s", o.status, o.out, o.err)
			}
		}
		if d.engine == "postgres" {
			d.exec("UPDATE jugatum.run SET db_user = 'postgres'")
		}
		// What this user has made and somebody has changed is carried out by no means.
		for name, x := range map[string]struct{ change, back string }{
			"statement": {"UPDATE " + run + " SET source_text = 'DELETE FROM t WHERE id > 0'", "UPDATE " + run + " SET source_text = 'UPDATE t SET n = n + 1 WHERE id > 50'"},
			"table":     {"UPDATE " + step + " SET table_name = 'u'", "UPDATE " + step + " SET table_name = 't'"},
			"columns":   {"UPDATE " + step + " SET set_columns = '[\"id\"]'", "UPDATE " + step + " SET set_columns = '[\"n\"]'"},
			"verb":      {"UPDATE " + step + " SET verb = 'delete'", "UPDATE " + step + " SET verb = 'update'"},
			"parameter": {"UPDATE " + run + " SET params = '{}'", ""},
		} {
			params := d.one("SELECT params FROM " + run)
			d.exec(x.change)
			for _, command := range []string{"verify", "undo", "kept", "resume"} {
				if command == "resume" { // only an unfinished run gets that far
					d.exec("UPDATE " + run + " SET status = 'stopped'")
				}
				if o := d.must(3, command, "1", "--trust-record"); !strings.Contains(o.err, "somebody has changed it since") {
					t.Errorf("%s of the %s: %s", command, name, o.err)
				}
			}
			if o := d.must(3, "show", "1", "--lines", filepath.Join(t.TempDir(), "lines.csv"), "--trust-record"); !strings.Contains(o.err, "somebody has changed it since") {
				t.Errorf("the lines of the %s: %s", name, o.err)
			}
			if x.back == "" {
				x.back = "UPDATE " + run + " SET params = '" + params + "'"
			}
			d.exec(x.back, "UPDATE "+run+" SET status = 'done'")
		}
		// Names of tables are made from numbers, whatever stands in their place.
		name := d.one("SELECT kept_table FROM " + step)
		for _, sql := range []string{"(SELECT 1) AS x", "t", strings.Replace(name, "_1_1", "_2_1", 1), strings.Replace(name, "_1_1", "_1_2", 1)} {
			d.exec("UPDATE " + step + " SET kept_table = '" + sql + "'")
			if o := d.must(1, "undo", "1"); !strings.Contains(o.err, "the ledger names") {
				t.Errorf("%s: %s", sql, o.err)
			}
		}
		d.exec("UPDATE " + step + " SET kept_table = '" + name + "'")
		same(t, "untouched", d.dump("t"), changed)
		d.must(0, "undo", "1")
	})
}

// TestChecksOnlyRead: what is not one query is refused before a server sees it.
func TestChecksOnlyRead(t *testing.T) {
	d := fresh(t, "sqlite")
	d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t VALUES (1, 1)")
	other := filepath.Join(t.TempDir(), "other.db")
	for _, sql := range []string{"PRAGMA query_only = 0; ATTACH '" + other + "' AS o; DELETE FROM t", "SELECT 1; DELETE FROM t", "WITH x AS (SELECT 1) DELETE FROM t"} {
		job := filepath.Join(t.TempDir(), "job.toml")
		text := "[[step]]\nname = \"s\"\nsql = \"UPDATE t SET n = 2 WHERE id = 1\"\n[[step.check]]\nsql = \"" + sql + "\"\nis = 0\nwhen = \"both\"\n"
		if err := os.WriteFile(job, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		for _, command := range []string{"preview", "run"} {
			if o := d.jugatum(command, job); o.status != 2 || !strings.Contains(o.err, "check") {
				t.Errorf("%s of %s: status %d\n%s", command, sql, o.status, o.err)
			}
		}
	}
	if got := d.one("SELECT n FROM t"); got != "1" {
		t.Error(got)
	}
	if _, err := os.Stat(other); err == nil {
		t.Error("another file was attached")
	}
}

// TestLedgersOfOthers: a ledger to which others can write, or that does something
// by itself, is not read at all.
func TestLedgersOfOthers(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t SELECT i, i FROM "+d.numbers(20))
		d.must(0, "run", "--sql", "UPDATE t SET n = n + 1 WHERE id > 5", "--accept", "15")
		type way struct{ do, undo []string }
		ways := map[string]way{
			"drop it":   {[]string{"ALTER TABLE jugatum_run RENAME TO r", "CREATE VIEW jugatum_run AS SELECT * FROM r"}, []string{"DROP VIEW jugatum_run", "ALTER TABLE r RENAME TO jugatum_run"}},
			"no tables": {[]string{"CREATE TRIGGER jugatum_x AFTER INSERT ON jugatum_run BEGIN DELETE FROM t; END"}, []string{"DROP TRIGGER jugatum_x"}},
		}
		switch d.engine {
		case "mariadb":
			ways = map[string]way{"no ordinary table": {[]string{"RENAME TABLE jugatum_run TO r", "CREATE VIEW jugatum_run AS SELECT * FROM r"}, []string{"DROP VIEW jugatum_run", "RENAME TABLE r TO jugatum_run"}}}
		case "postgres":
			role := "app_" + newName()
			d.exec("CREATE ROLE "+role, "CREATE FUNCTION nothing() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END'")
			t.Cleanup(func() { d.exec("DROP OWNED BY "+role+" CASCADE", "DROP ROLE "+role) })
			ways = map[string]way{
				"REVOKE CREATE ON SCHEMA jugatum FROM " + role:            {[]string{"GRANT CREATE ON SCHEMA jugatum TO " + role}, []string{"REVOKE CREATE ON SCHEMA jugatum FROM " + role}},
				"everybody may make things":                               {[]string{"GRANT CREATE ON SCHEMA jugatum TO PUBLIC"}, []string{"REVOKE CREATE ON SCHEMA jugatum FROM PUBLIC"}},
				"it belongs to " + role:                                   {[]string{"ALTER SCHEMA jugatum OWNER TO " + role}, []string{"ALTER SCHEMA jugatum OWNER TO postgres"}},
				"lane belongs to " + role:                                 {[]string{"ALTER TABLE jugatum.lane OWNER TO " + role}, []string{"ALTER TABLE jugatum.lane OWNER TO postgres"}},
				"REVOKE ALL ON ALL TABLES IN SCHEMA jugatum FROM " + role: {[]string{"GRANT UPDATE ON jugatum.run TO " + role}, []string{"REVOKE UPDATE ON jugatum.run FROM " + role}},
				"columns of step":                                         {[]string{"GRANT UPDATE (name) ON jugatum.step TO " + role}, []string{"REVOKE UPDATE (name) ON jugatum.step FROM " + role}},
				"trigger, x":                                              {[]string{"CREATE TRIGGER x BEFORE INSERT ON jugatum.batch FOR EACH ROW EXECUTE FUNCTION nothing()"}, []string{"DROP TRIGGER x ON jugatum.batch"}},
				"rule, x":                                                 {[]string{"CREATE RULE x AS ON INSERT TO jugatum.run DO ALSO DELETE FROM t"}, []string{"DROP RULE x ON jugatum.run"}},
				"row policies":                                            {[]string{"CREATE POLICY x ON jugatum.run"}, []string{"DROP POLICY x ON jugatum.run"}},
				"run is no ordinary table":                                {[]string{"ALTER TABLE jugatum.run RENAME TO r", "CREATE VIEW jugatum.run AS SELECT * FROM jugatum.r"}, []string{"DROP VIEW jugatum.run", "ALTER TABLE jugatum.r RENAME TO run"}},
				"inherits":                                                {[]string{"CREATE TABLE heir () INHERITS (jugatum.run)"}, []string{"DROP TABLE heir"}},
				"values of their own":                                     {[]string{"ALTER TABLE jugatum.run ALTER title SET DEFAULT current_user"}, []string{"ALTER TABLE jugatum.run ALTER title DROP DEFAULT"}},
				"other columns":                                           {[]string{"ALTER TABLE jugatum.run ADD more int"}, []string{"ALTER TABLE jugatum.run DROP more"}},
			}
		}
		if d.engine != "postgres" {
			run := d.ledger("run")
			ways["other columns"] = way{[]string{"ALTER TABLE " + run + " ADD COLUMN more integer"}, []string{"ALTER TABLE " + run + " DROP COLUMN more"}}
		}
		for words, w := range ways {
			d.exec(w.do...)
			for _, args := range [][]string{{"runs"}, {"show", "1"}, {"verify", "1"}, {"undo", "1"}, {"resume", "1"}, {"run", "--accept", "any", "--sql", "UPDATE t SET n = 0 WHERE id = 1"}} {
				if o := d.jugatum(args...); o.status != 3 || words != "no tables" && !strings.Contains(o.err, words) {
					t.Errorf("%s, %s: status %d\n%s", words, args[0], o.status, o.err)
				}
			}
			d.exec(w.undo...)
			d.must(0, "runs")
		}
		d.must(0, "undo", "1")
	})
}

// TestViewsOfOthers: kept values on MariaDB are read through a view, which another
// user who may write to the database could have made anew.
func TestViewsOfOthers(t *testing.T) {
	d := fresh(t, "mariadb")
	d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t SELECT i, i FROM "+d.numbers(20))
	d.must(0, "run", "--sql", "UPDATE t SET n = n + 1 WHERE id > 5", "--accept", "15")
	before := d.dump("t")
	user := "app_" + newName()
	d.exec("CREATE USER "+user, "GRANT ALL ON "+d.one("SELECT DATABASE()")+".* TO "+user, "CREATE OR REPLACE DEFINER = "+user+" SQL SECURITY INVOKER VIEW jugatum_kept_1_1 AS SELECT seq, seq AS key_id, 7 AS old_n, 7 AS new_n, 15 AS packed_to FROM seq_1_to_15")
	t.Cleanup(func() { d.exec("DROP USER " + user) })
	for _, command := range []string{"verify", "undo"} {
		if o := d.must(3, command, "1"); !strings.Contains(o.err, user) {
			t.Error(o.err)
		}
	}
	same(t, "untouched", d.dump("t"), before)
}

// TestReplicasOfRecords: nothing is sent to a host that only a record or a job names.
func TestReplicasOfRecords(t *testing.T) {
	d := fresh(t, "mariadb")
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	var called atomic.Int64
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			called.Add(1)
			c.Close()
		}
	}()
	d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t SELECT i, i FROM "+d.numbers(20))
	d.must(0, "run", "--sql", "UPDATE t SET n = n + 1 WHERE id > 5", "--accept", "15")
	host := "mariadb://" + l.Addr().String() + "/"
	d.exec("UPDATE jugatum_run SET status = 'stopped', options = replace(options, '{\"hold\"', '{\"replicas\":[\"" + host + "\"],\"hold\"')")
	if o := d.must(2, "resume", "1"); !strings.Contains(o.err, host) || !strings.Contains(o.err, "--replica") {
		t.Error(o.err)
	}
	d.must(0, "watch", "1")
	job := filepath.Join(t.TempDir(), "job.toml")
	text := "[limits]\nreplicas = [\"" + host + "\"]\n[[step]]\nname = \"s\"\nsql = \"UPDATE t SET n = 2 WHERE id = 1\"\n"
	if err := os.WriteFile(job, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	if o := d.must(2, "run", job, "--accept", "any"); !strings.Contains(o.err, "--replica") {
		t.Error(o.err)
	}
	if n := called.Load(); n != 0 {
		t.Errorf("it was called %d times", n)
	}
	d.must(0, "resume", "1", "--replica", "none")
}

// TestWhoSeesWhat: survey and preview tell who else can read what was kept, and
// where this user sees only a part.
func TestWhoSeesWhat(t *testing.T) {
	d := fresh(t, "postgres")
	app, clerk := "app_"+newName(), "clerk_"+newName()
	d.exec("CREATE ROLE "+app, "CREATE ROLE "+clerk+" LOGIN", "CREATE TABLE visit (id integer PRIMARY KEY, n integer)", "INSERT INTO visit SELECT i, i FROM "+d.numbers(20),
		"CREATE FUNCTION loud(int) RETURNS bool LANGUAGE plpgsql AS $$ BEGIN RAISE EXCEPTION 'a policy was asked'; END $$",
		"CREATE TABLE mine (id integer PRIMARY KEY, n integer)", "ALTER TABLE mine ENABLE ROW LEVEL SECURITY", "CREATE POLICY p ON mine USING (loud(n))", "INSERT INTO mine VALUES (1, 1)",
		"GRANT SELECT, UPDATE ON mine TO "+clerk)
	t.Cleanup(func() { d.exec("DROP OWNED BY "+app+", "+clerk, "DROP ROLE "+app+", "+clerk) })
	d.must(0, "run", "--sql", "UPDATE visit SET n = n + 1 WHERE id > 5", "--accept", "15")
	const words = "kept values of it can be read by "
	if o := d.must(0, "survey"); strings.Contains(o.out, words) {
		t.Error(o.out)
	}
	d.exec("GRANT USAGE ON SCHEMA jugatum TO "+app, "GRANT SELECT ON jugatum.kept_1_1 TO "+app)
	if o := d.must(0, "survey"); !strings.Contains(o.out, words+app) {
		t.Error(o.out)
	}
	d.exec("GRANT SELECT ON visit TO " + app)
	if o := d.must(0, "survey"); strings.Contains(o.out, words) {
		t.Error(o.out)
	}
	if o := d.must(0, "preview", "--sql", "DELETE FROM visit WHERE id = 7"); !strings.Contains(o.out, "kept-deleted") {
		t.Error(o.out)
	}
	// Where policies hold, a survey asks for no row; a preview has to.
	low := &database{t: t, engine: "postgres", url: strings.Replace(d.url, "postgres@", clerk+"@", 1)}
	if o := low.must(0, "survey"); !strings.Contains(o.out, "row policies hold") {
		t.Error(o.out)
	}
	d.exec("CREATE OR REPLACE FUNCTION loud(int) RETURNS bool LANGUAGE sql AS 'SELECT true'",
		"CREATE FUNCTION fires() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER AS 'BEGIN RETURN new; END'", "CREATE TRIGGER tr BEFORE UPDATE ON mine FOR EACH ROW EXECUTE FUNCTION fires()",
		"CREATE VIEW visits AS SELECT n FROM visit", "GRANT SELECT ON visits TO "+clerk)
	if o := low.must(0, "survey"); !strings.Contains(o.out, "trigger tr runs with the rights of postgres") {
		t.Error(o.out)
	}
	o := low.jugatum("preview", "--sql", "UPDATE mine SET n = 2 WHERE id = 1 AND n IN (SELECT n FROM visits)")
	for _, words := range []string{"row-policy", "trigger tr runs with the rights of postgres", "view visits (postgres)"} {
		if !strings.Contains(o.out, words) {
			t.Errorf("no %q in\n%s%s", words, o.out, o.err)
		}
	}
}

// TestWhoSeesWhatMariaDB: a user who may read the ledger and not the table is
// told, whether by one table of it or by all.
func TestWhoSeesWhatMariaDB(t *testing.T) {
	d := fresh(t, "mariadb")
	app, place := "app_"+newName(), newName()
	d.exec("CREATE USER "+app, "CREATE TABLE visit (id integer PRIMARY KEY, n integer)", "INSERT INTO visit SELECT i, i FROM "+d.numbers(20))
	t.Cleanup(func() { d.exec("DROP USER "+app, "DROP DATABASE IF EXISTS "+place) })
	d.must(0, "run", "--sql", "UPDATE visit SET n = n + 1 WHERE id > 5", "--accept", "15", "--ledger", place)
	home := d.one("SELECT DATABASE()")
	words := "kept values of it can be read by " + app + "@%"
	for _, x := range []struct {
		statement string
		told      bool
	}{
		{"GRANT SELECT ON " + home + ".other TO " + app, false},
		{"GRANT SELECT ON " + place + ".jugatum_packed_1_1 TO " + app, true},
		{"REVOKE SELECT ON " + place + ".jugatum_packed_1_1 FROM " + app, false},
		{"GRANT SELECT ON " + place + ".* TO " + app, true},
		{"GRANT SELECT (id) ON " + home + ".visit TO " + app, true},
		{"GRANT SELECT ON " + home + ".visit TO " + app, false},
		{"REVOKE SELECT ON " + home + ".visit FROM " + app, true},
		{"GRANT SELECT ON *.* TO " + app, false},
	} {
		if strings.Contains(x.statement, "other") {
			d.exec("CREATE TABLE other (id integer PRIMARY KEY)")
		}
		d.exec(x.statement)
		if o := d.must(0, "survey"); strings.Contains(o.out, words) != x.told {
			t.Errorf("after %s:\n%s", x.statement, o.out)
		}
	}
}
