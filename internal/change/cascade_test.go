package change_test

import (
	"fmt"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
)

// family is a set of tables that refer to each other, each with a key id: "berth.quay_id >
// quay.id CASCADE" is a reference.
func family(d change.Dialect, references ...string) change.Catalogue {
	tables := map[string]*change.Table{}
	table := func(name string) *change.Table {
		if tables[name] == nil {
			id := &change.Column{Name: "id", Class: change.Number, NotNull: true}
			tables[name] = &change.Table{Name: name, Columns: []*change.Column{id}, Key: &change.Key{Name: "primary key", Columns: []*change.Column{id}}}
		}
		return tables[name]
	}
	column := func(text string) (*change.Table, string) {
		name, col, _ := strings.Cut(text, ".")
		t := table(name)
		if t.Named(col) == nil {
			t.Columns = append(t.Columns, &change.Column{Name: col, Class: change.Number})
		}
		return t, col
	}
	for i, r := range references {
		var child, parent, arrow, rule string
		fmt.Sscan(r, &child, &arrow, &parent)
		rule = r[strings.LastIndex(r, parent)+len(parent)+1:]
		c, col := column(child)
		p, key := column(parent)
		p.ReferredBy = append(p.ReferredBy, change.ForeignKey{Name: fmt.Sprint("f", i), Table: c.Name, Columns: []string{col}, Parent: []string{key}, OnDelete: rule, OnUpdate: rule})
	}
	return func(_, name string) (*change.Table, error) {
		if tables[name] == nil {
			return nil, fmt.Errorf("there is no %s", name)
		}
		return tables[name], nil
	}
}

func brings(t *testing.T, d change.Dialect, tables change.Catalogue, sql string) (*change.Change, []*change.Act, string) {
	t.Helper()
	c, err := change.Build(d, change.Spec{Name: "s", SQL: sql}, nil, tables)
	if err != nil {
		t.Fatal(err)
	}
	acts, why, err := change.Cascade(c, tables)
	if err != nil {
		t.Fatal(err)
	}
	return c, acts, why
}

// TestCascade: which acts a delete brings with it, in which order, and why there are none.
func TestCascade(t *testing.T) {
	for _, x := range []struct{ name, references, want string }{
		{"nothing refers", "berth.quay_id > quay.id NO ACTION", ""},
		{"deepest first", "berth.quay_id > quay.id CASCADE|visit.berth_id > berth.id CASCADE", "delete visit (berth_id), delete berth (quay_id)"},
		{"updates before deletes", "berth.quay_id > quay.id CASCADE|note.quay_id > quay.id SET NULL|note.berth_id > berth.id SET DEFAULT", "update note (berth_id), update note (quay_id), delete berth (quay_id)"},
		{"by two ways", "berth.quay_id > quay.id CASCADE|visit.quay_id > quay.id CASCADE|visit.berth_id > berth.id CASCADE", "delete visit (berth_id, quay_id), delete berth (quay_id)"},
		{"what another refers to goes after it", "berth.quay_id > quay.id CASCADE|visit.quay_id > quay.id CASCADE|visit.berth_id > berth.id NO ACTION", "delete visit (quay_id), delete berth (quay_id)"},
		{"they come back", "berth.quay_id > quay.id CASCADE|quay.berth_id > berth.id CASCADE", "the references come back to quay (f1)"},
		{"to itself", "quay.up > quay.id SET NULL", "the references come back to quay (f0)"},
		{"beneath, to itself", "berth.quay_id > quay.id CASCADE|berth.up > berth.id NO ACTION", "rows of berth refer to each other (f1)"},
		{"to each other", "berth.quay_id > quay.id CASCADE|visit.quay_id > quay.id CASCADE|visit.berth_id > berth.id NO ACTION|berth.visit_id > visit.id RESTRICT", "the tables whose rows would go refer to each other"},
		{"a key", "berth.id > quay.id SET NULL", "the key of berth is part of its reference"},
		{"further", "berth.quay_id > quay.id SET NULL|visit.q > berth.quay_id CASCADE", "visit refers to columns of berth that change, and follows them"},
		{"the same column", "berth.quay_id > quay.id SET NULL|berth.quay_id > quay.id SET DEFAULT", "several references of berth share columns"},
	} {
		_, acts, why := brings(t, dialect.PostgreSQL, family(dialect.PostgreSQL, strings.Split(x.references, "|")...), "DELETE FROM quay WHERE id > 5")
		var names []string
		for _, a := range acts {
			names = append(names, a.Name())
		}
		if got := why + strings.Join(names, ", "); got != x.want {
			t.Errorf("%s: %q, want %q", x.name, got, x.want)
		}
		for i, a := range acts { // each goes by what is listed before it is deleted
			for _, f := range a.Follows {
				if f.Of != change.OwnRows && f.Of <= i {
					t.Errorf("%s: act %d goes by act %d", x.name, i, f.Of)
				}
			}
		}
	}
	if _, acts, why := brings(t, dialect.PostgreSQL, family(dialect.PostgreSQL, "berth.quay_id > quay.id CASCADE"), "DELETE FROM quay USING berth WHERE berth.id = quay.id"); acts != nil || !strings.Contains(why, "sub-query") {
		t.Errorf("%v %q", acts, why)
	}
	if _, acts, why := brings(t, dialect.PostgreSQL, family(dialect.PostgreSQL, "berth.quay_id > quay.id CASCADE"), "UPDATE quay SET id = 1 WHERE id = 2"); acts != nil || why != "" {
		t.Errorf("%v %q", acts, why)
	}
}

// TestCascadeLimited: a reference that clears some of its columns alone clears those.
func TestCascadeLimited(t *testing.T) {
	tables := family(dialect.PostgreSQL, "berth.quay_id > quay.id SET NULL", "berth.no > quay.no NO ACTION")
	quay, _ := tables("", "quay")
	fk := &quay.ReferredBy[0]
	fk.Columns, fk.Parent, fk.Cleared = []string{"quay_id", "no"}, []string{"id", "no"}, []string{"no"}
	if _, acts, why := brings(t, dialect.PostgreSQL, tables, "DELETE FROM quay WHERE id > 5"); why != "" || len(acts) != 1 || fmt.Sprint(acts[0].Change.SetNames()) != "[no]" || len(acts[0].Follows[0].Columns) != 2 {
		t.Errorf("%+v %q", acts, why)
	}
}

// TestCompound: rows are listed from the step's own outwards, and only where others go by
// them; each dialect finds the rows of an act in the way that it is good at.
func TestCompound(t *testing.T) {
	references := []string{"berth.quay_id > quay.id CASCADE", "visit.berth_id > berth.id CASCADE", "line.visit_id > visit.id CASCADE", "note.visit_id > visit.id SET NULL"}
	for d, want := range map[change.Dialect]string{
		dialect.PostgreSQL: `SELECT 1 FROM "line" WHERE 1 = 1 AND (EXISTS (SELECT 1 FROM list2 AS jugatum_l WHERE jugatum_l."key_id" = "line"."visit_id"))`,
		dialect.MariaDB:    "SELECT 1 FROM list2 AS jugatum_l STRAIGHT_JOIN `line` ON jugatum_l.`key_id` = `line`.`visit_id` WHERE 1 = 1 AND (1 = 1)",
		dialect.SQLite:     `SELECT 1 FROM "line" WHERE 1 = 1 AND (("line"."id") IN (SELECT jugatum_c."id" FROM list2 AS jugatum_l CROSS JOIN "visit" AS jugatum_p ON jugatum_p."id" = jugatum_l."key_id" CROSS JOIN "line" AS jugatum_c ON jugatum_p."id" = jugatum_c."visit_id"))`,
	} {
		c, acts, why := brings(t, d, family(d, references...), "DELETE FROM quay WHERE id > 5")
		if why != "" {
			t.Fatal(why)
		}
		names := map[int]int{} // of lists, in the order in which they are asked for
		x, err := change.NewCompound(c, acts, func(n int) string { names[n] = len(names); return fmt.Sprint("list", names[n]) })
		if err != nil {
			t.Fatal(err)
		}
		var top []string
		for _, i := range x.Top {
			top = append(top, x.Parts[i].Act.Name())
		}
		if got := strings.Join(top, ", "); got != "delete berth (quay_id), delete visit (berth_id)" {
			t.Errorf("%v: lists of %s", d, got)
		}
		if !x.Own.Where.Empty() || !x.Own.Listed || x.Own.Repeatable(nil) {
			t.Errorf("%v: %+v", d, x.Own)
		}
		for _, p := range x.Parts {
			if p.Act.Change.Table.Name == "line" {
				q := (&change.Query{D: d}).Add("SELECT 1").Source(p.Change, change.Range{})
				got := q.String()
				for n := range 5 { // whatever number visit's list has
					got = strings.ReplaceAll(got, fmt.Sprint("list", n), "list2")
				}
				if got != want {
					t.Errorf("%v: %s\nwant %s", d, got, want)
				}
			}
		}
		if got := change.Brought(c, acts, len(acts)-1).String(); !strings.HasPrefix(got, "SELECT count(*) FROM ") || strings.Contains(got, "list") {
			t.Error(got)
		}
	}
}
