package pace

import "time"

// brake keeps a replica within a limit to its lag. What is waited for, once the
// limit is passed, is that the replica comes back to four fifths of it: going on
// at the limit itself would mean stopping again at once.
//
// So that it is hardly ever passed, every look grants only as many rows as the
// replica applies in what is left of six tenths of the limit, or in a tenth of what
// is left of all of it, if that is more. What a row costs a
// replica is learnt from the looks at which it was busy; at the beginning, while
// nothing is known, there is one batch a look, and it waits until the replica has
// applied the one before. Where the replica keeps up, what was learnt is forgotten
// by a fifth a look, so that the brake lets go within seconds.
//
// It is told of a replica only as often as somebody looks, so with a limit of less
// than two looks a slow replica is not kept busy all the time.
type brake struct {
	perRow  float64 // time that the replica needs for a row of ours, in nanoseconds; 0 unknown
	grant   float64 // of that time, granted by the last look,
	credit  float64 // and what is left of it
	lagging bool

	sample  int64 // last look that was taken into account
	rows    int64 // of batches since,
	batches int64 // how many these were,
	bytes   int64 // and the log that they wrote
	workers int   // that share what is granted; 0 is 1
}

const (
	lagBack   = 0.8  // share of the limit to which a replica must come back
	lagGrant  = 0.6  // share of the limit up to which all that is left is granted,
	lagMore   = 0.1  // and share of what is left of the whole limit, beyond that: others may keep a replica there
	lagLearn  = 8    // looks from the beginning on with one batch each
	lagForget = 0.8  // of a row's cost is still believed after a look at which the replica kept up
	lagLeast  = 0.25 // of the rows wanted, or of all that the look granted, make a batch; fewer wait for the next look
	lagLook   = 250 * time.Millisecond
	lagGlance = 25 * time.Millisecond // from one question whether there was a look to the next
)

// allow gives how many of the rows wanted the next batch may have; 0: wait for so
// long and ask again.
func (b *brake) allow(limit time.Duration, sample int64, l Lag, rows int) (allowed int, wait time.Duration) {
	if l.Age < 0 || limit <= 0 {
		return rows, 0
	}
	if sample > b.sample {
		b.look(limit, sample, l)
	}
	switch {
	case b.lagging:
		return 0, lagLook
	case b.perRow == 0:
		if sample <= lagLearn && (b.rows > 0 || l.Age > 0) {
			return 0, lagGlance
		}
		return rows, 0
	}
	granted := b.credit / b.perRow
	switch {
	case granted >= float64(rows):
		return rows, 0
	case b.rows == 0: // the first since the look: however little it is, the run goes on
		return max(int(granted), 1), 0
	case granted < max(lagLeast*min(float64(rows), b.grant/b.perRow), 1):
		return 0, lagGlance
	}
	return int(granted), 0
}

// look takes in what a look has shown.
//
// What others write costs the replica as well, but is none of what a row of ours
// does. Where transactions are counted, one of ours counts like one of theirs, and
// so for less than it is; there the age tells, if later.
func (b *brake) look(limit time.Duration, sample int64, l Lag) {
	ours := b.bytes
	if l.Transactions {
		ours = b.batches
	}
	if l.Rate > 0 && ours > 0 {
		b.perRow = float64(ours) / float64(b.rows) / l.Rate * float64(time.Second)
	} else if l.Rate == 0 && l.Needs == 0 {
		b.perRow *= lagForget
		if b.perRow < 1 {
			b.perRow = 0
		}
	}
	b.sample, b.rows, b.batches, b.bytes = sample, 0, 0, 0
	b.grant = max(lagGrant*float64(limit)-float64(l.Behind()), lagMore*float64(limit-l.Behind()), 0)
	b.grant /= float64(max(b.workers, 1))
	b.credit = b.grant
	switch {
	case l.Behind() > limit:
		b.lagging = true
	case l.Needs >= 0 && l.Behind() <= time.Duration(lagBack*float64(limit)):
		b.lagging = false
	}
}

// wrote tells of a batch that was committed, and the log it wrote (bytes, -1 unknown).
func (b *brake) wrote(rows int, log int64) {
	b.rows += int64(rows)
	b.batches++
	b.bytes += max(log, 0)
	b.credit -= float64(rows) * b.perRow
}
