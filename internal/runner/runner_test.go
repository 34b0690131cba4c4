package runner

import (
	"context"
	"database/sql"
	"errors"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/engine"
	"jugatum/internal/engine/sqlite"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
)

// Errors that the faulty engine throws, sorted as it says.
var (
	errBusy = errors.New("somebody else's lock")
	errConn = errors.New("the line is dead")
	errData = errors.New("a value that does not fit")
)

// faulty is a SQLite database whose batches fail as a test wants it.
type faulty struct {
	engine.DB
	before func(n int) error // called before batch n, counted from 1 over all attempts
	after  func(n int) error // called after the change, before the commit
	joins  func(n int) error // called before session n
	opened int
	n      int
	bad    int64 // a row that cannot be changed, 0 none
}

func (f *faulty) Batch(ctx context.Context, tx *engine.Tx, c *change.Change, kept *change.Kept, r change.Range, base int64) (engine.Effect, error) {
	f.n++
	if f.before != nil {
		if err := f.before(f.n); err != nil {
			return engine.Effect{}, err
		}
	}
	lo, _ := r.Lo.Int()
	if at, ok := r.At.Int(); ok {
		lo = at - 1
	}
	if hi, ok := r.Hi.Int(); ok && lo < f.bad && f.bad <= hi {
		return engine.Effect{}, errData
	}
	e, err := f.DB.Batch(ctx, tx, c, kept, r, base)
	if err == nil && f.after != nil {
		err = f.after(f.n)
	}
	return e, err
}

func (f *faulty) Session(ctx context.Context, o engine.SessionOptions) (*engine.Session, error) {
	if f.opened++; f.joins != nil {
		if err := f.joins(f.opened); err != nil {
			return nil, err
		}
	}
	return f.DB.Session(ctx, o)
}

func (f *faulty) Fault(err error) engine.Fault {
	switch {
	case errors.Is(err, errBusy):
		return engine.Busy
	case errors.Is(err, errConn):
		return engine.Connection
	case errors.Is(err, errData):
		return engine.Data
	}
	return f.DB.Fault(err)
}

// bench is a table of 1,000 rows and a run over it that has not begun.
type bench struct {
	raw *sql.DB
	db  *faulty
	l   *ledger.Ledger
	run *ledger.Run
	c   *change.Change
}

func setUp(t *testing.T) *bench {
	t.Helper()
	path := filepath.Join(t.TempDir(), "r.db")
	b := &bench{}
	var err error
	if b.raw, err = sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(5000)"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { b.raw.Close() })
	for _, s := range []string{"PRAGMA journal_mode = WAL", "CREATE TABLE t (id INTEGER PRIMARY KEY, n INTEGER)",
		"INSERT INTO t SELECT i, i FROM (WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < 1000) SELECT i FROM s)"} {
		if _, err := b.raw.Exec(s); err != nil {
			t.Fatal(err)
		}
	}
	ctx := context.Background()
	db, err := sqlite.Open(ctx, "sqlite:"+path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	b.db = &faulty{DB: db}
	b.l = ledger.Open(b.db)
	table, err := db.Table(ctx, "", "t")
	if err != nil {
		t.Fatal(err)
	}
	const text = "UPDATE t SET n = n * 3 + 1 WHERE id > 0"
	if b.c, err = change.Build(dialect.SQLite, change.Spec{Name: "sql", SQL: text}, nil, func(string, string) (*change.Table, error) { return table, nil }); err != nil {
		t.Fatal(err)
	}
	s, err := db.Session(ctx, engine.SessionOptions{})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if err := b.l.Ensure(ctx, s); err != nil {
		t.Fatal(err)
	}
	b.run = &ledger.Run{Source: job.Source{Name: "--sql", Text: text, SQL: true}, Options: ledger.Options{Hold: 100 * time.Millisecond, Batch: 100, Keep: true},
		Steps: []*ledger.Step{{N: 1, Name: "sql", Verb: "update", TableName: "t", KeyColumns: []string{"id"}, Method: "sweep", Matched: -1, ToChange: -1, Status: "pending"}}}
	if err := b.l.Create(ctx, s, b.run, []ledger.Layouts{{Own: change.NewKept("", b.c)}}); err != nil {
		t.Fatal(err)
	}
	return b
}

// runner goes on with the run as the ledger has it, like a new process would.
func (b *bench) runner(t *testing.T) *Runner {
	t.Helper()
	r, err := b.l.Load(context.Background(), b.run.ID)
	if err != nil {
		t.Fatal(err)
	}
	return &Runner{DB: b.db, Ledger: b.l, Run: r, Work: []*Work{{Step: r.Steps[0], Change: b.c, Kept: b.l.Kept(r.Steps[0], b.c)}}}
}

func (b *bench) changed(t *testing.T) (once, wrong int) {
	t.Helper()
	if err := b.raw.QueryRow("SELECT count(*) FILTER (WHERE n = id * 3 + 1), count(*) FILTER (WHERE n <> id * 3 + 1 AND n <> id) FROM t").Scan(&once, &wrong); err != nil {
		t.Fatal(err)
	}
	return once, wrong
}

func (b *bench) status(t *testing.T) string {
	t.Helper()
	r, err := b.l.Load(context.Background(), b.run.ID)
	if err != nil {
		t.Fatal(err)
	}
	return r.Status
}

func TestFaultsAreOvercome(t *testing.T) {
	for _, c := range []struct {
		name          string
		before, after func(n int) error
		retries       int64
		joins         func(n int) error
	}{
		{name: "a session cannot be had at once", joins: func(n int) error {
			return []error{errBusy, errConn, errBusy, nil}[min(n, 4)-1]
		}},
		{name: "none"},
		{name: "busy now and then", retries: 3, before: func(n int) error {
			if n == 2 || n == 3 || n == 7 {
				return errBusy
			}
			return nil
		}},
		{name: "busy after the change", retries: 1, after: func(n int) error {
			if n == 4 {
				return errBusy
			}
			return nil
		}},
		{name: "connection lost before the commit", after: func(n int) error {
			if n == 1 || n == 5 || n == 10 {
				return errConn
			}
			return nil
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			b := setUp(t)
			b.db.before, b.db.after, b.db.joins = c.before, c.after, c.joins
			r := b.runner(t)
			notes := map[string]bool{}
			r.Watch = func(p Progress) { notes[p.Note] = true }
			if err := r.Execute(context.Background()); err != nil {
				t.Fatal(err)
			}
			if once, wrong := b.changed(t); once != 1000 || wrong != 0 {
				t.Errorf("%d rows changed once, %d wrongly", once, wrong)
			}
			tot := r.Work[0].Step.Totals
			if tot.Changed != 1000 || tot.Retries != c.retries || b.status(t) != ledger.Done {
				t.Errorf("%+v, status %s", tot, b.status(t))
			}
			if strings.Contains(c.name, "busy") && !notes["waiting for another session's lock"] || strings.Contains(c.name, "lost") && !notes["connection lost, trying again"] {
				t.Errorf("notes %v", notes)
			}
			var settled int
			if err := b.raw.QueryRow("SELECT count(*) FROM jugatum_batch WHERE hold_ms > 0").Scan(&settled); err != nil {
				t.Fatal(err)
			}
			if c.retries == 0 && !strings.Contains(c.name, "lost") && settled != 10 {
				t.Errorf("%d batches with a hold", settled)
			}
		})
	}
}

// TestBadDataEndsTheRun at the row that is at fault, with everything before it
// kept, and resume goes on once it is fixed.
func TestBadDataEndsTheRun(t *testing.T) {
	b := setUp(t)
	b.db.bad = 333
	err := b.runner(t).Execute(context.Background())
	if !errors.Is(err, errData) || !strings.Contains(err.Error(), "row 333:") {
		t.Fatal(err)
	}
	if once, wrong := b.changed(t); once != 332 || wrong != 0 || b.status(t) != ledger.Failed {
		t.Fatalf("%d rows changed once, %d wrongly, status %s", once, wrong, b.status(t))
	}
	b.db.bad = 0
	if err := b.runner(t).Execute(context.Background()); err != nil {
		t.Fatal(err)
	}
	if once, wrong := b.changed(t); once != 1000 || wrong != 0 {
		t.Errorf("%d rows changed once, %d wrongly", once, wrong)
	}
}

// TestBadRowsAreSetAside while the rest goes on, and are changed later.
func TestBadRowsAreSetAside(t *testing.T) {
	b := setUp(t)
	b.db.bad = 333
	b.run.Options.SetAside = 1
	r := b.runner(t)
	r.Run.Options.SetAside = 1
	if err := r.Execute(context.Background()); err != nil {
		t.Fatal(err)
	}
	if once, wrong := b.changed(t); once != 999 || wrong != 0 || b.status(t) != ledger.Done {
		t.Fatalf("%d rows changed once, %d wrongly, status %s", once, wrong, b.status(t))
	}
	list, err := b.l.Asides(context.Background(), 1, 10)
	if err != nil || len(list) != 1 || list[0].KeyText != "333" || *list[0].New["n"] != "1000" || !strings.Contains(list[0].Error, "does not fit") {
		t.Fatalf("%+v %v", list, err)
	}
	for try, left := range []int64{1, 0} { // it fails once more, then it is fixed
		if try == 1 {
			b.db.bad = 0
		}
		r = b.runner(t)
		r.Retry = true
		if err := r.Execute(context.Background()); err != nil {
			t.Fatal(err)
		}
		if n, err := b.l.AsideCount(context.Background(), 1); n != left || err != nil {
			t.Errorf("try %d: %d rows are set aside, want %d (%v)", try, n, left, err)
		}
	}
	if once, wrong := b.changed(t); once != 1000 || wrong != 0 {
		t.Errorf("%d rows changed once, %d wrongly", once, wrong)
	}
}

// TestSignals pauses a run, tunes it, lets it go on and stops it.
func TestSignals(t *testing.T) {
	b := setUp(t)
	ctx := context.Background()
	var sending sync.WaitGroup
	send := func(kind string, args map[string]string) { // each from a terminal of its own
		defer sending.Done()
		s, err := b.db.Session(ctx, engine.SessionOptions{})
		if err != nil {
			t.Error(err)
			return
		}
		defer s.Close()
		if err := b.l.Send(ctx, s, 1, kind, args); err != nil {
			t.Error(err)
		}
	}
	r := b.runner(t)
	r.Run.Options.Batch = 20
	var stages []string
	seen := map[string]bool{}
	r.Watch = func(p Progress) { // between batches, when nobody holds the write lock
		switch {
		case p.Batches == 2 && !seen["sent"]:
			seen["sent"] = true
			sending.Add(2)
			send(ledger.Pause, nil)
			send(ledger.Tune, map[string]string{"batch": "5"})
		case strings.HasPrefix(p.Note, "paused by") && !seen["paused"]:
			seen["paused"] = true
			stages = append(stages, "paused")
			sending.Add(1)
			send(ledger.GoOn, nil)
		case seen["paused"] && p.Size == 5 && !seen["tuned"]:
			seen["tuned"] = true
			stages = append(stages, "tuned")
			sending.Add(1)
			send(ledger.Stop, nil)
		}
	}
	b.db.after = func(int) error {
		if seen["sent"] {
			time.Sleep(listenEvery / 4) // signals are looked for now and then; the run must not end before
		}
		return nil
	}
	err := r.Execute(ctx)
	sending.Wait()
	if !errors.Is(err, ErrStopped) || strings.Join(stages, " ") != "paused tuned" || b.status(t) != ledger.Stopped {
		t.Fatalf("%v, %v, %s", err, stages, b.status(t))
	}
	list, err := b.l.Signals(ctx, 1, 0)
	if err != nil || len(list) != 4 || list[3].SeenAt == nil || list[0].Who == "" {
		t.Errorf("%+v %v", list, err)
	}
	b.db.after = nil
	if err := b.runner(t).Execute(ctx); err != nil { // old signals are not heard again
		t.Fatal(err)
	}
	if once, wrong := b.changed(t); once != 1000 || wrong != 0 {
		t.Errorf("%d rows changed once, %d wrongly", once, wrong)
	}
}

func TestStopAndCancel(t *testing.T) {
	b := setUp(t)
	stop := make(chan struct{})
	b.db.after = func(n int) error {
		if n == 3 {
			close(stop) // the batch under way is finished
		}
		return nil
	}
	r := b.runner(t)
	r.Stop = stop
	if err := r.Execute(context.Background()); !errors.Is(err, ErrStopped) {
		t.Fatal(err)
	}
	if once, _ := b.changed(t); once != 300 || b.status(t) != ledger.Stopped {
		t.Fatalf("%d rows, status %s", once, b.status(t))
	}
	ctx, cancel := context.WithCancel(context.Background())
	b.db.after = func(n int) error {
		if n == 5 {
			cancel() // the batch under way is rolled back
		}
		return nil
	}
	if err := b.runner(t).Execute(ctx); !errors.Is(err, ErrStopped) {
		t.Fatal(err)
	}
	if once, wrong := b.changed(t); once != 400 || wrong != 0 || b.status(t) != ledger.Stopped {
		t.Fatalf("%d rows, %d wrong, status %s", once, wrong, b.status(t))
	}
	b.db.after = nil
	if err := b.runner(t).Execute(context.Background()); err != nil {
		t.Fatal(err)
	}
	if once, _ := b.changed(t); once != 1000 {
		t.Errorf("%d rows", once)
	}
}

// TestGuardsAroundSteps: an error from Before begins nothing, one from After
// leaves the step done.
func TestGuardsAroundSteps(t *testing.T) {
	b := setUp(t)
	r := b.runner(t)
	r.Before = func(context.Context, *Work) error { return ErrGuard }
	if err := r.Execute(context.Background()); !errors.Is(err, ErrGuard) {
		t.Fatal(err)
	}
	if once, _ := b.changed(t); once != 0 {
		t.Fatalf("%d rows", once)
	}
	r = b.runner(t)
	r.After = func(_ context.Context, w *Work) error {
		if w.Step.Totals.Changed != 1000 {
			t.Errorf("after the step: %+v", w.Step.Totals)
		}
		return errors.New("not as expected")
	}
	if err := r.Execute(context.Background()); err == nil || b.status(t) != ledger.Failed {
		t.Fatal(err, b.status(t))
	}
	if err := b.runner(t).Execute(context.Background()); err != nil || b.status(t) != ledger.Done {
		t.Fatal(err, b.status(t))
	}
	if once, wrong := b.changed(t); once != 1000 || wrong != 0 {
		t.Errorf("%d rows changed once, %d wrongly", once, wrong)
	}
}

// TestUndoWalksTheKeptValues in batches, and lists what it leaves alone.
func TestUndoWalksTheKeptValues(t *testing.T) {
	b := setUp(t)
	r := b.runner(t)
	if err := r.Execute(context.Background()); err != nil {
		t.Fatal(err)
	}
	if _, err := b.raw.Exec("UPDATE t SET n = -5 WHERE id IN (150, 151)"); err != nil {
		t.Fatal(err)
	}
	s, err := b.db.Session(context.Background(), engine.SessionOptions{})
	if err != nil {
		t.Fatal(err)
	}
	orig := r.Work[0].Step
	undo := &ledger.Run{UndoOf: 1, Source: b.run.Source, Options: b.run.Options, Steps: []*ledger.Step{{N: 1, Name: "sql", Verb: "update", TableName: "t", KeyColumns: []string{"id"}, Method: "undo", KeptTable: orig.KeptTable, Status: "pending"}}}
	if err := b.l.Create(context.Background(), s, undo, nil); err != nil {
		t.Fatal(err)
	}
	s.Close()
	u := &Runner{DB: b.db, Ledger: b.l, Run: undo, Work: []*Work{{Step: undo.Steps[0], Change: b.c, Kept: b.l.Kept(undo.Steps[0], b.c), Undo: true, UpTo: orig.LastKept()}}}
	if err := u.Execute(context.Background()); err != nil {
		t.Fatal(err)
	}
	tot := undo.Steps[0].Totals
	if tot.Batches != 10 || tot.Changed != 998 || tot.Skipped != 2 {
		t.Errorf("%+v", tot)
	}
	left, err := b.l.Skipped(context.Background(), 2, 10)
	if err != nil || len(left) != 2 || left[0].Key != "150" || left[0].Expected["n"] != "451" || left[0].Found["n"] != "-5" {
		t.Errorf("%v %+v", err, left)
	}
}

// Yield leaves others their turn, as SQLite's own does.
func (f *faulty) Yield(ctx context.Context, s *engine.Session, hold time.Duration) error {
	return f.DB.(engine.Yielder).Yield(ctx, s, hold)
}

// TestLostAroundAStep: a connection that is lost while it is asked what must hold
// around a step is made anew, and it is asked again.
func TestLostAroundAStep(t *testing.T) {
	b := setUp(t)
	r := b.runner(t)
	asked := map[string]int{}
	ask := func(when string) func(context.Context, *Work) error {
		return func(context.Context, *Work) error {
			if asked[when]++; asked[when] == 1 {
				return errConn
			}
			return nil
		}
	}
	r.Before, r.After = ask("before"), ask("after")
	if err := r.Execute(context.Background()); err != nil {
		t.Fatal(err)
	}
	if once, wrong := b.changed(t); once != 1000 || wrong != 0 || asked["before"] != 2 || asked["after"] != 2 {
		t.Errorf("%d rows changed once, %d wrongly; asked %v", once, wrong, asked)
	}
}

// TestTakenBeforeItBegins: a process that has lost its run makes neither the list of
// rows nor the source anew, by which the one that has it goes.
func TestTakenBeforeItBegins(t *testing.T) {
	for _, method := range []string{"roster", "sweep"} {
		b := setUp(t)
		r := b.runner(t)
		r.Work[0].Step.Method = method
		table := "jugatum_roster_1_1"
		if method == "sweep" {
			table = "jugatum_source_1_1"
			r.Work[0].Staging = &engine.Staging{Table: table, Query: (&change.Query{D: dialect.SQLite}).Add("SELECT 1 AS seq")}
		}
		r.Before = func(context.Context, *Work) error {
			for _, text := range []string{"UPDATE jugatum_run SET holder = 'another'", "CREATE TABLE " + table + " (seq)", "INSERT INTO " + table + " VALUES (77)"} {
				if _, err := b.raw.Exec(text); err != nil {
					return err
				}
			}
			return nil
		}
		if err := r.Execute(context.Background()); !errors.Is(err, ErrTaken) {
			t.Errorf("%s: %v", method, err)
		}
		var seq int
		if err := b.raw.QueryRow("SELECT seq FROM " + table).Scan(&seq); err != nil || seq != 77 {
			t.Errorf("%s: the other's table has %d, %v", method, seq, err)
		}
		if once, wrong := b.changed(t); once+wrong > 0 {
			t.Errorf("%s: %d rows were changed", method, once+wrong)
		}
	}
}
