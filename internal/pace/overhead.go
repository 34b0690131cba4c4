package pace

import (
	"cmp"
	"slices"
	"time"
)

// overhead learns which part of a batch's work does not grow with its rows: the
// fence, the plan, the record, and on a busy machine the turns that others take.
// It matters where that part is as long as the target allows, or longer: charged
// to the rows it would bring batches down to single rows, which are no shorter.
//
// Only batches of few rows tell, beside larger ones. As long as all have the same
// few, from time to time larger ones are tried: twice as many rows, and twice as
// many again for as long as that makes batches no longer than they were.
type overhead struct {
	seen []sample // of the last batches
	cost float64  // nanoseconds that nine batches in ten are under, but for their rows; 0 not learnt

	base  float64 // rows of the batches from which larger ones are tried; 0: none are
	still int     // batches since the last try
	gap   int     // from one try to the next
}

const (
	// begin is that part as long as nothing else was learnt.
	begin = 2 * time.Millisecond
	// few rows are those among which it shows.
	few = 64
	// lookback is how many batches are compared with each other.
	lookback = 32
	// probe is how many batches lie before the first try of larger ones; it doubles
	// with every one that was in vain, up to probeMost.
	probe     = 8
	probeMost = 1024
	// noLonger is what nine batches in ten of the smaller ones are under, and larger
	// ones may take, to pass for no longer than they were.
	noLonger = 1.3
)

// ofRows is the part of a batch's work that its rows are charged with. What is
// left of a batch that took about as long as an empty one is hardly zero.
func (o *overhead) ofRows(c sample) float64 {
	return max(c.work-o.perBatch(), c.work/32)
}

// perBatch is the other part, in nanoseconds.
func (o *overhead) perBatch() float64 { return max(o.cost, float64(begin)) }

// learn takes a batch into account.
func (o *overhead) learn(c sample) {
	// A batch of twice the rows in half the time was of rows that were cheaper.
	o.seen = slices.DeleteFunc(o.seen, func(x sample) bool { return x.rows >= 2*c.rows && x.work < c.work/2 })
	o.seen = append(o.seen, c)
	if len(o.seen) > lookback {
		o.seen = o.seen[1:]
	}
	least, most := c.rows, c.rows
	for _, x := range o.seen {
		least, most = min(least, x.rows), max(most, x.rows)
	}
	if least > few || most < 2*least {
		return
	}
	small, large := o.among(least, 1.5*least), o.among(most/1.5, most)
	slope := max((large.at(0.5)-small.at(0.5))/(large.rows()-small.rows()), 0)
	o.cost = small.at(0.9) - slope*small.rows()
}

// try gives the rows of the next batch: size, unless larger ones are to be
// tried. last is what the batch before was to have.
func (o *overhead) try(last, size int) int {
	o.still++
	c := o.seen[len(o.seen)-1]
	if o.base > 0 {
		if c.rows >= few || c.work > noLonger*o.among(o.base, 1.5*o.base).at(0.9) {
			o.base = 0
			return size
		}
		if c.rows >= 4*o.base {
			o.gap = 0 // not in vain
		}
		return max(size, 2*last)
	}
	if size < few/4 && o.alike() && o.still >= max(o.gap, probe) {
		o.still, o.gap, o.base = 0, min(2*max(o.gap, probe), probeMost), c.rows
		return 2 * size
	}
	return size
}

// alike reports whether the last batches all had the same rows.
func (o *overhead) alike() bool {
	last := o.seen[max(len(o.seen)-Memory, 0):]
	return !slices.ContainsFunc(last, func(c sample) bool { return c.rows != last[0].rows })
}

// among gives the batches that had from least to most rows, the quickest first.
func (o *overhead) among(least, most float64) samples {
	var list samples
	for _, c := range o.seen {
		if c.rows >= least && c.rows <= most {
			list = append(list, c)
		}
	}
	slices.SortFunc(list, func(a, b sample) int { return cmp.Compare(a.work, b.work) })
	return list
}

// samples are some batches, the quickest first.
type samples []sample

// at is a quantile of their work, 0 of none.
func (s samples) at(share float64) float64 {
	if len(s) == 0 {
		return 0
	}
	return s[int(share*float64(len(s)-1)+0.5)].work
}

// rows is what they had on average.
func (s samples) rows() (mean float64) {
	for _, c := range s {
		mean += c.rows / float64(len(s))
	}
	return mean
}
