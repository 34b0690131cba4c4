package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"sort"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// ErrMoved says that a lane is not where it was thought to be: another process
// has moved it on, or a commit of our own whose answer was lost took effect.
var ErrMoved = errors.New("the lane has moved on")

// ErrTaken says that another process works on the run.
var ErrTaken = errors.New("another process works on this run")

// leaseFor is how long a lease holds without a heartbeat. A process that died
// on this host is known to be dead at once.
const leaseFor = 30 * time.Second

// Batch is the record of one batch.
type Batch struct {
	Run      int64
	Step     int
	Lane     int
	N        int64 // within its lane, from 1
	Began    time.Time
	To       change.KeyValue
	Effect   engine.Effect
	Skipped  int64
	Hold     time.Duration // 0: not told, since the process ended right after the batch
	LockWait time.Duration
	Locks    map[string]int
	Retries  int
	SetAside int64
	Waiters  int           // most sessions seen waiting on us at once, -1 if nobody looked
	Lag      time.Duration // of the replica furthest behind, at its most; -1 unknown
	Pause    time.Duration // before the batch, to ease off
	Why      string        // the reason for the pause, or for fewer rows
}

// ErrGone says that there is no record of the run any more.
var ErrGone = errors.New("the record of this run is gone from the ledger")

// flushed has what a process that lives on goes by, such as its run's number and
// its own name on it, outlive a crash of the server from this commit on.
func flushed(ctx context.Context, tx *engine.Tx) error {
	if tx.S.FlushCommit == nil {
		return nil
	}
	return tx.S.FlushCommit(ctx, tx)
}

// Claim makes this process the one that works on a run and sets its status.
// Where the engine has no lock of its own for that, the lease decides. A process
// that claims it again, after it lost its connection, gets ErrTaken if another
// has worked on the run in between.
func (l *Ledger) Claim(ctx context.Context, s *engine.Session, r *Run, lease bool) error {
	tx, err := s.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var beat moment
	now := Run{ID: r.ID}
	err = tx.Scan(ctx, l.sql("SELECT holder, host, pid, heartbeat, status FROM @run WHERE id = ?"), []any{r.ID}, &now.holder, &now.Host, &now.PID, &beat, &now.Status)
	if errors.Is(err, sql.ErrNoRows) {
		return ErrGone
	}
	if err != nil {
		return err
	}
	now.heartbeat = beat.Time
	if err := flushed(ctx, tx); err != nil {
		return err
	}
	if lease {
		if err := l.Free(&now); err != nil {
			r.Host, r.PID = now.Host, now.PID
			return err
		}
	}
	host, pid, me := holder()
	if r.holder == me && now.holder != me {
		r.Host, r.PID = now.Host, now.PID
		return ErrTaken
	}
	options, err := json.Marshal(r.Options) // a resume may have changed them
	if err != nil {
		return err
	}
	if _, err := tx.Exec(ctx, l.sql("UPDATE @run SET options = ?, holder = ?, host = ?, pid = ?, heartbeat = ?, status = ?, error = '', ended_at = NULL WHERE id = ?"),
		string(options), me, host, pid, stamp(time.Now()), Running, r.ID); err != nil {
		return err
	}
	r.Status, r.holder = Running, me
	return tx.Commit(ctx)
}

// Free gives ErrTaken if a process works on the run by its lease.
func (l *Ledger) Free(r *Run) error {
	_, _, me := holder()
	if r.Status == Running && r.holder != me && l.held(r) {
		return ErrTaken
	}
	return nil
}

// held reports whether a lease is alive: renewed not long ago, and not by a
// process of this host that is gone.
func (l *Ledger) held(r *Run) bool {
	host, _, _ := holder()
	return time.Since(r.heartbeat) < leaseFor && !(r.Host == host && dead(r.PID, r.holder))
}

// End records how a run ended, unless another process has taken it over.
func (l *Ledger) End(ctx context.Context, s *engine.Session, r *Run, status, message string) error {
	tx, err := s.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.Exec(ctx, l.sql("UPDATE @run SET status = ?, error = ?, ended_at = ? WHERE id = ? AND holder = ?"), status, message, stamp(time.Now()), r.ID, r.holder); err != nil {
		return err
	}
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	r.Status, r.Error, r.EndedAt = status, message, time.Now().UTC()
	return nil
}

// Record writes a batch into the ledger, in its own transaction. prev is the
// batch before it, whose hold is known only now; it may be nil.
func (l *Ledger) Record(ctx context.Context, tx *engine.Tx, lane *Lane, b *Batch, prev *Batch) error {
	b.Lane = lane.N
	locks, err := json.Marshal(b.Locks)
	if err != nil {
		return err
	}
	e := b.Effect
	acts := ""
	if len(e.Acts) > 0 {
		text, err := json.Marshal(e.Acts)
		if err != nil {
			return err
		}
		acts = string(text)
	}
	if _, err := tx.Exec(ctx, l.sql(`INSERT INTO @batch (run, step, lane, n, began_at, key_to, kept_to, scanned, matched, changed, skipped, lock_wait_ms, log_bytes, log_records, log_images, log_scope, locks, retries, set_aside, waiters, lag_ms, pause_ms, why, acts)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`),
		b.Run, b.Step, b.Lane, b.N, stamp(b.Began), b.To.Encode(), e.Kept, e.Scanned, e.Matched, e.Changed, b.Skipped, engine.MS(b.LockWait),
		unknown(e.Log.Bytes), unknown(e.Log.Records), unknown(e.Log.Images), e.Log.Scope, string(locks), b.Retries, b.SetAside, b.Waiters, engine.KnownMS(b.Lag), engine.MS(b.Pause), b.Why, acts); err != nil {
		return err
	}
	if e.Kept != lane.Kept {
		if _, err := tx.Exec(ctx, l.sql("UPDATE @lane SET kept = ? WHERE run = ? AND step = ? AND n = ?"), e.Kept, b.Run, b.Step, b.Lane); err != nil {
			return err
		}
	}
	if prev == nil {
		return nil
	}
	return l.settle(ctx, tx, prev)
}

// settle fills in what is known of a batch only after its commit.
func (l *Ledger) settle(ctx context.Context, tx *engine.Tx, b *Batch) error {
	_, err := tx.Exec(ctx, l.sql("UPDATE @batch SET hold_ms = ?, waiters = ?, lag_ms = ?, log_bytes = ?, log_records = ?, log_images = ?, log_scope = ? WHERE run = ? AND step = ? AND lane = ? AND n = ?"),
		engine.MS(b.Hold), b.Waiters, engine.KnownMS(b.Lag), unknown(b.Effect.Log.Bytes), unknown(b.Effect.Log.Records), unknown(b.Effect.Log.Images), b.Effect.Log.Scope, b.Run, b.Step, b.Lane, b.N)
	return err
}

// Settle is settle in a transaction of its own, after the last batch; it also
// renews the lease.
func (l *Ledger) Settle(ctx context.Context, s *engine.Session, b *Batch) error {
	tx, err := s.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if err := l.settle(ctx, tx, b); err != nil {
		return err
	}
	return tx.Commit(ctx)
}

// Beat renews the lease within a batch's transaction.
func (l *Ledger) Beat(ctx context.Context, tx *engine.Tx, run int64) error {
	_, err := tx.Exec(ctx, l.sql("UPDATE @run SET heartbeat = ? WHERE id = ?"), stamp(time.Now()), run)
	return err
}

// Holds are the holds of a run's batches. The batch that was under way when a
// process was killed has none.
type Holds struct {
	Batches          int64
	Median, P99, Max time.Duration
}

// Holds reads them for a run.
func (l *Ledger) Holds(ctx context.Context, run int64) (Holds, error) {
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT hold_ms FROM @batch WHERE run = ? AND hold_ms IS NOT NULL"), run)
	if err != nil {
		return Holds{}, err
	}
	defer rows.Close()
	var all []float64
	for rows.Next() {
		var v float64
		if err := rows.Scan(&v); err != nil {
			return Holds{}, err
		}
		all = append(all, v)
	}
	h := Holds{Batches: int64(len(all))}
	if len(all) == 0 {
		return h, rows.Err()
	}
	sort.Float64s(all)
	at := func(share float64) time.Duration { // nearest rank
		i := int(share*float64(len(all))+0.999999) - 1
		return fromMS(all[min(max(i, 0), len(all)-1)])
	}
	h.Median, h.P99, h.Max = at(0.5), at(0.99), at(1)
	return h, rows.Err()
}

// Slow is one of the batches that held their locks longest.
type Slow struct {
	Step     int            `json:"step"`
	Lane     int            `json:"lane"`
	Batch    int64          `json:"batch"`
	Scanned  int64          `json:"scanned"`
	Changed  int64          `json:"changed"`
	HoldMS   float64        `json:"hold_ms"`
	LogBytes int64          `json:"log_bytes"` // -1 unknown
	Locks    map[string]int `json:"locks"`
}

// Slowest reads the batches with the longest holds.
func (l *Ledger) Slowest(ctx context.Context, run int64, limit int) ([]Slow, error) {
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT step, lane, n, scanned, changed, hold_ms, coalesce(log_bytes, -1), locks FROM @batch WHERE run = ? AND hold_ms IS NOT NULL ORDER BY hold_ms DESC, step, lane, n LIMIT ?"), run, limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []Slow{}
	for rows.Next() {
		var s Slow
		var locks string
		if err := rows.Scan(&s.Step, &s.Lane, &s.Batch, &s.Scanned, &s.Changed, &s.HoldMS, &s.LogBytes, &locks); err != nil {
			return nil, err
		}
		if err := json.Unmarshal([]byte(locks), &s.Locks); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, rows.Err()
}

// Measured is what is on record of one batch's time and cost. Figures below 0 are unknown.
type Measured struct {
	Step, Lane                        int
	N                                 int64 // within its lane
	Began                             time.Time
	Hold, LockWait, Pause             time.Duration // a hold of 0 is not told
	Lag                               time.Duration // -1 unknown
	Why                               string
	Scanned, Changed                  int64
	LogBytes, LogRecords, LogImages   int64
	Waiters, Retries, Skipped, Asides int64
	Locks                             string // JSON: mode to count
}

// Batch is that in the form in which a run tells of it at work.
func (b Measured) Batch(run int64) *Batch {
	return &Batch{Run: run, Step: b.Step, Lane: b.Lane, N: b.N, Began: b.Began, Hold: b.Hold, LockWait: b.LockWait, Pause: b.Pause, Why: b.Why,
		Retries: int(b.Retries), SetAside: b.Asides, Skipped: b.Skipped, Waiters: int(b.Waiters), Lag: b.Lag,
		Effect: engine.Effect{Scanned: b.Scanned, Changed: b.Changed, Log: engine.Log{Bytes: b.LogBytes, Records: b.LogRecords, Images: b.LogImages}}}
}

// Batches reads a run's batches, in no order.
func (l *Ledger) Batches(ctx context.Context, run int64, each func(b Measured) error) error {
	return l.batches(ctx, "run = ?", []any{run}, each)
}

// BatchesAfter reads those of a lane after the nth whose hold is on record, in their order.
func (l *Ledger) BatchesAfter(ctx context.Context, run int64, step, lane int, n int64, each func(b Measured) error) error {
	return l.batches(ctx, "run = ? AND step = ? AND lane = ? AND n > ? AND hold_ms IS NOT NULL ORDER BY n", []any{run, step, lane, n}, each)
}

func (l *Ledger) batches(ctx context.Context, which string, args []any, each func(b Measured) error) error {
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT step, lane, n, began_at, coalesce(hold_ms, 0), lock_wait_ms, pause_ms, why, scanned, changed, coalesce(log_bytes, -1), coalesce(log_records, -1), coalesce(log_images, -1), waiters, lag_ms, retries, skipped, set_aside, locks FROM @batch WHERE "+which), args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var b Measured
		var began moment
		var hold, wait, pause, behind float64
		if err := rows.Scan(&b.Step, &b.Lane, &b.N, &began, &hold, &wait, &pause, &b.Why, &b.Scanned, &b.Changed, &b.LogBytes, &b.LogRecords, &b.LogImages, &b.Waiters, &behind, &b.Retries, &b.Skipped, &b.Asides, &b.Locks); err != nil {
			return err
		}
		b.Began = began.Time
		b.Hold, b.LockWait, b.Pause, b.Lag = fromMS(hold), fromMS(wait), fromMS(pause), lagOf(behind)
		if err := each(b); err != nil {
			return err
		}
	}
	return rows.Err()
}

// lagOf reads a lag, of which -1 says that it is not known.
func lagOf(ms float64) time.Duration {
	if ms < 0 {
		return -1
	}
	return fromMS(ms)
}

func fromMS(ms float64) time.Duration { return time.Duration(ms * float64(time.Millisecond)) }

// unknown writes -1 as NULL.
func unknown(n int64) any {
	if n < 0 {
		return nil
	}
	return n
}
