package timeline

import (
	"math"
	"slices"
)

// Spread is how a figure is spread over the batches.
type Spread struct {
	N           int
	Least, Most float64
	Median, P99 float64 // by nearest rank
	Bins        []Bin
}

// Bin counts the figures from one value, up to another.
type Bin struct {
	From, To float64
	N        int
}

// A Spread has about so many bins at least, where its figures are near to each other: then each
// goes less far than 26 % beyond the one before it.
const (
	binsADecade = 10
	mostFine    = 8 * binsADecade
	fewBins     = 14
)

// NewSpread sorts the values.
func NewSpread(values []float64) Spread {
	s := Spread{N: len(values)}
	if s.N == 0 {
		return s
	}
	slices.Sort(values)
	s.Least, s.Most = values[0], values[s.N-1]
	s.Median, s.P99 = rank(values, 0.5), rank(values, 0.99)
	fine := float64(binsADecade)
	for fine < mostFine && math.Log10(max(s.Most, 1e-3)/max(s.Least, 1e-3))*fine < fewBins {
		fine *= 2
	}
	edge := func(i int) float64 { return math.Pow(10, float64(i)/fine) }
	bin := func(v float64) int { return int(math.Floor(math.Log10(max(v, 1e-3))*fine + 1e-9)) }
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
