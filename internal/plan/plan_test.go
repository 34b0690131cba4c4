package plan_test

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dbtest"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
	"jugatum/internal/runner"
)

// numbers fills a table of id and n with rows 1 to 40.
const numbers = " SELECT i, i * 10 FROM (WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < 40) SELECT i FROM s)"

var harbour = []string{
	"CREATE TABLE berth (id INTEGER PRIMARY KEY, day_rate integer, note text, twice integer GENERATED ALWAYS AS (day_rate * 2) STORED)", "INSERT INTO berth (id, day_rate)" + numbers,
	"UPDATE berth SET note = 'see http://charts.example/' || id WHERE id <= 15",
	"CREATE TABLE tariff (id INTEGER PRIMARY KEY, rate integer)", "INSERT INTO tariff" + numbers,
	"CREATE TABLE loose (a integer, note text, rowid, _rowid_, oid)", "INSERT INTO loose VALUES (1, 'http://x', 1, 1, 1)",
	"CREATE TABLE plan_of (id INTEGER PRIMARY KEY, scan blob, code text UNIQUE)", "INSERT INTO plan_of VALUES (1, x'00', 'a'), (2, x'01', 'b')",
}

// TestRefused: what a plan, or a look ahead, does not let through, and why.
func TestRefused(t *testing.T) {
	db, _ := dbtest.Open(t, harbour...)
	for _, x := range []struct {
		name, job, method string
		opts              func(*ledger.Options)
		words             string
	}{
		{name: "no filter", job: "UPDATE berth SET day_rate = 1", words: "refused because of every-row"},
		{name: "no such table", job: "UPDATE bert SET day_rate = 1", words: "bert"},
		{name: "no such column", job: "UPDATE berth SET rate = 1", words: "rate"},
		{name: "a fault at its place", job: "[[step]]\nname = \"s\"\ntable = \"berth\"\nwhere = \"idd > 5\"\nset = { day_rate = \"1\" }\n", words: "job.toml:3:1"},
		{name: "names like those of parts", job: "[[step]]\nname = \"a\"\ntable = \"berth\"\nset = { day_rate = \"1\" }\n[[step]]\nname = \"a: berth\"\ntable = \"berth\"\nset = { day_rate = \"2\" }\n", words: "the name of a part of a step"},
		{name: "a method that there is not", job: "UPDATE berth SET day_rate = 1 WHERE id = 1", method: "hop", words: "there is sweep, roster and single"},
		{name: "no key to put values back by", job: "UPDATE loose SET a = 2 WHERE a = 1", method: "single", words: "has no key, so kept values could not be put back"},
		{name: "no key to walk by", job: "UPDATE loose SET a = 2 WHERE a = 1", opts: func(o *ledger.Options) { o.Keep = false }, words: "refused because of no-key"},
		{name: "a count that was not expected", job: "[[step]]\nname = \"s\"\ntable = \"berth\"\nwhere = \"id > 35\"\nset = { day_rate = \"1\" }\nexpect = 4\n", words: "5 rows would change, but the job expects 4"},
		{name: "a check before", job: "[[step]]\nname = \"s\"\ntable = \"berth\"\nwhere = \"id > 35\"\nset = { day_rate = \"1\" }\ncheck = [{ sql = \"SELECT count(*) FROM berth\", is = 41, when = \"before\" }]\n", words: "gives 40, not 41"},
		{name: "a check that is no query", job: "[[step]]\nname = \"s\"\ntable = \"berth\"\nwhere = \"id > 35\"\nset = { day_rate = \"1\" }\ncheck = [{ sql = \"DELETE FROM berth\", is = 0 }]\n", words: "job.toml:6"},
		{name: "first rows by sweep", job: "[[step]]\nname = \"s\"\ntable = \"berth\"\norder = \"id\"\nfirst = 3\nset = { day_rate = \"1\" }\n", method: "sweep", words: "roster"},
		{name: "a replacement by roster", job: "[[step]]\nname = \"s\"\nin = [\"berth.note\"]\nreplace = { find = \"http://\", with = \"https://\" }\n", method: "roster", words: "not by roster"},
		{name: "a replacement where there is no column", job: "[[step]]\nname = \"s\"\nin = [\"berth.notes\"]\nreplace = { find = \"a\", with = \"b\" }\n", words: `did you mean "berth.note"?`},
		{name: "a replacement in a computed column", job: "[[step]]\nname = \"s\"\nin = [\"berth.twice\"]\nreplace = { find = \"a\", with = \"b\" }\n", words: "computed by the database"},
		{name: "a replacement in no text", job: "[[step]]\nname = \"s\"\nin = [\"berth.day_rate\"]\nreplace = { find = \"a\", with = \"b\" }\n", words: "holds no text"},
		{name: "a replacement by patterns that hold nothing", job: "[[step]]\nname = \"s\"\nin = [\"tariff.*\"]\nreplace = { find = \"a\", with = \"b\" }\n", words: "none of these columns holds text"},
		{name: "a replacement without a key", job: "[[step]]\nname = \"s\"\nin = [\"loose.note\"]\nreplace = { find = \"http://\", with = \"https://\" }\n", words: "no key by which its rows could be changed one by one"},
	} {
		t.Run(x.name, func(t *testing.T) {
			p, err := dbtest.Plan(db, x.job, x.method, nil)
			if err == nil {
				opts := dbtest.Options()
				if x.opts != nil {
					x.opts(&opts)
				}
				_, _, err = p.Assess(context.Background(), plan.Ask{Options: &opts, Count: true}, func(*plan.Assessment) {})
			}
			if err == nil || !strings.Contains(err.Error(), x.words) {
				t.Errorf("%v", err)
			}
		})
	}
}

// TestMethod: few rows of a large table that an index finds are listed first.
func TestMethod(t *testing.T) {
	db, other := dbtest.Open(t, "CREATE TABLE big (id INTEGER PRIMARY KEY, v integer, w integer)", "CREATE INDEX v ON big (v)",
		"INSERT INTO big SELECT i, i, i FROM (WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < 120000) SELECT i FROM s)", "ANALYZE")
	_ = other
	for sql, want := range map[string]string{"UPDATE big SET w = 0 WHERE v = 5": "roster", "UPDATE big SET w = 0 WHERE w = 5": "sweep", "UPDATE big SET w = 0": "sweep"} {
		p, err := dbtest.Plan(db, sql, "", nil)
		if err != nil {
			t.Fatal(err)
		}
		if got, err := p.Choose(context.Background(), p.Changes[0], -1); got != want || err != nil {
			t.Errorf("%s: %s %v, want %s", sql, got, err, want)
		}
	}
}

// TestReplacePlan: patterns take in what can be replaced and say what is left out.
func TestReplacePlan(t *testing.T) {
	db, _ := dbtest.Open(t, harbour...)
	p, err := dbtest.Plan(db, "[[step]]\nname = \"links\"\nin = [\"*.note\", \"*.code\"]\nexcept = [\"plan_of.*\"]\nreplace = { find = \"http://\", with = \"https://\" }\n", "", nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(p.Changes) != 1 || p.Changes[0].Table.Name != "berth" || len(p.LeftOut) != 1 || !strings.Contains(p.LeftOut[0], "loose") {
		t.Errorf("%d changes, left out: %q", len(p.Changes), p.LeftOut)
	}
	texts := p.Replaced()
	if len(texts) != 1 || texts[0].Text != "http://" || len(texts[0].Columns) != 1 {
		t.Errorf("%+v", texts)
	}
}

// TestForeseen: counts, the workers, an estimate, and hazards with their levels.
func TestForeseen(t *testing.T) {
	db, _ := dbtest.Open(t, harbour...)
	p, err := dbtest.Plan(db, "[[step]]\nname = \"a\"\nsql = \"UPDATE berth SET day_rate = day_rate + 0 WHERE id > 10\"\n[[step]]\nname = \"b\"\nsql = \"DELETE FROM berth WHERE id > 30\"\nexpect = 10\n", "", nil)
	if err != nil {
		t.Fatal(err)
	}
	opts := dbtest.Options()
	opts.Workers = 3
	var seen []*plan.Assessment
	steps, total, err := p.Assess(context.Background(), plan.Ask{Options: &opts, Count: true, Rehearse: true}, func(x *plan.Assessment) { seen = append(seen, x) })
	if err != nil {
		t.Fatal(err)
	}
	if total != 10 || len(steps) != 2 || steps[0].Matched != 30 || steps[0].ToChange != 0 || steps[1].ToChange != 10 || steps[1].Verb != "delete" || steps[1].N != 2 || steps[0].Method != "sweep" {
		t.Errorf("total %d, %+v %+v", total, steps[0], steps[1])
	}
	if seen[0].Alone == "" || seen[0].Rehearsal != nil || seen[1].Rehearsal == nil || opts.Estimate == nil || opts.Estimate.Batches < 1 {
		t.Errorf("%+v %+v, estimate %+v", seen[0], seen[1], opts.Estimate)
	}
	// Without a count nothing is looked at, but for what the job expects.
	opts = dbtest.Options()
	steps, total, err = p.Assess(context.Background(), plan.Ask{Options: &opts}, func(*plan.Assessment) {})
	if err != nil || total != -1 || steps[0].Matched != -1 {
		t.Errorf("total %d, %+v %v", total, steps[0], err)
	}
}

// TestEarlier: a job is not begun beside an unfinished run of it, nor done twice.
func TestEarlier(t *testing.T) {
	db, other := dbtest.Open(t, harbour...)
	const sql = "UPDATE berth SET day_rate = day_rate + 1 WHERE id > 30"
	if _, err := dbtest.Run(t, db, sql, dbtest.Options()); err != nil {
		t.Fatal(err)
	}
	ctx, l := context.Background(), ledger.Open(db)
	ask := func(sql string, again bool) error {
		t.Helper()
		p, err := dbtest.Plan(db, sql, "", nil)
		if err != nil {
			t.Fatal(err)
		}
		_, err = p.Earlier(ctx, l, again)
		return err
	}
	if err := ask("update  BERTH set DAY_RATE = day_rate + 1 where id > 30", false); !errors.Is(err, runner.ErrGuard) || !strings.Contains(err.Error(), "already did this job") {
		t.Error(err)
	}
	if err := errors.Join(ask(sql, true), ask(sql+" AND id < 99", false)); err != nil {
		t.Error(err)
	}
	dbtest.Exec(t, other, "UPDATE jugatum_run SET status = 'stopped'")
	if err := ask(sql, true); err == nil || !strings.Contains(err.Error(), "unfinished (stopped)") {
		t.Error(err)
	}
	dbtest.Exec(t, other, "UPDATE jugatum_run SET status = 'done'")
	if _, _, err := dbtest.Undo(t, db, 1); err != nil {
		t.Fatal(err)
	}
	dbtest.Exec(t, other, "UPDATE jugatum_run SET status = 'stopped' WHERE id = 2")
	if err := ask(sql, true); !errors.Is(err, runner.ErrGuard) || !strings.Contains(err.Error(), "run 2, which takes back run 1 of this job, is unfinished (stopped)") {
		t.Error(err)
	}
	dbtest.Exec(t, other, "UPDATE jugatum_run SET status = 'done' WHERE id = 2")
	if err := ask(sql, false); err != nil { // it was taken back
		t.Error(err)
	}
}

// TestBeside: a run that is unfinished and has changed rows of the job's table is told, whatever its job.
func TestBeside(t *testing.T) {
	db, other := dbtest.Open(t, append(harbour, "CREATE TABLE beside (id INTEGER PRIMARY KEY, v integer)")...)
	if _, err := dbtest.Run(t, db, "UPDATE berth SET day_rate = day_rate + 1 WHERE id > 30", dbtest.Options()); err != nil {
		t.Fatal(err)
	}
	ctx, l := context.Background(), ledger.Open(db)
	ask := func(sql, want string) {
		t.Helper()
		p, err := dbtest.Plan(db, sql, "", nil)
		if err != nil {
			t.Fatal(err)
		}
		told, err := p.Earlier(ctx, l, false)
		if got := strings.Join(told, "\n"); err != nil || (got == "") != (want == "") || !strings.Contains(got, want) {
			t.Errorf("%s: %q %v", sql, got, err)
		}
	}
	const another = "DELETE FROM berth WHERE id = 1"
	ask(another, "")
	dbtest.Exec(t, other, "UPDATE jugatum_run SET status = 'stopped'")
	ask(another, "run 1 has changed rows of berth and is unfinished (stopped)")
	ask("DELETE FROM beside WHERE id = 1", "")
	dbtest.Exec(t, other, "UPDATE jugatum_run SET status = 'done'")
	if _, _, err := dbtest.Undo(t, db, 1); err != nil {
		t.Fatal(err)
	}
	dbtest.Exec(t, other, "UPDATE jugatum_run SET status = 'stopped' WHERE id = 2")
	ask(another, "run 2, which takes back run 1, has changed rows of berth")
}

// TestAround: what a job wants to hold before and after each of its steps.
func TestAround(t *testing.T) {
	step := func(name, expect, check string) string {
		return fmt.Sprintf("[[step]]\nname = %q\nsql = \"UPDATE berth SET day_rate = 7 WHERE id > 30 AND day_rate <> 7\"\n%s\n%s\n", name, expect, check)
	}
	for _, x := range []struct {
		name, job, words string
		unheld           bool
		sevens           string
	}{
		{"all holds", step("a", "expect = 10", "check = [{ sql = \"SELECT count(*) FROM berth WHERE day_rate = 7\", is = 10 }]") + step("b", "expect = \"0..5\"", ""), "", false, "10"},
		{"a check after", step("a", "", "check = [{ sql = \"SELECT count(*) FROM berth WHERE day_rate = 7\", is = 11 }]") + step("b", "", ""), "gives 10, not 11", true, "10"},
		{"a check before the second", step("a", "", "") + step("b", "", "check = [{ sql = \"SELECT count(*) FROM berth WHERE day_rate = 7\", is = 0, when = \"before\" }]"), "the step was not begun", false, "10"},
	} {
		db, other := dbtest.Open(t, harbour...)
		_, err := dbtest.Run(t, db, x.job, dbtest.Options())
		var unheld *plan.Unheld
		if (err == nil) != (x.words == "") || err != nil && !strings.Contains(err.Error(), x.words) || errors.As(err, &unheld) != x.unheld {
			t.Errorf("%s: %v", x.name, err)
		}
		if n := dbtest.One(t, other, "SELECT count(*) FROM berth WHERE day_rate = 7"); n != x.sevens {
			t.Errorf("%s: %s rows", x.name, n)
		}
	}
}

// TestWithoutItsJob: a run whose job means nothing any more is taken back from the
// record of its steps, as far as there are columns for it.
func TestWithoutItsJob(t *testing.T) {
	db, other := dbtest.Open(t, "CREATE TABLE v (id INTEGER PRIMARY KEY, a integer, b integer, c integer)", "INSERT INTO v SELECT i, 1, 2, 3 FROM (WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < 20) SELECT i FROM s)")
	if _, err := dbtest.Run(t, db, "UPDATE v SET a = 5, b = 6 WHERE c = 3", dbtest.Options()); err != nil {
		t.Fatal(err)
	}
	dbtest.Exec(t, other, "ALTER TABLE v DROP COLUMN c", "ALTER TABLE v DROP COLUMN b")
	ctx, l := context.Background(), ledger.Open(db)
	r, err := l.Load(ctx, 1)
	if err != nil {
		t.Fatal(err)
	}
	p, work, err := plan.Prepare(ctx, db, l, r)
	if err != nil || p.Unreadable == nil || len(work) != 1 || !work[0].Change.Recorded {
		t.Fatalf("%+v %v", p, err)
	}
	_, lost, err := dbtest.Undo(t, db, 1)
	if err != nil || len(lost) != 1 || !strings.Contains(lost[0], "b of v") {
		t.Errorf("%q %v", lost, err)
	}
	if n := dbtest.One(t, other, "SELECT count(*) FROM v WHERE a = 1"); n != "20" {
		t.Errorf("%s rows are back", n)
	}
	// An undo is prepared again from the ledger, as resume does.
	u, err := l.Load(ctx, 2)
	if err != nil {
		t.Fatal(err)
	}
	if _, work, err = plan.Prepare(ctx, db, l, u); err != nil || !work[0].Undo || work[0].Rows != 20 {
		t.Errorf("%+v %v", work, err)
	}
	dbtest.Exec(t, other, "ALTER TABLE v DROP COLUMN a", "ALTER TABLE v ADD COLUMN z integer")
	if _, _, err := dbtest.Undo(t, db, 1); !errors.Is(err, runner.ErrGuard) || !strings.Contains(err.Error(), "none of the columns") {
		t.Error(err)
	}
}

// TestAnotherKey: nothing goes on over another key than a run went by.
func TestAnotherKey(t *testing.T) {
	db, other := dbtest.Open(t, harbour...)
	if _, err := dbtest.Run(t, db, "UPDATE tariff SET rate = 1 WHERE id > 30", dbtest.Options()); err != nil {
		t.Fatal(err)
	}
	dbtest.Exec(t, other, "DROP TABLE tariff", "CREATE TABLE tariff (id integer, rate integer NOT NULL UNIQUE)")
	l := ledger.Open(db)
	r, err := l.Load(context.Background(), 1)
	if err != nil {
		t.Fatal(err)
	}
	if _, _, err := plan.Prepare(context.Background(), db, l, r); !errors.Is(err, runner.ErrGuard) || !strings.Contains(err.Error(), "the key of tariff was (id) when run 1 began and is (rate) now") {
		t.Error(err)
	}
}

// TestParameters: values are bound, and the run's clock is one of them.
func TestParameters(t *testing.T) {
	db, other := dbtest.Open(t, harbour...)
	given := map[string]change.Value{"least": {Type: "integer", Text: "38"}}
	p, err := plan.New(context.Background(), db, job.FromSQL("UPDATE berth SET note = 'x' WHERE id >= :least"), given, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(given) != 1 || p.Values[change.Clock].Text == "" {
		t.Errorf("given %v, values %v", given, p.Values)
	}
	opts := dbtest.Options()
	if _, total, err := p.Assess(context.Background(), plan.Ask{Options: &opts, Count: true}, func(*plan.Assessment) {}); total != 3 || err != nil {
		t.Error(total, err)
	}
	if err := plan.MayWrite(context.Background(), db, nil); err != nil {
		t.Error(err)
	}
	if n := dbtest.One(t, other, "SELECT count(*) FROM sqlite_schema WHERE name LIKE 'jugatum%'"); n != "0" {
		t.Errorf("a look ahead has made %s tables", n)
	}
	if !slices.Equal(p.Changes[0].SetNames(), []string{"note"}) {
		t.Error(p.Changes[0].SetNames())
	}
}

// TestFormsAreLookedUp: what is matched by its form is found by indexes that SQLite makes for
// the query; otherwise all texts would be gone through for each row of the source, and the
// source for each row of the target.
func TestFormsAreLookedUp(t *testing.T) {
	db, other := dbtest.Open(t, "CREATE TABLE quay (id INTEGER PRIMARY KEY, name text)", "INSERT INTO quay VALUES (1, 'North'), (2, 'South')",
		"CREATE TABLE visit (id INTEGER PRIMARY KEY, quay_name text, quay_id integer)", "INSERT INTO visit VALUES (1, 'NORTH ', NULL), (2, 'south', NULL)")
	for _, more := range []string{"", "pick = \"id DESC\"\n"} {
		p, err := dbtest.Plan(db, "[[step]]\nname = \"s\"\ntable = \"visit\"\nfrom = \"quay\"\nmatch = { quay_name = \"name\" }\nmatch_as = \"folded\"\nfill = { quay_id = \"id\" }\n"+more, "", nil)
		if err != nil {
			t.Fatal(err)
		}
		q := (&change.Query{D: db.Dialect()}).Add("EXPLAIN QUERY PLAN ").Statement(p.Changes[0], change.Range{})
		rows, err := other.Query(q.String(), q.Args...)
		if err != nil {
			t.Fatal(err)
		}
		var lines []string
		for rows.Next() {
			var id, parent, none int
			var detail string
			if err := rows.Scan(&id, &parent, &none, &detail); err != nil {
				t.Fatal(err)
			}
			lines = append(lines, detail)
		}
		rows.Close()
		how := strings.Join(lines, "\n")
		for _, table := range []string{"quay", "jugatum_source"} {
			if !strings.Contains(how, "SEARCH "+table+" USING AUTOMATIC") {
				t.Errorf("%s is not looked up:\n%s", table, how)
			}
		}
	}
}
