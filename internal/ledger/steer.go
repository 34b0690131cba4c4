package ledger

import (
	"context"
	"database/sql"
	"encoding/json"
	"os/user"
	"time"

	"jugatum/internal/engine"
)

// Kinds of signals to a run that goes on.
const (
	Pause = "pause" // hold off after the batch under way
	GoOn  = "go on" // end of a pause
	Stop  = "stop"  // end the run after the batch under way; it can be resumed
	Tune  = "tune"  // other limits from the next batch on
)

// Signal is a word from another terminal to the process that works on a run.
type Signal struct {
	N      int64             `json:"n"`
	At     time.Time         `json:"at"`
	Kind   string            `json:"kind"`
	Args   map[string]string `json:"args,omitempty"` // of tune: limit to value
	Who    string            `json:"who"`
	Host   string            `json:"host"`
	SeenAt *time.Time        `json:"seen_at,omitempty"` // when the run took notice
}

// Send writes a signal to a run.
func (l *Ledger) Send(ctx context.Context, s *engine.Session, run int64, kind string, args map[string]string) error {
	text, err := json.Marshal(args)
	if err != nil {
		return err
	}
	who := ""
	if u, err := user.Current(); err == nil {
		who = u.Username
	}
	host, _, _ := holder()
	for attempt := 0; ; attempt++ {
		err := l.inTx(ctx, s, func(tx *engine.Tx) error {
			_, err := tx.Exec(ctx, l.sql("INSERT INTO @signal (run, n, at, kind, args, who, host) SELECT ?, coalesce(max(n), 0) + 1, ?, ?, ?, ?, ? FROM @signal WHERE run = ?"),
				run, stamp(time.Now()), kind, string(text), who, host, run)
			return err
		})
		// Two signals at the same moment ask for the same number.
		if err == nil || attempt == 20 {
			return err
		}
		if f := l.db.Fault(err); f != engine.Data && f != engine.Busy {
			return err
		}
		time.Sleep(20 * time.Millisecond)
	}
}

// Signals reads a run's signals after the given number.
func (l *Ledger) Signals(ctx context.Context, run, after int64) ([]Signal, error) {
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT n, at, kind, args, who, host, seen_at FROM @signal WHERE run = ? AND n > ? ORDER BY n"), run, after)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Signal
	for rows.Next() {
		var x Signal
		var at, seen moment
		var args string
		if err := rows.Scan(&x.N, &at, &x.Kind, &args, &x.Who, &x.Host, &seen); err != nil {
			return nil, err
		}
		x.At = at.Time
		if !seen.IsZero() {
			x.SeenAt = &seen.Time
		}
		if err := json.Unmarshal([]byte(args), &x.Args); err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, rows.Err()
}

// Seen records that the run took notice of its signals up to a number, and the
// options that hold from now on.
func (l *Ledger) Seen(ctx context.Context, s *engine.Session, r *Run, upTo int64) error {
	options, err := json.Marshal(r.Options)
	if err != nil {
		return err
	}
	return l.inTx(ctx, s, func(tx *engine.Tx) error {
		if _, err := tx.Exec(ctx, l.sql("UPDATE @signal SET seen_at = ? WHERE run = ? AND n <= ? AND seen_at IS NULL"), stamp(time.Now()), r.ID, upTo); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, l.sql("UPDATE @run SET options = ?, heartbeat = ? WHERE id = ?"), string(options), stamp(time.Now()), r.ID)
		return err
	})
}

// Alive renews the lease in a transaction of its own, while no batches are made.
func (l *Ledger) Alive(ctx context.Context, s *engine.Session, run int64) error {
	return l.inTx(ctx, s, func(tx *engine.Tx) error { return l.Beat(ctx, tx, run) })
}

func (l *Ledger) inTx(ctx context.Context, s *engine.Session, do func(*engine.Tx) error) error {
	_, err := s.InTx(ctx, do)
	return err
}

// Wait is one session's wait for a lock of ours, as far as it was seen.
type Wait struct {
	Session   string    `json:"session"`
	Step      int       `json:"step"`
	Began     time.Time `json:"began_at"`
	MS        float64   `json:"wait_ms"`
	For       string    `json:"waiting_for"`
	Statement string    `json:"statement"`
}

// AddWaits records waits that are over.
func (l *Ledger) AddWaits(ctx context.Context, tx *engine.Tx, run int64, list []Wait) error {
	for _, w := range list {
		if _, err := tx.Exec(ctx, l.sql("INSERT INTO @waited (run, n, session, step, began_at, wait_ms, waiting_for, statement) SELECT ?, coalesce(max(n), 0) + 1, ?, ?, ?, ?, ?, ? FROM @waited WHERE run = ?"),
			run, w.Session, w.Step, stamp(w.Began), w.MS, w.For, w.Statement, run); err != nil {
			return err
		}
	}
	return nil
}

// Incident is something that happened, while a run was at work, to the server or to a connection.
type Incident struct {
	At     time.Time `json:"at"`
	Kind   string    `json:"kind"`
	ForMS  float64   `json:"for_ms,omitempty"` // reconnected: until there was a connection again
	Detail string    `json:"detail,omitempty"`
}

// Kinds of incidents.
const (
	Reconnected = "reconnected" // a connection was lost and made again
	Checkpoint  = "checkpoint"  // the server began one
)

// AddIncidents records what has happened.
func (l *Ledger) AddIncidents(ctx context.Context, tx *engine.Tx, run int64, list []Incident) error {
	for _, x := range list {
		if _, err := tx.Exec(ctx, l.sql("INSERT INTO @incident (run, n, at, kind, for_ms, detail) SELECT ?, coalesce(max(n), 0) + 1, ?, ?, ?, ? FROM @incident WHERE run = ?"),
			run, stamp(x.At), x.Kind, x.ForMS, x.Detail, run); err != nil {
			return err
		}
	}
	return nil
}

// Incidents reads what happened during a run, in its order.
func (l *Ledger) Incidents(ctx context.Context, run int64) ([]Incident, error) {
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT at, kind, for_ms, detail FROM @incident WHERE run = ? ORDER BY at, n"), run)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []Incident{}
	for rows.Next() {
		var x Incident
		var at moment
		if err := rows.Scan(&at, &x.Kind, &x.ForMS, &x.Detail); err != nil {
			return nil, err
		}
		x.At = at.Time
		out = append(out, x)
	}
	return out, rows.Err()
}

// MostLag is how far the replica furthest behind was seen to be, at its most, in milliseconds; -1 unknown.
func (l *Ledger) MostLag(ctx context.Context, run int64) (ms float64, err error) {
	err = l.db.Pool().QueryRowContext(ctx, l.read("SELECT coalesce(max(lag_ms), -1) FROM @batch WHERE run = ?"), run).Scan(&ms)
	return ms, err
}

// Cost of looking for others' waits, and what was seen.
type Watching struct {
	Seen      int64   `json:"waits"`
	Sessions  int64   `json:"sessions"`
	TotalMS   float64 `json:"total_ms"`
	LongestMS float64 `json:"longest_ms"`
	Samples   int64   `json:"samples"`     // 0: nobody looked
	LookingMS float64 `json:"looking_ms"`  // what the looking itself took
	OwnMS     float64 `json:"own_ms"`      // what we waited for others' locks, as far as was seen
	OwnMostMS float64 `json:"own_most_ms"` // in one batch
}

// AddSamples records what looking for others' waits cost.
func (l *Ledger) AddSamples(ctx context.Context, tx *engine.Tx, run, samples int64, took time.Duration) error {
	_, err := tx.Exec(ctx, l.sql("UPDATE @run SET samples = samples + ?, looking_ms = looking_ms + ? WHERE id = ?"), samples, engine.MS(took), run)
	return err
}

// Watched sums up the waits of a run and gives the longest of them.
func (l *Ledger) Watched(ctx context.Context, run int64, limit int) (Watching, []Wait, error) {
	var w Watching
	if err := l.db.Pool().QueryRowContext(ctx, l.read("SELECT r.samples, r.looking_ms, count(w.n), count(DISTINCT w.session), coalesce(sum(w.wait_ms), 0), coalesce(max(w.wait_ms), 0) FROM @run r LEFT JOIN @waited w ON w.run = r.id WHERE r.id = ? GROUP BY r.samples, r.looking_ms"), run).
		Scan(&w.Samples, &w.LookingMS, &w.Seen, &w.Sessions, &w.TotalMS, &w.LongestMS); err != nil {
		return w, nil, err
	}
	if err := l.db.Pool().QueryRowContext(ctx, l.read("SELECT coalesce(sum(lock_wait_ms), 0), coalesce(max(lock_wait_ms), 0) FROM @batch WHERE run = ?"), run).Scan(&w.OwnMS, &w.OwnMostMS); err != nil {
		return w, nil, err
	}
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT session, step, began_at, wait_ms, waiting_for, statement FROM @waited WHERE run = ? ORDER BY wait_ms DESC, n LIMIT ?"), run, limit)
	if err != nil {
		return w, nil, err
	}
	defer rows.Close()
	out := []Wait{}
	for rows.Next() {
		var x Wait
		var at moment
		if err := rows.Scan(&x.Session, &x.Step, &at, &x.MS, &x.For, &x.Statement); err != nil {
			return w, nil, err
		}
		x.Began = at.Time
		out = append(out, x)
	}
	return w, out, rows.Err()
}

// Latest is what the last batches of a run say about how it goes.
type Latest struct {
	Scanned  int64 // rows of the last batch
	Hold     time.Duration
	Worst    time.Duration
	Waiters  int
	SetAside int64
	Note     string // the reason for a pause or for smaller batches
}

// Progress reads how a run goes.
func (l *Ledger) Progress(ctx context.Context, r *Run) (Latest, error) {
	var p Latest
	var hold, worst sql.NullFloat64
	err := l.db.Pool().QueryRowContext(ctx, l.read("SELECT max(hold_ms) FROM @batch WHERE run = ?"), r.ID).Scan(&worst)
	if err != nil {
		return p, err
	}
	err = l.db.Pool().QueryRowContext(ctx, l.read("SELECT scanned, hold_ms, waiters, why FROM @batch WHERE run = ? AND hold_ms IS NOT NULL ORDER BY step DESC, began_at DESC LIMIT 1"), r.ID).Scan(&p.Scanned, &hold, &p.Waiters, &p.Note)
	if err != nil && err != sql.ErrNoRows {
		return p, err
	}
	p.Hold, p.Worst = fromMS(hold.Float64), fromMS(worst.Float64)
	if p.SetAside, err = l.AsideCount(ctx, r.ID); err != nil {
		return p, err
	}
	list, err := l.Signals(ctx, r.ID, 0)
	for _, s := range list {
		switch s.Kind {
		case Pause:
			p.Note = "paused by " + s.Who + " since " + s.At.Local().Format("15:04:05")
		case GoOn, Stop:
			p.Note = ""
		}
	}
	return p, err
}

// AddServer adds to what the whole server is known to have written during a run.
func (l *Ledger) AddServer(ctx context.Context, tx *engine.Tx, run int64, figures map[string]int64) error {
	var text string
	if err := tx.Scan(ctx, l.sql("SELECT server FROM @run WHERE id = ?"), []any{run}, &text); err != nil {
		return err
	}
	sum := map[string]int64{}
	if err := json.Unmarshal([]byte(text), &sum); err != nil {
		return err
	}
	for name, n := range figures {
		sum[name] += n
	}
	out, err := json.Marshal(sum)
	if err != nil {
		return err
	}
	_, err = tx.Exec(ctx, l.sql("UPDATE @run SET server = ? WHERE id = ?"), string(out), run)
	return err
}

// Server reads what the whole server wrote during a run, by name.
func (l *Ledger) Server(ctx context.Context, run int64) (map[string]int64, error) {
	var text string
	if err := l.db.Pool().QueryRowContext(ctx, l.read("SELECT server FROM @run WHERE id = ?"), run).Scan(&text); err != nil {
		return nil, err
	}
	out := map[string]int64{}
	err := json.Unmarshal([]byte(text), &out)
	return out, err
}
