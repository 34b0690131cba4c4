package fill

import (
	"errors"
	"maps"
	"slices"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/kind"
)

// books are the tables that the cases know: visits, and quays with two indexes.
func books(schema, name string) (*change.Table, error) {
	number := func(name string) *change.Column {
		return &change.Column{Name: name, Type: "integer", Class: change.Number}
	}
	text := func(name string) *change.Column {
		return &change.Column{Name: name, Type: "varchar(40)", Class: change.Text}
	}
	t := &change.Table{Name: name}
	switch name {
	case "visit":
		t.Columns = []*change.Column{number("id"), text("quay_name"), number("quay_no"), number("quay_id"), text("zone"), {Name: "kind", Type: "integer", NotNull: true}, {Name: "full", Type: "integer", Generated: true}}
	case "quay":
		t.Columns = []*change.Column{number("id"), text("name"), text("zone"), number("no")}
		t.Indexes = []change.Index{{Name: "by_name", Columns: []string{"name", "zone"}}, {Name: "part", Columns: []string{"no"}, Partial: true}}
	default:
		return nil, errors.New("a view")
	}
	t.Key = &change.Key{Name: "primary key", Columns: t.Columns[:1]}
	return t, nil
}

// keysOf lists the keys of a table, of which the cases have one each.
func keysOf(_ string, m any) (out []string) {
	switch m := m.(type) {
	case map[string]any:
		out = slices.Collect(maps.Keys(m))
	case map[string]string:
		out = slices.Collect(maps.Keys(m))
	}
	return out
}

// read makes the step of keys.
func read(t *testing.T, k Keys) *Step {
	t.Helper()
	s, _, err := k.read(keysOf)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func ptr(s string) *string { return &s }

// TestParts: where the rows come from, by what they are found, and whether they are
// read once.
func TestParts(t *testing.T) {
	by := func(column, source string) map[string]any { return map[string]any{column: source} }
	for _, x := range []struct {
		name  string
		keys  Keys
		once  bool
		from  string // its beginning
		match string
		value string
		query bool
		same  bool // at most one row matches, as the catalogue says
	}{
		{"the key of a table", Keys{From: ptr("quay"), Match: by("quay_id", "id"), Fill: map[string]string{"zone": "zone"}}, false, "quay AS jugatum_source", `"visit"."quay_id" = jugatum_source."id"`, `jugatum_source."zone"`, false, true},
		{"the same where it is better read once", Keys{From: ptr("quay"), Match: by("quay_id", "id"), Fill: map[string]string{"zone": "zone"}}, true, "(SELECT (id) AS jugatum_m1, (zone) AS jugatum_f1 FROM quay AS quay) AS jugatum_source", `"visit"."quay_id" = jugatum_source.jugatum_m1`, "jugatum_source.jugatum_f1", true, true},
		{"an index", Keys{From: ptr("quay"), Match: by("quay_name", "name"), Fill: map[string]string{"quay_id": "id"}}, false, "quay AS jugatum_source", `"visit"."quay_name" = jugatum_source."name"`, `jugatum_source."id"`, false, false},
		{"no index", Keys{From: ptr("quay"), Match: by("zone", "zone"), Fill: map[string]string{"quay_id": "id"}}, false, "(SELECT ", `"visit"."zone" = jugatum_source.jugatum_m1`, "jugatum_source.jugatum_f1", true, false},
		{"an index over some rows", Keys{From: ptr("quay"), Match: by("quay_no", "no"), Fill: map[string]string{"quay_id": "id"}}, false, "(SELECT ", `"visit"."quay_no" = jugatum_source.jugatum_m1`, "jugatum_source.jugatum_f1", true, false},
		{"an expression over the key", Keys{From: ptr("quay"), Match: by("quay_id", "id + 1"), Fill: map[string]string{"zone": "zone"}}, false, "(SELECT (id + 1) AS", `"visit"."quay_id" = jugatum_source.jugatum_m1`, "jugatum_source.jugatum_f1", true, false},
		{"an expression that is filled in", Keys{From: ptr("quay"), Match: by("quay_id", "id"), Fill: map[string]string{"zone": "upper(zone)"}}, false, "(SELECT ", `"visit"."quay_id" = jugatum_source.jugatum_m1`, "jugatum_source.jugatum_f1", true, false},
		{"a view", Keys{From: ptr("open_quay"), Match: by("quay_id", "id"), Fill: map[string]string{"zone": "zone"}}, false, "(SELECT (id) AS jugatum_m1, (zone) AS jugatum_f1 FROM open_quay AS open_quay)", `"visit"."quay_id" = jugatum_source.jugatum_m1`, "jugatum_source.jugatum_f1", true, false},
		{"one of several", Keys{From: ptr("quay"), Match: by("quay_id", "id"), Fill: map[string]string{"zone": "zone"}, Pick: ptr("no DESC")}, false, "(SELECT jugatum_m1, jugatum_f1 FROM (SELECT (id) AS jugatum_m1, (zone) AS jugatum_f1, rank() OVER (PARTITION BY (id) ORDER BY no DESC) AS jugatum_rank FROM quay AS quay) AS jugatum_p WHERE jugatum_rank = 1)", `"visit"."quay_id" = jugatum_source.jugatum_m1`, "jugatum_source.jugatum_f1", true, false},
		{"a query", Keys{From: ptr("(SELECT max(id) AS m, zone FROM quay GROUP BY zone)"), Match: by("zone", "zone"), Fill: map[string]string{"quay_id": "m"}}, false, "(SELECT (zone) AS jugatum_m1, (m) AS jugatum_f1 FROM (SELECT max(id) AS m, zone FROM quay GROUP BY zone) AS source)", `"visit"."zone" = jugatum_source.jugatum_m1`, "jugatum_source.jugatum_f1", true, false},
		{"a comment", Keys{From: ptr("(SELECT * FROM quay -- all\n WHERE id > :least)"), Match: by("zone", "zone -- also\n"), Fill: map[string]string{"quay_id": "id /* no */"}}, false, "(SELECT (zone) AS jugatum_m1, (id) AS jugatum_f1 FROM (SELECT * FROM quay WHERE id > :least) AS source)", `"visit"."zone" = jugatum_source.jugatum_m1`, "jugatum_source.jugatum_f1", true, false},
		{"a condition over a table", Keys{From: ptr("quay"), Match: "quay.no <= visit.quay_no", Fill: map[string]string{"quay_id": "id"}}, true, "quay AS quay", "quay.no <= visit.quay_no", `quay."id"`, false, false},
		{"a condition over a query", Keys{From: ptr("(SELECT * FROM quay)"), Match: "source.no = visit.quay_no", Fill: map[string]string{"quay_id": "source.id"}}, false, "(SELECT * FROM (SELECT * FROM quay) AS source) AS source", "source.no = visit.quay_no", "source.id", true, false},
	} {
		parts, err := read(t, x.keys).Parts(change.Spec{Name: "s", Table: "visit"}, kind.Place{D: dialect.PostgreSQL, Tables: books, Once: x.once})
		if err != nil || len(parts) != 1 {
			t.Errorf("%s: %d parts, %v", x.name, len(parts), err)
			continue
		}
		s := parts[0].Spec
		if !strings.HasPrefix(s.Joint.From, x.from) || s.Joint.Match != x.match || s.Set[0].Expr != x.value || s.Joint.Query != "" != x.query || s.Joint.Unique != x.same {
			t.Errorf("%s: %+v %+v", x.name, s.Joint, s.Set)
		}
		c, err := change.Build(dialect.PostgreSQL, s, map[string]change.Value{"least": {Type: change.IntegerValue, Text: "3"}}, books)
		if err != nil {
			t.Errorf("%s: %v", x.name, err)
			continue
		}
		if staged, err := c.Staged("jugatum.source_1_1"); err != nil || staged.Whole() != c || (staged != c) != x.query || x.query && staged.From.String() != "jugatum.source_1_1 AS "+s.Joint.As {
			t.Errorf("%s: staged %q, %v", x.name, staged.From, err)
		}
	}
}

// TestCountedByAnIndex: where a server would go through all of the source for each row of the target to
// tell which of them match nothing, or the other way round, it makes an index first.
func TestCountedByAnIndex(t *testing.T) {
	k := Keys{From: ptr("quay"), Match: map[string]any{"zone": "zone"}, Fill: map[string]string{"quay_id": "id"}}
	for _, x := range []struct {
		d            change.Dialect
		lost, unused string // their ends
	}{
		{dialect.PostgreSQL, `"visit" WHERE NOT EXISTS (SELECT 1 FROM (SELECT (zone) AS jugatum_m1, (id) AS jugatum_f1 FROM quay AS quay) AS jugatum_source WHERE "visit"."zone" = jugatum_source.jugatum_m1)`,
			` WHERE NOT EXISTS (SELECT 1 FROM "visit" WHERE "visit"."zone" = jugatum_source.jugatum_m1)`},
		{dialect.SQLite, `"visit" LEFT JOIN (SELECT (zone) AS jugatum_m1, (id) AS jugatum_f1 FROM quay AS quay) AS jugatum_source ON "visit"."zone" = jugatum_source.jugatum_m1 WHERE jugatum_source.jugatum_m1 IS NULL`,
			` LEFT JOIN (SELECT "zone" FROM "visit") AS "visit" ON "visit"."zone" = jugatum_source.jugatum_m1 WHERE "visit"."zone" IS NULL`},
		{dialect.MariaDB, "`visit` WHERE NOT EXISTS (SELECT 1 FROM (SELECT (zone) AS jugatum_m1, (id) AS jugatum_f1 FROM quay AS quay LIMIT 18446744073709551615) AS jugatum_source WHERE `visit`.`zone` = jugatum_source.jugatum_m1)",
			" WHERE NOT EXISTS (SELECT 1 FROM (SELECT `zone` FROM `visit` LIMIT 18446744073709551615) AS `visit` WHERE `visit`.`zone` = jugatum_source.jugatum_m1)"},
	} {
		parts, err := read(t, k).Parts(change.Spec{Name: "s", Table: "visit"}, kind.Place{D: x.d, Tables: books})
		if err != nil {
			t.Fatal(err)
		}
		c, err := change.Build(x.d, parts[0].Spec, nil, books)
		if err != nil {
			t.Fatal(err)
		}
		if got := change.Lost(c).String(); !strings.HasSuffix(got, x.lost) {
			t.Errorf("without a match: %s\nwant %s", got, x.lost)
		}
		if got := change.Unused(c).String(); !strings.HasSuffix(got, x.unused) {
			t.Errorf("used by no row: %s\nwant %s", got, x.unused)
		}
	}
}

// TestNull: rows without a match are a change of their own, which finds them as surely
// after the first.
func TestNull(t *testing.T) {
	k := Keys{From: ptr("quay"), Match: map[string]any{"quay_name": "name"}, Fill: map[string]string{"quay_id": "id"}, Unmatched: ptr("null")}
	parts, err := read(t, k).Parts(change.Spec{Name: "s", Table: "visit", Where: "zone = 'A' OR zone = 'B'"}, kind.Place{D: dialect.SQLite, Tables: books, Once: false})
	if err != nil || len(parts) != 2 || parts[1].Name != ": no match" {
		t.Fatalf("%+v %v", parts, err)
	}
	c, err := change.Build(dialect.SQLite, parts[1].Spec, nil, books)
	if err != nil {
		t.Fatal(err)
	}
	q := (&change.Query{D: dialect.SQLite}).Statement(c, change.Range{})
	want := `UPDATE "visit" SET "quay_id" = (NULL) WHERE 1 = 1 AND ((zone = 'A' OR zone = 'B') AND NOT EXISTS (SELECT 1 FROM quay AS jugatum_source WHERE "visit"."quay_name" = jugatum_source."name"))`
	if q.String() != want {
		t.Errorf("%s\nwant %s", q, want)
	}
}

// TestFaults: what is wrong with a step, and in which of its keys.
func TestFaults(t *testing.T) {
	ok := func(change func(k *Keys)) Keys {
		k := Keys{From: ptr("quay"), Match: map[string]any{"quay_name": "name"}, Fill: map[string]string{"quay_id": "id"}}
		change(&k)
		return k
	}
	for _, x := range []struct {
		keys  Keys
		field string
		text  string
	}{
		{ok(func(k *Keys) { k.From = nil }), "", "from is missing"},
		{ok(func(k *Keys) { k.From = ptr(" ") }), "from", "empty"},
		{ok(func(k *Keys) { k.From = ptr("(SELECT 1") }), "from", ""},
		{ok(func(k *Keys) { k.From = ptr("(DELETE FROM quay)") }), "from", "expected one query"},
		{ok(func(k *Keys) { k.From = ptr("(SELECT 1) AS x") }), "from", "nothing after it"},
		{ok(func(k *Keys) { k.From = ptr("(SELECT 1), (SELECT 2)") }), "from", ""},
		{ok(func(k *Keys) { k.From = ptr("(SELECT (1)") }), "from", "bracket"},
		{ok(func(k *Keys) { k.From = ptr("quay q") }), "from", "not a table's name"},
		{ok(func(k *Keys) { k.From = ptr("visit") }), "from", "the table that is filled"},
		{ok(func(k *Keys) { k.Match = nil }), "", "match is missing"},
		{ok(func(k *Keys) { k.Match = 7 }), "match", "expected"},
		{ok(func(k *Keys) { k.Match = map[string]any{} }), "match", "empty"},
		{ok(func(k *Keys) { k.Match = map[string]any{"quay_name": 7} }), "match.quay_name", "expected a text"},
		{ok(func(k *Keys) { k.Match = map[string]any{"quay_nam": "name"} }), "match.quay_nam", `did you mean "quay_name"`},
		{ok(func(k *Keys) { k.Match = map[string]any{"quay_name": "name) OR (1 = 1"} }), "match.quay_name", ""},
		{ok(func(k *Keys) { k.Match = "a = b) --" }), "match", ""},
		{ok(func(k *Keys) { k.Fill = nil }), "fill", "fill is missing"},
		{ok(func(k *Keys) { k.Fill = map[string]string{"quay_id": "id) FROM quay --"} }), "fill.quay_id", ""},
		{ok(func(k *Keys) { k.Unmatched = ptr("drop") }), "unmatched", "not leave, null or fail"},
		{ok(func(k *Keys) { k.MatchAs = ptr("loose") }), "match_as", "not trimmed or folded"},
		{ok(func(k *Keys) { k.MatchAs, k.Match = ptr("folded"), "quay.id = visit.id" }), "match_as", "match of columns"},
		{ok(func(k *Keys) { k.MatchAs, k.Match = ptr("folded"), map[string]any{"quay_no": "no"} }), "match_as", "holds texts"},
		{ok(func(k *Keys) { k.MatchAs, k.Unmatched = ptr("trimmed"), ptr("null") }), "unmatched", "does not go with match_as"},
		{ok(func(k *Keys) { k.Pick = ptr("") }), "pick", "empty"},
		{ok(func(k *Keys) { k.Pick, k.Match = ptr("id"), "quay.id = visit.id" }), "pick", "match of columns"},
		{ok(func(k *Keys) { k.Pick = ptr("id) FROM quay --") }), "pick", ""},
		{ok(func(k *Keys) { k.Unmatched, k.Fill = ptr("null"), map[string]string{"quay_name": "zone"} }), "unmatched", "is filled itself"},
		{ok(func(k *Keys) { k.Unmatched, k.Fill = ptr("null"), map[string]string{"kind": "id"} }), "unmatched", "NOT NULL"},
		{ok(func(k *Keys) { k.Unmatched, k.Match = ptr("null"), map[string]any{"full": "id"} }), "unmatched", "the database computes"},
		{ok(func(k *Keys) { k.Unmatched, k.Match = ptr("null"), "quay.id = visit.full" }), "unmatched", "the database computes"},
	} {
		s, field, err := x.keys.read(keysOf)
		if err == nil {
			_, err = s.Parts(change.Spec{Name: "s", Table: "visit"}, kind.Place{D: dialect.PostgreSQL, Tables: books, Once: false})
			var fe *change.FieldError
			if errors.As(err, &fe) {
				field = fe.Field
			}
		}
		if err == nil || field != x.field || !strings.Contains(err.Error(), x.text) {
			t.Errorf("%+v: %s: %v, want %s: %s", x.keys, field, err, x.field, x.text)
		}
	}
}

// TestEach: every piece of SQL is gone through, and the step itself stays as it is.
func TestEach(t *testing.T) {
	s := &Step{From: "a", Match: []change.Field{{Name: "m", Expr: "b"}}, Fill: []change.Field{{Name: "f", Expr: "c"}}, Pick: "d"}
	up := s.each(strings.ToUpper)
	if up.From+up.Match[0].Expr+up.Fill[0].Expr+up.Pick != "ABCD" || up.Match[0].Name != "m" || s.Match[0].Expr != "b" || s.From != "a" {
		t.Errorf("%+v %+v", up, s)
	}
}
