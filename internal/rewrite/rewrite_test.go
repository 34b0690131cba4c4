package rewrite

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"regexp"
	"strings"
	"testing"
)

func TestReplace(t *testing.T) {
	const a, b = "http://charts.saltmere.test", "https://charts.saltmere.test"
	address := Rules{Pairs: []Pair{{a, b}}}
	moor := func(c Case, words bool) Rules { return Rules{Pairs: []Pair{{"moor", "berth"}}, Case: c, Words: words} }
	for _, c := range []struct {
		name     string
		rules    Rules
		in, want string
	}{
		{"plain", address, "see " + a + "/1 and " + a, "see " + b + "/1 and " + b},
		{"nothing there", address, "see the chart", "see the chart"},
		{"escaped slashes within other text", address, `x = "http:\/\/charts.saltmere.test\/1";`, `x = "https:\/\/charts.saltmere.test\/1";`},
		{"JSON keeps its style", address, "{ \"a\" :\"http:\\/\\/charts.saltmere.test\\/q\",\n\"n\": 1.50e+3,\"b\": [\"" + a + "\"] }", "{ \"a\" :\"https:\\/\\/charts.saltmere.test\\/q\",\n\"n\": 1.50e+3,\"b\": [\"" + b + "\"] }"},
		{"JSON with hidden letters", address, `["http:\u002f\u002Fch\u0061rts.saltmere.test\t\u00e9"]`, `["https://charts.saltmere.test\t\u00e9"]`},
		{"JSON escapes what it must", Rules{Pairs: []Pair{{"quay", "q\"\\\n"}}}, `["a quay","é"]`, `["a q\"\\\n","é"]`},
		{"JSON that writes ASCII only", Rules{Pairs: []Pair{{"Moor", "Möwe"}}}, `["Moor \u00e4 \u20ac"]`, `["M\u00f6we \u00e4 \u20ac"]`},
		{"JSON keys stay", Rules{Pairs: []Pair{{"quay", "pier"}}}, `{"quay": "quay", "n": {"my quay": ["quay"]}}`, `{"quay": "pier", "n": {"my quay": ["pier"]}}`},
		{"JSON keys when asked", Rules{Pairs: []Pair{{"quay", "pier"}}, Keys: true}, `{"quay": "quay"}`, `{"pier": "pier"}`},
		{"serialised", address, `a:2:{s:6:"charts";s:29:"` + a + `/1";i:0;d:0.5;}`, `a:2:{s:6:"charts";s:30:"` + b + `/1";i:0;d:0.5;}`},
		{"serialised, shorter", Rules{Pairs: []Pair{{"Grüße", "x"}}}, `s:9:"Grüße 1";`, `s:3:"x 1";`},
		{"object, references, enumeration", Rules{Pairs: []Pair{{"quay", "mole"}, {"x", "yyy"}}}, `O:4:"quay":3:{s:4:"quay";R:1;s:1:"a";E:6:"A:quay";s:1:"b";O:1:"C":1:{s:2:"` + "\x00b" + `";s:5:"xquay";}}`,
			`O:4:"quay":3:{s:4:"quay";R:1;s:1:"a";E:6:"A:quay";s:1:"b";O:1:"C":1:{s:2:"` + "\x00b" + `";s:7:"yyymole";}}`},
		{"custom object", Rules{Pairs: []Pair{{"quay", "mooring"}}}, `C:1:"X":6:{a quay}`, `C:1:"X":9:{a mooring}`},
		{"serialised in serialised", Rules{Pairs: []Pair{{"quay", "long quay"}}}, `a:1:{i:0;s:11:"s:4:"quay";";}`, `a:1:{i:0;s:16:"s:9:"long quay";";}`},
		{"length gets another digit, twice", Rules{Pairs: []Pair{{"x", "xxxxxx"}}}, `s:14:"s:7:"abcdefx";";`, `s:20:"s:12:"abcdefxxxxxx";";`},
		{"JSON in serialised in JSON", Rules{Pairs: []Pair{{"a/b", "c/de"}}}, `{"k":"s:8:\"[\"a\\\/b\"]\";"}`, `{"k":"s:9:\"[\"c\\\/de\"]\";"}`},
		{"swapped in one pass", Rules{Pairs: []Pair{{"north", "south"}, {"south", "north"}}}, "north, south", "south, north"},
		{"the longer one first", Rules{Pairs: []Pair{{"no", "1"}, {"north", "2"}}}, "north no", "2 1"},
		{"it holds itself", Rules{Pairs: []Pair{{"a", "aa"}}}, "aXa", "aaXaa"},
		{"exact case", moor(Exact, false), "Moor moor moorland", "Moor berth berthland"},
		{"any case", moor(Any, false), "Moor MOOR", "berth berth"},
		{"case kept", moor(Keep, false), "Moor MOOR moor mOOr", "Berth BERTH berth berth"},
		{"whole words", moor(Exact, true), "moor moorland _moor moor, émoor moor", "berth moorland _moor berth, émoor berth"},
		{"whole words in any case", moor(Any, true), "Moor moorland MOOR", "berth moorland berth"},
		{"pattern", Rules{Pattern: `berth (\d+)`, Pairs: []Pair{{"", "no. $1"}}}, `["berth 7","x"]`, `["no. 7","x"]`},
		{"entities when named", Rules{Pairs: []Pair{{"R&D", "Q&A"}}, Forms: []Form{Plain, Entity}}, "R&amp;D R&D", "Q&amp;A Q&A"},
		{"percent when named", Rules{Pairs: []Pair{{"a/b", "ö/x"}}, Forms: []Form{Plain, URL}}, "a%2Fb a%2fb a/b", "%C3%B6%2Fx %c3%b6%2fx ö/x"},
		{"invalid UTF-8 around it", Rules{Pairs: []Pair{{"quay", "mole"}}}, "\xff\xfequay\xc3", "\xff\xfemole\xc3"},
		{"NUL around it", Rules{Pairs: []Pair{{"quay", "mole"}}}, "\x00quay\x00", "\x00mole\x00"},
		{"brackets that are no JSON", Rules{Pairs: []Pair{{"quay", "mole"}}}, "[b]the quay[/b]", "[b]the mole[/b]"},
		{"colons that are not serialised", Rules{Pairs: []Pair{{"quay", "mole"}}}, "a:12 quays, s:1 quay", "a:12 moles, s:1 mole"},
		{"same length within other text", Rules{Pairs: []Pair{{"quay", "mole"}}}, `<!-- s:4:"quay"; -->`, `<!-- s:4:"mole"; -->`},
		{"damaged, taken as plain", Rules{Pairs: []Pair{{"quay", "pier1"}}, Damaged: "plain"}, `a:1:{s:9:"quay";}`, `a:1:{s:9:"pier1";}`},
		{"damaged, without the text", Rules{Pairs: []Pair{{"quay", "pier"}}}, `a:1:{s:9:"x";}`, `a:1:{s:9:"x";}`},
	} {
		r, err := New(c.rules)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		got, err := r.Replace([]byte(c.in))
		if err != nil || string(got) != c.want {
			t.Errorf("%s: %v\ngot  %q\nwant %q", c.name, err, got, c.want)
		}
	}
}

func TestDamaged(t *testing.T) {
	r, err := New(Rules{Pairs: []Pair{{"quay", "pier 1"}}})
	if err != nil {
		t.Fatal(err)
	}
	for _, in := range []string{`a:1:{s:9:"quay";}`, `a:2:{i:0;s:4:"quay";}`, `a:1:{i:0;s:4:"quay";}}`, `s:5:"quay";`, `s:3:"quay";`, `s:4:"quay"`, `a:1:{i:0;s:4:"quay";`, `a:1:{d:1;s:4:"quay";}`, `O:9:"X":1:{s:4:"quay";N;}`,
		`a:1:{i:x;s:4:"quay";}`, `{"a": "quay",}`, `{"a": "quay}`[:len(`{"a": "quay}`)-1] + `}`, `["quay" "b"]`, `<!-- s:4:"quay"; -->`, `{"k":"a:1:{i:0;s:9:\"quay\";}"}`, `a:99999999999999999999:{i:0;s:4:"quay";}`} {
		got, err := r.Replace([]byte(in))
		var d *Damage
		if !errors.As(err, &d) || string(got) != in {
			t.Errorf("%q becomes %q, %v", in, got, err)
		}
	}
	deep := strings.Repeat("a:1:{i:0;", 5000) + `s:4:"quay";` + strings.Repeat("}", 5000)
	if _, err := r.Replace([]byte(deep)); err == nil {
		t.Error("5,000 levels are taken")
	}
}

func TestBadRules(t *testing.T) {
	for want, rules := range map[string]Rules{
		"empty":                  {Pairs: []Pair{{"", "x"}}},
		"nothing to find":        {},
		"twice":                  {Pairs: []Pair{{"a", "b"}, {"a", "c"}}},
		"matches the empty text": {Pattern: "x*", Pairs: []Pair{{"", "y"}}},
		"    a(b\n    ^":         {Pattern: "a(b", Pairs: []Pair{{"", "y"}}},
		"    é[z-a]\n      ^":    {Pattern: "é[z-a]", Pairs: []Pair{{"", "y"}}},
		`no form "xml"`:          {Pairs: []Pair{{"a", "b"}}, Forms: []Form{"xml"}},
		`"loose" is not known`:   {Pairs: []Pair{{"a", "b"}}, Case: "loose"},
	} {
		if _, err := New(rules); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%+v: %v, want %q", rules, err, want)
		}
	}
	r, err := New(Rules{Pattern: ".", Pairs: []Pair{{"", strings.Repeat("x", 1000)}}, Growth: 3})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := r.Replace([]byte("abc")); err == nil {
		t.Error("a pattern may make anything of a value")
	}
}

// node is a made-up value: text, or a structure that is printed and holds others.
type node struct {
	kind string // "text", "json", "serialised"
	text string
	keys []string
	subs []*node
}

func grow(r *rand.Rand, depth int) *node {
	words := []string{"quay", "a quay/", "é", "日本", `"`, `\`, "\n", "/", "quayquay", "", "x", "<b>", "'", "qua", "€ quay", "\U0001f6a2"}
	if depth == 0 || r.IntN(4) == 0 {
		n := &node{kind: "text"}
		for range r.IntN(5) {
			n.text += words[r.IntN(len(words))]
		}
		return n
	}
	n := &node{kind: []string{"json", "serialised"}[r.IntN(2)]}
	for range r.IntN(4) {
		n.keys = append(n.keys, words[r.IntN(len(words))]+"k")
		n.subs = append(n.subs, grow(r, depth-1))
	}
	return n
}

// print writes a node, its texts changed by f. What is printed of a node within
// another is a string there.
func (n *node) print(st style, f func(string) string) string {
	switch n.kind {
	case "text":
		return f(n.text)
	case "json":
		var b strings.Builder
		b.WriteString("{ ")
		for i, s := range n.subs {
			if i > 0 {
				b.WriteString(" ,\n")
			}
			fmt.Fprintf(&b, `"%s" : "%s"`, escapeJSON(n.keys[i], st), escapeJSON(s.print(st, f), st))
		}
		return b.String() + "}"
	}
	out := fmt.Sprintf("a:%d:{", len(n.subs))
	for i, s := range n.subs {
		text := s.print(st, f)
		out += fmt.Sprintf(`s:%d:"%s";s:%d:"%s";`, len(n.keys[i]), n.keys[i], len(text), text)
	}
	return out + "}"
}

// TestNested: replacing in the printed value gives what printing the replaced
// value gives, to the byte, at any nesting of JSON and serialised text.
func TestNested(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 2))
	replaced := 0
	for i := range 20_000 {
		n := grow(r, 1+i%4)
		if n.kind == "text" {
			continue
		}
		// A document without a slash does not say how it would write one.
		st, with := style{}, "Grüße/7"
		if r.IntN(2) == 0 {
			st, with = style{slash: true}, "Grüße \"7\""
		}
		rw, err := New(Rules{Pairs: []Pair{{"quay", with}}})
		if err != nil {
			t.Fatal(err)
		}
		flat, _ := New(Rules{Pairs: []Pair{{"quay", with}}, Forms: []Form{Plain}, Flat: true})
		before := n.print(st, func(s string) string { return s })
		want := n.print(st, func(s string) string {
			out, err := flat.Replace([]byte(s))
			if err != nil {
				t.Fatal(err)
			}
			return string(out)
		})
		got, err := rw.Replace([]byte(before))
		if err != nil {
			t.Fatalf("%v\n%q", err, before)
		}
		if string(got) != want {
			t.Fatalf("\nbefore %q\ngot    %q\nwant   %q", before, got, want)
		}
		if string(got) != before {
			replaced++
		}
	}
	if replaced < 5000 {
		t.Errorf("only %d of the values were changed", replaced)
	}
}

func TestFind(t *testing.T) {
	for _, c := range []struct {
		text, in string
		want     []string
	}{
		{"moor", "moor Moor moorland MOOR,", []string{"plain|moor", "plain|other case|Moor", "plain|in a longer word|moor", "plain|other case|MOOR"}},
		{"http://charts.test", "http://charts.test/1 https://charts.test http://www.charts.test HTTP://CHARTS.TEST charts.test", []string{
			"plain|http://charts.test", "plain|other scheme|https://charts.test", "plain|with www.|http://www.charts.test", "plain|other case|HTTP://CHARTS.TEST", "plain|without the scheme|charts.test"}},
		{"http://www.charts.test/", "http://charts.test/ http://www.charts.test", []string{"plain|without www.|http://charts.test/", "plain|without the slash at its end|http://www.charts.test"}},
		{"http://c.test", `x http:\/\/c.test http%3A%2F%2Fc.test http%253A%252F%252Fc.test`, []string{`json|http:\/\/c.test`, "url|http%3A%2F%2Fc.test", "double|http%253A%252F%252Fc.test"}},
		{"http://c.test", `{"http://c.test": "http:\/\/c.test", "s": "s:13:\"http:\/\/c.test\";"}`, []string{"in json, key|http://c.test", "in json|http://c.test", "in serialised in json|http://c.test"}},
		{"R&D", "R&amp;D R&amp;amp;D r&d", []string{"entity|R&amp;D", "double|R&amp;amp;D", "plain|other case|r&d"}},
		{"quay", `a:1:{s:9:"quay";}`, []string{"in damaged serialised text|quay"}},
	} {
		f, err := NewFinder(c.text)
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, h := range f.Find([]byte(c.in)) {
			s := h.Place.String()
			if h.Kind != "" {
				s += "|" + h.Kind
			}
			got = append(got, s+"|"+h.Match)
		}
		if strings.Join(got, "\n") != strings.Join(c.want, "\n") {
			t.Errorf("%s in %s:\n%s\nwant\n%s", c.text, c.in, strings.Join(got, "\n"), strings.Join(c.want, "\n"))
		}
	}
}

func fuzz(f *testing.F, looks func([]byte) bool, valid func([]byte) bool) {
	r, err := New(Rules{Pairs: []Pair{{"quay", `"long"\quay/`}}, Keys: true})
	if err != nil {
		f.Fatal(err)
	}
	f.Fuzz(func(t *testing.T, s []byte) {
		out, err := r.Replace(s)
		if err != nil {
			if !bytes.Equal(out, s) {
				t.Fatal("changed in spite of the error")
			}
			return
		}
		if looks(s) && valid(s) && !valid(out) {
			t.Fatalf("%q becomes %q, which is not valid", s, out)
		}
	})
}

func FuzzJSON(f *testing.F) {
	for _, s := range []string{`{"quay":"a quay"}`, `["\u0071uay","\ud83d\udea2"]`, `[{"a":"s:4:\"quay\";"}]`, `{"a":`, `"quay"`, `["quay\ud800"]`, "[\"\xff quay\"]"} {
		f.Add([]byte(s))
	}
	fuzz(f, looksJSON, json.Valid)
}

// FuzzValidJSON holds our reading of JSON against the standard library's.
func FuzzValidJSON(f *testing.F) {
	for _, s := range []string{`{"a":[1,-2.5e+3,true,null,"\u00e9\n"],"b":{}}`, `[]`, `[1,]`, `{"a"}`, `"\x"`, ` 01 `, "[\"\t\"]", `{"a":1}x`, `[[[[`} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, s []byte) {
		w := walker{m: &matcher{pattern: true, re: never}, rules: &Rules{}}
		if _, err := w.json(s, ""); (err == nil) != json.Valid(s) {
			t.Fatalf("%q: %v, the library says %v", s, err, json.Valid(s))
		}
	})
}

func FuzzSerialised(f *testing.F) {
	for _, s := range []string{`a:1:{s:4:"quay";s:6:"a quay";}`, `O:1:"X":1:{s:1:"a";C:1:"Y":4:{quay}}`, `s:11:"s:4:"quay";";`, `a:1:{i:0;s:99:"quay";}`, `s:10:"[\"quay\"]";`} {
		f.Add([]byte(s))
	}
	fuzz(f, looksSerialised, func(s []byte) bool {
		w := walker{m: &matcher{pattern: true, re: never}, rules: &Rules{}}
		_, err := w.serialised(s, "")
		return err == nil
	})
}

// never matches nothing.
var never = regexp.MustCompile(`[^\x00-\x{10FFFF}]`)

// TestNothingIsAllocated where nothing matches.
func TestNothingIsAllocated(t *testing.T) {
	r, err := New(Rules{Pairs: []Pair{{"http://charts.saltmere.test", "x"}}})
	if err != nil {
		t.Fatal(err)
	}
	for _, s := range []string{strings.Repeat("moor with care ", 100), `{"a":"b"}`, `a:1:{i:0;s:1:"x";}`} {
		in := []byte(s)
		if n := testing.AllocsPerRun(100, func() { r.Replace(in) }); n != 0 {
			t.Errorf("%v allocations for %.20q", n, s)
		}
	}
}

// TestWorkIsBounded: however many occurrences a value has, and in whichever case
// the letters stand, each byte is looked at a few times.
func TestWorkIsBounded(t *testing.T) {
	var looked int
	indexByte = func(s []byte, c byte) int {
		i := bytes.IndexByte(s, c)
		if looked += len(s); i >= 0 {
			looked += i + 1 - len(s)
		}
		return i
	}
	defer func() { indexByte = bytes.IndexByte }()
	r, err := New(Rules{Pairs: []Pair{{"http://charts.test", "https://charts.test"}}, Case: "any"})
	if err != nil {
		t.Fatal(err)
	}
	f, err := NewFinder("http://charts.test")
	if err != nil {
		t.Fatal(err)
	}
	for _, part := range []string{"http://charts.test ", "HTTP://CHARTS.TEST ", "http://charts.test HTTP://CHARTS.TEST ", "h", "H", "hH", "c", "charts.tes", "moor "} {
		in := []byte(strings.Repeat(part, 200_000/len(part)))
		looked = 0
		f.Visit(in, func(Place, string, []byte, int, int) {})
		if looked > 8*len(in) {
			t.Errorf("find, %q: %d bytes looked at in %d", part, looked, len(in))
		}
		looked = 0
		if _, err := r.Replace(in); err != nil {
			t.Fatal(err)
		}
		if looked > 8*len(in) {
			t.Errorf("replace, %q: %d bytes looked at in %d", part, looked, len(in))
		}
	}
}

func benchmark(b *testing.B, in string) {
	r, err := New(Rules{Pairs: []Pair{{"http://charts.saltmere.test", "https://charts.saltmere.test"}}})
	if err != nil {
		b.Fatal(err)
	}
	s := []byte(in)
	b.SetBytes(int64(len(s)))
	b.ReportAllocs()
	for b.Loop() {
		if _, err := r.Replace(s); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkPlainRare(b *testing.B) {
	benchmark(b, strings.Repeat("Moor with care at the north mole; slack water at noon. ", 20_000)+"http://charts.saltmere.test")
}
func BenchmarkPlainNone(b *testing.B) {
	benchmark(b, strings.Repeat("Moor with care at the north mole. ", 100))
}
func BenchmarkJSON(b *testing.B) {
	benchmark(b, "["+strings.Repeat(`{"quay":"north mole","n":12,"link":"moor with care at the \"north\" mole"},`, 200)+`{"link":"http:\/\/charts.saltmere.test\/1"}]`)
}
func BenchmarkSerialised(b *testing.B) {
	benchmark(b, "a:201:{"+strings.Repeat(`s:4:"quay";s:38:"moor with care at the north mole, no 1";`, 200)+`s:4:"link";s:29:"http://charts.saltmere.test/1";}`)
}

func BenchmarkFind(b *testing.B) {
	f, err := NewFinder("http://charts.saltmere.test")
	if err != nil {
		b.Fatal(err)
	}
	s := []byte("see http://charts.saltmere.test/berth/165 before mooring; provisions at noon")
	b.SetBytes(int64(len(s)))
	for b.Loop() {
		f.Find(s)
	}
}
