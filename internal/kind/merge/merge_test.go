package merge

import (
	"fmt"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/kind"
)

func ptr(s string) *string { return &s }

// TestRead: what is written otherwise than it can be is a fault at its key; what is left out has a
// meaning that is told in the docs.
func TestRead(t *testing.T) {
	for _, x := range []struct {
		name string
		keys Keys
		want string
	}{
		{"the least", Keys{Merge: []string{"name"}}, "{By:[name] SameAs:exact Nulls:false Stays: Fill:false Also:[] Drop:false}"},
		{"all", Keys{Merge: []string{"a", "b"}, SameAs: ptr("folded"), Nulls: ptr("equal"), Stays: ptr(" id DESC "), Blanks: ptr("fill"), Also: []string{"x.y"}, Twice: ptr("merge")}, "{By:[a b] SameAs:folded Nulls:true Stays:id DESC Fill:true Also:[x.y] Drop:true}"},
		{"no columns", Keys{Stays: ptr("id")}, "merge: merge is missing or empty: the columns in which rows are the same that are to become one"},
		{"a column twice", Keys{Merge: []string{"a", "a"}}, `merge: merge names "a" twice`},
		{"no such form", Keys{Merge: []string{"a"}, SameAs: ptr("Folded")}, `same_as: same_as: "Folded" is not exact, trimmed or folded`},
		{"no such word", Keys{Merge: []string{"a"}, Nulls: ptr("same")}, `nulls: nulls: "same" is not apart or equal`},
		{"no such word", Keys{Merge: []string{"a"}, Blanks: ptr("keep")}, `blanks: blanks: "keep" is not leave or fill`},
		{"no such word", Keys{Merge: []string{"a"}, Twice: ptr("")}, `twice: twice: "" is not refuse or merge`},
		{"an empty order", Keys{Merge: []string{"a"}, Stays: ptr(" ")}, "stays: stays is empty; it is an order, of which the first row stays. Leave it out for that of the key"},
	} {
		s, field, err := x.keys.Read(nil)
		got := ""
		if err != nil {
			got = field + ": " + err.Error()
		} else {
			got = fmt.Sprintf("%+v", *s.(*Step))
		}
		if got != x.want || !x.keys.Used() {
			t.Errorf("%s: got %s\nexpected %s", x.name, got, x.want)
		}
	}
	if (Keys{}).Used() {
		t.Error("no key is there")
	}
}

func column(name, typ string, class change.Class) *change.Column {
	return &change.Column{Name: name, Type: typ, Base: typ, Class: class}
}

// tables are a vessel, and tables that refer to it.
func tables() map[string]*change.Table {
	id := func() *change.Column { return column("id", "bigint", change.Number) }
	keyed := func(name string, key []*change.Column, others ...*change.Column) *change.Table {
		return &change.Table{Name: name, Key: &change.Key{Name: "primary key", Columns: key}, Columns: append(key[:len(key):len(key)], others...)}
	}
	one := func(c ...*change.Column) []*change.Column { return c }
	vessel := keyed("vessel", one(id()), column("name", "text", change.Text), column("code", "varchar(9)", change.Text), column("crew", "integer", change.Number), &change.Column{Name: "seen", Type: "bytea", Binary: true})
	visit := keyed("visit", one(id()), column("vessel_id", "bigint", change.Number))
	stamp := keyed("stamp", one(column("vessel_id", "bigint", change.Number), column("tag", "text", change.Text)), column("no", "integer", change.Number))
	stamp.Indexes = []change.Index{{Name: "by_no", Columns: []string{"vessel_id", "no"}, Unique: true}, {Name: "some", Columns: []string{"vessel_id", "tag", "no"}, Unique: true, Partial: true}, {Name: "plain", Columns: []string{"vessel_id"}}}
	tariff := keyed("tariff", one(id()), column("code", "varchar(9)", change.Text))
	loose := &change.Table{Name: "loose", Columns: one(column("vessel_id", "bigint", change.Number))}
	vessel.ReferredBy = []change.ForeignKey{
		{Name: "f1", Table: "visit", Columns: []string{"vessel_id"}, Parent: []string{"id"}, OnDelete: "CASCADE"},
		{Name: "f2", Table: "stamp", Columns: []string{"vessel_id"}, Parent: []string{"id"}},
		{Name: "f3", Table: "tariff", Columns: []string{"code"}, Parent: []string{"code"}},
	}
	return map[string]*change.Table{"vessel": vessel, "visit": visit, "stamp": stamp, "tariff": tariff, "loose": loose}
}

// TestResolve: references are found, with the unique keys that they are part of and the columns to
// which they refer; and what cannot be carried out is told with its reason.
func TestResolve(t *testing.T) {
	for _, x := range []struct {
		name string
		step Step
		with func(all map[string]*change.Table)
		want string
	}{
		{"references", Step{By: []string{"Name"}, SameAs: Exact}, nil, "name; watched name, code; visit (vessel_id), stamp (vessel_id) unique vessel_id+tag, vessel_id+no, tariff (code)"},
		{"two in one unique index", Step{By: []string{"name"}, SameAs: Exact, Also: []string{"stamp.no", "visit.vessel_id"}}, nil,
			`also: references of stamp (no) cannot be moved to the row that stays: the unique index over vessel_id, no has two references to vessel in it, and rows could come to stand twice by both of them`},
		{"named although it is declared", Step{By: []string{"name"}, SameAs: Exact, Also: []string{"visit.vessel_id"}}, nil, "name; watched name, code; visit (vessel_id), stamp (vessel_id) unique vessel_id+tag, vessel_id+no, tariff (code)"},
		{"rows that stand twice go", Step{By: []string{"name"}, SameAs: Exact, Drop: true}, nil, "name; watched name, code; visit (vessel_id), stamp (vessel_id) unique vessel_id+tag, vessel_id+no drop, tariff (code)"},
		{"no such column", Step{By: []string{"nam"}, SameAs: Exact}, nil, `merge: table vessel has no column "nam"; did you mean "name"?`},
		{"the key", Step{By: []string{"id"}, SameAs: Exact}, nil, "merge: no two rows of vessel have the same id, which is its key"},
		{"a column twice", Step{By: []string{"name", "NAME"}, SameAs: Exact}, nil, "merge: column vessel.name is named twice"},
		{"bytes", Step{By: []string{"seen"}, SameAs: change.Folded}, nil, `merge: vessel.seen holds bytes, which have no form but their own; use same_as = "exact"`},
		{"no text", Step{By: []string{"crew"}, SameAs: change.Folded}, nil, "same_as: none of the columns holds texts, which alone have a form; leave same_as out"},
		{"no order", Step{By: []string{"name"}, SameAs: Exact, Stays: "id, 'x"}, nil, "stays: line 1, column 5: this string has no closing '"},
		{"no key", Step{By: []string{"name"}, SameAs: Exact}, func(all map[string]*change.Table) { all["vessel"].Key = nil }, "table: vessel has no primary key and no unique index over NOT NULL columns, by which one row could be told from another"},
		{"heirs", Step{By: []string{"name"}, SameAs: Exact}, func(all map[string]*change.Table) { all["vessel"].Heirs = []change.TableName{{Name: "tug"}} }, "table: other tables inherit from vessel, and rows of several tables cannot become one: name one table"},
		{"a reference to itself", Step{By: []string{"name"}, SameAs: Exact}, func(all map[string]*change.Table) { all["vessel"].ReferredBy[0].Table = "vessel" }, "table: rows of vessel refer to each other (f1), and one could come to refer to itself; a merge does not do that yet: clear these references first, or write the step in SQL"},
		{"a table without a key", Step{By: []string{"name"}, SameAs: Exact, Also: []string{"loose.vessel_id"}}, nil, "also: references of loose (vessel_id) cannot be moved to the row that stays: loose has no primary key and no unique index over NOT NULL columns, by which they could be put back"},
		{"policies", Step{By: []string{"name"}, SameAs: Exact}, func(all map[string]*change.Table) { all["visit"].Policies = true }, "table: references of visit (vessel_id) cannot be moved to the row that stays: row policies of visit may hide some"},
		{"of another type", Step{By: []string{"name"}, SameAs: Exact, Also: []string{"tariff.code"}}, nil, "also: references of tariff (code) cannot be moved to the row that stays: tariff.code and vessel.id are not of the same type"},
		{"no column", Step{By: []string{"name"}, SameAs: Exact, Also: []string{"visit"}}, nil, `also: "visit": expected a column that refers to vessel, as table.column`},
		{"no such column that refers", Step{By: []string{"name"}, SameAs: Exact, Also: []string{"visit.vesel_id"}}, nil, `also: table visit has no column "vesel_id"; did you mean "vessel_id"?`},
		{"what stands twice is referred to", Step{By: []string{"name"}, SameAs: Exact, Drop: true}, func(all map[string]*change.Table) {
			all["stamp"].ReferredBy = []change.ForeignKey{{Table: "seal", Columns: []string{"v"}, Parent: []string{"tag"}}}
		}, `table: references of stamp (vessel_id) cannot be moved to the row that stays: rows of stamp that stand twice would be deleted (twice = "merge"), and seal refers to them`},
	} {
		all := tables()
		if x.with != nil {
			x.with(all)
		}
		look := func(_, name string) (*change.Table, error) {
			if all[name] == nil {
				return nil, fmt.Errorf("there is no table %q", name)
			}
			return all[name], nil
		}
		m, ref, err := x.step.Resolve(change.Spec{Name: "step", Table: "vessel"}, dialect.PostgreSQL, look)
		got := ""
		if err != nil {
			got, _, _ = strings.Cut(strings.TrimPrefix(err.Error(), `step "step": `), "\n")
		} else {
			names := func(cols []*change.Column, sep string) string {
				var out []string
				for _, c := range cols {
					out = append(out, c.Name)
				}
				return strings.Join(out, sep)
			}
			var refers []string
			for _, r := range m.Refers {
				text := r.Name()
				for i, u := range r.Uniques {
					text += map[bool]string{true: " unique ", false: ", "}[i == 0] + names(u, "+")
				}
				if r.Drop && len(r.Uniques) > 0 {
					text += " drop"
				}
				refers = append(refers, text)
			}
			got = names(m.By, ", ") + "; watched " + names(m.Watched, ", ") + "; " + strings.Join(refers, ", ")
			if ref != `"vessel"` {
				t.Errorf("%s: called %s", x.name, ref)
			}
		}
		if got != x.want {
			t.Errorf("%s: got %s\nexpected %s", x.name, got, x.want)
		}
	}
}

// TestParts: the step is a delete of the rows that are written down, with the acts for what refers to
// them before it, and those that stay after.
func TestParts(t *testing.T) {
	all := tables()
	look := func(_, name string) (*change.Table, error) { return all[name], nil }
	at := &change.List{File: "vessel", SQL: `"lines"`, Table: &change.Table{Name: "lines"}}
	s := &Step{By: []string{"name"}, SameAs: Exact, Drop: true, Fill: true}
	spec := change.Spec{Name: "step", Table: "vessel", Where: "crew > 3 -- or more"}
	parts, err := s.Parts(spec, kind.Place{D: dialect.PostgreSQL, Tables: look, List: at})
	if err != nil {
		t.Fatal(err)
	}
	c, err := change.Build(dialect.PostgreSQL, parts[0].Spec, nil, look)
	if err != nil {
		t.Fatal(err)
	}
	if c.Does() != "merge" || c.EveryRow() || !strings.HasPrefix(c.Where.String(), "(crew > 3) AND EXISTS (SELECT 1 FROM \"lines\"") {
		t.Errorf("%s: %s", c.Does(), c.Where)
	}
	acts, err := c.Merge.Acts(c)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, a := range acts {
		got = append(got, a.Name()+" "+change.Role("merge", a.Change.Verb.String(), a.Stays))
	}
	if text := strings.Join(got, "; "); text != "update visit (vessel_id) moved; delete stamp (vessel_id) doubled; update stamp (vessel_id) moved; update tariff (code) moved; update vessel (code, crew, seen) filled" {
		t.Error(text)
	}
	x, err := change.NewCompound(c, acts, func(n int) string { return fmt.Sprint("list", n) })
	if err != nil {
		t.Fatal(err)
	}
	if x.Stays == nil || len(x.Parts) != 5 || x.Parts[4].Change.Set[1].Expr.Empty() || x.List.Table == x.Stays.List.Table {
		t.Errorf("%+v", x)
	}
	if _, err := s.Parts(spec, kind.Place{D: dialect.PostgreSQL, Tables: look}); err == nil || !strings.Contains(err.Error(), "it is not known any more which rows of vessel are to become one") {
		t.Error(err)
	}
	// A trigger that could change what the merge moves is refused.
	all["visit"].Triggers = []change.Trigger{{Name: "t", Update: true, Text: "UPDATE vessel SET crew = 1"}}
	if _, err := c.Merge.Acts(c); err == nil || !strings.Contains(err.Error(), "trigger t of visit may change rows of vessel") {
		t.Error(err)
	}
}
