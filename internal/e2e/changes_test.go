package e2e

import (
	"bytes"
	"compress/gzip"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// list writes a list beside the jobs of the test, and gives its path.
func (d *database) list(name, text string) string {
	d.t.Helper()
	path := filepath.Join(d.t.TempDir(), name)
	if strings.HasSuffix(name, ".gz") {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		z.Write([]byte(text))
		z.Close()
		text = b.String()
	}
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		d.t.Fatal(err)
	}
	return path
}

// listed gives a column's values as lists have them; bytes says that it holds bytes.
func (d *database) listed(column string, bytes bool) string {
	switch d.engine {
	case "postgres":
		return column + "::text"
	case "mariadb":
		if bytes {
			return `concat('\\x', hex(` + column + `))`
		}
		return "CAST(" + column + " AS char)"
	}
	return `CASE typeof(` + column + `) WHEN 'blob' THEN '\x' || hex(` + column + `) WHEN 'real' THEN CASE WHEN CAST(printf('%!.15g', ` + column + `) AS REAL) = ` + column +
		` THEN printf('%!.15g', ` + column + `) ELSE printf('%!.17g', ` + column + `) END ELSE CAST(` + column + ` AS TEXT) END`
}

// TestListsEqualTheStatements: a list of lines that insert, update, delete and upsert leaves
// what the plain statements leave that do the same from tables, for every kind of key;
// verify holds, and undo restores every byte.
func TestListsEqualTheStatements(t *testing.T) {
	eachLayout(t, func(t *testing.T, d *database, li int, l layout) {
		if l.name == "any storage class" { // lines are texts, and a column without a type keeps them as they are
			return
		}
		d.within = li%5 != 0 // one in five by the built program
		oneList(d, l, li)
	})
}

// oneList carries out a list over a table with one kind of key.
func oneList(d *database, l layout, li int) {
	t, r := d.t, seeded(uint64(9000+li))
	table, plain := d.quote("lïsted"), d.quote("plain")
	for n, name := range []string{table, plain} {
		l.make(d, name, n)
	}
	rows := []int{37, 160, 400}[li%3]
	original := d.quote("original")
	l.make(d, original, 7)
	fill(d, l, r, rows, original)
	for _, to := range []string{table, plain} {
		d.exec("INSERT INTO " + to + copied(d, to, original))
	}
	key := l.cols
	if l.name == "unique index beside NULLs" {
		key = "k"
	}
	columns := append(strings.Split(l.cols, ", "), "n", "txt", "amt", "flag")
	if l.name != "strict with generated" { // whose bytes are in a column of any type
		columns = append(columns, "bin")
	}
	// Which keys have lines of which action: of those that are there, one in five each, and
	// some that are not.
	actions := []string{"delete", "update", "insert", "upsert"}
	keys := make([][]int, len(actions))
	for i := range rows {
		if n := i % 5; n < len(actions) {
			keys[n] = append(keys[n], i)
		}
	}
	for i := range 24 {
		keys[i%4] = append(keys[i%4], rows+i)
	}
	if l.name == "generated and identity" { // a new row's number would be another one
		keys[2], keys[3] = nil, nil
	}
	var lines [][]string
	names := append([]string{"op"}, unquoted(columns)...)
	var sources []string
	for n, action := range actions {
		source := d.quote("lines " + action)
		sources = append(sources, source)
		l.make(d, source, 10+n)
		some := l
		some.key = func(i int) []any { return l.key(keys[n][i]) }
		fill(d, some, r, len(keys[n]), source)
		var exprs []string
		for _, c := range columns {
			exprs = append(exprs, "coalesce("+d.listed(c, c == "bin" || c == "b" && l.name == "uuid and bytes")+", 'NULL!')")
		}
		query := "SELECT " + strings.Join(exprs, ", ") + " FROM " + source
		got, err := d.db.Query(query)
		if err != nil {
			t.Fatal(query, err)
		}
		for got.Next() {
			line := make([]string, len(columns))
			into := make([]any, len(columns))
			for i := range line {
				into[i] = &line[i]
			}
			if err := got.Scan(into...); err != nil {
				t.Fatal(err)
			}
			lines = append(lines, append([]string{action}, line...))
		}
		got.Close()
	}
	r.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
	path, more := d.written(li, names, lines)
	job := d.job("[[step]]\ntable = '" + table + "'\nchanges = '" + path + "'\naction = { column = 'op' }\n" + more)
	if l.keyless {
		if o := d.must(2, "run", job, "--accept", "any"); !strings.Contains(o.err, "has no key by which the lines could find their rows") {
			t.Error(o.err)
		}
		return
	}
	before := d.dump(table)
	on := func(a, b string) string {
		var all []string
		for _, k := range strings.Split(key, ", ") {
			all = append(all, a+"."+k+" = "+b+"."+k)
		}
		return strings.Join(all, " AND ")
	}
	d.exec("DELETE FROM " + plain + " WHERE EXISTS (SELECT 1 FROM " + sources[0] + " AS s WHERE " + on(plain, "s") + ")")
	for _, source := range []string{sources[1], sources[3]} {
		var set []string
		for _, c := range columns {
			if !strings.Contains(", "+key+",", ", "+c+",") {
				set = append(set, c+" = (SELECT s."+c+" FROM "+source+" AS s WHERE "+on("s", plain)+")")
			}
		}
		d.exec("UPDATE " + plain + " SET " + strings.Join(set, ", ") + " WHERE EXISTS (SELECT 1 FROM " + source + " AS s WHERE " + on("s", plain) + ")")
	}
	for _, source := range sources[2:] {
		list := strings.Join(columns, ", ")
		d.exec("INSERT INTO " + plain + " (" + list + ") SELECT " + list + " FROM " + source + " AS s WHERE NOT EXISTS (SELECT 1 FROM " + plain + " AS p WHERE " + on("p", "s") + ")")
	}
	want := d.dump(plain)
	for i, args := range [][]string{d.workers(r.IntN(4)), {"--method", "roster"}, {"--method", "single"}, {"--keep", "none"}} {
		d.must(0, append([]string{"run", job, "--again", "--accept", "any", "--batch", fmt.Sprint(1 + r.IntN(50))}, args...)...)
		run := d.lastRun()
		same(t, fmt.Sprintf("list %d leaves", i), d.dump(table), want)
		d.must(0, "verify", run)
		if i == 3 {
			return
		}
		d.lineOutcomes(run, lines)
		d.must(0, "undo", run, "--batch", fmt.Sprint(1+r.IntN(50)))
		same(t, "undone", d.dump(table), before)
		d.must(0, "verify", d.lastRun())
	}
}

// written writes lines as a file of one kind or another, and gives the keys of the step that
// say how it is written.
func (d *database) written(n int, names []string, lines [][]string) (path, more string) {
	var b bytes.Buffer
	if n%2 == 0 {
		w := csv.NewWriter(&b)
		w.Write(names)
		w.WriteAll(lines)
		return d.list([]string{"list.csv", "list.csv.gz"}[n/2%2], b.String()), "null = 'NULL!'\n"
	}
	for _, line := range lines {
		object := map[string]any{}
		for i, v := range line {
			if object[names[i]] = v; v == "NULL!" {
				object[names[i]] = nil
			}
		}
		text, err := json.Marshal(object)
		if err != nil {
			d.t.Fatal(err)
		}
		b.Write(append(text, '\n'))
	}
	return d.list("list.jsonl", b.String()), ""
}

func unquoted(names []string) (out []string) {
	for _, n := range names {
		if strings.HasPrefix(n, `"`) {
			n = strings.ReplaceAll(strings.Trim(n, `"`), `""`, `"`)
		}
		out = append(out, n)
	}
	return out
}

// lineOutcomes holds what a run tells of its lines against the lines themselves: each once, in
// the order of the file, with an outcome that its action can have.
func (d *database) lineOutcomes(run string, lines [][]string) {
	d.t.Helper()
	path := filepath.Join(d.t.TempDir(), "lines.csv")
	d.must(0, "show", run, "--lines", path)
	text, err := os.ReadFile(path)
	if err != nil {
		d.t.Fatal(err)
	}
	os.Remove(path)
	got, err := csv.NewReader(bytes.NewReader(text)).ReadAll()
	if err != nil {
		d.t.Fatal(err)
	}
	if len(got) != len(lines)+1 {
		d.t.Fatalf("run %s tells of %d lines, the list has %d", run, len(got)-1, len(lines))
	}
	can := map[string]string{"delete": "deleted, no such key", "update": "changed, unchanged, no such key", "insert": "inserted, key exists", "upsert": "changed, unchanged, inserted"}
	for i, line := range got[1:] {
		if line[1] != lines[i][0] {
			d.t.Fatalf("line %d: %q, in the list it is %q", i, line, lines[i])
		}
		if !strings.Contains(", "+can[line[1]]+",", ", "+line[2]+",") {
			d.t.Fatalf("line %d: %s of a line that is to %s", i, line[2], line[1])
		}
	}
}
