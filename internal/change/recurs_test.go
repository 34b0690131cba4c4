package change_test

import (
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/shape"
)

// TestRecurs: why a change might change its own rows again, and that nothing is said of one that would not.
func TestRecurs(t *testing.T) {
	chain := func(list ...any) shape.Chain {
		specs, err := shape.Specs(list)
		if err != nil {
			t.Fatal(err)
		}
		c, err := shape.Made(specs)
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	own := func(names ...string) (set []change.Field) {
		for _, n := range names {
			set = append(set, change.Field{Name: n, Expr: n})
		}
		return set
	}
	for _, x := range []struct {
		what  string
		spec  change.Spec
		reads change.Reads
		want  string // a part of it; "" for nothing
	}{
		{what: "a value", spec: change.Spec{SQL: "UPDATE berth SET zone = 'x' WHERE zone = 'y'"}},
		{what: "from another column", spec: change.Spec{SQL: "UPDATE berth SET zone = f(day_rate)"}},
		{what: "from itself", spec: change.Spec{SQL: "UPDATE berth SET day_rate = day_rate * 2"}, want: "day_rate is computed from itself"},
		{what: "from itself, by the table's name", spec: change.Spec{SQL: "UPDATE berth AS b SET day_rate = 2 * b.day_rate"}, want: "computed from itself"},
		{what: "each from the other", spec: change.Spec{SQL: "UPDATE berth SET zone = day_rate, day_rate = zone"}, want: "is computed from"},
		{what: "from what the database computes", spec: change.Spec{SQL: "UPDATE berth SET zone = g"}, want: "zone is computed from g"},
		{what: "from the whole row", spec: change.Spec{SQL: "UPDATE berth AS b SET zone = b::text"}, want: "the row"},
		{what: "from all of its columns", spec: change.Spec{SQL: "UPDATE berth SET zone = md5(ROW(berth.*)::text)"}, want: "the row"},
		{what: "from another table's column of that name", spec: change.Spec{SQL: "UPDATE berth SET zone = o.zone FROM o WHERE o.id = berth.berth_no"}},
		{what: "joined by what is changed", spec: change.Spec{SQL: "UPDATE berth SET zone = o.z FROM o WHERE o.id = berth.zone"}, want: "joined by zone"},
		{what: "by a filter alone", spec: change.Spec{SQL: "UPDATE berth SET zone = 'x' WHERE zone IN (SELECT z FROM o)"}},
		{what: "deleted", spec: change.Spec{SQL: "DELETE FROM berth WHERE zone = 'x'"}},
		{what: "deleted by what is there", spec: change.Spec{SQL: "DELETE FROM berth WHERE day_rate < 5"}, reads: change.Reads{Target: true}, want: "reads rows of berth"},
		{what: "another value each time", spec: change.Spec{SQL: "UPDATE berth SET zone = random()"}, reads: change.Reads{Volatile: []string{"random()"}}, want: "random() gives another value"},
		{what: "what nobody sees", spec: change.Spec{SQL: "UPDATE berth SET zone = f()"}, reads: change.Reads{Opaque: []string{"f()"}}, want: "nobody can see"},
		{what: "a marker tells what is done", spec: change.Spec{SQL: "UPDATE berth SET day_rate = day_rate * 2", Once: "zone"}},
		{what: "a default that is one value", spec: change.Spec{SQL: "UPDATE berth SET zone = DEFAULT"}},
		{what: "a form that is final", spec: change.Spec{Table: "berth", Set: own("zone"), Shapes: []shape.Chain{chain("trim", "upper")}, ShapedFrom: []string{""}}},
		{what: "one that is not", spec: change.Spec{Table: "berth", Set: own("zone"), Shapes: []shape.Chain{chain(map[string]any{"after": ","})}, ShapedFrom: []string{""}}, want: "done to its outcome again"},
		{what: "a form of a named value", spec: change.Spec{Table: "berth", Let: []change.Field{{Name: "rate", Expr: "day_rate::text"}}, Set: own("zone"), Shapes: []shape.Chain{chain(map[string]any{"after": ","})}, ShapedFrom: []string{"rate"}}},
		{what: "of one that reads what is changed", spec: change.Spec{Table: "berth", Let: []change.Field{{Name: "old", Expr: "zone || 'x'"}}, Set: own("zone"), Shapes: []shape.Chain{chain("trim")}, ShapedFrom: []string{"old"}}, want: "zone is made of old, which reads zone"},
	} {
		x.spec.Name = "s"
		c, err := change.Build(dialect.PostgreSQL, x.spec, map[string]change.Value{}, catalogue)
		if err != nil {
			t.Errorf("%s: %v", x.what, err)
			continue
		}
		c.Reads = x.reads
		if got := c.Recurs(); (got == "") != (x.want == "") || !strings.Contains(got, x.want) {
			t.Errorf("%s: %q, expected %q", x.what, got, x.want)
		}
	}
}
