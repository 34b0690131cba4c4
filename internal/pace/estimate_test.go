package pace

import (
	"testing"
	"time"
)

// TestBatchesEstimated: the estimate counts the small batches at the beginning, and
// comes to what a walk with the same cost comes to.
func TestBatchesEstimated(t *testing.T) {
	for _, c := range []struct {
		fixed    int
		rowBytes int64
		rows     int64
		perRow   time.Duration
		n        int64
		largest  int64
	}{
		{rows: 0, perRow: time.Microsecond},
		{rows: 150, perRow: time.Microsecond, n: 1, largest: 150},
		{rows: 1000, perRow: time.Microsecond, n: 2, largest: 800}, // 200, then all the rest
		{fixed: 300, rows: 1000, perRow: time.Second, n: 4, largest: 300},
		{rowBytes: 8 << 20, rows: 3, perRow: time.Second, n: 3, largest: 1},
	} {
		if n, largest := Batches(200*time.Millisecond, c.fixed, c.rowBytes, c.rows, c.rows, c.perRow); n != c.n || largest != c.largest {
			t.Errorf("%+v: %d batches of at most %d rows", c, n, largest)
		}
	}
	// In the long run a batch takes the share of the target that the sizer aims at.
	n, largest := Batches(200*time.Millisecond, 0, 0, 10_000_000, 10_000_000, 10*time.Microsecond)
	if want := int64(8000); largest < want || largest > want*11/10 || n < 10_000_000/largest || n > 10_000_000/want+5 {
		t.Errorf("%d batches of at most %d rows", n, largest)
	}
}
