package engine

import (
	"testing"
	"time"
)

// TestStretches holds how many rows are written at once to what they keep others waiting for.
func TestStretches(t *testing.T) {
	for _, c := range []struct {
		rows int64
		hold time.Duration
		want int64
	}{
		{0, 0, 10_000},
		{10_000, 10 * time.Millisecond, 10_000}, // never more than at first
		{10_000, 80 * time.Millisecond, 10_000},
		{10_000, 400 * time.Millisecond, 2500},
		{2500, 40 * time.Millisecond, 5000},
		{2, time.Minute, 1},
		{1, time.Minute, 1},
	} {
		if got := NextStretch(c.rows, c.hold); got != c.want {
			t.Errorf("after %d rows in %s: %d, want %d", c.rows, c.hold, got, c.want)
		}
	}
}
