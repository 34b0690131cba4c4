package ledger

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"os/user"
	"path"
	"regexp"
	"slices"
	"strconv"
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

const runColumns = `r.id, r.title, r.reason, coalesce(r.undo_of, 0), r.source_name, r.source_text, r.source_sql, r.params, r.digest, r.options, r.status, r.error, r.version,
	r.os_user, r.db_user, r.host, r.pid, r.holder, r.heartbeat, r.started_at, r.ended_at, coalesce((SELECT max(u.id) FROM @run u WHERE u.undo_of = r.id), 0)`

func scanRun(row interface{ Scan(...any) error }) (*Run, error) {
	r := &Run{}
	var params, options string
	var isSQL int
	var beat, start, end moment
	err := row.Scan(&r.ID, &r.Title, &r.Reason, &r.UndoOf, &r.Source.Name, &r.Source.Text, &isSQL, &params, &r.Digest, &options, &r.Status, &r.Error, &r.Version,
		&r.OSUser, &r.DBUser, &r.Host, &r.PID, &r.holder, &beat, &start, &end, &r.UndoneBy)
	if err != nil {
		return nil, err
	}
	r.Source.SQL = isSQL == 1
	r.heartbeat, r.StartedAt, r.EndedAt = beat.Time, start.Time, end.Time
	if err := json.Unmarshal([]byte(params), &r.Params); err != nil {
		return nil, fmt.Errorf("run %d: parameters in the ledger: %w", r.ID, err)
	}
	if err := json.Unmarshal([]byte(options), &r.Options); err != nil {
		return nil, fmt.Errorf("run %d: options in the ledger: %w", r.ID, err)
	}
	return r, nil
}

// Signed is what of a run's record becomes SQL of ours, or says where: what its
// seal covers. It is the same from the record's making on.
func (l *Ledger) Signed(r *Run) ([]byte, error) {
	type step struct {
		N                         int
		Name, Verb, Schema, Table string
		Keys, Set                 []string
		Kept, Packed              bool
		Acts                      []step `json:",omitempty"`
	}
	record := struct {
		Database   string
		ID, UndoOf int64
		Source     job.Source
		Params     map[string]change.Value
		User       string
		Steps      []step
	}{Database: r.Options.SealedFor, ID: r.ID, UndoOf: r.UndoOf, Source: r.Source, Params: r.Params, User: r.DBUser}
	for _, s := range r.Steps {
		x := step{s.N, s.Name, s.Verb, s.TableSchema, s.TableName, s.KeyColumns, s.SetColumns, s.KeptTable != "", s.PackedTable != "", nil}
		for _, a := range s.Acts {
			x.Acts = append(x.Acts, step{a.N, a.Name(), a.Verb, a.TableSchema, a.TableName, a.KeyColumns, a.SetColumns, a.KeptTable != "", a.PackedTable != "", nil})
		}
		record.Steps = append(record.Steps, x)
	}
	return json.Marshal(record)
}

// SignedConsent is what the seal of what was told and accepted before a run covers.
func (l *Ledger) SignedConsent(r *Run) ([]byte, error) {
	return json.Marshal(struct {
		What     string
		Database string
		Run      int64
		Consent  *Consent
	}{"consent", r.Options.SealedFor, r.ID, r.Options.Consent})
}

// Database names the database without its server, which is named in several ways.
func (l *Ledger) Database() string {
	name := l.db.Name()
	if u, err := url.Parse(name); err == nil {
		name = cmp.Or(u.Path, u.Opaque)
	}
	return path.Base(name)
}

// Load reads one run with its steps.
func (l *Ledger) Load(ctx context.Context, id int64) (*Run, error) {
	if ok, err := l.Exists(ctx); err != nil {
		return nil, err
	} else if !ok {
		return nil, ErrNone
	}
	r, err := scanRun(l.db.Pool().QueryRowContext(ctx, l.read("SELECT "+runColumns+" FROM @run r WHERE r.id = ?"), id))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, &engine.NotFoundError{What: fmt.Sprintf("run %d", id), Do: "`jugatum runs` lists them"}
	}
	if err != nil {
		return nil, err
	}
	pruned, err := l.prunings(ctx)
	if err != nil {
		return nil, err
	}
	return r, l.loadSteps(ctx, r, pruned)
}

// List reads all runs, the newest first, with their steps.
func (l *Ledger) List(ctx context.Context) ([]*Run, error) {
	if ok, err := l.Exists(ctx); err != nil || !ok {
		return nil, err
	}
	return l.runs(ctx, "ORDER BY r.id DESC")
}

// SameJob reads the runs of the same job with the same parameters, the newest
// first: those recorded under one of two digests.
func (l *Ledger) SameJob(ctx context.Context, digest, earlier string) ([]*Run, error) {
	if ok, err := l.Exists(ctx); err != nil || !ok {
		return nil, err
	}
	return l.runs(ctx, "WHERE r.digest IN (?, ?) AND r.undo_of IS NULL ORDER BY r.id DESC", digest, earlier)
}

func (l *Ledger) runs(ctx context.Context, rest string, args ...any) ([]*Run, error) {
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT "+runColumns+" FROM @run r "+rest), args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []*Run
	for rows.Next() {
		r, err := scanRun(rows)
		if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	rows.Close()
	pruned, err := l.prunings(ctx)
	if err != nil {
		return nil, err
	}
	for _, r := range out {
		if err := l.loadSteps(ctx, r, pruned); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (l *Ledger) loadSteps(ctx context.Context, r *Run, pruned map[int64]*Pruned) error {
	r.Pruned = pruned[cmp.Or(r.UndoOf, r.ID)]
	rows, err := l.db.Pool().QueryContext(ctx, l.read(`SELECT s.n, s.name, s.verb, s.table_schema, s.table_name, s.key_columns, s.set_columns, s.method, s.kept_table, s.matched, s.to_change, s.table_rows, s.status, s.walk,
			b.batches, b.scanned, b.matched, b.changed, b.skipped, b.retries, b.set_aside, b.log_bytes, b.log_records, b.log_images, b.log_scope
		FROM @step s JOIN (SELECT st.n AS step, count(b.n) AS batches, coalesce(CAST(sum(b.scanned) AS {whole}), 0) AS scanned, CAST(coalesce(CASE WHEN min(b.matched) < 0 THEN -1 ELSE sum(b.matched) END, 0) AS {whole}) AS matched,
				coalesce(CAST(sum(b.changed) AS {whole}), 0) AS changed, coalesce(CAST(sum(b.skipped) AS {whole}), 0) AS skipped, coalesce(CAST(sum(b.retries) AS {whole}), 0) AS retries, coalesce(CAST(sum(b.set_aside) AS {whole}), 0) AS set_aside,
				coalesce(CAST(sum(b.log_bytes) AS {whole}), -1) AS log_bytes, coalesce(CAST(sum(b.log_records) AS {whole}), -1) AS log_records, coalesce(CAST(sum(b.log_images) AS {whole}), -1) AS log_images, coalesce(max(b.log_scope), '') AS log_scope
			FROM @step st LEFT JOIN @batch b ON b.run = st.run AND b.step = st.n WHERE st.run = ? GROUP BY st.n) AS b ON b.step = s.n
		WHERE s.run = ? ORDER BY s.n`), r.ID, r.ID)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		s := &Step{Pruned: r.Pruned != nil}
		var keys, cols, walk string
		t := &s.Totals
		if err := rows.Scan(&s.N, &s.Name, &s.Verb, &s.TableSchema, &s.TableName, &keys, &cols, &s.Method, &s.KeptTable, &s.Matched, &s.ToChange, &s.TableRows, &s.Status, &walk,
			&t.Batches, &t.Scanned, &t.Matched, &t.Changed, &t.Skipped, &t.Retries, &t.SetAside, &t.Log.Bytes, &t.Log.Records, &t.Log.Images, &t.Log.Scope); err != nil {
			return err
		}
		if s.KeptTable, s.PackedTable, err = l.keptTables(r, s.N, 0, s.KeptTable); err != nil {
			return err
		}
		s.walk, err = readWalk(walk)
		for _, x := range []error{err, json.Unmarshal([]byte(keys), &s.KeyColumns), json.Unmarshal([]byte(cols), &s.SetColumns)} {
			if x != nil {
				return fmt.Errorf("run %d, step %d: the ledger cannot be read: %w", r.ID, s.N, x)
			}
		}
		r.Steps = append(r.Steps, s)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	rows.Close()
	if err := l.loadActs(ctx, r); err != nil {
		return err
	}
	return l.loadLanes(ctx, r)
}

// errOrder says that acts are not numbered as they were recorded.
var errOrder = errors.New("there are others than were recorded")

// loadActs reads the acts of a run's steps, with what their batches have changed.
func (l *Ledger) loadActs(ctx context.Context, r *Run) error {
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT step, n, by_columns, verb, table_schema, table_name, key_columns, set_columns, kept_table, to_change FROM @act WHERE run = ? ORDER BY step, n"), r.ID)
	if err != nil {
		return err
	}
	defer rows.Close()
	found := false
	for rows.Next() {
		a := &Act{}
		var step int
		var by, keys, cols string
		if err := rows.Scan(&step, &a.N, &by, &a.Verb, &a.TableSchema, &a.TableName, &keys, &cols, &a.KeptTable, &a.ToChange); err != nil {
			return err
		}
		at := slices.IndexFunc(r.Steps, func(s *Step) bool { return s.N == step })
		if err := cmp.Or(json.Unmarshal([]byte(by), &a.By), json.Unmarshal([]byte(keys), &a.KeyColumns), json.Unmarshal([]byte(cols), &a.SetColumns)); err != nil || at < 0 || a.N != len(r.Steps[at].Acts)+1 {
			return fmt.Errorf("run %d, step %d, act %d: the ledger cannot be read: %v", r.ID, step, a.N, cmp.Or(err, errOrder))
		}
		if a.KeptTable, a.PackedTable, err = l.keptTables(r, step, a.N, a.KeptTable); err != nil {
			return err
		}
		found = true
		r.Steps[at].Acts = append(r.Steps[at].Acts, a)
	}
	if err := rows.Err(); err != nil || !found {
		return err
	}
	rows.Close()
	batches, err := l.db.Pool().QueryContext(ctx, l.read("SELECT step, acts FROM @batch WHERE run = ? AND acts <> ''"), r.ID)
	if err != nil {
		return err
	}
	defer batches.Close()
	for batches.Next() {
		var step int
		var text string
		var counts []int64
		if err := batches.Scan(&step, &text); err != nil {
			return err
		}
		at := slices.IndexFunc(r.Steps, func(s *Step) bool { return s.N == step })
		if err := json.Unmarshal([]byte(text), &counts); err != nil || at < 0 || len(counts) != len(r.Steps[at].Acts) {
			return fmt.Errorf("run %d, step %d: what its acts have changed cannot be read from the ledger: %v", r.ID, step, cmp.Or(err, errOrder))
		}
		for i, n := range counts {
			r.Steps[at].Acts[i].Changed += n
		}
	}
	return batches.Err()
}

// keptName is how the name of a kept-values table ends: with the numbers of run and step,
// and of an act.
var keptName = regexp.MustCompile("(kept|packed)_([0-9]+)_([0-9]+)(?:_([0-9]+))?[\"`]?$")

// keptTables names the tables of the kept values of a step, or of one of its acts, by the
// numbers in the record: the text that stands there could be any SQL by now.
func (l *Ledger) keptTables(r *Run, step, act int, written string) (kept, packed string, err error) {
	if written == "" {
		return "", "", nil
	}
	m := keptName.FindStringSubmatch(written)
	if m == nil {
		return "", "", fmt.Errorf("run %d, step %d: the ledger names %q for its kept values, which is no name that it would have given", r.ID, step, written)
	}
	run, err := strconv.ParseInt(m[2], 10, 64)
	if err != nil {
		return "", "", err
	}
	of, err := strconv.Atoi(m[3])
	if err != nil {
		return "", "", err
	}
	number, _ := strconv.Atoi(m[4]) // 0 without one
	if run != cmp.Or(r.UndoOf, r.ID) || r.UndoOf == 0 && of != step || number != act {
		return "", "", fmt.Errorf("run %d, step %d: the ledger names the kept values of another run for it (%s)", r.ID, step, written)
	}
	if kept = l.db.LedgerTable("kept_" + partName(run, of, act)); m[1] == "packed" {
		packed = l.db.LedgerTable("packed_" + partName(run, of, act))
	}
	return kept, packed, nil
}

// decodeKey reads a key of the ledger.
func decodeKey(s string) (change.KeyValue, error) {
	k, err := change.DecodeKey(s)
	if err != nil {
		return nil, fmt.Errorf("a key in the ledger cannot be read: %w", err)
	}
	return k, nil
}
