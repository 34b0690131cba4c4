package rewrite

import (
	"bytes"
	"fmt"
)

// Recurs says why rules might find something to replace in what they have made themselves, so that
// carrying them out twice would not be the same as once; "" if that cannot be. It errs on the side of
// saying so: nothing is known of a pattern, nor of values that are not understood.
func (r *Rewriter) Recurs() string {
	switch {
	case r.m.pattern:
		return "a pattern may match what it has made"
	case r.rules.Damaged == "plain":
		return "damaged values may be understood once a text in them is another"
	}
	fold := func(s []byte) []byte { return s }
	if r.rules.Case != Exact {
		fold = func(s []byte) []byte { return bytes.ToLower(bytes.ToUpper(s)) } // by way of capitals, which several letters have in common
	}
	for _, made := range r.m.literals {
		for _, found := range r.m.literals {
			if meets(fold(made.with), fold(found.text)) {
				return fmt.Sprintf("the new text %q, with what stands beside it, may hold %q, and would be replaced again", made.with, found.text)
			}
		}
	}
	return ""
}

// meets reports whether a text may be found in any text that holds new, where it was not before: because
// new holds it, or one overlaps the other. Where new is empty, what stood around it comes together.
func meets(new, text []byte) bool {
	if len(new) == 0 {
		return len(text) > 1
	}
	if bytes.Contains(new, text) || bytes.Contains(text, new) {
		return true
	}
	for n := 1; n < min(len(new), len(text)); n++ {
		if bytes.HasSuffix(new, text[:n]) || bytes.HasPrefix(new, text[len(text)-n:]) {
			return true
		}
	}
	return false
}
