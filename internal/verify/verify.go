// Package verify holds the database against what a run recorded.
package verify

import (
	"context"
	"fmt"
	"math"
	"math/big"
	"slices"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/runner"
	"jugatum/internal/sqltext"
)

// Result is what verify found. Holds is true if nothing speaks against the run.
type Result struct {
	Run   int64  `json:"run"`
	Holds bool   `json:"holds"`
	State string `json:"state"` // "changed": new values are expected; "restored": old ones
	Steps []Step `json:"steps"`
}

// Step is one step of the run.
type Step struct {
	Name       string        `json:"name"`
	Table      string        `json:"table"`
	To         string        `json:"to,omitempty"` // where its rows were moved, or copied
	Copied     bool          `json:"copied,omitempty"`
	Changed    int64         `json:"changed"`    // rows by the batches' own counts
	Kept       int64         `json:"kept"`       // rows in the kept values; -1 without them
	Compared   int64         `json:"compared"`   // rows held against the table
	Mismatched int64         `json:"mismatched"` // of these, rows that are not as recorded
	Left       int64         `json:"skipped"`    // rows that an undo left alone, not counted as mismatched
	Sample     []ledger.Left `json:"sample"`     // the first rows that are mismatched
	Checks     []Check       `json:"checks"`
	Missed     int64         `json:"missed"`  // rows that match, would change, and are not among those kept; -1 not looked for
	Certain    bool          `json:"certain"` // nobody has written those since the run began: the run passed them by
	Remark     string        `json:"remark,omitempty"`
	Dangling   []Dangling    `json:"dangling,omitempty"` // of a merge: by each reference, the rows that refer to rows that went
	Called     *Called       `json:"called,omitempty"`   // of a statement that was called for each line of a list
	Acts       []Step        `json:"acts,omitempty"`     // what its batches did to rows of other tables; their rows are not looked for by a filter
}

// Dangling are rows that refer to rows which are gone.
type Dangling struct {
	By   string `json:"by"` // the table, and the columns that refer
	Rows int64  `json:"rows"`
}

// dangling looks for rows that refer to those which a merge has deleted: others may have made them, where
// no foreign key keeps them from it.
func (s *Step) dangling(ctx context.Context, db engine.DB, w *runner.Work) error {
	m := w.Change.Merge
	if m == nil || w.Undo || w.Step.Status != ledger.Done {
		return nil
	}
	for i := range m.Refers {
		x := Dangling{By: m.Refers[i].Name()}
		q := m.Dangling(db.Dialect(), &m.Refers[i])
		if err := db.JobPool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&x.Rows); err != nil {
			return fmt.Errorf("looking for references of %s to rows that went: %w", x.By, err)
		}
		s.Dangling = append(s.Dangling, x)
	}
	return nil
}

// Check is one of the job's own checks.
type Check struct {
	SQL  string `json:"sql"`
	Want string `json:"want"`
	Got  string `json:"got"`
	OK   bool   `json:"ok"`
}

// Record is what the ledger keeps of it.
func (r *Result) Record() ledger.Verified {
	out := ledger.Verified{Holds: r.Holds}
	for _, s := range r.Steps {
		for _, x := range append([]Step{s}, s.Acts...) {
			out.Compared, out.Mismatched = out.Compared+x.Compared, out.Mismatched+x.Mismatched
			for _, c := range x.Checks {
				out.Checks = append(out.Checks, ledger.CheckOutcome(c))
			}
		}
	}
	return out
}

// chunk is how many kept rows are held against the table at a time: each is one
// short read, so that no snapshot or shared lock is held for long.
const chunk = 20_000

// shown is how many rows that are mismatched are listed for a step.
const shown = 20

// Run verifies the steps of a run. For an undo the old values are expected.
func Run(ctx context.Context, db engine.DB, l *ledger.Ledger, r *ledger.Run, work []*runner.Work, j *job.Job, progress func(done, total int64)) (*Result, error) {
	res := &Result{Run: r.ID, Holds: true, State: "changed"}
	if r.UndoOf != 0 {
		res.State = "restored"
	}
	for _, w := range work {
		s := Step{Name: w.Step.Name, Table: w.Change.Table.String(), Changed: w.Step.Totals.Changed, Kept: -1, Left: w.Step.Totals.Skipped, Missed: -1, Sample: []ledger.Left{}, Checks: []Check{}}
		if into := w.Change.Into; into != nil {
			s.To, s.Copied = into.Table.String(), into.Copied
		}
		if w.Change.Call != nil {
			s.Table = w.Change.Lines.File
			if err := s.called(ctx, l, w); err != nil {
				return nil, err
			}
		} else if w.Kept == nil {
			s.Remark = "no kept values: only the job's checks can be asked"
			if w.Step.Pruned {
				s.Remark = "what was kept is dropped (prune): only the job's checks can be asked"
			}
		} else if err := engine.NumbersHold(ctx, db, db.Pool(), w.Mark, w.Change.Table); err != nil {
			return nil, err
		} else if err := s.compare(ctx, db, l, r, w, work, progress); err != nil {
			return nil, err
		} else if err := s.missed(ctx, db, r, w); err != nil {
			return nil, err
		}
		if err := s.dangling(ctx, db, w); err != nil {
			return nil, err
		}
		for _, x := range s.Dangling {
			res.Holds = res.Holds && x.Rows == 0
		}
		if r.UndoOf == 0 && w.Change.Of < len(j.Steps) { // none where the job cannot be read any more
			for _, c := range j.Steps[w.Change.Of].Checks {
				if !c.After {
					continue
				}
				got, err := Ask(ctx, db, c)
				if err != nil {
					return nil, err
				}
				s.Checks = append(s.Checks, got)
				res.Holds = res.Holds && got.OK
			}
		}
		for _, a := range w.Acts {
			x, err := act(ctx, db, l, r, w, a, work, progress)
			if err != nil {
				return nil, err
			}
			s.Acts = append(s.Acts, *x)
			res.Holds = res.Holds && x.Mismatched == 0 && (r.UndoOf != 0 || x.Kept == x.Changed || r.Status == ledger.Running)
		}
		res.Holds = res.Holds && (s.Called == nil || s.Called.Holds) && s.Mismatched == 0 && !(s.Certain && s.Missed > w.Step.Totals.SetAside) && (s.Kept < 0 || r.UndoOf != 0 || s.Kept == s.Changed || r.Status == ledger.Running)
		res.Steps = append(res.Steps, s)
	}
	return res, nil
}

// act holds what was kept of an act against its table: as a step of its own, which has the
// numbers of the step that it belongs to.
func act(ctx context.Context, db engine.DB, l *ledger.Ledger, r *ledger.Run, w *runner.Work, a *runner.Act, work []*runner.Work, progress func(done, total int64)) (*Step, error) {
	s := &Step{Name: a.Record.Name(), Table: a.Change.Table.String(), Changed: a.Record.Changed, Kept: -1, Left: w.Step.Totals.Skipped, Missed: -1, Sample: []ledger.Left{}, Checks: []Check{}}
	of := *w
	of.Change, of.Kept = a.Change, a.Kept
	return s, s.compare(ctx, db, l, r, &of, work, progress)
}

// isAct reports whether w is an act in the place of its step: rows that were skipped are told
// with the table then.
func isAct(w *runner.Work) bool {
	for _, a := range w.Acts {
		if a.Change == w.Change {
			return true
		}
	}
	return false
}

// numbers adds what a query gives to a set.
func numbers(ctx context.Context, db engine.DB, q *change.Query, set map[int64]bool) error {
	rows, err := db.Pool().QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var n int64
		if err := rows.Scan(&n); err != nil {
			return err
		}
		set[n] = true
	}
	return rows.Err()
}

// missed looks for rows that the step should have changed, by its filter rather
// than by what was kept. Rows that others have written since may match as well, and
// so may any where the change reads other tables, which they may have written.
func (s *Step) missed(ctx context.Context, db engine.DB, r *ledger.Run, w *runner.Work) error {
	c := w.Change
	if w.Undo || w.Step.Status != ledger.Done || c.Recorded || !c.AnswersAgain() || c.Whole() != c || c.Superseded() { // what it was filled from is gone, or the rows are what later lines have made of them
		return nil
	}
	certain := func(*change.Query, string) {}
	if x, ok := db.(engine.Witness); ok && r.Options.Moment != "" && !c.ReadsOthers() {
		s.Certain = true
		certain = func(q *change.Query, alias string) { x.Untouched(q, alias, r.Options.Moment) }
	}
	q := change.Missed(c, w.Kept, certain)
	err := db.JobPool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&s.Missed)
	if err == nil {
		return nil
	}
	s.Missed = -1
	if f := db.Fault(err); f == engine.Data || f == engine.Invalid { // a value that cannot be worked out, or a table of another form by now
		return nil
	}
	return err
}

// compare holds the kept values of a step against the table.
func (s *Step) compare(ctx context.Context, db engine.DB, l *ledger.Ledger, r *ledger.Run, w *runner.Work, work []*runner.Work, progress func(done, total int64)) error {
	state := change.AsChanged
	low, upTo := int64(0), w.Step.LastKept()
	if w.Undo {
		state = change.AsRestored
		upTo = w.UpTo
		if w.Step.Status != ledger.Done { // only what it has come to
			come := int64(0)
			for _, lane := range w.Step.Lanes {
				come, _ = lane.Checkpoint.Int()
			}
			if r.Options.Backwards {
				low = upTo - come
			} else {
				upTo = come
			}
		}
	}
	if k, ok := db.(engine.KeptReader); ok && upTo > 0 {
		if err := k.PrepareKept(ctx, w.Kept); err != nil {
			return err
		}
	}
	all := change.CountKept(db.Dialect(), w.Kept, 0, math.MaxInt64)
	if err := db.Pool().QueryRowContext(ctx, all.String(), all.Args...).Scan(&s.Kept); err != nil {
		return fmt.Errorf("the kept values of step %q cannot be read: %w", s.Name, err)
	}
	q := change.CountKept(db.Dialect(), w.Kept, low, upTo)
	if err := db.Pool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&s.Compared); err != nil {
		return err
	}
	done := int64(0)
	leftSeq := map[int64]bool{}
	if s.Left > 0 {
		left, err := l.Skipped(ctx, r.ID, int(s.Left)+1)
		if err != nil {
			return err
		}
		s.Left = 0
		for _, x := range left {
			if x.Step != w.Step.N {
				continue
			}
			leftSeq[x.Seq] = true
			if mine := x.Table == w.Change.Table.String(); mine || x.Table == "" && !isAct(w) || w.Change.Into != nil && x.Table == w.Change.Into.Table.String() {
				s.Left++
			}
		}
	}
	for to := low; to < upTo; {
		from, err := ledger.NextKept(ctx, db, w.Kept, to, upTo)
		if err != nil {
			return err
		}
		to = min(from+chunk, upTo)
		found, err := mismatched(ctx, db, w, state, from, to)
		if err != nil {
			return err
		}
		if err := countered(ctx, db, w, work, len(found), from, to, leftSeq); err != nil {
			return err
		}
		if err := chained(ctx, db, w, work, found, from, to, leftSeq); err != nil {
			return err
		}
		for _, x := range found {
			if leftSeq[x.Seq] {
				continue
			}
			s.Mismatched++
			if len(s.Sample) < shown {
				s.Sample = append(s.Sample, x)
			}
		}
		if progress != nil {
			done = min(done+to-from, s.Compared) // numbers may have gaps
			progress(done, s.Compared)
		}
	}
	return nil
}

// counterpart is the step of the same run that says of rows of one table what another
// step says otherwise: that which moves rows into the table of w, where w has deleted
// others that had their keys; and for an undo that which has put those back. keys are the
// columns of that table which tell the rows of w and of the counterpart. nil if there is none.
func counterpart(w *runner.Work, all []*runner.Work) (x *runner.Work, keys, others []*change.Column) {
	moves := func(m, deletes *runner.Work) bool {
		into, c := m.Change.Into, deletes.Change
		return m.Kept != nil && deletes.Kept != nil && into != nil && into.Cleared && c.Into == nil && c.Verb == sqltext.Delete && into.Table.Schema == c.Table.Schema && into.Table.Name == c.Table.Name
	}
	for _, x := range all {
		switch {
		case !w.Undo && moves(x, w):
			return x, w.Change.Table.Key.Columns, x.Change.Into.Key
		case w.Undo && moves(w, x):
			return x, w.Change.Into.Key, x.Change.Table.Key.Columns
		}
	}
	return nil, nil, nil
}

// countered adds to passed the numbers of the kept rows of which the counterpart speaks,
// if any are not as they should be.
func countered(ctx context.Context, db engine.DB, w *runner.Work, all []*runner.Work, found int, from, to int64, passed map[int64]bool) error {
	x, keys, others := counterpart(w, all)
	if x == nil || found == 0 {
		return nil
	}
	return numbers(ctx, db, change.SameKeys(db.Dialect(), w.Kept, keys, x.Kept, others, from, to), passed)
}

// mismatched reads the kept rows after from, up to to, that are not in the given state;
// where rows were moved, each of both tables' that is not.
func mismatched(ctx context.Context, db engine.DB, w *runner.Work, state change.State, from, to int64) ([]ledger.Left, error) {
	read := func(c *change.Change, kept *change.Kept, state change.State) ([]ledger.Left, error) {
		q := change.Mismatched(c, kept, state, state, from, to, chunk)
		rows, err := db.Pool().QueryContext(ctx, q.String(), q.Args...)
		if err != nil {
			return nil, err
		}
		return ledger.ReadMismatched(rows, w.Step.N, kept, state)
	}
	var out []ledger.Left
	var err error
	if w.Change.Verb != sqltext.Insert { // else the rows are where they were, and anybody's to change
		out, err = read(w.Change, w.Kept, state)
	}
	if err != nil || w.Change.Into == nil {
		return out, err
	}
	there, err := read(w.Change.Landed(w.Kept, state))
	for _, x := range there {
		x.Table = w.Change.Into.Table.String()
		if !slices.ContainsFunc(out, func(o ledger.Left) bool { return o.Seq == x.Seq }) {
			out = append(out, x)
		}
	}
	return out, err
}

// Ask puts one of the job's checks to the database. Checks only read: anything
// else than one query is refused before the server sees it, and the connection
// only reads.
func Ask(ctx context.Context, db engine.DB, c job.Check) (Check, error) {
	out := Check{SQL: c.SQL, Want: c.Is}
	if err := sqltext.Query(db.Dialect(), c.SQL); err != nil {
		return out, fmt.Errorf("check %q: %w", c.SQL, err)
	}
	var got any
	if err := db.JobPool().QueryRowContext(ctx, c.SQL).Scan(&got); err != nil {
		return out, fmt.Errorf("check %q: %w", c.SQL, err)
	}
	switch v := got.(type) {
	case nil:
		out.Got = "NULL"
	case []byte:
		out.Got = string(v)
	default:
		out.Got = fmt.Sprint(v)
	}
	out.OK = out.Got == out.Want
	if a, ok := new(big.Rat).SetString(out.Got); ok && !out.OK { // 0 and 0.00 are the same number
		if b, ok := new(big.Rat).SetString(out.Want); ok {
			out.OK = a.Cmp(b) == 0
		}
	}
	return out, nil
}
