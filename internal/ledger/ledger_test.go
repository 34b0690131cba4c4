package ledger

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"testing"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/engine/sqlite"
	"jugatum/internal/job"
)

// open makes an empty database with a ledger in it.
func open(t *testing.T) (*Ledger, *engine.Session, *sql.DB) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "l.db")
	raw, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(5000)")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { raw.Close() })
	if _, err := raw.Exec("PRAGMA journal_mode = WAL; CREATE TABLE t (id INTEGER PRIMARY KEY)"); err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	db, err := sqlite.Open(ctx, "sqlite:"+path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	l := Open(db)
	if ok, err := l.Exists(ctx); ok || err != nil {
		t.Fatal("a ledger is there before it was made", err)
	}
	if _, err := l.Load(ctx, 1); !errors.Is(err, ErrNone) {
		t.Error(err)
	}
	s, err := db.Session(ctx, engine.SessionOptions{LockTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	for range 2 { // the second finds it made
		if err := l.Ensure(ctx, s); err != nil {
			t.Fatal(err)
		}
	}
	return l, s, raw
}

func newRun(t *testing.T, l *Ledger, s *engine.Session) *Run {
	t.Helper()
	r := &Run{Title: "tïtle", Reason: "why", Source: job.Source{Name: "x.toml", Text: "text\n'quoted'"}, Digest: "d", Version: "v",
		Params:  map[string]change.Value{"p": {Type: "decimal", Text: "1.50"}},
		Options: Options{Hold: 50 * time.Millisecond, Batch: 9, Keep: true},
		Steps: []*Step{{N: 1, Name: "one", Verb: "update", TableName: "t", KeyColumns: []string{"id"}, SetColumns: []string{"a", "b"}, Method: "sweep", Matched: 5, ToChange: 4, TableRows: 6, Status: "pending"},
			{N: 2, Name: "two", Verb: "delete", TableName: "t", KeyColumns: []string{"id"}, Method: "sweep", Matched: -1, ToChange: -1, Status: "pending"}}}
	kept := []Layouts{{Own: &change.Kept{}}, {}}
	if err := l.Create(context.Background(), s, r, kept); err != nil {
		t.Fatal(err)
	}
	return r
}

func TestARunReadsBackAsItWasWritten(t *testing.T) {
	l, s, raw := open(t)
	ctx := context.Background()
	a, b := newRun(t, l, s), newRun(t, l, s)
	if a.ID != 1 || b.ID != 2 {
		t.Fatalf("numbers %d and %d", a.ID, b.ID)
	}
	got, err := l.Load(ctx, 2)
	if err != nil {
		t.Fatal(err)
	}
	if got.Title != b.Title || got.Reason != b.Reason || got.Source != b.Source || !reflect.DeepEqual(got.Params, b.Params) || !reflect.DeepEqual(got.Options, b.Options) || got.Status != Running || got.StartedAt.Sub(b.StartedAt).Abs() > time.Millisecond {
		t.Errorf("%+v\n%+v", got, b)
	}
	if st := got.Steps[0]; st.KeptTable != l.db.LedgerTable("kept_2_1") || !reflect.DeepEqual(st.SetColumns, []string{"a", "b"}) || st.Totals.Batches != 0 || st.Totals.Log.Bytes != -1 {
		t.Errorf("%+v", got.Steps[0])
	}
	if got.Steps[1].KeptTable != "" {
		t.Error("a step without kept values has a table for them")
	}
	if _, err := raw.Exec("SELECT * FROM " + l.db.LedgerTable("kept_1_1") + ", " + l.db.LedgerTable("kept_2_1")); err != nil {
		t.Error(err)
	}
	var nf *engine.NotFoundError
	if _, err := l.Load(ctx, 3); !errors.As(err, &nf) {
		t.Error(err)
	}
	if err := l.End(ctx, s, b, Failed, "why it failed"); err != nil {
		t.Fatal(err)
	}
	list, err := l.List(ctx)
	if err != nil || len(list) != 2 || list[0].ID != 2 || list[0].Status != Failed || list[0].Error != "why it failed" || list[0].EndedAt.IsZero() {
		t.Errorf("%v %+v", err, list)
	}
	same, err := l.SameJob(ctx, "d", "")
	if err != nil || len(same) != 2 {
		t.Errorf("%v: %d runs of the job", err, len(same))
	}
	if same, _ = l.SameJob(ctx, "e", ""); len(same) != 0 {
		t.Error("runs of another job")
	}
	if _, err := raw.Exec("UPDATE jugatum_ledger SET version = 99"); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Load(ctx, 1); err == nil {
		t.Error("a newer ledger is read")
	}
}

// step carries out one batch in the ledger alone.
func step(t *testing.T, l *Ledger, s *engine.Session, r *Run, to int64, b *Batch, prev *Batch) error {
	t.Helper()
	ctx := context.Background()
	tx, err := s.Start(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	if err := l.Fence(ctx, tx, r.ID, 1, r.Steps[0].Lanes[0], change.KeyValue{to}); err != nil {
		return err
	}
	b.Run, b.Step, b.To, b.Began = r.ID, 1, change.KeyValue{to}, time.Now()
	if err := l.Record(ctx, tx, r.Steps[0].Lanes[0], b, prev); err != nil {
		t.Fatal(err)
	}
	return tx.Commit(ctx)
}

// TestFence lets a batch move a lane only from where it stands.
func TestFence(t *testing.T) {
	l, s, raw := open(t)
	ctx := context.Background()
	r := newRun(t, l, s)
	st := r.Steps[0]
	if err := l.BeginStep(ctx, s, r, st, change.KeyValue{int64(30)}); err != nil {
		t.Fatal(err)
	}
	// A process that has taken the run over may have cut the lane.
	st.Lanes[0].End = change.KeyValue{int64(60)}
	if err := step(t, l, s, r, 40, &Batch{N: 1}, nil); !errors.Is(err, ErrMoved) {
		t.Fatalf("a batch goes beyond the lane's end: %v", err)
	}
	st.Lanes[0].End = change.KeyValue{int64(30)}
	one := &Batch{N: 1, Effect: engine.Effect{Scanned: 10, Matched: 5, Changed: 4, Kept: 4, Log: engine.Log{Bytes: 100, Records: 2, Images: -1, Scope: "ours"}}, Locks: map[string]int{"x": 2}}
	if err := step(t, l, s, r, 10, one, nil); err != nil {
		t.Fatal(err)
	}
	// The same batch again, as by a process that never heard of its commit.
	if err := step(t, l, s, r, 10, &Batch{N: 1}, nil); !errors.Is(err, ErrMoved) {
		t.Fatalf("the batch was done twice: %v", err)
	}
	tx, err := s.Start(ctx)
	if err != nil {
		t.Fatal(err)
	}
	lane := st.Lanes[0]
	if err := l.Position(ctx, tx, r, 1, lane); err != nil {
		t.Fatal(err)
	}
	tx.Rollback()
	if lane.Batches != 1 || lane.Kept != 4 || lane.Checkpoint.String() != "10" || lane.End.String() != "30" {
		t.Errorf("%+v", lane)
	}
	one.Hold, one.Effect.Log.Bytes = 12*time.Millisecond, 150
	two := &Batch{N: 2, Retries: 3, Skipped: 1, Effect: engine.Effect{Scanned: 20, Matched: -1, Changed: 7, Kept: 11, Log: engine.NoLog}}
	if err := step(t, l, s, r, 30, two, one); err != nil {
		t.Fatal(err)
	}
	two.Hold = 40 * time.Millisecond
	if err := l.Settle(ctx, s, two); err != nil {
		t.Fatal(err)
	}
	if err := l.EndStep(ctx, s, r, st); err != nil {
		t.Fatal(err)
	}
	if err := step(t, l, s, r, 40, &Batch{N: 3}, nil); !errors.Is(err, ErrMoved) {
		t.Errorf("a lane that is done moves on: %v", err)
	}
	got, err := l.Load(ctx, r.ID)
	if err != nil {
		t.Fatal(err)
	}
	tot := got.Steps[0].Totals
	if want := (Totals{Batches: 2, Scanned: 30, Matched: -1, Changed: 11, Skipped: 1, Retries: 3, Log: engine.Log{Bytes: 150, Records: 2, Images: -1, Scope: "ours"}}); tot != want {
		t.Errorf("%+v\n%+v", tot, want)
	}
	// Neither does a process that has lost the run say how it ended.
	if _, err := raw.Exec("UPDATE " + l.db.LedgerTable("run") + " SET holder = 'another', pid = 7 WHERE id = 1"); err != nil {
		t.Fatal(err)
	}
	if err := l.Claim(ctx, s, r, true); !errors.Is(err, ErrTaken) || r.PID != 7 {
		t.Errorf("a run that another process has worked on is claimed again: %v, process %d", err, r.PID)
	}
	if err := l.Claim(ctx, s, &Run{ID: 99}, true); !errors.Is(err, ErrGone) {
		t.Errorf("a run of which there is no record: %v", err)
	}
	if err := l.EndStep(ctx, s, r, st); !errors.Is(err, ErrTaken) {
		t.Errorf("the step of a run that was lost: %v", err)
	}
	if err := l.End(ctx, s, r, Failed, "lost"); err != nil {
		t.Fatal(err)
	}
	if got, err := l.Load(ctx, r.ID); err != nil || got.Status == Failed {
		t.Errorf("the run that was lost is %s, %v", got.Status, err)
	}
	h, err := l.Holds(ctx, r.ID)
	if err != nil || h.Batches != 2 || h.Median != 12*time.Millisecond || h.P99 != 40*time.Millisecond || h.Max != 40*time.Millisecond {
		t.Errorf("%+v %v", h, err)
	}
	slow, err := l.Slowest(ctx, r.ID, 1)
	if err != nil || len(slow) != 1 || slow[0].Batch != 2 || slow[0].LogBytes != -1 {
		t.Errorf("%+v %v", slow, err)
	}
}

// TestLease keeps a second process off, until the first is dead or silent.
func TestLease(t *testing.T) {
	l, s, raw := open(t)
	ctx := context.Background()
	r := newRun(t, l, s)
	if err := l.Claim(ctx, s, r, true); err != nil {
		t.Fatalf("our own lease: %v", err)
	}
	other := exec.Command("sleep", "30")
	if err := other.Start(); err != nil {
		t.Fatal(err)
	}
	defer other.Process.Kill()
	host, _ := os.Hostname()
	set := func(pid int, holder string, beat time.Time) {
		if _, err := raw.Exec("UPDATE jugatum_run SET pid = ?, host = ?, holder = ?, heartbeat = ?, status = 'running'", pid, host, holder, stamp(beat)); err != nil {
			t.Fatal(err)
		}
		var err error
		if r, err = l.Load(ctx, r.ID); err != nil { // as whoever resumes it
			t.Fatal(err)
		}
	}
	pid := other.Process.Pid
	token := "x/1/" + processStart(pid)
	set(pid, token, time.Now())
	if err := l.Claim(ctx, s, r, true); !errors.Is(err, ErrTaken) {
		t.Errorf("a run that another process works on is taken: %v", err)
	}
	if err := l.Claim(ctx, s, r, false); err != nil || r.holder == token {
		t.Errorf("where the engine has a lock the lease does not count: %v", err)
	}
	set(pid, token, time.Now().Add(-time.Minute))
	if err := l.Claim(ctx, s, r, true); err != nil {
		t.Errorf("a lease without heartbeat holds: %v", err)
	}
	set(pid, "x/1/999", time.Now()) // the number was given to another process since
	if err := l.Claim(ctx, s, r, true); err != nil {
		t.Errorf("a process of another start time holds: %v", err)
	}
	set(pid, token, time.Now())
	other.Process.Kill()
	if err := waitDead(pid, token); err != nil { // not reaped yet: a zombie
		t.Fatal(err)
	}
	if err := l.Claim(ctx, s, r, true); err != nil {
		t.Errorf("a dead process holds: %v", err)
	}
	other.Wait()
	set(pid, token, time.Now())
	if err := l.Claim(ctx, s, r, true); err != nil {
		t.Errorf("a process that is gone holds: %v", err)
	}
}

func waitDead(pid int, token string) error {
	for deadline := time.Now().Add(5 * time.Second); time.Now().Before(deadline); time.Sleep(5 * time.Millisecond) {
		if dead(pid, token) {
			return nil
		}
	}
	return errors.New("it does not die")
}

func TestLeftAlone(t *testing.T) {
	l, s, _ := open(t)
	ctx := context.Background()
	r := newRun(t, l, s)
	rows := []Left{{Step: 1, Seq: 5, Key: "a, b", Expected: map[string]string{"x": "1"}, Found: map[string]string{"x": "\x1b"}}, {Step: 1, Seq: 9, Key: "c", Expected: map[string]string{"x": "1"}, Gone: true}}
	tx, err := s.Start(ctx)
	if err != nil {
		t.Fatal(err)
	}
	if err := l.RecordSkipped(ctx, tx, r.ID, rows); err != nil {
		t.Fatal(err)
	}
	if err := l.Beat(ctx, tx, r.ID); err != nil {
		t.Fatal(err)
	}
	if err := tx.Commit(ctx); err != nil {
		t.Fatal(err)
	}
	got, err := l.Skipped(ctx, r.ID, 10)
	if err != nil || !reflect.DeepEqual(got, rows) {
		t.Errorf("%v\n%+v\n%+v", err, got, rows)
	}
	if got, _ = l.Skipped(ctx, r.ID, 1); len(got) != 1 {
		t.Error("the limit does not count")
	}
}
