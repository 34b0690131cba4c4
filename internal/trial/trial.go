package trial

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/preview"
)

// Options are the limits of a trial.
type Options struct {
	Hold      time.Duration // longest time that a transaction may hold its locks
	Spend     time.Duration // for all trials together
	SpendLog  int64         // bytes of log for all trials together; 0 no limit
	Copy      bool          // on a copy of the table, with commits
	SpendRoom int64         // bytes that the copy may take
	Rounds    int           // at most
	Matched   int64         // rows of the whole table
	Changes   int64         // of these
	Counting  time.Duration // that finding them took

	Told func(done, rounds int, way string) // may be nil
}

// Result is what the trials of one step came to.
type Result struct {
	Rows    int64   `json:"rows"` // of the table
	Matched int64   `json:"matched"`
	Changes int64   `json:"changes"`
	Trials  int     `json:"trials"` // transactions that were rolled back
	Rounds  int     `json:"rounds"`
	Spent   float64 `json:"spent_s"`
	Log     int64   `json:"log_bytes"` // written by the trials, as far as known
	Looks   int64   `json:"looks"`     // at who waits for them
	Copied  int64   `json:"copied"`    // rows of the copy that was changed; 0: the trials were rolled back
	Commit  Commit  `json:"-"`
	Ways    []Tried `json:"ways"`
	Short   string  `json:"short,omitempty"` // why the trials cannot tell much

	Left        string `json:"left,omitempty"`        // that a copy could not be dropped
	Uncommitted string `json:"uncommitted,omitempty"` // why commits could not be measured, and are in no estimate
}

// Tried is what the trials of one way came to.
type Tried struct {
	Way
	Line
	Estimate
	Trials    int
	Rows      int64   // of the largest trial
	LogRow    float64 // bytes for each changed row; -1 unknown
	Records   float64 // likewise
	Images    int64   // full-page images in all its trials; -1 unknown
	Locks     map[string]int
	Temporary int64  // most bytes that a trial wrote to temporary files; -1 unknown
	Waiters   int    // most other sessions that were seen to wait for its trials at once
	Failed    string // why it could not be tried

	tries []try
}

// MarshalJSON gives the names of docs/json.md.
func (t Tried) MarshalJSON() ([]byte, error) {
	return json.Marshal(struct {
		Name      string         `json:"name"`
		Method    string         `json:"method"`
		Workers   int            `json:"workers"`
		Keep      bool           `json:"keep"`
		Yardstick bool           `json:"yardstick"`
		Failed    string         `json:"failed,omitempty"`
		Trials    int            `json:"trials"`
		BatchMS   float64        `json:"fixed_ms"`
		RowUS     float64        `json:"row_us"`
		Varies    float64        `json:"varies"`
		LogRow    float64        `json:"log_bytes_a_row"`
		Records   float64        `json:"log_records_a_row"`
		Images    int64          `json:"full_page_images"`
		Locks     map[string]int `json:"locks,omitempty"`
		Temporary int64          `json:"temporary_bytes"`
		Waiters   int            `json:"others_waiting"`
		Estimate
	}{t.Name(), t.Method, t.Workers, t.Keep, t.Yardstick, t.Failed, t.Trials, engine.MS(t.Batch), float64(t.Row.Nanoseconds()) / 1000, t.Vary, t.LogRow, t.Records, t.Images, t.Locks, t.Temporary, t.Waiters, t.Estimate})
}

// Sizes of trials.
const (
	fewRows  = 200
	mostRows = 10_000
	fewest   = 1000 // rows of the largest trial, below which a trial cannot tell much
	loops    = 200  // rows that are changed one by one
)

// Run tries the ways in turns.
func Run(ctx context.Context, db engine.DB, c *change.Change, ways []Way, o Options) (_ *Result, err error) {
	t := &trial{db: db, c: c, o: o, walk: engine.NewWalk(db, c.Table), begun: time.Now(), out: &Result{Rows: c.Table.Rows, Matched: o.Matched, Changes: o.Changes}}
	end, err := t.walk.End(ctx)
	if err != nil || end == nil {
		return t.out, err
	}
	t.end = end
	t.sessions = make([]*engine.Session, most(ways))
	defer t.disconnect()
	if err := t.connect(ctx); err != nil {
		return nil, err
	}
	for _, w := range ways {
		t.out.Ways = append(t.out.Ways, Tried{Way: w, Images: -1, Temporary: -1})
	}
	if o.Copy {
		done, cerr := t.copied(ctx)
		if cerr != nil {
			return nil, cerr
		}
		defer func() {
			switch left := done(); {
			case left == nil:
			case err == nil:
				t.out.Left = left.Error()
			default:
				err = errors.Join(err, left)
			}
		}()
	} else if t.out.Commit, err = measureCommit(ctx, db, t.sessions[0]); err != nil {
		t.out.Uncommitted = err.Error()
	}
	if err := t.prepare(ctx, ways); err != nil {
		return nil, err
	}
	for t.out.Rounds < max(o.Rounds, 1) && !t.spent() {
		if err := t.round(ctx); err != nil {
			return nil, err
		}
		t.out.Rounds++
	}
	t.settle()
	return t.out, nil
}

// connect makes sessions anew.
func (t *trial) connect(ctx context.Context) (err error) {
	defer func() {
		if err == nil {
			t.others = watch(ctx, t.db, t.sessions)
		}
	}()
	t.disconnect()
	for i := range t.sessions {
		if t.sessions[i], err = t.db.Session(ctx, engine.SessionOptions{Purpose: "jugatum trial", LockTimeout: t.o.Hold}); err != nil {
			return err
		}
	}
	return nil
}

func (t *trial) disconnect() {
	t.others.end()
	_, looks := t.others.since()
	t.out.Looks += int64(looks)
	t.others = nil
	for i, s := range t.sessions {
		if s != nil {
			s.Close()
			t.sessions[i] = nil
		}
	}
}

// most is how many sessions the ways need.
func most(ways []Way) int {
	n := 1
	for _, w := range ways {
		n = max(n, w.Workers)
	}
	return n
}

type trial struct {
	db       engine.DB
	c        *change.Change
	o        Options
	walk     *engine.Walk
	end      change.KeyValue
	begun    time.Time
	sessions []*engine.Session
	starts   []change.KeyValue // keys after which stretches begin, spread over the table
	ordered  []change.KeyValue // the same in the order of the key
	next     int               // of these
	many     int               // rows of a large trial
	real     *source           // of which the table that is changed is a copy; nil: that is the table itself
	lanes    []lane            // of the copy
	records  atomic.Int64      // that stand for those of batches, as far as they stay
	others   *onlooker         // nil where nobody can tell who waits
	out      *Result
}

func (t *trial) spent() bool {
	return t.o.Spend > 0 && time.Since(t.begun) > t.o.Spend || t.o.SpendLog > 0 && t.out.Log > t.o.SpendLog
}

// stretches is how many places of the table are looked at.
const stretches = 64

// prepare spreads the stretches, and finds how many rows a large trial has: as many as keep well
// within the hold. What it does is the warm-up as well.
func (t *trial) prepare(ctx context.Context, ways []Way) error {
	rows := t.c.Table.Rows
	if err := t.walk.Survey(ctx, t.end); err != nil {
		return err
	}
	cuts, err := t.walk.Cut(ctx, nil, t.end, rows, stretches)
	if err != nil {
		return err
	}
	t.ordered = append([]change.KeyValue{nil}, cuts...)
	t.starts = slices.Clone(t.ordered)
	rand.Shuffle(len(t.starts), func(i, j int) { t.starts[i], t.starts[j] = t.starts[j], t.starts[i] })
	t.many = fewRows
	limit := min(mostRows, max(int(rows)/4, fewRows))
	if t.real != nil && t.o.Spend > 0 && t.real.took > t.o.Spend/refills { // of whose rows each is changed once
		sum := 0
		for _, w := range ways {
			sum += w.Workers
		}
		limit = min(limit, max(int(rows)/(max(t.o.Rounds, 1)*sum+4), fewRows))
	}
	for t.many < limit {
		w := Way{Method: "sweep", Workers: 1, Keep: true}
		x, err := t.once(ctx, w, t.many)
		if err != nil && t.db.Fault(err) == engine.Busy { // somebody is in the way: then a smaller one must do
			break
		}
		if err != nil {
			return err
		}
		enough := t.o.Hold / 8
		if t.real != nil { // a commit is in it
			enough = t.o.Hold / 2
		}
		if x.work > enough || x.waiters > 0 { // longer ones would be in somebody's way
			break
		}
		t.many = min(t.many*3, limit)
	}
	return nil
}

// stretch is the next place to be looked at, of about n rows.
func (t *trial) stretch(ctx context.Context, n int) (r change.Range, rows int64, err error) {
	at := t.starts[t.next%len(t.starts)]
	t.next++
	return t.after(ctx, at, n)
}

// after is the stretch of about n rows that follows a key, or the first ones where there are few.
func (t *trial) after(ctx context.Context, at change.KeyValue, n int) (r change.Range, rows int64, err error) {
	if at != nil && at.Encode() == t.end.Encode() {
		at = nil
	}
	r, rows, err = t.walk.Next(ctx, at, t.end, n)
	if err == nil && r.Hi.Encode() == t.end.Encode() && at != nil && rows >= 0 && rows < int64(n)/2 { // the rest of the table alone
		r, rows, err = t.walk.Next(ctx, nil, t.end, n)
	}
	if rows < 0 {
		rows = min(int64(n), t.c.Table.Rows)
	}
	return r, rows, err
}

// round tries each way once with few rows and once with many; the next round begins with another.
func (t *trial) round(ctx context.Context) error {
	n := len(t.out.Ways)
	for i := range n {
		w := &t.out.Ways[(i+t.out.Rounds)%n]
		if w.Failed != "" {
			continue
		}
		if t.o.Told != nil {
			t.o.Told(t.out.Rounds, t.o.Rounds, w.Name())
		}
		for _, rows := range []int{fewRows, t.many} {
			if w.Method == Rowwise {
				rows = loops
			}
			x, err := t.once(ctx, w.Way, rows)
			if err != nil {
				if ctx.Err() != nil {
					return err
				}
				if errors.Is(err, errAllTried) { // by this way, or by so many workers
					break
				}
				switch t.db.Fault(err) {
				case engine.Busy, engine.Data: // somebody is in the way, or a value: one trial fewer
					continue
				}
				w.Failed = err.Error()
				if err := t.connect(ctx); err != nil { // some errors take the connection with them
					return err
				}
				break
			}
			w.tries = append(w.tries, x)
			w.Waiters = max(w.Waiters, x.waiters)
			if w.Method == Rowwise {
				break
			}
		}
		if t.spent() && t.out.Rounds > 0 {
			return nil
		}
	}
	return nil
}

// once is one trial of a way: by several workers beside each other where it has several.
func (t *trial) once(ctx context.Context, w Way, n int) (try, error) {
	tries := make([]try, w.Workers)
	var ranges []change.Range
	var rows []int64
	if w.Workers > 1 { // each far from the others, or it would wait for their locks
		n = min(n, max(int(t.c.Table.Rows)/(2*w.Workers), 1))
	}
	base := rand.IntN(len(t.ordered))
	for i := range w.Workers {
		var r change.Range
		var got int64
		var err error
		switch {
		case t.real != nil:
			r, got, err = t.following(ctx, i, w.Workers, n)
		case w.Workers == 1:
			r, got, err = t.stretch(ctx, n)
		default:
			r, got, err = t.after(ctx, t.ordered[(base+i*len(t.ordered)/w.Workers)%len(t.ordered)], n)
		}
		if err != nil {
			return try{}, err
		}
		if err := t.warm(ctx, r); err != nil {
			return try{}, err
		}
		ranges, rows = append(ranges, r), append(rows, got)
	}
	t.others.since()     // what was seen before is another's
	var g errgroup.Group // none is broken off for another's error: its connection would be lost
	for i := range w.Workers {
		g.Go(func() (err error) {
			tries[i], err = t.one(ctx, i, w, ranges[i], rows[i])
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return try{}, err
	}
	out := tries[0]
	out.waiters, _ = t.others.since()
	if y, ok := t.db.(engine.Yielder); ok && t.real == nil { // a copy's are committed, and have done so
		if err := y.Yield(ctx, t.sessions[0], out.work); err != nil {
			return try{}, err
		}
	}
	for _, x := range tries[1:] { // a row's cost is that of the slowest
		if x.work*time.Duration(max(out.rows, 1)) > out.work*time.Duration(max(x.rows, 1)) {
			out.work, out.ahead, out.rows = x.work, x.ahead, x.rows
		}
		out.changed += x.changed
	}
	t.out.Trials += w.Workers
	if out.logBytes > 0 {
		t.out.Log += int64(out.logBytes * float64(out.changed))
	}
	return out, nil
}

// warm reads a stretch, so that no way is the first to do so.
func (t *trial) warm(ctx context.Context, r change.Range) error {
	q := &change.Query{D: t.c.D}
	q.Add("SELECT count(*) FROM ", t.c.Table.SQL(t.c.D), " AS jugatum_w WHERE 1 = 1").Range("jugatum_w", t.c.Table.Key, r)
	var n int64
	return t.db.Pool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&n)
}

// one is one transaction, of one of several workers.
func (t *trial) one(ctx context.Context, worker int, w Way, r change.Range, rows int64) (try, error) {
	if w.Method == Rowwise || w.Method == "roster" {
		keys, err := t.keys(ctx, r)
		if err != nil {
			return try{}, err
		}
		if w.Method == Rowwise {
			return t.loop(ctx, t.sessions[worker], keys)
		}
		if len(keys) == 0 {
			return untold(), nil
		}
		r, rows = change.Range{Keys: keys}, int64(len(keys))
	}
	if w.Method == Array {
		return t.array(ctx, t.sessions[worker], r, rows)
	}
	a := preview.Attempt{Weighs: true, Keep: w.Keep, Ahead: w.Method != "single", N: worker}
	if t.real != nil {
		a.Commit = t.record
	}
	x, err := preview.Try(ctx, t.db, t.sessions[worker], t.c, a, r)
	if err != nil {
		return try{}, err
	}
	out := try{rows: rows, changed: x.Changed, work: time.Duration(x.WorkMS * float64(time.Millisecond)), ahead: time.Duration(x.AheadMS * float64(time.Millisecond)), logBytes: x.LogRow, records: x.Records, images: x.Log.Images, keptBytes: x.KeptRow, locks: x.Locks, temporary: x.Temporary}
	if x.Log.Scope == "" {
		out.images = -1
	}
	if out.logBytes < 0 && x.Changed > 0 && t.c.Table.RowBytes > 0 { // told at the commit alone: the pages that it writes then
		out.logBytes = pagesWritten(rows, x.Changed, t.c.Table.RowBytes) + max(x.KeptRow, 0)
	}
	return out, nil
}

// keys are those of the rows of a stretch that match, at most as many as are changed one by one.
func (t *trial) keys(ctx context.Context, r change.Range) (out []change.KeyValue, err error) {
	q := &change.Query{D: t.c.D}
	q.With(t.c, false).Add("SELECT ")
	for i, k := range t.c.Table.Key.Columns {
		if i > 0 {
			q.Add(", ")
		}
		q.Add(engine.KeyOut(t.c.D, t.c.Ref, k))
	}
	q.Source(t.c, r)
	rows, err := t.db.JobPool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		k := make(change.KeyValue, len(t.c.Table.Key.Columns))
		into := make([]any, len(k))
		for i := range k {
			into[i] = &k[i]
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		t.walk.Texts(k)
		out = append(out, k)
	}
	return out, rows.Err()
}

// array sends the new values of all rows of a stretch at once.
func (t *trial) array(ctx context.Context, s *engine.Session, r change.Range, rows int64) (try, error) {
	out := untold()
	out.rows = rows
	tx, err := s.Start(ctx)
	if err != nil {
		return out, err
	}
	defer tx.Rollback()
	begun := time.Now()
	e, err := engine.Array(ctx, t.db, tx, t.c, r)
	if err != nil {
		return out, err
	}
	out.work, out.changed = time.Since(begun), e.Changed
	took, err := t.finish(ctx, tx)
	if err != nil {
		return out, err
	}
	out.work += took
	if e.Log.Scope != "" && e.Log.Bytes >= 0 && e.Changed > 0 {
		out.logBytes = float64(e.Log.Bytes) / float64(e.Changed)
	}
	return out, nil
}

// loop changes rows one by one.
func (t *trial) loop(ctx context.Context, s *engine.Session, keys []change.KeyValue) (try, error) {
	out := untold()
	tx, err := s.Start(ctx)
	if err != nil {
		return out, err
	}
	defer tx.Rollback()
	begun := time.Now()
	for _, k := range keys[:min(len(keys), loops)] {
		e, err := engine.Batch(ctx, t.db, tx, t.c, nil, change.Range{At: k}, 0)
		if err != nil {
			return out, err
		}
		out.rows, out.changed = out.rows+1, out.changed+e.Changed
		if time.Since(begun) > t.o.Hold {
			break
		}
	}
	out.work = time.Since(begun)
	took, err := t.finish(ctx, tx)
	out.work += took
	return out, err
}

// settle estimates what each way would take.
func (t *trial) settle() {
	t.out.Spent = time.Since(t.begun).Seconds()
	table := t.c.Table
	if t.real != nil {
		table = t.real.c.Table
	}
	all := whole{rows: table.Rows, matched: t.o.Matched, changes: t.o.Changes, old: t.c.D.Forms().OldVersions && len(t.c.Acts) == 0, rowBytes: table.RowBytes, hold: t.o.Hold, listing: t.o.Counting, commit: t.out.Commit}
	most := int64(0)
	for i := range t.out.Ways {
		w := &t.out.Ways[i]
		if len(w.tries) == 0 {
			if w.Failed == "" {
				w.Failed = "no trial of it came to its end"
			}
			continue
		}
		w.Trials, w.Line = len(w.tries), fit(w.tries)
		w.Estimate = w.estimate(w.Line, w.tries, all)
		w.LogRow, w.Records = known(w.tries, func(x try) float64 { return x.logBytes }), known(w.tries, func(x try) float64 { return x.records })
		for _, x := range w.tries {
			w.Rows = max(w.Rows, x.rows)
			if x.images >= 0 {
				w.Images = max(w.Images, 0) + x.images
			}
			if len(x.locks) > 0 {
				w.Locks = x.locks
			}
			w.Temporary = max(w.Temporary, x.temporary)
		}
		if w.Method == "sweep" {
			most = max(most, w.Rows)
		}
	}
	if most < fewest {
		t.out.Short = fmt.Sprintf("the largest trial had %d rows, too few to tell more than the order of size", most)
	}
}

// By are what ways are put in order by.
var By = []string{"time", "hold", "log", "room"}

// of is the figure of an estimate; unknown ones come last.
func (e Estimate) of(by string) float64 {
	v := map[string]float64{"time": e.Seconds, "hold": e.HoldMS, "log": float64(e.LogBytes), "room": float64(e.Room)}[by]
	if v < 0 {
		return 1e300
	}
	return v
}

// Order puts the ways in order, the cheapest first, those that were not tried last.
func (r *Result) Order(by string) {
	slices.SortStableFunc(r.Ways, func(a, b Tried) int {
		switch x, y := a.of(by), b.of(by); {
		case (a.Failed == "") != (b.Failed == ""):
			if a.Failed == "" {
				return -1
			}
			return 1
		case x < y:
			return -1
		case x > y:
			return 1
		}
		return 0
	})
}
