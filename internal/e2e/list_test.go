package e2e

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
)

// lists are how many tables there are with lines of a list.
func (d *database) lists() string {
	switch d.engine {
	case "sqlite":
		return d.one("SELECT count(*) FROM sqlite_schema WHERE name LIKE 'jugatum!_list!_%' ESCAPE '!' AND type = 'table'")
	case "postgres":
		return d.one("SELECT count(*) FROM pg_tables WHERE schemaname = 'jugatum' AND tablename LIKE 'list\\_%'")
	}
	return d.one("SELECT count(*) FROM information_schema.tables WHERE table_schema = database() AND table_name LIKE 'jugatum\\_list\\_%'")
}

// TestListFaults: what is wrong with a list is told with its place, nothing is changed, and
// nothing of it stays.
func TestListFaults(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.harbourRates("berth")
		before := d.dump("berth")
		for _, x := range []struct{ name, file, text, more, want string }{
			{"no such file", "", "", "", "cannot be read: no such file or directory"},
			{"a folder", ".", "", "", "cannot be read: it is a folder"},
			{"empty", "a.csv", "", "", "a.csv: the file is empty: expected a line with the names of the columns"},
			{"header only", "a.csv", "berth_no,day_rate\n", "", "a.csv: there is no line after the header"},
			{"no such column", "a.csv", "berth_no,day_rat\n1,2\n", "", `a column "day_rat", which table berth has not; did you mean "day_rate"?`},
			{"no key", "a.csv", "day_rate\n2\n", "", "has no column for berth_no, which is part of the key; it has day_rate"},
			{"no such column to map", "a.csv", "berth_no,rate\n1,2\n", "columns = { price = 'day_rate' }", `has no column "price"`},
			{"mapped to none", "a.csv", "berth_no,rate\n1,2\n", "columns = { rate = 'day_rates' }", `table berth has no column "day_rates"; did you mean "day_rate"?`},
			{"two for one", "a.csv", "berth_no,rate,day_rate\n1,2,3\n", "columns = { rate = 'day_rate' }", `columns "rate" and "day_rate" of`},
			{"no number", "a.csv", "berth_no,day_rate\n1,2\n2,dear\n", "", `a.csv:3: column day_rate: "dear" is not a number`},
			{"rounded", "a.csv", "berth_no,day_rate\n1,2.005\n", "", `a.csv:2: column day_rate: "2.005" has more than 2 digits after the point, and would be rounded`},
			{"no date", "a.csv", "berth_no,closed_on\n1,31.02.2026\n", "date = '02.01.2006'", `a.csv:2: column closed_on: "31.02.2026" is not a date such as 28.11.2026`},
			{"a key of NULL", "a.csv", "berth_no,day_rate\n,2\n", "null = ''", "a.csv:2: column berth_no: NULL, and no row has that in its key"},
			{"twice", "a.csv", "berth_no,day_rate\n7,1\n8,1\n7,2\n", "", "a.csv:2: lines 2 and 4 have the same key (berth_no), and nothing says which is meant"},
			{"no such order", "a.csv", "berth_no,day_rate\n7,1\n", "order = 'key'", `order: "key" is not any or file`},
			{"twice by another key", "a.csv", "code,day_rate\nB7,1\nB8,1\nB7,2\n", "order = 'file'\nkey = ['code']", "a.csv:2: lines 2 and 4 have the same key (code); with order = \"file\" lines may have the same key where that is the table's own"},
			{"too often", "a.csv", "berth_no,day_rate\n8,1\n" + strings.Repeat("7,1\n", 51), "order = 'file'", "a.csv:53: this is line 51 with its key (berth_no), and at most 50 may have the same"},
			{"cut off", "a.csv", "berth_no,note\n7,\"x\n", "", "a.csv:2:6: a quoted field is not closed"},
			{"key not unique", "a.csv", "day_rate,note\n7,x\n", "key = ['day_rate']", "two rows of berth may have the same day_rate"},
			{"nothing to change", "a.csv", "berth_no\n7\n", "", "has the key of berth alone: there is nothing to change"},
			{"no such column in SQL", "a.csv", "berth_no,rate\n7,1\n", "columns = { rate = 'day_rate' }\nset = { note = 'line.rate' }", `a line has no column "rate"; columns for the table are called as they are there: berth_no, day_rate`},
			{"no such function", "a.csv", "berth_no,day_rate\n7,1\n", "set = { note = 'nowhere(line.day_rate)' }", "changes: "},
			{"with a filter", "a.csv", "berth_no,day_rate\n7,1\n", "where = 'berth_no > 3'", "where and once do not go with changes"},
		} {
			t.Run(x.name, func(t *testing.T) {
				d.t = t
				var path string
				switch x.file {
				case "":
					path = filepath.Join(t.TempDir(), "none.csv")
				case ".":
					path = t.TempDir()
				default:
					path = d.list(x.file, x.text)
				}
				o := d.must(2, "run", d.job("[[step]]\ntable = 'berth'\nchanges = '"+path+"'\naction = 'update'\n"+x.more+"\n"), "--accept", "any")
				if !strings.Contains(o.err, x.want) {
					t.Errorf("%s\nexpected %s", o.err, x.want)
				}
				if d.haveLedger() && d.lists() != "0" {
					t.Errorf("%s tables of lists stay", d.lists())
				}
			})
		}
		d.t = t
		// The database itself reads what the program does not: a date on the server, a number out
		// of range.
		for _, x := range []struct{ text, want string }{
			{"berth_no,closed_on\n1,2026-01-01\n2,2026-13-01\n3,2026-01-01\n", "a.csv:3: the database does not take a value of this line"},
			{"berth_no,day_rate\n1,2\n2,3\n4,12345678\n", "a.csv:4: the database does not take a value of this line"},
		} {
			if d.engine == "sqlite" { // which takes whatever it is given
				continue
			}
			if o := d.must(2, "run", d.job("[[step]]\ntable = 'berth'\nchanges = '"+d.list("a.csv", x.text)+"'\naction = 'update'\n"), "--accept", "any"); !strings.Contains(o.err, x.want) {
				t.Error(o.err)
			}
		}
		same(t, "after all that", d.dump("berth"), before)
	})
}

// TestListValues: a value of a list is stored as it is written, or refused with its place; none is
// rounded, cut, or taken for another one.
func TestListValues(t *testing.T) {
	type value struct{ typ, text, want string } // want is how the database shows it; "" if it is refused
	values := map[string][]value{
		"sqlite": {
			{"integer", "9223372036854775807", "9223372036854775807"}, {"integer", "9223372036854775808", ""}, {"integer", "7.5", ""}, {"integer", "7.0", "7"}, {"integer", "0x10", ""}, {"integer", "", ""},
			{"numeric(10,2)", "12.50", "12.5"}, {"numeric(10,2)", "12.505", ""}, {"numeric", "1234567890.123456", ""}, {"numeric", "1e999", ""}, {"numeric", "123456789.123456", "123456789.123456"},
			{"real", "0.1", "0.1"}, {"boolean", "true", "1"}, {"boolean", "yes", ""}, {"text", "007", "007"}, {"text", "1e5", "1e5"}, {"varchar(3)", "abcdef", "abcdef"}, {"date", "28.11.2026", "28.11.2026"}, {"timestamp", "2026-11-28 10:00:00.123456789", "2026-11-28 10:00:00.123456789"},
			{"blob", `\x00ff41`, "\x00\xff\x41"}, {"blob", `\x0`, ""}, {"", "12", "12"},
		},
		"postgres": {
			{"integer", "2147483647", "2147483647"}, {"integer", "2147483648", ""}, {"integer", "7.5", ""}, {"numeric(10,2)", "1.2345e0", ""}, {"smallint", "-32768", "-32768"}, {"bigint", " 7", ""},
			{"numeric(10,2)", "12.5", "12.50"}, {"numeric(10,2)", "12.505", ""}, {"numeric(10,2)", "123456789.00", ""}, {"numeric", "123456789012345678901234567890.123456789", "123456789012345678901234567890.123456789"}, {"numeric", "NaN", ""}, {"double precision", "0.1", "0.1"}, {"double precision", "1e999", ""},
			{"boolean", "true", "true"}, {"boolean", "maybe", ""}, {"varchar(3)", "abc", "abc"}, {"varchar(3)", "abcd", ""}, {"varchar(3)", "abc  ", ""}, {"char(3)", "ab", "ab"}, {"text", "  kept  ", "  kept  "}, {"text", `back\slash \N`, `back\slash \N`}, {"text", "tab\tand\nline\r\n", "tab\tand\nline\r\n"},
			{"date", "2026-11-28", "2026-11-28"}, {"date", "2026-11-28 10:00", ""}, {"date", "2026-02-30", ""}, {"date", "28.11.2026", ""}, {"timestamp", "2026-11-28 10:00:00.123456", "2026-11-28 10:00:00.123456"}, {"timestamp", "2026-11-28 10:00:00.1234567", ""}, {"timestamp(0)", "2026-11-28 10:00:00.5", ""}, {"time(0)", "10:00:00.7", ""}, {"time", "2026-11-28 10:00", ""}, {"timestamp", "2026-11-28T10:00:00Z", ""}, {"timestamp with time zone", "infinity", "infinity"}, {"time", "10:00:00", "10:00:00"},
			{"bytea", `\x00ff41`, `\x00ff41`}, {"bit(5)", "10101", "10101"}, {"uuid", "11111111-2222-3333-4444-555555555555", "11111111-2222-3333-4444-555555555555"}, {"uuid", "1", ""}, {"jsonb", `{"a": [1, 2]}`, `{"a": [1, 2]}`}, {"json", `{"a":  1}`, `{"a":  1}`}, {"json", "{", ""}, {"integer[]", "{1,2}", "{1,2}"},
		},
		"mariadb": {
			{"integer", "2147483647", "2147483647"}, {"integer", "2147483648", ""}, {"integer", "7.5", ""}, {"integer", "15e-1", ""}, {"numeric(10,2)", "1.2345e0", ""}, {"integer unsigned", "-1", ""}, {"bigint unsigned", "18446744073709551615", "18446744073709551615"}, {"tinyint(1)", "true", "1"},
			{"numeric(10,2)", "12.5", "12.50"}, {"numeric(10,2)", "12.505", ""}, {"numeric(10,2)", "123456789.00", ""}, {"decimal(40,10)", "123456789012345678901234567890.1234567891", "123456789012345678901234567890.1234567891"}, {"double", "0.1", "0.1"}, {"double(8,2)", "0.123", ""}, {"double", "1e999", ""},
			{"varchar(3)", "abc", "abc"}, {"varchar(3)", "abcd", ""}, {"varchar(3)", "abc  ", ""}, {"text", "  kept  ", "  kept  "}, {"text", `back\slash \N 'x'`, `back\slash \N 'x'`}, {"varchar(9) CHARACTER SET latin1", "Ä€", "Ä€"}, {"varchar(9) CHARACTER SET latin1", "日本", ""},
			{"date", "2026-11-28", "2026-11-28"}, {"date", "2026-11-28 10:00", ""}, {"date", "2026-02-30", ""}, {"date", "0000-00-00", ""}, {"date", "20261128", ""}, {"datetime", "2026-11-28 10:00:00.5", ""}, {"datetime(3)", "2026-11-28 10:00:00.125", "2026-11-28 10:00:00.125"}, {"time", "10:00:00.7", ""}, {"time", "2026-11-28 10:00:00", ""}, {"datetime", "2026-11-28T10:00:00Z", ""}, {"year", "2026.7", ""}, {"time", "10:00:00", "10:00:00"},
			{"enum('open','shut','7')", "shut", "shut"}, {"enum('open','shut')", "1", ""}, {"enum('open','shut')", "closed", ""}, {"set('a','b')", "a,b", "a,b"}, {"set('a','b')", "3", ""}, {"bit(8)", "5", "5"}, {"bit(4)", "16", ""}, {"bit(4)", "x", ""},
			{"varbinary(9)", `\x00ff41`, "00FF41"}, {"blob", `\x0`, ""}, {"json", `{"a":  1}`, `{"a":  1}`}, {"year", "2026", "2026"},
		},
	}
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		list := func(header, row []string) string {
			var text bytes.Buffer
			csv.NewWriter(&text).WriteAll([][]string{header, row})
			return text.String()
		}
		step := func(path, action string) string {
			return d.job("[[step]]\ntable = 'v'\nchanges = '" + path + "'\naction = '" + action + "'\n")
		}
		header, row, columns := []string{"id"}, []string{"2"}, ""
		var kept []value
		for n, v := range values[d.engine] {
			if v.want != "" {
				name := fmt.Sprintf("c%d", n)
				header, row, kept = append(header, name), append(row, v.text), append(kept, v)
				columns += ", " + name + " " + v.typ
				continue
			}
			d.exec("DROP TABLE IF EXISTS v", "CREATE TABLE v (id "+d.integer()+" PRIMARY KEY, x "+v.typ+")")
			if o := d.must(2, "run", step(d.list("v.csv", list([]string{"id", "x"}, []string{"2", v.text})), "update"), "--accept", "any"); !strings.Contains(o.err, "v.csv:2") {
				t.Errorf("%d: %s %q: %s", n, v.typ, v.text, o.err)
			}
		}
		d.exec("DROP TABLE IF EXISTS v", "CREATE TABLE v (id "+d.integer()+" PRIMARY KEY"+columns+")", "INSERT INTO v (id) VALUES (2)")
		for _, action := range []string{"update", "insert"} {
			row[0] = map[string]string{"update": "2", "insert": "3"}[action]
			d.must(0, "run", step(d.list("v.csv", list(header, row)), action), "--accept", "1")
			for i, v := range kept {
				name := header[i+1]
				show := map[string]string{"sqlite": "CAST(" + name + " AS text)", "postgres": name + "::text", "mariadb": "CAST(" + name + " AS char)"}[d.engine]
				switch {
				case strings.HasPrefix(v.typ, "varb"):
					show = "hex(" + name + ")"
				case strings.HasPrefix(v.typ, "bit") && d.engine == "mariadb":
					show = name + " + 0"
				}
				if got := d.one("SELECT " + show + " FROM v WHERE id = " + row[0]); got != v.want {
					t.Errorf("%s %q by %s is stored as %q, expected %q", v.typ, v.text, action, got, v.want)
				}
			}
			d.must(0, "verify", d.lastRun())
		}
	})
}

// TestListForATableCalledLine: a table that is called as the job's SQL calls a line, or as we
// call anything, is none the less told from the list.
func TestListForATableCalledLine(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		for n, name := range []string{"line", "listed", "k", "l", "t", "Line"} {
			table := d.quote(name)
			d.exec("DROP TABLE IF EXISTS "+table, "CREATE TABLE "+table+" (id "+d.integer()+" PRIMARY KEY, n integer)", "INSERT INTO "+table+" SELECT i, i FROM "+d.numbers(9))
			before := d.dump(table)
			for i, x := range []struct{ action, list, want string }{
				{"delete", "id\n3\n77\n", "8 42"}, {"update", "id,n\n3,7\n77,7\n", "9 49"}, {"insert", "id,n\n3,7\n77,7\n", "10 52"}, {"upsert", "id,n\n3,7\n77,7\n", "10 56"},
			} {
				if n > 1 && i%2 != n%2 { // each action with half of the names
					continue
				}
				d.must(0, "run", d.job("[[step]]\ntable = '"+table+"'\nchanges = '"+d.list("list.csv", x.list)+"'\naction = '"+x.action+"'\n"), "--accept", "any", "--again")
				run := d.lastRun()
				if got := d.one("SELECT concat(count(*), ' ', sum(n)) FROM " + table); got != x.want {
					t.Errorf("%s of %s: %s, expected %s", x.action, name, got, x.want)
				}
				d.must(0, "verify", run)
				d.must(0, "undo", run)
				same(t, "undone", d.dump(table), before)
			}
		}
		// SQL of the job's own calls the line in the same way.
		d.exec("DROP TABLE IF EXISTS "+d.quote("line"), "CREATE TABLE "+d.quote("line")+" (id "+d.integer()+" PRIMARY KEY, n integer)", "INSERT INTO "+d.quote("line")+" SELECT i, i FROM "+d.numbers(9))
		d.must(0, "run", d.job("[[step]]\ntable = '"+d.quote("line")+"'\nchanges = '"+d.list("list.csv", "id,factor\n3,100\n")+"'\naction = 'update'\nset = { n = 'n + CAST(listed.factor AS "+d.by("signed", "integer")+")' }\n"), "--accept", "1")
		if got := d.one("SELECT sum(n) FROM " + d.quote("line")); got != "145" {
			t.Errorf("sum %s", got)
		}
	})
}

// TestListMeansOneRow: lines that mean the same row without having the same key are refused, and
// so is a table of which a line could mean several rows.
func TestListMeansOneRow(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		column := map[string]string{"sqlite": "text COLLATE NOCASE", "postgres": "varchar(9)", "mariadb": "varchar(9)"}[d.engine]
		d.exec("CREATE TABLE t (code "+column+" PRIMARY KEY, n integer)", "INSERT INTO t VALUES ('b1', 1), ('b2', 2)")
		before := d.dump("t")
		job := d.job("[[step]]\ntable = 't'\nchanges = '" + d.list("list.csv", "code,n\nb1,7\nB1,8\n") + "'\naction = 'update'\n")
		status, want := map[string]int{"sqlite": 3, "postgres": 0, "mariadb": 2}[d.engine], map[string]string{"sqlite": "ambiguous-source", "postgres": "", "mariadb": "lines 2 and 3 have the same key (code)"}[d.engine]
		for _, keep := range []string{"values", "none"} {
			if o := d.must(status, "run", job, "--accept", "any", "--keep", keep, "--again"); !strings.Contains(o.err, want) {
				t.Error(o.err)
			}
			if status != 0 {
				same(t, "refused", d.dump("t"), before)
			}
		}
		if d.engine == "postgres" { // to which they are two keys
			d.exec("CREATE TABLE heir (PRIMARY KEY (code)) INHERITS (t)")
			if o := d.must(2, "run", job, "--accept", "any", "--again"); !strings.Contains(o.err, "a line could mean a row in each of them") {
				t.Error(o.err)
			}
		}
	})
}

// TestListByInvalidIndex: a unique index that was not made to the end does not make columns a key, since a
// line could mean several rows; nor does it say where a row that is moved is.
func TestListByInvalidIndex(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		if d.engine != "postgres" {
			t.Skip("indexes are valid there")
		}
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, k integer NOT NULL, v integer)", "CREATE TABLE arch (id integer NOT NULL, k integer, v integer)",
			"INSERT INTO t VALUES (1, 1, 10), (2, 1, 11), (3, 2, 20)", "INSERT INTO arch VALUES (7, 1, 1), (7, 1, 1)")
		for _, sql := range []string{"CREATE UNIQUE INDEX CONCURRENTLY u ON t (k)", "CREATE UNIQUE INDEX CONCURRENTLY a ON arch (id)"} {
			if _, err := d.db.Exec(sql); err == nil {
				t.Fatal("a unique index of rows that are the same was made")
			}
		}
		same(t, "invalid", d.lines("SELECT relname FROM pg_index JOIN pg_class c ON c.oid = indexrelid WHERE NOT indisvalid ORDER BY 1"), []string{"a", "u"})
		before := d.dumpAll([]string{"t", "arch"})
		list := d.list("list.csv", "k,v\n1,5\n")
		if o := d.must(2, "run", d.job("[[step]]\ntable = 't'\nchanges = '"+list+"'\nkey = ['k']\naction = 'update'\n"), "--accept", "any"); !strings.Contains(o.err, "two rows of t may have the same k") {
			t.Error(o.err)
		}
		if o := d.must(2, "run", d.job("[[step]]\ntable = 't'\nmove_to = 'arch'\nwhere = 'k = 2'\n"), "--accept", "any"); !strings.Contains(o.err, "arch has no unique key over (id)") {
			t.Error(o.err)
		}
		if o := d.must(3, "run", "--sql", "UPDATE arch SET v = 2 WHERE k = 1", "--accept", "any"); !strings.Contains(o.err, "the unique index a is not valid") {
			t.Error(o.err)
		}
		same(t, "unchanged", d.dumpAll([]string{"t", "arch"}), before)
	})
}

// TestNotNullNotValid: a column that is NOT NULL for new rows alone may be NULL in others, and is no key.
func TestNotNullNotValid(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		if d.engine != "postgres" || d.one("SELECT current_setting('server_version_num')::int >= 180000") != "true" {
			t.Skip("PostgreSQL 18 has that")
		}
		d.exec("CREATE TABLE t (k integer, v integer)", "INSERT INTO t VALUES (1, 1), (NULL, 2), (NULL, 3)", "ALTER TABLE t ADD CONSTRAINT nn NOT NULL k NOT VALID", "CREATE UNIQUE INDEX u ON t (k)")
		if o := d.must(3, "run", "--sql", "UPDATE t SET v = v + 10", "--accept", "3", "--every-row"); !strings.Contains(o.err, "no-key") {
			t.Error(o.err)
		}
		d.exec("DELETE FROM t WHERE k IS NULL", "ALTER TABLE t VALIDATE CONSTRAINT nn")
		d.must(0, "run", "--sql", "UPDATE t SET v = v + 10", "--accept", "1", "--every-row")
		same(t, "changed", d.dump("t"), []string{"(1,11)"})
	})
}
