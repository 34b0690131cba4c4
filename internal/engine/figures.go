package engine

import (
	"context"
	"time"

	"jugatum/internal/change"
)

// What is measured, and watched.

// WaitWatcher is met by engines that can tell which sessions wait for whose locks.
type WaitWatcher interface {
	// Waiting tells who waits for the sessions numbered ids, and which of these
	// wait for others. Waits among them count on neither side. It may be called
	// while they are busy. What it may not see is left out.
	Waiting(ctx context.Context, ids []int64) (Waits, error)
}

// LockTeller is met by engines that can tell which locks a transaction holds.
type LockTeller interface {
	// Locks counts the locks of the open transaction by kind.
	Locks(ctx context.Context, tx *Tx) (map[string]int, error)
}

// LagTeller is met by engines that can tell how far replicas are behind.
type LagTeller interface {
	// Lag is that of the replica furthest behind. A replica that was there and
	// does not answer any more counts as standing where it stood.
	Lag(ctx context.Context) (Lag, error)
}

// ReplicaFollower is met by engines whose replicas must be asked themselves how
// far they are.
type ReplicaFollower interface {
	// Follow has LagTeller tell of the replicas at these URLs. One that cannot be
	// reached is an *OpenError, or, with patience, counts as standing still.
	Follow(ctx context.Context, urls []string, patience bool) error
}

// FlowTeller is met by engines of clusters in which a node that falls behind
// holds up the writers of all.
type FlowTeller interface {
	Flow(ctx context.Context) (Flow, error)
}

// ServerTeller is met by engines that count what the whole server writes.
type ServerTeller interface {
	// ServerFigures gives counters and lengths by name; their difference over a
	// run has the scope "server", other sessions' work included.
	ServerFigures(ctx context.Context) (map[string]int64, error)

	// ServerAt tells which server the session is at.
	ServerAt(ctx context.Context, s *Session) (Server, error)
}

// Server is one at which a session is.
type Server struct {
	Name    string        // address or host, and port, as the server itself says
	Started time.Time     // by its own clock
	Within  time.Duration // how exact that is
}

// CheckpointTeller is met by engines whose servers write more log after each checkpoint.
type CheckpointTeller interface {
	// LastCheckpoint tells of the last checkpoint that has come to its end.
	LastCheckpoint(ctx context.Context) (Point, error)
}

// Point is a checkpoint.
type Point struct {
	Name string        // by which it is told from others: where it is in the log
	Ago  time.Duration // since it began, by the server's clock, to within a second
}

// LogPositioner is met by engines that tell a transaction's own log only at its
// commit, but how far the whole server's log has come at any time.
type LogPositioner interface {
	// LogPosition is in bytes of the log of this kind; only the difference of two
	// answers means something, and its scope is "server".
	LogPosition(ctx context.Context) (position int64, kind string, err error)
}

// Housekeeper is met by engines that leave work behind for later: dead row
// versions, old transaction numbers, history.
type Housekeeper interface {
	// Housekeeping tells how much of that there is now, and what it means for
	// such a change.
	Housekeeping(ctx context.Context, c *change.Change) ([]Setting, error)
}

// MS is a duration in milliseconds, as the ledger and JSON have it; to the microsecond.
func MS(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

// KnownMS is MS of a duration that may not be known, which is below 0: then it is -1.
func KnownMS(d time.Duration) float64 {
	if d < 0 {
		return -1
	}
	return MS(d)
}

// Weigher is met by engines that can tell how much room one table takes.
type Weigher interface {
	// Weigh gives the bytes of a table with its indexes; table is SQL text.
	Weigh(ctx context.Context, table string) (int64, error)
}
