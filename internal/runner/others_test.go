package runner

import (
	"errors"
	"reflect"
	"testing"
	"time"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/pace"
)

// TestWaitsAreCountedUpToTheLastLook: a wait that goes on from look to look is
// one, a new one of the same session another, and after a failed look nothing
// is taken for known.
func TestWaitsAreCountedUpToTheLastLook(t *testing.T) {
	t0 := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	at := func(ms int) time.Time { return t0.Add(time.Duration(ms) * time.Millisecond) }
	told := func(session string, ms int) engine.Waiter {
		return engine.Waiter{Session: session, Waited: time.Duration(ms) * time.Millisecond, For: "visit", Statement: "UPDATE visit"}
	}
	o := &onlooker{most: -1}
	look := func(ms int, err error, list ...engine.Waiter) {
		o.seen(at(ms), 2*time.Millisecond, engine.Waits{Others: list}, pace.Pressure{Lag: pace.NoLag}, err)
	}
	look(0, nil)
	look(250, nil, told("7", 100), told("8", 40))
	look(500, nil, told("7", 350))               // 8 has got its lock
	look(750, nil, told("7", 30))                // 7 too, and waits again
	look(1000, errors.New("the server is away")) // nobody knows
	look(1250, nil, engine.Waiter{Session: "9"}) // a server that does not tell since when
	look(1500, nil, engine.Waiter{Session: "9"})
	var s sight
	s.most = -1
	o.take(&s, true)
	got := map[string][]float64{}
	for _, w := range s.waits {
		got[w.Session] = append(got[w.Session], w.MS)
	}
	if len(got["7"]) != 2 || got["7"][0] != 350 || got["7"][1] != 30 || len(got["8"]) != 1 || got["8"][0] != 40 || len(got["9"]) != 1 || got["9"][0] != 250 {
		t.Errorf("%v", got)
	}
	if s.samples != 7 || s.took != 14*time.Millisecond || s.most != 2 {
		t.Errorf("%d looks of %v, at most %d waiting", s.samples, s.took, s.most)
	}
	again := sight{most: -1}
	if o.take(&again, true); len(again.waits) != 0 || again.samples != 0 || again.most != -1 {
		t.Errorf("what was taken is there again: %+v", again)
	}
	var none *onlooker // an engine that cannot tell
	none.take(&again, true)
	none.working(1)
	none.on(1, nil)
	none.end()
	if none.waited(1) != 0 || none.left() != nil {
		t.Error("nobody looked, and something was seen")
	}
	if p := none.pressure(); p.Sample != 0 || p.Lag != pace.NoLag {
		t.Errorf("%+v", p)
	}
}

// TestOwnWaits: what a session of ours was seen to wait goes to its next batch,
// once, and to no other session's.
func TestOwnWaits(t *testing.T) {
	t0 := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	o := &onlooker{most: -1}
	look := func(ms int, list ...engine.Waiter) {
		o.seen(t0.Add(time.Duration(ms)*time.Millisecond), 0, engine.Waits{Ours: list}, pace.Pressure{Lag: pace.NoLag}, nil)
	}
	want := func(session int64, ms int) {
		t.Helper()
		if got := o.waited(session); got != time.Duration(ms)*time.Millisecond {
			t.Errorf("session %d waited %v, not %d ms", session, got, ms)
		}
	}
	look(250, engine.Waiter{Session: "7", Waited: 200 * time.Millisecond}, engine.Waiter{Session: "8"})
	look(500, engine.Waiter{Session: "7", Waited: 450 * time.Millisecond}, engine.Waiter{Session: "8"})
	want(7, 450)
	want(7, 0)
	look(750, engine.Waiter{Session: "8"})
	look(1000)
	look(1250, engine.Waiter{Session: "7", Waited: 90 * time.Millisecond}, engine.Waiter{Session: "8", Waited: 10 * time.Millisecond})
	want(8, 510)
	want(7, 90)
	want(9, 0)
	if s := (sight{most: -1}); true {
		if o.take(&s, true); len(s.waits) != 0 || s.most != 0 {
			t.Errorf("our waits are not others': %+v", s)
		}
	}
}

func TestNarrow(t *testing.T) {
	var n narrow
	if n.limit(1000) != 1000 {
		t.Error("without a failure there is no limit")
	}
	sizes := []int{}
	for size := n.limit(1000); size > 1; size = n.limit(1000) {
		n.failed(size)
		sizes = append(sizes, n.limit(1000))
	}
	if len(sizes) != 9 || sizes[0] != 500 || sizes[8] != 1 {
		t.Errorf("%v", sizes)
	}
	for i := 0; n.rows > 0; i++ {
		if n.done(1000); i > 12 {
			t.Fatal("it never widens again")
		}
	}
}

func TestTune(t *testing.T) {
	o := ledger.Options{Hold: time.Second, Batch: 5}
	if err := Tune(&o, map[string]string{"hold": "50ms", "waiters": "3", "log_rate": "1MB/s"}); err != nil || o.Hold != 50*time.Millisecond || o.Batch != 0 || *o.Limits.Waiters != 3 || o.Limits.LogRate != 1_000_000 {
		t.Errorf("%+v %v", o, err)
	}
	if err := Tune(&o, map[string]string{"waiters": "off", "batch": "70"}); err != nil || o.Limits.Waiters != nil || o.Batch != 70 {
		t.Errorf("%+v %v", o, err)
	}
	before := o
	for _, bad := range []map[string]string{{"hold": "0s"}, {"hold": "x"}, {"batch": "0"}, {"colour": "red"}, {"batch": "9", "lag": "never"}} {
		if err := Tune(&o, bad); err == nil || !reflect.DeepEqual(o, before) {
			t.Errorf("%v: %v, %+v", bad, err, o)
		}
	}
}
