package shape

import (
	"os"
	"regexp"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/pelletier/go-toml/v2"
)

// made makes a chain of transforms as they stand in a job file.
func made(t testing.TB, list ...any) Chain {
	t.Helper()
	var c Chain
	for _, v := range list {
		_, one, err := Read(v)
		if err != nil {
			t.Fatalf("%v: %v", v, err)
		}
		c = append(c, one)
	}
	return c
}

type m = map[string]any

// TestTransforms: what each makes of a value; and that it has nothing more to do with what it made, where
// that is so.
func TestTransforms(t *testing.T) {
	for _, x := range []struct {
		by      []any
		v, want string
		again   string // what comes of it a second time, where it is another
	}{
		{[]any{"trim"}, " \t\u00a0Kestrel\u2003\n", "Kestrel", ""},
		{[]any{"trim"}, "", "", ""},
		{[]any{"collapse"}, "MV \t Kestrel\u00a0II", "MV Kestrel II", ""},
		{[]any{"collapse"}, "  a ", " a ", ""},
		{[]any{"collapse"}, "a ", "a ", ""},
		{[]any{"upper"}, "straße élan", "STRASSE ÉLAN", ""},
		{[]any{m{"upper": "tr"}}, "izmir", "İZMİR", ""},
		{[]any{"lower"}, "KESTREL", "kestrel", ""},
		{[]any{"title"}, "north quay", "North Quay", ""},
		{[]any{"title"}, "NORTH quay", "North Quay", ""},
		{[]any{"title"}, "o'brien", "O'brien", ""},
		{[]any{m{"title": "nl"}}, "ijmuiden", "IJmuiden", ""},
		{[]any{"normalise"}, "e\u0301", "é", ""},
		{[]any{m{"normalise": "NFD"}}, "é", "e\u0301", ""},
		{[]any{m{"normalise": "NFKC"}}, "ﬁn №", "fin No", ""},
		{[]any{m{"pad_left": int64(5), "with": "0"}}, "42", "00042", ""},
		{[]any{m{"pad_left": int64(3), "with": "é"}}, "é", "ééé", ""},
		{[]any{m{"pad_right": int64(4)}}, "ab", "ab  ", ""},
		{[]any{m{"pad_right": int64(4)}}, "abcdef", "abcdef", ""},
		{[]any{m{"keep": "digits"}}, "GB-2301 8", "23018", ""},
		{[]any{m{"keep": []any{"digits", "letters", "-"}}}, "GB-2301 8!", "GB-23018", ""},
		{[]any{m{"drop": "-./ "}}, "a-b.c/d e", "abcde", ""},
		{[]any{m{"drop": []any{"controls", "punctuation"}}}, "a\u200b\x00b.", "ab", ""},
		{[]any{m{"word_to_end": []any{"MV", "SS"}}}, "MV Kestrel", "Kestrel, MV", ""},
		{[]any{m{"word_to_end": "MV"}}, "MVKestrel", "MVKestrel", ""},
		{[]any{m{"word_to_end": "MV"}}, "MV ", "MV ", ""},
		{[]any{m{"word_to_end": "The", "between": " - "}}, "The Gull", "Gull - The", ""},
		{[]any{m{"word_to_front": "MV"}}, "Kestrel, MV", "MV Kestrel", ""},
		{[]any{m{"rewrite": `(\d+) ?t\b`, "with": "${1} tonnes"}}, "12t of 3 t", "12 tonnes of 3 tonnes", ""},
		{[]any{m{"rewrite": `(?P<n>\d)`, "with": "<$n>"}}, "1", "<1>", "<<1>>"},
		{[]any{m{"rewrite": `x`, "with": "$$"}}, "x", "$", ""},
		{[]any{m{"decode": "html"}}, "Fish &amp; Sons &eacute;", "Fish & Sons é", ""},
		{[]any{m{"decode": "html"}}, "a & b", "a & b", ""},
		{[]any{m{"decode": "html"}}, "&amp;lt;", "&lt;", "<"},
		{[]any{m{"decode": "percent"}}, "North%20Quay %zz %", "North Quay %zz %", ""},
		{[]any{m{"decode": "percent"}}, "%ff", "%ff", ""},
		{[]any{m{"recode": "windows-1252"}}, "CafÃ© â€“", "Café –", ""},
		{[]any{m{"recode": "windows-1252"}}, "Café", "Café", ""},
		{[]any{m{"recode": "windows-1252"}}, "日本", "日本", ""},
		{[]any{"trim", "collapse", m{"word_to_end": "MV"}, "title"}, "  MV   kestrel ", "Kestrel, Mv", ""},
	} {
		c := made(t, x.by...)
		v := []byte(x.v)
		got, err := c.Apply(v)
		if err != nil || string(got) != x.want || string(v) != x.v {
			t.Errorf("%v of %q: %q, expected %q (%v); the value is %q then", x.by, x.v, got, x.want, err, v)
			continue
		}
		again, err := c.Apply(got)
		if want := x.again; err != nil || string(again) != want && (want != "" || string(again) != x.want && len(x.by) == 1) {
			t.Errorf("%v of %q: %q, and then %q", x.by, x.v, got, again)
		}
		if changes := len(c.Steps(v)) > 0; changes != (x.v != x.want) {
			t.Errorf("%v of %q: %v", x.by, x.v, c.Steps(v))
		}
	}
	if _, err := made(t, "trim").Apply([]byte("\xff")); err != ErrNotText {
		t.Error(err)
	}
}

// TestReadFaults: what is no transform is refused, and why.
func TestReadFaults(t *testing.T) {
	for _, x := range []struct {
		v    any
		want string
	}{
		{"shout", `no transform "shout"`},
		{m{"shout": 1}, "none of shout is a transform"},
		{int64(3), "expected a transform"},
		{m{"trim": "x"}, "takes nothing"},
		{m{"trim": true, "with": "x"}, `unknown key "with"`},
		{m{"upper": "klingon language"}, "no language"},
		{m{"normalise": "NFX"}, "none of NFC"},
		{m{"pad_left": int64(0)}, "from 1 to"},
		{m{"pad_left": "8"}, "whole number"},
		{m{"pad_left": int64(8), "with": "ab"}, "not one character"},
		{m{"keep": "digit"}, "no class"},
		{m{"keep": []any{}}, "empty"},
		{m{"drop": int64(1)}, "expected a text"},
		{m{"word_to_end": ""}, "stands for nothing"},
		{m{"rewrite": "(", "with": ""}, "missing closing )"},
		{m{"rewrite": "a"}, "with:"},
		{m{"rewrite": "(a)", "with": "$1b"}, `no group "1b"`},
		{m{"rewrite": "(a)", "with": "${name}"}, `no group "name"`},
		{m{"decode": "base64"}, "neither html nor percent"},
		{m{"recode": "nonsense"}, "no encoding"},
		{m{"blank_to_null": "x"}, "takes nothing"},
		{m{"null_to": int64(1)}, "expected a text"},
		{m{"before": ""}, "expected a text"},
		{m{"after": ",", "at": int64(0)}, "1 for the first"},
		{m{"extract": "("}, "missing closing )"},
		{m{"extract": "(a)", "group": int64(2)}, "no group 2"},
		{m{"extract": "(a)", "group": "b"}, `no group "b"`},
		{m{"map": m{}}, "expected {"},
		{m{"map": m{"a": int64(1)}}, `"a": expected a text`},
		{m{"map": m{"a": "b"}, "otherwise": "drop"}, "not keep, null or refuse"},
		{m{"number": ";"}, "no decimal mark"},
		{m{"number": ",", "group": ","}, "cannot stand between"},
		{m{"date": "dd.mm.yyyy"}, "does not say how"},
		{m{"date": "2006"}, "does not say how"},
	} {
		if _, _, err := Read(x.v); err == nil || !strings.Contains(err.Error(), x.want) {
			t.Errorf("%v: %v, expected %q", x.v, err, x.want)
		}
	}
}

// all is a chain of every sort.
func all(t testing.TB) []any {
	return []any{"trim", "collapse", "upper", "lower", "title", "normalise", m{"pad_left": int64(3)}, m{"pad_right": int64(3)}, m{"keep": []any{"letters", "digits", " ", "-"}}, m{"drop": "symbols"},
		m{"word_to_end": "MV"}, m{"word_to_front": "MV"}, m{"rewrite": `\d{9,}`, "with": ""}, m{"decode": "html"}, m{"decode": "percent"}, m{"recode": "windows-1252"},
		"blank_to_null", m{"null_to": "?"}, m{"before": ", ", "at": int64(-1)}, m{"after": ", "}, m{"extract": `(\d+) t`}, m{"map": m{"a": "b"}, "otherwise": "null"}, m{"number": ",", "group": "."}, m{"date": "02.01.2006"}}
}

// TestEveryWordIsTried: the tests above leave none out, and the docs tell every one.
func TestEveryWordIsTried(t *testing.T) {
	tried := map[string]bool{}
	for _, v := range all(t) {
		s, _, err := Read(v)
		if err != nil {
			t.Fatal(err)
		}
		tried[s.Word] = true
	}
	for _, w := range Words() {
		if !tried[w] {
			t.Errorf("%s is not among them", w)
		}
	}
}

// FuzzTransforms: whatever the text, what comes out is a text, the value itself is not touched, and
// what changes nothing gives the very value.
func FuzzTransforms(f *testing.F) {
	for _, s := range []string{"", " ", "MV Kestrel", "\u00a0é", "&amp;%41", "CafÃ©", "İi", "ß", "\u0345α"} {
		f.Add(s)
	}
	chain := made(f, all(f)...)
	f.Fuzz(func(t *testing.T, s string) {
		if !utf8.ValidString(s) {
			return
		}
		for _, one := range chain {
			v := []byte(s)
			out, _ := one.Apply(v) // that it has no such form is told
			if !utf8.Valid(out) || string(v) != s {
				t.Fatalf("%s of %q: %q, and the value is %q", one.Name, s, out, v)
			}
		}
	})
}

// TestNothingAllocated: a text that is as it should be already costs no memory.
func TestNothingAllocated(t *testing.T) {
	for _, x := range []struct {
		by any
		v  string
	}{{"trim", "North Quay é"}, {"collapse", "North Quay é"}, {"upper", "NORTH QUAY"}, {"lower", "north quay"}, {"title", "North Quay"}, {"normalise", "North Quay é"}, {m{"pad_left": int64(3)}, "North"},
		{m{"keep": []any{"letters", " "}}, "North Quay"}, {m{"drop": "digits"}, "North Quay"}, {m{"word_to_end": "MV"}, "North Quay"}, {m{"word_to_front": "MV"}, "North Quay"},
		{m{"rewrite": "x+", "with": ""}, "North Quay"}, {m{"decode": "html"}, "North Quay"}, {m{"decode": "percent"}, "North Quay"}, {m{"recode": "windows-1252"}, "North Quay"}} {
		c, v := made(t, x.by), []byte(x.v)
		if n := testing.AllocsPerRun(100, func() {
			if out, err := c.Apply(v); err != nil || len(out) != len(v) {
				t.Fatalf("%v of %q: %q, %v", x.by, x.v, out, err)
			}
		}); n > 0 {
			t.Errorf("%v: %v allocations", x.by, n)
		}
	}
}

// BenchmarkClean is a chain over texts that are as they should be; BenchmarkDirty over others.
func BenchmarkClean(b *testing.B) {
	bench(b, "North Quay, berth 12; the mooring lines were inspected and found good")
}
func BenchmarkDirty(b *testing.B) {
	bench(b, "  North   Quay, berth 12; the mooring lines  were inspected and found good ")
}

func bench(b *testing.B, text string) {
	c := made(b, "trim", "collapse", m{"drop": "controls"}, m{"decode": "html"})
	v := []byte(text)
	b.SetBytes(int64(len(v)))
	b.ReportAllocs()
	for b.Loop() {
		if _, err := c.Apply(v); err != nil {
			b.Fatal(err)
		}
	}
}

// TestDocs: the page about transforms is right in every row, and leaves none out.
func TestDocs(t *testing.T) {
	text, err := os.ReadFile("../../docs/shapes.md")
	if err != nil {
		t.Fatal(err)
	}
	told := map[string]bool{}
	for line := range strings.Lines(string(text)) {
		m := regexp.MustCompile("^\\| `(.+?)` \\| `(\".*?\"|NULL)` \\| `(\".*?\"|NULL)` \\| ").FindStringSubmatch(line)
		if m == nil {
			continue
		}
		var v struct{ X any }
		if err := toml.Unmarshal([]byte("x = "+m[1]), &v); err != nil {
			t.Fatalf("%s: %v", line, err)
		}
		text := func(of string) []byte {
			if of == "NULL" {
				return nil
			}
			s, err := strconv.Unquote(of)
			if err != nil {
				t.Fatalf("%s: %v", line, err)
			}
			return append([]byte{}, s...)
		}
		of, want := text(m[2]), text(m[3])
		spec, one, err := Read(v.X)
		if err != nil {
			t.Fatalf("%s: %v", line, err)
		}
		told[spec.Word] = true
		if got, err := (Chain{one}).Apply(of); err != nil || string(got) != string(want) || (got == nil) != (want == nil) {
			t.Errorf("%s: it makes %q", strings.TrimSpace(line), got)
		}
	}
	for _, w := range Words() {
		if !told[w] {
			t.Errorf("the page does not tell of %s", w)
		}
	}
}

// TestNumbersAndDates: what is no number, or no date, is told, and nothing is made of it.
func TestNumbersAndDates(t *testing.T) {
	for _, x := range []struct {
		by   any
		v    string
		want string // what comes out, or a part of the error
	}{
		{m{"number": "."}, "1234.50", "1234.5"}, {m{"number": "."}, "-0.50", "-0.5"}, {m{"number": "."}, "007", "7"}, {m{"number": "."}, ".5", "0.5"}, {m{"number": "."}, "0", "0"}, {m{"number": "."}, "+1200", "1200"},
		{m{"number": ","}, "1234,5", "1234.5"}, {m{"number": ","}, "1234.5", "no number with a decimal comma"}, {m{"number": ".", "group": ","}, "1,234,567.8", "1234567.8"},
		{m{"number": ".", "group": ","}, "12,34", "no number with"}, {m{"number": ".", "group": ","}, "1,2345", "no number with"}, {m{"number": ".", "group": ","}, "1.234,5", "no number with"}, {m{"number": ".", "group": ","}, ",123", "no number with"},
		{m{"number": "."}, "12 t", "no number"}, {m{"number": "."}, "", "no number"}, {m{"number": "."}, "1e5", "no number"}, {m{"number": "."}, "0x10", "no number"}, {m{"number": "."}, "1.2.3", "no number"},
		{m{"date": "02.01.2006"}, " 28.11.2026 ", "2026-11-28"}, {m{"date": "02.01.2006"}, "31.02.2026", "no date"}, {m{"date": []any{"02.01.2006", "2 Jan 2006"}}, "3 Dec 1999", "1999-12-03"}, {m{"date": "02.01.2006"}, "", "no date"},
		{m{"map": m{"a": "b"}, "otherwise": "refuse"}, "c", "none of the texts"},
	} {
		out, err := made(t, x.by).Apply([]byte(x.v))
		if err != nil && strings.Contains(err.Error(), x.want) || err == nil && string(out) == x.want {
			continue
		}
		t.Errorf("%v of %q: %q, %v", x.by, x.v, out, err)
	}
}
