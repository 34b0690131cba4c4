package trial

import (
	"fmt"
	"time"

	"jugatum/internal/term"
)

// Figure is what ways are put in order by.
func (t Tried) Figure(by string) float64 { return t.of(by) }

// near is by how much two ways must differ for one to be called cheaper: the trials of each vary
// by themselves.
func near(a, b Tried, by string) bool {
	x, y := a.of(by), b.of(by)
	if by != "time" && by != "hold" {
		return x == y
	}
	return y-x <= max(a.Vary, b.Vary, 0.03)*y
}

// Advise says which way to take, and why, in a sentence or two: of those that keep old values and
// hold their locks no longer than the target, the cheapest.
func (r *Result) Advise(by string, hold time.Duration) (string, *Tried) {
	target := float64(hold) / float64(time.Millisecond)
	var best, second, single, bare *Tried
	for i := range r.Ways {
		w := &r.Ways[i]
		switch {
		case w.Failed != "" || w.Yardstick:
		case w.Method == "single":
			if w.Keep && single == nil {
				single = w
			}
			if w.Keep && w.HoldMS <= target/2 && (best == nil || best.of(by) > w.of(by)) { // so few rows that one batch has them all
				best, second = w, best
			}
		case !w.Keep:
			if bare == nil || w.of(by) < bare.of(by) {
				bare = w
			}
		case best == nil || w.of(by) < best.of(by):
			best, second = w, best
		case second == nil || w.of(by) < second.of(by):
			second = w
		}
	}
	if best == nil {
		return "No way that keeps old values could be tried.", nil
	}
	text := fmt.Sprintf("%s: about %s, holds of at most %s", best.Name(), words(best.Seconds), term.Duration(time.Duration(best.HoldMS*float64(time.Millisecond))))
	if best.LogBytes >= 0 {
		text += ", " + term.Bytes(best.LogBytes) + " of log"
	}
	if best.Room > 0 {
		text += ", " + term.Bytes(best.Room) + " of kept values"
	}
	if second != nil && near(*best, *second, by) {
		text += fmt.Sprintf("; %s may be as good, since the trials vary by more than these two differ", second.Name())
		if simpler(*second, *best) {
			best = second
		}
	}
	if single != nil && single != best {
		text += fmt.Sprintf("; single takes %s and holds its locks all that time", words(single.Seconds))
	}
	if bare != nil && bare.Seconds < best.Seconds*0.9 {
		text += fmt.Sprintf("; %s takes %s, and cannot be verified or taken back", bare.Name(), words(bare.Seconds))
	}
	return text + ".", best
}

// simpler reports whether a way asks less of the server than another.
func simpler(a, b Tried) bool { return a.Workers < b.Workers }

func words(seconds float64) string {
	return term.Duration(time.Duration(seconds * float64(time.Second)))
}
