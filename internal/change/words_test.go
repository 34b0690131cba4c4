package change_test

import (
	"testing"

	"jugatum/internal/change"
)

// TestForm: which texts have the same form.
func TestForm(t *testing.T) {
	for _, x := range []struct {
		a, b            string
		trimmed, folded bool
	}{
		{"North Quay", " North Quay\t\n", true, true},
		{"North Quay", "\u2003North Quay\u00a0", true, true},
		{"North Quay", "North  Quay", false, true},
		{"North Quay", "North\u00a0Quay", false, true},
		{"North Quay", "NorthQuay", false, false},
		{"North Quay", "NORTH quay", false, true},
		{"Größe", "GRÖSSE", false, true},
		{"Größe", "Grosse", false, false},
		{"caf\u00e9", "cafe\u0301", true, true},
		{"cafe", "caf\u00e9", false, false},
		{"", " ", true, true},
		{"ΣΑΣ", "σας", false, true},
		{"a\x00b", "A\x00b", false, true},
	} {
		for form, want := range map[change.Form]bool{change.Trimmed: x.trimmed, change.Folded: x.folded} {
			if got := form.Of(x.a) == form.Of(x.b); got != want {
				t.Errorf("%q and %q are the same when %s: %v", x.a, x.b, form, got)
			}
		}
	}
}
