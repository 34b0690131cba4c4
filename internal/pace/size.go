// Package pace decides from what batches cost how large the next one may be.
// It knows no database and no clock: it is told, and answers.
package pace

import "time"

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

	size   int
	recent []sample // of the last batches
}

// sample is what one batch cost.
type sample struct {
	rows  float64
	work  float64 // nanoseconds for all of them
	fixed float64 // nanoseconds of the commit, whatever its rows
}

const (
	// First is the size of the first batch, in rows: small enough for any table.
	First = 200
	// aim is the share of the target that a batch should take. The rest is room
	// for a slow flush to disk or rows that are dearer than their neighbours, so
	// that the 99th percentile stays within the target too.
	aim = 0.4
	// growth is the most that one batch may be larger than the last.
	growth = 4
	// leap is the same where the last one took less than a twentieth of the target.
	leap = 16
	// Memory is how many batches are looked back on.
	Memory = 8
	// Most is the largest batch, in rows: enough that the cost of a transaction
	// no longer shows, and few enough to keep a sort or a hash in memory.
	Most = 500_000
	// begin is the part of a batch's work that does not grow with its rows: the
	// fence, the plan, the record. It is not charged to the rows of tiny batches.
	begin = 2 * time.Millisecond
)

// Next gives the rows of the next batch, at least 1.
func (s *Sizer) Next() int {
	switch {
	case s.Fixed > 0:
		return s.Fixed
	case s.size == 0:
		return First
	}
	return s.size
}

// Done tells what a batch cost: the rows it went over, the time from its first
// statement to its commit, and the time of the commit itself. What the commit
// takes, mostly a flush to disk, would be there for a single row too.
func (s *Sizer) Done(rows int, work, commit time.Duration) {
	if rows < 1 {
		return
	}
	last := s.Next()
	if work < s.Target/20 && len(s.recent) == 0 {
		// Too quick to tell the rows' cost from the rest. Sixteen times as many
		// rows stay within the target all the same.
		if rows >= last/2 { // not the short range at the end of a table
			s.size = min(last*leap, Most)
		}
		return
	}
	s.recent = append(s.recent, sample{float64(rows), float64(max(work-begin, work/8)), float64(commit)})
	if len(s.recent) > Memory {
		s.recent = s.recent[1:]
	}
	// The mean of the last batches, but never less than half of the dearest one
	// that is large enough to tell: what a small batch costs is mostly not its rows.
	var sum, dearest sample
	for _, c := range s.recent {
		sum.rows += c.rows
		sum.work += c.work
		sum.fixed += c.fixed
		dearest.rows = max(dearest.rows, c.rows)
		dearest.fixed = max(dearest.fixed, c.fixed)
	}
	for _, c := range s.recent {
		if c.rows >= dearest.rows/4 {
			dearest.work = max(dearest.work, c.work/c.rows)
		}
	}
	n := float64(len(s.recent))
	perRow := max(sum.work/sum.rows, dearest.work/2, 1)
	fixed := max(sum.fixed/n, dearest.fixed/2)
	// A commit so slow that it alone fills the target leaves a tenth for the
	// work: smaller batches would only mean more such commits.
	room := max(aim*float64(s.Target)-fixed, 0.1*float64(s.Target))
	size := int(min(room/perRow, Most))
	s.size = max(min(size, last*growth), last/growth, 1)
}

// Failed tells that a batch had to be given up because of a lock; the next one
// is smaller, so that it is over sooner.
func (s *Sizer) Failed() {
	s.size = max(s.Next()/2, 1)
}
