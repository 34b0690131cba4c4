package runner

import (
	"context"
	"testing"
	"time"
)

// TestTunedPauseEnds: a pause of any length is over once other options are there,
// which may ask for none.
func TestTunedPauseEnds(t *testing.T) {
	for _, wake := range []func(*worker){
		func(k *worker) { k.tuned++ },
		func(k *worker) { k.hold("paused") },
	} {
		k := &worker{Runner: &Runner{}}
		wake(k)
		if err := k.wait(context.Background(), 1000*time.Hour, "outside the window"); err != nil {
			t.Error(err)
		}
	}
}
