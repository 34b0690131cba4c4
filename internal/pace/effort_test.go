package pace

import (
	"math"
	"math/rand/v2"
	"testing"
	"time"
)

// TestEffort: what scanning and changing a row take is told apart where batches differ in it, and
// guessed where they do not.
func TestEffort(t *testing.T) {
	took := func(scanned, changed int64, scan, change float64) time.Duration {
		return time.Duration((scan*float64(scanned) + change*float64(changed)) * float64(time.Second))
	}
	for _, x := range []struct {
		name         string
		scan, change float64    // seconds a row
		batches      [][2]int64 // rows scanned, changed
		of           [2]int64   // a whole, of which
		done         [2]int64   // this is done
		share        float64    // of the work, by the true times
		within       float64    // of it
	}{
		{"few rows first, many later", 1e-6, 5e-5, [][2]int64{{10000, 10}, {10000, 500}, {9000, 4000}, {10000, 0}}, [2]int64{1000000, 100000}, [2]int64{500000, 4500}, 0.1207, 0.02},
		{"changing is no more than scanning", 1e-5, 0, [][2]int64{{10000, 10}, {10000, 5000}, {9000, 8000}}, [2]int64{100000, 50000}, [2]int64{50000, 0}, 0.5, 0.02},
		{"every row changes", 1e-6, 2e-5, [][2]int64{{10000, 10000}, {5000, 5000}}, [2]int64{100000, 100000}, [2]int64{25000, 25000}, 0.25, 0.001},
		{"nothing known yet", 0, 0, nil, [2]int64{100, 100}, [2]int64{50, 50}, 0.5, 0.001},
		{"none changes", 1e-6, 2e-5, [][2]int64{{10000, 0}, {5000, 0}}, [2]int64{100000, 0}, [2]int64{25000, 0}, 0.25, 0.001},
	} {
		var e Effort
		for _, b := range x.batches {
			e.Add(b[0], b[1], took(b[0], b[1], x.scan, x.change))
		}
		got := e.Of(x.done[0], x.done[1]) / e.Of(x.of[0], x.of[1])
		if math.Abs(got-x.share) > x.within {
			t.Errorf("%s: %.4f is done, expected %.4f", x.name, got, x.share)
		}
	}
}

// TestEffortNeverLess: no batches make more rows less work.
func TestEffortNeverLess(t *testing.T) {
	for seed := range uint64(500) {
		r := rand.New(rand.NewPCG(seed, 29))
		var e Effort
		for range r.IntN(6) {
			e.Add(r.Int64N(100000), r.Int64N(1000), time.Duration(r.Int64N(1e9)))
		}
		a, b := r.Int64N(1e6), r.Int64N(1e6)
		if x, y := e.Of(a, b), e.Of(a+r.Int64N(100), b+r.Int64N(100)); y < x || math.IsNaN(x) || math.IsInf(x, 0) {
			t.Fatalf("seed %d: %g, then %g", seed, x, y)
		}
	}
}
