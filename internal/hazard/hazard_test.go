package hazard

import (
	"slices"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

func table(key bool) *change.Table {
	id := &change.Column{Name: "id", NotNull: true}
	t := &change.Table{Name: "visit", Columns: []*change.Column{id, {Name: "dues"}, {Name: "note"}, {Name: "closed"}}}
	if key {
		t.Key = &change.Key{Columns: []*change.Column{id}}
	}
	return t
}

func TestText(t *testing.T) {
	for _, c := range []struct {
		sql    string
		method string
		nokey  bool
		reads  change.Reads
		want   []string
	}{
		{sql: "UPDATE visit SET note = 'x' WHERE id = 1"},
		{sql: "UPDATE visit SET note = 'x'", want: []string{"every-row"}},
		{sql: "UPDATE visit SET note = o.n FROM other o"},
		{sql: "UPDATE visit SET note = 'x' WHERE dues = NULL", want: []string{"equals-null"}},
		{sql: "UPDATE visit SET note = 'x' WHERE dues <> NULL AND id != NULL", want: []string{"equals-null", "equals-null"}},
		{sql: "UPDATE visit SET note = NULL WHERE dues IS NULL"},
		{sql: "UPDATE visit SET dues = dues * 2 WHERE id < 5", want: []string{"not-cleared"}},
		{sql: "UPDATE visit SET dues = dues * 2 WHERE dues < 5"},
		{sql: "UPDATE visit SET dues = id * 2 WHERE id < 5"},
		{sql: "UPDATE visit SET dues = o.dues FROM other o WHERE o.id = visit.id"},
		{sql: "UPDATE visit SET dues = visit.dues + o.dues FROM other o WHERE o.id = visit.id", want: []string{"not-cleared"}},
		{sql: "UPDATE visit SET id = id + 1 WHERE id < 5", want: []string{"key-changed"}},
		{sql: "UPDATE visit SET id = id + 1 WHERE id < 5", method: "single"},
		{sql: "UPDATE visit SET note = (SELECT max(note) FROM visit) WHERE id < 5", reads: change.Reads{Target: true}, want: []string{"reads-target", "not-cleared"}},
		{sql: "UPDATE visit SET note = (SELECT max(v.dues) FROM visit v) WHERE id < 5", reads: change.Reads{Target: true, Opaque: []string{"f()"}}, method: "single"},
		{sql: "UPDATE visit SET note = f(1) WHERE id < 5", reads: change.Reads{Opaque: []string{"f()"}, Once: []string{"g()"}}, want: []string{"opaque-function", "once-a-statement"}},
		{sql: "UPDATE visit SET note = random() WHERE id < 5", reads: change.Reads{Volatile: []string{"random()"}, Clock: true}, want: []string{"volatile", "clock"}},
		{sql: "DELETE FROM visit WHERE note LIKE '%x%'", want: []string{"like-delete", "kept-deleted"}},
		{sql: "UPDATE visit SET note = 'x' WHERE id = 1", nokey: true, want: []string{"no-key"}},
		{sql: "UPDATE visit SET note = 'closed' WHERE id = 1", want: []string{"quoted-column"}},
		{sql: `UPDATE visit SET note = "moored" WHERE id = 1`, want: []string{"quoted-text"}},
		{sql: `UPDATE visit SET note = "closed" WHERE id = 1`},
	} {
		ch, err := change.Build(sqltext.SQLite, change.Spec{Name: "s", SQL: c.sql}, nil, func(string, string) (*change.Table, error) { return table(!c.nokey), nil })
		if err != nil {
			t.Fatalf("%s: %v", c.sql, err)
		}
		if c.method == "" {
			c.method = "sweep"
		}
		ch.Reads = c.reads
		var got []string
		for _, f := range Text(ch, c.method) {
			got = append(got, f.Code)
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s (%s): %v, want %v", c.sql, c.method, got, c.want)
		}
	}
}

func TestNoRowsNoFinding(t *testing.T) {
	ch := &change.Change{Step: "s", Table: table(true)}
	for _, code := range []string{"does-not-fit", "unique-collision", "ambiguous-source", "cascade", "referenced", "trigger", "null-key"} {
		if _, ok := Rows(ch, code, 0, "a", "b", "c"); ok {
			t.Errorf("%s is found in no rows", code)
		}
		if f, ok := Rows(ch, code, 3, "a", "b", "c"); !ok || f.Rows != 3 || f.Text == "" {
			t.Errorf("%s: %+v", code, f)
		}
	}
}

// TestLeftToRight: on MariaDB alone, and only where the order matters.
func TestLeftToRight(t *testing.T) {
	for sql, want := range map[string]bool{
		"UPDATE visit SET dues = dues + 1, note = dues WHERE id > 0":       true,
		"UPDATE visit SET note = dues, dues = dues + 1 WHERE id > 0":       false,
		"UPDATE visit SET dues = closed, closed = dues WHERE id > 0":       true,
		"UPDATE visit SET dues = 1, note = visit.dues WHERE id > 0":        true,
		"UPDATE visit AS v SET v.dues = 1, v.note = concat('a', v.closed)": false,
	} {
		for _, d := range []sqltext.Dialect{sqltext.MariaDB, sqltext.SQLite} {
			if d == sqltext.SQLite && sql[:15] == "UPDATE visit AS" {
				continue
			}
			ch, err := change.Build(d, change.Spec{Name: "s", SQL: sql}, nil, func(string, string) (*change.Table, error) { return table(true), nil })
			if err != nil {
				t.Fatalf("%s: %v", sql, err)
			}
			found := slices.ContainsFunc(Text(ch, "sweep"), func(f Finding) bool { return f.Code == LeftToRight && f.Level == Refusal })
			if found != (want && d == sqltext.MariaDB) {
				t.Errorf("%v: %s: found %v", d, sql, found)
			}
		}
	}
}
