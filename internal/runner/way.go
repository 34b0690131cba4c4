package runner

import (
	"context"
	"fmt"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
)

// way is a method of carrying out a step: where it ends, which rows come next,
// and how a batch of them is changed.
type way interface {
	// begin fixes the end of the walk; nil if there is nothing to do. rows is
	// how many it will go over, perhaps estimated.
	begin(ctx context.Context) (end change.KeyValue, rows int64, err error)
	// resume prepares to go on towards an end that was fixed earlier.
	resume(ctx context.Context, end change.KeyValue) error
	// next gives the stretch of about n rows that follows the lane's checkpoint.
	next(ctx context.Context, lane *ledger.Lane, n int) (stretch, error)
	// batch changes the rows of a range.
	batch(ctx context.Context, tx *engine.Tx, r change.Range) (engine.Effect, []ledger.Left, error)
	// turn gives the session for the next batch, and whether its commit may be left
	// under way while the batch after it changes its rows.
	turn(ctx context.Context) (s *engine.Session, overlaps bool)
	// once is true if the first batch is the whole step.
	once() bool
	// cut gives keys that part what is left of a lane, about so many rows, into n
	// about equal parts; none if it cannot be cut.
	cut(ctx context.Context, lane *ledger.Lane, rows int64, n int) ([]change.KeyValue, error)
	// fork is the same way for another worker, after resume.
	fork(k *worker) way
	// rest gives up what was begun ahead, before a pause; end clears up at the end
	// of a lane; drop what is not needed once the step is done.
	rest()
	end()
	drop(ctx context.Context)
}

// stretch is what the next batch is to go over. Its Hi is set.
type stretch struct {
	change.Range
	rows    int64           // that it holds, -1 if they were not counted
	most    int             // that it may hold, 0 unknown
	outlook *engine.Outlook // what was read of it ahead of its turn; nil without
	late    bool            // the checkpoint moves after the change, which may end the transaction
}

// simple is what most ways have in common: nothing is begun ahead, nothing is
// left behind, and there are many batches, by one worker, on its session.
type simple struct{ k *worker }

func (x simple) turn(context.Context) (*engine.Session, bool) { return x.k.session, false }

func (simple) rest()                {}
func (simple) end()                 {}
func (simple) drop(context.Context) {}
func (simple) once() bool           { return false }
func (simple) cut(context.Context, *ledger.Lane, int64, int) ([]change.KeyValue, error) {
	return nil, nil
}

func finished(lane *ledger.Lane, w way) bool {
	return lane.AtEnd() || w.once() && lane.Batches > 0
}

func (k *worker) method(w *Work) way {
	switch {
	case w.Undo:
		return &restore{simple: simple{k}, w: w}
	case w.Change.Call != nil:
		return &calls{simple{k}, w, engine.NewWalk(k.DB, w.Change.Table)}
	case w.Step.Method == "single":
		return &single{simple{k}, w}
	case w.Step.Method == "roster" && w.Change.Merge != nil:
		return &groups{roster{simple{k}, w, w.Change.Merge.Roster()}}
	case w.Step.Method == "roster":
		return &roster{simple{k}, w, k.Ledger.Roster(k.Run.ID, w.Step, w.Change)}
	}
	return &sweep{simple: simple{k}, w: w, walk: engine.NewWalk(k.DB, w.Change.Walked())}
}

// sweep walks the table in key order. Where reading beside a batch is free, the
// next range is looked for while the batch before it is under way; and where the
// engine can, its rows are read then, too; if that takes the transaction that is
// to change them, it is on one of two further sessions by turns. Where others are
// not to wait, none of this is done.
type sweep struct {
	simple
	w     *Work
	walk  *engine.Walk
	size  int // rows asked for last
	ahead *ahead
	hands [2]*engine.Session // nil as long as they are not wanted
}

// ahead is a stretch that is being looked for before it is needed.
type ahead struct {
	stretch
	lo   string // the checkpoint it follows
	base int64  // and the number of the last kept row; -1 not known
	n    int    // rows asked for
	err  error
	done chan struct{}
}

func (s *sweep) begin(ctx context.Context) (change.KeyValue, int64, error) {
	if s.w.Change.Table.Large {
		s.walk.Heed(s.w.Change)
	}
	end, err := s.walk.End(ctx)
	return end, s.w.Change.Walked().Rows, err
}

func (s *sweep) resume(ctx context.Context, end change.KeyValue) error {
	if s.w.Change.Table.Large {
		s.walk.Heed(s.w.Change)
	}
	return s.walk.Survey(ctx, end)
}

func (s *sweep) next(ctx context.Context, lane *ledger.Lane, n int) (stretch, error) {
	s.size = n
	if s.k.overshot {
		s.k.overshot = false
		s.walk.Heed(s.w.Change)
		s.rest()
	}
	if a := s.ahead; a != nil {
		<-a.done
		// Somewhat more rows than wanted are still within the hold target, which
		// batches do not aim to fill; fewer cost a little.
		if a.err == nil && lane.Checkpoint != nil && a.lo == lane.Checkpoint.Encode() && (a.base < 0 || a.base == lane.Kept) && a.n <= n+n/8 && a.n >= n/4 {
			s.ahead = nil
			a.most = a.n
			return a.stretch, nil
		}
		s.rest()
	}
	x := stretch{most: n}
	var err error
	x.Range, x.rows, err = s.walk.Next(ctx, lane.Checkpoint, lane.End, n)
	return x, err
}

// hand is a session of ours other than the one that is busy.
func (s *sweep) hand(busy *engine.Session) **engine.Session {
	if busy != nil && s.hands[0] == busy {
		return &s.hands[1]
	}
	return &s.hands[0]
}

// turn takes the two sessions by turns where commits may overlap: if nobody else
// works on the step (several workers' commits overlap already), and it does not
// matter to the change whether the batch before it can be seen.
func (s *sweep) turn(ctx context.Context) (*engine.Session, bool) {
	o, ok := s.k.DB.(engine.CommitOverlapper)
	if !ok || s.w.Compound != nil || !s.k.lead || s.k.gentle() || !o.OverlapsCommit(s.w.Change) {
		return s.simple.turn(ctx)
	}
	var busy *engine.Session
	if s.k.flight != nil {
		busy = s.k.flight.tx.S
	}
	hand := s.hand(busy)
	if *hand == nil {
		fresh, err := s.k.dial(ctx)
		if err != nil { // the batch itself will meet what is wrong
			return s.simple.turn(ctx)
		}
		*hand = fresh
	}
	return *hand, true
}

// look begins to look for the stretch after r, and to read its rows if the
// engine foresees; tx is the batch under way.
func (s *sweep) look(ctx context.Context, r change.Range, tx *engine.Tx) {
	if s.k.gentle() {
		return
	}
	foresees := s.w.Compound == nil && engine.Foresees(s.k.DB, s.w.Change, s.w.Kept)
	end := s.k.lane.End
	if !s.k.DB.Overlaps() || s.walk.Free() && !foresees || s.ahead != nil || r.Hi.Encode() == end.Encode() {
		return
	}
	a := &ahead{lo: r.Hi.Encode(), base: -1, n: s.size, done: make(chan struct{})}
	var sight engine.Foresight
	if foresees {
		var err error
		sight, err = engine.Look(ctx, s.k.DB, tx)
		foresees = err == nil // else the batch itself will meet what is wrong
	}
	if tx.Foreseen >= 0 {
		a.base = s.k.lane.Kept + tx.Foreseen
	}
	s.ahead = a
	hand := s.hand(tx.S)
	var free <-chan struct{} // nil: it is
	if f := s.k.flight; f != nil && f.tx.S == *hand {
		free = f.done
	}
	go func() {
		defer close(a.done)
		a.Range, a.rows, a.err = s.walk.Next(ctx, r.Hi, end, a.n)
		if a.err == nil && foresees {
			if free != nil {
				<-free
			}
			s.foresee(ctx, sight, hand, a)
		}
	}()
}

// foresee reads the rows of the stretch ahead. Whatever is in the way of that,
// the batch itself will meet, so nothing is told here.
func (s *sweep) foresee(ctx context.Context, sight engine.Foresight, hand **engine.Session, a *ahead) {
	if *hand == nil && engine.NeedsSecondSession(s.k.DB) {
		fresh, err := s.k.dial(ctx)
		if err != nil {
			return
		}
		*hand = fresh
	}
	var err error
	if a.outlook, err = sight.Foresee(ctx, s.k.DB, *hand, s.w.Change, s.w.Kept, a.Range, a.base); err != nil {
		a.outlook = nil
		if *hand != nil {
			s.k.hangUp(*hand)
			*hand = nil
		}
	}
}

func (s *sweep) batch(ctx context.Context, tx *engine.Tx, r change.Range) (engine.Effect, []ledger.Left, error) {
	s.look(ctx, r, tx)
	e, err := s.k.carry(ctx, tx, s.w, r)
	return e, nil, err
}

// carry changes the rows of a range, and with them those of the step's acts.
func (k *worker) carry(ctx context.Context, tx *engine.Tx, w *Work, r change.Range) (engine.Effect, error) {
	if w.Unready != nil {
		return engine.Effect{}, w.Unready
	}
	if w.Change.Call != nil {
		return k.call(ctx, tx, w, r)
	}
	if w.Compound != nil {
		return engine.Carry(ctx, k.DB, tx, w.Compound, w.Kept, r, k.lane.Kept)
	}
	if q := change.MarkInserted(w.Change, r); q != nil {
		if _, err := tx.S.Conn.ExecContext(ctx, q.String(), q.Args...); err != nil {
			return engine.Effect{}, err
		}
	}
	return engine.Batch(ctx, k.DB, tx, w.Change, w.Kept, r, k.lane.Kept)
}

func (s *sweep) cut(ctx context.Context, lane *ledger.Lane, rows int64, n int) ([]change.KeyValue, error) {
	return s.walk.Cut(ctx, lane.Checkpoint, lane.End, rows, n)
}

func (s *sweep) fork(k *worker) way { return &sweep{simple: simple{k}, w: s.w, walk: s.walk} }

func (s *sweep) rest() {
	if s.ahead == nil {
		return
	}
	<-s.ahead.done
	s.ahead.outlook.Drop()
	s.ahead = nil
}

func (s *sweep) end() {
	s.rest()
	for i, hand := range s.hands {
		if hand != nil {
			s.k.hangUp(hand)
			s.hands[i] = nil
		}
	}
}

// single is the whole step as one statement in one transaction.
type single struct {
	simple
	w *Work
}

func (s *single) begin(context.Context) (change.KeyValue, int64, error) {
	return change.KeyValue{}, s.w.Change.Table.Rows, nil
}

func (s *single) resume(context.Context, change.KeyValue) error { return nil }

func (s *single) next(context.Context, *ledger.Lane, int) (stretch, error) {
	return stretch{Range: change.Range{Hi: change.KeyValue{}}, rows: -1}, nil
}

func (s *single) batch(ctx context.Context, tx *engine.Tx, _ change.Range) (engine.Effect, []ledger.Left, error) {
	e, err := s.k.carry(ctx, tx, s.w, change.Range{})
	return e, nil, err
}

func (s *single) once() bool { return true }

func (s *single) fork(k *worker) way { return &single{simple{k}, s.w} }

// roster first stages the keys of the rows to change, in one look at the table,
// and then works through that list. The filter is asked again in every batch,
// so a row that somebody changed since, and that no longer matches, stays.
type roster struct {
	simple
	w    *Work
	keys *change.Kept
}

func (s *roster) begin(ctx context.Context) (change.KeyValue, int64, error) {
	ours := func(ctx context.Context, do func(*engine.Tx) error) error { // else another process may go by it
		return s.k.Ledger.Ours(ctx, s.k.session, s.k.Run, do)
	}
	err := ours(ctx, func(tx *engine.Tx) error {
		texts := append([]string{"DROP TABLE IF EXISTS " + s.keys.Table}, s.k.DB.KeptTable(s.keys)...)
		for _, text := range texts { // one of an earlier try may be there
			if _, err := tx.Exec(ctx, text); err != nil {
				return fmt.Errorf("making the roster: %w", err)
			}
		}
		return nil
	})
	if err != nil {
		return nil, 0, err
	}
	as := func(table string) *change.Kept {
		keys := *s.keys
		keys.Table = table
		return &keys
	}
	beside := engine.Temporary(s.k.DB, fmt.Sprintf("roster_%d", s.w.Step.N))
	g := engine.Gathering{Into: s.keys.Table, Columns: s.keys.Numbered(s.k.DB.Dialect()), Beside: beside, Make: s.k.DB.KeptTable(as(beside)), Within: ours,
		Find: func(into string) *change.Query { return change.Enrol(s.w.Change, as(into)) }}
	n, err := g.Gather(ctx, s.k.DB, s.k.session)
	if err != nil {
		return nil, 0, fmt.Errorf("listing the rows to change: %w", err)
	}
	if n == 0 {
		return nil, 0, nil
	}
	return change.KeyValue{n}, n, nil
}

func (s *roster) resume(ctx context.Context, end change.KeyValue) error {
	if k, ok := s.k.DB.(engine.KeptReader); ok && end != nil {
		return k.PrepareKept(ctx, s.keys)
	}
	return nil
}

func (s *roster) next(_ context.Context, lane *ledger.Lane, n int) (stretch, error) {
	r, err := numbered(lane, n)
	r.Roster = s.keys
	return stretch{Range: r, rows: -1}, err
}

func (s *roster) batch(ctx context.Context, tx *engine.Tx, r change.Range) (engine.Effect, []ledger.Left, error) {
	e, err := s.k.carry(ctx, tx, s.w, r)
	from, _ := r.Lo.Int()
	to, _ := r.Hi.Int()
	e.Scanned = to - from
	return e, nil, err
}

// cut parts the list by its numbers.
func (s *roster) cut(_ context.Context, lane *ledger.Lane, _ int64, n int) ([]change.KeyValue, error) {
	from, _ := lane.Checkpoint.Int() // 0 without one
	to, _ := lane.End.Int()
	return engine.CutInt(from, to, n), nil
}

func (s *roster) fork(k *worker) way { return &roster{simple{k}, s.w, s.keys} }

func (s *roster) drop(ctx context.Context) { s.k.discard(ctx, s.keys.Table) }

// groups goes through the rows that go in a merge, which are listed before the run is recorded. A
// group is in one batch unless it is larger than one.
type groups struct{ roster }

func (s *groups) begin(context.Context) (change.KeyValue, int64, error) {
	n := s.w.Change.Merge.List.Lines
	if n == 0 {
		return nil, 0, nil
	}
	return change.KeyValue{n}, n, nil
}

// next has a stretch end where a group does: before the last one that it holds a part of, unless that
// is all it holds.
func (s *groups) next(ctx context.Context, lane *ledger.Lane, n int) (stretch, error) {
	x, err := s.roster.next(ctx, lane, n)
	if err != nil {
		return x, err
	}
	from, _ := x.Lo.Int()
	to, _ := x.Hi.Int()
	if to < from+int64(n) { // the lane ends here
		return x, nil
	}
	var first, more int64
	q := s.w.Change.Merge.GroupAt(s.k.DB.Dialect(), to)
	if err := s.k.DB.Pool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&first, &more); err != nil {
		return x, fmt.Errorf("the group of row %d of %s: %w", to, s.keys.Table, err)
	}
	if more > 0 && first > from+1 {
		x.Hi = change.KeyValue{first - 1}
	}
	return x, nil
}

func (s *groups) fork(k *worker) way { return &groups{roster{simple{k}, s.w, s.keys}} }

// drop leaves the list: it is of the run's record.
func (s *groups) drop(context.Context) {}

// numbered is the stretch of about n rows after the checkpoint where rows have numbers.
func numbered(lane *ledger.Lane, n int) (change.Range, error) {
	from := int64(0)
	if lane.Checkpoint != nil {
		from, _ = lane.Checkpoint.Int()
	}
	end, ok := lane.End.Int()
	if !ok {
		return change.Range{}, fmt.Errorf("the end of the list, %s, is not a number", lane.End)
	}
	return change.Range{Lo: change.KeyValue{from}, Hi: change.KeyValue{min(change.AddInt(from, int64(n)), end)}}, nil
}
