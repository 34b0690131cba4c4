package e2e

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
)

// layout is a table with one kind of key. %s is the table's name.
type layout struct {
	name, engine string // engine "" is every engine
	ddl          []string
	cols         string                    // the key's columns, for INSERT
	key          func(i int) []any         // the key of row i
	where        func(r *rand.Rand) string // further condition, may be nil
	keyless      bool                      // rows go by their own numbers
}

const body = `n integer, txt text, amt numeric(10,2), flag boolean, bin %BIN%`

func layouts() []layout {
	word := func(i int) string {
		return []string{"Ä", "a", "B", "ß", "z", "É", "'q'", `"`, "%", "_", "日本"}[i%11] + strconv.Itoa(i)
	}
	return []layout{
		{name: "integer", ddl: []string{`CREATE TABLE %s (id integer PRIMARY KEY, ` + body + `)`}, cols: "id", key: func(i int) []any { return []any{i*3 - 500} }},
		{name: "sparse bigint", ddl: []string{`CREATE TABLE %s (id bigint PRIMARY KEY, ` + body + `)`}, cols: "id", key: func(i int) []any { return []any{int64(i)*int64(i)*int64(i)*1_000_003 - 7_000_000_000} }},
		{name: "composite", ddl: []string{`CREATE TABLE %s (a integer, b varchar(40), c date, ` + body + `, PRIMARY KEY (b, a, c))`}, cols: "a, b, c",
			key: func(i int) []any { return []any{i / 7, word(i % 7), fmt.Sprintf("2020-01-%02d", 1+i%28)} }},
		{name: "text", ddl: []string{`CREATE TABLE %s (k varchar(60) NOT NULL PRIMARY KEY, ` + body + `)`}, cols: "k", key: func(i int) []any { return []any{word(i)} }},
		{name: "empty text and quotes", engine: "sqlite postgres", ddl: []string{`CREATE TABLE %s ("select" text NOT NULL UNIQUE, "Grö""ße" integer, ` + body + `)`}, cols: `"select"`,
			key: func(i int) []any { return []any{strings.Repeat(" ", i%3) + strings.Repeat("x", i/3)} }},
		{name: "unique index beside NULLs", ddl: []string{`CREATE TABLE %s (u integer UNIQUE, k integer NOT NULL, ` + body + `)`, `CREATE UNIQUE INDEX %i ON %s (k)`}, cols: "u, k",
			key: func(i int) []any {
				if i%3 == 0 {
					return []any{nil, i}
				}
				return []any{i, i}
			}},
		{name: "names and spaces", engine: "mariadb", ddl: []string{`CREATE TABLE %s ("select" varchar(190) CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin NOT NULL UNIQUE, "Grö""ße ` + "`" + `" integer, ` + body + `)`}, cols: `"select"`,
			key: func(i int) []any { return []any{strings.Repeat(" ", i%3) + strings.Repeat("x", i/3)} }},
		{name: "accents and case", engine: "mariadb", ddl: []string{`CREATE TABLE %s (k varchar(60) CHARACTER SET latin1 COLLATE latin1_swedish_ci PRIMARY KEY, ` + body + `)`}, cols: "k",
			key: func(i int) []any {
				return []any{[]string{"Ä", "a", "B", "ß", "z", "É", "'q'"}[i%7] + strconv.Itoa(i)}
			}},
		{name: "uuid and bytes", engine: "mariadb", ddl: []string{`CREATE TABLE %s (u uuid, b binary(4), ` + body + `, PRIMARY KEY (u, b))`}, cols: "u, b",
			key: func(i int) []any {
				return []any{fmt.Sprintf("%08x-0000-4000-8000-%012x", uint32(i%20)*2654435761, i/20), []byte{byte(i), 0, 39, 92}}
			}},
		{name: "unsigned", engine: "mariadb", ddl: []string{`CREATE TABLE %s (id bigint unsigned PRIMARY KEY, ` + body + `)`}, cols: "id", key: func(i int) []any { return []any{uint64(1)<<63 - 20 + uint64(i)} }},
		{name: "time and number", engine: "mariadb", ddl: []string{`CREATE TABLE %s (at datetime(6), f decimal(30,10), ` + body + `, PRIMARY KEY (at, f))`}, cols: "at, f",
			key: func(i int) []any {
				return []any{fmt.Sprintf("2020-03-29 02:%02d:00.%06d", i%60, i), fmt.Sprintf("12345678901234567.%010d", i)}
			}},
		{name: "partitioned", engine: "mariadb", ddl: []string{`CREATE TABLE %s (id integer PRIMARY KEY, ` + body + `) PARTITION BY RANGE (id) (PARTITION a VALUES LESS THAN (100), PARTITION b VALUES LESS THAN MAXVALUE)`}, cols: "id", key: func(i int) []any { return []any{i} }},
		{name: "generated and old dates", engine: "mariadb", ddl: []string{`CREATE TABLE %s (id integer AUTO_INCREMENT PRIMARY KEY, ` + body + `, g mediumtext AS (concat(txt, '!')) STORED, v integer AS (n + 1) VIRTUAL,
			day date DEFAULT '0000-00-00', e enum('A', 'b', '') DEFAULT 'b', bits bit(5) DEFAULT b'10101', j json DEFAULT '{"a": 1.0}', wide varchar(9000) DEFAULT 'w')`}, cols: "id", key: func(i int) []any { return []any{i + 1} }},
		{name: "nocase", engine: "sqlite", ddl: []string{`CREATE TABLE %s (k TEXT COLLATE NOCASE PRIMARY KEY, ` + body + `)`}, cols: "k", key: func(i int) []any { return []any{word(i)} }},
		{name: "without rowid", engine: "sqlite", ddl: []string{`CREATE TABLE %s (a TEXT, b REAL, ` + body + `, PRIMARY KEY (a, b)) WITHOUT ROWID`}, cols: "a, b", key: func(i int) []any { return []any{word(i % 11), float64(i) / 7} }},
		{name: "any storage class", engine: "sqlite", ddl: []string{`CREATE TABLE %s (k PRIMARY KEY NOT NULL, ` + body + `)`}, cols: "k",
			key: func(i int) []any { return []any{[]any{i, float64(i) + 0.5, word(i), []byte(word(i))}[i%4]} }},
		{name: "strict with generated", engine: "sqlite", ddl: []string{`CREATE TABLE %s (id INTEGER PRIMARY KEY, n INTEGER, txt TEXT, amt REAL, flag INTEGER, bin ANY, g TEXT GENERATED ALWAYS AS (txt || '!') STORED, v INTEGER AS (n + 1)) STRICT`}, cols: "id", key: func(i int) []any { return []any{i} }},
		{name: "no key", engine: "sqlite", keyless: true, ddl: []string{`CREATE TABLE %s (x integer, ` + body + `)`}, cols: "x", key: func(i int) []any { return []any{i % 5} }},
		{name: "no key beside odd names", engine: "sqlite", keyless: true, ddl: []string{`CREATE TABLE %s (RowID text, _rowid_ text, ` + body + `)`, `CREATE INDEX %i ON %s (n)`}, cols: "rowid, _rowid_", key: func(i int) []any { return []any{word(i % 3), nil} }},
		{name: "uuid", engine: "postgres", ddl: []string{`CREATE TABLE %s (k uuid PRIMARY KEY, ` + body + `)`}, cols: "k", key: func(i int) []any { return []any{fmt.Sprintf("%08x-0000-4000-8000-%012x", uint32(i)*2654435761, i)} }},
		{name: "C collation", engine: "postgres", ddl: []string{`CREATE TABLE %s (k text COLLATE "C" PRIMARY KEY, ` + body + `)`}, cols: "k", key: func(i int) []any { return []any{word(i)} }},
		{name: "icu collation", engine: "postgres", ddl: []string{`CREATE COLLATION IF NOT EXISTS blind (provider = icu, locale = 'und-u-ks-level1', deterministic = false)`,
			`CREATE TABLE %s (k text COLLATE "en-x-icu" PRIMARY KEY, ` + strings.Replace(body, "txt text", "txt text COLLATE blind", 1) + `)`}, cols: "k", key: func(i int) []any { return []any{word(i)} },
			where: func(*rand.Rand) string { return "n IS NOT NULL" }},
		{name: "time and number", engine: "postgres", ddl: []string{`CREATE TABLE %s (at timestamptz, f float8, ` + body + `, PRIMARY KEY (at, f))`}, cols: "at, f",
			key: func(i int) []any {
				return []any{fmt.Sprintf("2020-03-29 00:%02d:00.%06d+00", i%60, i), fmt.Sprint(1 / float64(i+3))}
			}},
		{name: "partitioned", engine: "postgres", ddl: []string{`CREATE TABLE %s (id integer, ` + body + `, PRIMARY KEY (id)) PARTITION BY RANGE (id)`,
			`CREATE TABLE %p1 PARTITION OF %s FOR VALUES FROM (MINVALUE) TO (100)`, `CREATE TABLE %p2 PARTITION OF %s FOR VALUES FROM (100) TO (MAXVALUE)`}, cols: "id", key: func(i int) []any { return []any{i} }},
		{name: "generated and identity", engine: "postgres", ddl: []string{`CREATE TABLE %s (id integer GENERATED BY DEFAULT AS IDENTITY PRIMARY KEY, always integer GENERATED ALWAYS AS IDENTITY, ` + body + `, g text GENERATED ALWAYS AS (txt || '!') STORED, j json DEFAULT '{"a": 1.0}', arr int[] DEFAULT '{1,2}')`}, cols: "id", key: func(i int) []any { return []any{i} }},
	}
}

// changes are statements about %s, with the share of rows they touch left to chance.
var changes = []struct {
	name, sql, engine string
	maria             string // MariaDB's form, if it is another
	job               string // the step that stands for it, if it is not told by the statement
}{
	{name: "not idempotent", sql: "UPDATE %s SET n = n * 3 + 1 WHERE n IS NOT NULL"},
	{name: "text grows", sql: "UPDATE %s SET txt = replace(txt, 'a', 'ÄÖ''a'), amt = round(amt * 1.05, 2) WHERE txt LIKE '%a%'"},
	{name: "to NULL and empty", sql: "UPDATE %s AS x SET txt = CASE WHEN x.n % 3 = 0 THEN NULL WHEN x.n % 3 = 1 THEN '' ELSE coalesce(x.txt, '?') END, flag = NULL WHERE x.n > 5 OR x.n IS NULL"},
	{name: "some stay as they are", sql: "UPDATE %s SET n = 5, txt = txt"},
	{name: "literals", sql: "UPDATE %s SET txt = 'näu', amt = '7.50', bin = NULL, flag = true WHERE amt > 30"},
	{name: "from another table", sql: "UPDATE %s AS v SET n = o.v, txt = o.name FROM other AS o WHERE o.k = v.n", maria: "UPDATE other AS o JOIN %s AS v ON o.k = v.n SET v.n = o.v, v.txt = o.name"},
	{name: "cte and sub-query", sql: "WITH big AS (SELECT k, v FROM other WHERE v > 20) UPDATE %s AS v SET n = (SELECT max(big.v) FROM big WHERE big.k >= v.n) WHERE EXISTS (SELECT 1 FROM big WHERE big.k = v.n)", maria: "UPDATE %s AS v SET n = (SELECT max(o.v) FROM other AS o WHERE o.v > 20 AND o.k >= v.n) WHERE EXISTS (SELECT 1 FROM other AS o WHERE o.v > 20 AND o.k = v.n)"},
	{name: "row of values", sql: "UPDATE %s SET (n, txt) = (length(txt), 'n' || n) WHERE n < 60", maria: "UPDATE %s SET txt = 'n' || n, n = length(bin) WHERE n < 60"},
	{name: "row of a query", sql: "UPDATE %s AS v SET (n, txt) = (SELECT o.v, o.name FROM other AS o WHERE o.k = v.n) WHERE v.n IN (SELECT k FROM other)", maria: "UPDATE %s AS v, other AS o SET v.txt = o.name || v.n, v.amt = o.v WHERE v.n = o.k AND o.v < 20"},
	{name: "default", sql: "UPDATE %s SET n = DEFAULT WHERE n % 2 = 0", engine: "postgres mariadb"},
	{name: "delete some", sql: "DELETE FROM %s WHERE n % 3 = 0"},
	{name: "delete by sub-query", sql: "DELETE FROM %s AS v WHERE v.n IN (SELECT o.k FROM other AS o WHERE o.v > 10)", maria: "DELETE v FROM %s AS v WHERE v.n IN (SELECT o.k FROM other AS o WHERE o.v > 10)"},
	{name: "delete using", sql: "DELETE FROM %s AS v USING other AS o WHERE o.k = v.n AND o.v > 10", engine: "postgres mariadb", maria: "DELETE FROM v USING %s AS v JOIN other AS o ON o.k = v.n WHERE o.v > 10"},
	{name: "delete all", sql: "DELETE FROM %s"},
	{name: "the first", sql: "UPDATE %s AS x SET n = coalesce(-n, 7), txt = concat('first ', txt) WHERE x.amt > 3 OR x.n IS NULL ORDER BY x.amt DESC, n, %k LIMIT 23", engine: "mariadb"},
	{name: "filled by key", sql: "UPDATE %s AS v SET amt = o.v, txt = o.name FROM other AS o WHERE o.k = v.n", maria: "UPDATE %s AS v JOIN other AS o ON o.k = v.n SET v.amt = o.v, v.txt = o.name",
		job: "from = 'other'\nmatch = { n = 'k' }\nfill = { amt = 'v', txt = 'name' }"},
	{name: "filled with one of several, else NULL", sql: "UPDATE %s AS v SET txt = (SELECT o.name FROM other AS o WHERE o.v = v.n AND o.k = (SELECT max(p.k) FROM other AS p WHERE p.v = o.v))",
		job: "from = 'other'\nmatch = { n = 'v' }\nfill = { txt = 'name' }\npick = 'k DESC'\nunmatched = 'null'"},
	{name: "filled from itself", sql: "UPDATE %s AS v SET amt = x.top FROM (SELECT n AS g, max(amt) AS top FROM %s GROUP BY n) AS x WHERE x.g = v.n AND v.n > 3", maria: "UPDATE %s AS v JOIN (SELECT n AS g, max(amt) AS top FROM %s GROUP BY n) AS x ON x.g = v.n SET v.amt = x.top WHERE v.n > 3",
		job: "from = '(SELECT n AS g, max(amt) AS top FROM %s GROUP BY n)'\nmatch = { n = 'g' }\nfill = { amt = 'top' }\nwhere = 'n > 3'"},
	{name: "filled by a condition", sql: "UPDATE %s AS v SET n = o.v FROM other AS o WHERE o.k = v.n AND o.v < 20", maria: "UPDATE %s AS v JOIN other AS o ON o.k = v.n AND o.v < 20 SET v.n = o.v",
		job: "from = 'other'\nmatch = 'other.k = %s.n AND other.v < 20'\nfill = { n = 'v' }"},
	{name: "delete the first", sql: "DELETE FROM %s WHERE n > 3 ORDER BY n DESC, %k LIMIT 11", engine: "mariadb"},
}

// fill puts rows into a table, ugly ones among them.
func fill(d *database, l layout, r *rand.Rand, rows int, table string) {
	tx, err := d.db.Begin()
	if err != nil {
		d.t.Fatal(err)
	}
	defer tx.Rollback()
	marks := func(n int, first int) string {
		s := make([]string, n)
		for i := range s {
			s[i] = "?"
			if d.engine == "postgres" {
				s[i] = "$" + strconv.Itoa(first+i)
			}
		}
		return strings.Join(s, ", ")
	}
	var insert *sql.Stmt
	texts := []any{nil, "", "a", "banana", "NaN", `back\slash`, "tab\tline\n", "x'y\"z", "ÄÖÜ ß", "日本語 a", " a ", "%a_", strings.Repeat("long a ", 9000)}
	for i := 0; i < rows; i++ {
		key := l.key(i)
		args := append([]any{}, key...)
		var n, amt, flag, bin any = r.IntN(90), fmt.Sprintf("%d.%02d", r.IntN(60), r.IntN(100)), r.IntN(2) == 0, []byte{0, 255, byte(i)}
		if r.IntN(8) == 0 {
			n = nil
		}
		if r.IntN(8) == 0 {
			amt, flag, bin = nil, nil, nil
		}
		if l.name == "strict with generated" && flag != nil {
			flag = b2i(flag.(bool))
		}
		text := texts[r.IntN(len(texts)-1)]
		if i == 11 {
			text = texts[len(texts)-1] // one huge cell
		}
		args = append(args, n, text, amt, flag, bin)
		if insert == nil {
			if insert, err = tx.Prepare("INSERT INTO " + table + " (" + l.cols + ", n, txt, amt, flag, bin) VALUES (" + marks(len(args), 1) + ")"); err != nil {
				d.t.Fatalf("%s: %v", l.name, err)
			}
			defer insert.Close()
		}
		if _, err := insert.Exec(args...); err != nil {
			d.t.Fatalf("%s: %v", l.name, err)
		}
	}
	if err := tx.Commit(); err != nil {
		d.t.Fatal(err)
	}
}

func b2i(b bool) int {
	if b {
		return 1
	}
	return 0
}

// TestBatchesEqualTheStatement is the property that everything rests on: the
// change in batches, the change as one statement by the program or in batches that
// keep nothing, and the plain statement leave the same bytes; verify holds; undo restores every byte; and, in one
// case of ten, a second run and a second undo are refused.
func TestBatchesEqualTheStatement(t *testing.T) {
	eachLayout(t, oneLayout)
}

// eachLayout runs a test on each engine with each kind of key that it has.
func eachLayout(t *testing.T, f func(t *testing.T, d *database, li int, l layout)) {
	engines(t, func(t *testing.T, d *database) {
		for li, l := range layouts() {
			if l.engine != "" && !strings.Contains(l.engine, d.engine) {
				continue
			}
			t.Run(l.name, func(t *testing.T) {
				t.Parallel()
				f(t, fresh(t, d.engine), li, l)
			})
		}
	})
}

// make makes a table of the layout anew; n is another number for each table of one test.
func (l layout) make(d *database, table string, n int) {
	d.t.Helper()
	d.exec("DROP TABLE IF EXISTS " + table)
	for _, ddl := range l.ddl {
		d.exec(strings.NewReplacer("%s", table, "%i", fmt.Sprintf("index_%d", n), "%p1", fmt.Sprintf("part_%d_1", n), "%p2", fmt.Sprintf("part_%d_2", n), "%BIN%", map[string]string{"sqlite": "BLOB", "postgres": "bytea", "mariadb": "varbinary(200)"}[d.engine], "txt text", d.by("txt mediumtext", "txt text")).Replace(ddl))
	}
}

// oneLayout holds every change against tables with one kind of key: one in ten alone and by
// the built program, the others as the steps of two jobs, since most of what a case costs is
// what a command costs before its first batch.
func oneLayout(t *testing.T, d *database, li int, l layout) {
	d.exec("CREATE TABLE other (k integer PRIMARY KEY, v integer, name text)")
	for i := 0; i < 40; i++ {
		d.exec(fmt.Sprintf("INSERT INTO other VALUES (%d, %d, 'nö %d')", i*2, i%30, i))
	}
	var together [2][]*property // by whether they are carried out at once, too
	for ci, c := range changes {
		sql := c.sql
		if d.engine == "mariadb" && c.maria != "" {
			sql = c.maria
		}
		if c.engine != "" && !strings.Contains(c.engine, d.engine) {
			continue
		}
		if c.job != "" && (li+ci)%4 != 0 { // each of these on every fourth kind of key; the generator has them on all
			continue
		}
		if l.where != nil && strings.Contains(sql, "LIKE") {
			continue // this collation has no LIKE
		}
		r := seeded(uint64(li*100 + ci))
		rows := []int{0, 1, 37, 160}[r.IntN(4)]
		if ci == li%len(changes) {
			rows = 400
		}
		p := &property{name: fmt.Sprintf("%s/%d rows", c.name, rows), sql: sql, job: c.job, rows: rows, r: r, n: ci,
			swept: d.quote(fmt.Sprint("swept täble ", ci)), second: d.quote(fmt.Sprint("second ", ci))}
		if (li+ci)%10 != 0 {
			together[(li+ci)%2] = append(together[(li+ci)%2], p)
			continue
		}
		t.Run(p.name, func(t *testing.T) {
			d.t, d.within = t, false
			holdTogether(d, l, []*property{p}, (li+ci)%2 == 0)
		})
	}
	for i, properties := range together {
		t.Run([]string{"changes together, and at once", "changes together, and with nothing kept"}[i], func(t *testing.T) {
			d.t, d.within = t, true
			holdTogether(d, l, properties, i == 0)
		})
	}
}

// property is one change that is held against one table.
type property struct {
	name, sql     string
	job           string // the step that stands for the statement, "" where that is the statement itself
	rows, n       int    // of the table; a number of its own
	r             *rand.Rand
	swept, second string // tables of the same rows
	before, want  []string
}

// on is the statement over a table.
func (p *property) on(l layout, table string) string {
	return strings.NewReplacer("%s", table, "%k", strings.ReplaceAll(l.cols, `"`, "`")).Replace(p.sql)
}

// step is the change of a table as a step of a job.
func (p *property) step(l layout, table, method string) string {
	what := "table = '" + table + "'\n" + strings.ReplaceAll(p.job, "%s", table)
	if p.job == "" {
		what = "sql = '''" + p.on(l, table) + "'''"
	}
	return fmt.Sprintf("[[step]]\nname = \"%d\"\nmethod = %q\n%s\n", p.n, method, what)
}

// make makes the tables, and finds out what the plain statement leaves.
func (p *property) make(d *database, l layout) {
	names := []string{p.swept, p.second, d.quote("plain"), d.quote("before")}
	for i, n := range names {
		l.make(d, n, p.n*len(names)+i)
	}
	fill(d, l, p.r, p.rows, names[3])
	for _, n := range names[:3] {
		d.exec("INSERT INTO " + n + copied(d, n, names[3]))
	}
	p.before = d.dump(names[3])
	d.exec(p.on(l, names[2]))
	p.want = d.dump(names[2])
}

// holdTogether carries changes out, as the steps of one job or, one alone, as a statement. atOnce is
// whether they are also carried out at once, rather than in batches without kept values.
func holdTogether(d *database, l layout, properties []*property, atOnce bool) {
	if len(properties) == 0 {
		return
	}
	r, most := properties[0].r, 0
	for _, p := range properties {
		p.make(d, l)
		most = max(most, p.rows)
	}
	batch := strconv.Itoa(1 + most/20 + r.IntN(40))
	run := func(more ...string) []string {
		return append([]string{"run", "--accept", "any", "--every-row", "--batch", batch}, more...)
	}
	told := func(table func(p *property) string, method func(p *property) string) []string { // to the program
		if p := properties[0]; len(properties) == 1 && p.job == "" {
			return []string{"--method", method(p), "--sql", p.on(l, table(p))}
		}
		text := ""
		for _, p := range properties {
			text += p.step(l, table(p), method(p))
		}
		return []string{d.job(text)}
	}
	swept, second := func(p *property) string { return p.swept }, func(p *property) string { return p.second }
	some := func(p *property) string { // one of the methods in batches
		if strings.Contains(p.sql, "LIMIT") || d.engine == "postgres" && p.r.IntN(2) == 0 {
			return "roster"
		}
		return "sweep"
	}
	leaves := func(what string, table func(p *property) string, want func(p *property) []string) {
		d.t.Helper()
		for _, p := range properties {
			same(d.t, p.name+": "+what, d.dump(table(p)), want(p))
		}
	}
	before, want := func(p *property) []string { return p.before }, func(p *property) []string { return p.want }

	first := told(swept, some)
	d.must(0, run(append(d.workers(r.IntN(4)), first...)...)...)
	done := d.lastRun()
	leaves("batches against the statement", swept, want)
	d.must(0, "verify", done)
	if !d.within { // whatever the change was
		d.must(3, run(first...)...) // it is done
	}
	d.must(0, "undo", done, "--batch", batch)
	leaves("undone", swept, before)
	d.must(0, "verify", d.lastRun())
	if !d.within {
		d.must(3, "undo", done)
	}
	if atOnce {
		d.must(0, run(append([]string{"--again"}, told(second, func(*property) string { return "single" })...)...)...)
		leaves("at once against the statement", second, want)
		return
	}
	d.must(0, run(append([]string{"--again", "--keep", "none"}, told(second, some)...)...)...)
	leaves("without kept values", second, want)
}

// copied is the column list and SELECT that copy one table into its twin.
func copied(d *database, to, from string) string {
	var cols []string
	if d.engine == "sqlite" {
		cols = d.lines(`SELECT '"' || replace(name, '"', '""') || '"' FROM pragma_table_xinfo(?) WHERE hidden = 0`, strings.Trim(to, `"`))
		return " (" + strings.Join(cols, ", ") + ") SELECT " + strings.Join(cols, ", ") + " FROM " + from
	}
	if d.engine == "mariadb" {
		cols = d.lines("SELECT concat('`', replace(column_name, '`', '``'), '`') FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = ? AND is_generated = 'NEVER'", strings.Trim(to, "`"))
		return " (" + strings.Join(cols, ", ") + ") SELECT " + strings.Join(cols, ", ") + " FROM " + from
	}
	cols = d.lines(`SELECT quote_ident(attname) FROM pg_attribute WHERE attrelid = $1::regclass AND attnum > 0 AND attgenerated = ''`, to)
	return " (" + strings.Join(cols, ", ") + ") OVERRIDING SYSTEM VALUE SELECT " + strings.Join(cols, ", ") + " FROM " + from
}
