package harbour

import (
	"context"
	"math/rand/v2"
	"path/filepath"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"jugatum/internal/dialect"
	"jugatum/internal/job"
)

// rows makes a table's rows without a database.
func rows(seed uint64, size int, table string) [][]any {
	g := &generator{r: rand.New(rand.NewPCG(seed, 0x5a17)), rows: size}
	var out [][]any
	next := g.table(table)
	for r := next(); r != nil; r = next() {
		out = append(out, r)
	}
	return out
}

func TestSameSeedSameRows(t *testing.T) {
	for _, table := range Tables {
		a, b, c := rows(1, 2000, table), rows(1, 2000, table), rows(2, 2000, table)
		if len(a) == 0 || !reflect.DeepEqual(a, b) {
			t.Errorf("%s: the same seed makes other rows", table)
		}
		if table != "setting" && reflect.DeepEqual(a, c) {
			t.Errorf("%s: another seed makes the same rows", table)
		}
	}
	if n := len(rows(1, 5000, "visit")); n != 5000 {
		t.Errorf("%d visits", n)
	}
}

// TestDirty: every kind of dirt is there to be fixed.
func TestDirty(t *testing.T) {
	column := func(table string, i int) string {
		var b strings.Builder
		for _, r := range rows(1, 3000, table) {
			if r[i] == nil {
				b.WriteString("NULL\n")
			} else if s, ok := r[i].(string); ok {
				b.WriteString(s + "\n")
			}
		}
		return b.String()
	}
	for _, c := range []struct {
		table string
		col   int
		want  []string
	}{
		{"visit", 3, []string{"NULL\n", "\n\n", "?\n"}},
		{"visit", 4, []string{"NULL\n", "\n\n", "NORTH MOLE\n", "North Mole\n", "Köhler Ufer\n"}},
		{"visit", 8, []string{"NULL\n"}},
		{"visit", 10, []string{"http://charts.saltmere.test", "&quot;", "\n\n"}},
		{"vessel", 1, []string{"MV ", "M/V ", "The "}},
		{"vessel", 2, []string{"NULL\n", "\n\n", ", A\n", ". Aldous"}},
		{"notice", 3, []string{"moor ", "MOOR ", "moorland", "www.charts", "HTTP://CHARTS", "&amp;", "NULL"}},
		{"setting", 1, []string{`http:\/\/charts`, `s:6:"charts"`, "\n\n"}},
	} {
		text := column(c.table, c.col)
		for _, w := range c.want {
			if !strings.Contains(text, w) {
				t.Errorf("%s, column %d: there is no %q", c.table, c.col, w)
			}
		}
	}
	names := map[any]int{}
	for _, r := range rows(1, 3000, "vessel") {
		names[r[1]]++
	}
	if len(names) == len(rows(1, 3000, "vessel")) {
		t.Error("no vessel's name comes twice")
	}
}

// TestSerialisedTextIsSound: every length counts the bytes that follow.
func TestSerialisedTextIsSound(t *testing.T) {
	found := 0
	for _, r := range rows(1, 1000, "setting") {
		s := r[1].(string)
		for _, m := range regexp.MustCompile(`s:(\d+):"`).FindAllStringSubmatchIndex(s, -1) {
			n, err := strconv.Atoi(s[m[2]:m[3]])
			if err != nil || !strings.HasPrefix(s[m[1]+n:], `";`) {
				t.Errorf("%s: length %s does not fit", s, s[m[2]:m[3]])
			}
			found++
		}
	}
	if found == 0 {
		t.Error("there is no serialised text")
	}
}

func TestJobsCanBeRead(t *testing.T) {
	dir := t.TempDir()
	paths, err := WriteJobs(dir, dialect.SQLite)
	if err != nil || len(paths) < 4 {
		t.Fatal(err, paths)
	}
	for _, p := range paths {
		text, err := jobs.ReadFile("jobs/" + filepath.Base(p))
		if err != nil {
			t.Fatal(err)
		}
		if filepath.Ext(p) != ".toml" { // the list of one of them
			continue
		}
		if j, err := job.Parse(p, text); err != nil || j.Title == "" || j.Reason == "" {
			t.Errorf("%s: %v", p, err)
		}
	}
}

func TestSizeHasBounds(t *testing.T) {
	for _, n := range []int{0, Least - 1, Most + 1} {
		if err := Load(context.Background(), nil, dialect.SQLite, 1, n); err == nil {
			t.Errorf("%d rows are made", n)
		}
	}
}
