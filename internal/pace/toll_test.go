package pace

import (
	"testing"
	"time"
)

// walkOver lets a sizer go over rows of which those in some stretches change, and gives the longest
// hold and the number of batches.
func walkOver(s *Sizer, rows int, changes func(row int) bool, perChange time.Duration) (longest time.Duration, batches int) {
	const perBatch, perScan = 2 * time.Millisecond, 170 * time.Nanosecond
	for at := 0; at < rows; batches++ {
		n, changed := min(s.Next(), rows-at), 0
		for i := at; i < at+n; i++ {
			if changes(i) {
				changed++
			}
		}
		work := perBatch + time.Duration(n)*perScan + time.Duration(changed)*perChange
		s.Done(n, changed, work, time.Millisecond)
		longest, at = max(longest, work+time.Millisecond), at+n
	}
	return longest, batches
}

// TestRowsThatChangeLieTogether: batches that pass rows by are no larger than would be bearable if all
// of them changed, since further on they do.
func TestRowsThatChangeLieTogether(t *testing.T) {
	const rows, target = 3_000_000, 200 * time.Millisecond
	latest := func(row int) bool { return row > rows*9/10 }
	oldest := func(row int) bool { return row < 50_000 || row > rows*9/10 }
	for name, c := range map[string]struct {
		changes   func(int) bool
		perChange time.Duration
	}{
		"cheap, the latest": {latest, 2 * time.Microsecond}, "the latest": {latest, 6 * time.Microsecond}, "as guessed, the latest": {latest, guessedToll},
		// Those that come first tell that they are dear.
		"dear, the oldest and the latest": {oldest, 150 * time.Microsecond}, "the oldest and the latest": {oldest, 15 * time.Microsecond},
	} {
		longest, batches := walkOver(&Sizer{Target: target}, rows, c.changes, c.perChange)
		if longest > Overshoot*target*6/5 {
			t.Errorf("%s: a batch of %v", name, longest)
		}
		t.Logf("%s: %d batches, longest %v", name, batches, longest)
	}
	// Where hardly any row changes that is no reason for many batches.
	if _, batches := walkOver(&Sizer{Target: target}, rows, func(row int) bool { return row%1000 == 0 }, 6*time.Microsecond); batches > rows/30_000 {
		t.Errorf("%d batches where one row in 1000 changes", batches)
	}
	if _, batches := walkOver(&Sizer{Target: target}, rows, func(row int) bool { return row%50 == 0 }, 6*time.Microsecond); batches > rows/10_000 {
		t.Errorf("%d batches where one row in 50 changes", batches)
	}
}
