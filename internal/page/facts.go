package page

import (
	"cmp"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"jugatum/internal/ledger"
	"jugatum/internal/report"
	"jugatum/internal/term"
)

// Fact is one figure of one run, or of several side by side.
type Fact struct {
	Group     string
	Name      string
	Values    []string // of each run; "" where it has none
	Estimated string   // of a single run that was rehearsed
	Scope     string   // whose figure it is, where that can be asked
	Differ    string   // how the last run's is to the first one's, "" where they are the same
}

// figure is one run's side of a fact.
type figure struct {
	group, name string
	text        string
	value       float64 // NaN: it is no quantity
	estimated   string
	scope       string
}

var none = math.NaN()

// facts sets the figures of all runs beside each other.
func (p *Page) facts() (out []Fact) {
	at := map[[2]string]int{}
	values := [][]float64{}
	for n, r := range p.Runs {
		for _, f := range r.figures() {
			k := [2]string{f.group, f.name}
			i, ok := at[k]
			if !ok {
				i = len(out)
				at[k] = i
				out = append(out, Fact{Group: f.group, Name: f.name, Values: make([]string, len(p.Runs))})
				values = append(values, slices.Repeat([]float64{none}, len(p.Runs)))
			}
			out[i].Values[n], values[i][n] = f.text, f.value
			out[i].Estimated, out[i].Scope = cmp.Or(out[i].Estimated, f.estimated), cmp.Or(out[i].Scope, f.scope)
		}
	}
	if len(p.Runs) > 1 {
		for i := range out {
			out[i].Differ = differ(out[i].Values, values[i])
			out[i].Estimated = ""
		}
	}
	slices.SortStableFunc(out, func(a, b Fact) int { return slices.Index(groups, a.Group) - slices.Index(groups, b.Group) })
	return out
}

// groups are the parts of the table of facts, in their order.
var groups = []string{"Time", "Locks held", "Log", "Other sessions", "Room", "Set up"}

// differ says how the last value is to the first.
func differ(texts []string, values []float64) string {
	first, last := values[0], values[len(values)-1]
	same := !slices.ContainsFunc(texts, func(s string) bool { return s != texts[0] })
	switch {
	case same:
		return ""
	case math.IsNaN(first) || math.IsNaN(last):
		return "differs"
	case first == 0 || last == 0:
		return "differs"
	}
	return "× " + strings.TrimRight(strings.TrimRight(fmt.Sprintf("%.2f", last/first), "0"), ".")
}

// figures are those of one run.
func (x *Run) figures() (out []figure) {
	group := ""
	add := func(name, text string, value float64) *figure {
		out = append(out, figure{group: group, name: name, text: text, value: value})
		return &out[len(out)-1]
	}
	ms := func(name string, v float64) *figure { return add(name, term.Duration(report.Milliseconds(v)), v) }
	e, changed := x.Estimate, x.Changed()

	group = "Time"
	f := add("from beginning to end", term.Duration(x.Took()), x.Took().Seconds())
	if e != nil {
		f.estimated = term.Duration(time.Duration(e.Seconds*float64(time.Second))) + " without commits"
	}
	f = add("batches", term.Count(x.Batches()), float64(x.Batches()))
	if e != nil {
		f.estimated = term.Count(e.Batches)
	}
	if s := x.Line.Seconds; s > 0 && changed > 0 {
		add("rows a second, from the first batch to the last", term.Count(int64(float64(changed)/s)), float64(changed)/s)
	}
	retries, paused := int64(0), 0.0
	for _, s := range x.Steps {
		retries += s.Retries
	}
	for _, m := range x.Line.At {
		paused += m.Paused
	}
	add("batches tried again", term.Count(retries), float64(retries))
	if paused > 0 {
		add("waited to ease off", term.Duration(time.Duration(paused*float64(time.Second))), paused)
	}

	group = "Locks held"
	if x.Holds.Batches > 0 {
		f = ms("hold of a batch, median", x.Holds.MedianMS)
		if e != nil {
			f.estimated = term.Duration(report.Milliseconds(e.HoldMS))
		}
		ms("99th percentile", x.Holds.P99MS)
		ms("longest", x.Holds.MaxMS)
	}
	ms("target", x.HoldMS)
	for _, mode := range slices.Sorted(maps.Keys(x.Locks)) {
		add("most locks in a batch, "+mode, term.Count(int64(x.Locks[mode])), float64(x.Locks[mode]))
	}

	group = "Log"
	x.logFigures(add, changed)

	group = "Other sessions"
	if x.Others.Samples > 0 {
		add("sessions seen waiting on the run", term.Count(x.Others.Sessions), float64(x.Others.Sessions))
		if x.Others.Seen > 0 {
			ms("their waits, in all", x.Others.TotalMS)
			ms("the longest", x.Others.LongestMS)
		}
		add("checks for them", fmt.Sprintf("%s, which took %s", term.Count(x.Others.Samples), term.Duration(report.Milliseconds(x.Others.LookingMS))), none)
	}
	ms("the run's own waits for others' locks", x.Others.OwnMS)
	if x.MostLagMS >= 0 {
		ms("the replica furthest behind, at its most", x.MostLagMS)
	}
	if n, lost := x.Lost(); n > 0 {
		add("connections lost", term.Count(n), float64(n))
		ms("time without one, in all", float64(lost)/float64(time.Millisecond))
	}

	group = "Room"
	if x.KeptBytes > 0 {
		f = add("old and new values, kept", term.Bytes(x.KeptBytes), float64(x.KeptBytes))
		if e != nil && e.KeptBytes >= 0 {
			f.estimated = term.Bytes(e.KeptBytes)
		}
	}

	group = "Set up"
	for _, o := range x.settings() {
		add(o[0], o[1], none)
	}
	return out
}

// logFigures are what the run cost in log.
func (x *Run) logFigures(add func(name, text string, value float64) *figure, changed int64) {
	l := x.Log
	if l.Bytes < 0 {
		return
	}
	scoped := func(f *figure) { f.scope = report.Scope(l.Scope) }
	f := add(cmp.Or(l.Kind, "log")+" written", term.Bytes(l.Bytes), float64(l.Bytes))
	if e := x.Estimate; e != nil && e.LogBytes >= 0 {
		f.estimated = term.Bytes(e.LogBytes)
		if e.LogKind != "" && e.LogKind != l.Kind {
			f.estimated += " of " + e.LogKind
		}
	}
	scoped(f)
	if changed > 0 {
		v := float64(l.Bytes) / float64(changed)
		scoped(add("for each row changed", fmt.Sprintf("%.0f bytes", v), v))
	}
	if n := x.Batches(); n > 0 {
		v := float64(l.Bytes) / float64(n)
		scoped(add("for each batch", term.Bytes(int64(v)), v))
	}
	if l.Records >= 0 {
		scoped(add("records", term.Count(l.Records), float64(l.Records)))
	}
	if l.Images >= 0 {
		scoped(add("full-page images", term.Count(l.Images), float64(l.Images)))
	}
	for _, name := range slices.Sorted(maps.Keys(x.Server)) {
		n := x.Server[name]
		switch name {
		case "wal_bytes", "redo_bytes":
			add("written by everybody meanwhile", term.Bytes(n), float64(n)).scope = "whole server"
		case "history_list":
			add("length of the history list", fmt.Sprintf("%+d", n), float64(n)).scope = "whole server"
		}
	}
}

// settings are the options that the run went by.
func (x *Run) settings() (out [][2]string) {
	add := func(name, text string) { out = append(out, [2]string{name, text}) }
	o := x.Options
	add("database", x.Database)
	add("version of jugatum", x.Version)
	add("workers", fmt.Sprint(x.Workers))
	if o.Batch > 0 {
		add("rows a batch, fixed", term.Count(int64(o.Batch)))
	}
	var methods []string
	for _, s := range x.Steps {
		if !slices.Contains(methods, s.Method) {
			methods = append(methods, s.Method)
		}
	}
	add("method", strings.Join(methods, ", "))
	keeps := "old and new values"
	if !o.Keep {
		keeps = "nothing"
	}
	add("kept", keeps)
	l := o.Limits
	if l.Waiters != nil {
		add("limit: sessions waiting on it", fmt.Sprint(*l.Waiters))
	}
	if l.Lag > 0 {
		add("limit: replica lag", term.Duration(l.Lag))
	}
	if l.LogRate > 0 {
		add("limit: log a second", term.Bytes(l.LogRate))
	}
	if l.Window.From != l.Window.To {
		add("window", l.Window.String())
	}
	if len(o.Replicas) > 0 {
		add("replicas watched", term.Count(int64(len(o.Replicas))))
	}
	if o.SetAside > 0 {
		add("rows that might be set aside", term.Count(int64(o.SetAside)))
	}
	return out
}

// accepted words what a person said to the run before it began.
func accepted(c *ledger.Consent) string {
	switch {
	case c == nil:
		return ""
	case c.Approved != "":
		return fmt.Sprintf("%s, as approved (%s)", term.Rows(c.Rows), c.Approved)
	case c.Rows < 0:
		return "any number of rows, none were counted"
	}
	return term.Rows(c.Rows)
}
