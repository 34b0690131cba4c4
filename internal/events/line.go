// Package events tells programs how a run goes: as JSON Lines, as metrics that can be asked for
// over HTTP, and to a command when the run ends or has to wait.
package events

import (
	"time"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
)

// Version is the number of the form of events. docs/events.md tells what changed.
const Version = 1

// Line is one event as JSON. What has no meaning for its kind is left out.
type Line struct {
	Version int       `json:"version"`
	At      time.Time `json:"at"`
	Event   string    `json:"event"`
	Run     int64     `json:"run"`

	Step  int    `json:"step,omitempty"`
	Name  string `json:"name,omitempty"`
	Table string `json:"table,omitempty"`
	Verb  string `json:"verb,omitempty"`

	Begins   *Begins           `json:"begins,omitempty"` // run
	Method   string            `json:"method,omitempty"` // step
	Counts   *Counts           `json:"counts,omitempty"` // step, step done, end
	Batch    *Batch            `json:"batch,omitempty"`
	Why      string            `json:"why,omitempty"`
	ForMS    float64           `json:"for_ms,omitempty"` // waiting: at least so long
	Tried    int               `json:"tried,omitempty"`  // retry: how often in a row
	Key      string            `json:"key,omitempty"`    // set aside
	Signal   string            `json:"signal,omitempty"`
	Args     map[string]string `json:"args,omitempty"`
	Who      string            `json:"who,omitempty"`
	Waited   *ledger.Wait      `json:"waited,omitempty"`
	Incident *ledger.Incident  `json:"incident,omitempty"`
	Status   string            `json:"status,omitempty"` // end
	Error    string            `json:"error,omitempty"`  // end
	Lost     int64             `json:"lost,omitempty"`   // events that could not be written in time
}

// Begins is what is known of a run as a process begins to work on it.
type Begins struct {
	Title    string  `json:"title"`
	Database string  `json:"database"`
	Resumed  bool    `json:"resumed"`
	UndoOf   int64   `json:"undo_of,omitempty"`
	HoldMS   float64 `json:"hold_target_ms"`
	Workers  int     `json:"workers"`
	Steps    int     `json:"steps"`
}

// Counts are rows of a step, or of the whole run.
type Counts struct {
	ToChange int64 `json:"to_change"` // counted beforehand; -1 not counted
	Batches  int64 `json:"batches"`
	Scanned  int64 `json:"scanned"` // -1 unknown, as all that follow
	Matched  int64 `json:"matched"`
	Changed  int64 `json:"changed"`
	Skipped  int64 `json:"skipped"`
	SetAside int64 `json:"set_aside"`
}

// Batch is all that was measured of a batch.
type Batch struct {
	Lane       int            `json:"lane"`
	N          int64          `json:"n"` // within its lane
	Began      time.Time      `json:"began_at"`
	Scanned    int64          `json:"scanned"`
	Matched    int64          `json:"matched"`
	Changed    int64          `json:"changed"`
	Skipped    int64          `json:"skipped"`
	SetAside   int64          `json:"set_aside"`
	HoldMS     float64        `json:"hold_ms"`
	LockWaitMS float64        `json:"lock_wait_ms"`
	PauseMS    float64        `json:"pause_ms"` // before it
	Why        string         `json:"why,omitempty"`
	LogBytes   int64          `json:"log_bytes"`
	LogRecords int64          `json:"log_records"`
	LogImages  int64          `json:"full_page_images"`
	LogScope   string         `json:"log_scope"`
	Locks      map[string]int `json:"locks,omitempty"`
	Retries    int            `json:"retries"`
	LagMS      float64        `json:"lag_ms"`  // of the replica furthest behind, so far; -1 unknown
	Waiters    int            `json:"waiters"` // most sessions seen waiting on us at once, so far; -1 nobody looked
}

// Of makes the line of what happened.
func Of(run int64, e runner.Event) Line {
	l := Line{Version: Version, At: e.At.UTC(), Event: string(e.Kind), Run: run, Why: e.Why, ForMS: engine.MS(e.For), Tried: e.Tried, Key: e.Key, Waited: e.Wait, Incident: e.Incident}
	if w := e.Work; w != nil {
		l.Step, l.Name, l.Table, l.Verb = w.Step.N, w.Step.Name, w.Change.Table.String(), w.Step.Verb
	}
	switch e.Kind {
	case runner.StepBegins, runner.StepDone:
		l.Method, l.Counts = e.Work.Step.Method, counts(e.Work.Step)
	case runner.BatchDone:
		l.Batch = batch(e.Lane, e.Batch)
	case runner.Signalled:
		l.Signal, l.Args, l.Who = e.Signal.Kind, e.Signal.Args, e.Signal.Who+"@"+e.Signal.Host
	}
	return l
}

func counts(s *ledger.Step) *Counts {
	t := s.Totals
	return &Counts{s.ToChange, t.Batches, t.Scanned, t.Matched, t.Changed, t.Skipped, t.SetAside}
}

func batch(lane int, b *ledger.Batch) *Batch {
	e := b.Effect
	x := &Batch{Lane: lane, N: b.N, Began: b.Began.UTC(), Scanned: e.Scanned, Matched: e.Matched, Changed: e.Changed, Skipped: b.Skipped, SetAside: b.SetAside, HoldMS: engine.MS(b.Hold), LockWaitMS: engine.MS(b.LockWait), PauseMS: engine.MS(b.Pause), Why: b.Why,
		LogBytes: -1, LogRecords: -1, LogImages: -1, LogScope: e.Log.Scope, Locks: b.Locks, Retries: b.Retries, LagMS: engine.KnownMS(b.Lag), Waiters: b.Waiters}
	if e.Log != (engine.Log{}) && e.Log.Scope != "" {
		x.LogBytes, x.LogRecords, x.LogImages = e.Log.Bytes, e.Log.Records, e.Log.Images
	}
	return x
}

// Begin is the line with which a process begins to work on a run.
func Begin(r *ledger.Run, database string, resumed bool) Line {
	return Line{Version: Version, At: time.Now().UTC(), Event: "run", Run: r.ID, Begins: &Begins{r.Title, database, resumed, r.UndoOf, engine.MS(r.Options.Hold), max(r.Options.Workers, 1), len(r.Steps)}}
}

// End is the line with which it ends.
func End(r *ledger.Run) Line {
	all := &Counts{}
	for _, s := range r.Steps {
		c := counts(s)
		all.ToChange, all.Scanned, all.Matched = both(all.ToChange, c.ToChange), both(all.Scanned, c.Scanned), both(all.Matched, c.Matched)
		all.Batches, all.Changed, all.Skipped, all.SetAside = all.Batches+c.Batches, all.Changed+c.Changed, all.Skipped+c.Skipped, all.SetAside+c.SetAside
	}
	return Line{Version: Version, At: time.Now().UTC(), Event: "end", Run: r.ID, Status: r.Status, Error: r.Error, Counts: all}
}

// both adds counts of which one may be unknown.
func both(a, b int64) int64 {
	if a < 0 || b < 0 {
		return -1
	}
	return a + b
}
