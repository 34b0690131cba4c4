package report_test

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"testing"
	"time"

	"jugatum/internal/dbtest"
	"jugatum/internal/engine"
	"jugatum/internal/find"
	"jugatum/internal/ledger"
	"jugatum/internal/report"
)

// TestReport: a run in which rows were set aside, its undo in which one was
// skipped, and what is said of both.
func TestReport(t *testing.T) {
	db, other := dbtest.Open(t, "CREATE TABLE berth (id INTEGER PRIMARY KEY, day_rate integer CHECK (day_rate <> 12))",
		"INSERT INTO berth SELECT i, i FROM (WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < 50) SELECT i FROM s WHERE i <> 12)", "INSERT INTO berth VALUES (99, 12 - 1)")
	opts := dbtest.Options()
	opts.SetAside = 5
	opts.Estimate = &ledger.Estimate{Batches: 1, Seconds: 0.5, HoldMS: 3, LogBytes: 1000, KeptBytes: 2000}
	if _, err := dbtest.Run(t, db, "UPDATE berth SET day_rate = day_rate + 1 WHERE id > 3", opts); err != nil {
		t.Fatal(err)
	}
	ctx, l := context.Background(), ledger.Open(db)
	r, err := report.Read(ctx, db, l, 1, 0)
	if err != nil {
		t.Fatal(err)
	}
	s := r.Steps[0]
	if r.Status != "done" || r.SetAside != 2 || len(r.Asides) != 2 || s.Matched != s.Changed+2 || s.Verb != "update" || s.Table != "berth" || r.Holds.Batches != s.Batches || r.EndedAt == nil || r.ElapsedS <= 0 {
		t.Errorf("%+v", r)
	}
	for name, x := range map[string]struct {
		text  string
		words []string
	}{
		"after a run": {dbtest.Printed(func(o *dbtest.Out) { r.Print(o, " --db x") }), []string{"run 1 done", "update by sweep", "set aside 2 rows", "estimate about 1 batch", "jugatum undo 1 --db x", "jugatum resume 1 --db x --retry-set-aside", "had the new values already, or were set aside"}},
		"on record":   {dbtest.Printed(func(o *dbtest.Out) { r.PrintRecord(o, "") }), []string{"longest holds", "the write lock of the file", "set aside", "day_rate = 12", "CHECK"}},
	} {
		for _, w := range x.words {
			if !strings.Contains(x.text, w) {
				t.Errorf("%s: no %q in\n%s", name, w, x.text)
			}
		}
	}
	doc, err := json.Marshal(r)
	if err != nil {
		t.Fatal(err)
	}
	var keys map[string]any
	if err := json.Unmarshal(doc, &keys); err != nil {
		t.Fatal(err)
	}
	for _, k := range []string{"schema", "run", "status", "steps", "holds", "log", "set_aside", "rows_set_aside", "estimate", "others", "elapsed_s", "kept_bytes"} {
		if _, ok := keys[k]; !ok {
			t.Errorf("no %q in %s", k, doc)
		}
	}

	dbtest.Exec(t, other, "UPDATE berth SET day_rate = 700 WHERE id = 20", "DELETE FROM berth WHERE id = 21")
	if _, _, err := dbtest.Undo(t, db, 1); err != nil {
		t.Fatal(err)
	}
	u, err := report.Read(ctx, db, l, 2, 3*time.Second)
	if err != nil {
		t.Fatal(err)
	}
	if u.UndoOf != 1 || len(u.Skipped) != 2 || u.Steps[0].Skipped != 2 || u.ElapsedS != 3 || u.KeptBytes != -1 {
		t.Errorf("%+v", u)
	}
	text := dbtest.Printed(func(o *dbtest.Out) { u.Print(o, "") })
	for _, w := range []string{"run 2 (undo of run 1)", "put old values back", "skipped of berth", "700", "the row is gone", "as it is now"} {
		if !strings.Contains(text, w) {
			t.Errorf("no %q in\n%s", w, text)
		}
	}
	if strings.Contains(text, "jugatum undo") {
		t.Errorf("an undo is offered of an undo:\n%s", text)
	}
}

// TestWords: what is said of figures that tests of real runs seldom have.
func TestWords(t *testing.T) {
	r := &report.Run{Run: 7, Status: "failed", Error: "a \x1bfault", UndoneBy: 0, Keep: true, Database: "mariadb://db/", Log: report.Log{Bytes: 1024, Records: -1, Images: -1, Scope: "ours", Kind: "binary log"}, Server: map[string]int64{"redo_bytes": 2048, "history_list": -3, "wal_bytes": 10},
		Steps:   []report.Step{{Name: "s", Table: "t", Verb: "delete", Method: "undo", Matched: -1, Lanes: 4}, {Name: "u", Table: "t", Verb: "update", Method: "sweep", Matched: 9, Changed: 4}},
		Others:  ledger.Watching{Samples: 3, Seen: 1, Sessions: 2, TotalMS: 30, LongestMS: 20, OwnMS: 12, OwnMostMS: 8},
		Slowest: []ledger.Slow{{Step: 1, Lane: 2, Batch: 5, HoldMS: 9, Locks: map[string]int{"RowExclusiveLock": 3}}, {Step: 2, Batch: 1}},
		Waits:   []ledger.Wait{{MS: 20, Session: "31", For: "t", Statement: "UPDATE t"}},
		Signals: []ledger.Signal{{Kind: "tune", Args: map[string]string{"hold": "50ms"}, Who: "clerk", Host: "h"}},
		Keeping: []engine.Setting{{Name: "dead rows", Value: "9", Meaning: "until they are vacuumed", Advice: "VACUUM t"}},
		Search:  []find.LeftOver{{Text: "http://", Left: 1, Still: []find.LeftIn{{Column: "t.note", Because: "set aside", Hits: 1}}, Elsewhere: []find.LeftIn{{Column: "u.x", Because: "not named", Hits: 4}}}}}
	text := dbtest.Printed(func(o *dbtest.Out) { r.Print(o, ""); r.PrintRecord(o, "") })
	for _, w := range []string{"re-insert deleted rows, 4 lanes", "1.0 KiB of binary log (ours alone)", "2.0 KiB of redo log", "history list -3", "2 sessions waited, 30 ms in all, the longest 20 ms", "waited   12 ms for others' locks",
		"step u: 5 rows matched and had the new values already", "RowExclusiveLock 3", "not told", "2/5", "tune", "hold 50ms", "not heard", "VACUUM t", "1 left", "4 in other columns", "jugatum resume 7"} {
		if !strings.Contains(text, w) {
			t.Errorf("no %q in\n%s", w, text)
		}
	}
	if strings.Contains(text, "\x1b") {
		t.Error("a control character reaches the terminal")
	}
	for _, x := range [][3]int64{{1, 2, 3}, {-1, 2, 2}, {2, -1, 2}, {-1, -1, -1}} {
		if got := report.Plus(x[0], x[1]); got != x[2] {
			t.Errorf("%d + %d = %d", x[0], x[1], got)
		}
	}
	if got := []string{report.Scope("ours"), report.Scope("server"), report.Scope("")}; !slices.Equal(got, []string{"ours alone", "whole server", "not told"}) {
		t.Error(got)
	}
}
