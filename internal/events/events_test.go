package events

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
)

func work() *runner.Work {
	return &runner.Work{Step: &ledger.Step{N: 1, Name: "rates", Verb: "update", Method: "sweep", ToChange: 90, Totals: ledger.Totals{Batches: 3, Scanned: 300, Matched: -1, Changed: 80}}, Change: &change.Change{Table: &change.Table{Name: "berth"}}}
}

// TestLines: what each kind of event says, and nothing that has no meaning for it.
func TestLines(t *testing.T) {
	at := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	for _, x := range []struct {
		e    runner.Event
		want string
	}{
		{runner.Event{Kind: runner.StepBegins, Work: work()}, `"event":"step","run":7,"step":1,"name":"rates","table":"berth","verb":"update","method":"sweep","counts":{"to_change":90,"batches":3,"scanned":300,"matched":-1,"changed":80,"skipped":0,"set_aside":0}}`},
		{runner.Event{Kind: runner.BatchDone, Work: work(), Lane: 2, Batch: &ledger.Batch{N: 4, Began: at, Hold: 80 * time.Millisecond, Why: "replica lag", Waiters: -1, Lag: 1500 * time.Millisecond, Effect: engine.Effect{Scanned: 100, Matched: -1, Changed: 30}}},
			`"event":"batch","run":7,"step":1,"name":"rates","table":"berth","verb":"update","batch":{"lane":2,"n":4,"began_at":"2026-11-29T12:00:00Z","scanned":100,"matched":-1,"changed":30,"skipped":0,"set_aside":0,"hold_ms":80,"lock_wait_ms":0,"pause_ms":0,"why":"replica lag","log_bytes":-1,"log_records":-1,"full_page_images":-1,"log_scope":"","retries":0,"lag_ms":1500,"waiters":-1}}`},
		{runner.Event{Kind: runner.Incident, Incident: &ledger.Incident{At: at, Kind: ledger.Reconnected, ForMS: 2500, Detail: "the same server: unexpected EOF"}}, `"event":"incident","run":7,"incident":{"at":"2026-11-29T12:00:00Z","kind":"reconnected","for_ms":2500,"detail":"the same server: unexpected EOF"}}`},
		{runner.Event{Kind: runner.Waiting, Work: work(), Why: "paused", For: 100 * time.Millisecond}, `"event":"waiting","run":7,"step":1,"name":"rates","table":"berth","verb":"update","why":"paused","for_ms":100}`},
		{runner.Event{Kind: runner.Signalled, Signal: &ledger.Signal{Kind: "tune", Args: map[string]string{"hold": "50ms"}, Who: "mara", Host: "quay1"}}, `"event":"signal","run":7,"signal":"tune","args":{"hold":"50ms"},"who":"mara@quay1"}`},
		{runner.Event{Kind: runner.AsideSet, Work: work(), Key: "12", Why: "too large"}, `"event":"set aside","run":7,"step":1,"name":"rates","table":"berth","verb":"update","why":"too large","key":"12"}`},
	} {
		x.e.At = at
		text, err := json.Marshal(Of(7, x.e))
		if err != nil {
			t.Fatal(err)
		}
		if want := `{"version":1,"at":"2026-11-29T12:00:00Z",` + x.want; string(text) != want {
			t.Errorf("got %s\nexpected %s", text, want)
		}
	}
	end := End(&ledger.Run{ID: 7, Status: "done", Steps: []*ledger.Step{work().Step, work().Step}})
	if c := end.Counts; c.Changed != 160 || c.Matched != -1 || c.ToChange != 180 || end.Status != "done" {
		t.Errorf("%+v %+v", end, c)
	}
}

// gate waits until somebody takes note that a write has begun, and then until it is let through; once
// it is free, for nothing any more.
type gate struct {
	begun, open, free chan struct{}
	buf               bytes.Buffer
}

func (g *gate) Write(p []byte) (int, error) {
	select {
	case g.begun <- struct{}{}:
	case <-g.free:
	}
	select {
	case <-g.open:
	case <-g.free:
	}
	return g.buf.Write(p)
}

// TestSlowReader: a reader who is slow holds nobody up; what could not be kept for it is counted, where
// it is missing; and the end is there in any case.
func TestSlowReader(t *testing.T) {
	g := &gate{begun: make(chan struct{}), open: make(chan struct{}), free: make(chan struct{})}
	w := NewWriter(g)
	tell := func(n int, event string) {
		for range n {
			w.Tell(Line{Event: event})
		}
	}
	tell(1, "batch")
	<-g.begun // it is out of the queue, and being written
	tell(queued, "batch")
	tell(500, "batch") // for which there is no room
	for range 2 {      // two are written, and two of the queue's places free
		g.open <- struct{}{}
		<-g.begun
	}
	tell(1, "signal")
	tell(70, "batch")
	close(g.free)
	tell(1, "end")
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	got, order := map[string]int64{}, ""
	for s := bufio.NewScanner(&g.buf); s.Scan(); {
		var l Line
		if err := json.Unmarshal(s.Bytes(), &l); err != nil {
			t.Fatal(err)
		}
		if l.Event == "lost" {
			got["lost"] += l.Lost
		} else {
			got[l.Event]++
		}
		if l.Event != "batch" {
			order += l.Event + " "
		}
	}
	if got["batch"] != 1+queued || got["lost"] != 570 || order != "lost signal lost end " {
		t.Errorf("%v, in this order: %s", got, order)
	}
}

type full struct{}

func (full) Write([]byte) (int, error) { return 0, errors.New("no space left") }

// TestFullDisk: what cannot be written is told at the end, once.
func TestFullDisk(t *testing.T) {
	w := NewWriter(full{})
	for range 100 {
		w.Tell(Line{Event: "batch"})
	}
	if err := w.Close(); err == nil || err.Error() != "the events could not be written: no space left" {
		t.Error(err)
	}
}

// TestMetrics: what was counted is served in the OpenMetrics format, on this machine alone unless an
// address is given; an address that is taken is refused.
func TestMetrics(t *testing.T) {
	m, err := Listen(":0")
	if err != nil {
		t.Fatal(err)
	}
	defer m.Close()
	if !strings.HasPrefix(m.Address(), "127.0.0.1:") || !Loopback(":9310") || !Loopback("[::1]:1") || Loopback("0.0.0.0:9310") || Loopback("10.0.0.5:1") {
		t.Error(m.Address())
	}
	for range 3 {
		m.Tell(runner.Event{Kind: runner.BatchDone, Batch: &ledger.Batch{Hold: 30 * time.Millisecond, LockWait: time.Second, Effect: engine.Effect{Scanned: -1, Changed: 30, Log: engine.Log{Bytes: 1000, Scope: "ours"}}}})
	}
	m.Tell(runner.Event{Kind: runner.Waiting})
	m.Tell(runner.Event{Kind: runner.AsideSet})
	m.Tell(runner.Event{Kind: runner.Retrying})
	m.Tell(runner.Event{Kind: runner.Waited, Wait: &ledger.Wait{MS: 250}})
	m.Progress(runner.Progress{Run: 7, Step: 2, ToChange: 100, Changed: 90, Lag: -1, Waiters: 4})
	req, _ := http.NewRequest("GET", "http://"+m.Address()+"/metrics", nil)
	req.Header.Set("Accept", "application/openmetrics-text; version=1.0.0")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		t.Fatal(err)
	}
	text, _ := io.ReadAll(res.Body)
	res.Body.Close()
	for _, want := range []string{`jugatum_rows_total{what="changed"} 90`, "jugatum_batches_total 3", "jugatum_hold_seconds_count 3", "jugatum_log_bytes_total 3000", "jugatum_holding_off 1", "jugatum_set_aside_total 1", "jugatum_retries_total 1",
		`jugatum_wait_seconds_total{who="others"} 0.25`, `jugatum_wait_seconds_total{who="ours"} 3`, "jugatum_run 7", "jugatum_rows_left 10", "jugatum_replica_lag_seconds -1", "jugatum_waiting_sessions 4", "# EOF"} {
		if !strings.Contains(string(text), want) {
			t.Errorf("no %s in\n%s", want, text)
		}
	}
	if !strings.HasPrefix(res.Header.Get("Content-Type"), "application/openmetrics-text") {
		t.Error(res.Header)
	}
	if _, err := Listen(m.Address()); err == nil || !strings.Contains(err.Error(), "metrics cannot be served at "+m.Address()) {
		t.Error(err)
	}
	for _, bad := range []string{"9310", "nowhere:x", ":"} {
		if x, err := Listen(bad); err == nil && bad != ":" {
			t.Errorf("%q is taken for an address", bad)
			x.Close()
		} else if err == nil {
			x.Close()
		}
	}
	if _, err := net.Dial("tcp", m.Address()); err != nil {
		t.Error(err)
	}
}

// TestNotify: a wait is told of once it has lasted as long as was said, once; one that was shorter is
// not; and the end is.
func TestNotify(t *testing.T) {
	out := filepath.Join(t.TempDir(), "told")
	n := NewNotifier("cat >> "+out, time.Hour)
	var pending []func()
	n.clock = func(_ time.Duration, do func()) func() bool {
		i := len(pending)
		pending = append(pending, do)
		return func() bool {
			was := pending[i] != nil
			pending[i] = nil
			return was
		}
	}
	elapse := func() { // the time that runs is over
		i := len(pending) - 1
		do := pending[i]
		pending[i] = nil
		do()
	}
	for range 3 {
		n.Tell(Line{Event: "waiting", Why: "short"})
	}
	n.Tell(Line{Event: "batch"})
	n.Tell(Line{Event: "waiting", Why: "paused"})
	n.Tell(Line{Event: "waiting", Why: "paused"})
	elapse()
	n.Tell(Line{Event: "batch"})
	n.Tell(Line{Event: "retry", Why: "locked"})
	n.Tell(Line{Event: "end", Status: "done"})
	if err := n.Close(); err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(out)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		var l Line
		if err := json.Unmarshal([]byte(line), &l); err != nil {
			t.Fatal(err)
		}
		got = append(got, l.Event+l.Why+l.Status)
	}
	if s := strings.Join(got, ", "); s != "waitingpaused, enddone" || len(pending) != 3 {
		t.Errorf("told of %s, after %d waits", s, len(pending))
	}
	bad := NewNotifier("echo no such thing >&2; exit 3", time.Hour)
	bad.Tell(Line{Event: "end"})
	if err := bad.Close(); err == nil || err.Error() != "the command to notify: exit status 3: no such thing" {
		t.Error(err)
	}
}

// BenchmarkBatch is what a batch's line and its counts cost, written out included.
func BenchmarkBatch(b *testing.B) {
	m, err := Listen(":0")
	if err != nil {
		b.Fatal(err)
	}
	defer m.Close()
	e := runner.Event{Kind: runner.BatchDone, Work: work(), Lane: 1, Batch: &ledger.Batch{N: 4, Hold: 30 * time.Millisecond, Locks: map[string]int{"RowExclusiveLock": 3}, Effect: engine.Effect{Scanned: 1000, Changed: 900, Log: engine.Log{Bytes: 100_000, Scope: "ours"}}}}
	for b.Loop() {
		text, err := json.Marshal(Of(7, e))
		if err != nil || len(text) == 0 {
			b.Fatal(err)
		}
		m.Tell(e)
	}
}
