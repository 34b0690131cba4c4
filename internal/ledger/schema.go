// Package ledger is Jugatum's own record in the database being changed: runs,
// steps, lanes, batches with their costs, kept values, and what became of rows that
// were set aside or skipped. What a batch did and how far its lane has come are written in the
// transaction of the batch itself, so that the ledger is never ahead of the
// table nor behind it.
//
// The price of living in the same database is that a ledger cannot outlive it,
// and that its few rows a batch are part of the load.
package ledger

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Version of the ledger's tables. An older one is brought up to this; a newer one is refused.
const Version = 5

// tables in the order in which they are made. @name is a ledger table, {type}
// differs between engines.
var tables = []string{
	`CREATE TABLE IF NOT EXISTS @ledger (version {int} NOT NULL, made_at {time} NOT NULL){mark}`,
	`CREATE TABLE IF NOT EXISTS @run (
		id {int} PRIMARY KEY,        // 1, 2, 3, …
		title {text} NOT NULL,
		reason {text} NOT NULL,
		undo_of {int},               // the run that this one takes back
		source_name {text} NOT NULL, // file name of the job, or --sql
		source_text {text} NOT NULL, // the job itself
		source_sql {int} NOT NULL,   // 1: source_text is one statement
		params {text} NOT NULL,      // JSON: name to type and text
		digest {text} NOT NULL,      // equal for the same steps with the same parameters
		options {text} NOT NULL,     // JSON: hold, batch, keep, …
		status {text} NOT NULL,      // running, stopped, failed, done
		error {text} NOT NULL,
		version {text} NOT NULL,     // of Jugatum
		os_user {text} NOT NULL,
		db_user {text} NOT NULL,
		host {text} NOT NULL,
		pid {int} NOT NULL,
		holder {text} NOT NULL,      // lease: who works on the run where the engine has no lock for it
		heartbeat {time} NOT NULL,
		started_at {time} NOT NULL,
		ended_at {time},
		samples {int} NOT NULL,      // how often we looked for sessions that wait on us
		looking_ms {real} NOT NULL,  // and what that took
		server {text} NOT NULL)      // JSON: what the whole server wrote meanwhile, by name`,
	`CREATE TABLE IF NOT EXISTS @step (
		run {int} NOT NULL, n {int} NOT NULL,
		name {text} NOT NULL,
		verb {text} NOT NULL,        // update, delete
		table_schema {text} NOT NULL, table_name {text} NOT NULL,
		key_columns {text} NOT NULL, // JSON
		set_columns {text} NOT NULL, // JSON
		method {text} NOT NULL,      // sweep, roster, single
		kept_table {text} NOT NULL,  // as SQL text; empty without kept values; packed_… where kept_… is a view of that
		matched {int} NOT NULL,      // counted beforehand; -1 not counted
		to_change {int} NOT NULL,    // rows whose new value differs; -1 not counted
		table_rows {int} NOT NULL,   // rows of the table at the start, perhaps estimated
		status {text} NOT NULL,      // pending, running, done
		walk {text} NOT NULL,        // JSON: where each lane begins and ends, and the seal of that; empty before the step begins
		PRIMARY KEY (run, n))`,
	`CREATE TABLE IF NOT EXISTS @act (
		run {int} NOT NULL, step {int} NOT NULL,
		n {int} NOT NULL,            // 1, 2, 3, …: in this order, before the step's own change
		by_columns {text} NOT NULL,  // JSON: those that refer
		verb {text} NOT NULL,        // update, delete
		table_schema {text} NOT NULL, table_name {text} NOT NULL,
		key_columns {text} NOT NULL, // JSON
		set_columns {text} NOT NULL, // JSON
		kept_table {text} NOT NULL,  // as for a step
		to_change {int} NOT NULL,    // -1 not counted
		PRIMARY KEY (run, step, n))`,
	`CREATE TABLE IF NOT EXISTS @lane (
		run {int} NOT NULL, step {int} NOT NULL, n {int} NOT NULL,
		checkpoint {text} NOT NULL,  // JSON: the last key done; before its first batch the key after which it begins, empty for the first lane
		walk_end {text} NOT NULL,    // JSON: the last key of the lane
		batches {int} NOT NULL,
		kept {int} NOT NULL,         // number of the last kept row
		done {int} NOT NULL,
		PRIMARY KEY (run, step, n))`,
	`CREATE TABLE IF NOT EXISTS @batch (
		run {int} NOT NULL, step {int} NOT NULL, lane {int} NOT NULL, n {int} NOT NULL,
		began_at {time} NOT NULL,
		key_to {text} NOT NULL,      // JSON: the batch reaches up to here, from where the one before ended
		kept_to {int} NOT NULL,      // number of its last kept row
		scanned {int} NOT NULL, matched {int} NOT NULL, changed {int} NOT NULL, // rows; -1 unknown
		skipped {int} NOT NULL,      // rows of an undo that others had changed
		hold_ms {real},              // from the first statement, but for what was read ahead, to the end of the commit; written by the next batch
		lock_wait_ms {real} NOT NULL, // our waits for others' locks: for the write lock (SQLite), or as they were seen
		log_bytes {int}, log_records {int}, log_images {int}, log_scope {text},
		locks {text} NOT NULL,       // JSON: lock mode to count
		retries {int} NOT NULL,
		set_aside {int} NOT NULL,    // rows
		waiters {int} NOT NULL,      // most sessions seen waiting on us at once; -1 nobody looked
		pause_ms {real} NOT NULL,    // before the batch, to ease off
		why {text} NOT NULL,         // the reason for the pause or for fewer rows; empty without one
		acts {text} NOT NULL,        // JSON: rows that each act has changed; empty without acts
		lag_ms {real} NOT NULL,      // of the replica furthest behind, at its most since the batch before; -1 unknown
		PRIMARY KEY (run, step, lane, n))`,
	`CREATE TABLE IF NOT EXISTS @outcome (
		run {int} NOT NULL, step {int} NOT NULL,
		kind {word} NOT NULL,        // set aside, skipped, lines, verified
		n {int} NOT NULL,            // set aside: 1, 2, 3, …; skipped: number of the kept row; lines: 1
		row_key {text} NOT NULL,     // set aside: JSON; skipped: as it is shown; lines: empty
		detail {text} NOT NULL,      // JSON. Set aside: new (column to the value that was refused; null if it could not be worked out), error.
		                             // Skipped: expected (column to the value that the run had left), found (likewise; left out if the row is gone).
		                             // Lines: outcome to how many lines of the list have come to that
		at {time} NOT NULL,
		settled_at {time},           // when it was changed after all
		PRIMARY KEY (run, step, kind, n))`,
	`CREATE TABLE IF NOT EXISTS @waited (
		run {int} NOT NULL, n {int} NOT NULL,
		session {text} NOT NULL,     // the server's number for the session that waited on us
		step {int} NOT NULL,
		began_at {time} NOT NULL,
		wait_ms {real} NOT NULL,     // up to the last time it was seen
		waiting_for {text} NOT NULL, // table
		statement {text} NOT NULL,
		PRIMARY KEY (run, n))`,
	`CREATE TABLE IF NOT EXISTS @incident (
		run {int} NOT NULL, n {int} NOT NULL,
		at {time} NOT NULL,
		kind {text} NOT NULL,        // reconnected, checkpoint
		for_ms {real} NOT NULL,      // reconnected: until there was a connection again
		detail {text} NOT NULL,      // reconnected: the error, and which server it is now
		PRIMARY KEY (run, n))`,
	`CREATE TABLE IF NOT EXISTS @signal (
		run {int} NOT NULL, n {int} NOT NULL,
		at {time} NOT NULL,
		kind {text} NOT NULL,        // pause, go on, stop, tune
		args {text} NOT NULL,        // JSON
		who {text} NOT NULL, host {text} NOT NULL,
		seen_at {time},
		PRIMARY KEY (run, n))`,
}

// Ledger is the record in one database.
type Ledger struct {
	// Migrated, if there is one, is told when the ledger was brought up to date.
	Migrated func(from, to int)

	db    engine.DB
	names *strings.Replacer
	known atomic.Bool // its tables were seen to be ours
}

// Open gives the ledger of a database. It makes nothing.
func Open(db engine.DB) *Ledger {
	var pairs []string
	for _, n := range slices.Concat(engine.LedgerTables, []string{"left_alone", "set_aside"}) { // the last two of version 2
		pairs = append(pairs, "@"+n, db.LedgerTable(n))
	}
	mark := ""
	if p, ok := db.(engine.LedgerPlacer); ok {
		mark = p.LedgerMark()
	}
	pairs = append(pairs, "{mark}", mark)
	t := db.Dialect().Types()
	pairs = append(pairs, "{int}", t.Int, "{text}", t.Text, "{real}", t.Real, "{time}", t.Time, "{word}", t.Word, "{whole}", t.Whole)
	return &Ledger{db: db, names: strings.NewReplacer(pairs...)}
}

// sql writes a statement of the ledger for this database.
func (l *Ledger) sql(text string) string { return l.names.Replace(text) }

// read writes a query for use on the pool, where placeholders are the driver's.
func (l *Ledger) read(text string) string {
	text = l.sql(text)
	if l.db.Dialect().Forms().Numbered {
		return engine.Numbered(text)
	}
	return text
}

// ErrNone is the answer where no run was ever made.
var ErrNone = errors.New("there are no runs in this database yet")

// Exists reports whether the ledger has been made. One of an older version is
// brought up to date, one that is newer than this program is refused.
func (l *Ledger) Exists(ctx context.Context) (bool, error) {
	if ok, err := l.db.HasLedger(ctx); err != nil || !ok {
		return false, err
	}
	version, err := l.version(ctx)
	if err != nil || version == 0 {
		return false, err
	}
	if version < Version {
		if err := l.migrate(ctx, version); err != nil {
			return false, err
		}
	}
	if version > Version {
		return false, fmt.Errorf("the ledger in %s is of version %d, this program knows up to %d; use a newer jugatum", l.db.Name(), version, Version)
	}
	if l.known.Load() {
		return true, nil
	}
	for _, text := range tables {
		if err := l.formed(ctx, text); err != nil {
			return false, err
		}
	}
	l.known.Store(true)
	return true, nil
}

// Ensure makes the ledger if it is not there. Of two that make it at the same
// moment one fails, and then finds it made.
func (l *Ledger) Ensure(ctx context.Context, s *engine.Session) error {
	for attempt := 0; ; attempt++ {
		ok, err := l.Exists(ctx)
		if ok || err != nil {
			return err
		}
		if err = l.build(ctx, s); err == nil {
			return nil
		}
		if f := l.db.Fault(err); f != engine.Data && f != engine.Busy || attempt == 5 {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// build makes the ledger's tables.
func (l *Ledger) build(ctx context.Context, s *engine.Session) error {
	setup, err := l.db.LedgerSetup(ctx)
	if err != nil {
		return err
	}
	tx, err := s.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, text := range append(setup, tables...) {
		if _, err := tx.Exec(ctx, l.sql(stripComments(text))); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(ctx, l.sql("INSERT INTO @ledger (version, made_at) VALUES (?, ?)"), Version, stamp(time.Now())); err != nil {
		return err
	}
	return tx.Commit(ctx)
}

// stripComments leaves the explanations of the columns out of what is stored.
func stripComments(text string) string {
	lines := strings.Split(text, "\n")
	for i, s := range lines {
		if at := strings.Index(s, "//"); at >= 0 {
			lines[i] = s[:at]
		}
	}
	return strings.Join(lines, "\n")
}

// stamp writes a time for both engines: text that sorts, in UTC.
func stamp(t time.Time) string { return t.UTC().Format("2006-01-02 15:04:05.000000+00:00") }

// moment reads what stamp wrote.
type moment struct{ time.Time }

// Scan takes PostgreSQL's time or SQLite's text; NULL is the zero time.
func (m *moment) Scan(src any) error {
	switch v := src.(type) {
	case nil:
		m.Time = time.Time{}
	case time.Time:
		m.Time = v.UTC()
	case []byte:
		return m.Scan(string(v))
	case string:
		t, err := time.Parse("2006-01-02 15:04:05.000000-07:00", v)
		if err != nil {
			return err
		}
		m.Time = t.UTC()
	default:
		return fmt.Errorf("time given as %T", src)
	}
	return nil
}

// taken reports whether there is a kept-values table of the run's number.
func (l *Ledger) taken(ctx context.Context, tx *engine.Tx, r *Run) bool {
	there := func(name string) bool {
		_, err := tx.Exec(ctx, "SELECT 1 FROM "+l.db.LedgerTable(name)+" WHERE 1 = 0")
		return err == nil
	}
	for _, st := range r.Steps {
		for _, kind := range []string{"kept_", "packed_"} {
			if there(kind + partName(r.ID, st.N, 0)) {
				return true
			}
			for _, a := range st.Acts {
				if there(kind + partName(r.ID, st.N, a.N)) {
					return true
				}
			}
		}
	}
	return false
}

// partName is how the tables of a step, or of one of its acts, are named.
func partName(run int64, step, act int) string {
	if act > 0 {
		return fmt.Sprintf("%d_%d_%d", run, step, act)
	}
	return fmt.Sprintf("%d_%d", run, step)
}

// makeKept makes the kept-values table of a step, or of one of its acts, in the form that
// the engine wants.
func (l *Ledger) makeKept(ctx context.Context, tx *engine.Tx, name string, layout *change.Kept) (kept, packed string, err error) {
	layout.Table, layout.Packed = l.db.LedgerTable("kept_"+name), ""
	if p, ok := l.db.(engine.Packer); ok && p.Packs(layout) {
		layout.Packed = l.db.LedgerTable("packed_" + name)
	}
	for _, text := range l.db.KeptTable(layout) {
		if _, err := tx.Exec(ctx, text); err != nil {
			return "", "", err
		}
	}
	return layout.Table, layout.Packed, nil
}

// Kept lays out the kept-values table of a step, nil without kept values, or where they are dropped.
func (l *Ledger) Kept(s *Step, c *change.Change) *change.Kept {
	if s.KeptTable == "" || s.Pruned {
		return nil
	}
	k := change.NewKept(s.KeptTable, c)
	k.Packed = s.PackedTable
	if len(s.Acts) > 0 {
		k.Numbers = s.KeptTable
	}
	return k
}

// KeptOf lays out the kept-values table of an act of a step.
func (l *Ledger) KeptOf(s *Step, a *Act, c *change.Change) *change.Kept {
	k := change.NewKept(a.KeptTable, c)
	k.Packed, k.Numbers = a.PackedTable, s.KeptTable
	return k
}

// Source is the table of the rows that a step looks up, made before its first batch.
func (l *Ledger) Source(run int64, s *Step) string {
	return l.db.LedgerTable(fmt.Sprintf("source_%d_%d", run, s.N))
}

// Roster is the layout of a step's table of keys.
func (l *Ledger) Roster(run int64, s *Step, c *change.Change) *change.Kept {
	return change.NewRoster(l.db.LedgerTable(fmt.Sprintf("roster_%d_%d", run, s.N)), c)
}

var _ sql.Scanner = (*moment)(nil)
