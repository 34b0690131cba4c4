package plan

import (
	"testing"

	"jugatum/internal/change"
)

// TestFormOfSeveral: texts of several columns are the same only column by column, whatever
// stands in them.
func TestFormOfSeveral(t *testing.T) {
	for _, x := range []struct {
		a, b []string
		same bool
	}{
		{[]string{"North", "A "}, []string{" north", "a"}, true},
		{[]string{"a\x00b", "c"}, []string{"a", "b\x00c"}, false},
		{[]string{"a,b", "c"}, []string{"a", "b,c"}, false},
		{[]string{`a","b`, "c"}, []string{"a", `b","c`}, false},
		{[]string{"", "a"}, []string{"a", ""}, false},
	} {
		if got := form(change.Folded, x.a) == form(change.Folded, x.b); got != x.same {
			t.Errorf("%q and %q are the same: %v", x.a, x.b, got)
		}
	}
}
