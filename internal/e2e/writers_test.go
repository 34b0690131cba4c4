package e2e

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"
)

// TestConcurrentWriters lets other sessions update, insert and delete while a
// run goes on: no row is changed twice, no writer's work is lost, no row that
// came after the end of the walk is touched.
func TestConcurrentWriters(t *testing.T) {
	const rows, hold = 60_000, 100 * time.Millisecond
	engines(t, func(t *testing.T, d *database) { concurrentWriters(t, d, rows, hold, 1) })
	servers(t, func(t *testing.T, d *database) { concurrentWriters(t, d, rows, hold, 2) })
}

func concurrentWriters(t *testing.T, d *database, rows int, hold time.Duration, workers int) {
	d.exec("CREATE TABLE t (id "+d.integer()+" PRIMARY KEY, n bigint, pad text)", "INSERT INTO t SELECT i, 0, 'pad ' || i FROM "+d.numbers(rows))
	d.settled("t")
	var mu sync.Mutex
	added := map[int]int{}    // row → what writers added to it
	deleted := map[int]bool{} // rows that writers deleted
	var waits []time.Duration
	idle := 0 // of these, how many were over before the run began
	ctx, stop := context.WithCancel(context.Background())
	var group sync.WaitGroup
	for w := 0; w < 3; w++ {
		group.Add(1)
		go func() {
			defer group.Done()
			r := rand.New(rand.NewPCG(uint64(w), 1))
			for i := 0; ctx.Err() == nil; i++ {
				id := 1 + r.IntN(rows)
				text, kind := fmt.Sprintf("UPDATE t SET n = n + 1 WHERE id = %d", id), "add"
				switch {
				case i%20 == 7:
					text, kind = fmt.Sprintf("INSERT INTO t VALUES (%d, 0, 'new')", rows+1+w+3*i), "insert"
				case i%20 == 13:
					text, kind = fmt.Sprintf("DELETE FROM t WHERE id = %d", id), "delete"
				}
				begun := time.Now()
				res, err := d.db.Exec(text)
				took := time.Since(begun)
				if err != nil {
					t.Errorf("a writer failed: %v", err)
					return
				}
				n, _ := res.RowsAffected()
				mu.Lock()
				waits = append(waits, took)
				if kind == "add" && n == 1 {
					added[id]++
				}
				if kind == "delete" && n == 1 {
					deleted[id] = true
				}
				mu.Unlock()
				time.Sleep(time.Duration(2+r.IntN(6)) * time.Millisecond)
			}
		}()
	}
	d.until("each writer has written", func() bool {
		mu.Lock()
		defer mu.Unlock()
		idle = len(waits)
		return idle >= 10
	})
	d.must(0, "run", "--sql", "UPDATE t SET n = n + 1000000, pad = pad || '!' WHERE id > 0", "--accept", "any", "--hold", hold.String(), "--workers", fmt.Sprint(workers))
	stop()
	group.Wait()
	checkRows(t, d, added, deleted)
	waits = waits[idle:]
	slices.Sort(waits)
	if len(waits) > 0 { // how long they wait is a figure of bench -load
		t.Logf("%d writes beside the run; waits: 95th percentile %v, longest %v; hold target %v", len(waits), waits[len(waits)*95/100], waits[len(waits)-1], hold)
	}
	// Undo leaves alone what writers changed after the batch, and says so.
	before := d.one("SELECT count(*) FROM t")
	o := d.jugatum("undo", "1")
	if o.status != 0 && o.status != 5 {
		t.Fatalf("undo: exit status %d\n%s%s", o.status, o.out, o.err)
	}
	if got := d.one("SELECT count(*) FROM t"); got != before {
		t.Errorf("undo of an update left %s rows of %s", got, before)
	}
	left := d.one("SELECT count(*) FROM " + d.ledger("outcome") + " WHERE kind = 'skipped'")
	gone := d.one("SELECT count(*) FROM " + d.ledger("outcome") + ` WHERE kind = 'skipped' AND detail NOT LIKE '%"found":%'`)
	still := d.one("SELECT count(*) FROM t WHERE n >= 1000000")
	if fmt.Sprint(atoi(left)-atoi(gone)) != still {
		t.Errorf("%s rows left alone, %s of them gone, but %s still carry the change", left, gone, still)
	}
	t.Logf("undo left %s rows alone, %s of them gone", left, gone)
	d.must(0, "verify", "2")
}

func atoi(s string) (n int) {
	fmt.Sscan(s, &n)
	return n
}

// checkRows holds every row against what must have become of it.
func checkRows(t *testing.T, d *database, added map[int]int, deleted map[int]bool) {
	t.Helper()
	const rows = 60_000
	list, err := d.db.Query("SELECT id, n, pad FROM t")
	if err != nil {
		t.Fatal(err)
	}
	defer list.Close()
	seen := map[int]bool{}
	for list.Next() {
		var id, n int
		var pad sql.NullString
		if err := list.Scan(&id, &n, &pad); err != nil {
			t.Fatal(err)
		}
		seen[id] = true
		if id > rows {
			if n != 0 || pad.String != "new" {
				// Keys of new rows lie after the end of the walk, unless they came before the run began.
				if n != 1_000_000 || pad.String != "new!" {
					t.Errorf("new row %d: n = %d, pad = %q", id, n, pad.String)
				}
			}
			continue
		}
		if n != 1_000_000+added[id] || strings.Count(pad.String, "!") != 1 {
			t.Errorf("row %d: n = %d, pad = %q, and writers added %d", id, n, pad.String, added[id])
		}
	}
	if err := list.Err(); err != nil {
		t.Fatal(err)
	}
	for id := 1; id <= rows; id++ {
		if seen[id] == deleted[id] {
			t.Errorf("row %d: there %v, deleted by a writer %v", id, seen[id], deleted[id])
		}
	}
}
