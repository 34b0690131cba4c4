package each

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/kind"
	"jugatum/internal/list"
)

func ptr(s string) *string { return &s }

func inOrder(_ string, m any) []string {
	var out []string
	for k := range m.(map[string]string) {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func TestRead(t *testing.T) {
	for _, x := range []struct {
		name string
		keys Keys
		want string
	}{
		{"a file", Keys{Each: "a.csv", Call: ptr("CALL f(:x)")}, "a.csv CALL f(:x) map[]"},
		{"a query", Keys{Each: map[string]any{"sql": "SELECT 1 AS x"}, Call: ptr("CALL f(:x)"), Types: map[string]string{"x": "date"}}, "the query CALL f(:x) map[x:date]"},
		{"no list", Keys{Call: ptr("CALL f(:x)")}, ": each is missing: the file with the list"},
		{"no statement", Keys{Each: "a.csv"}, ": call is missing: the statement for each line"},
		{"an empty query", Keys{Each: map[string]any{"sql": " "}, Call: ptr("x")}, "each: each: sql is empty"},
		{"another table", Keys{Each: map[string]any{"sql": "SELECT 1", "x": 1}, Call: ptr("x")}, `each: each: expected a file's name, or { sql = "SELECT …" }`},
		{"a number", Keys{Each: int64(3), Call: ptr("x")}, `each: each: expected a file's name, or { sql = "SELECT …" }`},
		{"no such type", Keys{Each: "a.csv", Call: ptr("CALL f(:x)"), Types: map[string]string{"x": "int"}}, `types.x: types.x: "int" is not a type; use text, integer, decimal, boolean, date or timestamp`},
		{"a bad format", Keys{Each: "a.csv", Call: ptr("CALL f(:x)"), Written: list.Keys{Decimal: ptr(";")}}, `decimal: decimal: ";" is not . or ,`},
	} {
		s, field, err := x.keys.Read(inOrder)
		got := ""
		if err != nil {
			got = field + ": " + err.Error()
		} else {
			e := s.(*Step)
			got = fmt.Sprint(e.From.Name(), " ", e.Call, " ", e.Types)
		}
		if got != x.want {
			t.Errorf("%s: %s, want %s", x.name, got, x.want)
		}
	}
}

// TestLayout: columns of a list are held against the parameters of the statement, and values against
// their types.
func TestLayout(t *testing.T) {
	told := map[string]*change.Column{"n": {Type: "integer", Class: change.Number}, "word": {Type: "varchar(3)", Class: change.Text, Length: 3}, "raw": {Type: "bytea", Holds: change.Bytes}}
	for _, x := range []struct{ call, types, names, line, want string }{
		{"CALL f(:n, :word)", "", "word,x,n", "abc|y|007", "[7 abc 007]"},
		{"CALL f(:n, :word)", "", "word,n", "abcd|1", `column word: "abcd" has 4 characters, there is room for 3`},
		{"CALL f(:n)", "", "n", "1.5", `column n: "1.5" is not a whole number`},
		{"CALL f(:n)", "n=text", "n", "1.5", "[7 1.5]"},
		{"CALL f(:raw)", "", "raw", `\x0g`, `column raw: after \x, expected bytes in hexadecimal`},
		{"CALL f(:raw)", "", "raw", `\x0a`, `[7 \x0a]`},
		{"CALL f(:a)", "a=boolean", "a", "yes", `column a: "yes" is not true or false`},
		{"CALL f(:a)", "a=boolean", "a", "true", "[7 true]"},
		{"CALL f(:a)", "a=date", "a", "2.1.2026", `column a: "2.1.2026" is not a date such as 2026-11-28`},
		{"CALL f(:a)", "a=timestamp", "a", "2026-01-02 03:04:05.1234567", "has more than 6 digits after the seconds"},
		{"CALL f(:a)", "a=decimal", "a", "1.2345", "[7 1.2345]"},
		{"CALL f(:a, :season)", "", "a", "NULL", "[7 <nil>]"},
		{"CALL f(:season)", "", "a", "1", "has no parameter that is a column of a.csv (a)"},
		{"CALL f(:season)", "", "season", "1", ":season could be the column of a.csv or the job's parameter"},
		{"CALL f(:b)", "", "a", "1", `a.csv has no column "b" for :b`},
		{"CALL f(:a)", "z=text", "a", "1", `a.csv has no column "z"`},
	} {
		s := &Step{From: list.Source{File: "a.csv"}, Call: x.call, Types: map[string]change.ValueType{}}
		if name, typ, ok := strings.Cut(x.types, "="); ok {
			s.Types[name] = change.ValueType(typ)
		}
		call, err := s.Statement(dialect.PostgreSQL, "step")
		if err != nil {
			t.Fatal(err)
		}
		l, err := s.Layout(dialect.PostgreSQL, "step", call, told, map[string]change.Value{"season": {}}, strings.Split(x.names, ","))
		var row []any
		if err == nil {
			line := list.Line{At: 7}
			for _, v := range strings.Split(x.line, "|") {
				if v == "NULL" {
					line.Values = append(line.Values, nil)
				} else {
					line.Values = append(line.Values, &v)
				}
			}
			row, err = l.Row("a.csv", line)
		}
		got := fmt.Sprint(row)
		if err != nil {
			if got = err.Error(); strings.Contains(got, x.want) {
				got = x.want
			}
		}
		if got != x.want {
			t.Errorf("%s, %s: %s, want %s", x.call, x.line, got, x.want)
		}
	}
}

// TestCallQuery: values stand where the parameters did, as declared or as they are; what comes back
// has a variable.
func TestCallQuery(t *testing.T) {
	s := &Step{Call: "CALL h.f(:a, (:b), NULL, :a, :season)", Types: map[string]change.ValueType{"b": change.DecimalValue}}
	for _, x := range []struct {
		d    change.Dialect
		want string
	}{
		{dialect.PostgreSQL, "CALL h.f($1, (CAST($2 AS numeric)), NULL, $3, $4) [x 1.50 x s]"},
		{dialect.MariaDB, "CALL h.f(?, (CAST(? AS DECIMAL(3,2))), @jugatum_3, ?, ?) [x 1.50 x s]"},
		{dialect.SQLite, "CALL h.f(?, (?), NULL, ?, ?) [x 1.5 x s]"},
	} {
		c, err := s.Statement(x.d, "step")
		if err != nil {
			t.Fatal(err)
		}
		c.Columns = []string{"b", "a"}
		if x.d == dialect.MariaDB {
			c.Out = map[int]string{2: "told"}
		}
		q := c.CallQuery(x.d, []*string{ptr("1.50"), ptr("x")}, map[string]change.Value{"season": {Type: change.TextValue, Text: "s"}})
		if got := fmt.Sprint(q.String(), " ", q.Args); got != x.want {
			t.Errorf("%s: %s, want %s", x.d, got, x.want)
		}
	}
}

// TestParts: the step is one change of as many lines as the list has.
func TestParts(t *testing.T) {
	s := &Step{From: list.Source{File: "a.csv"}, Call: "CALL f(:a)"}
	if _, err := s.Parts(change.Spec{Name: "step"}, kind.Place{D: dialect.SQLite}); err == nil || !strings.Contains(err.Error(), "are not there any more") {
		t.Error(err)
	}
	l := change.NewCallList(dialect.SQLite, "a.csv", change.TableName{Name: "list_1"}, []string{"a"})
	l.Calls = "calls_1"
	parts, err := s.Parts(change.Spec{Name: "step"}, kind.Place{D: dialect.SQLite, List: l})
	if err != nil || len(parts) != 1 {
		t.Fatal(parts, err)
	}
	c, err := change.Build(dialect.SQLite, parts[0].Spec, nil, nil)
	if err != nil || c.Does() != "call" || c.Table != l.Table || c.Walked() != l.Table || len(c.Fragments()) == 0 {
		t.Errorf("%+v %v", c, err)
	}
	names := []string{}
	for _, col := range l.Layout(dialect.SQLite).Columns {
		names = append(names, col.Name)
	}
	if fmt.Sprint(names) != "[jugatum_line a]" {
		t.Error(names)
	}
}
