// Package page makes a report that anybody can read of one run, or of several side by side: as a
// page (HTML) that needs nothing besides, as Markdown, and as the values that both are made of.
package page

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/kept"
	"jugatum/internal/ledger"
	"jugatum/internal/report"
	"jugatum/internal/term"
	"jugatum/internal/timeline"
)

// Page is a report.
type Page struct {
	Runs []*Run
	Made time.Time
	By   string // version of the program
	DB   string // how the options that name the database are repeated, for commands
}

// Run is a run with all that a page tells of it.
type Run struct {
	*report.Run
	Job      Job                `json:"job"`
	Params   []Param            `json:"params"`
	Options  ledger.Options     `json:"-"`
	Verified *ledger.Verified   `json:"verified,omitempty"`       // the last verification; none if nobody has asked
	Doubtful string             `json:"verified_doubt,omitempty"` // why somebody else may have written that it was verified
	Looks    []kept.Look        `json:"looks"`                    // at rows before and after
	Unseen   string             `json:"unseen,omitempty"`         // why there are none
	Doubt    string             `json:"doubt,omitempty"`          // why somebody else may have written the record
	Locks    map[string]int     `json:"locks"`                    // the most of each mode in one batch
	Line     *timeline.Timeline `json:"-"`
}

// Job is what was to be done.
type Job struct {
	Name   string `json:"name"` // of its file; "--sql" for a statement
	Text   string `json:"text"`
	SQL    bool   `json:"sql"` // one statement
	Digest string `json:"digest"`
}

// JobOf is a job by its source.
func JobOf(s job.Source, digest string) Job { return Job{s.Name, s.Text, s.SQL, digest} }

// Param is a value that was given to the job.
type Param struct {
	Name string `json:"name"`
	Type string `json:"type"`
	Text string `json:"text"`
}

// ParamsOf lists the values that a job was given.
func ParamsOf(values map[string]change.Value) []Param {
	out := []Param{}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		if ledger.IsListParam(name) { // told with what becomes of its lines
			continue
		}
		v := values[name]
		if name == change.Clock {
			name = "time of the run"
		}
		out = append(out, Param{name, string(v.Type), v.Text})
	}
	return out
}

// Seen is what the tables themselves show of a run.
type Seen struct {
	Looks   []kept.Look
	Keeping []engine.Setting // work that the run left for later, as it stands now
}

// Read reads a run. see, which may be nil, looks at the tables.
func Read(ctx context.Context, db engine.DB, l *ledger.Ledger, id int64, see func() (Seen, error)) (*Run, error) {
	sum, err := report.Read(ctx, db, l, id, 0)
	if err != nil {
		return nil, err
	}
	r, err := l.Load(ctx, id)
	if err != nil {
		return nil, err
	}
	x := &Run{Run: sum, Job: JobOf(r.Source, r.Digest), Options: r.Options, Looks: []kept.Look{}, Locks: map[string]int{}}
	x.Options.Seal, x.Options.SealedFor = "", "" // which say nothing to a reader
	x.Params = ParamsOf(r.Params)
	if x.Verified, err = l.LastVerified(ctx, id); err != nil {
		return nil, err
	}
	if err := x.measured(ctx, l); err != nil {
		return nil, err
	}
	if see != nil {
		seen, err := see()
		if err != nil {
			x.Unseen = err.Error()
		}
		x.Looks, x.Keeping = append(x.Looks, seen.Looks...), seen.Keeping
	}
	return x, nil
}

// measured lays out what the batches have measured.
func (x *Run) measured(ctx context.Context, l *ledger.Ledger) error {
	batches := make([]timeline.Batch, 0, x.Batches()+1)
	locks, whys := map[string]bool{}, map[string]string{} // texts, each once
	err := l.Batches(ctx, x.Run.Run, func(b ledger.Measured) error {
		batches = append(batches, timeline.Batch{Began: b.Began, Hold: b.Hold, Pause: b.Pause, Why: once(whys, b.Why), Changed: b.Changed, LogBytes: b.LogBytes, Images: b.LogImages, Waiters: b.Waiters, Lag: b.Lag, Retries: b.Retries, SetAside: b.Asides})
		locks[b.Locks] = true
		return nil
	})
	if err != nil {
		return err
	}
	for text := range locks {
		var modes map[string]int
		if text == "" {
			continue
		}
		if err := json.Unmarshal([]byte(text), &modes); err != nil {
			return fmt.Errorf("the record of a batch cannot be read: %w", err)
		}
		for mode, n := range modes {
			x.Locks[mode] = max(x.Locks[mode], n)
		}
	}
	var events []timeline.Event
	for _, s := range x.Signals {
		text := s.Kind
		for _, k := range slices.Sorted(maps.Keys(s.Args)) {
			text += " " + k + " " + s.Args[k]
		}
		at := s.At
		if s.SeenAt != nil {
			at = *s.SeenAt
		}
		events = append(events, timeline.Event{At: at, Text: text + ", by " + s.Who})
	}
	for _, i := range x.Incidents {
		e := timeline.Event{At: i.At, Text: "the server began a checkpoint", Often: true}
		if i.Kind == ledger.Reconnected {
			e.Text, e.Often = fmt.Sprintf("a connection was lost, and made again after %s; %s", term.Duration(report.Milliseconds(i.ForMS)), i.Detail), false
		}
		events = append(events, e)
	}
	x.Line = timeline.New(batches, events)
	return nil
}

// once gives the same text for equal ones, of which there are few.
func once(texts map[string]string, s string) string {
	if same, ok := texts[s]; ok {
		return same
	}
	texts[s] = s
	return s
}

// Changed is how many rows were changed, those of other tables with them.
func (x *Run) Changed() (n int64) {
	for _, s := range x.Steps {
		n += s.Changed
		for _, a := range s.Acts {
			n += a.Changed
		}
	}
	return n
}

// SkippedRows is how many rows an undo has left as others have made them.
func (x *Run) SkippedRows() (n int64) {
	for _, s := range x.Steps {
		n += s.Skipped
	}
	return n
}

// Batches is how many there were.
func (x *Run) Batches() (n int64) {
	for _, s := range x.Steps {
		n += s.Batches
	}
	return n
}

// Took is the time from beginning to end; so far, of a run that is not at its end.
func (x *Run) Took() time.Duration {
	end := time.Now()
	if x.EndedAt != nil {
		end = *x.EndedAt
	}
	return end.Sub(x.StartedAt)
}

// Sentence is how the run ended, with its numbers.
func (x *Run) Sentence() string {
	did := "changed"
	if x.UndoOf != 0 {
		did = fmt.Sprintf("put back as they were before run %d", x.UndoOf)
	} else if verbs := x.verbs(); len(verbs) == 1 {
		did = map[string]string{"delete": "deleted", "insert": "inserted", "move": "moved", "copy": "copied", "call": "called"}[verbs[0]]
		did = cmp.Or(did, "changed")
	}
	what := term.Rows(x.Changed())
	if did == "called" {
		what, did = term.Counted(x.Changed(), "line"), "carried out"
	}
	text := fmt.Sprintf("%s %s in %s, in %s", what, did, batches(x.Batches()), term.Duration(x.Took()))
	if n := x.SetAside; n > 0 {
		text += fmt.Sprintf("; %s set aside", term.Count(n))
	}
	if n := x.SkippedRows(); n > 0 {
		text += fmt.Sprintf("; %s skipped", term.Count(n))
	}
	switch x.Status {
	case ledger.Done:
		text = "Done: " + text
	case ledger.Running:
		text = "Not at its end: so far " + text + ". It is at work, or its process was killed"
	case ledger.Stopped:
		text = "Stopped: so far " + text + ". It can be resumed"
	default:
		text = "Failed: " + text + " before that. It can be resumed"
	}
	if x.UndoneBy != 0 {
		text += fmt.Sprintf(". Run %d took it back", x.UndoneBy)
	}
	return text + "."
}

func batches(n int64) string {
	if n == 1 {
		return "1 batch"
	}
	return term.Count(n) + " batches"
}

// verbs are what the steps do, each once.
func (x *Run) verbs() (out []string) {
	for _, s := range x.Steps {
		if s.Changed > 0 && !slices.Contains(out, s.Verb) {
			out = append(out, s.Verb)
		}
	}
	return out
}

// HeldUp reports whether the run was verified after its end, and held, beyond doubt.
func (x *Run) HeldUp() bool {
	return x.Doubtful == "" && x.Verified != nil && x.Verified.Holds && !x.wentOn()
}

// wentOn reports whether the run has been at work since it was verified, which only a run is that is done.
func (x *Run) wentOn() bool { return x.EndedAt == nil || x.Verified.At.Before(*x.EndedAt) }

// VerifiedText says whether and how the run was verified.
func (x *Run) VerifiedText() string {
	v := x.Verified
	if v == nil {
		return "not verified"
	}
	result := "it holds"
	if !v.Holds {
		result = fmt.Sprintf("it does not hold: %s not as recorded", term.Rows(v.Mismatched))
		if v.Mismatched == 0 {
			result = "it does not hold"
		}
	}
	if x.wentOn() {
		return fmt.Sprintf("not verified since it went on (before that, on %s: %s)", v.At.Local().Format("2006-01-02 15:04:05"), result)
	}
	text := fmt.Sprintf("%s; %s of kept values compared with the tables", result, term.Rows(v.Compared))
	if n := len(v.Checks); n > 0 {
		text += fmt.Sprintf(", %s of the job asked", term.Counted(int64(n), "check"))
	}
	text += fmt.Sprintf(" (%s, by %s on %s)", v.At.Local().Format("2006-01-02 15:04:05"), v.Who, v.Host)
	if x.Doubtful != "" {
		text += "; " + x.Doubtful
	}
	return text
}

// Title is what the page is called.
func (p *Page) Title() string {
	var names []string
	for _, r := range p.Runs {
		names = append(names, fmt.Sprint(r.Run.Run))
	}
	if len(names) == 1 {
		return fmt.Sprintf("Run %s: %s", names[0], p.Runs[0].Title)
	}
	return "Runs " + strings.Join(names, ", ")
}
