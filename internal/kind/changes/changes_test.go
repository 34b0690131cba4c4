package changes

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/kind"
	"jugatum/internal/list"
	"jugatum/internal/sqltext"
)

// berths is the table that the cases have lists for.
func berths() *change.Table {
	number := func(name, typ string) *change.Column {
		return &change.Column{Name: name, Type: typ, Base: "numeric", Class: change.Number}
	}
	t := &change.Table{Schema: "harbour", Name: "berth", Columns: []*change.Column{
		number("berth_no", "integer"), {Name: "code", Type: "varchar(20)", Class: change.Text, Length: 20}, number("day_rate", "numeric(8,2)"),
		{Name: "closed_on", Type: "date", Base: "date"}, {Name: "plan", Type: "bytea", Holds: change.Bytes}, number("total", "integer")}}
	t.Columns[0].NotNull, t.Columns[5].Generated = true, true
	t.Key = &change.Key{Name: "primary key", Columns: t.Columns[:1], Integer: true}
	t.Indexes = []change.Index{{Name: "by_code", Columns: []string{"code"}, Unique: true}, {Name: "some", Columns: []string{"day_rate"}, Unique: true, Partial: true}}
	return t
}

func text(s string) *string { return &s }

// inOrder lists the keys of a table by the alphabet.
func inOrder(_ string, m any) (out []string) {
	switch m := m.(type) {
	case map[string]any:
		out = slices.Sorted(maps.Keys(m))
	case map[string]string:
		out = slices.Sorted(maps.Keys(m))
	}
	return out
}

func TestRead(t *testing.T) {
	for _, x := range []struct {
		name string
		keys Keys
		want string // the step, or what the error says after the key in which it is
	}{
		{"all lines alike", Keys{Changes: "a.csv", Action: "update"}, "update  map[] report report"},
		{"a column says so", Keys{Changes: "a.csv", Action: map[string]any{"column": "op"}}, " op map[delete:delete insert:insert update:update upsert:upsert] report report"},
		{"in other words", Keys{Changes: "a.csv", Action: map[string]any{"column": "op", "N": "insert", "X": "delete"}}, " op map[N:insert X:delete] report report"},
		{"what is made where it is absent", Keys{Changes: "a.csv", Action: "update", Absent: text("insert")}, "upsert  map[] insert report"},
		{"what is changed where it is present", Keys{Changes: "a.csv", Action: map[string]any{"column": "op", "N": "insert", "X": "delete"}, Present: text("update")}, " op map[N:upsert X:delete] report update"},
		{"no file", Keys{Action: "update"}, ": changes is missing: the file with the list"},
		{"an empty name", Keys{Changes: " ", Action: "update"}, "changes: changes is empty; it names a file, or is - for the standard input"},
		{"no action", Keys{Changes: "a.csv"}, `: action is missing: "insert", "update", "delete", "upsert", or { column = "…" } where a column of the file says so`},
		{"no such action", Keys{Changes: "a.csv", Action: "replace"}, `action: action: "replace" is not insert, update, delete or upsert`},
		{"no such word", Keys{Changes: "a.csv", Action: map[string]any{"column": "op", "N": "new"}}, `action.N: action.N: "new" is not insert, update, delete or upsert`},
		{"no column", Keys{Changes: "a.csv", Action: map[string]any{"N": "insert"}}, "action: action: column is missing, the column of the file that says what becomes of a line"},
		{"a number", Keys{Changes: "a.csv", Action: 3}, `action: action: expected a text, or { column = "…" }`},
		{"an empty key", Keys{Changes: "a.csv", Action: "update", Key: []string{}}, "key: key is empty; leave it out for the table's own key"},
		{"absent what is made", Keys{Changes: "a.csv", Action: "insert", Absent: text("fail")}, "absent: absent has no meaning where every line is to insert"},
		{"absent what is to go", Keys{Changes: "a.csv", Action: "delete", Absent: text("insert")}, "absent: absent: insert has no meaning where every line is to delete"},
		{"no such case", Keys{Changes: "a.csv", Action: "update", Absent: text("update")}, `absent: absent: "update" is not report, fail or insert`},
		{"a long separator", Keys{Changes: "a.csv", Action: "update", Written: list.Keys{Separator: text("::")}}, `separator: separator: expected one character, not "::"`},
		{"an odd decimal", Keys{Changes: "a.csv", Action: "update", Written: list.Keys{Decimal: text(";")}}, `decimal: decimal: ";" is not . or ,`},
		{"no date", Keys{Changes: "a.csv", Action: "update", Written: list.Keys{Date: text("dd.mm.yyyy")}}, `date: date: "dd.mm.yyyy" does not say how a date is written; write 2 January 2006 so: "02.01.2006"`},
	} {
		s, field, err := x.keys.read(inOrder)
		got := fmt.Sprintf("%s: %v", field, err)
		if err == nil {
			got = fmt.Sprint(s.Action, " ", s.By, " ", s.Words, " ", s.Absent, " ", s.Present)
		}
		if got != x.want {
			t.Errorf("%s: got %s\nexpected %s", x.name, got, x.want)
		}
	}
}

// TestLayout: which column of a file goes where, and what is wrong with one.
func TestLayout(t *testing.T) {
	for _, x := range []struct {
		name  string
		step  Step
		names string
		want  string // the key, the others and those that SQL alone asks for, or what the error says
	}{
		{"the table's own names", Step{Action: Update}, "day_rate,berth_no", "berth_no | day_rate |"},
		{"whatever the case", Step{Action: Update}, "Day_Rate,BERTH_NO", "berth_no | day_rate |"},
		{"other names", Step{Action: Update, Columns: map[string]string{"rate": "day_rate"}}, "berth_no,rate", "berth_no | day_rate |"},
		{"another key", Step{Action: Update, Key: []string{"code"}}, "code,berth_no", "code | berth_no |"},
		{"what SQL asks for", Step{Action: Update, Set: []change.Field{{Name: "day_rate", Expr: "day_rate * line.factor"}}}, "berth_no,factor", "berth_no |  | factor"},
		{"what says what becomes of a line", Step{By: "op", Words: map[string]Action{"X": Delete}}, "op,berth_no", "berth_no |  |"},
		{"no such column", Step{Action: Update}, "berth_no,rates", `changes: a.csv has a column "rates", which table harbour.berth has not; name the one that is meant: columns = { rates = "…" }, or leave it out of the file`},
		{"no key", Step{Action: Update}, "day_rate", `changes: a.csv has no column for berth_no, which is part of the key; it has day_rate. Name the one that is meant: columns = { NAME = "berth_no" }, or other unique columns: key = ["…"]`},
		{"not unique", Step{Action: Update, Key: []string{"day_rate"}}, "day_rate", "key: two rows of harbour.berth may have the same day_rate: there is no unique index over just these columns, so that a line could mean several rows"},
		{"no such key", Step{Action: Update, Key: []string{"cod"}}, "code", `key: table harbour.berth has no column "cod"; did you mean "code"?`},
		{"no such action", Step{By: "op", Words: map[string]Action{"X": Delete}}, "berth_no,ops", `action.column: a.csv has no column "op"; did you mean "ops"?`},
		{"computed", Step{Action: Update}, "berth_no,total", "changes: column harbour.berth.total is computed by the database and cannot be assigned"},
		{"two for one", Step{Action: Update, Columns: map[string]string{"rate": "day_rate"}}, "berth_no,rate,day_rate", `changes: columns "rate" and "day_rate" of a.csv are both for harbour.berth.day_rate`},
		{"no such column of a line", Step{Action: Update, Set: []change.Field{{Name: "day_rate", Expr: "line.rate"}}}, "berth_no,code", `set: a line has no column "rate"; columns for the table are called as they are there: berth_no, code`},
		{"what every row must have", Step{Action: Insert, Key: []string{"code"}}, "code", "changes: a.csv has no column for berth_no, which cannot be NULL and has no default: no row could be made"},
		{"an expression for a row that is not there", Step{Action: Upsert, Set: []change.Field{{Name: "day_rate", Expr: "1"}}}, "berth_no", "set: a line that makes a row has no row yet that an expression could be over: set goes with updates alone; let the file have a column for it, or the table a default"},
	} {
		x.step.From.File = "a.csv"
		l, err := x.step.Layout(dialect.PostgreSQL, "step", berths(), strings.Split(x.names, ","))
		got := ""
		if err != nil {
			got = strings.TrimPrefix(err.Error(), `step "step": `)
		} else {
			names := func(cs []*change.Column) (out []string) {
				for _, c := range cs {
					out = append(out, c.Name)
				}
				return out
			}
			got = strings.Trim(strings.Join(names(l.Key), ",")+" | "+strings.Join(names(l.Others), ",")+" | "+strings.Join(l.Extra, ","), " ")
		}
		if got != x.want {
			t.Errorf("%s: got %s\nexpected %s", x.name, got, x.want)
		}
	}
}

// TestRow: a line as the table of the list has it.
func TestRow(t *testing.T) {
	s := Step{From: list.Source{File: "a.csv"}, By: "op", Words: map[string]Action{"C": Update, "X": Delete}, Format: list.Format{Decimal: ',', Date: "02.01.2006"}}
	names := []string{"op", "closed_on", "berth_no", "day_rate", "plan"}
	l, err := s.Layout(dialect.PostgreSQL, "step", berths(), names)
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range []struct{ fields, want string }{
		{"C|31.12.2026|7|12,50|\\x00ff", "[9 update <nil> 7 2026-12-31 12.50 [0 255]]"},
		{"X|NULL|7|NULL|text", "[9 delete <nil> 7 <nil> <nil> text]"},
		{"N|NULL|7|NULL|NULL", `a.csv:9: column op: "N" does not say what becomes of the line; expected C, X`},
		{"NULL|NULL|7|NULL|NULL", "a.csv:9: column op: NULL does not say what becomes of the line"},
		{"C|NULL|NULL|NULL|NULL", "a.csv:9: column berth_no: NULL, and no row has that in its key"},
		{"C|NULL|7|12.50|NULL", `a.csv:9: column day_rate: "12.50" is not a number with a decimal ","`},
		{"C|NULL|7|1,005|NULL", `a.csv:9: column day_rate: "1,005" has more than 2 digits after the point, and would be rounded`},
		{"C|NULL|7|1|\\x0g", "a.csv:9: column plan: after \\x, expected bytes in hexadecimal: encoding/hex: invalid byte: U+0067 'g'"},
	} {
		line := list.Line{At: 9}
		for _, f := range strings.Split(x.fields, "|") {
			v := &f
			if f == "NULL" {
				v = nil
			}
			line.Values = append(line.Values, v)
		}
		row, err := l.Row("a.csv", line)
		got := fmt.Sprint(row)
		if err != nil {
			got = err.Error()
		}
		if got != x.want {
			t.Errorf("%s: got %s\nexpected %s", x.fields, got, x.want)
		}
	}
}

// TestParts: a step becomes what its lines can do, deletes first, and each part tells of those
// lines that no other carries out.
func TestParts(t *testing.T) {
	for _, x := range []struct {
		step Step
		want string
	}{
		{Step{Action: Update}, " update all missed no such key of all"},
		{Step{Action: Update, Absent: Fail}, " update all missed no such key of all, fail"},
		{Step{Action: Delete}, " delete all missed no such key of all"},
		{Step{Action: Insert}, " copy all missed key exists of all"},
		{Step{Action: Upsert}, ": insert copy all missed  of all; : update update all missed  of all"},
		{Step{By: "op", Words: map[string]Action{"a": Upsert, "b": Delete, "c": Update, "d": Insert}},
			": delete delete [delete] missed no such key of [delete]; : insert copy [insert upsert] missed key exists of [insert]; : update update [update upsert] missed no such key of [update]"},
	} {
		s := &x.step
		s.From.File = "a.csv"
		target := berths()
		names := []string{"berth_no", "day_rate"}
		if s.By != "" {
			names = append(names, s.By)
		}
		l, err := s.Layout(dialect.SQLite, "step", target, names)
		if err != nil {
			t.Fatal(err)
		}
		at := change.NewList("a.csv", change.TableName{Name: "lines"}, target, l.Key, l.Others, l.Extra)
		at.SQL = `"lines"`
		look := func(_, name string) (*change.Table, error) {
			return map[string]*change.Table{"lines": at.Table, "berth": target}[name], nil
		}
		parts, err := s.Parts(change.Spec{Name: "step", Table: "berth"}, kind.Place{D: dialect.SQLite, Tables: look, List: at})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		all := func(actions []string) string {
			if actions == nil {
				return "all"
			}
			return fmt.Sprint(actions)
		}
		for _, p := range parts {
			c, err := change.Build(dialect.SQLite, p.Spec, nil, look)
			if err != nil {
				t.Fatal(err)
			}
			does := c.Verb.String()
			if c.Verb == sqltext.Insert {
				does = "copy"
			}
			text := fmt.Sprintf("%s %s %s missed %s of %s", p.Name, does, all(c.Lines.Actions), c.Lines.Missed, all(c.Lines.Alone))
			if c.Lines.Fail {
				text += ", fail"
			}
			got = append(got, text)
		}
		if text := strings.Join(got, "; "); text != x.want {
			t.Errorf("got %s\nexpected %s", text, x.want)
		}
	}
	// A further line for a key comes in a turn of its own, of parts for the actions that are there.
	s := &Step{By: "op", Words: map[string]Action{"a": Upsert, "b": Delete}, InOrder: true}
	s.From.File = "a.csv"
	target := berths()
	first := change.NewList("a.csv", change.TableName{Name: "lines"}, target, target.Key.Columns, []*change.Column{target.Named("day_rate")}, nil)
	second := *first
	second.Turn, second.Has, second.SQL = 1, []string{"delete"}, `"second"`
	first.SQL, first.Later = `"lines"`, []*change.List{&second}
	parts, err := s.Parts(change.Spec{Name: "step", Table: "berth"}, kind.Place{D: dialect.SQLite, Tables: func(_, _ string) (*change.Table, error) { return target, nil }, List: first})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, p := range parts {
		got = append(got, p.Name+" of "+p.Spec.Lines.SQL)
	}
	if text := strings.Join(got, "; "); text != `: delete of "lines"; : insert of "lines"; : update of "lines"; : delete, turn 2 of "second"` {
		t.Error(text)
	}
	if _, err := (&Step{Action: Update, From: list.Source{File: "a.csv"}}).Parts(change.Spec{Name: "step", Table: "berth"}, kind.Place{D: dialect.SQLite, Tables: func(_, _ string) (*change.Table, error) { return berths(), nil }}); err == nil || !strings.Contains(err.Error(), "the lines of a.csv are not there any more") {
		t.Error(err)
	}
}
