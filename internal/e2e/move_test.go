package e2e

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"testing"
)

// TestMovesEqualTheStatements: rows moved in batches, at once, and by the two plain
// statements leave both tables with the same bytes, whether the other table was there or
// is made; verify holds, and undo restores every byte of both.
func TestMovesEqualTheStatements(t *testing.T) {
	eachLayout(t, func(t *testing.T, d *database, li int, l layout) {
		d.within = li%5 != 0 // one in five by the built program
		oneMove(d, l, li)
	})
}

// oneMove moves rows of a table with one kind of key.
func oneMove(d *database, l layout, li int) {
	t, r := d.t, seeded(uint64(7000+li))
	original, moved, together, plain := d.quote("original"), d.quote("plain"), d.quote("together"), d.quote("plain there")
	for n, table := range []string{original, moved, together, plain} {
		l.make(d, table, n)
	}
	fill(d, l, r, []int{37, 160, 400}[r.IntN(3)], original)
	d.exec("INSERT INTO " + moved + copied(d, moved, original))
	const where = "n % 3 = 0 OR txt IS NULL"
	if l.keyless {
		if o := d.must(2, "run", d.job("[[step]]\ntable = '"+moved+"'\nwhere = '"+where+"'\nmove_to = '"+together+"'\n")); !strings.Contains(o.err, "has no key, by which its rows could be told in the other table") {
			t.Error(o.err)
		}
		return
	}
	// Each of the ways as a step of one job, with tables of its own.
	ways := []struct {
		from, to, method string
		made             bool // by the move
	}{{to: "there", method: "sweep"}, {to: "mäde", method: "sweep", made: true}, {to: "mäde by list", method: "roster", made: true}, {to: "there at once", method: "single"}}
	there := func(to string) { // rows that are there already, of keys that no row has which is moved
		d.exec("INSERT INTO " + to + copied(d, to, original) + " WHERE n % 3 = 1 AND txt IS NOT NULL")
	}
	there(plain)
	text := ""
	for i := range ways {
		w := &ways[i]
		w.from, w.to = d.quote("first täble "+w.to), d.quote(w.to)
		l.make(d, w.from, 10+i)
		d.exec("INSERT INTO " + w.from + copied(d, w.from, original))
		if !w.made {
			l.make(d, w.to, 20+i)
			there(w.to)
		}
		text += fmt.Sprintf("[[step]]\nname = \"%d\"\ntable = '%s'\nwhere = '%s'\nmove_to = '%s'\nmethod = %q\n", i, w.from, where, w.to, w.method)
	}
	before, thereBefore := d.dump(original), d.dump(plain)
	d.exec("INSERT INTO "+plain+copied(d, plain, moved)+" WHERE "+where, "DELETE FROM "+moved+" WHERE "+where)
	want, wantThere := d.dump(moved), d.dump(plain)
	batch := strconv.Itoa(8 + r.IntN(40))

	d.must(0, append([]string{"run", d.job(text), "--accept", "any", "--batch", batch}, d.workers(r.IntN(4))...)...)
	run := d.lastRun()
	for _, w := range ways {
		same(t, "the move leaves in "+w.from, d.dump(w.from), want)
		if !w.made {
			same(t, "the move brings to "+w.to, d.dump(w.to), wantThere)
			continue
		}
		d.exec("DELETE FROM "+together, "INSERT INTO "+together+copied(d, together, w.from), "INSERT INTO "+together+copied(d, together, w.to))
		same(t, "rows of both tables", d.dump(together), before)
	}
	d.must(0, "verify", run)
	d.must(0, "undo", run, "--batch", batch)
	for _, w := range ways {
		same(t, "undone in "+w.from, d.dump(w.from), before)
		if !w.made {
			same(t, "undone in "+w.to, d.dump(w.to), thereBefore)
		} else if d.one("SELECT count(*) FROM "+w.to) != "0" {
			t.Errorf("undo has left rows in the table that was made: %s", w.to)
		}
	}
	d.must(0, "verify", d.lastRun())
	first, _, _ := strings.Cut(text[1:], "[[step]]")
	d.must(0, "run", d.job("["+first), "--again", "--accept", "any", "--batch", batch, "--keep", "none")
	same(t, "nothing kept leaves", d.dump(ways[0].from), want)
	same(t, "nothing kept brings", d.dump(ways[0].to), wantThere)
}

// harbourMove makes visits of which the odd ones are to be moved, and cargo that refers to none of them.
func (d *database) harbourMove(rows int) {
	d.exec("CREATE TABLE visit (id "+d.integer()+" PRIMARY KEY, berth varchar(20), fee integer)", "INSERT INTO visit SELECT i, concat('berth ', i % 7), i FROM "+d.numbers(rows))
}

// TestMove: what stands in the way of a move is told before, what others do to moved rows
// is not taken back, and rows whose keys are in both tables stay or give way.
func TestMove(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.harbourMove(100)
		step := "[[step]]\nname = \"odd visits\"\ntable = \"visit\"\nwhere = \"fee % 2 = 1\"\nmove_to = \"visit_archive\"\n"
		for _, x := range []struct{ ddl, want string }{
			{"CREATE TABLE visit_archive (id " + d.integer() + ", berth varchar(20), fee integer)", "no unique key over (id)"},
			{"CREATE TABLE visit_archive (no " + d.integer() + " PRIMARY KEY, berth varchar(20), fee integer)", "no column id"},
			{"CREATE TABLE visit_archive (id " + d.integer() + " PRIMARY KEY, berth " + map[string]string{"sqlite": "integer", "postgres": "varchar(10)", "mariadb": "varchar(10)"}[d.engine] + ", fee integer)", "make it the same type"},
		} {
			d.exec("DROP TABLE IF EXISTS visit_archive", x.ddl)
			if o := d.must(2, "run", d.job(step), "--accept", "any"); !strings.Contains(o.err, x.want) {
				t.Errorf("%s: %s", x.ddl, o.err)
			}
		}
		d.must(2, "run", d.job(strings.ReplaceAll(step, "visit_archive", "visit")), "--accept", "any")

		// A column that is lost must be meant; one of the other table alone has its default.
		d.exec("DROP TABLE visit_archive", "CREATE TABLE visit_archive (id "+d.integer()+" PRIMARY KEY, fee bigint, kept varchar(9) DEFAULT 'yes')", "INSERT INTO visit_archive VALUES (3, 0, 'old'), (4, 0, 'old')")
		o := d.must(3, "run", d.job(step), "--accept", "any")
		for _, want := range []string{"has no column for berth", "in visit_archive already", "kept of visit_archive"} {
			if !strings.Contains(o.err, want) {
				t.Errorf("no %q in %s", want, o.err)
			}
		}
		var p struct {
			Steps []struct {
				Verb string
				Move struct {
					To   string
					Made bool
					Rows int64
					Lost []string `json:"columns_lost"`
				}
			}
		}
		if err := json.Unmarshal([]byte(d.jugatum("preview", "--json", d.job(step)).out), &p); err != nil {
			t.Fatal(err)
		}
		if x := p.Steps[0]; x.Verb != "move" || x.Move.Made || !strings.HasSuffix(x.Move.To, "visit_archive") || fmt.Sprint(x.Move.Lost) != "[berth]" {
			t.Errorf("%+v", x)
		}

		before, there := d.dump("visit"), d.dump("visit_archive")
		args := []string{"--accept", "any", "--again", "--despite", "lost-columns", "--batch", "7"}
		d.must(0, append([]string{"run", d.job(step + "present = \"keep\"\n")}, args...)...)
		if got := d.one("SELECT count(*) FROM visit_archive WHERE kept = 'old' AND id IN (3, 4) OR kept = 'yes' AND id % 2 = 1 AND fee = id"); got != "51" {
			t.Errorf("%s rows as they were and as they came, want 51", got)
		}
		d.must(0, "verify", d.lastRun())
		d.must(0, "undo", d.lastRun())
		same(t, "undone", d.dump("visit"), before)
		same(t, "undone there", d.dump("visit_archive"), there)
		d.must(0, append([]string{"run", d.job(step + "present = \"replace\"\n")}, args...)...)
		if got := d.one("SELECT count(*) FROM visit_archive WHERE kept = 'old' AND id = 4 OR kept = 'yes' AND id % 2 = 1 AND fee = id"); got != "51" {
			t.Errorf("%s rows as they were and as they came, want 51", got)
		}
		d.must(0, "verify", d.lastRun())
		d.must(0, "undo", d.lastRun())
		same(t, "undone", d.dump("visit"), before)
		same(t, "undone there", d.dump("visit_archive"), there)
		d.must(0, "verify", d.lastRun())

		// What others have done to rows since: changed ones stay where they are, deleted ones
		// do not come back, and what has a new row of its key is not put over it.
		d.exec("DELETE FROM visit_archive")
		d.must(0, append([]string{"run", d.job(step)}, args...)...)
		run := d.lastRun()
		d.exec("UPDATE visit_archive SET fee = -1 WHERE id = 5", "DELETE FROM visit_archive WHERE id = 7", "INSERT INTO visit VALUES (9, 'new', 0)")
		d.must(6, "verify", run)
		d.must(5, "undo", run)
		if got := d.lines("SELECT concat(id, '|', fee) FROM visit WHERE id IN (5, 7, 9, 11) ORDER BY id"); fmt.Sprint(got) != "[9|0 11|11]" {
			t.Errorf("in the table: %v", got)
		}
		if got := d.lines("SELECT concat(id, '|', fee) FROM visit_archive ORDER BY id"); fmt.Sprint(got) != "[5|-1 9|9]" {
			t.Errorf("in the other: %v", got)
		}
		if o := d.must(0, "show", d.lastRun()).out; !strings.Contains(o, "visit_archive") {
			t.Errorf("nothing is said of where the rows were looked for:\n%s", o)
		}
	})
}

// TestMoveSetAside: rows that the other table refuses end the run, or are set aside and
// stay where they are, alone.
func TestMoveSetAside(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.harbourMove(100)
		d.exec("CREATE TABLE visit_archive (id " + d.integer() + " PRIMARY KEY, berth varchar(20), fee integer CHECK (fee <> 11 AND fee <> 83))")
		before := d.dump("visit")
		job := d.job("[[step]]\ntable = \"visit\"\nwhere = \"fee % 2 = 1\"\nmove_to = \"visit_archive\"\n")
		for _, keep := range []string{"values", "none"} {
			args := []string{"run", job, "--accept", "any", "--again", "--batch", "8", "--keep", keep}
			if keep == "values" {
				d.must(1, args...)
				d.must(0, "undo", d.lastRun())
				same(t, "undone", d.dump("visit"), before)
			}
			d.must(5, append(args, "--set-aside", "2")...)
			if got := d.lines("SELECT id FROM visit WHERE fee % 2 = 1 ORDER BY id"); fmt.Sprint(got) != "[11 83]" || d.one("SELECT count(*) FROM visit_archive") != "48" {
				t.Errorf("left behind: %v", got)
			}
			if keep == "values" {
				d.must(0, "verify", d.lastRun())
				d.must(0, "undo", d.lastRun())
				same(t, "undone", d.dump("visit"), before)
			}
		}
	})
}

// TestMoveToOthers: rows are given to nobody by mistake, and triggers of the other table
// are told before, seen by verify, and never lose a row (PostgreSQL).
func TestMoveToOthers(t *testing.T) {
	beside(t)
	d := fresh(t, "postgres")
	d.harbourMove(60)
	role := "neighbour_" + newName()
	d.exec("CREATE ROLE "+role, "CREATE TABLE visit_archive (LIKE visit, PRIMARY KEY (id))", "ALTER TABLE visit_archive OWNER TO "+role)
	t.Cleanup(func() { d.exec("DROP OWNED BY "+role+" CASCADE", "DROP ROLE "+role) })
	job := d.job("[[step]]\ntable = \"visit\"\nwhere = \"fee % 2 = 1\"\nmove_to = \"visit_archive\"\n")
	before := d.dump("visit")
	if o := d.must(3, "run", job, "--accept", "any"); !strings.Contains(o.err, "belongs to "+role) {
		t.Error(o.err)
	}
	d.exec("ALTER TABLE visit OWNER TO " + role) // both are theirs
	d.must(0, "run", job, "--accept", "30")
	d.must(0, "undo", d.lastRun())
	d.exec("ALTER TABLE visit OWNER TO postgres", "ALTER TABLE visit_archive OWNER TO postgres")

	d.exec("CREATE TABLE whole (id int PRIMARY KEY, n int) PARTITION BY RANGE (id)", "CREATE TABLE low PARTITION OF whole FOR VALUES FROM (0) TO (10)", "CREATE TABLE high PARTITION OF whole FOR VALUES FROM (10) TO (20)", "INSERT INTO whole VALUES (5, 5), (15, 15)")
	for _, pair := range [][2]string{{"low", "whole"}, {"whole", "low"}, {"low", "high"}} {
		o := d.must(2, "run", d.job("[[step]]\ntable = \""+pair[0]+"\"\nwhere = \"n = 5\"\nmove_to = \""+pair[1]+"\"\n"), "--accept", "any")
		if !strings.Contains(o.err, "parts of one partitioned table") {
			t.Errorf("%v: %s", pair, o.err)
		}
	}

	d.exec("CREATE FUNCTION vanish() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN IF NEW.id > 20 THEN RETURN NULL; END IF; RETURN NEW; END'", "CREATE TRIGGER none BEFORE INSERT ON visit_archive FOR EACH ROW EXECUTE FUNCTION vanish()")
	o := d.must(1, "run", job, "--accept", "any", "--again", "--batch", "10")
	for _, want := range []string{"trigger none", "but 0 came into visit_archive"} {
		if !strings.Contains(o.err+o.out, want) {
			t.Errorf("no %q in %s%s", want, o.out, o.err)
		}
	}
	if got := d.one("SELECT count(*) FROM (SELECT id FROM visit UNION ALL SELECT id FROM visit_archive) AS x"); got != "60" {
		t.Errorf("%s rows are left of 60", got)
	}
	d.must(0, "undo", d.lastRun())
	same(t, "undone", d.dump("visit"), before)

	d.exec("DROP TRIGGER none ON visit_archive", "CREATE FUNCTION more() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN NEW.fee := NEW.fee + (NEW.id = 7)::int; RETURN NEW; END'",
		"CREATE TRIGGER more BEFORE INSERT ON visit_archive FOR EACH ROW EXECUTE FUNCTION more()")
	d.must(0, "run", job, "--accept", "any", "--again", "--batch", "10")
	d.must(6, "verify", d.lastRun())
	d.must(5, "undo", d.lastRun())
	if got := d.lines("SELECT concat(id, '|', fee) FROM visit_archive"); fmt.Sprint(got) != "[7|8]" {
		t.Errorf("in the other table: %v", got)
	}
}

// TestMoveBesideWriters has another session change, make and delete rows of the table while
// they are moved: each row that is left is in one of both tables, once, with every change
// that was made to it.
func TestMoveBesideWriters(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.killTable()
		d.exec("CREATE TABLE done (what integer, id "+d.integer()+")", "CREATE INDEX done_by_id ON done (id)")
		cmd := d.start(append([]string{"run", d.job("[[step]]\ntable = \"t\"\nwhere = \"id % 3 <> 0 AND n % 2 = 0\"\nmove_to = \"t_archive\"\n"), "--accept", "any", "--batch", "2000"}, d.workers(2)...)...)
		r, made := seeded(5), 0
		write := func(what int, id int, text string) {
			tx, err := d.db.Begin()
			if err != nil {
				t.Fatal(err)
			}
			defer tx.Rollback()
			res, err := tx.Exec(text)
			if err != nil {
				return // a deadlock, or a lock that was not had
			}
			if n, _ := res.RowsAffected(); n == 1 {
				if _, err := tx.Exec(fmt.Sprintf("INSERT INTO done VALUES (%d, %d)", what, id)); err == nil {
					tx.Commit()
				}
			}
		}
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		for running := true; running; {
			select {
			case err := <-ended:
				if running = false; err != nil {
					t.Fatalf("%v\n%s", err, cmd.Stderr)
				}
			default:
				id := 1 + r.IntN(killRows)
				write(1, id, fmt.Sprintf("UPDATE t SET n = n + 1 WHERE id = %d", id))
				write(2, id+1, fmt.Sprintf("DELETE FROM t WHERE id = %d", id+1))
				made++
				write(3, 10*killRows+made, fmt.Sprintf("INSERT INTO t VALUES (%d, 4)", 10*killRows+made))
			}
		}
		t.Logf("%s changes, deletions and new rows beside the move", d.one("SELECT count(*) FROM done"))
		d.exec("CREATE TABLE whole AS SELECT id, n FROM t UNION ALL SELECT id, n FROM t_archive")
		for what, query := range map[string]string{
			"rows in both tables":            "SELECT count(*) - count(DISTINCT id) FROM whole",
			"rows that are missing, or more": fmt.Sprintf("SELECT (SELECT count(*) FROM whole) - %d - (SELECT count(*) FROM done WHERE what = 3) + (SELECT count(*) FROM done WHERE what = 2)", killRows),
			"rows deleted and there":         "SELECT count(*) FROM whole WHERE id IN (SELECT id FROM done WHERE what = 2)",
			"changes that are lost": "SELECT count(*) FROM (SELECT whole.id FROM whole LEFT JOIN (SELECT id, count(*) AS times FROM done WHERE what = 1 GROUP BY id) AS c ON c.id = whole.id" +
				fmt.Sprintf(" WHERE whole.id <= %d AND n <> whole.id %% 1000 + coalesce(times, 0)) AS x", killRows),
		} {
			if got := d.one(query); got != "0" {
				t.Errorf("%s %s", got, what)
			}
		}
	})
}

// TestMoveKilled kills moves and their undos: every row is in one of the two tables, once.
func TestMoveKilled(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		r := seeded(91)
		job := d.job("[[step]]\ntable = \"t\"\nwhere = \"id % 3 <> 0\"\nmove_to = \"t_archive\"\n")
		for kills := 0; kills < 3; {
			d.killTable()
			d.exec("DROP TABLE IF EXISTS t_archive")
			all := d.one("SELECT count(*) FROM t")
			moves := d.one("SELECT count(*) FROM t WHERE id % 3 <> 0")
			whole := func() {
				t.Helper()
				if got := d.one("SELECT count(*) FROM (SELECT id FROM t UNION ALL SELECT id FROM t_archive) AS x"); got != all {
					t.Fatalf("%s rows in both tables, want %s", got, all)
				}
			}
			drive := func(args ...string) {
				t.Helper()
				d.killedMidway(r, &kills, kills+10, whole, args...)
			}
			drive(append([]string{"run", job, "--again", "--accept", "any", "--batch", "2000"}, d.workers(r.IntN(4))...)...)
			if got := d.one("SELECT count(*) FROM t_archive WHERE id % 3 <> 0"); got != moves {
				t.Fatalf("%s rows came, want %s", got, moves)
			}
			drive("undo", d.lastRun(), "--batch", "2000")
			d.unchanged()
			if got := d.one("SELECT count(*) FROM t_archive"); got != "0" {
				t.Fatalf("%s rows are left there", got)
			}
		}
	})
}

// TestCopiesEqualTheStatements: rows copied in batches, at once, and by the plain statement
// leave the other table with the same bytes, and their own as it was; undo takes them out.
func TestCopiesEqualTheStatements(t *testing.T) {
	eachLayout(t, func(t *testing.T, d *database, li int, l layout) {
		if li%3 != 1 { // a copy goes the ways of a move, but for the delete
			return
		}
		d.within = true
		oneCopy(d, l, li)
	})
}

// oneCopy copies rows of a table with one kind of key.
func oneCopy(d *database, l layout, li int) {
	t, r := d.t, seeded(uint64(7100+li))
	first, made, there, plain := d.quote("first täble"), d.quote("mäde"), d.quote("there"), d.quote("plain there")
	original := d.quote("original")
	for n, table := range []string{first, there, plain, original} {
		l.make(d, table, n)
	}
	fill(d, l, r, []int{37, 120, 200}[r.IntN(3)], original)
	const where = "n % 3 = 0 OR txt IS NULL"
	d.exec("INSERT INTO " + first + copied(d, first, original))
	for _, table := range []string{there, plain} {
		d.exec("INSERT INTO " + table + copied(d, table, original) + " WHERE n % 3 = 1 AND txt IS NOT NULL")
	}
	before, thereBefore := d.dump(first), d.dump(there)
	d.exec("INSERT INTO " + plain + copied(d, plain, first) + " WHERE " + where)
	want := d.dump(plain)
	batch := strconv.Itoa(8 + r.IntN(40))
	job := func(to string) string {
		return d.job("[[step]]\ntable = '" + first + "'\nwhere = '" + where + "'\ncopy_to = '" + to + "'\n")
	}
	for i, x := range []struct {
		to   string
		args []string
	}{
		{there, d.workers(r.IntN(4))}, {made, []string{"--method", []string{"roster", "single", "sweep"}[r.IntN(3)]}},
	} {
		d.must(0, append([]string{"run", job(x.to), "--again", "--accept", "any", "--batch", batch}, x.args...)...)
		run := d.lastRun()
		same(t, fmt.Sprintf("copy %d leaves", i), d.dump(first), before)
		if x.to == there {
			same(t, fmt.Sprintf("copy %d brings", i), d.dump(there), want)
		} else if got, rows := d.one("SELECT count(*) FROM "+made), d.one("SELECT count(*) FROM "+first+" WHERE "+where); got != rows {
			t.Errorf("%s rows came, of %s", got, rows)
		}
		d.must(0, "verify", run)
		d.must(0, "undo", run, "--batch", batch)
		same(t, "undone", d.dump(first), before)
		same(t, "undone there", d.dump(there), thereBefore)
		if x.to == made && d.one("SELECT count(*) FROM "+made) != "0" {
			t.Error("undo has left rows in the table that was made")
		}
		d.must(0, "verify", d.lastRun())
	}
	d.must(0, "run", job(there), "--again", "--accept", "any", "--batch", batch, "--keep", "none")
	same(t, "nothing kept brings", d.dump(there), want)
	same(t, "nothing kept leaves", d.dump(first), before)
}

// TestCopy: rows that are there already are refused, stay or give way; what others have done
// to a copy since is left to them, and what becomes of the row itself is nobody's concern.
func TestCopy(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.harbourMove(100)
		d.exec("CREATE TABLE bill (id integer PRIMARY KEY, visit_id "+d.integer()+", CONSTRAINT b FOREIGN KEY (visit_id) REFERENCES visit (id) ON DELETE CASCADE)", "INSERT INTO bill VALUES (1, 5)",
			"CREATE TABLE visit_archive (id "+d.integer()+" PRIMARY KEY, fee bigint, kept varchar(9) DEFAULT 'yes')", "INSERT INTO visit_archive VALUES (3, 0, 'old'), (4, 0, 'old')")
		step := "[[step]]\nname = \"odd visits\"\ntable = \"visit\"\nwhere = \"fee % 2 = 1\"\ncopy_to = \"visit_archive\"\n"
		d.must(2, "run", d.job(step+"move_to = \"visit_archive\"\n"), "--accept", "any")
		o := d.must(3, "run", d.job(step), "--accept", "any")
		for _, want := range []string{"already-there: rows are in visit_archive already", "has no column for berth: that is not copied"} {
			if !strings.Contains(o.err, want) {
				t.Errorf("no %q in %s", want, o.err)
			}
		}
		if o := d.must(0, "preview", d.job(step+"present = \"keep\"\n")).out; !strings.Contains(o, "49 would be copied to visit_archive") || strings.Contains(o, "with them") {
			t.Error(o)
		}
		before, there := d.dump("visit"), d.dump("visit_archive")
		for present, want := range map[string]string{"keep": "49 of 51", "replace": "50 of 51"} {
			d.must(0, "run", d.job(step+"present = \""+present+"\"\n"), "--accept", "any", "--again", "--batch", "7")
			run := d.lastRun()
			if got := d.one("SELECT count(*) FROM visit_archive WHERE kept = 'yes' AND fee = id") + " of " + d.one("SELECT count(*) FROM visit_archive"); got != want {
				t.Errorf("%s: %s rows came, want %s", present, got, want)
			}
			same(t, "copied", d.dump("visit"), before)
			d.must(0, "verify", run)
			d.must(0, "undo", run)
			same(t, "undone there", d.dump("visit_archive"), there)
			d.must(0, "verify", d.lastRun())
		}
		d.exec("DELETE FROM visit_archive")
		d.must(0, "run", d.job(step), "--accept", "50", "--again", "--batch", "7")
		run := d.lastRun()
		d.exec("UPDATE visit SET fee = 7777 WHERE id = 9", "DELETE FROM visit WHERE id = 11")
		d.must(0, "verify", run)
		d.exec("UPDATE visit_archive SET fee = -1 WHERE id = 5", "DELETE FROM visit_archive WHERE id = 7")
		d.must(6, "verify", run)
		d.must(5, "undo", run, "--batch", "9")
		if got := d.lines("SELECT concat(id, '|', fee) FROM visit_archive"); fmt.Sprint(got) != "[5|-1]" {
			t.Errorf("in the other table: %v", got)
		}
		o = d.must(0, "show", d.lastRun())
		if !strings.Contains(o.out, "skipped of visit_archive") || strings.Contains(o.out, "7 ") && strings.Contains(o.out, "row is gone") {
			t.Errorf("%s", o.out)
		}
		if got := d.one("SELECT count(*) FROM visit") + d.one("SELECT count(*) FROM bill"); got != "991" {
			t.Errorf("%s rows are left", got)
		}
	})
}

// TestCopyPrivileges: what a copy and its undo take, and no more, as docs/privileges.md has it.
func TestCopyPrivileges(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		role, home := "clerk_"+newName(), "harbour"
		args := []string{"--accept", "any", "--batch", "4"}
		var grants []string
		if d.engine == "mariadb" {
			home = d.one("SELECT DATABASE()")
			ledger := home + "_dba"
			d.exec("CREATE DATABASE "+ledger, "CREATE USER "+role, "GRANT SELECT, INSERT, UPDATE, DELETE, CREATE, DROP, CREATE TEMPORARY TABLES ON "+ledger+".* TO "+role)
			t.Cleanup(func() { d.exec("DROP USER "+role, "DROP DATABASE "+ledger) })
			args = append(args, "--ledger", ledger)
		} else {
			d.exec("CREATE ROLE "+role+" LOGIN", "CREATE SCHEMA harbour", "GRANT USAGE ON SCHEMA harbour TO "+role, "CREATE SCHEMA jugatum AUTHORIZATION "+role)
			t.Cleanup(func() { d.exec("DROP OWNED BY "+role, "DROP ROLE "+role) })
		}
		d.exec("CREATE TABLE "+home+".visit (id integer PRIMARY KEY, n integer)", "INSERT INTO "+home+".visit SELECT i, i FROM "+d.numbers(20), "CREATE TABLE "+home+".past (id integer PRIMARY KEY, n integer)")
		if d.engine == "mariadb" {
			d.exec("GRANT TRIGGER ON " + home + ".visit TO " + role)
		}
		for _, x := range []string{"SELECT ON visit", "SELECT ON past", "INSERT ON past", "DELETE ON past"} {
			grants = append(grants, "GRANT "+strings.Replace(x, "ON ", "ON "+home+".", 1)+" TO "+role)
		}
		d.exec(grants...)
		clerk := &database{t: t, engine: d.engine, url: strings.NewReplacer("postgres@", role+"@", "root@", role+"@").Replace(d.url), within: true}
		if d.engine == "postgres" {
			clerk.url += "&search_path=harbour"
		}
		job := d.job("[[step]]\ntable = \"visit\"\nwhere = \"n > 5\"\ncopy_to = \"past\"\n")
		for _, g := range grants[:3] { // the last is for the undo
			d.exec(strings.NewReplacer("GRANT", "REVOKE", " TO ", " FROM ").Replace(g))
			if o := clerk.jugatum(append([]string{"run", job}, args...)...); o.status == 0 || !strings.Contains(o.err, "GRANT") && !strings.Contains(o.err, "must have") {
				t.Errorf("without %s: exit status %d\n%s", g, o.status, o.err)
			}
			d.exec(g)
		}
		if o := clerk.must(0, append([]string{"run", job}, args...)...); strings.Contains(o.err, "GRANT") {
			t.Errorf("with all that is listed: %s", o.err)
		}
		clerk.must(0, "verify", "1")
		clerk.must(0, "undo", "1")
		if got := d.one("SELECT count(*) FROM " + home + ".past"); got != "0" {
			t.Errorf("%s copies are left", got)
		}
	})
}
