package runner

import (
	"time"

	"jugatum/internal/ledger"
)

// Event is something that happened to a run, for a program that follows it. Which fields have a
// meaning depends on the kind.
type Event struct {
	At   time.Time
	Kind Kind
	Work *Work // the step; nil of the run as a whole

	Lane   int            // batch
	Batch  *ledger.Batch  // batch: with all that was measured; its waiters may become more yet
	Why    string         // waiting, retry, set aside: the reason
	For    time.Duration  // waiting: at least so long
	Key    string         // set aside
	Signal *ledger.Signal // signal
	Wait   *ledger.Wait   // waited
	Tried  int            // retry: how often in a row

	Incident *ledger.Incident // incident
}

// Kind is what happened.
type Kind string

const (
	StepBegins Kind = "step"      // or goes on, in a run that is resumed
	StepDone   Kind = "step done" // and its account was settled
	BatchDone  Kind = "batch"     // it was committed
	Waiting    Kind = "waiting"   // no batch is made now
	Retrying   Kind = "retry"     // a batch failed and is tried again
	AsideSet   Kind = "set aside" // a row, or line
	Signalled  Kind = "signal"    // a word from another terminal was heard
	Incident   Kind = "incident"  // the server or a connection had one, and it was recorded
	Waited     Kind = "waited"    // another session's wait on us is over, as far as was seen
)

// happens tells of an event, if anybody is to be told. Whoever is told must not take its time.
func (r *Runner) happens(e Event) {
	if r.Happened == nil {
		return
	}
	e.At = time.Now()
	r.Happened(e)
}

// seen tells of what others' waits have been recorded, and forgets them.
func (r *Runner) seen() {
	for _, w := range r.sight.waits {
		r.happens(Event{Kind: Waited, Wait: &w})
	}
	for _, x := range r.sight.incidents {
		r.happens(Event{Kind: Incident, Incident: &x})
	}
	r.sight = unseen()
}
