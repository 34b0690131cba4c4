package e2e

import (
	"cmp"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// mergedWorld are rows in memory, and what a merge makes of them, worked out by itself.
type mergedWorld struct {
	vessels []vessel
	visits  map[int]int       // to the vessel
	stamps  map[[2]string]int // vessel and tag, to a number
	tariffs map[int]*string   // to the vessel's code
	pages   map[int]int       // to the vessel, by a reference that is not declared
}

type vessel struct {
	id, built        int
	name, flag, code *string
	crew             *int
	note             *string
}

// mergeJob is a way to merge them.
type mergeJob struct {
	sameAs             string
	fill, drop, nulls  bool
	where, stays       string
	newest, before1990 bool // what stays and where mean
	options            []string
	kill               bool
}

func (j mergeJob) String() string {
	blanks, twice, nulls := "leave", "refuse", "apart"
	if j.fill {
		blanks = "fill"
	}
	if j.drop {
		twice = "merge"
	}
	if j.nulls {
		nulls = "equal"
	}
	text := fmt.Sprintf("[[step]]\ntable = 'vessel'\nmerge = ['name', 'flag']\nsame_as = '%s'\nblanks = '%s'\ntwice = '%s'\nnulls = '%s'\nalso = ['page.vessel_no']\n", j.sameAs, blanks, twice, nulls)
	if j.where != "" {
		text += "where = '" + j.where + "'\n"
	}
	if j.stays != "" {
		text += "stays = '" + j.stays + "'\n"
	}
	return text
}

// newMergedWorld makes rows of which many are the same, or nearly so.
func newMergedWorld(r *rand.Rand, n int) *mergedWorld {
	w := &mergedWorld{visits: map[int]int{}, stamps: map[[2]string]int{}, tariffs: map[int]*string{}, pages: map[int]int{}}
	names := []string{"Kestrel", "kestrel", " Kestrel", "KESTREL ", "Gannet", "Straße", "STRASSE", "Caf\u00e9", "Cafe\u0301", "North  Star", "North Star", "", " ", "0", "日本"}
	pick := func(list []string, null int) *string {
		if r.IntN(null) == 0 {
			return nil
		}
		s := list[r.IntN(len(list))]
		return &s
	}
	var codes []string
	for i := range n {
		v := vessel{id: i*3 + 1, built: 1980 + r.IntN(20), name: pick(names, 9), flag: pick([]string{"UK", "NL", "uk"}, 12), note: pick([]string{"", "seen", "paid", " "}, 3)}
		if r.IntN(2) == 0 {
			c := fmt.Sprintf("C%d", i)
			v.code = &c
			codes = append(codes, c)
		}
		if r.IntN(2) == 0 {
			c := r.IntN(5)
			v.crew = &c
		}
		w.vessels = append(w.vessels, v)
	}
	any := func() int { return w.vessels[r.IntN(n)].id }
	for i := range 3 * n {
		w.visits[i] = any()
		w.stamps[[2]string{fmt.Sprint(any()), []string{"red", "blue", "green"}[r.IntN(3)]}] = i
		if i%2 == 0 {
			w.pages[i] = any()
		}
		if i%3 == 0 {
			w.tariffs[i] = nil
			if r.IntN(4) > 0 {
				w.tariffs[i] = &codes[r.IntN(len(codes))]
			}
		}
	}
	return w
}

// groups gives the groups of a merge, each in its order.
func (w *mergedWorld) groups(j mergeJob) (out [][]vessel) {
	form := func(s *string) string {
		switch {
		case s == nil:
			return "NULL"
		case j.sameAs == "exact":
			return "'" + *s
		}
		return "'" + change.Form(j.sameAs).Of(*s)
	}
	by := map[string][]vessel{}
	for _, v := range w.vessels {
		if j.before1990 && v.built >= 1990 || !j.nulls && (v.name == nil || v.flag == nil) {
			continue
		}
		key := form(v.name) + "|" + form(v.flag)
		by[key] = append(by[key], v)
	}
	for _, key := range slices.Sorted(maps.Keys(by)) {
		g := by[key]
		slices.SortFunc(g, func(a, b vessel) int {
			if j.newest {
				return cmp.Or(b.built-a.built, a.id-b.id)
			}
			return a.id - b.id
		})
		if len(g) > 1 {
			out = append(out, g)
		}
	}
	return out
}

// merge does what the job says.
func (w *mergedWorld) merge(j mergeJob) (gone int) {
	stays, rank := map[int]int{}, map[int]int{}
	codes := map[string]*string{}
	after := map[int]vessel{}
	for _, v := range w.vessels {
		after[v.id] = v
	}
	for _, g := range w.groups(j) {
		first := g[0]
		for n, v := range g[1:] {
			stays[v.id], rank[v.id] = first.id, n+1
			if v.code != nil {
				codes[*v.code] = g[0].code
			}
			if j.fill {
				if first.code == nil {
					first.code = v.code
				}
				if first.crew == nil {
					first.crew = v.crew
				}
				if (first.note == nil || *first.note == "") && v.note != nil && *v.note != "" {
					first.note = v.note
				}
			}
			delete(after, v.id)
			gone++
		}
		after[first.id] = first
	}
	w.vessels = nil
	for _, id := range slices.Sorted(maps.Keys(after)) {
		w.vessels = append(w.vessels, after[id])
	}
	for id, v := range w.visits {
		w.visits[id] = cmp.Or(stays[v], v)
	}
	for id, v := range w.pages {
		w.pages[id] = cmp.Or(stays[v], v)
	}
	for id, c := range w.tariffs {
		if c != nil {
			if to, goes := codes[*c]; goes {
				w.tariffs[id] = to
			}
		}
	}
	moved, ranks := map[[2]string]int{}, map[[2]string]int{}
	for key, n := range w.stamps {
		var id int
		fmt.Sscan(key[0], &id)
		to := [2]string{fmt.Sprint(cmp.Or(stays[id], id)), key[1]}
		if before, there := ranks[to]; !there || rank[id] < before {
			moved[to], ranks[to] = n, rank[id]
		}
	}
	w.stamps = moved
	return gone
}

// strays tells whether references would be to a code that the row that stays has not.
func (w *mergedWorld) strays(j mergeJob) bool {
	for _, g := range w.groups(j) {
		for _, v := range g[1:] {
			for _, c := range w.tariffs {
				if g[0].code == nil && v.code != nil && c != nil && *c == *v.code {
					return true
				}
			}
		}
	}
	return false
}

// lines are the rows of a table as they are read.
func (w *mergedWorld) lines() map[string][]string {
	t := func(s *string) string {
		if s == nil {
			return "NULL"
		}
		return "'" + *s + "'"
	}
	out := map[string][]string{"vessel": nil, "visit": nil, "stamp": nil, "tariff": nil, "page": nil}
	for _, v := range w.vessels {
		crew := "NULL"
		if v.crew != nil {
			crew = fmt.Sprintf("'%d'", *v.crew)
		}
		out["vessel"] = append(out["vessel"], fmt.Sprintf("'%d' '%d' %s %s %s %s %s", v.id, v.built, t(v.name), t(v.flag), t(v.code), crew, t(v.note)))
	}
	for id, v := range w.visits {
		out["visit"] = append(out["visit"], fmt.Sprintf("'%d' '%d'", id, v))
	}
	for key, n := range w.stamps {
		out["stamp"] = append(out["stamp"], fmt.Sprintf("'%s' '%s' '%d'", key[0], key[1], n))
	}
	for id, c := range w.tariffs {
		out["tariff"] = append(out["tariff"], fmt.Sprintf("'%d' %s", id, t(c)))
	}
	for id, v := range w.pages {
		out["page"] = append(out["page"], fmt.Sprintf("'%d' '%d'", id, v))
	}
	for _, list := range out {
		slices.Sort(list)
	}
	return out
}

// read gives the same of a database.
func (d *database) read(table string) (out []string) {
	rows, err := d.db.Query("SELECT * FROM " + table)
	if err != nil {
		d.t.Fatal(err)
	}
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		d.t.Fatal(err)
	}
	texts, into := make([]sql.NullString, len(columns)), []any{}
	for i := range texts {
		into = append(into, &texts[i])
	}
	for rows.Next() {
		if err := rows.Scan(into...); err != nil {
			d.t.Fatal(err)
		}
		var parts []string
		for _, s := range texts {
			if s.Valid {
				parts = append(parts, "'"+s.String+"'")
			} else {
				parts = append(parts, "NULL")
			}
		}
		out = append(out, strings.Join(parts, " "))
	}
	slices.Sort(out)
	return out
}

// put writes the rows into a database.
func (w *mergedWorld) put(d *database) {
	varchar := d.by("varchar(40) CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci", "varchar(40)")
	key := map[string]string{"sqlite": "INTEGER", "postgres": "bigint", "mariadb": "bigint"}[d.engine]
	d.exec("CREATE TABLE vessel (id "+key+" PRIMARY KEY, built integer, name "+varchar+", flag "+varchar+", code varchar(20) UNIQUE, crew integer, note text)",
		"CREATE TABLE visit (id integer PRIMARY KEY, vessel bigint NOT NULL, FOREIGN KEY (vessel) REFERENCES vessel (id) ON DELETE CASCADE)",
		"CREATE TABLE stamp (vessel bigint NOT NULL, tag varchar(20) NOT NULL, n integer, PRIMARY KEY (vessel, tag), FOREIGN KEY (vessel) REFERENCES vessel (id))",
		"CREATE TABLE tariff (id integer PRIMARY KEY, code varchar(20), FOREIGN KEY (code) REFERENCES vessel (code) ON DELETE SET NULL)",
		"CREATE TABLE page (id integer PRIMARY KEY, vessel_no bigint)")
	insert := func(table string, values ...any) {
		marks := strings.TrimSuffix(strings.Repeat("?, ", len(values)), ", ")
		text := "INSERT INTO " + table + " VALUES (" + marks + ")"
		if d.engine == "postgres" {
			text = engine.Numbered(text)
		}
		if _, err := d.db.Exec(text, values...); err != nil {
			d.t.Fatal(err)
		}
	}
	for _, v := range w.vessels {
		insert("vessel", v.id, v.built, v.name, v.flag, v.code, v.crew, v.note)
	}
	for id, v := range w.visits {
		insert("visit", id, v)
	}
	for k, n := range w.stamps {
		insert("stamp", k[0], k[1], n)
	}
	for id, c := range w.tariffs {
		insert("tariff", id, c)
	}
	for id, v := range w.pages {
		insert("page", id, v)
	}
}

// TestMerge: of rows that are the same one stays, as the job says it; references are moved to it, what
// it lacks is filled in, in batches of one row, of a few and of many, in one statement and through
// kills; and undo brings every byte back.
func TestMerge(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
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
// each batch. The groups are found before the first step, whose check holds the run until they have
// written.
func TestMergeAfterOthersWrote(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		key := map[string]string{"sqlite": "INTEGER"}[d.engine]
		d.exec("CREATE TABLE vessel (id "+cmp.Or(key, "bigint")+" PRIMARY KEY, name varchar(40), crew integer)",
			"CREATE TABLE visit (id integer PRIMARY KEY, vessel bigint NOT NULL, FOREIGN KEY (vessel) REFERENCES vessel (id))",
			"CREATE TABLE gate (id integer PRIMARY KEY, n integer)", "INSERT INTO gate VALUES (1, 0)",
			"INSERT INTO vessel VALUES (1, 'a', NULL), (2, 'A', 1), (3, 'a', 2), (11, 'b', NULL), (12, 'b', 3), (13, 'b', 4), (21, 'c', NULL), (22, 'c', 5), (31, 'd', NULL), (32, 'd', 6), (33, 'D', 7)",
			"INSERT INTO visit VALUES (1, 2), (2, 3), (3, 12), (4, 13), (5, 32), (6, 33)")
		job := d.job("[[step]]\ntable = 'gate'\nwhere = 'id = 1'\nset = { n = 'n + 1' }\ncheck = [{ sql = 'SELECT count(*) FROM gate', is = 2 }]\n[[step]]\ntable = 'vessel'\nmerge = ['name']\nsame_as = 'folded'\nblanks = 'fill'\n")
		d.must(6, "run", job, "--accept", "any", "--batch", "2")
		// One that was to go is another now; one that was to stay is; one that was to stay is gone, and
		// so is one that was to go; rows refer to one that goes that did not; a further one has come.
		d.exec("INSERT INTO gate VALUES (2, 0)", "UPDATE vessel SET name = 'other' WHERE id = 3", "UPDATE vessel SET name = 'x' WHERE id = 11", "DELETE FROM vessel WHERE id = 21", "DELETE FROM visit WHERE id = 5", "DELETE FROM vessel WHERE id = 32",
			"INSERT INTO visit VALUES (7, 33)", "INSERT INTO vessel VALUES (34, 'd', 8)")
		d.must(0, "resume", "1")
		same(t, "vessels", d.read("vessel"), []string{"'1' 'a' '1'", "'11' 'x' NULL", "'12' 'b' '3'", "'13' 'b' '4'", "'22' 'c' '5'", "'3' 'other' '2'", "'31' 'd' '7'", "'34' 'd' '8'"})
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

// TestMergeByOwnRules: references of texts that are compared by rules of the column referred to, and
// written another way: in another case, with blanks behind, as a number.
func TestMergeByOwnRules(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		code := d.by("varchar(20) COLLATE utf8mb4_general_ci", map[string]string{"sqlite": "text COLLATE NOCASE", "postgres": "varchar(20) COLLATE anycase"}[d.engine])
		if d.engine == "postgres" {
			d.exec("CREATE COLLATION anycase (provider = icu, locale = 'und-u-ks-level2', deterministic = false)")
		}
		d.exec("CREATE TABLE vessel (id integer PRIMARY KEY, code "+code+" NOT NULL UNIQUE, name varchar(40))",
			"CREATE TABLE visit (id integer PRIMARY KEY, code "+code+", day integer, UNIQUE (code, day), FOREIGN KEY (code) REFERENCES vessel (code))",
			"INSERT INTO vessel VALUES (1, 'Aa', 'x'), (2, 'Bb', 'x'), (3, 'Cc', 'x'), (4, 'Dd', 'y')",
			"INSERT INTO visit VALUES (1, 'aA', 1), (2, 'BB', 1), (3, 'bb', 2), (4, 'cC', 2), (5, 'CC', 3), (6, 'dD', 3), (7, NULL, 3)")
		before := d.dumpAll([]string{"vessel", "visit"})
		d.must(0, "run", d.job("[[step]]\ntable = 'vessel'\nmerge = ['name']\ntwice = 'merge'\n"), "--accept", "any", "--batch", "1")
		got := strings.Join(d.lines(d.by("SELECT concat(id, coalesce(code, '-')) FROM visit ORDER BY id", "SELECT id || coalesce(code, '-') FROM visit ORDER BY id")), " ")
		// Both that come to stand on day 2 cannot stay: that of the row which goes first does.
		if got != "1aA 3Aa 5Aa 6dD 7-" {
			t.Errorf("visits: %s", got)
		}
		d.must(0, "verify", "1")
		d.must(0, "undo", "1")
		same(t, "undone", d.dumpAll([]string{"vessel", "visit"}), before)
	})
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

// TestReferencesOfOtherRules: columns that refer have rules of their own by which texts are compared. Rows
// that refer are found as the database finds them.
func TestReferencesOfOtherRules(t *testing.T) {
	for _, x := range []struct{ engine, parent, child string }{
		{"postgres", `"C"`, `"POSIX"`}, {"postgres", "anycase", "unaccented"}, {"postgres", "unaccented", `"C"`}, {"postgres", `"C"`, "anycase"},
		{"mariadb", "utf8mb4_general_ci", "utf8mb4_bin"}, {"mariadb", "utf8mb4_bin", "utf8mb4_general_ci"},
	} {
		t.Run(strings.Join([]string{x.engine, x.parent, x.child}, " "), func(t *testing.T) {
			engines(t, func(t *testing.T, d *database) {
				if d.engine != x.engine {
					t.Skip("of " + x.engine)
				}
				key, also, goes := "", "also = ['visit.code']\n", "SELECT id FROM visit WHERE code COLLATE "+x.parent+" = 'Bb' ORDER BY id"
				if d.engine == "postgres" {
					d.exec("CREATE COLLATION anycase (provider = icu, locale = 'und-u-ks-level2', deterministic = false)", "CREATE COLLATION unaccented (provider = icu, locale = 'und-u-ks-level1', deterministic = false)")
					if d.one("SELECT current_setting('server_version_num')::int >= 180000") == "true" && x.child != `"POSIX"` {
						t.Skip("refused there")
					}
					key, also, goes = ", FOREIGN KEY (code) REFERENCES vessel (code) ON DELETE CASCADE", "", ""
				}
				d.exec("CREATE TABLE vessel (id integer NOT NULL UNIQUE, code varchar(20) COLLATE "+x.parent+" PRIMARY KEY, name varchar(40) COLLATE "+x.parent+")",
					"CREATE TABLE visit (id integer PRIMARY KEY, code varchar(20) COLLATE "+x.child+key+")",
					"INSERT INTO vessel VALUES (1, 'Aa', 'x'), (2, 'Bb', 'x'), (3, 'Dd', 'y')", "INSERT INTO visit VALUES (1, 'Aa'), (2, 'Bb'), (4, 'Dd')")
				if !strings.HasPrefix(x.parent, `"`) {
					d.exec("INSERT INTO visit VALUES (3, 'Bb'), (5, NULL)")
					d.exec("UPDATE visit SET code = 'bB' WHERE id = 3 AND " + d.by("'"+x.parent+"' <> 'utf8mb4_bin'", "true"))
				}
				tables := []string{"vessel", "visit"}
				before := d.dumpAll(tables)
				var moved []string
				if goes == "" { // what the database itself takes along
					tx, err := d.db.Begin()
					if err != nil {
						t.Fatal(err)
					}
					if _, err := tx.Exec("DELETE FROM vessel WHERE id = 2"); err != nil {
						t.Fatal(err)
					}
					rows, err := tx.Query("SELECT id FROM visit ORDER BY id")
					if err != nil {
						t.Fatal(err)
					}
					left := map[string]bool{}
					for rows.Next() {
						var id string
						if err := rows.Scan(&id); err != nil {
							t.Fatal(err)
						}
						left[id] = true
					}
					if err := errors.Join(rows.Err(), tx.Rollback()); err != nil {
						t.Fatal(err)
					}
					for _, id := range d.lines("SELECT id FROM visit ORDER BY id") {
						if !left[id] {
							moved = append(moved, id)
						}
					}
					d.must(0, "run", "--sql", "DELETE FROM vessel WHERE id = 2", "--accept", "any")
					var ids []string
					for _, id := range d.lines("SELECT id FROM visit ORDER BY id") {
						ids = append(ids, id)
						if !left[id] {
							t.Errorf("visit %s is left", id)
						}
					}
					if len(ids) != len(left) {
						t.Errorf("%v are left, not %v", ids, left)
					}
					d.must(0, "undo", "1")
					same(t, "undone", d.dumpAll(tables), before)
				} else {
					moved = d.lines(goes)
				}
				if len(moved) == 0 {
					t.Fatal("nothing refers to it")
				}
				// A value of other rules is compared with the one it takes the place of.
				d.must(0, "run", "--sql", "UPDATE vessel SET name = (SELECT max(code) FROM visit WHERE visit.id = vessel.id) WHERE id = 1", "--accept", "1")
				same(t, "filled", d.lines("SELECT name FROM vessel WHERE id = 1"), []string{"Aa"})
				d.must(0, "undo", d.lastRun())
				same(t, "undone", d.dumpAll(tables), before)
				d.must(0, "run", d.job("[[step]]\ntable = 'vessel'\nmerge = ['name']\n"+also), "--accept", "any")
				same(t, "moved", d.lines("SELECT id FROM visit WHERE code = 'Aa' ORDER BY id"), append([]string{"1"}, moved...))
				d.must(0, "verify", d.lastRun())
				d.must(0, "undo", d.lastRun())
				same(t, "undone", d.dumpAll(tables), before)
			})
		})
	}
}

// TestKeysOfOtherRules: unique indexes that tell apart what comparing their columns does not are no keys:
// two rows would be found by the key of one.
func TestKeysOfOtherRules(t *testing.T) {
	anycase := "CREATE COLLATION anycase (provider = icu, locale = 'und-u-ks-level2', deterministic = false)"
	for _, x := range []struct {
		engine, name string
		ddl          []string
		rows         string // the table has its rows' own numbers as key
	}{
		{"sqlite", "primary key", []string{"CREATE TABLE t (k text COLLATE NOCASE NOT NULL, n integer, PRIMARY KEY (k COLLATE BINARY))"}, "[B3 a1 b2]"},
		{"sqlite", "without numbers", []string{"CREATE TABLE t (k text COLLATE NOCASE NOT NULL, n integer, PRIMARY KEY (k COLLATE BINARY)) WITHOUT ROWID"}, ""},
		{"sqlite", "unique index", []string{"CREATE TABLE t (k text COLLATE NOCASE NOT NULL, n integer)", "CREATE UNIQUE INDEX u ON t (k COLLATE BINARY)"}, "[B3 a1 b2]"},
		{"postgres", "unique index", []string{anycase, "CREATE TABLE t (k text COLLATE anycase NOT NULL, n integer)", `CREATE UNIQUE INDEX u ON t (k COLLATE "C")`}, ""},
	} {
		t.Run(x.engine+" "+x.name, func(t *testing.T) {
			engines(t, func(t *testing.T, d *database) {
				if d.engine != x.engine {
					t.Skip("of " + x.engine)
				}
				d.exec(x.ddl...)
				d.exec("INSERT INTO t VALUES ('a', 1), ('A', 1), ('b', 2), ('B', 3)")
				before := d.dump("t")
				job := d.job("[[step]]\ntable = 't'\nmerge = ['n']\n")
				if x.rows == "" {
					if o := d.must(2, "run", job, "--accept", "any"); !strings.Contains(o.err, "tells apart what comparing its columns does not") {
						t.Error(o.err)
					}
					if o := d.must(3, "run", "--sql", "UPDATE t SET n = n + 1 WHERE n = 1", "--accept", "any"); !strings.Contains(o.err, "tells apart what comparing its columns does not") {
						t.Error(o.err)
					}
					same(t, "unchanged", d.dump("t"), before)
					d.must(0, "run", "--sql", "UPDATE t SET n = n + 1 WHERE n = 2", "--accept", "1", "--method", "single", "--keep", "none")
					same(t, "by one statement", d.lines("SELECT n FROM t ORDER BY n"), []string{"1", "1", "3", "3"})
					return
				}
				d.must(0, "run", job, "--accept", "any")
				if got := fmt.Sprint(d.lines("SELECT k || n FROM t ORDER BY k || n")); got != x.rows {
					t.Errorf("merged: %s, expected %s", got, x.rows)
				}
				d.must(0, "undo", "1")
				same(t, "undone", d.dump("t"), before)
			})
		})
	}
}
