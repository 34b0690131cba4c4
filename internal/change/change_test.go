package change

import (
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"jugatum/internal/sqltext"
)

// berth is a table for tests, on any dialect.
func berth() *Table {
	id := &Column{Name: "berth_no", Type: "bigint", Base: "bigint", Class: Number, NotNull: true}
	return &Table{Name: "berth", Key: &Key{Name: "primary key", Columns: []*Column{id}, Integer: true}, Columns: []*Column{id,
		{Name: "day_rate", Type: "numeric(8,2)", Base: "numeric(8,2)", Class: Number, Same: ByImage},
		{Name: "zone", Type: "varchar(8)", Base: "pg_catalog.varchar", Class: Text, Length: 8, Default: "'A'"},
		{Name: "g", Type: "integer", Base: "integer", Generated: true},
	}}
}

func catalogue(schema, name string) (*Table, error) {
	if name != "berth" {
		return nil, fmt.Errorf("no table %s", name)
	}
	return berth(), nil
}

func TestBuild(t *testing.T) {
	params := map[string]Value{"rise": {Type: DecimalValue, Text: "1.035"}, "z": {Type: TextValue, Text: "B"}}
	for _, c := range []struct {
		what string
		spec Spec
		want string // assignments and filter as SQL for PostgreSQL, or the error after !
	}{
		{"named values are written out in brackets", Spec{Table: "berth", Where: "full > 5", Let: []Field{{"full", "day_rate * :rise"}, {"twice", "full + full"}}, Set: []Field{{"day_rate", "round(twice, 2)"}}},
			"day_rate = (round(((day_rate * CAST($1 AS numeric)) + (day_rate * CAST($2 AS numeric))), 2)) WHERE 1 = 1 AND ((day_rate * CAST($3 AS numeric)) > 5)"},
		{"a qualified name is no named value", Spec{Table: "berth", Let: []Field{{"full", "1"}}, Set: []Field{{"day_rate", "berth.full + full(1)"}}}, "day_rate = (berth.full + full(1)) WHERE 1 = 1"},
		{"literals are bound with the column's type", Spec{Table: "berth", Put: []Literal{{"zone", Value{Type: TextValue, Text: "x'y"}}}}, "zone = CAST($1 AS pg_catalog.varchar) WHERE 1 = 1"},
		{"a bare text takes the column's type", Spec{SQL: "UPDATE berth SET day_rate = '5', zone = NULL"}, "day_rate = CAST('5' AS numeric(8,2)), zone = CAST(NULL AS pg_catalog.varchar) WHERE 1 = 1"},
		{"a text parameter takes the column's type", Spec{SQL: "UPDATE berth SET zone = :z"}, "zone = CAST($1 AS pg_catalog.varchar) WHERE 1 = 1"},
		{"DEFAULT is the column's", Spec{SQL: "UPDATE berth SET zone = DEFAULT, day_rate = DEFAULT"}, "zone = CAST('A' AS pg_catalog.varchar), day_rate = CAST(NULL AS numeric(8,2)) WHERE 1 = 1"},
		{"a row of values is taken apart", Spec{SQL: "UPDATE berth SET (day_rate, zone) = ROW(f(1, 2), 'x')"}, "day_rate = (f(1, 2)), zone = CAST('x' AS pg_catalog.varchar) WHERE 1 = 1"},
		{"a row of a query is asked for each column", Spec{SQL: "UPDATE berth SET (day_rate, zone) = (SELECT 1, 'x')"}, "day_rate = ((WITH jugatum_row (jugatum_1, jugatum_2) AS MATERIALIZED (SELECT 1, 'x') SELECT jugatum_1 FROM jugatum_row)), zone = ((WITH jugatum_row (jugatum_1, jugatum_2) AS MATERIALIZED (SELECT 1, 'x') SELECT jugatum_2 FROM jugatum_row)) WHERE 1 = 1"},
		{"no such column", Spec{SQL: "UPDATE berth SET day_rat = 1"}, `!step "s": sql: table berth has no column "day_rat"; did you mean "day_rate"?`},
		{"computed column", Spec{SQL: "UPDATE berth SET g = 1"}, `!step "s": sql: column berth.g is computed by the database and cannot be assigned`},
		{"assigned twice", Spec{SQL: "UPDATE berth SET zone = 'a', zone = 'b'"}, `!step "s": sql: column berth.zone is assigned twice`},
		{"wrong number of values", Spec{SQL: "UPDATE berth SET (zone, day_rate) = (1)"}, `!step "s": sql: 2 columns but 1 values`},
		{"a named value like a column", Spec{Table: "berth", Let: []Field{{"zone", "1"}}, Set: []Field{{"zone", "'x'"}}}, `!step "s": let.zone: table berth has a column of that name; choose another`},
		{"a circle", Spec{Table: "berth", Let: []Field{{"a", "b"}, {"b", "a"}}, Set: []Field{{"zone", "a"}}}, `!step "s": let.a: this value is defined by itself`},
		{"a volatile named value used twice", Spec{Table: "berth", Let: []Field{{"a", "random()"}}, Set: []Field{{"zone", "a"}, {"day_rate", "a"}}}, `!step "s": let.a: random() gives another value at every use, and the name is used 2 times; write it where it belongs`},
		{"unknown parameter", Spec{SQL: "UPDATE berth SET zone = :nope || 'x'"}, `!step "s": sql: parameter :nope is not declared; add [param.nope] to the job, or give it with --param nope=…`},
		{"once asks for the rows that are not done", Spec{SQL: "UPDATE berth SET day_rate = day_rate + 1 WHERE a OR b", Once: "zone"},
			`day_rate = (day_rate + 1), zone = CAST($1 AS pg_catalog.varchar) WHERE 1 = 1 AND (( a OR b) AND "berth"."zone" IS NULL)`},
		{"once beside no filter", Spec{SQL: "UPDATE berth SET zone = 'x'", Once: "day_rate"}, `zone = CAST('x' AS pg_catalog.varchar), day_rate = (1) WHERE 1 = 1 AND ("berth"."day_rate" IS NULL)`},
		{"once with a column that is assigned", Spec{SQL: "UPDATE berth SET zone = 'x'", Once: "zone"}, `!step "s": once: column berth.zone is assigned twice`},
		{"once with a column that cannot be NULL", Spec{SQL: "UPDATE berth SET zone = 'x'", Once: "berth_no"}, `!step "s": once: column berth.berth_no is NOT NULL, but NULL is to tell the rows that are not done yet`},
		{"once for a delete", Spec{SQL: "DELETE FROM berth", Once: "zone"}, `!step "s": once: rows that are deleted cannot be deleted again; leave it out`},
		{"not a table's name", Spec{Table: "berth b", Delete: true}, `!step "s": table: "berth b" is not a table's name; quote it inside the string if it has unusual characters`},
	} {
		c.spec.Name = "s"
		ch, err := Build(sqltext.PostgreSQL, c.spec, params, catalogue)
		got := ""
		if err != nil {
			got = "!" + err.Error()
			var fe *FieldError
			if !errors.As(err, &fe) {
				t.Errorf("%s: %T", c.what, err)
			}
		} else {
			q := &Query{D: ch.D}
			for i, s := range ch.Set {
				q.sep(i).Add(s.Column.Name, " = ").NewValue(ch, s)
			}
			got = q.Filter(ch, Range{}).String()
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
		ch, err := Build(sqltext.PostgreSQL, Spec{Name: "s", SQL: src}, nil, catalogue)
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
		d         sqltext.Dialect
		src, want string
	}{
		{sqltext.PostgreSQL, "now()", "CAST('2026-03-01 12:30:45.123456+00:00' AS timestamptz)"},
		{sqltext.PostgreSQL, "Current_Date - 1", "CAST(CAST('2026-03-01 12:30:45.123456+00:00' AS timestamptz) AS date) - 1"},
		{sqltext.PostgreSQL, "localtimestamp(3)", "CAST(CAST('2026-03-01 12:30:45.123456+00:00' AS timestamptz) AS timestamp(3))"},
		{sqltext.PostgreSQL, "clock_timestamp()", "clock_timestamp()"},
		{sqltext.PostgreSQL, "x.now()", "x.now()"},
		{sqltext.PostgreSQL, "now + 1", "now + 1"},
		{sqltext.MariaDB, "NOW()", "FROM_UNIXTIME(1772368245)"},
		{sqltext.MariaDB, "current_timestamp(3)", "FROM_UNIXTIME(1772368245.123)"},
		{sqltext.MariaDB, "now(0)", "FROM_UNIXTIME(1772368245)"},
		{sqltext.MariaDB, "curdate() + interval 1 day", "DATE(FROM_UNIXTIME(1772368245)) + interval 1 day"},
		{sqltext.MariaDB, "utc_timestamp", "TIMESTAMP'2026-03-01 12:30:45'"},
		{sqltext.MariaDB, "unix_timestamp()", "1772368245"},
		{sqltext.MariaDB, "unix_timestamp(zone)", "unix_timestamp(zone)"},
		{sqltext.MariaDB, "sysdate()", "sysdate()"},
		{sqltext.SQLite, "CURRENT_TIMESTAMP", "'2026-03-01 12:30:45'"},
		{sqltext.SQLite, "date('now', '-1 day')", "date('2026-03-01 12:30:45.123', '-1 day')"},
		{sqltext.SQLite, "strftime('%s', 'NOW')", "strftime('%s', '2026-03-01 12:30:45.123')"},
		{sqltext.SQLite, "unixepoch()", "unixepoch('2026-03-01 12:30:45.123')"},
		{sqltext.SQLite, "replace(zone, 'now', 'then')", "replace(zone, 'now', 'then')"},
		{sqltext.SQLite, "date(zone) || 'now'", "date(zone) || 'now'"},
	} {
		ch, err := Build(c.d, Spec{Name: "s", SQL: "UPDATE berth SET zone = " + c.src}, map[string]Value{Clock: ClockValue(at)}, catalogue)
		if err != nil {
			t.Fatalf("%s: %v", c.src, err)
		}
		if got := ch.Set[0].Expr.String(); got != c.want {
			t.Errorf("%v: %s becomes %s, want %s", c.d, c.src, got, c.want)
		}
	}
}

func TestKeysReadBackTheSame(t *testing.T) {
	for _, k := range []KeyValue{{int64(-5)}, {"a\"b", int64(1)}, {1.5, []byte{0, 255}}, {"\xff"}, {""}, {}, {int64(9223372036854775807)}, {0.1 + 0.2}} {
		got, err := DecodeKey(k.Encode())
		if err != nil || !reflect.DeepEqual(got, k) {
			t.Errorf("%#v reads back as %#v (%v)", k, got, err)
		}
	}
	if k, err := DecodeKey(""); k != nil || err != nil {
		t.Errorf("no key reads back as %v, %v", k, err)
	}
	if _, err := DecodeKey("[1.5]"); err == nil {
		t.Error("a number with a point is read as an integer")
	}
}

func TestRange(t *testing.T) {
	k := &Key{Columns: []*Column{{Name: "a", Base: "int"}, {Name: `b"c`, Base: "text"}}}
	for d, want := range map[sqltext.Dialect]string{
		sqltext.SQLite:     ` AND (t."a", t."b""c") > (?, ?) AND (t."a", t."b""c") <= (?, ?)`,
		sqltext.PostgreSQL: ` AND (t."a", t."b""c") > (CAST($1 AS int), CAST($2 AS text)) AND (t."a", t."b""c") <= (CAST($3 AS int), CAST($4 AS text))`,
	} {
		q := &Query{D: d}
		q.Range("t", k, Range{Lo: KeyValue{"1", "x"}, Hi: KeyValue{"2", "y"}})
		if q.String() != want || !reflect.DeepEqual(q.Args, []any{"1", "x", "2", "y"}) {
			t.Errorf("%v: %s %v", d, q, q.Args)
		}
	}
}

// TestRangeStandsBeforeTheFilter: SQLite takes the first of two lower bounds of
// a key, so that with the filter's first every batch would begin at row 1.
func TestRangeStandsBeforeTheFilter(t *testing.T) {
	c, err := Build(sqltext.SQLite, Spec{Name: "s", SQL: "UPDATE berth SET zone = 'x' WHERE berth_no > 0"}, nil, catalogue)
	if err != nil {
		t.Fatal(err)
	}
	q := (&Query{D: c.D}).Statement(c, Range{Lo: KeyValue{int64(5)}, Hi: KeyValue{int64(9)}})
	if want := `UPDATE "berth" SET "zone" = ('x') WHERE 1 = 1 AND "berth"."berth_no" > ? AND "berth"."berth_no" <= ? AND (berth_no > 0)`; q.String() != want {
		t.Errorf("got  %s\nwant %s", q, want)
	}
}

func TestKeptNamesNeverMeet(t *testing.T) {
	long := strings.Repeat("x", 60)
	tab := &Table{Name: "t", Columns: []*Column{{Name: "A"}, {Name: "a"}, {Name: long + "1"}, {Name: long + "2"}}}
	tab.Key = &Key{Columns: tab.Columns[:1]}
	c := &Change{D: sqltext.SQLite, Table: tab, Verb: sqltext.Delete}
	seen := map[string]bool{}
	k := NewKept("k", c)
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
		if got := Nearest(name, []string{"visit", "berth", "notice"}); got != want {
			t.Errorf("%q: %q, want %q", name, got, want)
		}
	}
}

// TestMariaDBSQL holds the forms that differ there.
func TestMariaDBSQL(t *testing.T) {
	build := func(sql string) *Change {
		t.Helper()
		c, err := Build(sqltext.MariaDB, Spec{Name: "s", SQL: sql}, map[string]Value{"f": {Type: DecimalValue, Text: "-1.035"}, "on": {Type: TimestampValue, Text: "2026-03-01T06:30:00Z"}}, catalogue)
		if err != nil {
			t.Fatalf("%s: %v", sql, err)
		}
		return c
	}
	r := Range{Lo: KeyValue{"5"}, Hi: KeyValue{"9"}}
	for _, c := range []struct{ sql, want string }{
		{"UPDATE berth SET day_rate = day_rate * :f WHERE zone = 'x'",
			"UPDATE `berth` SET `berth`.`day_rate` = (day_rate * CAST(? AS DECIMAL(4,3))) WHERE 1 = 1 AND `berth`.`berth_no` > ? AND `berth`.`berth_no` <= ? AND (zone = 'x')"},
		{"UPDATE quay q JOIN berth AS b ON b.zone = q.zone SET b.zone = q.name",
			"UPDATE quay q JOIN berth AS b ON b.zone = q.zone SET b.`zone` = (q.name) WHERE 1 = 1 AND b.`berth_no` > ? AND b.`berth_no` <= ?"},
		{"DELETE FROM berth WHERE zone = :on", "DELETE FROM `berth` WHERE 1 = 1 AND `berth`.`berth_no` > ? AND `berth`.`berth_no` <= ? AND (zone = FROM_UNIXTIME(?))"},
		{"DELETE b FROM berth AS b WHERE b.zone = 'x'", "DELETE b FROM `berth` AS b WHERE 1 = 1 AND b.`berth_no` > ? AND b.`berth_no` <= ? AND (b.zone = 'x')"},
	} {
		if got := (&Query{D: sqltext.MariaDB}).Statement(build(c.sql), r).String(); got != c.want {
			t.Errorf("got  %s\nwant %s", got, c.want)
		}
	}
	a, b := &Column{Name: "a", Class: Number}, &Column{Name: "b`", Binary: true}
	q := &Query{D: sqltext.MariaDB}
	q.Range("t", &Key{Columns: []*Column{a, b}}, Range{Lo: KeyValue{"18446744073709551615", "00ff"}})
	if want := " AND t.`a` >= ? AND (t.`a` > ? OR t.`a` = ? AND (t.`b```" + " > UNHEX(?)))"; q.String() != want || q.Args[0] != uint64(18446744073709551615) || q.Args[3] != "00ff" {
		t.Errorf("got  %s %v\nwant %s", q, q.Args, want)
	}
	q = &Query{D: sqltext.MariaDB}
	q.Range("t", &Key{Columns: []*Column{a}}, Range{Hi: KeyValue{"7"}, At: KeyValue{"7"}})
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
