package engine

import (
	"sync"
	"time"
)

// LagTrack remembers when a log had come how far, so that the age of what a
// replica has not applied yet can be told, also while the replica stands still.
// Servers' own figures stand still then as well, or count in whole seconds.
// The zero value is ready; it may be used from several goroutines.
type LagTrack struct {
	mu   sync.Mutex
	past []position
}

type position struct {
	at time.Time
	n  int64
}

// Behind takes in where the log and the replica are now, both counted in the
// same unit (bytes, transactions), and gives how long ago the oldest of what the
// replica lacks was written, to within the time from one call to the next.
func (t *LagTrack) Behind(now time.Time, written, applied int64) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.past = append(t.past, position{now, written})
	n := 0
	for n < len(t.past) && t.past[n].n <= applied {
		n++
	}
	t.past = t.past[n:]
	if len(t.past) == 0 {
		return 0
	}
	if len(t.past) > 100_000 { // hours behind: the oldest tells enough
		t.past = append(t.past[:1], t.past[len(t.past)/2:]...)
	}
	return now.Sub(t.past[0].at)
}
