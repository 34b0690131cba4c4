package e2e

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

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
	// One table for each of the ways, as steps of one job, and one for the plain statements.
	methods := []string{"sweep", "roster", "single"}
	tables, plain, original := []string{d.quote("lïsted")}, d.quote("plain"), d.quote("original")
	for _, m := range methods[1:] {
		tables = append(tables, d.quote("lïsted "+m))
	}
	for n, name := range append([]string{plain, original}, tables...) {
		l.make(d, name, n)
	}
	rows := []int{37, 110, 220}[li%3]
	fill(d, l, r, rows, original)
	for _, to := range append([]string{plain}, tables...) {
		d.exec("INSERT INTO " + to + copied(d, to, original))
	}
	x := newListing(d, l, r, plain)
	// Which keys have lines of which action: of those that are there, one in five each, and
	// some that are not.
	keys := make([][]int, len(listActions))
	for i := range rows {
		if n := i % 5; n < len(listActions) {
			keys[n] = append(keys[n], i)
		}
	}
	for i := range 24 {
		keys[i%4] = append(keys[i%4], rows+i)
	}
	if l.name == "generated and identity" { // a new row's number would be another one
		keys[2], keys[3] = nil, nil
	}
	before := d.dump(tables[0])
	lines := x.lines(keys)
	r.Shuffle(len(lines), func(i, j int) { lines[i], lines[j] = lines[j], lines[i] })
	path, more := d.written(li, x.names(), lines)
	text := ""
	for i, table := range tables {
		text += fmt.Sprintf("[[step]]\nname = %q\ntable = '%s'\nmethod = %q\nchanges = '%s'\naction = { column = 'op' }\n%s", methods[i], table, methods[i], path, more)
	}
	if l.keyless {
		if o := d.must(2, "run", d.job(text), "--accept", "any"); !strings.Contains(o.err, "has no key by which the lines could find their rows") {
			t.Error(o.err)
		}
		return
	}
	want := d.dump(plain)
	batch := func() string { return fmt.Sprint(1 + rows/20 + r.IntN(40)) }
	d.must(0, append([]string{"run", d.job(text), "--accept", "any", "--batch", batch()}, d.workers(r.IntN(4))...)...)
	run := d.lastRun()
	for i, table := range tables {
		same(t, methods[i]+" leaves", d.dump(table), want)
	}
	d.must(0, "verify", run)
	d.lineOutcomes(run, lines, len(tables))
	d.must(0, "undo", run, "--batch", batch())
	for i, table := range tables {
		same(t, methods[i]+", undone", d.dump(table), before)
	}
	d.must(0, "verify", d.lastRun())
	first, _, _ := strings.Cut(text[1:], "[[step]]")
	d.must(0, "run", d.job("["+first), "--again", "--accept", "any", "--batch", batch(), "--keep", "none")
	same(t, "with nothing kept leaves", d.dump(tables[0]), want)
	d.must(0, "verify", d.lastRun())
	d.mostly(d.lastRun(), len(lines))
}

// listing makes lines for the rows of a table, and carries them out on another one like it by
// plain statements.
type listing struct {
	d       *database
	l       layout
	r       *rand.Rand
	plain   string
	key     string
	columns []string
	sources int // tables of lines made so far
}

// listActions are what lines do, in the order in which listing.lines takes their keys.
var listActions = []string{"delete", "update", "insert", "upsert"}

func newListing(d *database, l layout, r *rand.Rand, plain string) *listing {
	x := &listing{d: d, l: l, r: r, plain: plain, key: l.cols, columns: append(strings.Split(l.cols, ", "), "n", "txt", "amt", "flag")}
	if l.name == "unique index beside NULLs" {
		x.key = "k"
	}
	if l.name != "strict with generated" { // whose bytes are in a column of any type
		x.columns = append(x.columns, "bin")
	}
	return x
}

// names are the columns of the lines.
func (x *listing) names() []string { return append([]string{"op"}, unquoted(x.columns)...) }

// texts reads the columns of a table as a list has them.
func (x *listing) texts(table string) (lines [][]string) {
	var exprs []string
	for _, c := range x.columns {
		exprs = append(exprs, "coalesce("+x.d.listed(c, c == "bin" || c == "b" && x.l.name == "uuid and bytes")+", 'NULL!')")
	}
	query := "SELECT " + strings.Join(exprs, ", ") + " FROM " + table
	got, err := x.d.db.Query(query)
	if err != nil {
		x.d.t.Fatal(query, err)
	}
	defer got.Close()
	for got.Next() {
		line := make([]string, len(x.columns))
		into := make([]any, len(x.columns))
		for i := range line {
			into[i] = &line[i]
		}
		if err := got.Scan(into...); err != nil {
			x.d.t.Fatal(err)
		}
		lines = append(lines, line)
	}
	return lines
}

// lines makes lines of each action for the rows of so many keys, none of which may come twice,
// and carries them out.
func (x *listing) lines(keys [][]int) (lines [][]string) {
	var sources []string
	for n, action := range listActions {
		source := x.d.quote(fmt.Sprint("lines ", x.sources, " ", action))
		sources = append(sources, source)
		x.l.make(x.d, source, 10+4*x.sources+n)
		some := x.l
		some.key = func(i int) []any { return x.l.key(keys[n][i]) }
		fill(x.d, some, x.r, len(keys[n]), source)
		for _, line := range x.texts(source) {
			lines = append(lines, append([]string{action}, line...))
		}
	}
	x.sources++
	if !x.l.keyless {
		x.carryOut(sources)
	}
	return lines
}

// carryOut does what the lines say.
func (x *listing) carryOut(sources []string) {
	on := func(a, b string) string {
		var all []string
		for _, k := range strings.Split(x.key, ", ") {
			all = append(all, a+"."+k+" = "+b+"."+k)
		}
		return strings.Join(all, " AND ")
	}
	plain := x.plain
	x.d.exec("DELETE FROM " + plain + " WHERE EXISTS (SELECT 1 FROM " + sources[0] + " AS s WHERE " + on(plain, "s") + ")")
	for _, source := range []string{sources[1], sources[3]} {
		var set []string
		for _, c := range x.columns {
			if !strings.Contains(", "+x.key+",", ", "+c+",") {
				set = append(set, c+" = (SELECT s."+c+" FROM "+source+" AS s WHERE "+on("s", plain)+")")
			}
		}
		x.d.exec("UPDATE " + plain + " SET " + strings.Join(set, ", ") + " WHERE EXISTS (SELECT 1 FROM " + source + " AS s WHERE " + on("s", plain) + ")")
	}
	for _, source := range sources[2:] {
		list := strings.Join(x.columns, ", ")
		x.d.exec("INSERT INTO " + plain + " (" + list + ") SELECT " + list + " FROM " + source + " AS s WHERE NOT EXISTS (SELECT 1 FROM " + plain + " AS p WHERE " + on("p", "s") + ")")
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

// shownLines are the lines of a run's list as show writes them, of which there must be so many.
func (d *database) shownLines(run string, lines int) [][]string {
	d.t.Helper()
	return d.shownLists(run, lines, 1)[0]
}

// shownLists are the lines of so many lists of a run, each of so many lines.
func (d *database) shownLists(run string, lines, lists int) (all [][][]string) {
	d.t.Helper()
	path := filepath.Join(d.t.TempDir(), "lines.csv")
	d.must(0, "show", run, "--lines", path)
	for i := range lists {
		if i > 0 {
			path = filepath.Join(filepath.Dir(path), fmt.Sprintf("lines-%d.csv", i+1))
		}
		text, err := os.ReadFile(path)
		if err != nil {
			d.t.Fatal(err)
		}
		os.Remove(path)
		got, err := csv.NewReader(bytes.NewReader(text)).ReadAll()
		if err != nil {
			d.t.Fatal(err)
		}
		if len(got) != lines+1 {
			d.t.Fatalf("run %s tells of %d lines, the list has %d", run, len(got)-1, lines)
		}
		all = append(all, got[1:])
	}
	return all
}

// lineOutcomes holds what a run of so many lists tells of their lines against the lines
// themselves: each once, in the order of the file, with an outcome that its action can have.
func (d *database) lineOutcomes(run string, lines [][]string, lists int) {
	d.t.Helper()
	can := map[string]string{"delete": "deleted, no such key", "update": "changed, unchanged, no such key", "insert": "inserted, key exists", "upsert": "changed, unchanged, inserted"}
	for _, got := range d.shownLists(run, len(lines), lists) {
		for i, line := range got {
			if line[1] != lines[i][0] {
				d.t.Fatalf("line %d: %q, in the list it is %q", i, line, lines[i])
			}
			if !strings.Contains(", "+can[line[1]]+",", ", "+line[2]+",") {
				d.t.Fatalf("line %d: %s of a line that is to %s", i, line[2], line[1])
			}
		}
	}
}
