package cli

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/pace"
	"jugatum/internal/term"
)

// limits are the limits that count: the flags', else the job's, else the default.
func limits(c *cli.Command, j *job.Job) (ledger.Options, error) {
	o := ledger.Options{Hold: defaultHold, Batch: j.Limits.Batch, Workers: j.Limits.Workers, Keep: true}
	if j.Limits.Hold > 0 {
		o.Hold = j.Limits.Hold
	}
	if c.IsSet("hold") {
		o.Hold = c.Duration("hold")
		if o.Hold < time.Millisecond || o.Hold > time.Hour {
			return o, usagef("--hold %v: expected a time from 1ms to 1h", o.Hold)
		}
	}
	if c.IsSet("batch") {
		o.Batch = int(c.Int("batch"))
		if o.Batch < 1 {
			return o, usagef("--batch %d: expected a number of rows from 1 up", o.Batch)
		}
	}
	if c.IsSet("workers") {
		var err error
		if o.Workers, err = pace.ParseWorkers(c.String("workers")); err != nil {
			return o, usagef("--workers %s: %v", c.String("workers"), err)
		}
	}
	o.Replicas = c.StringSlice("replica")
	texts := map[string]string{}
	for name, text := range j.Limits.Pace {
		texts[name] = text
	}
	for flag, name := range limitNames {
		if c.IsSet(flag) {
			texts[name] = c.String(flag)
		}
	}
	var err error
	if o.Limits, err = pace.ParseLimits(texts); err != nil {
		return o, usagef("%v", err)
	}
	if o.SetAside = int(c.Int("set-aside")); o.SetAside < 0 {
		return o, usagef("--set-aside %d: expected a number of rows from 0 up", o.SetAside)
	}
	switch keep := c.String("keep"); keep {
	case "values", "": // undo has no such flag
	case "none":
		o.Keep = false
	default:
		return o, usagef("--keep %s: there is values and none", keep)
	}
	return o, nil
}

// able refuses limits that this engine cannot see to: a limit that nobody
// watches would be worse than none.
func able(db engine.DB, o ledger.Options) error {
	l := o.Limits
	if m, ok := db.(engine.ManyWriters); o.Workers > 1 && (!ok || !m.ManyWriters()) {
		return usagef("workers: %s has one writer at a time; leave the limit out", db.Version())
	}
	if _, ok := db.(engine.WaitWatcher); !ok && l.Waiters != nil {
		return usagef("waiters: %s does not tell which sessions wait for us; leave the limit out, and choose a shorter --hold", db.Version())
	}
	if _, ok := db.(engine.LagTeller); !ok && l.Lag > 0 {
		return usagef("lag: %s has no replicas; leave the limit out", db.Version())
	}
	_, follows := db.(engine.ReplicaFollower)
	if follows && l.Lag > 0 && len(o.Replicas) == 0 {
		return usagef("lag: which replica? %s does not tell how far its replicas are; name them with --replica URL", db.Version())
	}
	if !follows && len(o.Replicas) > 0 && o.Replicas[0] != "none" {
		return usagef("replica: %s tells of its replicas by itself, or has none; leave it out", db.Version())
	}
	return nil
}

// named refuses to follow a replica that only a job or a record names: it is sent
// this database's user and password, which nobody but the person at work may have
// sent anywhere.
func named(c *cli.Command, wanted []string, who string) error {
	if len(wanted) == 0 || c.IsSet("replica") {
		return nil
	}
	safe := make([]string, len(wanted))
	for i, raw := range wanted {
		safe[i] = engine.SafeURL(raw)
	}
	return usagef("%s is to be paced by replicas (%s): name each with --replica, since it is sent the user and password of this database; or go by none, with --replica none", who, term.Clean(strings.Join(safe, ", ")))
}

// follow connects to the replicas that a run is to mind. Their passwords are
// not recorded with it.
func follow(ctx context.Context, c *cli.Command, db engine.DB, o *ledger.Options) error {
	if slices.Equal(o.Replicas, []string{"none"}) {
		o.Replicas = nil
	}
	if len(o.Replicas) == 0 {
		return nil
	}
	if err := db.(engine.ReplicaFollower).Follow(ctx, o.Replicas, c.Bool("await-replicas")); err != nil {
		return err
	}
	safe := make([]string, len(o.Replicas))
	for i, raw := range o.Replicas {
		safe[i] = engine.SafeURL(raw)
	}
	o.Replicas = safe
	return nil
}

// defaultHold is short enough that a person waiting behind a batch does not notice.
const defaultHold = 200 * time.Millisecond
