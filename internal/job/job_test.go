package job

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/sqltext"
)

const tariff = `title  = "Mooring tariff"
reason = "CHG-1"

[param.rise]
type = "decimal"
ask  = "Factor?"

[limits]
hold  = "50ms"
batch = 500
workers = 2
replicas = ["mariadb://db2/"]
waiters = 2
lag = "5s"
log_rate = "20MB/s"
window = "22:00-05:30"

[[step]]
name  = "raise"
table = "berth"
where = "closed_on IS NULL"
let   = { full = "day_rate * :rise", a = "full + 1" }
set   = { day_rate = "round(full, 2)" }
put   = { revised_by = "office", n = 5, ok = true, on = 2026-03-01, at = 2026-03-01T06:30:00, f = 1.5 }
expect = "100..250"
check = [{ sql = "SELECT 1", is = 0, when = "both" }]

[[step]]
sql = "DELETE FROM t WHERE a = 1"
expect = 7
`

func TestParse(t *testing.T) {
	j, err := Parse("tariff.toml", []byte(tariff))
	if err != nil {
		t.Fatal(err)
	}
	got := fmt.Sprintf("%s|%s|%v|%v|%d", j.Title, j.Reason, j.Params, j.Limits, len(j.Steps))
	if want := "Mooring tariff|CHG-1|[{rise decimal Factor?}]|{50ms 500 2 [mariadb://db2/] map[lag:5s log_rate:20MB/s waiters:2 window:22:00-05:30]}|2"; got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	s := j.Steps[0]
	if got, want := fmt.Sprint(s.Let, s.Set, s.Put, s.Expect, s.Checks), "[{full day_rate * :rise} {a full + 1}] [{day_rate round(full, 2)}] [{revised_by {text office false []}} {n {integer 5 false []}} {ok {boolean true false []}} {on {date 2026-03-01 false []}} {at {timestamp 2026-03-01 06:30:00 false []}} {f {decimal 1.5 false []}}] 100..250 [{SELECT 1 0 true true}]"; got != want {
		t.Errorf("got  %s\nwant %s", got, want)
	}
	if j.Steps[1].Name != "step 2" || j.Steps[1].Expect.String() != "7" {
		t.Errorf("second step: %+v", j.Steps[1])
	}
}

func TestFaultsHaveTheirPlace(t *testing.T) {
	step := "[[step]]\nname = \"a\"\ntable = \"t\"\n"
	for _, c := range []struct{ what, text, want string }{
		{"unknown key", step + "wher = \"x\"", `j.toml:4:1: unknown key "step.wher"; the nearest known one is "where"`},
		{"unknown section", "[limit]\nhold = \"1s\"", `j.toml:1:2: unknown key "limit"; the nearest known one is "limits"`},
		{"wrong type", "title = 5", "j.toml:1:9: title: expected a text, not a TOML integer"},
		{"broken TOML", "title = \"x", "j.toml:1:"},
		{"key twice", "title = \"x\"\ntitle = \"y\"", "j.toml:2:1: "},
		{"bad UTF-8", "title = \"\xff\"", "j.toml:1:10: byte 0xff is not valid UTF-8"},
		{"no steps", "title = \"x\"", "j.toml:1:1: the job has no [[step]]"},
		{"nothing to do", step, `j.toml:1:3: step "a": there is nothing to do`},
		{"two forms", step + "sql = \"DELETE FROM t\"", `j.toml:4:1: step "a": sql stands alone`},
		{"change and delete", step + "delete = true\nset = { a = \"1\" }", `j.toml:4:1: step "a": a step deletes rows or changes them`},
		{"empty where", step + "where = \" \"\nset = { a = \"1\" }", `j.toml:4:1: step "a": where is empty`},
		{"no table", "[[step]]\nset = { a = \"1\" }", `j.toml:1:3: step "step 1": table is missing`},
		{"bad expect", step + "set = { a = \"1\" }\nexpect = \"9..3\"", `j.toml:5:1: step "a": expect: "9..3" is not a number of rows`},
		{"bad hold", "[limits]\nhold = \"fast\"\n" + step + "delete = true", `j.toml:2:1: limits.hold: "fast" is not a time`},
		{"bad workers", "[limits]\nworkers = 0\n" + step + "delete = true", "j.toml:2:1: limits.workers: 0 is not a number from 1 to 64"},
		{"bad batch", "[limits]\nbatch = 0\n" + step + "delete = true", "j.toml:2:1: limits.batch: 0 is not a number of rows"},
		{"parameter without a type", "[param.x]\nask = \"?\"\n" + step + "delete = true", "j.toml:1:8: param.x: type is missing"},
		{"parameter of an unknown type", "[param.x]\ntype = \"float\"\n" + step + "delete = true", `j.toml:2:1: param.x: "float" is not a type`},
		{"check without its value", step + "delete = true\ncheck = [{ sql = \"SELECT 1\" }]", `j.toml:5:1: step "a": check 1: is,`},
		{"two steps of one name", step + "delete = true\n" + step + "delete = true", `j.toml:6:1: two steps are called "a"`},
		{"a list where a value is put", step + "put = { a = [1] }", `j.toml:4:9: step "a": put.a: expected a text, number`},
	} {
		_, err := Parse("j.toml", []byte(c.text))
		var e *Error
		if !errors.As(err, &e) || !strings.HasPrefix(err.Error(), c.want) {
			t.Errorf("%s: %v\nwant %s", c.what, err, c.want)
		}
	}
}

func TestErrorsOfTheChangeArePlaced(t *testing.T) {
	j, err := Parse("j.toml", []byte("[[step]]\nname = \"a\"\ntable = \"t\"\nset = { b = \"1\", c = \"'x\" }\n"))
	if err != nil {
		t.Fatal(err)
	}
	_, lexError := sqltext.Expression(dialect.SQLite, "'x")
	got := j.At(&change.FieldError{Step: "a", Field: "set.c", Err: lexError}).Error()
	want := "j.toml:4:18: step \"a\": set.c: line 1, column 1: this string has no closing '\n  'x\n  ^"
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

func TestValues(t *testing.T) {
	for _, c := range []struct {
		typ  change.ValueType
		text string
		ok   bool
	}{
		{"integer", "-12", true}, {"integer", "1.5", false}, {"integer", "99999999999999999999", false},
		{"decimal", "1.035", true}, {"decimal", "-.5", true}, {"decimal", "1,5", false}, {"decimal", "1e5", false}, {"decimal", "", false}, {"decimal", "1.2.3", false},
		{"boolean", "true", true}, {"boolean", "yes", false},
		{"date", "2026-02-28", true}, {"date", "2026-02-30", false},
		{"timestamp", "2026-03-01 06:30:00", true}, {"timestamp", "2026-03-01T06:30:00Z", true}, {"timestamp", "today", false},
		{"text", "", true}, {"money", "1", false},
	} {
		if _, err := ParseValue(c.typ, c.text); (err == nil) != c.ok {
			t.Errorf("%s %q: %v", c.typ, c.text, err)
		}
	}
	j := FromSQL("UPDATE t SET a = :a")
	for text, want := range map[string]change.ValueType{"5": "integer", "1.50": "decimal", "007": "text", "0.5": "decimal", "x": "text", "": "text"} {
		v, _, err := j.Values(map[string]string{"a": text})
		if err != nil || v["a"].Type != want || v["a"].Text != text {
			t.Errorf("%q is taken as %v (%v), want %s", text, v, err, want)
		}
	}
	v, _, err := j.Values(map[string]string{"a:text": "5"})
	if err != nil || v["a"].Type != "text" {
		t.Errorf("a told type is not taken: %v %v", v, err)
	}
}

func TestDigest(t *testing.T) {
	parse := func(text string) *Job {
		j, err := Parse("x.toml", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		return j
	}
	five := map[string]change.Value{"rise": {Type: "decimal", Text: "5"}}
	a := parse(tariff).Digest(dialect.SQLite, five)
	if b := parse("# a remark\n"+strings.Replace(tariff, "50ms", "70ms", 1)).Digest(dialect.SQLite, five); a != b {
		t.Error("remarks and limits make another job")
	}
	if b := parse(tariff).Digest(dialect.SQLite, map[string]change.Value{"rise": {Type: "decimal", Text: "6"}}); a == b {
		t.Error("another parameter makes the same job")
	}
	if b := parse(strings.Replace(tariff, "round(full, 2)", "ROUND( full,2 )", 1)).Digest(dialect.SQLite, five); a != b {
		t.Error("blanks and the case of words make another job of it")
	}
	if b := parse(strings.Replace(tariff, "round(full, 2)", "round(full, 1)", 1)).Digest(dialect.SQLite, five); a == b {
		t.Error("another formula makes the same job")
	}
}

// FuzzParse holds that no text makes the reader crash and that every fault is an *Error.
func FuzzParse(f *testing.F) {
	f.Add([]byte(tariff))
	f.Add([]byte("[[step]]\nsql = 'x'\n[step.let]\na.b = '1'"))
	f.Add([]byte("step = [{ table = 't', delete = true }]"))
	f.Fuzz(func(t *testing.T, text []byte) {
		j, err := Parse("x.toml", text)
		var e *Error
		if err != nil && !errors.As(err, &e) {
			t.Fatalf("%T: %v", err, err)
		}
		if err == nil && len(j.Steps) == 0 {
			t.Fatal("a job without steps")
		}
	})
}

// TestNumbersAreExact: a number with a point has all of the digits that its author wrote, or is refused;
// it is spelled as it was before, so that a job is the same as one that was run.
func TestNumbersAreExact(t *testing.T) {
	for written, want := range map[string]string{
		"1.5": "1.5", "1.10": "1.1", "100.0": "100", "-0.5": "-0.5", "+2.25": "2.25", "1_000.5": "1000.5", "0.1": "0.1", "1e3": "1000", "2.5e-3": "0.0025",
		"12345678901234567.89": "12345678901234567.89", "0.12345678901234567890123": "0.12345678901234567890123", "-99999999999999999999.99": "-99999999999999999999.99",
		"1.2345678901234567e10": "!", "inf": "!", "nan": "!",
	} {
		j, err := Parse("j.toml", []byte("[[step]]\ntable = \"berth\"\nwhere = \"true\"\nput = { zone = 'a', rate = "+written+" }\n"))
		if err != nil {
			if want != "!" || !strings.Contains(err.Error(), "j.toml:4:") {
				t.Errorf("%s: %v", written, err)
			}
			continue
		}
		if got := j.Steps[0].Put[1].Value.Text; got != want {
			t.Errorf("%s: %s, expected %s", written, got, want)
		}
		apart, err := Parse("j.toml", []byte("[[step]]\ntable = \"berth\"\nwhere = \"true\"\n[step.put]\nrate = "+written+"\n"))
		if err != nil || apart.Steps[0].Put[0].Value.Text != want {
			t.Errorf("%s: %+v, %v", written, apart, err)
		}
		params, err := ParseParams("p.toml", []byte("rate = "+written+"\n"))
		if err != nil || params["rate"] != want {
			t.Errorf("%s as a parameter: %v, %v", written, params, err)
		}
	}
	for _, text := range []string{"put = { at = 2026-01-02T03:04:05.1234567 }", "put = { at = 2026-01-02T03:04:05.1234567Z }", "check = [{ sql = \"SELECT 1\", is = 12345678901234567.89 }]\nset = { a = \"1\" }"} {
		if _, err := Parse("j.toml", []byte("[[step]]\ntable = \"berth\"\nwhere = \"true\"\n"+text+"\n")); err == nil {
			t.Errorf("%s is cut without a word", text)
		}
	}
}
