package e2e

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// showLines gives what became of the lines of a run, by the columns of the file that is written.
func (d *database) showLines(run string) []map[string]string {
	d.t.Helper()
	path := filepath.Join(d.t.TempDir(), "lines.csv")
	d.must(0, "show", run, "--lines", path)
	f, err := os.Open(path)
	if err != nil {
		d.t.Fatal(err)
	}
	defer f.Close()
	rows, err := csv.NewReader(f).ReadAll()
	if err != nil {
		d.t.Fatal(err)
	}
	var out []map[string]string
	for _, row := range rows[1:] {
		line := map[string]string{}
		for i, v := range row {
			line[rows[0][i]] = v
		}
		out = append(out, line)
	}
	return out
}

// callForms are forms of one statement that puts a line into the table put, by engine: each fails
// for keys that are there, and for amounts above 900.
func callForms(d *database) map[string]string {
	out := map[string]string{
		"insert": "INSERT INTO put (k, n, txt, amt, day) VALUES (:k, :n, :txt, :amt, :day)",
	}
	switch d.engine {
	case "postgres":
		d.exec(`CREATE PROCEDURE put_line(k int, n bigint, txt text, amt numeric, day date) LANGUAGE plpgsql AS $$ BEGIN INSERT INTO put VALUES (k, n, txt, amt, day); END $$`,
			`CREATE FUNCTION put_row(k int, n bigint, txt text, amt numeric, day date) RETURNS text LANGUAGE sql AS $$ INSERT INTO put VALUES ($1, $2, $3, $4, $5); SELECT 'put ' || $1 $$`)
		d.exec(`CREATE PROCEDURE put_told(k int, n bigint, txt text, amt numeric, day date, INOUT told text) LANGUAGE plpgsql AS $$ BEGIN INSERT INTO put VALUES (k, n, txt, amt, day); told := 'put ' || k; END $$`)
		out["procedure"] = "CALL put_line(:k, :n, :txt, :amt, :day)"
		out["telling"] = "CALL put_told(:k, :n, :txt, :amt, :day, NULL)"
		out["function"] = "SELECT put_row(:k, :n, :txt, :amt, :day)"
	case "mariadb":
		d.exec(`CREATE PROCEDURE put_line(k int, n bigint, txt mediumtext CHARACTER SET utf8mb4, amt decimal(10,2), day date, OUT told varchar(20)) BEGIN INSERT INTO put VALUES (k, n, txt, amt, day); SET told = concat('put ', k); END`)
		out["telling"] = "CALL put_line(:k, :n, :txt, :amt, :day, NULL)"
	}
	return out
}

// TestCallsEqualTheLoop: a statement for each line of a list leaves what the same statement leaves
// line by line, whatever the values, the batches and the lines that fail; and of each line it is
// told what came of it.
func TestCallsEqualTheLoop(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		const table = " (k integer PRIMARY KEY, n bigint, txt text, amt numeric(10,2) CHECK (amt <= 900), day date)"
		d.exec("CREATE TABLE put"+strings.Replace(table, "txt text", d.by("txt mediumtext", "txt text"), 1), "CREATE TABLE plain"+strings.Replace(table, "txt text", d.by("txt mediumtext", "txt text"), 1))
		r := seeded(61)
		for name, call := range callForms(d) {
			for _, batch := range []string{"1", "7", "1000"} {
				d.exec("DELETE FROM put", "DELETE FROM plain")
				var file strings.Builder
				want := map[int]string{}
				for i := range 150 {
					k, txt := r.IntN(120), []any{nil, "", "it's", "ä日本\n\"x\"", "=1+1", `back\slash`}[r.IntN(6)]
					line := map[string]any{"k": k, "n": []any{nil, 0, int64(-9223372036854775808), 17}[r.IntN(4)], "txt": txt, "amt": []any{nil, 1.25, 900, 901, -0.01}[r.IntN(5)], "day": []any{nil, "2026-02-28"}[r.IntN(2)], "unused": i}
					text, _ := json.Marshal(line)
					fmt.Fprintf(&file, "%s\n", text)
					place := strings.NewReplacer("?", "$%d")
					sql := "INSERT INTO plain VALUES (?, ?, ?, ?, ?)"
					if d.engine == "postgres" {
						sql = fmt.Sprintf(place.Replace(sql), 1, 2, 3, 4, 5)
					}
					want[i+1] = "called"
					amt := line["amt"]
					if amt != nil {
						amt = fmt.Sprint(amt)
					}
					if _, err := d.db.Exec(sql, k, line["n"], txt, amt, line["day"]); err != nil {
						want[i+1] = "refused"
					}
				}
				types := "types = { k = 'integer', n = 'integer', amt = 'decimal', day = 'date' }"
				if name != "insert" { // whose arguments have types of their own
					types = ""
				}
				job := d.job("[[step]]\neach = '" + d.list("put.jsonl", file.String()) + "'\ncall = '" + call + "'\n" + types)
				d.must(5, "run", job, "--accept", "150", "--despite", "no-undo", "--set-aside", "150", "--batch", batch)
				same(t, name+" in batches of "+batch, d.dump("put"), d.dump("plain"))
				run := d.lastRun()
				for _, line := range d.showLines(run) {
					n := atoi(line["line"])
					if line["outcome"] != want[n] || (line["error"] == "") != (want[n] == "called") {
						t.Errorf("%s: line %d: %v, want %s", name, n, line, want[n])
					}
					told := map[string]string{"insert": "", "procedure": "", "telling": `{"told":"put ` + line["k"] + `"}`, "function": `{"put_row":"put ` + line["k"] + `"}`}[name]
					if want[n] == "called" && (line["returned"] != told || (line["affected"] == "1") != (name == "insert")) {
						t.Errorf("%s: line %d: %v", name, n, line)
					}
				}
				d.must(0, "verify", run)
				d.exec("DELETE FROM put") // and the refused ones once more, all of which go now but for their amounts
				if o := d.must(5, "resume", run, "--retry-set-aside"); !strings.Contains(o.err+o.out, "set aside") {
					t.Error(o.err)
				}
				d.must(0, "verify", run)
			}
		}
	})
}

// TestCallsKilled: killed over and over, no line is called twice and none is left out.
func TestCallsKilled(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		const lines = 4000
		d.exec("CREATE TABLE counted (id integer PRIMARY KEY, n integer NOT NULL)", "INSERT INTO counted SELECT i, 0 FROM "+d.numbers(lines))
		call := "UPDATE counted SET n = n + 1 WHERE id = :id"
		switch d.engine {
		case "postgres":
			d.exec("CREATE PROCEDURE tick(no int) LANGUAGE sql AS $$ UPDATE counted SET n = n + 1 WHERE id = no $$")
			call = "CALL tick(:id)"
		case "mariadb":
			d.exec("CREATE PROCEDURE tick(no int) UPDATE counted SET n = n + 1 WHERE id = no")
			call = "CALL tick(:id)"
		}
		var file strings.Builder
		file.WriteString("id\n")
		for i := range lines {
			fmt.Fprintln(&file, i+1)
		}
		job := d.job("[[step]]\neach = '" + d.list("ids.csv", file.String()) + "'\ncall = '" + call + "'\n")
		kills := 0
		d.killedMidway(seeded(62), &kills, 6, func() {
			if got := d.one("SELECT count(*) FROM counted WHERE n > 1"); got != "0" {
				t.Fatalf("%s lines were called more than once", got)
			}
		}, "run", job, "--accept", "any", "--despite", "no-undo", "--batch", "25")
		if got := d.one("SELECT count(*) FROM counted WHERE n = 1"); got != fmt.Sprint(lines) {
			t.Errorf("%s of %d lines were called", got, lines)
		}
		if kills == 0 {
			t.Error("it was never killed")
		}
	})
}

// commits makes the table seen, and a procedure that puts a line there, commits, and goes on to
// what a lock on the row of latch holds up.
func (d *database) commits() {
	d.exec("CREATE TABLE seen (no integer)", "CREATE TABLE latch (id integer PRIMARY KEY, n integer)", "INSERT INTO latch VALUES (1, 0)")
	if d.engine == "postgres" {
		d.exec("CREATE PROCEDURE see(no int) LANGUAGE plpgsql AS $$ BEGIN INSERT INTO seen VALUES (no); COMMIT; UPDATE latch SET n = n + 1 WHERE id = 1; IF no = 5 THEN RAISE EXCEPTION 'not five'; END IF; END $$")
		return
	}
	d.exec("CREATE PROCEDURE see(no int) BEGIN INSERT INTO seen VALUES (no); COMMIT; UPDATE latch SET n = n + 1 WHERE id = 1; IF no = 5 THEN SIGNAL SQLSTATE '45000' SET message_text = 'not five'; END IF; END")
}

// TestCallsThatCommit: a procedure that commits itself is told, and called at most once for each
// line: one that was under way when the run was killed is told, and not called again.
func TestCallsThatCommit(t *testing.T) {
	beside(t)
	servers(t, func(t *testing.T, d *database) {
		d.commits()
		var file strings.Builder
		file.WriteString("no\n")
		for i := range 10 {
			fmt.Fprintln(&file, i+1)
		}
		job := d.job("[[step]]\neach = '" + d.list("numbers.csv", file.String()) + "'\ncall = 'CALL see(:no)'\n")
		if o := d.must(0, "preview", job, "--despite", "no-undo"); !strings.Contains(o.out, "warning ends-transaction: procedure ") {
			t.Error(o.out)
		}
		hold, err := d.db.Begin()
		if err != nil {
			t.Fatal(err)
		}
		if _, err := hold.Exec("UPDATE latch SET n = 0 WHERE id = 1"); err != nil {
			t.Fatal(err)
		}
		cmd := d.start("run", job, "--accept", "any", "--despite", "no-undo", "--hold", "10m")
		d.until("the first line is half done", func() bool { return d.one("SELECT count(*) FROM seen") == "1" })
		cmd.Process.Kill()
		cmd.Wait()
		hold.Rollback()
		run := d.lastRun()
		if o := d.must(1, "resume", run); !strings.Contains(o.err, "line 2: the run was cut off while the statement was carried out for this line: whether it took effect is not known") {
			t.Error(o.err)
		}
		if o := d.must(1, "resume", run, "--set-aside", "1"); !strings.Contains(o.err, "line 6: ") || !strings.Contains(o.err, "not five") {
			t.Error(o.err)
		}
		d.must(5, "resume", run, "--set-aside", "2")
		d.must(0, "verify", run)
		if got := d.lines("SELECT no FROM seen ORDER BY no"); !slices.Equal(got, strings.Fields("1 2 3 4 5 6 7 8 9 10")) {
			t.Errorf("seen were %v", got)
		}
		for _, line := range d.showLines(run) {
			want := "called"
			if line["no"] == "1" || line["no"] == "5" {
				want = "refused"
			}
			if line["outcome"] != want {
				t.Errorf("%v", line)
			}
		}
		d.must(5, "resume", run, "--retry-set-aside") // a person wants so
		if got := d.lines("SELECT no FROM seen ORDER BY no"); !slices.Equal(got, strings.Fields("1 1 2 3 4 5 5 6 7 8 9 10")) {
			t.Errorf("then seen were %v", got)
		}
	})
}

// TestCallsThatCommitFurtherDown: PostgreSQL says so itself of a procedure whose text does not.
func TestCallsThatCommitFurtherDown(t *testing.T) {
	beside(t)
	d := fresh(t, "postgres")
	d.commits()
	d.exec("CREATE PROCEDURE outer_see(no int) LANGUAGE plpgsql AS $$ BEGIN IF no > 3 THEN CALL see(no); ELSE INSERT INTO seen VALUES (no); END IF; END $$")
	job := d.job("[[step]]\neach = '" + d.list("numbers.csv", "no\n1\n2\n3\n4\n6\n") + "'\ncall = 'CALL outer_see(:no)'\n")
	d.must(0, "run", job, "--accept", "5", "--despite", "no-undo")
	if got := d.lines("SELECT no FROM seen ORDER BY no"); !slices.Equal(got, strings.Fields("1 2 3 4 6")) {
		t.Errorf("seen were %v", got)
	}
}

// TestCallsOfMariaDB: what the server tells of a procedure only when it is called is looked up.
func TestCallsOfMariaDB(t *testing.T) {
	beside(t)
	d := fresh(t, "mariadb")
	d.exec("CREATE TABLE seen (no integer, txt varchar(3))", "CREATE PROCEDURE two(a int, b varchar(3)) INSERT INTO seen VALUES (a, b)",
		"CREATE PROCEDURE back(a int, OUT b int) SET b = a", "CREATE PROCEDURE both_ways(INOUT a int) SET a = a + 1",
		"SET STATEMENT sql_mode = '' FOR CREATE PROCEDURE loose(a int, b varchar(3)) INSERT INTO seen VALUES (a, b)",
		"CREATE PROCEDURE undoes(a int, b varchar(3)) BEGIN INSERT INTO seen VALUES (a, b); IF a = 3 THEN ROLLBACK; END IF; END",
		"CREATE PROCEDURE hides(a int, b varchar(3)) BEGIN EXECUTE IMMEDIATE concat('INSERT INTO seen VALUES (', a, ', NULL)'); EXECUTE IMMEDIATE 'COMMIT'; END")
	list := d.list("two.csv", "a,b\n1,x\n2,yy\n3,zzz\n4,x\n")
	for call, want := range map[string]string{
		"CALL too(:a, :b)":   `did you mean "two"?`,
		"CALL two(:a)":       "takes 2 arguments, not 1",
		"CALL two(:b, :a)":   `column b: "x" is not a number`,
		"CALL back(:a, :b)":  "gives b back: write NULL in its place",
		"CALL both_ways(:a)": "(INOUT)",
		"CALL loose(:a, :b)": "was made without strict mode",
	} {
		job := d.job("[[step]]\neach = '" + list + "'\ncall = '" + call + "'\n")
		if o := d.must(2, "run", job, "--accept", "any", "--despite", "no-undo"); !strings.Contains(o.err, want) {
			t.Errorf("%s: %s", call, o.err)
		}
	}
	long := d.job("[[step]]\neach = '" + d.list("long.csv", "a,b\n1,four\n") + "'\ncall = 'CALL two(:a, :b)'\n")
	if o := d.must(2, "run", long, "--accept", "any", "--despite", "no-undo"); !strings.Contains(o.err, `"four" has 4 characters, there is room for 3`) {
		t.Error(o.err)
	}
	for call, want := range map[string]string{"undoes": "1 2 4", "hides": "1 2 3 4", "two": "1 2 3 4"} {
		d.exec("DELETE FROM seen")
		job := d.job("[[step]]\neach = '" + list + "'\ncall = 'CALL " + call + "(:a, :b)'\n")
		if o := d.must(0, "preview", job, "--despite", "no-undo"); strings.Contains(o.out, "ends-transaction") != (call != "two") {
			t.Error(o.out)
		}
		d.must(0, "run", job, "--accept", "4", "--despite", "no-undo")
		if got := d.lines("SELECT no FROM seen ORDER BY no"); !slices.Equal(got, strings.Fields(want)) {
			t.Errorf("%s: seen were %v, not %s", call, got, want)
		}
	}
}

// TestCallsRefused: what is wrong is told with its place before the first line, and nothing stays.
func TestCallsRefused(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE put (k integer PRIMARY KEY, amt numeric(6,2))")
		list := d.list("put.csv", "k,amt\n1,2.50\n2,x\n")
		for text, want := range map[string]string{
			"call = 'INSERT INTO put VALUES (:k, :amount)'":                                    ":amount",
			"call = 'INSERT INTO put VALUES (:k, :amt)'\ntypes = { amt = 'decimal' }":          `put.csv:3: column amt: "x" is not a number`,
			"call = 'INSERT INTO put VALUES (:k, :amt)'\ntypes = { amd = 'decimal' }":          `types.amd: `,
			"call = 'INSERT INTO put VALUES (:k, :amt)'\ntypes = { amt = 'money' }":            `"money" is not a type`,
			"call = 'INSERT INTO nowhere VALUES (:k, :amt)'":                                   "nowhere",
			"call = 'INSERT INTO put VALUES (:k, '":                                            "a bracket is not closed",
			"call = 'INSERT INTO put VALUES (:k, 1); COMMIT'":                                  "expected one statement, and nothing after it",
			"call = 'DROP TABLE put'":                                                          `not "DROP"`,
			"call = 'DELETE FROM put'":                                                         "it would be the same for each line",
			"call = 'DELETE FROM put WHERE k = :k'\ntable = 'put'":                             "table, where and once do not go with each",
			"call = 'CALL nothing(:k)'":                                                        map[string]string{"sqlite": "SQLite has no procedures", "postgres": "does not exist", "mariadb": "there is no procedure"}[d.engine],
			"call = ' '":                                                                       "call is empty",
			"types = { k = 'integer' }":                                                        "call is missing",
			"call = 'DELETE FROM put WHERE k = :k'\nset = { amt = '1' }":                       "belong to other forms",
			"call = 'DELETE FROM put WHERE k = :k'\naction = 'update'":                         "belong to one kind of step",
			"call = 'DELETE FROM put WHERE k = :k'\nheader = ['k', 'k']":                       "columns 1 and 2 are both called",
			"call = 'DELETE FROM put WHERE k = :k'\nseparator = '::'":                          "expected one character",
			"call = 'UPDATE put SET amt = (SELECT no_such(:amt)) WHERE k = :k'":                "no_such",
			"call = 'UPDATE put SET amt = :amt WHERE k = :k AND k = :k'\nencoding = 'klingon'": "no character encoding",
		} {
			job := d.job("[[step]]\neach = '" + list + "'\n" + text + "\n")
			for _, args := range [][]string{{"preview", job}, {"run", job, "--accept", "any", "--despite", "no-undo"}} {
				if o := d.must(2, args...); !strings.Contains(o.err, want) {
					t.Errorf("%s: %s", text, o.err)
				}
			}
		}
		if n := d.lists(); n != "0" {
			t.Errorf("%s tables of lists stay", n)
		}
		if got := d.one("SELECT count(*) FROM put"); got != "0" {
			t.Errorf("%s rows", got)
		}
	})
}

// TestCallsBesideOtherSteps: nothing of a called statement is taken back, which is asked before
// the other steps are; and a run outlives what it called.
func TestCallsBesideOtherSteps(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE put (k integer PRIMARY KEY, n integer)", "INSERT INTO put SELECT i, 0 FROM "+d.numbers(20), "CREATE TABLE due (k integer PRIMARY KEY)", "INSERT INTO due SELECT i FROM "+d.numbers(20))
		body := "UPDATE put SET n = n + 10 WHERE put.k = no"
		d.exec(d.by("CREATE PROCEDURE add_ten(no int) "+body, "CREATE PROCEDURE add_ten(no int) LANGUAGE sql AS $$ "+body+" $$"))
		job := d.job("[[step]]\nname = 'one'\nsql = 'UPDATE put SET n = n + 1 WHERE k <= 10'\n[[step]]\nname = 'ten'\neach = { sql = 'SELECT k FROM due WHERE k > :above ORDER BY k' }\ncall = 'CALL add_ten(:k)'\n[param.above]\ntype = 'integer'\n")
		d.must(3, "run", job, "--accept", "20", "--param", "above=10")
		d.must(0, "run", job, "--accept", "20", "--despite", "no-undo", "--param", "above=10")
		sums := func() string {
			return strings.Join(d.lines("SELECT sum(n) FROM put WHERE k <= 10 UNION ALL SELECT sum(n) FROM put WHERE k > 10"), " ")
		}
		if got := sums(); got != "10 100" {
			t.Fatal(got)
		}
		run := d.lastRun()
		d.exec("DROP PROCEDURE add_ten")
		d.must(0, "verify", run)
		if o := d.must(3, "undo", run); !strings.Contains(o.err, `step "ten" of run `) || !strings.Contains(o.err, "--despite no-undo") {
			t.Error(o.err)
		}
		d.must(0, "undo", run, "--despite", "no-undo")
		if got := sums(); got != "0 100" {
			t.Error(got)
		}
		d.must(0, "verify", d.lastRun())
		for i, line := range d.showLines(run) {
			if line["outcome"] != "called" || line["k"] != fmt.Sprint(i+11) {
				t.Error(line)
			}
		}
	})
}

// TestCallsOfAnothersProcedure: who could make something else of what has our rights is told.
func TestCallsOfAnothersProcedure(t *testing.T) {
	beside(t)
	servers(t, func(t *testing.T, d *database) {
		d.within = true
		role := newName() + "_neighbour"
		d.exec("CREATE TABLE put (k integer PRIMARY KEY)", d.by("CREATE USER "+role, "CREATE ROLE "+role),
			d.by("CREATE DEFINER = "+role+" PROCEDURE theirs(no int) SQL SECURITY INVOKER INSERT INTO put VALUES (no)", "CREATE PROCEDURE theirs(no int) LANGUAGE sql AS $$ INSERT INTO put VALUES (no) $$"),
			d.by("CREATE PROCEDURE ours(no int) SQL SECURITY INVOKER INSERT INTO put VALUES (no)", "CREATE PROCEDURE ours(no int) LANGUAGE sql AS $$ INSERT INTO put VALUES (no) $$"))
		if d.engine == "postgres" {
			d.exec("ALTER PROCEDURE theirs OWNER TO " + role)
		}
		for name, want := range map[string]bool{"theirs": true, "ours": false} {
			job := d.job("[[step]]\neach = '" + d.list("n.csv", "no\n1\n") + "'\ncall = 'CALL " + name + "(:no)'\n")
			if o := d.must(0, "preview", job, "--despite", "no-undo"); strings.Contains(o.out, "others-routine") != want || strings.Contains(o.out, "belongs to "+role) != want {
				t.Error(o.out)
			}
		}
	})
}

// TestRowThatRollsAllBack: on SQLite a trigger can roll a whole transaction back. That row, or line,
// stands alone, and all others are done once.
func TestRowThatRollsAllBack(t *testing.T) {
	beside(t)
	for _, call := range []string{"WITH x AS (SELECT :id AS a, :n AS b) INSERT INTO t SELECT a, b FROM x", "INSERT INTO t VALUES (:id, :n) RETURNING n + 1 AS more", "INSERT OR ROLLBACK INTO t VALUES (:id, :n)", ""} {
		d := fresh(t, "sqlite")
		d.within = true
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)")
		file := "id,n\n"
		for i := range 30 {
			file += fmt.Sprintf("%d,%d\n", i+1, i+1)
		}
		args := []string{"run", d.job("[[step]]\neach = '" + d.list("l.csv", file) + "'\ncall = '" + call + "'\ntypes = { id = 'integer', n = 'integer' }\n")}
		event := "INSERT"
		if call == "" {
			event, args = "UPDATE", []string{"run", "--sql", "UPDATE t SET n = n + 1 WHERE id > 0"}
			d.exec("INSERT INTO t SELECT i, i FROM " + d.numbers(30))
		}
		n := "NEW.n"
		if event == "UPDATE" {
			n = "OLD.n"
		}
		d.exec("CREATE TRIGGER thirteen BEFORE " + event + " ON t WHEN " + n + " = 13 BEGIN SELECT RAISE(ROLLBACK, 'thirteen'); END")
		d.must(5, append(args, "--accept", "any", "--despite", "no-undo", "--set-aside", "1")...)
		got := d.one("SELECT group_concat(n) FROM (SELECT n FROM t WHERE id <> 13 ORDER BY id)")
		var want []string
		for i := 1; i <= 30; i++ {
			if i != 13 {
				want = append(want, fmt.Sprint(i+b2i(event == "UPDATE")))
			}
		}
		if got != strings.Join(want, ",") {
			t.Errorf("%s: %s", call, got)
		}
		d.must(0, "verify", "1")
	}
}

// TestCallsPrivileges: who may call a procedure, and nothing else, can have it called for each line;
// who may not is told so before the first.
func TestCallsPrivileges(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		role, ledger := "clerk_"+newName(), "jugatum"
		if d.engine == "mariadb" {
			ledger = d.one("SELECT DATABASE()") + "_dba"
			d.exec("CREATE DATABASE "+ledger, "CREATE USER "+role, "GRANT SELECT, INSERT, UPDATE, DELETE, CREATE, DROP, CREATE TEMPORARY TABLES ON "+ledger+".* TO "+role)
			t.Cleanup(func() { d.exec("DROP USER "+role, "DROP DATABASE "+ledger) })
		} else {
			d.exec("CREATE ROLE "+role+" LOGIN", "CREATE SCHEMA jugatum AUTHORIZATION "+role)
			t.Cleanup(func() { d.exec("DROP OWNED BY "+role, "DROP ROLE "+role) })
		}
		d.exec("CREATE TABLE put (k integer PRIMARY KEY)", d.by("CREATE PROCEDURE put_line(no int) INSERT INTO put VALUES (no)", "CREATE PROCEDURE put_line(no int) LANGUAGE sql SECURITY DEFINER AS $$ INSERT INTO put VALUES (no) $$"))
		clerk := &database{t: t, engine: d.engine, url: strings.NewReplacer("postgres@", role+"@", "root@", role+"@").Replace(d.url), within: true}
		args := []string{d.job("[[step]]\neach = '" + d.list("n.csv", "no\n1\n2\n2\n3\n") + "'\ncall = 'CALL put_line(:no)'\n")}
		if d.engine == "mariadb" {
			args = append(args, "--ledger", ledger)
			d.exec("GRANT EXECUTE ON PROCEDURE put_line TO " + role)
			if o := clerk.must(0, append([]string{"preview", "--despite", "no-undo"}, args...)...); !strings.Contains(o.out, "its text is not to be seen by this user") {
				t.Error(o.out)
			}
		}
		clerk.must(5, append([]string{"run", "--accept", "4", "--despite", "no-undo", "--set-aside", "1"}, args...)...)
		if got := d.lines("SELECT k FROM put ORDER BY k"); !slices.Equal(got, []string{"1", "2", "3"}) {
			t.Errorf("put were %v", got)
		}
		if d.engine == "mariadb" { // or the database cannot even be opened
			d.exec("GRANT CREATE TEMPORARY TABLES ON " + d.one("SELECT DATABASE()") + ".* TO " + role)
		}
		d.exec(d.by("REVOKE EXECUTE ON PROCEDURE put_line FROM "+role, "REVOKE EXECUTE ON PROCEDURE put_line FROM PUBLIC"))
		if o := clerk.must(2, append([]string{"run", "--again", "--accept", "4", "--despite", "no-undo"}, args...)...); !strings.Contains(o.err, "put_line") {
			t.Error(o.err)
		}
	})
}
