package trial

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"jugatum/internal/engine"
)

// lookEvery is how often it is asked who waits for a trial.
const lookEvery = 25 * time.Millisecond

// onlooker sees which other sessions wait for the trials'.
type onlooker struct {
	stop context.CancelFunc
	done chan struct{}

	mu    sync.Mutex
	most  int // waiting at once since it was last asked
	looks int // in all
}

// watch begins to look; nil where the engine cannot tell.
func watch(ctx context.Context, db engine.DB, sessions []*engine.Session) *onlooker {
	watcher, ok := db.(engine.WaitWatcher)
	if !ok {
		return nil
	}
	var ids []int64
	for _, s := range sessions {
		ids = append(ids, s.ID)
	}
	ctx, stop := context.WithCancel(ctx)
	o := &onlooker{stop: stop, done: make(chan struct{})}
	go func() {
		defer close(o.done)
		tick := time.NewTicker(lookEvery)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			w, err := watcher.Waiting(ctx, ids)
			if err != nil { // then it is not known, and no reason to end the trials
				return
			}
			o.mu.Lock()
			o.most = max(o.most, len(w.Others))
			o.looks++
			o.mu.Unlock()
		}
	}()
	return o
}

// end ends it.
func (o *onlooker) end() {
	if o != nil {
		o.stop()
		<-o.done
	}
}

// since gives the most sessions that waited at once since it was last asked, and how often it was
// looked since the beginning.
func (o *onlooker) since() (most, looks int) {
	if o == nil {
		return 0, 0
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	most, o.most = o.most, 0
	return most, o.looks
}

// Others says who waited for the trials; "" where nobody could tell.
func (r *Result) Others() string {
	if r.Looks == 0 {
		return ""
	}
	var list []string
	for _, w := range r.Ways {
		if w.Waiters > 0 {
			list = append(list, fmt.Sprintf("%s (up to %d at once)", w.Name(), w.Waiters))
		}
	}
	if len(list) == 0 {
		return fmt.Sprintf("no other session was seen to wait for them (%d looks)", r.Looks)
	}
	return "other sessions were seen to wait for " + strings.Join(list, ", ")
}
