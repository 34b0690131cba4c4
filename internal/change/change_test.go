package change_test

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/sqltext"
)

// berth is a table for tests, on any dialect.
func berth() *change.Table {
	id := &change.Column{Name: "berth_no", Type: "bigint", Base: "bigint", Class: change.Number, NotNull: true}
	return &change.Table{Name: "berth", Key: &change.Key{Name: "primary key", Columns: []*change.Column{id}, Integer: true}, Columns: []*change.Column{id,
		{Name: "day_rate", Type: "numeric(8,2)", Base: "numeric(8,2)", Class: change.Number, Same: change.ByImage},
		{Name: "zone", Type: "varchar(8)", Base: "pg_catalog.varchar", Class: change.Text, Length: 8, Default: "'A'"},
		{Name: "g", Type: "integer", Base: "integer", Generated: true},
	}}
}

func catalogue(schema, name string) (*change.Table, error) {
	if name != "berth" {
		return nil, fmt.Errorf("no table %s", name)
	}
	return berth(), nil
}

func TestBuild(t *testing.T) {
	params := map[string]change.Value{"rise": {Type: change.DecimalValue, Text: "1.035"}, "z": {Type: change.TextValue, Text: "B"}}
	for _, c := range []struct {
		what string
		spec change.Spec
		want string // assignments and filter as SQL for PostgreSQL, or the error after !
	}{
		{"named values are written out in brackets", change.Spec{Table: "berth", Where: "full > 5", Let: []change.Field{{"full", "day_rate * :rise"}, {"twice", "full + full"}}, Set: []change.Field{{"day_rate", "round(twice, 2)"}}},
			"day_rate = (round(((day_rate * CAST($1 AS numeric)) + (day_rate * CAST($2 AS numeric))), 2)) WHERE 1 = 1 AND ((day_rate * CAST($3 AS numeric)) > 5)"},
		{"a qualified name is no named value", change.Spec{Table: "berth", Let: []change.Field{{"full", "1"}}, Set: []change.Field{{"day_rate", "berth.full + full(1)"}}}, "day_rate = (berth.full + full(1)) WHERE 1 = 1"},
		{"literals are bound with the column's type", change.Spec{Table: "berth", Put: []change.Literal{{"zone", change.Value{Type: change.TextValue, Text: "x'y"}}}}, "zone = CAST($1 AS pg_catalog.varchar) WHERE 1 = 1"},
		{"a bare text takes the column's type", change.Spec{SQL: "UPDATE berth SET day_rate = '5', zone = NULL"}, "day_rate = CAST('5' AS numeric(8,2)), zone = CAST(NULL AS pg_catalog.varchar) WHERE 1 = 1"},
		{"a text parameter takes the column's type", change.Spec{SQL: "UPDATE berth SET zone = :z"}, "zone = CAST($1 AS pg_catalog.varchar) WHERE 1 = 1"},
		{"DEFAULT is the column's", change.Spec{SQL: "UPDATE berth SET zone = DEFAULT, day_rate = DEFAULT"}, "zone = CAST('A' AS pg_catalog.varchar), day_rate = CAST(NULL AS numeric(8,2)) WHERE 1 = 1"},
		{"a row of values is taken apart", change.Spec{SQL: "UPDATE berth SET (day_rate, zone) = ROW(f(1, 2), 'x')"}, "day_rate = (f(1, 2)), zone = CAST('x' AS pg_catalog.varchar) WHERE 1 = 1"},
		{"a row of a query is asked for each column", change.Spec{SQL: "UPDATE berth SET (day_rate, zone) = (SELECT 1, 'x')"}, "day_rate = ((WITH jugatum_row (jugatum_1, jugatum_2) AS MATERIALIZED (SELECT 1, 'x') SELECT jugatum_1 FROM jugatum_row)), zone = ((WITH jugatum_row (jugatum_1, jugatum_2) AS MATERIALIZED (SELECT 1, 'x') SELECT jugatum_2 FROM jugatum_row)) WHERE 1 = 1"},
		{"no such column", change.Spec{SQL: "UPDATE berth SET day_rat = 1"}, `!step "s": sql: table berth has no column "day_rat"; did you mean "day_rate"?`},
		{"computed column", change.Spec{SQL: "UPDATE berth SET g = 1"}, `!step "s": sql: column berth.g is computed by the database and cannot be assigned`},
		{"assigned twice", change.Spec{SQL: "UPDATE berth SET zone = 'a', zone = 'b'"}, `!step "s": sql: column berth.zone is assigned twice`},
		{"wrong number of values", change.Spec{SQL: "UPDATE berth SET (zone, day_rate) = (1)"}, `!step "s": sql: 2 columns but 1 values`},
		{"a named value like a column", change.Spec{Table: "berth", Let: []change.Field{{"zone", "1"}}, Set: []change.Field{{"zone", "'x'"}}}, `!step "s": let.zone: table berth has a column of that name; choose another`},
		{"a circle", change.Spec{Table: "berth", Let: []change.Field{{"a", "b"}, {"b", "a"}}, Set: []change.Field{{"zone", "a"}}}, `!step "s": let.a: this value is defined by itself`},
		{"a volatile named value used twice", change.Spec{Table: "berth", Let: []change.Field{{"a", "random()"}}, Set: []change.Field{{"zone", "a"}, {"day_rate", "a"}}}, `!step "s": let.a: random() gives another value at every use, and the name is used 2 times; write it where it belongs`},
		{"unknown parameter", change.Spec{SQL: "UPDATE berth SET zone = :nope || 'x'"}, `!step "s": sql: parameter :nope is not declared; add [param.nope] to the job, or give it with --param nope=…`},
		{"once asks for the rows that are not done", change.Spec{SQL: "UPDATE berth SET day_rate = day_rate + 1 WHERE a OR b", Once: "zone"},
			`day_rate = (day_rate + 1), zone = CAST($1 AS pg_catalog.varchar) WHERE 1 = 1 AND (( a OR b) AND "berth"."zone" IS NULL)`},
		{"once beside no filter", change.Spec{SQL: "UPDATE berth SET zone = 'x'", Once: "day_rate"}, `zone = CAST('x' AS pg_catalog.varchar), day_rate = (1) WHERE 1 = 1 AND ("berth"."day_rate" IS NULL)`},
		{"once with a column that is assigned", change.Spec{SQL: "UPDATE berth SET zone = 'x'", Once: "zone"}, `!step "s": once: column berth.zone is assigned twice`},
		{"once with a column that cannot be NULL", change.Spec{SQL: "UPDATE berth SET zone = 'x'", Once: "berth_no"}, `!step "s": once: column berth.berth_no is NOT NULL, but NULL is to tell the rows that are not done yet`},
		{"once for a delete", change.Spec{SQL: "DELETE FROM berth", Once: "zone"}, `!step "s": once: rows that are deleted cannot be deleted again; leave it out`},
		{"not a table's name", change.Spec{Table: "berth b", Delete: true}, `!step "s": table: "berth b" is not a table's name; quote it inside the string if it has unusual characters`},
	} {
		c.spec.Name = "s"
		ch, err := change.Build(dialect.PostgreSQL, c.spec, params, catalogue)
		got := ""
		if err != nil {
			got = "!" + err.Error()
			var fe *change.FieldError
			if !errors.As(err, &fe) {
				t.Errorf("%s: %T", c.what, err)
			}
		} else {
			q := &change.Query{D: ch.D}
			for i, s := range ch.Set {
				if i > 0 {
					q.Add(", ")
				}
				q.Add(s.Column.Name, " = ").NewValue(ch, s)
			}
			got = q.Filter(ch, change.Range{}).String()
		}
		if got != c.want {
			t.Errorf("%s:\ngot  %s\nwant %s", c.what, got, c.want)
		}
	}
}

// TestTableRefs: every table that the text names is among them; some more may be.
func TestTableRefs(t *testing.T) {
	for src, want := range map[string]string{
		"UPDATE berth SET zone = (SELECT max(b.zone) FROM berth b)":                                          "berth",
		"UPDATE berth SET zone = 'x' WHERE berth_no IN (SELECT n FROM a, berth)":                             "a berth",
		"UPDATE berth AS x SET zone = o.z FROM other o JOIN berth y ON y.n = o.n, third":                     "other berth third",
		"UPDATE berth SET zone = 'x' FROM (a CROSS JOIN berth) WHERE berth.berth_no = 1":                     "a berth",
		"WITH q AS (SELECT 1 FROM public.berth) UPDATE berth SET zone = 'x' FROM q":                          "q public.berth",
		"UPDATE berth SET zone = berth.zone || 'x' WHERE berth.berth_no > 1":                                 "",
		"UPDATE berth SET zone = (SELECT o.berth, berth FROM other o WHERE berth IN (1, 2) ORDER BY a, b)":   "other",
		"UPDATE berth SET zone = (TABLE berth)":                                                              "berth",
		"UPDATE berth SET zone = (SELECT 1 FROM a LEFT JOIN (SELECT 2 FROM b, c) AS d ON d.x = a.x, ONLY e)": "a b c e",
	} {
		ch, err := change.Build(dialect.PostgreSQL, change.Spec{Name: "s", SQL: src}, nil, catalogue)
		if err != nil {
			t.Fatalf("%s: %v", src, err)
		}
		var got []string
		for _, n := range ch.TableRefs() {
			name := n.Table.Name()
			if n.Qualified {
				name = n.Schema.Name() + "." + name
			}
			got = append(got, name)
		}
		slices.Sort(got)
		list := strings.Fields(want)
		slices.Sort(list)
		if !slices.Equal(got, list) {
			t.Errorf("%s: %v, want %v", src, got, list)
		}
	}
}

// TestClock: what tells the time is written out as the run's, and nothing else is.
func TestClock(t *testing.T) {
	at := time.Date(2026, 3, 1, 12, 30, 45, 123456000, time.UTC)
	for _, c := range []struct {
		d         change.Dialect
		src, want string
	}{
		{dialect.PostgreSQL, "now()", "CAST('2026-03-01 12:30:45.123456+00:00' AS timestamptz)"},
		{dialect.PostgreSQL, "Current_Date - 1", "CAST(CAST('2026-03-01 12:30:45.123456+00:00' AS timestamptz) AS date) - 1"},
		{dialect.PostgreSQL, "localtimestamp(3)", "CAST(CAST('2026-03-01 12:30:45.123456+00:00' AS timestamptz) AS timestamp(3))"},
		{dialect.PostgreSQL, "clock_timestamp()", "clock_timestamp()"},
		{dialect.PostgreSQL, "x.now()", "x.now()"},
		{dialect.PostgreSQL, "now + 1", "now + 1"},
		{dialect.MariaDB, "NOW()", "FROM_UNIXTIME(1772368245)"},
		{dialect.MariaDB, "current_timestamp(3)", "FROM_UNIXTIME(1772368245.123)"},
		{dialect.MariaDB, "now(0)", "FROM_UNIXTIME(1772368245)"},
		{dialect.MariaDB, "curdate() + interval 1 day", "DATE(FROM_UNIXTIME(1772368245)) + interval 1 day"},
		{dialect.MariaDB, "utc_timestamp", "TIMESTAMP'2026-03-01 12:30:45'"},
		{dialect.MariaDB, "unix_timestamp()", "1772368245"},
		{dialect.MariaDB, "unix_timestamp(zone)", "unix_timestamp(zone)"},
		{dialect.MariaDB, "sysdate()", "sysdate()"},
		{dialect.SQLite, "CURRENT_TIMESTAMP", "'2026-03-01 12:30:45'"},
		{dialect.SQLite, "date('now', '-1 day')", "date('2026-03-01 12:30:45.123', '-1 day')"},
		{dialect.SQLite, "strftime('%s', 'NOW')", "strftime('%s', '2026-03-01 12:30:45.123')"},
		{dialect.SQLite, "unixepoch()", "unixepoch('2026-03-01 12:30:45.123')"},
		{dialect.SQLite, "replace(zone, 'now', 'then')", "replace(zone, 'now', 'then')"},
		{dialect.SQLite, "date(zone) || 'now'", "date(zone) || 'now'"},
	} {
		ch, err := change.Build(c.d, change.Spec{Name: "s", SQL: "UPDATE berth SET zone = " + c.src}, map[string]change.Value{change.Clock: change.ClockValue(at)}, catalogue)
		if err != nil {
			t.Fatalf("%s: %v", c.src, err)
		}
		if got := ch.Set[0].Expr.String(); got != c.want {
			t.Errorf("%v: %s becomes %s, want %s", c.d, c.src, got, c.want)
		}
	}
}

func TestKeysReadBackTheSame(t *testing.T) {
	for _, k := range []change.KeyValue{{int64(-5)}, {"a\"b", int64(1)}, {1.5, []byte{0, 255}}, {"\xff"}, {""}, {}, {int64(9223372036854775807)}, {0.1 + 0.2}} {
		got, err := change.DecodeKey(k.Encode())
		if err != nil || !reflect.DeepEqual(got, k) {
			t.Errorf("%#v reads back as %#v (%v)", k, got, err)
		}
	}
	if k, err := change.DecodeKey(""); k != nil || err != nil {
		t.Errorf("no key reads back as %v, %v", k, err)
	}
	if _, err := change.DecodeKey("[1.5]"); err == nil {
		t.Error("a number with a point is read as an integer")
	}
}

func TestRange(t *testing.T) {
	k := &change.Key{Columns: []*change.Column{{Name: "a", Base: "int"}, {Name: `b"c`, Base: "text"}}}
	for d, want := range map[change.Dialect]string{
		dialect.SQLite:     ` AND (t."a", t."b""c") > (?, ?) AND (t."a", t."b""c") <= (?, ?)`,
		dialect.PostgreSQL: ` AND (t."a", t."b""c") > (CAST($1 AS int), CAST($2 AS text)) AND (t."a", t."b""c") <= (CAST($3 AS int), CAST($4 AS text))`,
	} {
		q := &change.Query{D: d}
		q.Range("t", k, change.Range{Lo: change.KeyValue{"1", "x"}, Hi: change.KeyValue{"2", "y"}})
		if q.String() != want || !reflect.DeepEqual(q.Args, []any{"1", "x", "2", "y"}) {
			t.Errorf("%v: %s %v", d, q, q.Args)
		}
	}
}

// TestRangeStandsBeforeTheFilter: SQLite takes the first of two lower bounds of
// a key, so that with the filter's first every batch would begin at row 1.
func TestRangeStandsBeforeTheFilter(t *testing.T) {
	c, err := change.Build(dialect.SQLite, change.Spec{Name: "s", SQL: "UPDATE berth SET zone = 'x' WHERE berth_no > 0"}, nil, catalogue)
	if err != nil {
		t.Fatal(err)
	}
	q := (&change.Query{D: c.D}).Statement(c, change.Range{Lo: change.KeyValue{int64(5)}, Hi: change.KeyValue{int64(9)}})
	if want := `UPDATE "berth" SET "zone" = ('x') WHERE 1 = 1 AND "berth"."berth_no" > ? AND "berth"."berth_no" <= ? AND (berth_no > 0)`; q.String() != want {
		t.Errorf("got  %s\nwant %s", q, want)
	}
}

func TestKeptNamesNeverMeet(t *testing.T) {
	long := strings.Repeat("x", 60)
	tab := &change.Table{Name: "t", Columns: []*change.Column{{Name: "A"}, {Name: "a"}, {Name: long + "1"}, {Name: long + "2"}}}
	tab.Key = &change.Key{Columns: tab.Columns[:1]}
	c := &change.Change{D: dialect.SQLite, Table: tab, Verb: sqltext.Delete}
	seen := map[string]bool{}
	k := change.NewKept("k", c)
	for _, col := range append(k.Keys, k.Old...) {
		name := strings.ToLower(col.Name)
		if seen[name] || len(name) > 63 {
			t.Errorf("name %q", col.Name)
		}
		seen[name] = true
	}
}

func TestNearest(t *testing.T) {
	for name, want := range map[string]string{"vist": "visit", "berths": "berth", "zzz": "", "VISIT": "visit"} {
		if got := change.Nearest(name, []string{"visit", "berth", "notice"}); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
}

// TestMariaDBSQL holds the forms that differ there.
func TestMariaDBSQL(t *testing.T) {
	build := func(sql string) *change.Change {
		t.Helper()
		c, err := change.Build(dialect.MariaDB, change.Spec{Name: "s", SQL: sql}, map[string]change.Value{"f": {Type: change.DecimalValue, Text: "-1.035"}, "on": {Type: change.TimestampValue, Text: "2026-03-01T06:30:00Z"}}, catalogue)
		if err != nil {
			t.Fatalf("%s: %v", sql, err)
		}
		return c
	}
	r := change.Range{Lo: change.KeyValue{"5"}, Hi: change.KeyValue{"9"}}
	for _, c := range []struct{ sql, want string }{
		{"UPDATE berth SET day_rate = day_rate * :f WHERE zone = 'x'",
			"UPDATE `berth` SET `berth`.`day_rate` = (day_rate * CAST(? AS DECIMAL(4,3))) WHERE 1 = 1 AND `berth`.`berth_no` > ? AND `berth`.`berth_no` <= ? AND (zone = 'x')"},
		{"UPDATE quay q JOIN berth AS b ON b.zone = q.zone SET b.zone = q.name",
			"UPDATE quay q JOIN berth AS b ON b.zone = q.zone SET b.`zone` = (q.name) WHERE 1 = 1 AND b.`berth_no` > ? AND b.`berth_no` <= ?"},
		{"DELETE FROM berth WHERE zone = :on", "DELETE FROM `berth` WHERE 1 = 1 AND `berth`.`berth_no` > ? AND `berth`.`berth_no` <= ? AND (zone = FROM_UNIXTIME(?))"},
		{"DELETE b FROM berth AS b WHERE b.zone = 'x'", "DELETE b FROM `berth` AS b WHERE 1 = 1 AND b.`berth_no` > ? AND b.`berth_no` <= ? AND (b.zone = 'x')"},
	} {
		if got := (&change.Query{D: dialect.MariaDB}).Statement(build(c.sql), r).String(); got != c.want {
			t.Errorf("got  %s\nwant %s", got, c.want)
		}
	}
	a, b := &change.Column{Name: "a", Class: change.Number}, &change.Column{Name: "b`", Binary: true}
	q := &change.Query{D: dialect.MariaDB}
	q.Range("t", &change.Key{Columns: []*change.Column{a, b}}, change.Range{Lo: change.KeyValue{"18446744073709551615", "00ff"}})
	if want := " AND t.`a` >= ? AND (t.`a` > ? OR t.`a` = ? AND (t.`b```" + " > UNHEX(?)))"; q.String() != want || q.Args[0] != uint64(18446744073709551615) || q.Args[3] != "00ff" {
		t.Errorf("got  %s %v\nwant %s", q, q.Args, want)
	}
	q = &change.Query{D: dialect.MariaDB}
	q.Range("t", &change.Key{Columns: []*change.Column{a}}, change.Range{Hi: change.KeyValue{"7"}, At: change.KeyValue{"7"}})
	if q.String() != " AND t.`a` = ?" || q.Args[0] != int64(7) {
		t.Errorf("%s %v", q, q.Args)
	}
	if got := build("UPDATE quay q JOIN berth b ON b.zone = q.zone SET b.zone = q.name").TableRefs(); len(got) != 2 || got[0].Table.Name() != "quay" || got[1].Table.Name() == "berth" {
		t.Errorf("a join is taken for a second reading of the target: %v", got)
	}
	if got := build("UPDATE berth b JOIN berth o ON b.zone = o.zone SET b.zone = 'x'").TableRefs(); len(got) != 2 || got[1].Table.Name() != "berth" {
		t.Errorf("the target joined to itself is not noticed: %v", got)
	}
	pure := map[string]bool{"upper": true}
	for sql, want := range map[string]bool{"UPDATE berth SET zone = upper(zone) WHERE berth_no > 1": true, "UPDATE berth SET zone = rand() WHERE 1": false, "UPDATE berth SET zone = CURRENT_DATE": false,
		"UPDATE berth SET zone = (SELECT 1)": false, "UPDATE quay q JOIN berth b ON 1 SET b.zone = 'x'": false} {
		if got := build(sql).Repeatable(pure); got != want {
			t.Errorf("%s: repeatable is %v", sql, got)
		}
	}
}

// TestPackedRowsAreUnpackedOnce: where kept rows are found by their columns, MariaDB makes a table of
// them first, with an index; joined as they are, all of them would be unpacked, or read, for every row.
func TestPackedRowsAreUnpackedOnce(t *testing.T) {
	id := &change.Column{Name: "id", Type: "int(11)", Class: change.Number}
	note := &change.Column{Name: "note", Type: "varchar(40)", Class: change.Text}
	kept := &change.Kept{Table: "`kept_1`", Packed: "`packed_1`", Keys: []change.KeptColumn{{Name: "key_id", Of: id}},
		Old: []change.KeptColumn{{Name: "old_id", Of: id}, {Name: "old_note", Of: note}}}
	plain := *kept
	plain.Packed = ""
	list := &change.Table{Name: "list", Columns: []*change.Column{id, note}, Key: &change.Key{Columns: []*change.Column{id}}}
	shown := func(k *change.Kept) string {
		lines := &change.Lines{List: &change.List{SQL: "`list`", Table: list}}
		c := &change.Change{D: dialect.MariaDB, Table: list, Lines: lines, Verb: sqltext.Delete}
		return change.LinesShown(dialect.MariaDB, []change.Carried{{Lines: lines, By: []change.Settled{{Change: c, Kept: k}}, Done: true}}).String()
	}
	for name, ask := range map[string]func(k *change.Kept) string{
		"lines of a list": shown,
		"rows of a later change": func(k *change.Kept) string {
			return change.Chained(dialect.MariaDB, kept, k, k.Old, 0, 10).String()
		},
		"rows changed twice": func(k *change.Kept) string { return change.Repeated(dialect.MariaDB, k, 0, 10).String() },
	} {
		of := "AS k LIMIT " // all of them
		if name == "rows changed twice" {
			of = "AS k WHERE k.seq > ? " // those of the batch alone
		}
		for _, k := range []*change.Kept{kept, &plain} {
			if q := ask(k); strings.Count(q, " LIMIT 18446744073709551615) AS ") != 1 || strings.Count(q, "FROM `kept_1` "+of) != 1 || strings.Contains(q, "join_cache_level") {
				t.Errorf("%s, packed by %q: %s", name, k.Packed, q)
			}
		}
	}
}
