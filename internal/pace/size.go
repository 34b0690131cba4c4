// Package pace decides from what batches cost how large the next one may be.
// It knows no database and no clock: it is told, and answers.
package pace

import (
	"cmp"
	"slices"
	"time"
)

// Sizer finds the number of rows a batch may have so that its hold stays within
// a target. It starts small, multiplies while batches are far too quick, and
// settles within a few batches.
//
// It reacts to single slow batches by remembering the dearest of the last
// Memory batches, so it errs on the side of short holds; a load that changes
// faster than a batch lasts it cannot foresee.
type Sizer struct {
	Target time.Duration // longest hold wanted
	Fixed  int           // rows, always; 0 to be steered by Target
	Gentle bool          // others are not to wait: holds far below the target, so that few meet one

	first    int // size of the first batch; 0 is First
	size     int
	recent   []sample // of the last batches
	overhead overhead
	toll     toll

	perRow, fixed float64   // nanoseconds, as reckoned after the last batch
	off           []float64 // holds divided by what was reckoned, of the last watched batches
	share         float64   // of the target, that a batch should take; 0 is aim
}

// sample is what one batch cost.
type sample struct {
	rows  float64
	work  float64 // nanoseconds from its first statement to its commit
	fixed float64 // nanoseconds of the commit, whatever its rows
}

const (
	// First is the size of the first batch, in rows: small enough for any table.
	First = 200
	// firstBytes is how much the rows of the first batch take at most, on average.
	firstBytes = 8 << 20
	// Overshoot is how many times the target a batch must have taken for the next
	// one to go by that batch alone.
	Overshoot = 2
	// aim is the share of the target that a batch should take at first. The rest is
	// room for a slow flush to disk or rows that are dearer than their neighbours,
	// so that the 99th percentile stays within the target too.
	aim = 0.4
	// aimMost is that share where batches have long taken what was reckoned, nobody
	// was seen waiting, and what every batch costs whatever its rows, mostly a flush
	// to disk, is more than dear of it: there a third fewer batches show.
	aimMost = 0.65
	dear    = 0.06
	// aimGentle is the share where others are not to wait. Batches of a fifth lock a
	// fifth of the rows for a fifth of the time: of the others' transactions less
	// than one in a hundred meets them in a table of some hundred thousand rows.
	aimGentle = 0.2
	// watched is how many batches say whether reckoning is to be relied on: enough
	// that one in a hundred that is out of line was probably among them lately.
	watched = 64
	// leastWatched of them let the share begin to rise, by at most rise a batch.
	leastWatched = 12
	rise         = 0.01
	// margin is how much of the target the worst of them would have filled.
	margin = 0.85
	// growth is the most that one batch may be larger than the last.
	growth = 4
	// leap is the same where the last one took less than a twentieth of the target.
	leap = 16
	// Memory is how many batches are looked back on.
	Memory = 8
	// Most is the largest batch, in rows: enough that the cost of a transaction
	// no longer shows, and few enough to keep a sort or a hash in memory.
	Most = 500_000
)

// Next gives the rows of the next batch, at least 1.
func (s *Sizer) Next() int {
	switch {
	case s.Fixed > 0:
		return s.Fixed
	case s.size == 0:
		return cmp.Or(s.first, First)
	}
	return s.size
}

// Anew forgets what batches have cost: another step's rows come next, or much
// time has passed. rowBytes is how much a row takes on average, 0 if that is not
// known: wide rows begin with fewer.
func (s *Sizer) Anew(rowBytes int64) {
	*s = Sizer{Target: s.Target, Fixed: s.Fixed, Gentle: s.Gentle, first: First}
	if rowBytes > 0 {
		s.first = int(min(max(firstBytes/rowBytes, 1), First))
	}
}

// Done tells what a batch cost: the rows it went over, how many of them it changed, the time from its
// first statement to its commit, and the time of the commit itself. What the commit
// takes, mostly a flush to disk, would be there for a single row too.
func (s *Sizer) Done(rows, changed int, work, commit time.Duration) {
	if rows < 1 {
		return
	}
	last := s.Next()
	s.rely(float64(rows), float64(work+commit))
	c := sample{float64(rows), float64(work), float64(commit)}
	s.toll.add(changed, sample{rows: c.rows, work: s.overhead.ofRows(c)}, s.Target)
	if work < s.Target/20 && len(s.recent) == 0 {
		// Too quick to tell the rows' cost from the rest. Sixteen times as many
		// rows stay within the target all the same.
		if rows >= last/2 { // not the short range at the end of a table
			s.size = max(min(last*leap, s.toll.most(Overshoot*float64(s.Target))), last)
		}
		return
	}
	s.recent = append(s.recent, c)
	if len(s.recent) > Memory {
		s.recent = s.recent[1:]
	}
	s.overhead.learn(c)
	// The mean of the last batches, but never less than half of the dearest one
	// that is large enough to tell: what a small batch costs is mostly not its rows.
	var sum, dearest sample
	for _, c := range s.recent {
		sum.rows += c.rows
		sum.work += s.overhead.ofRows(c)
		sum.fixed += c.fixed
		dearest.rows = max(dearest.rows, c.rows)
		dearest.fixed = max(dearest.fixed, c.fixed)
	}
	for _, c := range s.recent {
		if c.rows >= dearest.rows/4 {
			dearest.work = max(dearest.work, s.overhead.ofRows(c)/c.rows)
		}
	}
	n := float64(len(s.recent))
	perRow := max(sum.work/sum.rows, dearest.work/2, 1)
	fixed := max(sum.fixed/n, dearest.fixed/2) + s.overhead.perBatch()
	// Where a commit and the rest of what every batch costs fill the target by
	// themselves, rows get a tenth of the target, or a quarter of that cost:
	// smaller batches would hardly be shorter, only many more.
	s.perRow, s.fixed = perRow, fixed
	room := max(s.aim()*float64(s.Target)-fixed, 0.1*float64(s.Target), fixed/4)
	size := int(min(room/perRow, Most))
	size = min(size, s.toll.most(max(Overshoot*float64(s.Target), room)))
	s.size = s.overhead.try(last, max(min(size, last*growth), last/growth, 1))
	if took := s.overhead.ofRows(c); took > Overshoot*float64(s.Target) {
		// Not a moment longer, whatever the others took.
		s.size = max(min(s.size, int(float64(rows)*room/took)), 1)
	}
}

// aim is the share of the target that the next batch should take.
func (s *Sizer) aim() float64 {
	if s.Gentle {
		return aimGentle
	}
	return max(s.share, aim)
}

// rely sets the share of the target by how far holds were from what was reckoned.
// One that was far above brings it down at once, for the next watched batches.
func (s *Sizer) rely(rows, hold float64) {
	if s.perRow == 0 {
		return
	}
	s.off = append(s.off, hold/(s.perRow*rows+s.fixed))
	if len(s.off) > watched {
		s.off = s.off[1:]
	}
	if len(s.off) < leastWatched || s.Gentle || s.fixed < dear*aim*float64(s.Target) {
		s.share = aim
		return
	}
	s.share = max(min(margin/slices.Max(s.off), aimMost, max(s.share, aim)+rise), aim)
}

// Waited tells that others were seen waiting: batches are to be no longer than
// they must, for as long as it takes to rely on their cost again.
func (s *Sizer) Waited() {
	s.off, s.share = nil, aim
}

// Failed tells that a batch had to be given up because of a lock; the next one
// is smaller, so that it is over sooner.
func (s *Sizer) Failed() {
	s.size = max(s.Next()/2, 1)
}
