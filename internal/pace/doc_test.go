package pace

import (
	"fmt"
	"os"
	"strings"
	"testing"
)

// TestConstantsAreAsDocumented holds docs/pace.md to the constants here.
func TestConstantsAreAsDocumented(t *testing.T) {
	text, err := os.ReadFile("../../docs/pace.md")
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		fmt.Sprintf("begins with %d rows", First),
		fmt.Sprintf("no more than %d MiB", firstBytes>>20),
		fmt.Sprintf("more than %d times the target", Overshoot),
		fmt.Sprintf("%d times as large, later %d times", leap, growth),
		fmt.Sprintf("mean of the last %d batches", Memory),
		fmt.Sprintf("more rows than would take %d times the target if all of them changed", Overshoot),
		fmt.Sprintf("from the last %d batches that changed %d rows, or one in %d of theirs and took a quarter of the target; until there is one, from a guess of %d µs", Memory, leastChanged, leastDense, guessedToll/1000),
		fmt.Sprintf("| %v | at first |", aim),
		fmt.Sprintf("| up to %v |", aimMost),
		fmt.Sprintf("(more than %v of that)", dear),
		fmt.Sprintf("the last %d batches took what was reckoned, to %v of the target at worst; rises by %v a batch", watched, margin, rise),
		fmt.Sprintf("| %v | `--waiters` is set |", aimGentle),
		fmt.Sprintf("up to %d rows beside larger ones among the last %d", few, lookback),
		fmt.Sprintf("after %d of them twice as many are tried", probe),
		fmt.Sprintf("no more than %v times what nine in ten", noLonger),
		fmt.Sprintf("before the next, up to %d", probeMost),
		fmt.Sprintf("more than %v of the time since the last look", heldShare),
		fmt.Sprintf("longer than %v of what makes it do so", queueShare),
		fmt.Sprintf("what is left of %v of the limit, or in %v of what is left of all of it", lagGrant, lagMore),
		fmt.Sprintf("For the first %d looks", lagLearn),
		fmt.Sprintf("come back to %v of it", lagBack),
	} {
		if !strings.Contains(string(text), want) {
			t.Errorf("docs/pace.md does not say: %s", want)
		}
	}
	for name, is := range map[string]bool{
		"halves": easeDown == 0.5, "a sixty-fourth": easeLeast == 1.0/64, "a quarter back": easeUp == 1.25, "a fifth of what was learnt": lagForget == 0.8,
		"one second of it in advance": logBurst.Seconds() == 1,
	} {
		if !is || !strings.Contains(string(text), name) {
			t.Errorf("docs/pace.md says otherwise, or nothing, of: %s", name)
		}
	}
}
