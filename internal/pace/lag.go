package pace

import (
	"sync"
	"time"
)

// Lag is how far a replica is behind.
type Lag struct {
	Age   time.Duration // of the oldest change that it lacks; -1 if there is no replica, or nothing is known
	Needs time.Duration // about how long it needs for all that it lacks; 0 where it keeps up, -1 where it stands still
	Rate  float64       // bytes or transactions that it applies a second; 0 where it keeps up, so that nobody knows

	Transactions bool // these are counted rather than bytes
}

// NoLag is that of no replica.
var NoLag = Lag{Age: -1}

// Behind is the age of what the replica lacks or the time that it needs for it,
// whichever is more.
func (l Lag) Behind() time.Duration { return max(l.Age, l.Needs) }

// LagTrack tells from positions in a log how far a replica is behind. It remembers
// when the log had come how far, so that the age of what the replica lacks can be
// told also while it stands still; servers' own figures stand still then as well,
// or count in whole seconds. And it learns how fast the replica applies the log,
// so that what it lacks can be told as the time that it needs for it: where we
// write ten times as fast as it applies, the age tells of that ten times too late.
//
// The zero value is ready; it may be used from several goroutines.
type LagTrack struct {
	mu   sync.Mutex
	past []position // from the oldest that the replica lacks to the newest
	last position   // the look before
	done int64      // applied then
	busy []interval // the last of those in which it applied log all the time
}

type position struct {
	at time.Time
	n  int64
}

type interval struct {
	took    time.Duration
	applied int64
}

const (
	// busyKept intervals tell how fast a replica is: a second, at four looks each.
	busyKept = 4
	// pastKept positions reach back for hours; beyond that the oldest tells enough.
	pastKept = 100_000
	// longestNeed is as good as never.
	longestNeed = 1000 * time.Hour
)

// Look takes in where the log and the replica are now, both counted in the same
// unit (bytes, transactions). The age is true to within the time from one look to
// the next.
func (t *LagTrack) Look(now time.Time, written, applied int64) Lag {
	t.mu.Lock()
	defer t.mu.Unlock()
	var l Lag
	l.Needs, l.Rate = t.speed(now, written, applied)
	t.past = append(t.past, position{now, written})
	n := 0
	for n < len(t.past) && t.past[n].n <= applied {
		n++
	}
	t.past = t.past[n:]
	if len(t.past) == 0 {
		return l
	}
	if len(t.past) > pastKept {
		t.past = append(t.past[:1], t.past[len(t.past)/2:]...)
	}
	l.Age = now.Sub(t.past[0].at)
	return l
}

// speed reckons with the intervals in which the replica was busy from beginning
// to end: at the end of these it still lacked some of what there was at the
// beginning. In others it may have had nothing to do for a part of the time.
func (t *LagTrack) speed(now time.Time, written, applied int64) (needs time.Duration, rate float64) {
	before, done := t.last, t.done
	t.last, t.done = position{now, written}, applied
	if before.at.IsZero() || applied >= before.n {
		t.busy = nil
		return 0, 0
	}
	t.busy = append(t.busy, interval{now.Sub(before.at), max(applied-done, 0)})
	t.busy = t.busy[max(len(t.busy)-busyKept, 0):]
	var sum interval
	for _, b := range t.busy {
		sum.took += b.took
		sum.applied += b.applied
	}
	if sum.applied == 0 {
		return -1, 0
	}
	rate = float64(sum.applied) / sum.took.Seconds()
	return time.Duration(min(float64(written-applied)/rate*float64(time.Second), float64(longestNeed))), rate
}
