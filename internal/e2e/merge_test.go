package e2e

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"testing"
)

// TestMerge: of rows that are the same one stays, as the job says it; references are moved to it, what
// it lacks is filled in, in batches of one row, of a few and of many, in one statement and through
// kills; and undo brings every byte back.
func TestMerge(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		r := seeded(31)
		jobs := []mergeJob{
			{sameAs: "folded", fill: true, drop: true, options: []string{"--batch", "1"}},
			{sameAs: "folded", fill: true, drop: true, newest: true, stays: "built DESC", options: []string{"--batch", "7"}, kill: true},
			{sameAs: "trimmed", drop: true, nulls: true, options: []string{"--batch", "3"}},
			{sameAs: "exact", fill: true, drop: true, nulls: true, newest: true, stays: "built DESC", options: []string{"--batch", "1000"}},
			{sameAs: "exact", drop: true, before1990: true, where: "built < 1990", options: []string{"--batch", "5"}},
			{sameAs: "folded", fill: true, drop: true, before1990: true, where: "built < 1990", options: []string{"--method", "single"}},
			{sameAs: "folded", fill: true, drop: true, options: []string{"--keep", "none", "--batch", "4"}},
		}
		for n, j := range jobs {
			w := newMergedWorld(r, 60)
			for id, c := range w.tariffs { // references that would be to nothing are another test's
				for c != nil && w.strays(j) {
					w.tariffs[id] = nil
					c = nil
				}
			}
			if n > 0 {
				d.exec("DROP TABLE page", "DROP TABLE tariff", "DROP TABLE stamp", "DROP TABLE visit", "DROP TABLE vessel")
			}
			w.put(d)
			before, dumps := w.lines(), map[string][]string{}
			for table := range before {
				same(t, "as made: "+table, d.read(table), before[table])
				dumps[table] = d.dump(table)
			}
			job := d.job(j.String())
			gone := w.merge(j)
			if p := d.preview(job); p.Steps[0].Changes != int64(gone) {
				t.Errorf("%v: a preview of %d rows that go, expected %d", j, p.Steps[0].Changes, gone)
			} else if j.kill {
				kills := 0
				d.killedMidway(r, &kills, 3, func() {}, append([]string{"run", job, "--accept", "any"}, j.options...)...)
			} else {
				d.must(0, append([]string{"run", job, "--accept", fmt.Sprint(p.Total)}, j.options...)...)
			}
			after := w.lines()
			for table := range after {
				same(t, j.String()+table, d.read(table), after[table])
			}
			if slices.Contains(j.options, "none") {
				continue
			}
			run := d.lastRun()
			d.must(0, "verify", run)
			if p := d.preview(job); p.Total != 0 {
				t.Errorf("%v: %d rows would change a second time", j, p.Total)
			}
			d.must(0, "undo", run)
			for table := range after {
				same(t, j.String()+table+" undone", d.dump(table), dumps[table])
			}
		}
	})
}

// TestMergeAfterOthersWrote: what others have changed since the groups were found is asked for again in
// each batch. A reference of the first group that may not be moved ends the run until they have written.
func TestMergeAfterOthersWrote(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		key := map[string]string{"sqlite": "INTEGER"}[d.engine]
		d.exec("CREATE TABLE vessel (id "+cmp.Or(key, "bigint")+" PRIMARY KEY, name varchar(40), crew integer)",
			"CREATE TABLE visit (id integer PRIMARY KEY, vessel bigint NOT NULL CHECK (vessel <> -2), FOREIGN KEY (vessel) REFERENCES vessel (id))",
			"INSERT INTO vessel VALUES (-2, '0', 1), (-1, '0', 1), (1, 'a', NULL), (2, 'A', 1), (3, 'a', 2), (11, 'b', NULL), (12, 'b', 3), (13, 'b', 4), (21, 'c', NULL), (22, 'c', 5), (31, 'd', NULL), (32, 'd', 6), (33, 'D', 7)",
			"INSERT INTO visit VALUES (0, -1), (1, 2), (2, 3), (3, 12), (4, 13), (5, 32), (6, 33)")
		job := d.job("[[step]]\ntable = 'vessel'\nmerge = ['name']\nsame_as = 'folded'\nblanks = 'fill'\n")
		d.must(1, "run", job, "--accept", "any", "--batch", "2")
		// One that was to go is another now; one that was to stay is; one that was to stay is gone, and
		// so is one that was to go; rows refer to one that goes that did not; a further one has come.
		d.exec("DELETE FROM visit WHERE id = 0", "UPDATE vessel SET name = 'other' WHERE id = 3", "UPDATE vessel SET name = 'x' WHERE id = 11", "DELETE FROM vessel WHERE id = 21", "DELETE FROM visit WHERE id = 5", "DELETE FROM vessel WHERE id = 32",
			"INSERT INTO visit VALUES (7, 33)", "INSERT INTO vessel VALUES (34, 'd', 8)")
		d.must(0, "resume", "1")
		same(t, "vessels", d.read("vessel"), []string{"'-2' '0' '1'", "'1' 'a' '1'", "'11' 'x' NULL", "'12' 'b' '3'", "'13' 'b' '4'", "'22' 'c' '5'", "'3' 'other' '2'", "'31' 'd' '7'", "'34' 'd' '8'"})
		same(t, "visits", d.read("visit"), []string{"'1' '1'", "'2' '3'", "'3' '12'", "'4' '13'", "'6' '31'", "'7' '31'"})
		d.must(0, "verify", "1")
		d.must(0, "undo", "1")
		same(t, "visits, undone", d.read("visit"), []string{"'1' '2'", "'2' '3'", "'3' '12'", "'4' '13'", "'6' '33'", "'7' '33'"})
		if got := d.one("SELECT crew FROM vessel WHERE id = 31"); got != "" {
			t.Errorf("crew %s", got)
		}
	})
}

// TestMergeRefused: what would go wrong is refused before anything is changed, and told with its reason.
func TestMergeRefused(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE quay (id integer PRIMARY KEY, name varchar(40))",
			"CREATE TABLE meet (id integer PRIMARY KEY, a integer, b integer, UNIQUE (a, b), FOREIGN KEY (a) REFERENCES quay (id), FOREIGN KEY (b) REFERENCES quay (id))",
			"CREATE TABLE vessel (id integer PRIMARY KEY, name varchar(40), code varchar(9) UNIQUE)",
			"CREATE TABLE stamp (vessel integer NOT NULL, tag varchar(9) NOT NULL, PRIMARY KEY (vessel, tag), FOREIGN KEY (vessel) REFERENCES vessel (id))",
			"CREATE TABLE seal (id integer PRIMARY KEY, vessel integer, tag varchar(9), FOREIGN KEY (vessel, tag) REFERENCES stamp (vessel, tag))",
			"CREATE TABLE tariff (id integer PRIMARY KEY, code varchar(9), FOREIGN KEY (code) REFERENCES vessel (code))",
			"CREATE TABLE crew (id integer PRIMARY KEY, name varchar(40), head integer, FOREIGN KEY (head) REFERENCES crew (id))",
			"INSERT INTO vessel VALUES (1, 'a', NULL), (2, 'a', 'x'), (3, 'b', 'y'), (4, 'b', 'z')",
			"INSERT INTO stamp VALUES (3, 'red'), (4, 'red')", "INSERT INTO tariff VALUES (1, 'x'), (2, 'z')")
		tables := []string{"vessel", "stamp", "tariff"}
		before := d.dumpAll(tables)
		for _, x := range []struct {
			name, job string
			status    int
			words     []string
		}{
			{"twice under a key", "table = 'vessel'\nmerge = ['name']\nwhere = 'id > 2'\n", 3, []string{"stands-twice", "1 row of stamp", "stamp (vessel)", `twice = "merge"`}},
			{"what stands twice is referred to", "table = 'vessel'\nmerge = ['name']\ntwice = 'merge'\n", 2, []string{"seal refers to them"}},
			{"a reference to nothing", "table = 'vessel'\nmerge = ['name']\nwhere = 'id < 3'\n", 3, []string{"strayed", "1 row of tariff", "tariff (code)"}},
			{"rows that refer to each other", "table = 'crew'\nmerge = ['name']\n", 2, []string{"refer to each other"}},
			{"two references in one unique index", "table = 'quay'\nmerge = ['name']\n", 2, []string{"two references to quay"}},
		} {
			o := d.must(x.status, "run", d.job("[[step]]\n"+x.job), "--accept", "1")
			for _, w := range x.words {
				if !strings.Contains(o.err, w) {
					t.Errorf("%s: stderr does not say %q:\n%s", x.name, w, o.err)
				}
			}
		}
		same(t, "nothing changed", d.dumpAll(tables), before)
		// A list that no run has recorded is dropped.
		if got := d.lines("SELECT " + map[string]string{"sqlite": "name FROM sqlite_master WHERE name LIKE 'jugatum_list%'", "postgres": "tablename FROM pg_tables WHERE schemaname = 'jugatum' AND tablename LIKE 'list%'", "mariadb": "table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name LIKE 'jugatum_list%'"}[d.engine]); len(got) > 0 {
			t.Errorf("left: %v", got)
		}
	})
}

// TestMergeDangling: a reference that nobody has declared, made to a row that went, is found by verify.
func TestMergeDangling(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE vessel (id integer PRIMARY KEY, name varchar(40))", "CREATE TABLE page (id integer PRIMARY KEY, vessel integer)",
			"INSERT INTO vessel VALUES (1, 'a'), (2, 'a')", "INSERT INTO page VALUES (1, 2)")
		d.must(0, "run", d.job("[[step]]\ntable = 'vessel'\nmerge = ['name']\nalso = ['page.vessel']\n"), "--accept", "2")
		d.must(0, "verify", "1")
		d.exec("INSERT INTO page VALUES (2, 2)")
		if o := d.must(6, "verify", "1"); !strings.Contains(o.out, "1 row refers, by page (vessel), to rows that went") {
			t.Error(o.out)
		}
		d.must(0, "undo", "1")
		d.must(0, "verify", "2")
		same(t, "undone", d.read("page"), []string{"'1' '2'", "'2' '2'"})
	})
}

// TestMergeByOtherKeys: keys of two columns, one of them a text, and references by both; a column by
// which rows are the same that holds long texts; and on SQLite a table without a key.
func TestMergeByOtherKeys(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		long := strings.Repeat("long ", 1000)
		d.exec("CREATE TABLE berth (port varchar(20) NOT NULL, no integer NOT NULL, plan text, depth numeric(6,2), PRIMARY KEY (port, no))",
			"CREATE TABLE stay (port varchar(20), no integer, seq integer, note varchar(20), PRIMARY KEY (port, no, seq), FOREIGN KEY (port, no) REFERENCES berth (port, no))",
			"INSERT INTO berth VALUES ('Nörd', 1, '"+long+"a', 1.50), ('Nörd', 2, '"+long+"b', 2), ('Süd', 1, '"+long+"a', 1.5), ('Süd', 2, '"+long+"a ', 1.5), ('west', 1, 'x', NULL), ('west', 2, 'x', NULL)",
			"INSERT INTO stay VALUES ('Nörd', 1, 1, 'n1'), ('Süd', 1, 1, 's1'), ('Süd', 1, 2, 's2'), ('Süd', 2, 1, 's3'), ('west', 2, 1, 'w')")
		tables := []string{"berth", "stay"}
		before := d.dumpAll(tables)
		job := d.job("[[step]]\ntable = 'berth'\nmerge = ['plan', 'depth']\nstays = 'port DESC, no DESC'\ntwice = 'merge'\n")
		d.must(0, "run", job, "--accept", "any", "--batch", "1")
		if got := d.lines(d.by("SELECT concat(port, no) FROM berth ORDER BY 1", "SELECT port || no FROM berth ORDER BY 1")); fmt.Sprint(got) != "[Nörd2 Süd1 Süd2 west1 west2]" {
			t.Errorf("%v", got)
		}
		if got := d.lines(d.by("SELECT concat(port, no, seq, note) FROM stay ORDER BY 1", "SELECT port || no || seq || note FROM stay ORDER BY 1")); fmt.Sprint(got) != "[Süd11s1 Süd12s2 Süd21s3 west21w]" {
			t.Errorf("%v", got)
		}
		d.must(0, "verify", "1")
		d.must(0, "undo", "1")
		same(t, "undone", d.dumpAll(tables), before)
		job = d.job("[[step]]\ntable = 'berth'\nmerge = ['plan', 'depth']\nnulls = 'equal'\nsame_as = 'trimmed'\ntwice = 'merge'\n")
		d.must(0, "run", job, "--accept", "any")
		if got := d.lines(d.by("SELECT concat(port, no) FROM berth ORDER BY 1", "SELECT port || no FROM berth ORDER BY 1")); fmt.Sprint(got) != "[Nörd1 Nörd2 west1]" {
			t.Errorf("%v", got)
		}
		d.must(0, "verify", "3")
		d.must(0, "undo", "3")
		same(t, "undone", d.dumpAll(tables), before)
		if d.engine == "sqlite" {
			d.exec("CREATE TABLE scribble (a text, b)", "INSERT INTO scribble VALUES ('x', 1), ('x', '1'), ('x', 1.0), ('y', x'31'), ('y', '1'), ('x', 1)")
			before := d.dump("scribble")
			d.must(0, "run", d.job("[[step]]\ntable = 'scribble'\nmerge = ['a', 'b']\n"), "--accept", "any")
			same(t, "one of each", d.dump("scribble"), []string{"'x','1'", "'x',1", "'y','1'", "'y',X'31'"})
			d.must(0, "undo", d.lastRun())
			same(t, "undone", d.dump("scribble"), before)
		}
	})
}

// TestMergeWaitsForWhatStays: a session that holds the row that is to stay has a batch wait; what it does
// with that row counts. Rows that were to become one with it stay, with their references, if it is gone
// or another one then.
func TestMergeWaitsForWhatStays(t *testing.T) {
	servers := func(t *testing.T, f func(t *testing.T, d *database)) {
		engines(t, func(t *testing.T, d *database) {
			if d.engine == "sqlite" { // one writes at a time there
				t.Skip("one session writes at a time")
			}
			f(t, d)
		})
	}
	for _, x := range []struct {
		name, does, options string
		want                string
	}{
		{"gone", "DELETE FROM t WHERE id = 1", "", "2 11"},
		{"another", "UPDATE t SET name = 'x' WHERE id = 1", "blanks = 'fill'\n", "1 2 11"},
		{"out of the filter", "UPDATE t SET crew = 100 WHERE id = 1", "where = 'crew < 50'\n", "1 2 11"},
		{"as it was", "UPDATE t SET crew = 7 WHERE id = 1", "where = 'crew < 50'\nblanks = 'fill'\n", "1 11"},
	} {
		t.Run(x.name, func(t *testing.T) {
			servers(t, func(t *testing.T, d *database) {
				d.exec("CREATE TABLE t (id bigint PRIMARY KEY, name varchar(40), crew integer, note varchar(9))",
					"CREATE TABLE visit (id integer PRIMARY KEY, t bigint NOT NULL, FOREIGN KEY (t) REFERENCES t (id))",
					"INSERT INTO t VALUES (1, 'a', 3, NULL), (2, 'a', 3, 'n'), (11, 'b', 3, NULL), (12, 'b', 3, 'n')", "INSERT INTO visit VALUES (1, 2), (2, 12)")
				tx, err := d.db.Begin()
				if err != nil {
					t.Fatal(err)
				}
				defer tx.Rollback()
				if _, err := tx.Exec("UPDATE t SET crew = crew + 0 WHERE id = 1"); err != nil {
					t.Fatal(err)
				}
				if _, err := tx.Exec("SELECT 1 FROM t WHERE id = 1 FOR UPDATE"); err != nil {
					t.Fatal(err)
				}
				cmd := d.start("run", d.job("[[step]]\ntable = 't'\nmerge = ['name']\n"+x.options), "--accept", "any", "--batch", "1", "--hold", "60s")
				d.stuck()
				if _, err := tx.Exec(x.does); err != nil {
					t.Fatal(err)
				}
				if err := tx.Commit(); err != nil {
					t.Fatal(err)
				}
				if err := cmd.Wait(); err != nil {
					t.Fatalf("%v\n%s", err, cmd.Stderr)
				}
				if got := strings.Join(d.lines("SELECT id FROM t ORDER BY id"), " "); got != x.want {
					t.Errorf("%s are left, expected %s", got, x.want)
				}
				visits := "2 11"
				if !strings.Contains(x.want, "2") {
					visits = "1 11"
				}
				if got := strings.Join(d.lines("SELECT t FROM visit ORDER BY id"), " "); got != visits {
					t.Errorf("visits are of %s, expected %s", got, visits)
				}
				d.must(0, "verify", "1")
				d.must(0, "undo", "1")
				if got := strings.Join(d.lines("SELECT t FROM visit ORDER BY id"), " "); got != "2 12" {
					t.Errorf("undone, visits are of %s", got)
				}
			})
		})
	}
}

// TestMergeSetAside: a group of which a trigger refuses one row is set aside, and the others are merged;
// once the trigger is gone, it is merged too.
func TestMergeSetAside(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE vessel (id integer PRIMARY KEY, name varchar(40), note varchar(9))",
			"CREATE TABLE visit (id integer PRIMARY KEY, vessel integer NOT NULL, FOREIGN KEY (vessel) REFERENCES vessel (id))",
			"INSERT INTO vessel VALUES (1, 'a', NULL), (2, 'a', 'a2'), (3, 'b', NULL), (4, 'b', NULL), (5, 'b', 'b5'), (6, 'c', NULL), (7, 'c', 'c7')",
			"INSERT INTO visit VALUES (1, 2), (2, 4), (3, 5), (4, 7)")
		before := d.dumpAll([]string{"vessel", "visit"})
		d.exec(map[string][]string{
			"sqlite":  {"CREATE TRIGGER keep BEFORE DELETE ON vessel WHEN old.id = 5 BEGIN SELECT RAISE(ABORT, 'kept'); END"},
			"mariadb": {"CREATE TRIGGER keep BEFORE DELETE ON vessel FOR EACH ROW IF old.id = 5 THEN SIGNAL SQLSTATE '23000' SET MESSAGE_TEXT = 'kept'; END IF"},
			"postgres": {"CREATE FUNCTION keep() RETURNS trigger LANGUAGE plpgsql AS $$BEGIN RAISE integrity_constraint_violation USING MESSAGE = 'kept'; END$$",
				"CREATE TRIGGER keep BEFORE DELETE ON vessel FOR EACH ROW WHEN (old.id = 5) EXECUTE FUNCTION keep()"},
		}[d.engine]...)
		state := func() string {
			return strings.Join(d.lines(d.by("SELECT concat(id, coalesce(note, '')) FROM vessel ORDER BY id", "SELECT id || coalesce(note, '') FROM vessel ORDER BY id")), " ") + " | " +
				strings.Join(d.lines("SELECT vessel FROM visit ORDER BY id"), " ")
		}
		job := d.job("[[step]]\ntable = 'vessel'\nmerge = ['name']\nblanks = 'fill'\n")
		d.must(5, "run", job, "--accept", "any", "--batch", "100", "--set-aside", "10")
		if got := state(); got != "1a2 3 5b5 6c7 | 1 3 5 6" {
			t.Errorf("with one set aside: %s", got)
		}
		d.must(5, "resume", "1", "--retry-set-aside")
		d.exec(d.by("DROP TRIGGER keep", map[string]string{"sqlite": "DROP TRIGGER keep", "postgres": "DROP TRIGGER keep ON vessel"}[d.engine]))
		d.must(0, "resume", "1", "--retry-set-aside")
		if got := state(); got != "1a2 3b5 6c7 | 1 3 3 6" {
			t.Errorf("tried again: %s", got)
		}
		d.must(0, "verify", "1")
		d.must(0, "undo", "1")
		same(t, "undone", d.dumpAll([]string{"vessel", "visit"}), before)
	})
}
