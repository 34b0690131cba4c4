package ledger

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
)

// What runs leave behind: kept values, lists, and tables that were meant for a while. They can
// be dropped; the record of the run stays.

// Pruned says that what a run had kept is dropped.
type Pruned struct {
	At    time.Time `json:"at"`
	Who   string    `json:"who"`
	Host  string    `json:"host"`
	Bytes int64     `json:"bytes"` // that it took; -1 unknown
}

const prunedKind = "pruned"

// Lost says why there are no kept values of a run, "" if there are.
func (r *Run) Lost() string {
	switch {
	case !r.Options.Keep:
		return "kept no values (--keep none)"
	case r.Pruned != nil:
		return fmt.Sprintf("has no kept values any more: %s dropped them on %s", r.Pruned.Who, r.Pruned.At.Local().Format("2006-01-02 15:04"))
	}
	return ""
}

// Room is what is left of a run, or of none, beside its record.
type Room struct {
	Run     int64                 // 0: of none that is on record
	Ended   time.Time             // when the run did; zero before that
	Objects []engine.LedgerObject // in the order in which they can be dropped: a view before the table beneath, the tables of acts before their step's
	Bytes   int64                 // -1 unknown
}

// ownName is the form of the names of tables that are made for a run's steps.
var ownName = regexp.MustCompile(`^(?:kept|packed|roster|source|numbers)_([0-9]+)_[0-9]+(?:_[0-9]+)?$`)

// passing is the form of the names of tables that hold something for as long as a command works.
var passing = regexp.MustCompile(`^(?:rehearsal(?:_of_[0-9]+)?(?:_source|_packed|_[0-9]+|_[0-9]+_packed)?|trial_commit|trial_copy|(?:list|calls)_[0-9a-f]{16})$`)

// Rooms lists what is left, by run; what belongs to none on record comes last, as run 0. Tables
// whose names are none that we give are not among it. exact asks for the size of each; otherwise
// it is by what the server knows at once.
func (l *Ledger) Rooms(ctx context.Context, exact bool) ([]Room, error) {
	objects, err := l.db.LedgerObjects(ctx, exact)
	if err != nil {
		return nil, err
	}
	ended, of, err := l.owners(ctx)
	if err != nil {
		return nil, err
	}
	weigher, weighs := l.db.(engine.Weigher)
	rooms := map[int64]*Room{}
	for _, o := range objects {
		run, listed := of[o.Name]
		if m := ownName.FindStringSubmatch(o.Name); m != nil {
			n, err := strconv.ParseInt(m[1], 10, 64)
			if err != nil {
				continue
			}
			if _, ok := ended[n]; ok {
				run = n
			}
		} else if !listed && !passing.MatchString(o.Name) {
			continue
		}
		x := rooms[run]
		if x == nil {
			x = &Room{Run: run, Ended: ended[run]}
			rooms[run] = x
		}
		if o.View {
			o.Bytes = 0
		} else if weighs && exact {
			if n, err := weigher.Weigh(ctx, l.db.LedgerTable(o.Name)); err == nil {
				o.Bytes = n
			}
		}
		x.Objects = append(x.Objects, o)
		if x.Bytes >= 0 {
			x.Bytes += o.Bytes
		}
		if o.Bytes < 0 {
			x.Bytes = -1
		}
	}
	var out []Room
	for _, x := range rooms {
		// The tables of a step's acts, whose names go on from that of the step's own, may be
		// numbered by that one, which PostgreSQL does not drop before them.
		slices.SortStableFunc(x.Objects, func(a, b engine.LedgerObject) int {
			switch {
			case a.View && !b.View:
				return -1
			case b.View && !a.View:
				return 1
			}
			return strings.Compare(b.Name, a.Name)
		})
		out = append(out, *x)
	}
	last := func(run int64) int64 {
		if run == 0 {
			return math.MaxInt64
		}
		return run
	}
	slices.SortFunc(out, func(a, b Room) int {
		if last(a.Run) < last(b.Run) {
			return -1
		}
		return 1
	})
	return out, nil
}

// owners tells when each run ended, zero if it has no end, and whose the tables of lists are.
func (l *Ledger) owners(ctx context.Context) (ended map[int64]time.Time, lists map[string]int64, err error) {
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT id, ended_at, CASE WHEN undo_of IS NULL AND params LIKE ? THEN params ELSE '{}' END FROM @run"), "%"+listParam+"%")
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	ended, lists = map[int64]time.Time{}, map[string]int64{}
	for rows.Next() {
		var id int64
		var end moment
		var text string
		if err := rows.Scan(&id, &end, &text); err != nil {
			return nil, nil, err
		}
		ended[id] = end.Time
		var params map[string]change.Value
		if err := json.Unmarshal([]byte(text), &params); err != nil {
			return nil, nil, fmt.Errorf("run %d: parameters in the ledger: %w", id, err)
		}
		for name := range params {
			step, err := strconv.Atoi(strings.TrimPrefix(name, listParam))
			if err != nil || !IsListParam(name) {
				continue
			}
			x, err := ListOf(params, step-1)
			if err != nil {
				return nil, nil, fmt.Errorf("run %d: %w", id, err)
			}
			lists[x.Table], lists[x.Calls()] = id, id
			for _, t := range x.Turns {
				lists[t.Table] = id
			}
		}
	}
	return ended, lists, rows.Err()
}

// Prune drops what is left of a run, if it is not 0 once it is on record that it was. What a kill leaves
// undropped is found again.
func (l *Ledger) Prune(ctx context.Context, s *engine.Session, x Room) error {
	if x.Run != 0 {
		p := Pruned{At: time.Now().UTC(), Who: OSUser(), Bytes: x.Bytes}
		p.Host, _, _ = holder()
		detail, err := json.Marshal(p)
		if err != nil {
			return err
		}
		err = l.inTx(ctx, s, func(tx *engine.Tx) error {
			_, err := tx.Exec(ctx, l.sql("INSERT INTO @outcome (run, step, kind, n, row_key, detail, at) SELECT ?, 0, ?, coalesce(max(n), 0) + 1, '', ?, ? FROM @outcome WHERE run = ? AND step = 0 AND kind = ?"),
				x.Run, prunedKind, string(detail), stamp(p.At), x.Run, prunedKind)
			return err
		})
		if err != nil {
			return err
		}
	}
	return l.drop(ctx, s, x.Objects)
}

// drop drops tables and views, each in a transaction of its own.
func (l *Ledger) drop(ctx context.Context, s *engine.Session, objects []engine.LedgerObject) error {
	for _, o := range objects {
		what := "TABLE "
		if o.View {
			what = "VIEW "
		}
		err := l.inTx(ctx, s, func(tx *engine.Tx) error {
			_, err := tx.Exec(ctx, "DROP "+what+"IF EXISTS "+l.db.LedgerTable(o.Name))
			return err
		})
		if err != nil {
			return fmt.Errorf("dropping %s: %w", l.db.LedgerTable(o.Name), err)
		}
	}
	return nil
}

// prunings reads of which runs what they had kept is dropped.
func (l *Ledger) prunings(ctx context.Context) (map[int64]*Pruned, error) {
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT run, detail FROM @outcome WHERE kind = ? ORDER BY run, n"), prunedKind)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[int64]*Pruned{}
	for rows.Next() {
		var run int64
		var detail string
		if err := rows.Scan(&run, &detail); err != nil {
			return nil, err
		}
		p := &Pruned{}
		if err := json.Unmarshal([]byte(detail), p); err != nil {
			return nil, fmt.Errorf("run %d: when it was pruned cannot be read: %w", run, err)
		}
		if out[run] == nil {
			out[run] = p
		}
	}
	return out, rows.Err()
}

// Forget drops all that there is of Jugatum: what is left of runs, then the ledger.
func (l *Ledger) Forget(ctx context.Context, s *engine.Session, rooms []Room) error {
	for _, x := range rooms {
		if err := l.drop(ctx, s, x.Objects); err != nil {
			return err
		}
	}
	var own []engine.LedgerObject
	for _, name := range slices.Backward(engine.LedgerTables) { // what says that there is a ledger goes last
		own = append(own, engine.LedgerObject{Name: name})
	}
	if err := l.drop(ctx, s, own); err != nil {
		return err
	}
	remains, err := l.db.LedgerRemains(ctx)
	if err != nil {
		return err
	}
	for _, text := range remains {
		if err := l.inTx(ctx, s, func(tx *engine.Tx) error { _, err := tx.Exec(ctx, text); return err }); err != nil {
			return fmt.Errorf("%s: %w", text, err)
		}
	}
	return nil
}

// Needed says why what a run has kept cannot be dropped yet, "" if it can: it may go on, or is
// being taken back.
func (l *Ledger) Needed(ctx context.Context, r *Run) (string, error) {
	if r.Status == Running {
		return "it is at work, or was killed while it was; `jugatum resume` or `stop` it first", nil
	}
	if r.UndoneBy != 0 {
		u, err := l.Load(ctx, r.UndoneBy)
		if err == nil && u.Status != Done {
			return fmt.Sprintf("it is being taken back by run %d, which is unfinished", u.ID), nil
		}
		return "", err
	}
	if r.Status != Done {
		return fmt.Sprintf("it is %s and could go on; finish it, or take it back, first", r.Status), nil
	}
	return "", nil
}

// Idle gives ErrTaken for a run that another process works on. Where the server has locks for
// that, the session holds this run's then, so that nobody else can begin.
func (l *Ledger) Idle(ctx context.Context, s *engine.Session, r *Run) (locked bool, err error) {
	locker, ok := l.db.(engine.RunLocker)
	if !ok || !locker.HasRunLock() {
		return false, l.Free(r)
	}
	got, err := locker.LockRun(ctx, s, r.ID, 2*time.Second) // a killed process's session may take a moment to end
	if err == nil && !got {
		err = ErrTaken
	}
	return true, err
}

// Excess tells what is to be dropped for a job's limits at the end of one of its runs: of other
// runs, the oldest first. What a run with no end has kept is not among it.
func Excess(rooms []Room, own int64, keep job.Keep, now time.Time) (out []Room) {
	total := int64(0)
	for _, x := range rooms {
		total += max(x.Bytes, 0)
	}
	for _, x := range rooms { // by the runs' numbers, which is their age
		if x.Run == 0 || x.Run == own || x.Ended.IsZero() {
			continue
		}
		old := keep.Days > 0 && now.Sub(x.Ended) >= time.Duration(keep.Days)*24*time.Hour
		if old || keep.Bytes > 0 && total > keep.Bytes {
			out = append(out, x)
			total -= max(x.Bytes, 0)
		}
	}
	return out
}

// Tidy drops what exceeds a job's limits, at the end of one of its runs. Of runs that are still needed,
// or at work, nothing is dropped.
func (l *Ledger) Tidy(ctx context.Context, s *engine.Session, own int64, keep job.Keep) (dropped []Room, err error) {
	if keep == (job.Keep{}) {
		return nil, nil
	}
	rooms, err := l.Rooms(ctx, keep.Bytes > 0)
	if err != nil {
		return nil, err
	}
	for _, x := range Excess(rooms, own, keep, time.Now()) {
		if _, err := l.Idle(ctx, s, &Run{ID: x.Run}); errors.Is(err, ErrTaken) {
			continue
		} else if err != nil {
			return dropped, err
		}
		r, err := l.Load(ctx, x.Run) // now that nobody moves it
		if err != nil {
			return dropped, err
		}
		why, err := l.Needed(ctx, r)
		if err != nil {
			return dropped, err
		}
		if why != "" {
			continue
		}
		if err := l.Prune(ctx, s, x); err != nil {
			return dropped, err
		}
		dropped = append(dropped, x)
	}
	return dropped, nil
}
