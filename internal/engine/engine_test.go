package engine

import "testing"

func TestNumbered(t *testing.T) {
	if got := Numbered("a = ? AND b IN (?, ?)"); got != "a = $1 AND b IN ($2, $3)" {
		t.Error(got)
	}
}
