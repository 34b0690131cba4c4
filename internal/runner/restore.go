package runner

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"

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

// part is one of the changes that a step's batches were made of.
type part struct {
	c    *change.Change
	kept *change.Kept
	act  int   // which act it is; -1: the step's own change
	rows int64 // that are kept in the stretch at hand
	done int64 // and that were put back

	repeats bool // several of them may be of one row
}

// parts are they in the order in which they are put back: the last first.
func (s *restore) parts() []part {
	out := []part{{c: s.w.Change, kept: s.w.Kept, act: -1}}
	for i := len(s.w.Acts) - 1; i >= 0; i-- {
		a := s.w.Acts[i]
		x := part{c: a.Change, kept: a.Kept, act: i, repeats: s.w.Repeats(a.Change)}
		if x.repeats {
			out = append([]part{x}, out...)
		} else {
			out = append(out, x)
		}
	}
	return out
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
		for _, p := range s.parts() {
			if err := k.PrepareKept(ctx, p.kept); err != nil {
				return err
			}
		}
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
		last := int64(0)
		for _, p := range s.parts() {
			n, err := ledger.PreviousKept(ctx, s.k.DB, p.kept, s.w.UpTo-from)
			if err != nil {
				return stretch{}, err
			}
			last = max(last, n)
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
		heavy := false
		for _, p := range s.parts() {
			one, err := engine.Heavy(ctx, s.k.DB, p.kept, lo, hi)
			if err != nil {
				return stretch{}, err
			}
			heavy = heavy || one
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
	for _, p := range s.parts() { // of a row that was changed twice, the later change is put back in a batch before
		if !p.repeats || !s.backwards() {
			continue
		}
		lo, hi := s.seqs(r)
		n, err := ledger.Repeated(ctx, s.k.DB, p.kept, lo, hi)
		if err != nil {
			return stretch{}, err
		}
		if n > lo {
			r.Hi = change.KeyValue{s.w.UpTo - n}
		}
	}
	if u, ok := s.k.DB.(engine.Unpacker); ok { // outside of the transaction
		from, to := s.seqs(r)
		for _, p := range s.parts() {
			if err := u.Unpack(ctx, s.k.session, p.kept, from, to); err != nil {
				return stretch{}, err
			}
		}
	}
	return stretch{Range: r, rows: -1}, nil
}

func (s *restore) batch(ctx context.Context, tx *engine.Tx, r change.Range) (engine.Effect, []ledger.Left, error) {
	from, to := s.seqs(r)
	parts := s.parts()
	var scanned int64
	keyed := false
	for i := range parts {
		p := &parts[i]
		count := change.CountKept(s.k.DB.Dialect(), p.kept, from, to)
		if err := tx.S.Conn.QueryRowContext(ctx, count.String(), count.Args...).Scan(&p.rows); err != nil {
			return engine.Effect{}, nil, err
		}
		scanned += p.rows
		keyed = keyed || p.c.ChangesKey()
		if u, ok := s.k.DB.(engine.Unpacker); ok {
			p.kept = u.Unpacked(tx.S, p.kept, from, to)
		}
	}
	sum := engine.Effect{Scanned: scanned, Matched: scanned, Log: engine.NoLog, Acts: make([]int64, len(s.w.Acts))}
	var refused, left []ledger.Left
	byRow := s.careful > 0 && (scanned <= rowsOneByOne || keyed)
	var err error
	if byRow {
		s.careful--
		refused, err = s.rowByRow(ctx, tx, parts, from, to, &sum)
	} else {
		for i := 0; i < len(parts) && err == nil; i++ {
			if parts[i].rows == 0 {
				continue
			}
			var e engine.Effect
			if e, err = s.back(ctx, tx, parts[i], from, to); err == nil {
				parts[i].done = e.Changed
				sum.AddLog(e.Log)
			}
		}
		if err != nil && s.k.DB.Fault(err) == engine.Data && s.careful == 0 {
			s.careful = carefulFor
			return sum, nil, errCareful
		}
	}
	if err != nil {
		return sum, nil, err
	}
	for i := range parts {
		p := &parts[i]
		skipped, err := s.skipped(ctx, tx, p, from, to)
		if err != nil {
			return sum, nil, err
		}
		left = append(left, skipped...)
		if p.act < 0 {
			sum.Changed = p.done
		} else {
			sum.Acts[p.act] = p.done
		}
	}
	for i := range left {
		for _, x := range refused {
			if x.Seq == left[i].Seq {
				left[i].Found[ledger.RefusedBecause] = x.Found[ledger.RefusedBecause]
			}
		}
	}
	return sum, left, nil
}

// skipped gives the rows of a part that were not put back, and counts those that were.
func (s *restore) skipped(ctx context.Context, tx *engine.Tx, p *part, from, to int64) ([]ledger.Left, error) {
	if p.rows == 0 || p.done == p.rows && !interfered(p.c) {
		return nil, nil
	}
	c, kept, state, shown := p.c, p.kept, change.AsRestored, change.AsChanged
	if c.Verb == sqltext.Insert { // the rows are to be gone from the other table
		c, kept, state = c.Landed(kept, change.AsRestored)
		shown = state
	}
	q := change.Mismatched(c, kept, state, shown, from, to, int(to-from))
	rows, err := tx.S.Conn.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return nil, err
	}
	left, err := ledger.ReadMismatched(rows, s.w.Step.N, kept, shown)
	if err == nil && p.c.Verb != sqltext.Insert {
		err = s.elsewhere(ctx, tx, *p, from, to, left)
	}
	if err == nil && len(left) > 0 && p.c.Into != nil {
		err = since(ctx, tx, p, from, to, left)
	}
	for i := range left {
		if p.act >= 0 || p.c.Verb == sqltext.Insert {
			left[i].Table = c.Table.String()
		}
	}
	p.done = p.rows - int64(len(left)) // a row of which a trigger made something else is not put back
	return left, err
}

// back puts kept rows back. Rows of another table to which others refer are taken out of it
// after those, where they came with them.
func (s *restore) back(ctx context.Context, tx *engine.Tx, p part, from, to int64) (engine.Effect, error) {
	if p.c.Into == nil {
		return s.k.DB.Measure(ctx, tx, change.Restore(p.c, p.kept, from, to))
	}
	takes, within := p.c.Into.Takes()
	sum, err := s.takeOut(ctx, tx, p, takes, from, to)
	for n := sum.Changed; within && err == nil && n > 0; {
		var e engine.Effect
		e, err = s.takeOut(ctx, tx, p, takes, from, to)
		n = e.Changed
		sum.Changed += n
		sum.Log.Add(e.Log)
	}
	return sum, err
}

// takeOut takes rows out of the other table again that were put there; those that were moved come
// back. What is locked there as it came, is: nobody can come to refer to it then, and nothing else is
// taken.
func (s *restore) takeOut(ctx context.Context, tx *engine.Tx, p part, takes bool, from, to int64) (engine.Effect, error) {
	c, kept := p.c, p.kept
	if takes || c.Verb != sqltext.Insert {
		var there int64
		hold := change.Hold(c, kept, from, to)
		if err := tx.Scan(ctx, hold.String(), hold.Args, &there); err != nil {
			return engine.Effect{}, err
		}
	}
	if c.Verb == sqltext.Insert {
		return s.k.DB.Measure(ctx, tx, change.Uncopy(c, kept, from, to))
	}
	e, err := s.k.DB.Measure(ctx, tx, change.Restore(c, kept, from, to))
	if err != nil {
		return e, err
	}
	out, err := s.k.DB.Measure(ctx, tx, change.Withdraw(c, kept, from, to))
	e.Log.Add(out.Log)
	if err == nil && out.Changed < e.Changed && !interfered(c) {
		err = &engine.MovedError{From: c.Into.Table, To: c.Table, Deleted: out.Changed, Came: e.Changed}
	}
	return e, err
}

// elsewhere tells of rows that are left alone since they are not as they were moved
// how they are in the other table.
func (s *restore) elsewhere(ctx context.Context, tx *engine.Tx, p part, from, to int64, left []ledger.Left) error {
	if p.c.Into == nil || len(left) == 0 {
		return nil
	}
	c, landed, state := p.c.Landed(p.kept, change.AsChanged)
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

// since tells of rows that were left in the other table what somebody has done with them besides.
func since(ctx context.Context, tx *engine.Tx, p *part, from, to int64, left []ledger.Left) error {
	q, columns, refs := change.Since(p.c, p.kept, from, to)
	if q == nil {
		return nil
	}
	rows, err := tx.S.Conn.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	at := map[int64]int{}
	for i, x := range left {
		at[x.Seq] = i
	}
	for rows.Next() {
		var seq int64
		texts := make([]sql.NullString, 2*len(columns)+len(refs))
		into := []any{&seq}
		for i := range texts {
			into = append(into, &texts[i])
		}
		if err := rows.Scan(into...); err != nil {
			return err
		}
		i, ok := at[seq]
		done := false // anything
		for n, text := range texts {
			done = done || text.Valid && (n >= 2*len(columns) || n%2 == 1)
		}
		if !ok || !done {
			continue
		}
		if x := &left[i]; x.Gone { // from its own table, and still in the other
			x.Gone, x.Expected, x.Found, x.Table = false, map[string]string{}, map[string]string{}, p.c.Into.Table.String()
		}
		for n, c := range columns {
			if was, is := texts[2*n], texts[2*n+1]; is.Valid {
				left[i].Expected[c.Name], left[i].Found[c.Name] = ledger.Shown(was), is.String
			}
		}
		for n, fk := range refs {
			if texts[2*len(columns)+n].Valid {
				left[i].Found[ledger.RefusedBecause] = "rows of " + fk.From() + " refer to it (" + strings.ToLower("ON DELETE "+fk.OnDelete) + ")"
			}
		}
	}
	return rows.Err()
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
func (s *restore) rowByRow(ctx context.Context, tx *engine.Tx, parts []part, from, to int64, sum *engine.Effect) (refused []ledger.Left, err error) {
	type row struct {
		seq  int64
		part int
	}
	var list []row
	for i, p := range parts {
		q := change.KeptNumbers(s.k.DB.Dialect(), p.kept, from, to)
		rows, err := tx.S.Conn.QueryContext(ctx, q.String(), q.Args...)
		if err != nil {
			return nil, err
		}
		for rows.Next() {
			x := row{part: i}
			if err := rows.Scan(&x.seq); err != nil {
				rows.Close()
				return nil, err
			}
			list = append(list, x)
		}
		rows.Close()
		if err := rows.Err(); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(list, func(a, b row) int { return cmp.Compare(b.seq, a.seq) })
	for _, x := range list {
		if _, err := tx.Exec(ctx, "SAVEPOINT jugatum_row"); err != nil {
			return nil, err
		}
		e, err := s.back(ctx, tx, parts[x.part], x.seq-1, x.seq)
		switch {
		case err != nil && s.k.DB.Fault(err) == engine.Data:
			refused = append(refused, ledger.Left{Seq: x.seq, Found: map[string]string{ledger.RefusedBecause: err.Error()}})
			if _, err := tx.Exec(ctx, "ROLLBACK TO SAVEPOINT jugatum_row"); err != nil {
				return nil, err
			}
			continue
		case err != nil:
			return nil, err
		}
		if _, err := tx.Exec(ctx, "RELEASE SAVEPOINT jugatum_row"); err != nil {
			return nil, err
		}
		parts[x.part].done += e.Changed
		sum.AddLog(e.Log)
	}
	return refused, nil
}

// interfered reports whether a trigger may make other values of those put back.
func interfered(c *change.Change) bool {
	if c.Verb == sqltext.Insert {
		return slices.ContainsFunc(c.Into.Table.Triggers, func(t change.Trigger) bool { return t.Delete })
	}
	for _, t := range c.Table.Triggers {
		if c.Verb == sqltext.Update && t.Update || c.Verb == sqltext.Delete && t.Insert {
			return true
		}
	}
	return false
}

func (s *restore) fork(k *worker) way { return &restore{simple: simple{k}, w: s.w} }
