package e2e

import (
	"fmt"
	"maps"
	"strings"
	"testing"
)

// cascadeTables are those of harbourCascade.
var cascadeTables = []string{"quay", "berth", "visit", "notice", "rope", "pilot", "survey", "waits"}

// harbourCascade makes tables that refer to each other in every way that is followed: over
// several steps, by two columns, by another key than the primary one, to one table by two
// ways, and by both deleting and clearing.
func (d *database) harbourCascade(quays int) {
	d.t.Helper()
	d.exec("CREATE TABLE quay (id integer PRIMARY KEY, code varchar(20) NOT NULL UNIQUE, \"Größe m\" integer)",
		"CREATE TABLE berth (id integer PRIMARY KEY, quay_id integer, no integer, rate numeric(9,2), UNIQUE (quay_id, no), CONSTRAINT f1 FOREIGN KEY (quay_id) REFERENCES quay (id) ON DELETE CASCADE)",
		"CREATE TABLE visit (id bigint PRIMARY KEY, berth_id integer, note varchar(40), CONSTRAINT f2 FOREIGN KEY (berth_id) REFERENCES berth (id) ON DELETE CASCADE)",
		"CREATE TABLE notice (id integer PRIMARY KEY, quay_code varchar(20), at timestamp NULL, body varchar(40), CONSTRAINT f3 FOREIGN KEY (quay_code) REFERENCES quay (code) ON DELETE SET NULL)",
		"CREATE TABLE rope (a integer, b varchar(9), quay_id integer, no integer, PRIMARY KEY (a, b), CONSTRAINT f4 FOREIGN KEY (quay_id, no) REFERENCES berth (quay_id, no) ON DELETE CASCADE)",
		"CREATE TABLE pilot (id integer PRIMARY KEY, home integer, other integer, CONSTRAINT f5 FOREIGN KEY (home) REFERENCES quay (id) ON DELETE CASCADE, CONSTRAINT f6 FOREIGN KEY (other) REFERENCES quay (id) ON DELETE SET NULL)",
		"CREATE TABLE survey (id integer PRIMARY KEY, berth_id integer, visit_id bigint, CONSTRAINT f7 FOREIGN KEY (berth_id) REFERENCES berth (id) ON DELETE CASCADE, CONSTRAINT f8 FOREIGN KEY (visit_id) REFERENCES visit (id) ON DELETE CASCADE)",
		"CREATE TABLE waits (id integer PRIMARY KEY, survey_id integer DEFAULT 1, CONSTRAINT f9 FOREIGN KEY (survey_id) REFERENCES survey (id) ON DELETE "+d.by("SET NULL", "SET DEFAULT")+")")
	d.exec(fmt.Sprintf("INSERT INTO quay SELECT i, concat('q', i), i * 3 FROM %s", d.numbers(quays)),
		fmt.Sprintf("INSERT INTO berth SELECT i, CASE WHEN i %% 17 <> 0 THEN 1 + i %% %d END, i, i FROM %s", quays, d.numbers(10*quays)),
		fmt.Sprintf("INSERT INTO visit SELECT i, CASE WHEN i %% 13 <> 0 THEN 1 + i %% %d END, concat('n', i) FROM %s", 10*quays, d.numbers(40*quays)),
		fmt.Sprintf("INSERT INTO notice SELECT i, concat('q', 1 + i %% %d), '2026-11-02 10:00:00', 'b' FROM %s", quays, d.numbers(6*quays)),
		"INSERT INTO rope SELECT id * 7, concat('r', id), quay_id, no FROM berth WHERE id % 2 = 0 OR quay_id IS NULL",
		fmt.Sprintf("INSERT INTO pilot SELECT i, 1 + i %% %d, 1 + (i * 7) %% %d FROM %s", quays, quays, d.numbers(4*quays)),
		fmt.Sprintf("INSERT INTO survey SELECT i, 1 + i %% %d, 1 + (i * 3) %% %d FROM %s", 10*quays, 40*quays, d.numbers(15*quays)),
		fmt.Sprintf("INSERT INTO waits SELECT i, 1 + (i * 7) %% %d FROM %s", 15*quays, d.numbers(5*quays)))
	// What a reference falls back to stays.
	d.exec("UPDATE survey SET berth_id = NULL, visit_id = NULL WHERE id = 1")
}

func (d *database) dumpAll(tables []string) (out []string) {
	d.t.Helper()
	for _, x := range tables {
		out = append(append(out, "-- "+x), d.dump(x)...)
	}
	return out
}

// TestCascadesKept holds deletes that take rows of other tables along against the plain
// statement, and their undo against what was there.
func TestCascadesKept(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		plain := fresh(t, d.engine)
		plain.harbourCascade(30)
		sql := "DELETE FROM quay WHERE id % 3 = 0"
		if d.engine == "sqlite" {
			plain.db.SetMaxOpenConns(1)
			plain.exec("PRAGMA foreign_keys = on")
		}
		plain.exec(sql)
		want := plain.dumpAll(cascadeTables)
		d.harbourCascade(30)
		before := d.dumpAll(cascadeTables)
		p := d.preview("--sql", sql)
		if len(p.Steps[0].Acts) < 7 || p.Total <= p.Steps[0].Changes {
			t.Errorf("%+v", p)
		}
		for i, args := range [][]string{{"--batch", "3", "--accept", fmt.Sprint(p.Total)}, {"--method", "single", "--accept", "any"}, {"--method", "roster", "--batch", "2", "--accept", "any"}, append(d.workers(3), "--accept", "any")} {
			what := strings.Join(args, " ")
			d.must(0, append([]string{"run", "--sql", sql, "--again"}, args...)...)
			run := d.lastRun()
			same(t, what, d.dumpAll(cascadeTables), want)
			s := d.show(run)
			for n, a := range p.Steps[0].Acts {
				// Batches before the one with which a pilot goes take a reference from it.
				if got := s.Steps[0].Acts[n]; got.Name != a.Name || got.Changed != a.Rows && a.Name != "update pilot (other)" {
					t.Errorf("%s: %+v, but the preview says %+v", what, got, a)
				}
			}
			d.must(0, "verify", run)
			d.must(0, "undo", run, "--batch", fmt.Sprint(5+20*i))
			same(t, what+" undone", d.dumpAll(cascadeTables), before)
			d.must(0, "verify", d.lastRun())
		}

		// What others do to rows that went is theirs: it is told, and the rest comes back.
		d.must(0, "run", "--sql", sql, "--again", "--accept", "any", "--batch", "4")
		run := d.lastRun()
		notice := d.one("SELECT min(id) FROM notice WHERE quay_code IS NULL")
		d.exec("UPDATE notice SET body = 'theirs', quay_code = 'q1' WHERE id = "+notice, "INSERT INTO berth (id, rate) VALUES (2, 77)")
		d.must(6, "verify", run)
		d.must(5, "undo", run, "--batch", "50")
		o := d.must(0, "show", d.lastRun()).out
		for _, want := range []string{"skipped of notice", "skipped of berth", "skipped of rope"} {
			if !strings.Contains(o, want) {
				t.Errorf("no %q in\n%s", want, o)
			}
		}
		if got := d.one("SELECT concat(body, quay_code) FROM notice WHERE id = " + notice); got != "theirsq1" {
			t.Errorf("the notice that others changed is %s", got)
		}
		if got := d.one("SELECT count(*) FROM berth WHERE id = 2 AND rate = 77"); got != "1" {
			t.Error("the berth that others made is gone")
		}
		left := map[string]int{}
		for _, row := range before {
			left[row]++
		}
		for _, row := range d.dumpAll(cascadeTables) {
			left[row]--
		}
		maps.DeleteFunc(left, func(_ string, n int) bool { return n == 0 })
		if len(left) != 5 { // two before and after, and a rope whose berth is another one now
			t.Errorf("not as they were: %v", left)
		}
		d.must(0, "verify", d.lastRun())
	})
}
