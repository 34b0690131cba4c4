package page

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"maps"
	"slices"
	"strings"
	"time"

	"jugatum/internal/report"
	"jugatum/internal/term"
	"jugatum/internal/trial"
)

//go:embed trial.html
var trialPage string

func init() { template.Must(templates.New("trial").Parse(trialPage)) }

// Trial is what the ways to carry a job out came to, as they were tried.
type Trial struct {
	Title    string
	Database string
	User     string
	DBUser   string
	Job      Job
	Params   []Param
	Steps    []TriedStep
	Keys     string // what the ways are in the order of: time, hold, log, room
	Hold     time.Duration
	Made     time.Time
	By       string // version of the program
}

// TriedStep is one of its steps.
type TriedStep struct {
	Name  string
	Table string
	*trial.Result
	Advice  string
	Command string // that carries the job out in the way recommended; "" if none is
}

// HTML writes the page.
func (t *Trial) HTML(w io.Writer) error {
	return templates.ExecuteTemplate(w, "trial", struct {
		*Trial
		Styles template.CSS
	}{t, template.CSS(styles)})
}

// HoldText is the target in words.
func (t *Trial) HoldText() string { return term.Duration(t.Hold) }

// SpentText is what the trials took.
func (s TriedStep) SpentText() string { return term.Duration(seconds(s.Spent)) }

// LogText is the log that the trials wrote.
func (s TriedStep) LogText() string { return amount(s.Log) }

// triedView is a way as the page shows it.
type triedView struct {
	Name                                       string
	Yardstick, Over                            bool // Over: its longest hold is over the target
	Time, Hold, Log, Room, Batches, Varies     string
	Trials                                     int
	Fixed, Row, LogRow, Records, Images, Locks string
	Waiters, Dead, Temporary                   string
	TimeShare, HoldShare, LogShare, RoomShare  float64 // of the most of any way, percent
}

// Shown are the ways that could be tried.
func (t *Trial) Shown(s TriedStep) (out []triedView) {
	var mostTime, mostHold float64
	var mostLog, mostRoom int64
	for _, w := range s.Ways {
		if w.Failed == "" && !w.Yardstick {
			mostTime, mostHold = max(mostTime, w.Seconds), max(mostHold, w.HoldMS)
			mostLog, mostRoom = max(mostLog, w.LogBytes), max(mostRoom, w.Room)
		}
	}
	for _, w := range s.Ways {
		if w.Failed != "" {
			continue
		}
		x := triedView{Name: w.Name(), Yardstick: w.Yardstick, Over: w.HoldMS > float64(t.Hold)/float64(time.Millisecond), Time: term.Duration(seconds(w.Seconds)), Hold: term.Duration(report.Milliseconds(w.HoldMS)),
			Log: amount(w.LogBytes), Room: "–", Batches: term.Count(w.Batches), Varies: fmt.Sprintf("%.0f %%", 100*w.Vary), Trials: w.Trials,
			Fixed: term.Duration(w.Batch), Row: fmt.Sprintf("%.1f µs", float64(w.Row.Nanoseconds())/1000), LogRow: known(w.LogRow, "%.0f B"), Records: known(w.Records, "%.2f"), Images: "?", Locks: locks(w.Locks),
			TimeShare: part(w.Seconds, mostTime), HoldShare: part(w.HoldMS, mostHold), LogShare: part(float64(w.LogBytes), float64(mostLog)), RoomShare: part(float64(w.Room), float64(mostRoom))}
		if w.Keep {
			x.Room = amount(w.Room)
		}
		x.Dead, x.Temporary = "–", amount(w.Temporary)
		if w.Dead >= 0 {
			x.Dead = term.Count(w.Dead)
		}
		x.Waiters = "?"
		if s.Looks > 0 {
			x.Waiters = term.Count(int64(w.Waiters))
		}
		if w.Images >= 0 {
			x.Images = term.Count(w.Images)
		}
		out = append(out, x)
	}
	return out
}

// part is a figure in percent of the most of its kind, for a bar; what is over it, or not known, is cut.
func part(v, most float64) float64 {
	if most <= 0 {
		return 0
	}
	return 100 * max(min(v/most, 1), 0)
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// amount words bytes that may not be known.
func amount(n int64) string {
	if n < 0 {
		return "?"
	}
	return term.Bytes(n)
}

// locks words the most locks of a trial, by mode.
func locks(m map[string]int) string {
	var out []string
	for _, mode := range slices.Sorted(maps.Keys(m)) {
		out = append(out, mode+" "+term.Count(int64(m[mode])))
	}
	return strings.Join(out, ", ")
}

// known words a number that may not be known.
func known(v float64, format string) string {
	if v < 0 {
		return "?"
	}
	return fmt.Sprintf(format, v)
}
