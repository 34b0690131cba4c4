package job_test

import (
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/job"
)

// TestBegin: every file to begin with is a job, with a table or without; what is commented out in it
// is one as well; a name that could be more than a name is refused.
func TestBegin(t *testing.T) {
	all := []change.Dialect{dialect.SQLite, dialect.PostgreSQL, dialect.MariaDB}
	id := &change.Column{Name: "id", Type: "bigint", Class: change.Number}
	visit := &change.Table{Name: "visit", Columns: []*change.Column{id, {Name: "dues", Type: "numeric(10,2)", Class: change.Number}, {Name: "note", Type: "text", Class: change.Text}, {Name: "Left at", Type: "timestamp"}}, Key: &change.Key{Columns: []*change.Column{id}}}
	keyless := &change.Table{Schema: "books", Name: "Odd one", Columns: visit.Columns}
	for _, kind := range job.Beginnings {
		for name, tb := range map[string]*change.Table{"none": nil, "visit": visit, "keyless": keyless} {
			text, err := job.Begin(kind, tb, dialect.SQLite)
			if err != nil {
				t.Fatalf("%s, %s: %v", kind, name, err)
			}
			j, err := job.Parse(kind+".toml", []byte(text))
			if err != nil {
				t.Errorf("%s, %s: %v\n%s", kind, name, err, text)
				continue
			}
			if c := j.Check(all); len(c.Faults) > 0 || len(j.Steps) != 1 {
				t.Errorf("%s, %s: %v\n%s", kind, name, c.Faults, text)
			}
			if tb != nil && !strings.Contains(text, "Left at timestamp") && kind != "each" {
				t.Errorf("%s, %s: the columns are not told\n%s", kind, name, text)
			}
			// What may be used is right where it stands.
			for _, line := range []string{"# expect =", "# [keep]", "# days =", "# log_rate =", "# window  ", "# pick ", "# match_as", "# skip =", "# absent ", "# separator", "# decimal", "# date ", "# same_as", "# nulls", "# stays", "# blanks", "# twice"} {
				open := strings.Replace(text, "\n"+line, "\n"+strings.TrimPrefix(line, "# "), 1)
				if line == "# days =" {
					open = strings.Replace(open, "\n# [keep]", "\n[keep]", 1)
				}
				if strings.HasPrefix(line, "# pick") && strings.Contains(text, "# match_as") {
					continue // needs the column that it names
				}
				if _, err := job.Parse(kind+".toml", []byte(open)); err != nil {
					t.Errorf("%s, %s, with %s: %v", kind, name, line, err)
				}
			}
		}
	}
	if _, err := job.Begin("updates", nil, dialect.SQLite); err == nil || !strings.Contains(err.Error(), `did you mean "update"`) {
		t.Error(err)
	}
	for _, bad := range []string{"x\n[[step]]\nsql = 'DELETE FROM visit'", "x\"y", `x\y`, "x'''y", "x\x1b[31m"} {
		hostile := &change.Table{Name: "visit", Columns: []*change.Column{id, {Name: bad, Type: "text", Class: change.Text}}, Key: visit.Key}
		if text, err := job.Begin("update", hostile, dialect.SQLite); err == nil {
			t.Errorf("%q:\n%s", bad, text)
		}
	}
	bare := &change.Table{Name: "visit", Columns: []*change.Column{id, {Name: "dues", Type: "integer", Class: change.Number}}, Key: visit.Key}
	if _, err := job.Begin("replace", bare, dialect.SQLite); err == nil {
		t.Error("a text is to be replaced where there is none")
	}
	if _, err := job.Begin("update", &change.Table{Name: "visit", Columns: []*change.Column{id}, Key: visit.Key}, dialect.SQLite); err == nil {
		t.Error("a table that is all key has nothing to change")
	}
}
