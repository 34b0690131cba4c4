package pace

import "time"

// toll learns what a row that changes costs, whatever was passed by besides. Rows that are only passed
// by cost so little that batches become large where hardly any row changes; and further on they may
// all change, since those that are meant often lie side by side: the latest, the oldest. A batch is
// therefore no larger than would still be bearable then.
type toll struct {
	recent []sample // of the last batches that tell: their changed rows, and all of their work
}

const (
	// guessedToll is what a row that changes costs as long as no batch tells, in nanoseconds.
	guessedToll = 10_000
	// A batch tells that changed so many rows; or that changed one in leastDense of its rows, and took
	// a quarter of the target. The rest say more of what rows cost that are passed by, or of what a
	// batch costs whatever its rows.
	leastChanged = 500
	leastDense   = 4
)

// add learns from a batch that changed so many rows, by the time that its rows took.
func (t *toll) add(changed int, c sample, target time.Duration) {
	n := float64(changed)
	if changed < leastChanged && (n*leastDense < c.rows || changed < 1 || c.work < float64(target)/4) {
		return
	}
	t.recent = append(t.recent, sample{rows: n, work: c.work})
	if len(t.recent) > Memory {
		t.recent = t.recent[1:]
	}
}

// most is how many rows a batch may have whose rows may all change, to take so long (nanoseconds).
func (t *toll) most(room float64) int {
	perRow := float64(guessedToll)
	if len(t.recent) > 0 {
		var sum sample
		perRow = 1
		for _, c := range t.recent {
			sum.rows, sum.work = sum.rows+c.rows, sum.work+c.work
			perRow = max(perRow, c.work/c.rows/2)
		}
		perRow = max(perRow, sum.work/sum.rows)
	}
	return max(int(min(room/perRow, Most)), 1)
}
