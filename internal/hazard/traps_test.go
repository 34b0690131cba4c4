package hazard

import (
	"slices"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
)

// TestComparisons: which comparisons of a filter are of a column of the target with literals, and
// which columns stand under a negation.
func TestComparisons(t *testing.T) {
	for _, x := range []struct{ where, compared, negated string }{
		{"code = 0", "code = 0", ""},
		{"0 = code", "code = 0", ""},
		{"-1 < v.code", "code > -1", ""},
		{"code >= -1.5 AND dues = ''", "code >= -1.5; dues = ''", ""},
		{"code IN (0, 1, -2)", "code IN (0, 1, -2)", ""},
		{"code IN (0, 'a')", "", ""},
		{"code IN (0, dues)", "", ""},
		{"code = 0 + dues", "", ""},
		{"dues + code = 0", "", ""},
		{"lower(code) = 0", "", ""},
		{"code <> 'x' OR note != 'y'", "code <> 'x'; note != 'y'", "code note"},
		{"NOT (code = 'x' AND note = 'y')", "code = 'x'; note = 'y'", "code note"},
		{"NOT code = 'x' AND note = 'y'", "code = 'x'; note = 'y'", "code"},
		{"code NOT IN ('x') AND note NOT LIKE 'y%' AND dues NOT BETWEEN 1 AND 2", "", "code note dues"},
		{"code IS NOT NULL AND id <> 3", "id <> 3", ""},
		{"EXISTS (SELECT 1 FROM berth b WHERE code = 0 AND b.note <> 'x')", "", ""},
		{"NOT EXISTS (SELECT 1 FROM berth) AND 'x' <> v.code", "code <> 'x'", "code"},
		{"code NOT IN (SELECT name FROM quay)", "", "code query"},
		{"b.code = 0", "", ""},
	} {
		tb := &change.Table{Name: "visit", Columns: []*change.Column{{Name: "id", NotNull: true}, {Name: "code", Class: change.Text}, {Name: "dues", Class: change.Number}, {Name: "note", Class: change.Text}}}
		tb.Key = &change.Key{Columns: tb.Columns[:1]}
		ch, err := change.Build(dialect.SQLite, change.Spec{Name: "s", SQL: "UPDATE visit AS v SET note = 'x' WHERE " + x.where}, nil, func(string, string) (*change.Table, error) { return tb, nil })
		if err != nil {
			t.Fatalf("%s: %v", x.where, err)
		}
		f := look{c: ch}.filter()
		var got, cols []string
		for _, c := range f.comparisons() {
			got = append(got, c.sql(c.col.Name, func(s string) string { return s }))
		}
		n := f.negations()
		for _, c := range n.cols {
			cols = append(cols, c.Name)
		}
		if n.query {
			cols = append(cols, "query")
		}
		if strings.Join(got, "; ") != x.compared || strings.Join(cols, " ") != x.negated {
			t.Errorf("%s: compared %q, negated %q", x.where, got, cols)
		}
	}
}

// TestFilterOnly: steps whose rows cannot be counted by their own filter are not asked.
func TestFilterOnly(t *testing.T) {
	tb := visitTable(true)
	for _, sql := range []string{"UPDATE visit SET note = 'x'", "UPDATE visit SET note = o.n FROM other o WHERE o.id = visit.id AND visit.note <> 'x'"} {
		ch, err := change.Build(dialect.SQLite, change.Spec{Name: "s", SQL: sql}, nil, func(string, string) (*change.Table, error) { return tb, nil })
		if err != nil {
			t.Fatal(err)
		}
		if (look{c: ch}).filter() != nil {
			t.Error(sql)
		}
	}
	for text, want := range map[string]bool{"'12'": true, "'-1.5'": true, "' 7 '": true, "''": false, "'x'": false, "'1.2.3'": false, "'-'": false} {
		if numeral(text) != want {
			t.Errorf("%s", text)
		}
	}
	if !slices.Equal([]string{mirrored("<="), mirrored(">"), mirrored("<>"), mirrored("=")}, []string{">=", "<", "<>", "="}) {
		t.Error("operators are not mirrored")
	}
}
