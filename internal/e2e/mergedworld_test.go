package e2e

import (
	"cmp"
	"database/sql"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"

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
