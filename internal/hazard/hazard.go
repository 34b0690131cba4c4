// Package hazard knows what is suspicious about a change: by its text, by what the
// catalogue says of its tables, and by questions to the rows, which others ask.
package hazard

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/dustin/go-humanize"

	"jugatum/internal/change"
)

// Level is how grave a finding is.
type Level string

const (
	Note    Level = "note"    // worth knowing
	Warning Level = "warning" // look before going on
	Refusal Level = "refusal" // a run is refused unless it is told to go on despite it
)

// Finding is one suspicious thing about a step.
type Finding struct {
	Step  string `json:"step"`
	Code  string `json:"code"` // what --despite takes
	Level Level  `json:"level"`
	Text  string `json:"text"`
	Rows  int64  `json:"rows"` // rows concerned, -1 where that is no question of rows

	Again bool `json:"-"` // asked of the rows again before a step that has others before it
}

// Codes that other packages ask for by name.
const (
	EveryRow    = "every-row"
	KeyChanged  = "key-changed"
	ReadsTarget = "reads-target"
	NoKey       = "no-key"
	LeftToRight = "left-to-right"
	Opaque      = "opaque-function"
	OncePerRun  = "once-a-statement"
	Cascade     = "cascade"
	TriggerSelf = "trigger-target"
	Grants      = "missing-grant"
	DoesNotFit  = "does-not-fit"
	RowQuery    = "row-query"
	Source      = "trigger-source"
	LostColumns = "lost-columns"
	OthersTable = "others-table"
	NoUndo      = "no-undo"
	EqualsNull  = "equals-null"
	ReadOnly    = "read-only" // of the database, not of a step
)

// Liftable reports whether a person may accept a refusal with this code; the
// others would make the run go wrong.
func Liftable(code string) bool {
	return slices.ContainsFunc(slices.Concat(table, calls), func(h Hazard) bool { return h.Code == code && h.Liftable })
}

// Text finds what needs no look at the rows. method is sweep, roster, single, or
// "" while it is not chosen.
func Text(c *change.Change, method string) (out []Finding) {
	all := table
	if c.Call != nil {
		all = calls
	}
	for _, h := range all {
		if h.found != nil {
			for _, args := range h.found(look{c: c, method: method, changes: -1}) {
				out = append(out, h.finding(c, -1, args))
			}
		}
	}
	return out
}

// A Question to the rows, by which a hazard is found.
type Question struct {
	From  *change.Query // SQL from FROM on, for the rows concerned; nil if how many there are is known
	Rows  int64         // where From is nil
	Quick bool          // a look for a first row is worth it also where nothing is counted
	Whole bool          // no row is known before all are read: a planner that is asked for a first one takes a way that finds some soon, and none late
	Bare  bool          // as Quick, but only where no values are kept: otherwise each batch finds it
	Apart bool          // a value that cannot be worked out is told elsewhere, and no reason to end

	hazard Hazard
	c      *change.Change
	args   []any
}

// Questions are those that a change gives rise to. changes is how many rows will
// change, -1 if they are not counted: then there are only the quick ones. keep is
// whether old and new values are kept.
func Questions(c *change.Change, method string, changes int64, keep bool) (out []Question) {
	if c.Call != nil { // of whose rows nothing is known
		return nil
	}
	for _, h := range table {
		if h.asked == nil {
			continue
		}
		for _, q := range h.asked(look{c: c, method: method, changes: changes}) {
			if changes >= 0 || q.Quick || q.Bare && !keep {
				q.hazard, q.c = h, c
				out = append(out, q)
			}
		}
	}
	return out
}

// Finding is what an answer comes to: the rows concerned, below 0 some that nobody
// has counted. Of none there is no finding.
func (q Question) Finding(rows int64) (Finding, bool) {
	if rows == 0 {
		return Finding{}, false
	}
	f := q.hazard.finding(q.c, rows, q.args)
	f.Again = q.Quick
	return f, true
}

// Found is the finding of a hazard that others look for, with what its text needs.
// rows is how many rows are concerned, -1 where that is no question of rows.
func Found(step, code string, rows int64, args ...any) Finding {
	at := slices.IndexFunc(table, func(h Hazard) bool { return h.Code == code && h.found == nil && h.asked == nil })
	if at < 0 {
		panic("nobody else looks for " + code)
	}
	return table[at].finding(&change.Change{Step: step}, rows, args)
}

func (h Hazard) finding(c *change.Change, n int64, args []any) Finding {
	text := h.Text
	if n == 1 {
		text = oneValue.Replace(verb.ReplaceAllStringFunc(text, singular))
	}
	text = strings.NewReplacer("{rows}", rows(n), "{n}", humanize.Comma(n)).Replace(text)
	if len(args) > 0 {
		text = fmt.Sprintf(text, args...)
	}
	return Finding{Step: c.Step, Code: h.Code, Level: h.Level, Text: text, Rows: max(n, -1)}
}

// rows words a count; below 0 there are some.
func rows(n int64) string {
	switch {
	case n < 0:
		return "rows"
	case n == 1:
		return "1 row"
	}
	return humanize.Comma(n) + " rows"
}

// oneValue words what is said of values where it is said of one.
var oneValue = strings.NewReplacer("{n} new values do not fit", "{n} new value does not fit", "{n} values of %s.%s become NULL", "{n} value of %s.%s becomes NULL")

// verb is what rows do, right after their number.
var verb = regexp.MustCompile(`\{rows\}( of %s)? (have|are|refer|go|change|lose|match)\b`)

// singular is that of one row.
func singular(s string) string {
	at := strings.LastIndexByte(s, ' ') + 1
	switch v := s[at:]; v {
	case "have":
		return s[:at] + "has"
	case "are":
		return s[:at] + "is"
	case "go", "match":
		return s + "es"
	}
	return s + "s"
}
