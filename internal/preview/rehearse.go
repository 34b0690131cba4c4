package preview

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"math"
	"strings"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/pace"
)

// Rehearsal is a batch that was carried out and rolled back, and what it
// estimates for the whole step. Figures that a server tells only at a commit,
// such as the length of a binary log, and the time of the commits themselves, are
// not in it.
type Rehearsal struct {
	Rows    int64          `json:"rows"`    // scanned
	Changed int64          `json:"changed"` // of these
	WorkMS  float64        `json:"work_ms"`
	AheadMS float64        `json:"read_ahead_ms"` // before that, as a run reads beside the batch before; 0 where it does not
	Log     engine.Log     `json:"-"`
	LogKind string         `json:"log_kind,omitempty"` // which log, if it is not that of which a run tells
	LogRow  float64        `json:"log_bytes_a_row"`    // changed row; -1 unknown
	Records float64        `json:"log_records_a_row"`  // changed row; -1 unknown
	KeptRow float64        `json:"kept_bytes_a_row"`   // changed row; -1 unknown
	Locks   map[string]int `json:"locks"`

	Temporary int64 `json:"-"` // bytes written to temporary files; -1 unknown, or not asked for

	Batches   int64   `json:"batches"` // estimated, as those below
	Seconds   float64 `json:"seconds"`
	HoldMS    float64 `json:"hold_ms"` // of a batch of full size
	LogBytes  int64   `json:"log_bytes"`
	KeptBytes int64   `json:"kept_bytes"`
}

// rehearsalRows is as many rows as a rehearsal goes over at most: enough to tell
// what a row costs, and few enough not to be in anybody's way.
const rehearsalRows = 20_000

// lockAccount is how long to wait before locks are asked for again: more than the
// tenth of a second after which InnoDB renews what it tells of them.
const lockAccount = 150 * time.Millisecond

// Plan is how the step that is rehearsed is to be carried out.
type Plan struct {
	Keep    bool
	Hold    time.Duration
	Fixed   int   // rows of every batch, 0 to go by the hold
	Workers int   // that share it
	Listed  bool  // only the rows that match are scanned (method roster)
	Changes int64 // rows that the whole step changes, -1 unknown
}

// Rehearse carries out one batch of a step and rolls it back.
func Rehearse(ctx context.Context, db engine.DB, c *change.Change, p Plan) (*Rehearsal, error) {
	hold, fixed, keep := p.Hold, p.Fixed, p.Keep
	if c.Table.Key == nil {
		return nil, fmt.Errorf("%s has no key by which a batch could be told", c.Table)
	}
	if c.Into != nil && c.Into.Make {
		return nil, fmt.Errorf("%s is made by the run: make it first if a batch that moves rows there is to be rehearsed", c.Into.Table)
	}
	walk := engine.NewWalk(db, c.Walked())
	end, err := walk.End(ctx)
	if err != nil || end == nil {
		return nil, err
	}
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "jugatum rehearsal", LockTimeout: hold})
	if err != nil {
		return nil, err
	}
	defer s.Close()
	sizer := pace.Sizer{Target: hold, Fixed: fixed}
	var out *Rehearsal
	for first := true; ; first = false {
		n := min(sizer.Next(), rehearsalRows)
		r, rows, err := walk.Next(ctx, nil, end, n)
		if err != nil {
			return nil, err
		}
		if rows < 0 {
			rows = int64(n)
		}
		x, err := rehearse(ctx, db, s, c, Attempt{Keep: keep, Ahead: true}, r)
		if err != nil {
			return nil, err
		}
		x.Rows = min(rows, c.Walked().Rows)
		out = x
		work := time.Duration(x.WorkMS * float64(time.Millisecond))
		sizer.Done(int(rows), int(x.Changed), work, 0)
		// The first few rows take what they take to be read for the first time, and
		// to plan the statements; that says little about the rest.
		if fixed > 0 || n >= rehearsalRows || r.Hi.Encode() == end.Encode() || work > hold/8 && !first || work > hold {
			break
		}
	}
	out.estimate(c, p)
	return out, nil
}

// Attempt says how a batch is tried.
type Attempt struct {
	Keep   bool // old and new values are kept
	Ahead  bool // its rows are read before its turn, where a run of many batches does so
	Weighs bool // what it writes to temporary files is told, where the engine can
	N      int  // tells those apart that are under way at the same time, from 0

	// Commit, if set, writes what a run records of a batch, after which it is committed, and tables for
	// kept values are dropped again; else it is rolled back.
	Commit func(ctx context.Context, tx *engine.Tx) error
}

// Try is one batch; nothing is estimated from it.
func Try(ctx context.Context, db engine.DB, s *engine.Session, c *change.Change, a Attempt, r change.Range) (*Rehearsal, error) {
	return rehearse(ctx, db, s, c, a, r)
}

// rehearsalTable is the name of its table for kept values.
func rehearsalTable(n int) string {
	if n == 0 {
		return "rehearsal"
	}
	return fmt.Sprintf("rehearsal_of_%d", n)
}

// rehearse is one batch in a transaction that is rolled back, or committed.
func rehearse(ctx context.Context, db engine.DB, s *engine.Session, c *change.Change, a Attempt, r change.Range) (_ *Rehearsal, err error) {
	if c, err = stagedBeside(ctx, db, s, c, rehearsalTable(a.N)); err != nil {
		return nil, err
	}
	tx, err := s.Start(ctx)
	if err != nil {
		return nil, err
	}
	defer func() { tx.Rollback() }()
	x := &Rehearsal{LogRow: -1, Records: -1, KeptRow: -1}
	if c, err = staged(ctx, db, tx, c, rehearsalTable(a.N)); err != nil {
		return nil, err
	}
	var kept []*change.Kept // the step's own, and then its acts'
	if a.Keep {
		if kept, err = rehearsalTables(ctx, db, tx, c, rehearsalTable(a.N), a.Commit != nil); err != nil {
			return nil, err
		}
	}
	if a.Commit != nil {
		defer func() {
			tx.Rollback() // where it did not come to a commit
			err = errors.Join(err, dropped(context.WithoutCancel(ctx), s, kept))
		}()
	}
	before, err := stored(ctx, db, tx, kept)
	if err != nil {
		return nil, err
	}
	if engine.DDLCommits(db) || a.Commit != nil { // the tables are temporary, and stay for the session; or they stay till they are dropped
		if err := tx.Commit(ctx); err != nil {
			return nil, err
		}
		if a.Ahead {
			tx, err = x.ahead(ctx, db, s, c, kept, r)
		} else {
			tx, err = s.Start(ctx)
		}
		if err != nil {
			return nil, err
		}
	}
	teller, tells := db.(engine.LockTeller)
	var own map[string]int // for the table just made
	if tells {
		if own, err = teller.Locks(ctx, tx); err != nil {
			return nil, err
		}
	}
	positioner, positions := db.(engine.LogPositioner)
	positions = positions && a.Commit == nil // the commit tells
	var position int64
	if positions {
		if position, _, err = positioner.LogPosition(ctx); err != nil {
			return nil, err
		}
	}
	tx.Weighs, tx.Temporary = a.Weighs, -1
	begun := time.Now()
	e, err := carried(ctx, db, tx, c, kept, r)
	if err != nil {
		return nil, err
	}
	x.WorkMS = engine.MS(time.Since(begun))
	x.Changed, x.Log, x.Temporary = e.Changed, e.Log, tx.Temporary
	for try := 1; tells && x.Locks == nil && try <= 3; try++ {
		if try > 1 { // the engine could not tell; some renew their account only now and then
			time.Sleep(lockAccount)
		}
		if x.Locks, err = teller.Locks(ctx, tx); err != nil {
			return nil, err
		}
	}
	if x.Locks != nil {
		for k, n := range own {
			if x.Locks[k] -= n; x.Locks[k] <= 0 {
				delete(x.Locks, k)
			}
		}
	}
	var after int64
	if a.Keep && e.Changed > 0 {
		if after, err = stored(ctx, db, tx, kept); err != nil {
			return nil, err
		}
	}
	if a.Commit != nil {
		took, err := committed(ctx, db, tx, a.Commit)
		if err != nil {
			return nil, err
		}
		x.WorkMS += engine.MS(took)
		if tx.Log.Scope != "" {
			x.Log = tx.Log
		}
	}
	if e.Changed == 0 {
		return x, nil
	}
	changed := float64(e.Changed)
	if positions {
		now, kind, err := positioner.LogPosition(ctx)
		if err != nil {
			return nil, err
		}
		x.Log, x.LogKind = engine.Log{Bytes: now - position, Records: -1, Images: -1, Scope: "server"}, kind
	}
	if x.Log.Scope != "" && x.Log.Bytes >= 0 {
		x.LogRow = float64(x.Log.Bytes) / changed
	}
	if x.Log.Records >= 0 {
		x.Records = float64(x.Log.Records) / changed
	}
	if a.Keep {
		x.KeptRow = float64(after-before) / changed
		if positions { // a temporary table is in no log; a real one is there with what it stores
			x.LogRow += x.KeptRow
		}
	}
	return x, nil
}

// committed writes what is recorded, commits, and gives the time that took.
func committed(ctx context.Context, db engine.DB, tx *engine.Tx, record func(context.Context, *engine.Tx) error) (time.Duration, error) {
	begun := time.Now()
	if err := record(ctx, tx); err != nil {
		return 0, err
	}
	err := engine.CommitAndYield(ctx, db, tx)
	return time.Since(begun), err
}

// dropped drops tables that were made for a batch that was committed.
func dropped(ctx context.Context, s *engine.Session, kept []*change.Kept) error {
	_, err := s.InTx(ctx, func(tx *engine.Tx) error {
		for _, text := range drops(kept) {
			if _, err := tx.Exec(ctx, text); err != nil {
				return err
			}
		}
		return nil
	})
	return err
}

// drops are the statements that drop tables for kept values.
func drops(kept []*change.Kept) (texts []string) {
	for _, k := range kept {
		if k.Packed != "" { // the other is a view of it
			texts = append(texts, "DROP VIEW IF EXISTS "+k.Table, "DROP TABLE IF EXISTS "+k.Packed)
		} else {
			texts = append(texts, "DROP TABLE IF EXISTS "+k.Table)
		}
	}
	return texts
}

// ahead begins the transaction of the batch as a run does: where its rows can be read before its turn,
// beside the batch before it, they are.
func (x *Rehearsal) ahead(ctx context.Context, db engine.DB, s *engine.Session, c *change.Change, kept []*change.Kept, r change.Range) (*engine.Tx, error) {
	if len(c.Acts) > 0 || !engine.Foresees(db, c, stepKept(kept)) {
		return s.Start(ctx)
	}
	begun := time.Now()
	outlook, err := engine.Foresight{}.Foresee(ctx, db, s, c, stepKept(kept), r, 0)
	if err != nil {
		return nil, err
	}
	if outlook != nil {
		x.AheadMS = engine.MS(time.Since(begun))
	}
	return outlook.Begin(ctx, db, s)
}

// carried carries out the batch, with the acts of the change.
func carried(ctx context.Context, db engine.DB, tx *engine.Tx, c *change.Change, kept []*change.Kept, r change.Range) (engine.Effect, error) {
	switch {
	case len(kept) == 0 && c.Merge == nil:
		return engine.Batch(ctx, db, tx, c, nil, r, 0)
	case len(c.Acts) == 0:
		return engine.Batch(ctx, db, tx, c, stepKept(kept), r, 0)
	}
	x, err := change.NewCompound(c, c.Acts, func(n int) string { return engine.ListTable(db, 0, n) })
	if err != nil {
		return engine.Effect{}, err
	}
	if len(kept) > 0 {
		for i, p := range x.Parts {
			p.Kept = kept[i+1]
		}
	}
	return engine.Carry(ctx, db, tx, x, stepKept(kept), r, 0)
}

// stepKept is the table for what is kept of the change itself, nil if nothing is.
func stepKept(kept []*change.Kept) *change.Kept {
	if len(kept) == 0 {
		return nil
	}
	return kept[0]
}

// rehearsalTables makes kept-values tables for a rehearsal: for the change and its acts; stay: for one that
// is committed.
func rehearsalTables(ctx context.Context, db engine.DB, tx *engine.Tx, c *change.Change, base string, stay bool) ([]*change.Kept, error) {
	setup, err := db.LedgerSetup(ctx)
	if err != nil {
		return nil, err
	}
	temporary := engine.DDLCommits(db) && !stay // a temporary table does not
	var out []*change.Kept
	add := func(name string, of *change.Change) {
		kept := change.NewKept(db.LedgerTable(name), of)
		// Where keys may move, what was kept is read again in the batch, through a view.
		if p, ok := db.(engine.Packer); ok && p.Packs(kept) && !(temporary && of.KeysMayMove()) {
			kept.Packed = db.LedgerTable(name + "_packed")
		}
		if len(c.Acts) > 0 {
			kept.Numbers = db.LedgerTable(base)
		}
		texts := db.KeptTable(kept)
		if temporary && kept.Packed != "" { // temporary tables have no views
			texts = texts[:1]
		}
		for _, text := range texts {
			if temporary {
				text = strings.Replace(text, "CREATE TABLE", "CREATE OR REPLACE TEMPORARY TABLE", 1)
			}
			setup = append(setup, text)
		}
		out = append(out, kept)
	}
	add(base, c)
	for i, a := range c.Acts {
		add(fmt.Sprintf("%s_%d", base, i+1), a.Change)
	}
	if stay { // what a kill has left goes first
		setup = append(drops(out), setup...)
	}
	for _, text := range setup {
		if _, err := tx.Exec(ctx, text); err != nil {
			return nil, fmt.Errorf("making a table for the rehearsal: %w", err)
		}
	}
	return out, nil
}

// stored is how many bytes are kept.
func stored(ctx context.Context, db engine.DB, tx *engine.Tx, kept []*change.Kept) (sum int64, err error) {
	for _, k := range kept {
		n, err := db.Stored(ctx, tx, cmp.Or(k.Packed, k.Table))
		if err != nil {
			return 0, err
		}
		sum += n
	}
	return sum, nil
}

// staged makes what the change looks up, where that is read once, and gives the
// change over it.
func staged(ctx context.Context, db engine.DB, tx *engine.Tx, c *change.Change, base string) (*change.Change, error) {
	if !c.Stages() {
		return c, nil
	}
	setup, err := db.LedgerSetup(ctx)
	if err != nil {
		return nil, err
	}
	for _, text := range setup {
		if _, err := tx.Exec(ctx, text); err != nil {
			return nil, fmt.Errorf("making a table for the rehearsal: %w", err)
		}
	}
	x, err := staging(c, db.LedgerTable(base+"_source"))
	if err != nil {
		return nil, err
	}
	x.Temporary = engine.DDLCommits(db)
	if err := db.Stage(ctx, tx, x); err != nil {
		return nil, fmt.Errorf("reading the source: %w", err)
	}
	return c.Staged(x.Table)
}

// stagedBeside does it once for a session, and outside its transactions, where others wait for these.
func stagedBeside(ctx context.Context, db engine.DB, s *engine.Session, c *change.Change, base string) (*change.Change, error) {
	if !c.Stages() || !s.Locks {
		return c, nil
	}
	x, err := staging(c, engine.Temporary(db, base+"_source"))
	if err != nil {
		return nil, err
	}
	if err := engine.StageTemporary(ctx, db, s, x); err != nil {
		return nil, fmt.Errorf("reading the source: %w", err)
	}
	return c.Staged(x.Table)
}

// staging is what a change looks up, as a table.
func staging(c *change.Change, table string) (engine.Staging, error) {
	source, err := change.Source(c)
	return engine.Staging{Table: table, Index: c.Lookup.Index, Query: source}, err
}

// estimate goes from the batch to the step: by the rows scanned where the
// whole table is, by the rows changed for what is written.
func (x *Rehearsal) estimate(c *change.Change, p Plan) {
	rows := float64(max(x.Rows, 1))
	total := math.Max(float64(c.Walked().Rows), rows)
	changes := p.Changes
	if p.Listed && changes >= 0 {
		rows, total = float64(max(x.Changed, 1)), float64(changes)
	}
	perRow := x.WorkMS * float64(time.Millisecond) / rows // while locks are held
	inAll := max(x.WorkMS, x.AheadMS) * float64(time.Millisecond) / rows
	workers := int64(max(p.Workers, 1))
	change := int64(total) // where nobody knows
	if changes >= 0 {
		change = min(changes, change)
	}
	each, largest := pace.Batches(p.Hold, p.Fixed, c.Table.RowBytes, (int64(total)+workers-1)/workers, (change+workers-1)/workers, time.Duration(perRow))
	x.Batches = each * workers
	x.HoldMS = perRow * float64(largest) / float64(time.Millisecond)
	x.Seconds = inAll * total / float64(workers) / float64(time.Second)
	x.LogBytes, x.KeptBytes = -1, -1
	if changes < 0 {
		changes = int64(float64(x.Changed) * total / rows)
	}
	if x.LogRow >= 0 {
		x.LogBytes = int64(x.LogRow * float64(changes))
	}
	if x.KeptRow >= 0 {
		x.KeptBytes = int64(x.KeptRow * float64(changes))
	}
	if x.Locks == nil {
		x.Locks = map[string]int{}
	}
}
