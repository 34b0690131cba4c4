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
	last   string // the one before, by its name; "" until it was asked
}

// next gives the time at which a checkpoint began that has come to its end since it was asked before,
// zero if none has; now is the time by our clock.
func (c *checkpoints) next(ctx context.Context, now time.Time) (began time.Time, err error) {
	if c.teller == nil || now.Sub(c.asked) < pointsEvery {
		return began, nil
	}
	c.asked = now
	p, err := c.teller.LastCheckpoint(ctx)
	if err != nil || p.Name == c.last {
		return began, err
	}
	if c.last != "" {
		began = now.Add(-p.Ago)
	}
	c.last = p.Name
	return began, nil
}

// whereabouts is the server that a run works at, as far as it is known.
type whereabouts struct {
	mu     sync.Mutex
	server engine.Server
	known  bool
}

// ask asks at which server a session is, and words which it is beside the one before; "" where that is
// not known.
func (a *whereabouts) ask(ctx context.Context, db engine.DB, s *engine.Session) (words string) {
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
	if words := k.at.ask(ctx, k.DB, k.session); words != "" {
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
