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
	recent []float64 // nanoseconds a row, of the last batches
}

const (
	// First is the size of the first batch, in rows: small enough for any table.
	First = 200
	// aim is the share of the target that a batch should take. The rest is room
	// for a slow flush to disk or a row that is dearer than its neighbours, so
	// that the 99th percentile stays within the target too.
	aim = 0.5
	// growth is the most that one batch may be larger than the last.
	growth = 4
	// Memory is how many batches are looked back on.
	Memory = 8
	// Most is the largest batch, in rows: enough that the cost of a transaction
	// no longer shows, and few enough to keep a sort or a hash in memory.
	Most = 200_000
	// fixedCost is the part of a batch that does not grow with its rows: begin,
	// checkpoint and flush. It is not charged to the rows of tiny batches.
	fixedCost = 3 * time.Millisecond
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

// Done tells how long the hold of a batch was and how many rows it went over.
func (s *Sizer) Done(rows int, hold time.Duration) {
	if rows < 1 {
		return
	}
	last := s.Next()
	cost := float64(max(hold-fixedCost, hold/8)) / float64(rows)
	s.recent = append(s.recent, cost)
	if len(s.recent) > Memory {
		s.recent = s.recent[1:]
	}
	// The mean of the last batches, but never less than half of the dearest one.
	sum, dearest := 0.0, 0.0
	for _, c := range s.recent {
		sum += c
		dearest = max(dearest, c)
	}
	expect := max(sum/float64(len(s.recent)), dearest/2, 1)
	size := int(min(aim*float64(s.Target)/expect, Most))
	s.size = max(min(size, last*growth), last/growth, 1)
}

// Failed tells that a batch had to be given up because of a lock; the next one
// is smaller, so that it is over sooner.
func (s *Sizer) Failed() {
	s.size = max(s.Next()/2, 1)
}
