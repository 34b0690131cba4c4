package ledger_test

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strconv"
	"testing"
	"time"

	"jugatum/internal/dbtest"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
)

// TestExcess: the oldest goes first, by age and by room; never that of the run itself, of one without an
// end, or of none.
func TestExcess(t *testing.T) {
	now := time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)
	var rooms []ledger.Room
	for n := int64(1); n <= 6; n++ {
		x := ledger.Room{Run: n, Bytes: 100, Ended: now.AddDate(0, 0, int(n)-6)} // five days ago, four, …
		if n == 3 {
			x.Ended = time.Time{}
		}
		rooms = append(rooms, x)
	}
	rooms = append(rooms, ledger.Room{Bytes: 50})
	for _, x := range []struct {
		keep job.Keep
		want []int64
	}{
		{job.Keep{}, nil},
		{job.Keep{Days: 4}, []int64{1, 2}},
		{job.Keep{Days: 1}, []int64{1, 2, 4, 5}},
		{job.Keep{Bytes: 650}, nil},
		{job.Keep{Bytes: 649}, []int64{1}},
		{job.Keep{Bytes: 400}, []int64{1, 2, 4}},
		{job.Keep{Bytes: 1}, []int64{1, 2, 4, 5}},
		{job.Keep{Days: 5, Bytes: 500}, []int64{1, 2}},
	} {
		var got []int64
		for _, r := range ledger.Excess(rooms, 6, x.keep, now) {
			got = append(got, r.Run)
		}
		if !slices.Equal(got, x.want) {
			t.Errorf("%+v: %v, expected %v", x.keep, got, x.want)
		}
	}
}

// TestManyRuns: with limits to what is kept, many runs leave no more than the last few do, and only
// records beside that. JUGATUM_RUNS=1000 makes so many; each takes some 30 ms of a processor.
func TestManyRuns(t *testing.T) {
	many, err := strconv.Atoi(cmp.Or(os.Getenv("JUGATUM_RUNS"), "100"))
	if err != nil {
		t.Fatal(err)
	}

	ctx := context.Background()
	db, other := dbtest.Open(t, "CREATE TABLE visit (id INTEGER PRIMARY KEY, dues integer)", "INSERT INTO visit WITH RECURSIVE n(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n WHERE i < 40) SELECT i, i FROM n")
	l := ledger.Open(db)
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "test", LockTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	opts := dbtest.Options()
	opts.Batch = 1000
	const limit, page = 20 << 12, 4096
	for n := range many {
		r, err := dbtest.Run(t, db, fmt.Sprintf("UPDATE visit SET dues = dues + %d", n), opts)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := l.Tidy(ctx, s, r.ID, job.Keep{Bytes: limit}); err != nil {
			t.Fatal(err)
		}
	}
	objects, err := db.LedgerObjects(ctx, true)
	if err != nil {
		t.Fatal(err)
	}
	total := int64(0)
	for _, o := range objects {
		total += o.Bytes
	}
	if len(objects) == 0 || len(objects) > limit/page || total > limit {
		t.Errorf("%d tables of %d bytes are left", len(objects), total)
	}
	if n := dbtest.One(t, other, "SELECT count(*) || ' ' || (SELECT count(DISTINCT run) FROM jugatum_outcome WHERE kind = 'pruned') FROM jugatum_run"); n != fmt.Sprintf("%d %d", many, many-len(objects)) {
		t.Errorf("runs on record and pruned: %s, tables left %d", n, len(objects))
	}
	if _, _, err := dbtest.Undo(t, db, int64(many)); err != nil { // the last one's are there
		t.Error(err)
	}
	r, err := l.Load(ctx, 1)
	if err != nil || r.Pruned == nil || r.Lost() == "" {
		t.Errorf("%+v, %v", r, err)
	}
}
