package ledger

import (
	"context"
	"strings"
	"testing"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// within does something in a transaction of its own.
func within(t *testing.T, s *engine.Session, do func(tx *engine.Tx) error) {
	t.Helper()
	tx, err := s.Start(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	if err := do(tx); err != nil {
		t.Fatal(err)
	}
	if err := tx.Commit(context.Background()); err != nil {
		t.Fatal(err)
	}
}

func TestSignalsAreNumberedAndHeardOnce(t *testing.T) {
	l, s, _ := open(t)
	ctx := context.Background()
	a, b := newRun(t, l, s), newRun(t, l, s)
	for _, kind := range []string{Pause, Tune, GoOn} {
		args := map[string]string(nil)
		if kind == Tune {
			args = map[string]string{"hold": "50ms", "lag": "off"}
		}
		if err := l.Send(ctx, s, a.ID, kind, args); err != nil {
			t.Fatal(err)
		}
	}
	if err := l.Send(ctx, s, b.ID, Stop, nil); err != nil {
		t.Fatal(err)
	}
	list, err := l.Signals(ctx, a.ID, 0)
	if err != nil || len(list) != 3 || list[1].N != 2 || list[1].Args["lag"] != "off" || list[1].SeenAt != nil || list[0].Who == "" || list[0].Host == "" || time.Since(list[0].At) > time.Minute {
		t.Fatalf("%+v %v", list, err)
	}
	a.Options.Hold = 50 * time.Millisecond
	if err := l.Seen(ctx, s, a, 2); err != nil {
		t.Fatal(err)
	}
	if list, err = l.Signals(ctx, a.ID, 1); err != nil || len(list) != 2 || list[0].SeenAt == nil || list[1].SeenAt != nil {
		t.Errorf("%+v %v", list, err)
	}
	if got, err := l.Load(ctx, a.ID); err != nil || got.Options.Hold != 50*time.Millisecond {
		t.Errorf("the new limits are not kept: %+v %v", got.Options, err)
	}
	if list, err = l.Signals(ctx, b.ID, 0); err != nil || len(list) != 1 || list[0].N != 1 || list[0].Kind != Stop {
		t.Errorf("%+v %v", list, err)
	}
	p, err := l.Progress(ctx, a)
	if err != nil || p.Note != "" {
		t.Errorf("after the end of a pause: %+v %v", p, err)
	}
	if err := l.Send(ctx, s, a.ID, Pause, nil); err != nil {
		t.Fatal(err)
	}
	if p, err = l.Progress(ctx, a); err != nil || !strings.HasPrefix(p.Note, "paused by") {
		t.Errorf("%+v %v", p, err)
	}
	if err := l.Alive(ctx, s, a.ID); err != nil {
		t.Error(err)
	}
}

func TestRowsSetAsideReadBack(t *testing.T) {
	l, s, _ := open(t)
	ctx := context.Background()
	r := newRun(t, l, s)
	text := "näu\x00'x"
	within(t, s, func(tx *engine.Tx) error {
		for _, a := range []*Aside{
			{Step: 1, Key: change.KeyValue{int64(7), "ä"}, New: map[string]*string{"a": &text, "b": nil}, Error: "no room"},
			{Step: 1, Key: change.KeyValue{[]byte{0, 255}}, Error: "division by zero"},
			{Step: 2, Key: change.KeyValue{1.5}, New: map[string]*string{}, Error: "x"},
		} {
			if err := l.SetAside(ctx, tx, r.ID, a); err != nil {
				return err
			}
		}
		return nil
	})
	list, err := l.Asides(ctx, r.ID, 10)
	if err != nil || len(list) != 3 {
		t.Fatalf("%+v %v", list, err)
	}
	if x := list[0]; x.N != 1 || x.KeyText != "7, ä" || *x.New["a"] != text || x.New["b"] != nil || len(x.New) != 2 || x.Error != "no room" || x.Retried {
		t.Errorf("%+v", x)
	}
	if list[1].New != nil || list[1].N != 2 || list[2].N != 1 || list[2].Step != 2 {
		t.Errorf("%+v", list[1:])
	}
	within(t, s, func(tx *engine.Tx) error { return l.Retry(ctx, tx, r.ID, list[0], "") })
	within(t, s, func(tx *engine.Tx) error { return l.Retry(ctx, tx, r.ID, list[1], "still no") })
	if n, err := l.AsideCount(ctx, r.ID); err != nil || n != 2 {
		t.Errorf("%d rows are still set aside, %v", n, err)
	}
	if list, err = l.Asides(ctx, r.ID, 2); err != nil || len(list) != 2 || !list[0].Retried || list[0].Error != "no room" || list[1].Retried || list[1].Error != "still no" {
		t.Errorf("%+v %v", list, err)
	}
}

func TestWaitsAddUp(t *testing.T) {
	l, s, _ := open(t)
	ctx := context.Background()
	r, other := newRun(t, l, s), newRun(t, l, s)
	within(t, s, func(tx *engine.Tx) error {
		now := time.Now()
		if err := l.AddWaits(ctx, tx, r.ID, []Wait{{Session: "7", Step: 1, Began: now, MS: 100, For: "visit", Statement: "UPDATE"}, {Session: "8", Step: 1, Began: now, MS: 30}, {Session: "7", Step: 2, Began: now, MS: 12.5}}); err != nil {
			return err
		}
		return l.AddSamples(ctx, tx, r.ID, 40, 120*time.Millisecond)
	})
	within(t, s, func(tx *engine.Tx) error { return l.AddSamples(ctx, tx, r.ID, 2, 5*time.Millisecond) })
	w, longest, err := l.Watched(ctx, r.ID, 2)
	if err != nil || w != (Watching{Seen: 3, Sessions: 2, TotalMS: 142.5, LongestMS: 100, Samples: 42, LookingMS: 125}) {
		t.Errorf("%+v %v", w, err)
	}
	if len(longest) != 2 || longest[0].MS != 100 || longest[0].For != "visit" || longest[1].Session != "8" {
		t.Errorf("%+v", longest)
	}
	if w, longest, err = l.Watched(ctx, other.ID, 5); err != nil || w != (Watching{}) || len(longest) != 0 {
		t.Errorf("another run's: %+v %v %v", w, longest, err)
	}
}

// TestBeginStepTwice: the answer to the first try may have been lost.
func TestBeginStepTwice(t *testing.T) {
	l, s, raw := open(t)
	ctx := context.Background()
	r := newRun(t, l, s)
	st := r.Steps[0]
	for _, end := range []int64{50, 60} { // rows came in between
		if err := l.BeginStep(ctx, s, r, st, change.KeyValue{end}); err != nil {
			t.Fatal(err)
		}
	}
	var lanes int
	var end string
	if err := raw.QueryRow("SELECT count(*), max(walk_end) FROM jugatum_lane WHERE run = 1").Scan(&lanes, &end); err != nil || lanes != 1 || end != "[60]" {
		t.Errorf("%d lanes up to %s, %v", lanes, end, err)
	}
}
