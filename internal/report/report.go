// Package report is what a run was and did: as a value, as JSON and as text.
package report

import (
	"cmp"
	"context"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/find"
	"jugatum/internal/ledger"
	"jugatum/internal/preview"
)

// Schema is the number of the form of all JSON. docs/json.md tells what changed.
const Schema = 2

// Run is a run as its record tells it.
type Run struct {
	Schema    int               `json:"schema"`
	Run       int64             `json:"run"`
	Title     string            `json:"title"`
	Reason    string            `json:"reason"`
	UndoOf    int64             `json:"undo_of,omitempty"`
	UndoneBy  int64             `json:"undone_by,omitempty"`
	Status    string            `json:"status"`
	Error     string            `json:"error,omitempty"`
	Database  string            `json:"database"`
	StartedAt time.Time         `json:"started_at"`
	EndedAt   *time.Time        `json:"ended_at,omitempty"`
	User      string            `json:"os_user"`
	DBUser    string            `json:"db_user,omitempty"`
	Host      string            `json:"host"`
	Version   string            `json:"version"`
	Keep      bool              `json:"kept_values"`
	KeptBytes int64             `json:"kept_bytes"`       // room that they take now; -1 unknown, or none
	Pruned    *ledger.Pruned    `json:"pruned,omitempty"` // they are dropped
	HoldMS    float64           `json:"hold_target_ms"`
	Workers   int               `json:"workers"` // wanted; a step may have had fewer
	Steps     []Step            `json:"steps"`
	Holds     Holds             `json:"holds"`
	Log       Log               `json:"log"`
	ElapsedS  float64           `json:"elapsed_s"`
	Skipped   []ledger.Left     `json:"skipped,omitempty"`
	Slowest   []ledger.Slow     `json:"slowest"`
	SetAside  int64             `json:"set_aside"`
	Asides    []ledger.Aside    `json:"rows_set_aside,omitempty"`
	Estimate  *ledger.Estimate  `json:"estimate,omitempty"`
	Others    ledger.Watching   `json:"others"`
	MostLagMS float64           `json:"most_lag_ms"` // of the replica furthest behind; -1 unknown
	Incidents []ledger.Incident `json:"incidents"`
	Server    map[string]int64  `json:"server,omitempty"`
	Keeping   []engine.Setting  `json:"housekeeping,omitempty"`
	Waits     []ledger.Wait     `json:"longest_waits,omitempty"`
	Signals   []ledger.Signal   `json:"signals,omitempty"`
	Search    []find.LeftOver   `json:"search,omitempty"` // of the replaced texts, after the run
	Fills     []*preview.Fill   `json:"fill,omitempty"`   // of steps that fill columns, after the run

	Lists []List `json:"lists,omitempty"`

	undoable bool // something of what it did was kept
	elapsed  time.Duration
	replicas bool // it was paced by replicas, which a resume wants named again
}

type Step struct {
	Name      string `json:"name"`
	Table     string `json:"table"`
	Verb      string `json:"verb"`
	Method    string `json:"method"`
	Status    string `json:"status"`
	Batches   int64  `json:"batches"`
	Scanned   int64  `json:"scanned"`
	Matched   int64  `json:"matched"` // -1: not told apart from the changed ones
	Changed   int64  `json:"changed"`
	Skipped   int64  `json:"skipped"`
	Retries   int64  `json:"retries"`
	KeptTable string `json:"kept_table,omitempty"`
	Lanes     int    `json:"lanes"`
	Acts      []Act  `json:"acts,omitempty"`
}

// Act is what a step's batches did to rows of another table.
type Act struct {
	Name      string   `json:"name"` // what it does, and by which columns that refer
	Table     string   `json:"table"`
	Verb      string   `json:"verb"`
	By        []string `json:"by"`   // the columns that refer; of a row that stays, those that may be filled
	Role      string   `json:"role"` // deleted, or cleared: the reference; in a merge moved, doubled (deleted, since it would stand twice) or filled
	Changed   int64    `json:"changed"`
	KeptTable string   `json:"kept_table,omitempty"`
}

type Holds struct {
	Batches  int64   `json:"batches"`
	MedianMS float64 `json:"median_ms"`
	P99MS    float64 `json:"p99_ms"`
	MaxMS    float64 `json:"max_ms"`
}

type Log struct {
	Bytes   int64  `json:"bytes"`   // -1 unknown
	Records int64  `json:"records"` // -1 unknown
	Images  int64  `json:"full_page_images"`
	Scope   string `json:"scope"`
	Kind    string `json:"kind"`
}

// Read makes the report of a run from the ledger. elapsed is this process's time,
// 0 for that between start and end.
func Read(ctx context.Context, db engine.DB, l *ledger.Ledger, id int64, elapsed time.Duration) (*Run, error) {
	r, err := l.Load(ctx, id)
	if err != nil {
		return nil, err
	}
	h, err := l.Holds(ctx, id)
	if err != nil {
		return nil, err
	}
	if elapsed == 0 && !r.EndedAt.IsZero() {
		elapsed = r.EndedAt.Sub(r.StartedAt)
	}
	s := &Run{Schema: Schema, Run: r.ID, Title: r.Title, Reason: r.Reason, UndoOf: r.UndoOf, UndoneBy: r.UndoneBy, Status: r.Status, Error: r.Error, Database: db.Name(),
		StartedAt: r.StartedAt, User: r.OSUser, DBUser: r.DBUser, Host: r.Host, Version: r.Version, Keep: r.Options.Keep, replicas: len(r.Options.Replicas) > 0, KeptBytes: -1, Pruned: r.Pruned, Estimate: r.Options.Estimate, HoldMS: engine.MS(r.Options.Hold), Workers: max(r.Options.Workers, 1),
		Holds: Holds{h.Batches, engine.MS(h.Median), engine.MS(h.P99), engine.MS(h.Max)}, Log: Log{-1, -1, -1, "", ""}, ElapsedS: elapsed.Seconds(), Steps: []Step{}, elapsed: elapsed}
	if !r.EndedAt.IsZero() {
		s.EndedAt = &r.EndedAt
	}
	weigher, weighs := db.(engine.Weigher)
	for _, st := range r.Steps {
		weigh := func(table string) {
			if !weighs || table == "" || r.UndoOf != 0 {
				return
			}
			if n, err := weigher.Weigh(ctx, table); err == nil { // they may have been dropped since
				s.KeptBytes = max(s.KeptBytes, 0) + n
			}
		}
		weigh(cmp.Or(st.PackedTable, st.KeptTable))
		s.undoable = s.undoable || st.KeptTable != "" && !st.Pruned
		t := st.Totals
		x := Step{Name: st.Name, Table: change.TableName{Schema: st.TableSchema, Name: st.TableName}.String(), Verb: st.Verb, Method: st.Method, Status: st.Status,
			Batches: t.Batches, Scanned: t.Scanned, Matched: t.Matched, Changed: t.Changed, Skipped: t.Skipped, Retries: t.Retries, KeptTable: st.KeptTable, Lanes: len(st.Lanes)}
		for _, a := range st.Acts {
			weigh(cmp.Or(a.PackedTable, a.KeptTable))
			x.Acts = append(x.Acts, Act{a.Name(), a.Table(), a.Verb, a.By, change.Role(st.Verb, a.Verb, a.TableSchema == st.TableSchema && a.TableName == st.TableName), a.Changed, a.KeptTable})
		}
		s.Steps = append(s.Steps, x)
		if t.Log.Scope != "" {
			s.Log.Scope, s.Log.Kind = t.Log.Scope, db.LogName(t.Log)
			s.Log.Bytes, s.Log.Records, s.Log.Images = Plus(s.Log.Bytes, t.Log.Bytes), Plus(s.Log.Records, t.Log.Records), Plus(s.Log.Images, t.Log.Images)
		}
	}
	if s.Slowest, err = l.Slowest(ctx, id, 5); err != nil {
		return nil, err
	}
	if s.SetAside, err = l.AsideCount(ctx, id); err != nil {
		return nil, err
	}
	if s.Asides, err = l.Asides(ctx, id, 1000); err != nil {
		return nil, err
	}
	if s.Others, s.Waits, err = l.Watched(ctx, id, 5); err != nil {
		return nil, err
	}
	if s.MostLagMS, err = l.MostLag(ctx, id); err != nil {
		return nil, err
	}
	if s.Incidents, err = l.Incidents(ctx, id); err != nil {
		return nil, err
	}
	if s.Server, err = l.Server(ctx, id); err != nil {
		return nil, err
	}
	if s.Signals, err = l.Signals(ctx, id, 0); err != nil {
		return nil, err
	}
	if s.Lists, err = lists(ctx, l, r, s.Steps); err != nil {
		return nil, err
	}
	if r.UndoOf != 0 {
		if s.Skipped, err = l.Skipped(ctx, id, 1000); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// Plus adds figures of which -1 is unknown.
func Plus(a, b int64) int64 {
	switch {
	case a < 0:
		return b
	case b < 0:
		return a
	}
	return a + b
}

// Lost is how often a connection was lost, and for how long there was none, in all.
func (s *Run) Lost() (n int64, without time.Duration) {
	for _, x := range s.Incidents {
		if x.Kind == ledger.Reconnected {
			n, without = n+1, without+Milliseconds(x.ForMS)
		}
	}
	return n, without
}

// Undoable reports whether a part of the run at least can be taken back.
func (s *Run) Undoable() bool { return s.UndoOf == 0 && s.undoable && s.UndoneBy == 0 }
