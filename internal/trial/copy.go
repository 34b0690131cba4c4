package trial

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
	"jugatum/internal/term"
)

// scratchCopy is the table that trials with commits change.
const scratchCopy = "trial_copy"

// lockWait is for how long another trial's session may take to end after a kill.
const lockWait = 10 * time.Second

// errAllTried says that every row of the copy was tried.
var errAllTried = errors.New("every row of the copy was tried")

// Refusal is why there are no trials on a copy.
type Refusal string

func (r Refusal) Error() string { return string(r) }

// Uncopiable says why a change cannot be tried on a copy of its table, "" if it can.
func Uncopiable(c *change.Change) string {
	for _, x := range c.Table.Triggers {
		if c.Verb == sqltext.Update && x.Update || c.Verb == sqltext.Delete && x.Delete {
			return fmt.Sprintf("trigger %s of %s would fire, and what it writes to other tables would stay there", x.Name, c.Table)
		}
	}
	switch {
	case len(c.Acts) > 0:
		return "rows of other tables go along with its own, which a copy has not"
	case c.Table.Key.Hidden:
		return c.Table.String() + " has no key of its own, and the rows of a copy have other numbers"
	}
	_, why := c.On(c.Table)
	return why
}

// source is the table of which another is a copy, and how that is made.
type source struct {
	c      *change.Change
	walk   *engine.Walk
	end    change.KeyValue
	name   string   // of the copy, as SQL text
	making []string // statements that make it
	took   time.Duration
}

// copied makes the copy, and has the trials go over that. done drops it.
func (t *trial) copied(ctx context.Context) (done func() error, err error) {
	if why := Uncopiable(t.c); why != "" {
		return nil, Refusal(fmt.Sprintf("a copy of %s is of no use: %s; leave out --copy, and it is tried and rolled back", t.c.Table, why))
	}
	db, s := t.db, t.sessions[0]
	from := &source{c: t.c, walk: t.walk, end: t.end, name: db.LedgerTable(scratchCopy)}
	if l, ok := db.(engine.RunLocker); ok && l.HasRunLock() { // of a number that no run has
		got, err := l.LockRun(ctx, s, 0, lockWait)
		if err != nil {
			return nil, err
		}
		if !got {
			return nil, Refusal("another trial is at work on a copy in this database: try again when it is done")
		}
	}
	if from.making, err = db.CopyTable(ctx, t.c.Table, from.name); err != nil {
		return nil, err
	}
	dropped := []string{"DROP TABLE IF EXISTS " + db.LedgerTable(scratch)}
	if err := apart(ctx, s, append(dropped, recordTable(db)...)); err != nil { // what a kill has left goes first
		return nil, fmt.Errorf("making a table that stands for the record of batches: %w", err)
	}
	done = func() error {
		ctx := context.WithoutCancel(ctx)
		texts := append(dropped, "DROP TABLE IF EXISTS "+from.name)
		err := apart(ctx, t.sessions[0], texts)
		if err != nil { // a statement that was broken off has taken the connection with it
			var again *engine.Session
			if again, err = db.Session(ctx, engine.SessionOptions{Purpose: "jugatum trial", LockTimeout: lockWait}); err == nil {
				defer again.Close()
				err = apart(ctx, again, texts)
			}
		}
		if err != nil {
			return fmt.Errorf("%s, a copy of %s, is left and can be dropped: %w", from.name, from.c.Table, err)
		}
		return nil
	}
	t.real = from
	if err = t.fill(ctx); err != nil {
		return nil, errors.Join(err, done())
	}
	own := *from.c.Table
	own.Schema, own.Name = named(db, from.name)
	own.Bytes = int64(float64(own.Bytes) * float64(t.out.Copied) / float64(max(own.Rows, 1)))
	own.Rows, own.Estimated = t.out.Copied, false
	own.Triggers, own.ReferredBy, own.Heirs, own.Alone, own.Tree, own.Partitioned = nil, nil, nil, false, 0, false
	t.c, _ = from.c.On(&own)
	t.walk = engine.NewWalk(db, t.c.Table)
	if t.end, err = t.walk.End(ctx); err == nil && t.end == nil {
		err = fmt.Errorf("%s has no rows to be copied", from.c.Table)
	}
	if err == nil {
		err = t.divide(ctx)
	}
	if err != nil {
		return nil, errors.Join(err, done())
	}
	return done, nil
}

// fill makes the copy: of all rows or, where they take more room than may be spent, of some from many
// places. Each part is a transaction of its own, which locks none of the rows that it reads.
func (t *trial) fill(ctx context.Context) error {
	from, s, begun := t.real, t.sessions[0], time.Now()
	if err := apart(ctx, s, append([]string{"DROP TABLE IF EXISTS " + from.name}, from.making...)); err != nil {
		return fmt.Errorf("making a copy of %s: %w", from.c.Table, err)
	}
	t.out.Copied = 0
	table := from.c.Table
	most := table.Rows
	if each := max(table.Bytes/max(table.Rows, 1), table.RowBytes); each > 0 {
		most = min(most, t.o.SpendRoom/each)
	}
	starts, part := []change.KeyValue{nil}, 5000
	if most < table.Rows {
		if err := from.walk.Survey(ctx, from.end); err != nil {
			return err
		}
		cuts, err := from.walk.Cut(ctx, nil, from.end, table.Rows, stretches)
		if err != nil {
			return err
		}
		starts, part = append(starts, cuts...), max(int(most)/(2*stretches), 1) // half, since no cut is exact
	}
	var columns []string
	for _, c := range table.Stored() {
		columns = append(columns, t.c.D.Quote(c.Name))
	}
	list := strings.Join(columns, ", ")
	for _, lo := range starts {
		for {
			r, _, err := from.walk.Next(ctx, lo, from.end, part)
			if err != nil {
				return err
			}
			q := &change.Query{D: t.c.D}
			q.Add("INSERT INTO ", from.name, " (", list, ") SELECT ", list, " FROM ", table.SQL(t.c.D), " AS jugatum_t WHERE 1 = 1").Range("jugatum_t", table.Key, r)
			_, err = s.InTx(ctx, func(tx *engine.Tx) error {
				n, err := tx.Exec(ctx, q.String(), q.Args...)
				t.out.Copied += n
				return err
			})
			switch {
			case err != nil && len(starts) > 1 && t.db.Fault(err) == engine.Data: // two places overlap
			case err != nil:
				return fmt.Errorf("copying rows of %s: %w", table, err)
			}
			lo = r.Hi
			if len(starts) > 1 || lo.Encode() == from.end.Encode() || time.Since(begun) > t.o.Spend/2 && t.o.Spend > 0 {
				break
			}
		}
	}
	if text := t.c.D.Analyze(from.name); text != "" {
		if _, err := s.Conn.ExecContext(ctx, text); err != nil {
			return fmt.Errorf("statistics of the copy: %w", err)
		}
	}
	from.took = time.Since(begun)
	return nil
}

// refills is how many times a copy can be made anew in the time for all trials.
const refills = 30

// refill makes the copy anew, where that is quickly done.
func (t *trial) refill(ctx context.Context) error {
	if t.o.Spend > 0 && (t.real.took > t.o.Spend/refills || time.Since(t.begun) > t.o.Spend) {
		return errAllTried
	}
	if err := t.fill(ctx); err != nil {
		return err
	}
	end, err := t.walk.End(ctx)
	if err == nil && end == nil {
		err = errAllTried
	}
	if err != nil {
		return err
	}
	t.end = end
	return t.divide(ctx)
}

// lane is a part of the copy, and the key up to which it was tried.
type lane struct {
	last, end change.KeyValue
	done      bool
	taken     bool // by a worker of the trial at hand
}

// lanesOf is how many parts a copy has: workers that try beside each other are in different ones, far
// from each other's rows.
const lanesOf = 4

// divide parts the copy into lanes.
func (t *trial) divide(ctx context.Context) error {
	if err := t.walk.Survey(ctx, t.end); err != nil {
		return err
	}
	cuts, err := t.walk.Cut(ctx, nil, t.end, t.out.Copied, lanesOf)
	if err != nil {
		return err
	}
	t.lanes = nil
	lo := change.KeyValue(nil)
	for _, hi := range append(cuts, t.end) {
		if lo == nil || lo.Encode() != hi.Encode() {
			t.lanes = append(t.lanes, lane{last: lo, end: hi})
		}
		lo = hi
	}
	return nil
}

// following is the next stretch for one of several workers: no row of the copy is tried twice, since
// its rows are changed.
func (t *trial) following(ctx context.Context, worker, workers, n int) (r change.Range, rows int64, err error) {
	if worker == 0 {
		left := 0
		for i := range t.lanes {
			if t.lanes[i].taken = false; !t.lanes[i].done {
				left++
			}
		}
		if left < min(workers, len(t.lanes)) || left == 0 {
			if err := t.refill(ctx); err != nil {
				return r, 0, err
			}
		}
		t.next++ // the lane that one begins with
	}
	for i := range t.lanes { // of those that are left, each worker has its own
		l := &t.lanes[(t.next+i)%len(t.lanes)]
		if l.done || l.taken {
			continue
		}
		if r, rows, err = t.walk.Next(ctx, l.last, l.end, n); err != nil {
			return r, 0, err
		}
		if rows < 0 {
			rows = min(int64(n), t.c.Table.Rows)
		}
		l.last, l.taken = r.Hi, true
		l.done = r.Hi.Encode() == l.end.Encode()
		return r, rows, nil
	}
	return r, 0, errAllTried
}

// record writes what stands for our own record of a batch.
func (t *trial) record(ctx context.Context, tx *engine.Tx) error {
	_, err := tx.Exec(ctx, "INSERT INTO "+t.db.LedgerTable(scratch)+" (id, v) VALUES (?, ?)", t.records.Add(1), strings.Repeat("x", recordBytes))
	return err
}

// finish ends a transaction of a yardstick, and gives the time that took where it stays.
func (t *trial) finish(ctx context.Context, tx *engine.Tx) (time.Duration, error) {
	if t.real == nil {
		tx.Rollback()
		return 0, nil
	}
	begun := time.Now()
	err := engine.CommitAndYield(ctx, t.db, tx)
	return time.Since(begun), err
}

// Where says on what the trials were made, and what became of it.
func (r *Result) Where() string {
	if r.Copied == 0 {
		return "all rolled back"
	}
	return fmt.Sprintf("on a copy of %s, dropped again", term.Rows(r.Copied))
}
