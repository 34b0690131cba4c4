package rewrite

import (
	"bytes"
	"encoding/base64"
	"strings"
)

// Base64 has the text found as well where it is encoded in base64 (RFC 4648,
// either alphabet), alone or within other text that is. What it looks for is the
// text as it was given: letters in another case have another encoding.
func (f *Finder) Base64() {
	seen := map[string]bool{}
	for shift := range 3 {
		part := fragment(f.core, shift)
		for _, p := range []string{part, strings.NewReplacer("+", "-", "/", "_").Replace(part)} {
			// Letters and digits alone: in JSON a slash has two writings.
			if a := anchorOf(p); !seen[a] && len(a) > 2 { // shorter ones would be found everywhere
				seen[a] = true
				f.m.encoded = append(f.m.encoded, []byte(a))
			}
		}
	}
}

// Encoded are parts of the text's base64, letters and digits alone: whatever
// holds the text in base64 holds one of them. None without Base64.
func (f *Finder) Encoded() []string {
	var list []string
	for _, e := range f.m.encoded {
		list = append(list, string(e))
	}
	return list
}

// fragment is the part of a text's base64 that stays the same whatever stands
// around the text, if it begins shift bytes after a multiple of three.
func fragment(text string, shift int) string {
	all := base64.RawStdEncoding.EncodeToString(append(make([]byte, shift), text...))
	from := []int{0, 2, 3}[shift] // digits that hold bits of what is before
	to := len(all)
	if (shift+len(text))%3 != 0 {
		to-- // bits of what comes after
	}
	return all[min(from, to):to]
}

// base64 looks into the runs of base64 in s that hold a part of the text's.
func (w *walker) base64(s []byte, in string, key bool) {
	seen := map[int]bool{} // beginnings of runs
	for _, part := range w.m.encoded {
		for at := 0; ; {
			i := bytes.Index(s[at:], part)
			if i < 0 {
				break
			}
			from, to := at+i, at+i+len(part)
			for from > 0 && base64Digit(s[from-1]) {
				from--
			}
			for to < len(s) && base64Digit(s[to]) {
				to++
			}
			at = to
			if seen[from] {
				continue
			}
			seen[from] = true
			if text := w.decode(s[from:to]); text != nil {
				w.text(text, inside("base64", in), key) // errors are told only where there are edits
			}
		}
	}
}

// decode decodes a run of digits so that the text is in it; nil if it is not.
// Digits that stand before the encoded text without a gap belong to something
// else, so where it begins is found by trying.
func (w *walker) decode(run []byte) []byte {
	enc := base64.RawStdEncoding
	if bytes.ContainsAny(run, "-_") {
		enc = base64.RawURLEncoding
	}
	for begin := range min(4, len(run)) {
		x := run[begin:]
		if len(x)%4 == 1 {
			x = x[:len(x)-1]
		}
		out := make([]byte, enc.DecodedLen(len(x)))
		if n, err := enc.Decode(out, x); err == nil && len(w.m.all(out[:n], nil)) > 0 {
			return out[:n]
		}
	}
	return nil
}

func base64Digit(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '+' || c == '/' || c == '-' || c == '_'
}
