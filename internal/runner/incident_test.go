package runner

import (
	"context"
	"errors"
	"testing"
	"time"
)

// points is a server whose last checkpoint began at a time.
type points struct {
	began, now time.Time
	err        error
	asked      int
}

func (p *points) LastCheckpoint(context.Context) (time.Time, time.Time, error) {
	p.asked++
	return p.began, p.now, p.err
}

// TestCheckpoints: each is told of once, whatever the server's clock says, and a server that cannot be
// asked is not asked again.
func TestCheckpoints(t *testing.T) {
	ctx := context.Background()
	then := time.Date(1999, 12, 31, 23, 59, 30, 0, time.UTC) // by a clock that is far behind
	p := &points{began: then, now: then.Add(10 * time.Second)}
	c := checkpoints{teller: p}
	tells := func() bool {
		c.asked = time.Time{} // long ago
		at, ok := c.next(ctx)
		if ago := time.Since(at); ok && (ago < 10*time.Second || ago > time.Hour) {
			t.Errorf("it began %v ago, by the server's clock 10 s", ago)
		}
		return ok
	}
	if !tells() || tells() {
		t.Error("the first is told of once")
	}
	if _, ok := c.next(ctx); ok || p.asked != 2 {
		t.Error("it was asked again at once")
	}
	p.now = p.now.Add(time.Hour)
	if tells() {
		t.Error("the same is told of again")
	}
	p.began = p.now.Add(-10 * time.Second)
	if !tells() {
		t.Error("the next is not told of")
	}
	p.err = errors.New("no")
	if tells() {
		t.Error("told of none")
	}
	if p.err, p.began = nil, p.now; tells() || c.teller != nil {
		t.Error("it was asked again after it could not tell")
	}
}
