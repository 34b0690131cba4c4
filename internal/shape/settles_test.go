package shape

import (
	"math/rand/v2"
	"strings"
	"testing"
)

// TestSettles: which chains are said to leave alone what they have made, and that they do so with every
// character, also beside others.
func TestSettles(t *testing.T) {
	all := []any{"trim", "collapse", "upper", "lower", m{"upper": "tr"}, m{"lower": "lt"}, "title", "normalise", m{"normalise": "NFKD"}, m{"pad_left": int64(4), "with": "0"},
		m{"keep": []any{"letters", "a"}}, m{"drop": []any{"blanks", "-", "S"}}, m{"word_to_end": "a"}, m{"rewrite": "a", "with": "b"}, m{"decode": "html"}, m{"recode": "windows-1252"},
		"blank_to_null", m{"null_to": "?"}, m{"before": "-"}, m{"before": "-", "at": int64(2)}, m{"before": "-", "at": int64(-1)}, m{"after": "-"}, m{"extract": "a(.)"},
		m{"map": m{"a": "b"}}, m{"map": m{"a": "b", "b": "c"}}, m{"map": m{"a": "b"}, "otherwise": "null"}, m{"map": m{"a": "b", "b": "b"}, "otherwise": "refuse"}, m{"number": "."}, m{"date": "02.01.2006"}}
	var letters []string
	for r := rune(1); r < 0x1F000; r++ {
		if r < 0xD800 || r > 0xDFFF {
			letters = append(letters, string(r))
		}
	}
	common := []string{"a", "-", " ", "\t", "\u00a0", "S", "1", "\u0301", "Σ", "İ", "ŉ"}
	rnd := rand.New(rand.NewPCG(1, 1))
	settled, not := 0, 0
	try := func(by []any, texts []string) {
		c := made(t, by...)
		if !c.Settles() {
			not++
			return
		}
		settled++
		for _, text := range texts {
			once, err := c.Apply([]byte(text))
			if err != nil {
				continue
			}
			twice, err := c.Apply(once)
			if err != nil || string(twice) != string(once) || (twice == nil) != (once == nil) {
				t.Fatalf("%v: %q becomes %q, and that %q (%v)", by, text, once, twice, err)
			}
		}
	}
	few := func() (texts []string) {
		for range 60 {
			var b strings.Builder
			for range rnd.IntN(9) {
				b.WriteString(common[rnd.IntN(len(common))])
			}
			texts = append(texts, b.String())
		}
		return texts
	}
	for _, one := range all {
		try([]any{one}, append(few(), letters...))
	}
	if settled < 12 || not < 12 {
		t.Errorf("of single ones %d settle and %d do not", settled, not)
	}
	for range 3000 {
		var by []any
		for range 2 + rnd.IntN(3) {
			by = append(by, all[rnd.IntN(len(all))])
		}
		if made(t, by...).Settles() {
			try(by, append(few(), letters[rnd.IntN(len(letters))]))
		}
	}
}
