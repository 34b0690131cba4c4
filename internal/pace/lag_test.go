package pace

import (
	"testing"
	"time"
)

// TestLagOfAReplica that stands still, goes on and catches up: the age is that of
// the oldest log that it lacks.
func TestLagOfAReplica(t *testing.T) {
	var track LagTrack
	t0 := time.Now()
	for _, c := range []struct {
		ms                int
		written, replayed int64
		age, needs        int // milliseconds
	}{
		{0, 100, 100, 0, 0},
		{250, 300, 100, 0, 0},      // it had all that there was a look ago
		{500, 500, 100, 250, -1},   // it stands still
		{750, 500, 300, 250, 500},  // 200 in two intervals of 250 ms, and it lacks 200
		{1000, 500, 300, 500, 750}, // the same 200 in three
		{1250, 500, 499, 750, 2},
		{1500, 500, 500, 0, 0},
		{1750, 900, 500, 0, 0},
	} {
		l := track.Look(t0.Add(time.Duration(c.ms)*time.Millisecond), c.written, c.replayed)
		age, needs := l.Age, l.Needs
		if needs > 0 {
			needs = needs.Truncate(time.Millisecond)
		} else if needs < 0 {
			needs = -time.Millisecond
		}
		if age != time.Duration(c.age)*time.Millisecond || needs != time.Duration(c.needs)*time.Millisecond {
			t.Errorf("after %d ms: %v and %v, want %d and %d ms", c.ms, age, needs, c.age, c.needs)
		}
	}
}

// TestReplicaThatRestsBetweenBatches is quick: what it lacks right after a batch
// says nothing about its speed.
func TestReplicaThatRestsBetweenBatches(t *testing.T) {
	var track LagTrack
	t0 := time.Now()
	for i := range int64(40) {
		if l := track.Look(t0.Add(time.Duration(i)*250*time.Millisecond), (i+1)*1000, i*1000); l.Age > 0 || l.Needs > 0 || l.Rate > 0 {
			t.Fatalf("look %d: %+v", i, l)
		}
	}
}
