package ledger

import (
	"context"
	"fmt"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Lane is a part of a step's key space that one worker walks, with a checkpoint
// of its own. The lanes of a step are disjoint, and together they are all of it.
type Lane struct {
	N          int             // from 1
	Checkpoint change.KeyValue // nil: from the beginning of the table
	End        change.KeyValue // nil: there is nothing to do
	Batches    int64
	Kept       int64 // number of its last kept row
	Done       bool
}

// keptSpace is how many kept rows a lane can number, where numbers are counted
// up from one batch to the next: each lane has a stretch of numbers to itself.
const keptSpace = int64(1) << 40

// KeptBase is the number after which a lane's kept rows are numbered.
func KeptBase(lane int) int64 { return int64(lane-1) * keptSpace }

// LastKept is the highest number of a kept row of the step, 0 without any.
func (st *Step) LastKept() int64 {
	last := int64(0)
	for _, l := range st.Lanes {
		if l.Kept != KeptBase(l.N) {
			last = max(last, l.Kept)
		}
	}
	return last
}

// Unfinished lists the lanes that are not at their end.
func (st *Step) Unfinished() []*Lane {
	var out []*Lane
	for _, l := range st.Lanes {
		if !l.AtEnd() {
			out = append(out, l)
		}
	}
	return out
}

// AtEnd reports whether nothing is left to do in the lane.
func (l *Lane) AtEnd() bool {
	return l.Done || l.End == nil || l.Checkpoint != nil && l.Checkpoint.Encode() == l.End.Encode()
}

// BeginStep fixes the end of a step's walk, with one lane for all of it, and
// marks the step as running.
func (l *Ledger) BeginStep(ctx context.Context, s *engine.Session, r *Run, st *Step, end change.KeyValue) error {
	w := walk{Lanes: []stretch{{N: 1, To: end.Encode()}}}
	err := l.Ours(ctx, s, r, func(tx *engine.Tx) error {
		// An earlier try may have taken effect, its answer lost.
		if _, err := tx.Exec(ctx, l.sql("DELETE FROM @lane WHERE run = ? AND step = ? AND batches = 0"), r.ID, st.N); err != nil {
			return err
		}
		if _, err := tx.Exec(ctx, l.sql("INSERT INTO @lane (run, step, n, checkpoint, walk_end, batches, kept, done) VALUES (?, ?, 1, '', ?, 0, 0, 0)"), r.ID, st.N, end.Encode()); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, l.sql("UPDATE @step SET status = 'running', table_rows = ?, walk = ? WHERE run = ? AND n = ?"), st.TableRows, w.text(r, st), r.ID, st.N)
		return err
	})
	if err != nil {
		return err
	}
	st.Status, st.Lanes, st.walk = Running, []*Lane{{N: 1, End: end}}, w
	return nil
}

// Divide cuts a lane that nobody works on: it keeps the part up to the first of
// the keys, and new lanes take the rest. ErrMoved if it is not where it was
// thought to be.
func (l *Ledger) Divide(ctx context.Context, s *engine.Session, r *Run, st *Step, lane *Lane, cuts []change.KeyValue) error {
	var fresh []*Lane
	var w walk
	last := 0
	for _, x := range st.Lanes {
		last = max(last, x.N)
	}
	err := l.Ours(ctx, s, r, func(tx *engine.Tx) error {
		n, err := tx.Exec(ctx, l.sql("UPDATE @lane SET walk_end = ? WHERE run = ? AND step = ? AND n = ? AND batches = ? AND walk_end = ? AND done = 0"),
			cuts[0].Encode(), r.ID, st.N, lane.N, lane.Batches, lane.End.Encode())
		if err != nil {
			return err
		}
		if n != 1 {
			return ErrMoved
		}
		fresh = nil
		for i, from := range cuts {
			x := &Lane{N: last + 1 + i, Checkpoint: from, End: lane.End, Kept: KeptBase(last + 1 + i)}
			if i+1 < len(cuts) {
				x.End = cuts[i+1]
			}
			if _, err := tx.Exec(ctx, l.sql("INSERT INTO @lane (run, step, n, checkpoint, walk_end, batches, kept, done) VALUES (?, ?, ?, ?, ?, 0, ?, 0)"),
				r.ID, st.N, x.N, x.Checkpoint.Encode(), x.End.Encode(), x.Kept); err != nil {
				return err
			}
			fresh = append(fresh, x)
		}
		if w = st.walk.divided(lane.N, fresh); len(w.Lanes) == 0 {
			return nil
		}
		_, err = tx.Exec(ctx, l.sql("UPDATE @step SET walk = ? WHERE run = ? AND n = ?"), w.text(r, st), r.ID, st.N)
		return err
	})
	if err != nil {
		return err
	}
	lane.End = cuts[0]
	st.Lanes, st.walk = append(st.Lanes, fresh...), w
	return nil
}

// EndStep marks a step as done.
func (l *Ledger) EndStep(ctx context.Context, s *engine.Session, r *Run, st *Step) error {
	err := l.Ours(ctx, s, r, func(tx *engine.Tx) error {
		if _, err := tx.Exec(ctx, l.sql("UPDATE @step SET status = 'done' WHERE run = ? AND n = ?"), r.ID, st.N); err != nil {
			return err
		}
		_, err := tx.Exec(ctx, l.sql("UPDATE @lane SET done = 1 WHERE run = ? AND step = ?"), r.ID, st.N)
		return err
	})
	if err != nil {
		return err
	}
	st.Status = Done
	for _, x := range st.Lanes {
		x.Done = true
	}
	return nil
}

// Fence is the first statement of every batch: it moves the lane's checkpoint
// on to where the batch will end, if the lane still stands where the caller
// thinks it does. The row stays locked to the end of the transaction, so that
// two attempts at the same batch, even by a connection already given up,
// follow one another and only one of them can succeed. The lane's end must be
// the same as well: a process that has taken the run over may have cut the lane.
func (l *Ledger) Fence(ctx context.Context, tx *engine.Tx, run int64, step int, lane *Lane, to change.KeyValue) error {
	return moved(tx.Exec(ctx, l.sql("UPDATE @lane SET checkpoint = ?, batches = batches + 1 WHERE run = ? AND step = ? AND n = ? AND batches = ? AND walk_end = ? AND done = 0"),
		to.Encode(), run, step, lane.N, lane.Batches, lane.End.Encode()))
}

// FenceAgain is Fence for a batch that goes back to a row behind the checkpoint.
func (l *Ledger) FenceAgain(ctx context.Context, tx *engine.Tx, run int64, step int, lane *Lane) error {
	return moved(tx.Exec(ctx, l.sql("UPDATE @lane SET batches = batches + 1 WHERE run = ? AND step = ? AND n = ? AND batches = ?"), run, step, lane.N, lane.Batches))
}

func moved(n int64, err error) error {
	if err == nil && n != 1 {
		err = ErrMoved
	}
	return err
}

// Position reads where a lane stands now. It gives ErrTaken if another process
// has taken the run over since this one claimed it.
func (l *Ledger) Position(ctx context.Context, tx *engine.Tx, r *Run, step int, lane *Lane) error {
	if err := l.stillOurs(ctx, tx, r); err != nil {
		return err
	}
	var checkpoint, end string
	var done int
	if err := tx.Scan(ctx, l.sql("SELECT checkpoint, walk_end, batches, kept, done FROM @lane WHERE run = ? AND step = ? AND n = ?"), []any{r.ID, step, lane.N},
		&checkpoint, &end, &lane.Batches, &lane.Kept, &done); err != nil {
		return err
	}
	return lane.read(checkpoint, end, done)
}

// stillOurs gives ErrTaken if another process works on the run now.
func (l *Ledger) stillOurs(ctx context.Context, tx *engine.Tx, r *Run) error {
	var now, host string
	var pid int
	if err := tx.Scan(ctx, l.sql("SELECT holder, host, pid FROM @run WHERE id = ?"), []any{r.ID}, &now, &host, &pid); err != nil {
		return err
	}
	if now != r.holder {
		r.Host, r.PID = host, pid
		return ErrTaken
	}
	return nil
}

// Ours does something around a run's batches in a transaction of its own. It
// gives ErrTaken instead if another process has taken the run over. A crash of the
// server does not take it back: the process goes on by lanes and steps that it
// knows to be there.
func (l *Ledger) Ours(ctx context.Context, s *engine.Session, r *Run, do func(*engine.Tx) error) error {
	return l.inTx(ctx, s, func(tx *engine.Tx) error {
		if err := flushed(ctx, tx); err != nil {
			return err
		}
		if err := l.stillOurs(ctx, tx, r); err != nil {
			return err
		}
		return do(tx)
	})
}

// StillOurs is stillOurs in a transaction of its own, for a connection made anew.
func (l *Ledger) StillOurs(ctx context.Context, s *engine.Session, r *Run) error {
	tx, err := s.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	return l.stillOurs(ctx, tx, r)
}

func (l *Lane) read(checkpoint, end string, done int) error {
	if done != 0 && done != 1 {
		return fmt.Errorf("the ledger says neither that lane %d is done nor that it is not (%d)", l.N, done)
	}
	l.Done = done == 1
	var err error
	if l.Checkpoint, err = decodeKey(checkpoint); err != nil {
		return err
	}
	l.End, err = decodeKey(end)
	return err
}

// loadLanes reads the lanes of a run's steps.
func (l *Ledger) loadLanes(ctx context.Context, r *Run) error {
	rows, err := l.db.Pool().QueryContext(ctx, l.read("SELECT step, n, checkpoint, walk_end, batches, kept, done FROM @lane WHERE run = ? ORDER BY step, n"), r.ID)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		x := &Lane{}
		var step, done int
		var checkpoint, end string
		if err := rows.Scan(&step, &x.N, &checkpoint, &end, &x.Batches, &x.Kept, &done); err != nil {
			return err
		}
		if err := x.read(checkpoint, end, done); err != nil {
			return fmt.Errorf("run %d, step %d, lane %d: %w", r.ID, step, x.N, err)
		}
		for _, st := range r.Steps {
			if st.N == step {
				st.Lanes = append(st.Lanes, x)
			}
		}
	}
	return rows.Err()
}
