package rewrite

import (
	"encoding/base64"
	"math/rand/v2"
	"strings"
	"testing"
)

// TestBase64 finds the text in base64 wherever it begins in what is encoded, in
// either alphabet, with and without padding, within other text and in JSON.
func TestBase64(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for _, text := range []string{"http://charts.saltmere.test", "north mole", "quay ÿÿÿ>>>???", "abcde"} {
		f, err := NewFinder(text)
		if err != nil {
			t.Fatal(err)
		}
		f.Base64()
		for range 300 {
			noise := func() string {
				b := make([]byte, r.IntN(12))
				for i := range b {
					b[i] = byte(r.IntN(256))
				}
				return string(b)
			}
			inner := noise() + " " + text + " " + noise()
			enc := []*base64.Encoding{base64.StdEncoding, base64.RawStdEncoding, base64.URLEncoding, base64.RawURLEncoding}[r.IntN(4)]
			value := []string{"", "data:text/plain;base64,", "ab ", `{"a": ["`}[r.IntN(4)] + enc.EncodeToString([]byte(inner))
			if strings.HasPrefix(value, "{") {
				value = strings.ReplaceAll(value, "/", `\/`) + `"]}`
			}
			held := false
			for _, a := range f.Encoded() {
				held = held || strings.Contains(value, a)
			}
			if !held {
				t.Fatalf("none of %q is in %s, which holds %q", f.Encoded(), value, inner)
			}
			hits := 0
			for _, h := range f.Find([]byte(value)) {
				if strings.HasPrefix(h.In, "base64") && strings.EqualFold(h.Match, text) {
					hits++
					if h.Replaced() {
						t.Errorf("what is encoded in base64 counts as replaced")
					}
				}
			}
			if hits != 1 {
				t.Fatalf("found %d times in %s, which holds %q", hits, value, inner)
			}
		}
	}
	f, _ := NewFinder("mole")
	if f.Base64(); len(f.Find([]byte("bW9sZQ"))) != 1 {
		t.Error("a short text that is encoded alone is not found")
	}
	f, _ = NewFinder("north mole")
	if len(f.Find([]byte(base64.StdEncoding.EncodeToString([]byte("the north mole"))))) != 0 {
		t.Error("found in base64 without being asked to")
	}
}
