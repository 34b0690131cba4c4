package runner

import (
	"context"
	"errors"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/sqltext"
)

// restore walks the kept values from the last to the first and puts the old ones
// back where the row still has the new ones. Backwards, every state on the way is
// one that the table has had before, so that what went through once, such as
// unique values that move up by one, goes back as well.
//
// The lane counts how far it has come: number p stands for the kept row UpTo - p.
// Undos of earlier versions went forwards, and go on so.
type restore struct {
	simple
	w       *Work
	heeds   bool // the length of values is looked at, since some may be large
	careful int  // batches to go that are put back row by row, after one failed on its data
}

// rowsOneByOne is how many rows a batch has at most that is put back row by row.
const rowsOneByOne = 500

func (s *restore) begin(ctx context.Context) (change.KeyValue, int64, error) {
	if s.w.UpTo == 0 {
		return nil, 0, nil
	}
	return change.KeyValue{s.w.UpTo}, s.w.Rows, nil
}

func (s *restore) resume(ctx context.Context, end change.KeyValue) error {
	if k, ok := s.k.DB.(engine.KeptReader); ok && end != nil {
		return k.PrepareKept(ctx, s.w.Kept)
	}
	return nil
}

// backwards reports whether the walk begins with the last kept row.
func (s *restore) backwards() bool { return s.k.Run.Options.Backwards }

// seqs gives the numbers of the kept rows that a stretch of the walk stands for:
// after from, up to to.
func (s *restore) seqs(r change.Range) (from, to int64) {
	from, _ = r.Lo.Int()
	to, _ = r.Hi.Int()
	if s.backwards() {
		from, to = s.w.UpTo-to, s.w.UpTo-from
	}
	return from, to
}

// next passes by numbers that no kept row has: each lane of the run numbered
// its own from a base of its own.
func (s *restore) next(ctx context.Context, lane *ledger.Lane, n int) (stretch, error) {
	if s.careful > 0 {
		n = min(n, rowsOneByOne)
	}
	r, err := numbered(lane, n)
	if err != nil {
		return stretch{}, err
	}
	from, _ := r.Lo.Int()
	end, _ := lane.End.Int()
	if s.backwards() {
		last, err := ledger.PreviousKept(ctx, s.k.DB, s.w.Kept, s.w.UpTo-from)
		if err != nil {
			return stretch{}, err
		}
		from = s.w.UpTo - last
	} else if from, err = ledger.NextKept(ctx, s.k.DB, s.w.Kept, from, end); err != nil {
		return stretch{}, err
	}
	r.Hi = change.KeyValue{min(change.AddInt(from, int64(n)), end)}
	if s.k.overshot || s.w.Change.Table.Large {
		s.heeds, s.k.overshot = true, false
	}
	for size := int64(n); s.heeds && size > 1; {
		lo, hi := s.seqs(r)
		heavy, err := engine.Heavy(ctx, s.k.DB, s.w.Kept, lo, hi)
		if err != nil {
			return stretch{}, err
		}
		if !heavy {
			break
		}
		size /= 2
		r.Hi = change.KeyValue{min(change.AddInt(from, size), end)}
	}
	if s.w.Change.ChangesKey() {
		r.Hi = lane.End // rows may take each other's keys; only all at once is safe
	}
	if u, ok := s.k.DB.(engine.Unpacker); ok { // outside of the transaction
		from, to := s.seqs(r)
		if err := u.Unpack(ctx, s.k.session, s.w.Kept, from, to); err != nil {
			return stretch{}, err
		}
	}
	return stretch{Range: r, rows: -1}, nil
}

func (s *restore) batch(ctx context.Context, tx *engine.Tx, r change.Range) (engine.Effect, []ledger.Left, error) {
	from, to := s.seqs(r)
	kept := s.w.Kept
	if u, ok := s.k.DB.(engine.Unpacker); ok {
		kept = u.Unpacked(tx.S, kept, from, to)
	}
	var scanned int64
	count := change.CountKept(s.k.DB.Dialect(), s.w.Kept, from, to)
	if err := tx.S.Conn.QueryRowContext(ctx, count.String(), count.Args...).Scan(&scanned); err != nil {
		return engine.Effect{}, nil, err
	}
	var e engine.Effect
	var refused []ledger.Left
	var err error
	if s.careful > 0 && (scanned <= rowsOneByOne || s.w.Change.ChangesKey()) {
		s.careful--
		e, refused, err = s.rowByRow(ctx, tx, kept, from, to)
	} else {
		e, err = s.back(ctx, tx, kept, from, to)
		if err != nil && s.k.DB.Fault(err) == engine.Data && s.careful == 0 {
			s.careful = carefulFor
			return e, nil, errCareful
		}
	}
	if err != nil {
		return e, nil, err
	}
	e.Kept, e.Scanned, e.Matched = 0, scanned, scanned
	if e.Changed == e.Scanned && !s.interfered() {
		return e, nil, nil
	}
	q := change.Mismatched(s.w.Change, kept, change.AsRestored, change.AsChanged, from, to, int(to-from))
	rows, err := tx.S.Conn.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return e, nil, err
	}
	left, err := ledger.ReadMismatched(rows, s.w.Step.N, kept, change.AsChanged)
	if err == nil {
		err = s.elsewhere(ctx, tx, kept, from, to, left)
	}
	e.Changed = e.Scanned - int64(len(left)) // a row of which a trigger made something else is not put back
	for i := range left {
		for _, x := range refused {
			if x.Seq == left[i].Seq {
				left[i].Found[ledger.RefusedBecause] = x.Found[ledger.RefusedBecause]
			}
		}
	}
	return e, left, err
}

// back puts kept rows back. Those that were moved are taken out of the other table
// again: what is locked there as it was moved comes back, and nothing else.
func (s *restore) back(ctx context.Context, tx *engine.Tx, kept *change.Kept, from, to int64) (engine.Effect, error) {
	c := s.w.Change
	if c.Into == nil {
		return s.k.DB.Measure(ctx, tx, change.Restore(c, kept, from, to))
	}
	var there int64
	hold := change.Hold(c, kept, from, to)
	if err := tx.Scan(ctx, hold.String(), hold.Args, &there); err != nil {
		return engine.Effect{}, err
	}
	e, err := s.k.DB.Measure(ctx, tx, change.Restore(c, kept, from, to))
	if err != nil {
		return e, err
	}
	out, err := s.k.DB.Measure(ctx, tx, change.Withdraw(c, kept, from, to))
	e.Log.Add(out.Log)
	if err == nil && out.Changed < e.Changed && !s.interfered() {
		err = &engine.MovedError{From: c.Into.Table, To: c.Table, Deleted: out.Changed, Came: e.Changed}
	}
	return e, err
}

// elsewhere tells of rows that are left alone since they are not as they were moved
// how they are in the other table.
func (s *restore) elsewhere(ctx context.Context, tx *engine.Tx, kept *change.Kept, from, to int64, left []ledger.Left) error {
	if s.w.Change.Into == nil || len(left) == 0 {
		return nil
	}
	c, landed, state := s.w.Change.Landed(kept, change.AsChanged)
	q := change.Mismatched(c, landed, state, state, from, to, int(to-from))
	rows, err := tx.S.Conn.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return err
	}
	there, err := ledger.ReadMismatched(rows, s.w.Step.N, landed, state)
	for _, x := range there {
		for i := range left {
			if left[i].Seq == x.Seq {
				left[i] = x
				left[i].Table = c.Table.String()
			}
		}
	}
	return err
}

// errCareful says that a batch of an undo failed on its data, and is to be done
// again row by row.
var errCareful = errors.New("a batch could not be put back as a whole")

const (
	// carefulFor is how many batches go row by row after one that could not be put
	// back as a whole: there are probably more to come.
	carefulFor = 20
)

// rowByRow puts rows back one by one, the last first, and leaves those alone that
// the database refuses.
func (s *restore) rowByRow(ctx context.Context, tx *engine.Tx, kept *change.Kept, from, to int64) (engine.Effect, []ledger.Left, error) {
	sum := engine.Effect{Log: engine.NoLog}
	var refused []ledger.Left
	q := change.KeptNumbers(s.k.DB.Dialect(), kept, from, to)
	rows, err := tx.S.Conn.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return sum, nil, err
	}
	var list []int64
	for rows.Next() {
		var seq int64
		if err := rows.Scan(&seq); err != nil {
			rows.Close()
			return sum, nil, err
		}
		list = append(list, seq)
	}
	rows.Close()
	if err := rows.Err(); err != nil {
		return sum, nil, err
	}
	for _, seq := range list {
		if _, err := tx.Exec(ctx, "SAVEPOINT jugatum_row"); err != nil {
			return sum, nil, err
		}
		e, err := s.back(ctx, tx, kept, seq-1, seq)
		switch {
		case err != nil && s.k.DB.Fault(err) == engine.Data:
			refused = append(refused, ledger.Left{Seq: seq, Found: map[string]string{ledger.RefusedBecause: err.Error()}})
			if _, err := tx.Exec(ctx, "ROLLBACK TO SAVEPOINT jugatum_row"); err != nil {
				return sum, nil, err
			}
			continue
		case err != nil:
			return sum, nil, err
		}
		if _, err := tx.Exec(ctx, "RELEASE SAVEPOINT jugatum_row"); err != nil {
			return sum, nil, err
		}
		sum.Changed += e.Changed
		if sum.Log.Scope == "" {
			sum.Log = e.Log
		} else {
			sum.Log.Add(e.Log)
		}
	}
	return sum, refused, nil
}

// interfered reports whether a trigger may make other values of those put back.
func (s *restore) interfered() bool {
	c := s.w.Change
	for _, t := range c.Table.Triggers {
		if c.Verb == sqltext.Update && t.Update || c.Verb == sqltext.Delete && t.Insert {
			return true
		}
	}
	return false
}

func (s *restore) fork(k *worker) way { return &restore{simple: simple{k}, w: s.w} }
