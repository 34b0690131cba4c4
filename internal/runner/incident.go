package runner

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
)

// pointsEvery is how often it is asked whether the server has begun a checkpoint.
const pointsEvery = 2 * time.Second

// checkpoints follows those of the server; teller is nil where it tells of none.
type checkpoints struct {
	teller engine.CheckpointTeller
	asked  time.Time
	last   time.Time // that was told of, by the server's clock
}

// next gives the time at which a checkpoint began that was not told of before. What cannot be
// asked is not asked again: the run goes on without.
func (c *checkpoints) next(ctx context.Context) (began time.Time, ok bool) {
	if c.teller == nil || time.Since(c.asked) < pointsEvery {
		return began, false
	}
	c.asked = time.Now()
	at, now, err := c.teller.LastCheckpoint(ctx)
	if err != nil {
		if ctx.Err() == nil {
			c.teller = nil
		}
		return began, false
	}
	if at.Equal(c.last) {
		return began, false
	}
	c.last = at
	return time.Now().Add(at.Sub(now)), true // by our clock, as all that is on record
}

// at is the server that a run works at, as far as it is known.
type at struct {
	mu     sync.Mutex
	server engine.Server
	known  bool
}

// is asks which server a session is at, and says in words which it is compared with before.
func (a *at) is(ctx context.Context, db engine.DB, s *engine.Session) (words string) {
	t, ok := db.(engine.ServerTeller)
	if !ok {
		return ""
	}
	now, err := t.ServerAt(ctx, s)
	if err != nil {
		return "" // the run goes on without
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	switch {
	case !a.known:
	case now.Name != a.server.Name:
		words = fmt.Sprintf("another server, %s instead of %s", now.Name, a.server.Name)
	case now.Started.Sub(a.server.Started).Abs() > now.Within:
		words = "the same server, which has been started anew"
	default:
		words = "the same server"
	}
	a.server, a.known = now, true
	return words
}

// connected says that a worker has a connection again, which it had lost for a cause.
func (k *worker) connected(ctx context.Context, cause error, lost time.Time) {
	detail := cause.Error()
	if words := k.at.is(ctx, k.DB, k.session); words != "" {
		detail = words + ": " + detail
	}
	k.others.tells(ledger.Incident{At: lost, Kind: ledger.Reconnected, ForMS: engine.MS(time.Since(lost)), Detail: strings.ToValidUTF8(detail, "?")})
}

// tells has something that happened recorded with the next batch.
func (o *onlooker) tells(x ledger.Incident) {
	if o == nil {
		return
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	o.happened = append(o.happened, x)
}
