package pace

import "time"

// brake keeps a replica within a limit to its lag. What is waited for, once the
// limit is passed, is that the replica comes back to four fifths of it: going on
// at the limit itself would mean stopping again at once.
//
// So that it is hardly ever passed, every look grants only as many rows as the
// replica applies in what is left of six tenths of the limit. What a row costs a
// replica is learnt from the looks at which it was busy; at the beginning, while
// nothing is known, there is one batch a look, and it waits until the replica has
// applied the one before. Where the replica keeps up, what was learnt is forgotten
// by a fifth a look, so that the brake lets go within seconds.
//
// It is told of a replica only as often as somebody looks, so with a limit of less
// than two looks a slow replica is not kept busy all the time.
type brake struct {
	perRow  float64 // time that the replica needs for a row of ours, in nanoseconds; 0 unknown
	credit  float64 // of that time, granted until the next look
	lagging bool

	sample  int64 // last look that was taken into account
	written int64 // how far the log was then
	rows    int64 // of batches since
}

const (
	lagBack   = 0.8  // share of the limit to which a replica must come back
	lagGrant  = 0.6  // share of the limit up to which more is granted
	lagLearn  = 8    // looks from the beginning on with one batch each
	lagForget = 0.8  // of a row's cost is still believed after a look at which the replica kept up
	lagLeast  = 0.25 // of the rows wanted, or of all that would ever be granted, make a batch; fewer wait for the next look
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
	most := lagGrant * float64(limit) / b.perRow
	switch {
	case granted >= float64(rows):
		return rows, 0
	case granted < 1 && most >= 1, granted < lagLeast*min(float64(rows), most):
		return 0, lagGlance
	}
	return max(int(granted), 1), 0
}

// look takes in what a look has shown.
func (b *brake) look(limit time.Duration, sample int64, l Lag) {
	if l.Rate > 0 && b.rows > 0 && b.written > 0 && l.Written > b.written {
		b.perRow = float64(l.Written-b.written) / float64(b.rows) / l.Rate * float64(time.Second)
	} else if l.Rate == 0 && l.Needs == 0 {
		b.perRow *= lagForget
		if b.perRow < 1 {
			b.perRow = 0
		}
	}
	b.sample, b.written, b.rows = sample, l.Written, 0
	b.credit = lagGrant*float64(limit) - float64(l.Behind())
	switch {
	case l.Behind() > limit:
		b.lagging = true
	case l.Needs >= 0 && l.Behind() <= time.Duration(lagBack*float64(limit)):
		b.lagging = false
	}
}

// wrote tells of a batch that was committed.
func (b *brake) wrote(rows int) {
	b.rows += int64(rows)
	b.credit -= float64(rows) * b.perRow
}
