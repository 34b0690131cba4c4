package cli

import (
	"math"
	"strings"
	"testing"
	"time"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
	"jugatum/internal/term"
)

// TestTrail: the plots show the last half minute, the newest at the right end, and forget what is older.
func TestTrail(t *testing.T) {
	began := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	x := trail{began: began}
	batch := func(at time.Duration, rows int64, hold time.Duration) {
		x.add(began.Add(at), &ledger.Batch{N: int64(at / time.Second), Hold: hold, Waiters: -1, Effect: engine.Effect{Changed: rows, Scanned: rows, Log: engine.Log{Bytes: 10 * rows}}})
	}
	batch(0, 1000, time.Second) // long ago
	for i := range 5 {
		batch(40*time.Second+time.Duration(i)*time.Second, int64(100*(i+1)), time.Duration(10*(i+1))*time.Millisecond)
	}
	batch(44*time.Second+100*time.Millisecond, 300, 20*time.Millisecond) // in the same stretch as the one before
	rows := x.series(began.Add(44500*time.Millisecond), func(p trailPart) float64 { return p.rows })
	if len(rows) != trailParts || rows[trailParts-2] != 800 || rows[trailParts-4] != 400 || !math.IsNaN(rows[trailParts-1]) || !math.IsNaN(rows[trailParts-3]) {
		t.Errorf("%v", rows)
	}
	for _, v := range rows {
		if v == 1000 {
			t.Error("what is older than half a minute is still there")
		}
	}
	lines := x.lines(&term.Out{}, began.Add(44500*time.Millisecond), runner.Progress{})
	text := strings.Join(lines, "\n")
	for _, want := range []string{"hold ", "most 50 ms", "rows/s", "most 1,600", "log/s", "batch 44 ", "300 changed"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
	if strings.Contains(text, "waiting") || strings.Count(text, "scanned") != trailLast {
		t.Errorf("%s", text)
	}
}

// TestStandsStill: a pause changes nothing about the speed and the time that is left.
func TestStandsStill(t *testing.T) {
	p := runner.Progress{Here: 1000, Scanned: 1000, TableRows: 3000, StepElapsed: 10 * time.Second}
	var v advance
	before := v.left(p)
	p.StepElapsed, p.Idle = p.StepElapsed+time.Hour, time.Hour
	if after := v.left(p); after != before || before != 20*time.Second {
		t.Errorf("%v left, then %v", before, after)
	}
}
