package pace

import "time"

// Effort tells how much work rows are: scanning one, and changing one. It learns both from the
// times that batches took, by least squares.
type Effort struct {
	scanned, changed, took float64 // sums over the batches; rows, rows, seconds
	ss, sc, cc, st, ct     float64 // sums of products
}

// How much more work a changed row is than one that is only scanned, as long as the batches do
// not tell (all of them changed the same share of what they scanned), and how little is believed of
// such a guess against what they do tell.
const (
	guessedRatio = 10
	guessWeight  = 0.001
)

// Add learns from a batch: rows scanned and changed, and the time from the end of the one before it
// without pauses.
func (e *Effort) Add(scanned, changed int64, took time.Duration) {
	s, c, t := float64(max(scanned, 0)), float64(max(changed, 0)), took.Seconds()
	e.scanned, e.changed, e.took = e.scanned+s, e.changed+c, e.took+t
	e.ss, e.sc, e.cc, e.st, e.ct = e.ss+s*s, e.sc+s*c, e.cc+c*c, e.st+s*t, e.ct+c*t
}

// rates are the seconds that one row scanned and one changed take; before the first batch they are
// in proportion only.
func (e *Effort) rates() (scan, change float64) {
	guess := 1.0
	if rows := e.scanned + guessedRatio*e.changed; rows > 0 && e.took > 0 {
		guess = e.took / rows
	}
	if e.ss == 0 || e.cc == 0 {
		return guess, guessedRatio * guess
	}
	// The guess is as if there were a few batches more that it fits: where the others tell
	// nothing of one of the two, it decides.
	ss, cc := e.ss*(1+guessWeight), e.cc*(1+guessWeight)
	st, ct := e.st+e.ss*guessWeight*guess, e.ct+e.cc*guessWeight*guessedRatio*guess
	det := ss*cc - e.sc*e.sc // above 0, since both were made larger
	scan, change = (st*cc-ct*e.sc)/det, (ct*ss-st*e.sc)/det
	switch { // no work takes less than no time
	case scan < 0:
		return 0, ct / cc
	case change < 0:
		return st / ss, 0
	}
	return scan, change
}

// Of is the work of so many rows scanned and changed: seconds of one worker, or in
// proportion to that before the first batch.
func (e *Effort) Of(scanned, changed int64) float64 {
	scan, change := e.rates()
	return scan*float64(max(scanned, 0)) + change*float64(max(changed, 0))
}
