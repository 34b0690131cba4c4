package move

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/kind"
	"jugatum/internal/sqltext"
)

// absent is the catalogue's error for a table that is not there.
type absent struct{ error }

func (absent) Absent() bool { return true }

// books are the tables that the cases know.
func books(schema, name string) (*change.Table, error) {
	number := func(name string) *change.Column {
		return &change.Column{Name: name, Type: "integer", Class: change.Number, NotNull: name == "id", Default: "7"}
	}
	t := &change.Table{Schema: "harbour", Name: name, Columns: []*change.Column{number("id"), number("fee"), {Name: "full", Type: "integer", Generated: true}}}
	t.Key = &change.Key{Name: "primary key", Columns: t.Columns[:1]}
	switch name {
	case "visit":
	case "archive":
		t.Columns = append(t.Columns, number("kept"))
	case "narrow":
		t.Columns = t.Columns[:1]
	case "loose": // unique by an index over a part of the rows alone
		t.Key = nil
		t.Indexes = []change.Index{{Name: "part", Columns: []string{"id"}, Unique: true, Partial: true}}
	case "unique":
		t.Key = nil
		t.Indexes = []change.Index{{Name: "all", Columns: []string{"id"}, Unique: true}}
	case "plain": // what is computed in the one is not in the other
		t.Columns = append(t.Columns[:2:2], number("full"))
	case "otherwise": // a key that compares in another way
		k := *t.Columns[0]
		k.Collation = "nocase"
		t.Columns[0] = &k
		t.Key.Columns = t.Columns[:1]
	case "nameless":
		t.Columns = t.Columns[1:]
	case "heap":
		t.Key = nil
	case "view":
		return nil, errors.New("a view")
	default:
		return nil, fmt.Errorf("looked up: %w", absent{errors.New("there is no such table")})
	}
	return t, nil
}

func text(s string) *string { return &s }

func step(to, present string) *Step {
	k := Keys{MoveTo: text(to)}
	if present != "" {
		k.Present = text(present)
	}
	s, _, err := k.Read(nil)
	if err != nil {
		panic(err)
	}
	return s.(*Step)
}

// TestRead: what is wrong with the keys, and where.
func TestRead(t *testing.T) {
	for _, x := range []struct {
		keys        Keys
		field, want string
	}{
		{Keys{Present: text("keep")}, "", "move_to or copy_to is missing"},
		{Keys{MoveTo: text("a"), CopyTo: text("b")}, "copy_to", "either move_to or copy_to"},
		{Keys{CopyTo: text("")}, "copy_to", "copy_to is empty"},
		{Keys{MoveTo: text(" ")}, "move_to", "is empty"},
		{Keys{MoveTo: text("a"), Present: text("drop")}, "present", "not fail, keep or replace"},
	} {
		if !x.keys.Used() {
			t.Errorf("%+v is not used", x.keys)
		}
		if _, field, err := x.keys.Read(nil); err == nil || field != x.field || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%+v: %q, %v", x.keys, field, err)
		}
	}
	if (Keys{}).Used() {
		t.Error("no keys are used")
	}
	s := step(" archive ", "")
	if s.To != "archive" || s.Present != Fail || s.Kind() != "move" {
		t.Errorf("%+v", s)
	}
	if up := s.Each(strings.ToUpper).(*Step); up.To != "ARCHIVE" || s.To != "archive" {
		t.Errorf("%+v, %+v", up, s)
	}
}

// TestParts: a move is one change, or two where rows may be in both tables.
func TestParts(t *testing.T) {
	for _, x := range []struct {
		to, present, where string
		want               []string // table and filter of each part
		lost, own          string
		made               bool
	}{
		{"archive", "", "fee > 3", []string{"visit: fee > 3"}, "[]", "[kept]", false},
		{"new_one", "", "", []string{"visit: "}, "[]", "[]", true},
		{"new_one", "replace", "", []string{"visit: "}, "[]", "[]", true},
		{"narrow", "", "", []string{"visit: "}, "[fee]", "[]", false},
		{"unique", "", "", []string{"visit: "}, "[]", "[]", false},
		{"archive", "keep", "fee > 3 OR fee = 0 -- all", []string{`visit: (fee > 3 OR fee = 0) AND EXISTS (SELECT 1 FROM "harbour"."archive" AS jugatum_i WHERE jugatum_i."id" = "visit"."id")`,
			`visit: (fee > 3 OR fee = 0) AND NOT EXISTS (SELECT 1 FROM "harbour"."archive" AS jugatum_i WHERE jugatum_i."id" = "visit"."id")`}, "[]", "[kept]", false},
		{"archive", "keep", "", []string{`visit: EXISTS (SELECT 1 FROM "harbour"."archive" AS jugatum_i WHERE jugatum_i."id" = "visit"."id")`,
			`visit: NOT EXISTS (SELECT 1 FROM "harbour"."archive" AS jugatum_i WHERE jugatum_i."id" = "visit"."id")`}, "[]", "[kept]", false},
		{"archive", "replace", "fee > 3", []string{`"harbour"."archive": EXISTS (SELECT 1 FROM visit WHERE "archive"."id" = "visit"."id" AND (fee > 3))`, "visit: fee > 3"}, "[]", "[kept]", false},
	} {
		parts, err := step(x.to, x.present).Parts(change.Spec{Name: "s", Table: "visit", Where: x.where}, kind.Place{D: dialect.PostgreSQL, Tables: books})
		if err != nil {
			t.Errorf("%+v: %v", x, err)
			continue
		}
		var got []string
		for _, p := range parts {
			got = append(got, p.Spec.Table+": "+p.Spec.Where)
			if !p.Spec.Delete {
				t.Errorf("%+v: %+v deletes nothing", x, p)
			}
		}
		if fmt.Sprintf("%q", got) != fmt.Sprintf("%q", x.want) {
			t.Errorf("%+v:\n%q", x, got)
		}
		last := parts[len(parts)-1]
		if into := last.Spec.Into; last.Name != "" || into == nil || fmt.Sprint(into.Lost) != x.lost || fmt.Sprint(into.Own) != x.own || into.Make != x.made || into.Cleared != (x.present == "replace" && !x.made) {
			t.Errorf("%+v: %+v", x, last)
		} else if into.Key[0].Name != "id" || into.Table.Schema != "harbour" {
			t.Errorf("%+v: key %v of %s", x, into.Key[0], into.Table)
		} else if x.made && (into.Table.Columns[0].Default != "" || into.Table.Named("full") != nil || into.Table.Key.Columns[0] != into.Table.Columns[0]) {
			t.Errorf("%+v: made as %+v", x, into.Table)
		}
		if x.where == "" && len(parts) > 1 && !last.Spec.Everywhere {
			t.Errorf("%+v: that there is no filter is not known any more", x)
		}
	}
}

// TestFaults: what cannot be moved, and which key says so.
func TestFaults(t *testing.T) {
	for _, x := range []struct{ table, to, present, where, field, want string }{
		{"visit", "loose", "", "", "move_to", "no unique key over (id)"},
		{"visit", "plain", "", "", "move_to", "computed by the database"},
		{"visit", "nameless", "", "", "move_to", "has no column id"},
		{"visit", "otherwise", "", "", "move_to", "other collations, the default and nocase"},
		{"visit", "visit", "", "", "move_to", "the table itself"},
		{"visit", "view", "", "", "move_to", "a view"},
		{"visit", "a b", "", "", "move_to", "not a table's name"},
		{"visit", "archive", "", "1 = 1) OR (1 = 1", "where", ""},
		{"heap", "archive", "", "", "table", "has no key"},
	} {
		_, err := step(x.to, x.present).Parts(change.Spec{Name: "s", Table: x.table, Where: x.where}, kind.Place{D: dialect.PostgreSQL, Tables: books})
		var fault *change.FieldError
		if !errors.As(err, &fault) || fault.Field != x.field || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%+v: %v", x, err)
		}
	}
}

// TestCopies: a copy is one change with an insert, and one before it where rows that are
// there give way.
func TestCopies(t *testing.T) {
	for present, want := range map[Present]string{Fail: "copy", Keep: "copy", Replace: ": already there delete, copy"} {
		s := &Step{To: "archive", Copy: true, Present: present}
		parts, err := s.Parts(change.Spec{Name: "s", Table: "visit", Where: "fee > 3"}, kind.Place{D: dialect.PostgreSQL, Tables: books})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, p := range parts {
			c, err := change.Build(dialect.PostgreSQL, p.Spec, nil, books)
			if err != nil {
				t.Fatal(err)
			}
			got = append(got, strings.TrimSpace(p.Name+" "+c.Does()))
			if c.Into != nil && (c.Verb != sqltext.Insert || !c.Into.Copied || strings.Contains(c.Where.String(), "NOT EXISTS") != (present == Keep)) {
				t.Errorf("%s: %v %+v", present, c.Verb, c.Where)
			}
		}
		if strings.Join(got, ", ") != want {
			t.Errorf("%s: %q, want %q", present, got, want)
		}
	}
}
