package sqlite

import (
	"context"
	"testing"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/rewrite"
)

// TestReadAhead: rows read while the batch before was under way are written as
// they were read only if nobody else has changed the file since.
func TestReadAhead(t *testing.T) {
	db, raw := file(t, "wal", "CREATE TABLE t (id INTEGER PRIMARY KEY, note TEXT)",
		"WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < 60) INSERT INTO t SELECT i, 'old ' || i FROM s")
	ctx := context.Background()
	table, err := db.Table(ctx, "", "t")
	if err != nil {
		t.Fatal(err)
	}
	c, err := change.NewReplace(d, "s", table, table.Columns[1:], rewrite.Rules{Pairs: []rewrite.Pair{{Find: "old", With: "newer"}}})
	if err != nil || c.Rewrite == nil || !engine.Foresees(db, c, nil) {
		t.Fatal(err)
	}
	kept := change.NewKept("jugatum_kept_1_1", c)
	for _, text := range db.KeptTable(kept) {
		if _, err := raw.Exec(text); err != nil {
			t.Fatal(err)
		}
	}
	s, err := db.Session(ctx, engine.SessionOptions{LockTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	var o *engine.Outlook
	var marks []int64
	for hi := int64(20); hi <= 60; hi += 20 {
		tx, err := o.Begin(ctx, db, s)
		if err != nil {
			t.Fatal(err)
		}
		defer tx.Rollback()
		mark, err := db.Mark(ctx, tx)
		if err != nil {
			t.Fatal(err)
		}
		marks = append(marks, mark)
		sight, err := engine.Look(ctx, db, tx)
		if err != nil {
			t.Fatal(err)
		}
		next := change.Range{Lo: change.KeyValue{hi}, Hi: change.KeyValue{hi + 20}}
		if o, err = sight.Foresee(ctx, db, nil, c, kept, next, -1); err != nil || o == nil {
			t.Fatal(err)
		}
		e, err := engine.Batch(ctx, db, tx, c, kept, change.Range{Lo: change.KeyValue{hi - 20}, Hi: change.KeyValue{hi}}, hi-20)
		if err != nil || e.Changed != 20 || e.Matched != 20 || e.Kept != hi {
			t.Fatalf("up to %d: %+v %v", hi, e, err)
		}
		if err := tx.Commit(ctx); err != nil {
			t.Fatal(err)
		}
		if hi == 40 { // between the reading of the third batch's rows and its turn
			if _, err := raw.Exec("UPDATE t SET note = 'old, and fixed by hand' WHERE id = 45"); err != nil {
				t.Fatal(err)
			}
		}
	}
	if marks[0] != marks[1] || marks[1] == marks[2] {
		t.Errorf("marks %v: only before the third batch has another session changed anything", marks)
	}
	for query, want := range map[string]string{
		"SELECT note FROM t WHERE id = 45":                        "newer, and fixed by hand",
		"SELECT old_note FROM jugatum_kept_1_1 WHERE key_id = 45": "old, and fixed by hand",
		"SELECT sum(k.new_note = t.note AND k.old_note LIKE 'old%') FROM jugatum_kept_1_1 AS k JOIN t ON t.id = k.key_id": "60",
	} {
		var got string
		if err := raw.QueryRow(query).Scan(&got); err != nil || got != want {
			t.Errorf("%s: %q %v, want %q", query, got, err, want)
		}
	}
}

// TestReadsAheadOnlyAloof: where a change may reach other rows of the table,
// nothing is read ahead of it.
func TestReadsAheadOnlyAloof(t *testing.T) {
	for i, texts := range [][]string{
		{"CREATE TABLE t (id INTEGER PRIMARY KEY, note TEXT)", "CREATE TRIGGER r AFTER UPDATE ON t BEGIN UPDATE t SET note = 'old' WHERE id = new.id + 1; END"},
		{"CREATE TABLE t (id INTEGER PRIMARY KEY, note TEXT UNIQUE, up TEXT REFERENCES t (note) ON UPDATE CASCADE)"},
	} {
		db, _ := file(t, "wal", texts...)
		table, err := db.Table(context.Background(), "", "t")
		if err != nil {
			t.Fatal(err)
		}
		c, err := change.NewReplace(d, "s", table, table.Columns[1:2], rewrite.Rules{Pairs: []rewrite.Pair{{Find: "old", With: "new"}}})
		if err != nil {
			t.Fatal(err)
		}
		if engine.Foresees(db, c, nil) {
			t.Errorf("table %d is read ahead", i+1)
		}
	}
}
