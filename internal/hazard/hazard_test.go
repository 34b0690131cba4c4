package hazard

import (
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
)

func visitTable(key bool) *change.Table {
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
		{sql: "UPDATE visit SET note = 'x' WHERE NULL = dues", want: []string{"equals-null"}},
		{sql: "UPDATE visit SET note = 'x' WHERE dues NOT IN (1, NULL)", want: []string{"equals-null"}},
		{sql: "UPDATE visit SET note = 'x' WHERE dues IN (1, NULL) AND NOT dues IS NULL"},
		{sql: "UPDATE visit SET note = 'x' WHERE dues IS NULL = 1 AND coalesce(NULL, dues) = 1"},
		{sql: "UPDATE visit SET note = CASE WHEN dues != NULL THEN 'x' END WHERE id = 1", want: []string{"equals-null"}},
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
		ch, err := change.Build(dialect.SQLite, change.Spec{Name: "s", SQL: c.sql}, nil, func(string, string) (*change.Table, error) { return visitTable(!c.nokey), nil })
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

// TestQuestions: what the rows are asked, what the answers come to, and which are
// asked where nothing is counted.
func TestQuestions(t *testing.T) {
	tb := visitTable(true)
	tb.Key.MayNull = true
	tb.Indexes = []change.Index{{Name: "by_note", Unique: true, Columns: []string{"note"}}, {Name: "by_part", Unique: true, Partial: true, Columns: []string{"note"}}, {Name: "by_dues", Unique: true, Columns: []string{"dues"}}}
	tb.ReferredBy = []change.ForeignKey{{Name: "a", Table: "x", OnDelete: "CASCADE", OnUpdate: "CASCADE", Columns: []string{"v"}, Parent: []string{"id"}},
		{Name: "b", Table: "y", OnDelete: "SET NULL", OnUpdate: "NO ACTION", Columns: []string{"v"}, Parent: []string{"note"}}, {Name: "c", Table: "z", OnDelete: "RESTRICT", OnUpdate: "RESTRICT", Columns: []string{"v"}, Parent: []string{"id"}}}
	tb.Triggers = []change.Trigger{{Name: "t1", Events: "after update", Update: true}, {Name: "t2", Events: "after delete", Delete: true}}
	for _, x := range []struct {
		sql     string
		method  string
		changes int64
		keep    bool
		want    string // code, and the text for three rows
	}{
		{"DELETE FROM visit WHERE id = 1", "sweep", 3, true, "null-key: 3 rows have NULL|cascade: 3 rows of x go with them (on delete cascade)|cascade: 3 rows of y lose their reference|referenced: 3 rows of z refer to rows concerned (restrict)|trigger: trigger t2 (after delete) fires for 3 rows"},
		{"DELETE FROM visit WHERE id = 1", "single", -1, true, "cascade: rows of x go|cascade: rows of y lose"},
		{"UPDATE visit SET note = 'x' WHERE id = 1", "sweep", 3, true, "null-key: 3 rows|unique-collision: 3 values of the unique index by_note|referenced: 3 rows of y refer to rows concerned (no action)|trigger: trigger t1"},
		{"UPDATE visit SET id = 5 WHERE id = 1", "single", 1, true, "unique-collision: 3 values of the unique index|cascade: 3 rows of x change with them|referenced: 3 rows of z|trigger: trigger t1"},
		{"UPDATE visit SET closed = o.n FROM other o", "single", 1, true, "ambiguous-source: for 3 rows there are several|trigger: trigger t1"},
		{"UPDATE visit SET closed = o.n FROM other o", "single", -1, true, ""},
		{"UPDATE visit SET closed = o.n FROM other o", "single", -1, false, "ambiguous-source: for rows there are several"},
		{"UPDATE visit SET closed = 1", "single", 0, true, "trigger: trigger t1"},
	} {
		ch, err := change.Build(dialect.SQLite, change.Spec{Name: "s", SQL: x.sql}, nil, func(string, string) (*change.Table, error) { return tb, nil })
		if err != nil {
			t.Fatalf("%s: %v", x.sql, err)
		}
		var got []string
		for _, q := range Questions(ch, x.method, x.changes, x.keep) {
			if q.From != nil && !strings.HasPrefix(q.From.String(), " FROM ") {
				t.Errorf("%s: %s", x.sql, q.From)
			}
			rows := int64(3)
			if x.changes < 0 {
				rows = -1
			}
			f, ok := q.Finding(rows)
			if _, none := q.Finding(0); !ok || none || f.Step != "s" || f.Rows != rows {
				t.Errorf("%s: %+v", x.sql, f)
			}
			got = append(got, f.Code+": "+f.Text)
		}
		want := strings.Split(x.want, "|")
		if x.want == "" {
			want = nil
		}
		if len(got) != len(want) {
			t.Errorf("%s: %q", x.sql, got)
			continue
		}
		for i := range want {
			if !strings.HasPrefix(got[i], want[i]) {
				t.Errorf("%s: %q, want %q", x.sql, got[i], want[i])
			}
		}
	}
}

// TestDocs: the docs list every code, mark those that a person may override, and
// list no other.
func TestDocs(t *testing.T) {
	text, err := os.ReadFile("../../docs/guide.md")
	if err != nil {
		t.Fatal(err)
	}
	listed := map[string]bool{}
	begun := false
	for line := range strings.Lines(string(text)) {
		cells := strings.Split(line, "|")
		begun = begun || strings.HasPrefix(line, "| code | means |")
		if !begun || len(cells) < 4 {
			if begun && len(listed) > 0 {
				break
			}
			continue
		}
		for _, m := range regexp.MustCompile("`([a-z-]+)`").FindAllStringSubmatch(cells[1], -1) {
			listed[m[1]] = true
			if strings.Contains(cells[1], "*") != Liftable(m[1]) {
				t.Errorf("%s: the docs and the table do not agree on whether it can be overridden", m[1])
			}
		}
	}
	for _, h := range slices.Concat(table, calls) {
		if !listed[h.Code] {
			t.Errorf("%s is not in the docs", h.Code)
		}
		if h.found != nil && h.asked != nil {
			t.Errorf("%s is found in two ways", h.Code)
		}
	}
	for _, h := range slices.Concat(table, calls) { // the same code again
		delete(listed, h.Code)
	}
	for code := range listed {
		t.Errorf("the docs list %s, which there is not", code)
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
		for _, d := range []change.Dialect{dialect.MariaDB, dialect.SQLite} {
			if d == dialect.SQLite && sql[:15] == "UPDATE visit AS" {
				continue
			}
			ch, err := change.Build(d, change.Spec{Name: "s", SQL: sql}, nil, func(string, string) (*change.Table, error) { return visitTable(true), nil })
			if err != nil {
				t.Fatalf("%s: %v", sql, err)
			}
			found := slices.ContainsFunc(Text(ch, "sweep"), func(f Finding) bool { return f.Code == LeftToRight && f.Level == Refusal })
			if found != (want && d == dialect.MariaDB) {
				t.Errorf("%v: %s: found %v", d, sql, found)
			}
		}
	}
}
