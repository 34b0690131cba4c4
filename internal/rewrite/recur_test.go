package rewrite

import (
	"math/rand/v2"
	"strings"
	"testing"
)

func TestRecurs(t *testing.T) {
	for _, x := range []struct {
		why   string
		rules Rules
		want  string // a part of the answer, "" for none
	}{
		{"another host", Rules{Pairs: []Pair{{"old.saltmere.example", "new.saltmere.example"}}}, ""},
		{"the new text holds the old one", Rules{Pairs: []Pair{{"quay", "quayside"}}}, `may hold "quay"`},
		{"so it does where case does not count", Rules{Pairs: []Pair{{"quay", "North QUAY"}}, Case: Any}, "may hold"},
		{"and does not where it does", Rules{Pairs: []Pair{{"quay", "North QUAY"}}}, ""},
		{"two that take each other's place", Rules{Pairs: []Pair{{"north", "south"}, {"south", "north"}}}, "may hold"},
		{"one leads to the next", Rules{Pairs: []Pair{{"pier 1", "pier 2"}, {"pier 2", "pier 3"}}}, "may hold"},
		{"two blanks become one", Rules{Pairs: []Pair{{"  ", " "}}}, "may hold"},
		{"what is left comes together", Rules{Pairs: []Pair{{"ab", ""}}}, "may hold"},
		{"one character is taken out", Rules{Pairs: []Pair{{"#", ""}}}, ""},
		{"the end of the new text begins the old one", Rules{Pairs: []Pair{{"ab", "xa"}}}, "may hold"},
		{"a pattern", Rules{Pattern: "a+", Pairs: []Pair{{"", "b"}}}, "a pattern"},
	} {
		r, err := New(x.rules)
		if err != nil {
			t.Fatalf("%s: %v", x.why, err)
		}
		if got := r.Recurs(); (got == "") != (x.want == "") || !strings.Contains(got, x.want) {
			t.Errorf("%s: %q", x.why, got)
		}
	}
}

// TestReplacedOnce: what rules that do not recur have made stays as it is when they are carried out
// again, whatever the values and their structure.
func TestReplacedOnce(t *testing.T) {
	rnd := rand.New(rand.NewPCG(1, 1))
	text := func(least, most int) string {
		letters := []string{"a", "b", "A", "ä", "/", "\"", "\\", " ", "{", "}", "[", ":", ",", "1", "u0061", "%", "&", ";", "é", "İ", "s", "ſ"}
		var b strings.Builder
		for range least + rnd.IntN(most-least+1) {
			b.WriteString(letters[rnd.IntN(len(letters))])
		}
		return b.String()
	}
	final := 0
	for range 6_000 {
		rules := Rules{Case: []Case{Exact, Any, Keep}[rnd.IntN(3)], Words: rnd.IntN(4) == 0, Keys: rnd.IntN(2) == 0}
		if rnd.IntN(3) == 0 {
			rules.Forms = []Form{Plain, JSON, URL, Entity, Double}
		}
		for range 1 + rnd.IntN(2) {
			rules.Pairs = append(rules.Pairs, Pair{text(1, 3), text(0, 3)})
		}
		r, err := New(rules)
		if err != nil || r.Recurs() != "" {
			continue
		}
		final++
		for range 20 {
			old := text(0, 12)
			if rnd.IntN(2) == 0 {
				old = grow(rnd, 2).print(style{}, func(s string) string { return text(0, 6) + s })
			}
			once, err := r.Replace([]byte(old))
			if err != nil {
				continue
			}
			twice, err := r.Replace(once)
			if string(twice) != string(once) {
				t.Fatalf("%+v: %q becomes %q, and that %q (%v)", rules, old, once, twice, err)
			}
		}
	}
	if final < 300 {
		t.Errorf("only %d of the rules do not recur", final)
	}
}
