package runner

import (
	"context"
	"errors"
	"testing"
	"time"

	"jugatum/internal/engine"
)

// points is a server whose last checkpoint is this one.
type points struct {
	engine.Point
	err   error
	asked int
}

func (p *points) LastCheckpoint(context.Context) (engine.Point, error) {
	p.asked++
	return p.Point, p.err
}

// TestCheckpoints: each that comes after the one that was there is told of once, by the time that the
// server says has gone by since; an error tells of none, and does not end it.
func TestCheckpoints(t *testing.T) {
	now := time.Date(2026, 11, 30, 12, 0, 0, 0, time.UTC)
	p := &points{}
	c := checkpoints{teller: p}
	for i, x := range []struct {
		after time.Duration // the time before
		name  string
		ago   time.Duration
		err   error
		asked int
		told  bool
	}{
		{0, "0/10", time.Hour, nil, 1, false}, // was there before
		{pointsEvery, "0/10", time.Hour, nil, 2, false},
		{pointsEvery / 2, "0/20", time.Second, nil, 2, false}, // too early
		{pointsEvery / 2, "0/20", 3 * time.Second, nil, 3, true},
		{pointsEvery, "0/20", 5 * time.Second, nil, 4, false},
		{pointsEvery, "", 0, errors.New("the server is down"), 5, false},
		{pointsEvery, "0/30", 4 * time.Second, nil, 6, true},
		{pointsEvery, "0/40", 0, nil, 7, true}, // in the same moment
	} {
		now = now.Add(x.after)
		p.Name, p.Ago, p.err = x.name, x.ago, x.err
		at, err := c.next(context.Background(), now)
		want := time.Time{}
		if x.told {
			want = now.Add(-x.ago)
		}
		if !at.Equal(want) || err != x.err || p.asked != x.asked {
			t.Errorf("%d: told of %v, expected %v; %v, asked %d times", i, at, want, err, p.asked)
		}
	}
	c.teller = nil
	if at, err := c.next(context.Background(), now.Add(time.Hour)); !at.IsZero() || err != nil {
		t.Error("told of one where nobody tells")
	}
}
