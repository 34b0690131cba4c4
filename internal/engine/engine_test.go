package engine

import "testing"

func TestNumbered(t *testing.T) {
	for in, want := range map[string]string{
		"a = ? AND b IN (?, ?)":              "a = $1 AND b IN ($2, $3)",
		`"what?" = ? AND "a""?" = 'it''s ?'`: `"what?" = $1 AND "a""?" = 'it''s ?'`,
		`'"?' || ? || "'?"`:                  `'"?' || $1 || "'?"`,
	} {
		if got := Numbered(in); got != want {
			t.Errorf("%s becomes %s, want %s", in, got, want)
		}
	}
}
