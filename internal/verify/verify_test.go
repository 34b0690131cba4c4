package verify_test

import (
	"context"
	"testing"

	"jugatum/internal/dbtest"
	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
	"jugatum/internal/verify"
)

func verified(t *testing.T, db engine.DB, run int64) *verify.Result {
	t.Helper()
	ctx, l := context.Background(), ledger.Open(db)
	r, err := l.Load(ctx, run)
	if err != nil {
		t.Fatal(err)
	}
	p, work, err := plan.Prepare(ctx, db, l, r)
	if err != nil {
		t.Fatal(err)
	}
	told := int64(0)
	res, err := verify.Run(ctx, db, l, r, work, p.Job, func(done, total int64) { told = done })
	if err != nil {
		t.Fatal(err)
	}
	if told == 0 {
		t.Error("no progress was told")
	}
	return res
}

// TestVerify: it holds, until a row is not as recorded, one that matches was not
// changed, or a check of the job gives something else.
func TestVerify(t *testing.T) {
	const job = "[[step]]\nname = \"a\"\nsql = \"UPDATE berth SET day_rate = 0 WHERE day_rate > 10\"\ncheck = [{ sql = \"SELECT count(*) FROM tariff\", is = 1 }]\n[[step]]\nname = \"b\"\nsql = \"DELETE FROM berth WHERE id <= 5\"\n"
	db, other := dbtest.Open(t, "CREATE TABLE berth (id INTEGER PRIMARY KEY, day_rate integer)", "CREATE TABLE tariff (id INTEGER PRIMARY KEY)", "INSERT INTO tariff VALUES (1)",
		"INSERT INTO berth SELECT i, i FROM (WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < 40) SELECT i FROM s)")
	if _, err := dbtest.Run(t, db, job, dbtest.Options()); err != nil {
		t.Fatal(err)
	}
	res := verified(t, db, 1)
	if s := res.Steps[0]; !res.Holds || s.Kept != 30 || s.Compared != 30 || s.Missed != 0 || len(s.Checks) != 1 || !s.Checks[0].OK || res.Steps[1].Compared != 5 {
		t.Errorf("%+v", res)
	}
	for _, x := range []struct {
		name, change, back string
		holds              bool
		look               func(*verify.Result) bool
	}{
		{"a row has another value", "UPDATE berth SET day_rate = 3 WHERE id = 20", "UPDATE berth SET day_rate = 0 WHERE id = 20", false,
			func(r *verify.Result) bool { return r.Steps[0].Mismatched == 1 && r.Steps[0].Sample[0].Key == "20" }},
		{"a row is gone", "DELETE FROM berth WHERE id = 20", "INSERT INTO berth VALUES (20, 0)", false, func(r *verify.Result) bool { return r.Steps[0].Sample[0].Gone }},
		{"a deleted row is there", "INSERT INTO berth VALUES (3, 3)", "DELETE FROM berth WHERE id = 3", false, func(r *verify.Result) bool { return r.Steps[1].Mismatched == 1 }},
		{"a row that matches is new", "INSERT INTO berth VALUES (50, 50)", "DELETE FROM berth WHERE id = 50", true, func(r *verify.Result) bool { return r.Steps[0].Missed == 1 && !r.Steps[0].Certain }},
		{"a check gives something else", "INSERT INTO tariff VALUES (2)", "DELETE FROM tariff WHERE id = 2", false, func(r *verify.Result) bool { return !r.Steps[0].Checks[0].OK && r.Steps[0].Checks[0].Got == "2" }},
		{"kept rows are gone", "DELETE FROM jugatum_kept_1_1 WHERE seq = 4", "", false, func(r *verify.Result) bool { return r.Steps[0].Kept == 29 && r.Steps[0].Changed == 30 }},
	} {
		dbtest.Exec(t, other, x.change)
		if res := verified(t, db, 1); res.Holds != x.holds || !x.look(res) {
			t.Errorf("%s: %+v", x.name, res)
		}
		if x.back != "" {
			dbtest.Exec(t, other, x.back)
		}
	}
}

// TestVerifyUndo: the old values are expected, but for rows that the undo skipped.
func TestVerifyUndo(t *testing.T) {
	db, other := dbtest.Open(t, "CREATE TABLE berth (id INTEGER PRIMARY KEY, day_rate integer)",
		"INSERT INTO berth SELECT i, i FROM (WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < 40) SELECT i FROM s)")
	if _, err := dbtest.Run(t, db, "UPDATE berth SET day_rate = 0 WHERE id > 10", dbtest.Options()); err != nil {
		t.Fatal(err)
	}
	dbtest.Exec(t, other, "UPDATE berth SET day_rate = 99 WHERE id = 30")
	if _, _, err := dbtest.Undo(t, db, 1); err != nil {
		t.Fatal(err)
	}
	if res := verified(t, db, 2); !res.Holds || res.State != "restored" || res.Steps[0].Left != 1 || res.Steps[0].Compared != 30 {
		t.Errorf("%+v", res)
	}
	dbtest.Exec(t, other, "UPDATE berth SET day_rate = 1 WHERE id = 31")
	if res := verified(t, db, 2); res.Holds || res.Steps[0].Mismatched != 1 {
		t.Errorf("%+v", res)
	}
}
