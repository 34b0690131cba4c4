package ledger

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/user"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/pace"
)

// Statuses of a run.
const (
	Running = "running" // someone works on it, or was killed while doing so
	Stopped = "stopped"
	Failed  = "failed"
	Done    = "done"
)

// Options are how a run is carried out, kept so that resume goes on the same way.
type Options struct {
	Hold     time.Duration `json:"hold"`
	Batch    int           `json:"batch,omitempty"`
	Keep     bool          `json:"keep"`
	Workers  int           `json:"workers,omitempty"`   // lanes at a time; 0 is 1
	Replicas []string      `json:"replicas,omitempty"`  // URLs, without their passwords
	SetAside int           `json:"set_aside,omitempty"` // most rows that may be set aside
	Limits   pace.Limits   `json:"limits"`
	Estimate *Estimate     `json:"estimate,omitempty"`
	Consent  *Consent      `json:"consent,omitempty"` // none in runs of earlier versions, and of an undo
	// Backwards: an undo that begins with the last row that its run kept.
	Backwards bool   `json:"backwards,omitempty"`
	Moment    string `json:"moment,omitempty"` // before the first batch, as the server counts (PostgreSQL: a transaction number)
	Seal      string `json:"seal,omitempty"`   // of what Signed gives, by the user who made the run
	SealedFor string `json:"sealed_for,omitempty"`

	ConsentSeal string `json:"consent_seal,omitempty"` // of what SignedConsent gives; none in runs of earlier versions

	Resumed []Resumed `json:"resumed,omitempty"` // those times that a person had something to say to it
}

// Resumed is what a person said to a run that was to go on.
type Resumed struct {
	At      time.Time `json:"at"`
	By      string    `json:"by"`             // who works on that machine
	Despite []string  `json:"despite"`        // codes of hazards; check: a check that does not hold
	Seal    string    `json:"seal,omitempty"` // of what SignedResumed gives
}

// Consent is what a person was told before the run, and said to it.
type Consent struct {
	Rows     int64    `json:"rows"`               // accepted as the number that will change; -1: any
	Approved string   `json:"approved,omitempty"` // the approval that it was held against
	Hazards  []Hazard `json:"hazards,omitempty"`
}

// Hazard is one that was told.
type Hazard struct {
	Step  string `json:"step"`
	Code  string `json:"code"`
	Level string `json:"level"`
	Text  string `json:"text"`
	Meant bool   `json:"meant,omitempty"` // a person went on despite it
}

// Estimate is what a rehearsal estimated for a run; -1 is unknown.
type Estimate struct {
	Batches   int64   `json:"batches"`
	Seconds   float64 `json:"seconds"`
	HoldMS    float64 `json:"hold_ms"`
	LogBytes  int64   `json:"log_bytes"`
	LogKind   string  `json:"log_kind,omitempty"` // which log, if it is not that of which a run tells
	KeptBytes int64   `json:"kept_bytes"`
}

// Run is one execution of a job.
type Run struct {
	ID        int64
	Title     string
	Reason    string
	UndoOf    int64 // 0 if it is no undo
	Source    job.Source
	Params    map[string]change.Value
	Digest    string
	Options   Options
	Status    string
	Error     string
	Version   string
	OSUser    string
	DBUser    string
	Host      string
	PID       int
	StartedAt time.Time
	EndedAt   time.Time // zero while it is not at its end
	Steps     []*Step
	UndoneBy  int64   // run that took this one back or is about to, 0 if none
	Pruned    *Pruned // what it, or the run that it takes back, had kept is dropped; nil if not

	Sealer func(record []byte) string // gives the seals of what is recorded of the run; may be nil

	holder    string
	heartbeat time.Time
}

// Step is one step of a run with its lanes.
type Step struct {
	N           int
	Name        string
	Verb        string
	TableSchema string
	TableName   string
	KeyColumns  []string
	Numbered    *change.Table // where rows are told by their own numbers, the table; not recorded
	SetColumns  []string
	Method      string
	KeptTable   string
	PackedTable string // of which KeptTable is a view, or empty
	Pruned      bool   // both are dropped
	Matched     int64
	ToChange    int64
	TableRows   int64
	Status      string
	Lanes       []*Lane // none before the step begins
	Totals      Totals
	Acts        []*Act // changes of other tables that belong to its batches, in their order

	walk walk // where the lanes begin and end, as recorded
}

// Act is a change of another table that belongs to the batches of a step.
type Act struct {
	N           int
	By          []string // the columns that refer
	Verb        string
	TableSchema string
	TableName   string
	KeyColumns  []string
	SetColumns  []string
	KeptTable   string
	PackedTable string
	ToChange    int64 // -1 not counted
	Changed     int64 // by its batches
}

// Table is the name of its table, for messages.
func (a *Act) Table() string {
	return change.TableName{Schema: a.TableSchema, Name: a.TableName}.String()
}

// Name is what the act does, for messages.
func (a *Act) Name() string { return change.ActName(a.Verb, a.Table(), a.By) }

// Totals add up the batches of a step. Log.Bytes and so on are -1 if no batch told.
type Totals struct {
	Batches, Scanned, Matched, Changed, Skipped, Retries, SetAside int64
	Log                                                            engine.Log
}

// Layouts are the kept-values tables to be made for a step: its own, and one for each of
// its acts.
type Layouts struct {
	Own  *change.Kept // nil: none is to be made
	Acts []*change.Kept
}

// Create records a new run with its steps and gives it its number. The kept
// tables, for the steps that have a layout in kept, are made in the same
// transaction.
func (l *Ledger) Create(ctx context.Context, s *engine.Session, r *Run, kept []Layouts) error {
	for attempt := 0; ; attempt++ {
		for i, st := range r.Steps {
			if kept != nil && kept[i].Own != nil { // of an earlier attempt, under another number
				st.KeptTable, st.PackedTable = "", ""
				for _, a := range st.Acts {
					a.KeptTable, a.PackedTable = "", ""
				}
			}
		}
		err := l.create(ctx, s, r, kept)
		if err == nil {
			return nil
		}
		// Two runs that begin at the same moment ask for the same number.
		if f := l.db.Fault(err); (f != engine.Data && f != engine.Busy) || attempt == 5 {
			return err
		}
	}
}

func (l *Ledger) create(ctx context.Context, s *engine.Session, r *Run, kept []Layouts) error {
	tx, err := s.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := flushed(ctx, tx); err != nil {
		return err
	}
	if err := l.number(ctx, tx, r); err != nil {
		return err
	}
	r.DBUser, r.OSUser = l.db.User(), OSUser()
	r.Host, r.PID, r.holder = holder()
	r.Status, r.StartedAt = Running, time.Now().UTC()
	if err := l.makeTables(ctx, tx, r, kept); err != nil {
		return err
	}
	if r.Sealer != nil {
		r.Options.SealedFor = l.Database()
		text, err := l.Signed(r)
		if err != nil {
			return err
		}
		r.Options.Seal = r.Sealer(text)
		if r.Options.Consent != nil {
			if text, err = l.SignedConsent(r); err != nil {
				return err
			}
			r.Options.ConsentSeal = r.Sealer(text)
		}
	}
	if engine.DDLCommits(l.db) {
		// The tables are there for good; what says that there is such a run is
		// written together, after them.
		if _, err := tx.Exec(ctx, s.Begin); err != nil {
			return err
		}
	}
	if err := l.insertRun(ctx, tx, r); err != nil {
		return err
	}
	for _, st := range r.Steps {
		if err := l.insertStep(ctx, tx, r, st); err != nil {
			return err
		}
	}
	return tx.Commit(ctx)
}

// number gives a run the next number.
func (l *Ledger) number(ctx context.Context, tx *engine.Tx, r *Run) error {
	if err := tx.Scan(ctx, l.sql("SELECT coalesce(max(id), 0) + 1 FROM @run"), nil, &r.ID); err != nil {
		return err
	}
	if engine.DDLCommits(l.db) {
		// Whoever makes the first table of a number has that number, also before
		// there is a row that says so. (Left behind by a crash: a gap in the numbers.)
		for l.taken(ctx, tx, r) {
			r.ID++
		}
	}
	return nil
}

// OSUser is who works on this machine.
func OSUser() string {
	if u, err := user.Current(); err == nil {
		return u.Username
	}
	return os.Getenv("USER")
}

// makeTables makes the tables of a run's steps.
func (l *Ledger) makeTables(ctx context.Context, tx *engine.Tx, r *Run, kept []Layouts) error {
	for i, st := range r.Steps {
		if n, ok := l.db.(engine.RowNumberer); ok && st.Numbered != nil {
			if err := n.MarkNumbers(ctx, tx, l.Mark(r.ID, st.N), st.Numbered); err != nil {
				return fmt.Errorf("marking the numbers of rows: %w", err)
			}
		}
		if kept != nil && kept[i].Own != nil {
			if err := l.makeAll(ctx, tx, r, st, kept[i]); err != nil {
				return fmt.Errorf("making the kept-values table: %w", err)
			}
		}
	}
	return nil
}

func (l *Ledger) insertRun(ctx context.Context, tx *engine.Tx, r *Run) error {
	params, err := json.Marshal(r.Params)
	if err != nil {
		return err
	}
	options, err := json.Marshal(r.Options)
	if err != nil {
		return err
	}
	isSQL := 0
	if r.Source.SQL {
		isSQL = 1
	}
	var undoOf any
	if r.UndoOf != 0 {
		undoOf = r.UndoOf
	}
	_, err = tx.Exec(ctx, l.sql(`INSERT INTO @run (id, title, reason, undo_of, source_name, source_text, source_sql, params, digest, options, status, error, version, os_user, db_user, host, pid, holder, heartbeat, started_at, samples, looking_ms, server)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`),
		r.ID, r.Title, r.Reason, undoOf, r.Source.Name, r.Source.Text, isSQL, string(params), r.Digest, string(options), r.Status, "",
		r.Version, r.OSUser, r.DBUser, r.Host, r.PID, r.holder, stamp(r.StartedAt), stamp(r.StartedAt), 0, 0, "{}")
	return err
}

// insertStep records a step and its acts.
func (l *Ledger) insertStep(ctx context.Context, tx *engine.Tx, r *Run, st *Step) error {
	if _, err := tx.Exec(ctx, l.sql(`INSERT INTO @step (run, n, name, verb, table_schema, table_name, key_columns, set_columns, method, kept_table, matched, to_change, table_rows, status, walk)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, '')`), r.ID, st.N, st.Name, st.Verb, st.TableSchema, st.TableName, list(st.KeyColumns), list(st.SetColumns), st.Method, cmp.Or(st.PackedTable, st.KeptTable),
		st.Matched, st.ToChange, st.TableRows, "pending"); err != nil {
		return err
	}
	for _, a := range st.Acts {
		if _, err := tx.Exec(ctx, l.sql("INSERT INTO @act (run, step, n, by_columns, verb, table_schema, table_name, key_columns, set_columns, kept_table, to_change) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)"),
			r.ID, st.N, a.N, list(a.By), a.Verb, a.TableSchema, a.TableName, list(a.KeyColumns), list(a.SetColumns), cmp.Or(a.PackedTable, a.KeptTable), a.ToChange); err != nil {
			return err
		}
	}
	return nil
}

// list writes names as JSON, in which every list of texts can be written.
func list(names []string) string {
	text, _ := json.Marshal(names)
	return string(text)
}

// Mark is the table that tells whether rows still have the numbers by which a step goes.
func (l *Ledger) Mark(run int64, step int) string {
	return l.db.LedgerTable("numbers_" + partName(run, step, 0))
}

// makeAll makes the kept-values tables of a step, its own first: from its numbers the
// others' are.
func (l *Ledger) makeAll(ctx context.Context, tx *engine.Tx, r *Run, st *Step, kept Layouts) (err error) {
	if st.KeptTable, st.PackedTable, err = l.makeKept(ctx, tx, partName(r.ID, st.N, 0), kept.Own); err != nil {
		return err
	}
	for i, a := range st.Acts {
		kept.Acts[i].Numbers = st.KeptTable
		if a.KeptTable, a.PackedTable, err = l.makeKept(ctx, tx, partName(r.ID, st.N, a.N), kept.Acts[i]); err != nil {
			return err
		}
	}
	return nil
}
