package timeline

import (
	"math"
	"slices"
)

// Spread is how a figure is spread over the batches.
type Spread struct {
	N                    int
	Least, Most          float64
	Median, P90, P99, Up float64 // Up: nearest rank of 99.9 %
	Bins                 []Bin
}

// Bin counts the figures from one value, up to another.
type Bin struct {
	From, To float64
	N        int
}

// binsADecade is how fine a Spread is: each bin goes 26 % further than the one before it.
const binsADecade = 10

// NewSpread sorts the values.
func NewSpread(values []float64) Spread {
	s := Spread{N: len(values)}
	if s.N == 0 {
		return s
	}
	slices.Sort(values)
	s.Least, s.Most = values[0], values[s.N-1]
	s.Median, s.P90, s.P99, s.Up = rank(values, 0.5), rank(values, 0.9), rank(values, 0.99), rank(values, 0.999)
	edge := func(i int) float64 { return math.Pow(10, float64(i)/binsADecade) }
	bin := func(v float64) int { return int(math.Floor(math.Log10(max(v, 1e-3))*binsADecade + 1e-9)) }
	first, last := bin(s.Least), bin(s.Most)
	for i := first; i <= last; i++ {
		s.Bins = append(s.Bins, Bin{From: edge(i), To: edge(i + 1)})
	}
	for _, v := range values {
		s.Bins[bin(v)-first].N++
	}
	return s
}

// rank is the nearest rank of a share of sorted values.
func rank(sorted []float64, share float64) float64 {
	i := int(math.Ceil(share*float64(len(sorted)))) - 1
	return sorted[min(max(i, 0), len(sorted)-1)]
}
