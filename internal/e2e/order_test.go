package e2e

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// TestListsInOrder: a list with several lines for many keys leaves, in the order of the file,
// what the same statements leave one after the other, for every kind of key; every line is told
// what it did then, verify holds, and undo restores every byte.
func TestListsInOrder(t *testing.T) {
	eachLayout(t, func(t *testing.T, d *database, li int, l layout) {
		if l.name == "any storage class" || l.keyless { // see TestListsEqualTheStatements
			return
		}
		d.within = li%5 != 0 // one in five by the built program
		inOrder(d, l, li)
	})
}

func inOrder(d *database, l layout, li int) {
	t, r := d.t, seeded(uint64(7400+li))
	table, plain, original := d.quote("ördered"), d.quote("plain"), d.quote("original")
	for n, name := range []string{table, plain, original} {
		l.make(d, name, n)
	}
	const rows = 40
	fill(d, l, r, rows, original)
	for _, to := range []string{table, plain} {
		d.exec("INSERT INTO " + to + copied(d, to, original))
	}
	before := d.dump(table)
	x := newListing(d, l, r, plain)
	there := map[string]bool{}
	keyOf := func(line []string) string { return strings.Join(line[:len(strings.Split(l.cols, ", "))], "\x00") }
	for _, line := range x.texts(table) {
		there[keyOf(line)] = true
	}
	// Four lines at most for a key, each doing anything.
	type placed struct {
		at   float64
		line []string
	}
	var all []placed
	last := map[string]float64{} // the place of the last line of each key
	for range 4 {
		keys := make([][]int, len(listActions))
		for i := range rows + 12 {
			if n := r.IntN(7); n < len(listActions) && (n < 2 || l.name != "generated and identity") { // a new row's number would be another one
				keys[n] = append(keys[n], i)
			}
		}
		for _, line := range x.lines(keys) {
			k := keyOf(line[1:])
			last[k] += (1 - last[k]) * r.Float64()
			all = append(all, placed{last[k], line})
		}
	}
	slices.SortFunc(all, func(a, b placed) int { return map[bool]int{true: -1, false: 1}[a.at < b.at] })
	var lines [][]string
	var outcomes []string // of each, where several are possible joined by |
	for _, p := range all {
		lines = append(lines, p.line)
		outcomes = append(outcomes, happens(there, p.line[0], keyOf(p.line[1:])))
	}
	path, more := d.written(li, x.names(), lines)
	job := d.job("[[step]]\ntable = '" + table + "'\nchanges = '" + path + "'\norder = 'file'\naction = { column = 'op' }\n" + more)
	want := d.dump(plain)
	for i, args := range [][]string{d.workers(r.IntN(4)), {"--keep", "none"}} {
		d.must(0, append([]string{"run", job, "--again", "--accept", "any", "--batch", fmt.Sprint(1 + r.IntN(30))}, args...)...)
		run := d.lastRun()
		same(t, "the list leaves", d.dump(table), want)
		d.must(0, "verify", run)
		if i == 1 {
			return
		}
		d.became(run, lines, outcomes)
		d.must(0, "undo", run, "--batch", fmt.Sprint(1+r.IntN(30)))
		same(t, "undone", d.dump(table), before)
		d.must(0, "verify", d.lastRun())
	}
}

// happens carries a line out on what is known of rows that are there, and gives what becomes of it.
func happens(there map[string]bool, action, key string) string {
	was := there[key]
	switch action {
	case "delete":
		delete(there, key)
		return map[bool]string{true: "deleted", false: "no such key"}[was]
	case "update":
		return map[bool]string{true: "changed|unchanged", false: "no such key"}[was]
	}
	there[key] = true
	if action == "insert" {
		return map[bool]string{true: "key exists", false: "inserted"}[was]
	}
	return map[bool]string{true: "changed|unchanged", false: "inserted"}[was]
}

// became holds what a run tells of its lines against what must have become of them.
func (d *database) became(run string, lines [][]string, outcomes []string) {
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
	for i, line := range got[1:] {
		if line[1] != lines[i][0] || !slices.Contains(strings.Split(outcomes[i], "|"), line[2]) {
			d.t.Fatalf("line %d of run %s: %q, expected %s of %q", i, run, line, outcomes[i], lines[i])
		}
	}
}
