package pace

import (
	"fmt"
	"strconv"
	"time"
)

// Limits are what a run may not exceed. The zero value of each but Waiters
// means that there is no such limit.
type Limits struct {
	Waiters *int          `json:"waiters,omitempty"`  // most other sessions waiting on us before we ease off; nil no limit
	Lag     time.Duration `json:"lag,omitempty"`      // most that a replica may be behind
	LogRate int64         `json:"log_rate,omitempty"` // most log written, bytes a second
	Window  Window        `json:"window,omitzero"`    // when batches may begin
}

// Pressure is what was last seen of the others.
type Pressure struct {
	Sample  int64   // counts up with every look; 0: nobody looks
	Waiters int     // other sessions waiting on us
	Lag     Lag     // of the replica furthest behind
	Replica string  // which that is, and what it lacks
	HeldUp  float64 // share of the time since the look before in which a cluster held up all writers
	Queue   float64 // what waits to be applied on our node of it; 1: as much as makes it hold them up
	Now     time.Time
}

// Decision is what to do next.
type Decision struct {
	Rows  int           // of the next batch; 0: wait for Pause and ask again
	Pause time.Duration // before it
	Why   string        // the reason for the pause, or for fewer rows; "" without one
}

// Pacer decides how large the next batch is and how long to wait before it.
//
// The hold target alone steers the size as long as nobody is in the way (Sizer).
// Where it is said how many may wait, batches aim at a fifth of the target, so
// that few others meet one at all. While more sessions wait on us than allowed, every look that sees them halves
// the batches, down to a sixty-fourth, and a pause as long as the last hold lets
// them have their turn; every look that sees none brings a quarter back, so that
// full size returns within 20 looks, five seconds. A replica is kept within the
// limit to its lag by the brake. The log's rate is held by
// pausing until what was written is within it. A cluster that holds all writers up
// because a node cannot keep pace is eased off for like waiters, without being
// told to: everybody on it waits. So is a node of ours that is half way there.
//
// It is told of waits only as often as somebody looks, and of shorter ones not
// at all.
type Pacer struct {
	Sizer
	Limits  Limits
	Workers int // that share the limits to lag and log, each with a Pacer of its own; 0 is 1

	ease   float64 // share of the sizer's rows, 1 without pressure
	cause  string  // why it is less
	sample int64   // last look that was taken into account
	brake  brake
	hold   time.Duration // of the last batch
	paid   time.Time     // the log written so far is within its rate from then on
}

const (
	easeDown   = 0.5         // on every look that sees too many waiting
	easeLeast  = 1.0 / 64    // a batch of some rows always makes progress
	easeUp     = 1.25        // on every look that does not
	heldShare  = 0.05        // of the time held up by a cluster; a node that copes holds nobody up
	queueShare = 0.5         // of the queue at which our node would hold them up; one that copes has next to none
	logBurst   = time.Second // of log that may be written ahead of the rate
)

// Next decides on the next batch.
func (p *Pacer) Next(s Pressure) Decision {
	if p.ease == 0 {
		p.ease = 1
	}
	if opens := p.Limits.Window.Opens(s.Now); opens > 0 {
		return Decision{Pause: min(opens, time.Minute), Why: fmt.Sprintf("outside the window %s", p.Limits.Window)}
	}
	d := Decision{}
	p.Sizer.Gentle = p.Limits.Waiters != nil
	if s.Sample > p.sample {
		p.sample = s.Sample
		if s.Waiters > 0 {
			p.Sizer.Waited()
		}
		switch {
		case s.HeldUp > heldShare, s.Queue > queueShare:
			p.ease, p.cause = max(p.ease*easeDown, easeLeast), "the cluster holds writers up"
			if s.HeldUp <= heldShare {
				p.cause = "our node of the cluster is near to holding writers up"
			}
			d.Pause = max(p.hold, lagLook)
		case p.Limits.Waiters != nil && s.Waiters > *p.Limits.Waiters:
			p.ease, p.cause = max(p.ease*easeDown, easeLeast), "others waited on us"
			d.Pause = p.hold
		default:
			p.ease = min(p.ease*easeUp, 1)
		}
	}
	if p.ease < 1 {
		d.Why = fmt.Sprintf("%d %% of the rows, since %s", int(p.ease*100), p.cause)
	}
	if p.Limits.LogRate > 0 {
		if ahead := p.paid.Sub(s.Now.Add(logBurst)); ahead > 0 {
			d.Pause, d.Why = max(d.Pause, ahead), fmt.Sprintf("waiting: log limit %s MB/s", strconv.FormatFloat(float64(p.Limits.LogRate)/1e6, 'g', 3, 64))
		}
	}
	d.Rows = max(int(float64(p.Sizer.Next())*p.ease), 1)
	p.brake.workers = p.Workers
	rows, wait := p.brake.allow(p.Limits.Lag, s.Sample, s.Lag, d.Rows)
	if rows < d.Rows {
		d.Rows, d.Pause, d.Why = rows, max(d.Pause, wait), fmt.Sprintf("a replica is %s behind", round(s.Lag.Age))
		if s.Replica != "" {
			d.Why += ": " + s.Replica
		}
	}
	return d
}

// Finished tells what a batch cost, as Sizer.Done, and the log it wrote (bytes,
// -1 unknown).
func (p *Pacer) Finished(rows, changed int, work, commit time.Duration, log int64, now time.Time) {
	p.Sizer.Done(rows, changed, work, commit)
	p.hold = work + commit
	p.brake.wrote(rows, log)
	if p.Limits.LogRate > 0 && log > 0 {
		if p.paid.Before(now) {
			p.paid = now
		}
		rate := float64(p.Limits.LogRate) / float64(max(p.Workers, 1))
		p.paid = p.paid.Add(time.Duration(float64(log) / rate * float64(time.Second)))
	}
}

func round(d time.Duration) time.Duration {
	if d > 10*time.Second {
		return d.Round(time.Second)
	}
	return d.Round(10 * time.Millisecond)
}

// Window is a stretch of the day, local time; it may go over midnight. The zero
// value is the whole day.
type Window struct {
	From, To int // minutes after midnight; equal: the whole day
}

// ParseWindow reads "22:00-05:30".
func ParseWindow(s string) (Window, error) {
	var a, b, c, d int
	var rest string
	n, _ := fmt.Sscanf(s+" ", "%d:%d-%d:%d%s", &a, &b, &c, &d, &rest)
	w := Window{a*60 + b, c*60 + d}
	if n != 4 || a < 0 || a > 23 || c < 0 || c > 23 || b < 0 || b > 59 || d < 0 || d > 59 || w.From == w.To {
		return Window{}, fmt.Errorf("%q is not a stretch of the day such as 22:00-05:30", s)
	}
	return w, nil
}

func (w Window) String() string {
	return fmt.Sprintf("%02d:%02d-%02d:%02d", w.From/60, w.From%60, w.To/60, w.To%60)
}

// Opens is how long it is until the window opens, 0 inside it.
func (w Window) Opens(now time.Time) time.Duration {
	if w.From == w.To {
		return 0
	}
	at := time.Duration(now.Hour())*time.Hour + time.Duration(now.Minute())*time.Minute + time.Duration(now.Second())*time.Second
	from, to := time.Duration(w.From)*time.Minute, time.Duration(w.To)*time.Minute
	inside := at >= from && at < to
	if from > to {
		inside = at >= from || at < to
	}
	switch {
	case inside:
		return 0
	case at < from:
		return from - at
	}
	return from - at + 24*time.Hour
}
