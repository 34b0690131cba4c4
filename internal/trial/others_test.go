package trial

import (
	"context"
	"slices"
	"testing"

	"jugatum/internal/engine"
)

// waited is a database that tells of so many sessions that wait, look by look.
type waited struct {
	engine.DB
	asked chan []int64
	tells chan int
}

func (w *waited) Waiting(ctx context.Context, ids []int64) (x engine.Waits, err error) {
	w.asked <- ids
	x.Others = make([]engine.Waiter, <-w.tells)
	return x, nil
}

// TestOthers: the most sessions that waited at once are those of the trial during which they were seen.
func TestOthers(t *testing.T) {
	db := &waited{asked: make(chan []int64), tells: make(chan int)}
	o := watch(t.Context(), db, []*engine.Session{{ID: 7}, {ID: 9}})
	look := func(waiting int) {
		if ids := <-db.asked; !slices.Equal(ids, []int64{7, 9}) {
			t.Errorf("asked for sessions %v", ids)
		}
		db.tells <- waiting
	}
	for range 2 {
		look(0)
		look(3)
		look(1)
		<-db.asked // by then the look before is taken into account
		if most, _ := o.since(); most != 3 {
			t.Errorf("%d waited, want 3", most)
		}
		db.tells <- 0
	}
	go func() {
		for range db.asked {
			db.tells <- 0
		}
	}()
	o.end()
	if _, looks := o.since(); looks < 7 {
		t.Errorf("%d looks, want 7 or more", looks)
	}
	r := &Result{Looks: 8, Ways: []Tried{{Way: Way{Method: "sweep", Workers: 2, Keep: true}, Waiters: 3}, {Way: Way{Method: "single", Workers: 1, Keep: true}}}}
	if got := r.Others(); got != "other sessions were seen to wait for sweep, 2 workers (up to 3 at once)" {
		t.Error(got)
	}
	if r.Ways[0].Waiters = 0; r.Others() != "no other session was seen to wait for them (8 looks)" {
		t.Error(r.Others())
	}
	if r.Looks = 0; r.Others() != "" {
		t.Error(r.Others())
	}
	var none *onlooker // SQLite
	none.end()
	if most, looks := none.since(); most+looks != 0 {
		t.Error(most, looks)
	}
}
