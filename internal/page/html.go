package page

import (
	_ "embed"
	"fmt"
	"html/template"
	"io"
	"math"
	"strings"

	"jugatum/internal/kept"
	"jugatum/internal/ledger"
	"jugatum/internal/plots"
	"jugatum/internal/report"
	"jugatum/internal/term"
	"jugatum/internal/timeline"
)

//go:embed page.html
var source string

//go:embed page.css
var styles string

var templates = template.Must(template.New("page").Funcs(template.FuncMap{
	"act":    actText,
	"clean":  func(s any) string { return term.Clean(fmt.Sprint(s)) },
	"lines":  term.CleanLines,
	"count":  term.Count,
	"ms":     milliseconds,
	"figure": figureText,
	"clock":  clock,
	"add":    func(a, b int) int { return a + b },
	"how":    how,
	"len64":  func(list []ledger.Aside) int64 { return int64(len(list)) },
}).Parse(source))

// Shown are the most rows of each sort that a page lists itself.
const Shown = 100

// HTML writes the page. It needs nothing besides, and runs nothing: its own policy forbids it.
func (p *Page) HTML(w io.Writer) error {
	v, err := p.view()
	if err != nil {
		return err
	}
	return templates.Execute(w, v)
}

// view is what the template shows.
type view struct {
	*Page
	Styles  template.CSS
	One     *Run // of a single run
	Groups  []group
	Drawn   []drawing
	Legend  []legend
	Runs    []runView
	Moments []moment
}

// group is a part of the table of facts.
type group struct {
	Name  string
	Facts []Fact
}

// drawing is a figure as it stands in the page.
type drawing struct {
	Title string
	SVG   template.HTML
}

// legend tells the colours of several runs.
type legend struct {
	Color template.CSS
	Name  string
}

// runView is a run's part of the page.
type runView struct {
	*Run
	Steps    []report.Step
	Looks    []lookView
	Hazards  []ledger.Hazard
	Resumed  []resumedView
	Accepted string
	Marks    []timeline.Mark
	MoreMark int
	AsideAll int64
	Aside    []ledger.Aside
	Left     []leftView
	LeftAll  int64
	Tables   map[int]string
	Commands [][2]string
}

// lookView are rows before and after, with what changed marked.
type lookView struct {
	kept.Look
	Before, After bool // there is such a side
	Lines         []lineView
}

type lineView struct {
	Key    string
	First  bool
	Column string
	Before marked
	After  marked
}

// marked is a value with the part that differs from the other side.
type marked struct {
	None             bool // there is no value, nor NULL
	Null             bool
	Head, Mid, Tail  string
	CutFront, CutEnd bool
}

type leftView struct {
	Key, Table, Column, Expected, Found string
	First, Gone                         bool
}

// moment is a line of the table beside the plots.
type moment struct {
	From                                                  string
	Rows, Batches, Hold, Log, LogRow, Images, Others, Lag string
}

func (p *Page) view() (*view, error) {
	v := &view{Page: p, Styles: template.CSS(styles)}
	for _, f := range p.facts() {
		if n := len(v.Groups); n == 0 || v.Groups[n-1].Name != f.Group {
			v.Groups = append(v.Groups, group{Name: f.Group})
		}
		g := &v.Groups[len(v.Groups)-1]
		g.Facts = append(g.Facts, f)
	}
	for _, f := range p.Figures() {
		svg, err := plots.Inline(f.Panels, f.Label)
		if err != nil {
			return nil, err
		}
		v.Drawn = append(v.Drawn, drawing{f.Title, template.HTML(svg)})
	}
	for i, r := range p.Runs {
		v.Runs = append(v.Runs, p.runView(r))
		v.Legend = append(v.Legend, legend{template.CSS(fmt.Sprintf("var(--plot-series-%d)", i%plots.Series+1)), fmt.Sprintf("run %d: %s", r.Run.Run, term.Clean(r.Title))})
	}
	if len(p.Runs) == 1 {
		v.One = p.Runs[0]
		v.Moments = moments(v.One.Line)
	}
	return v, nil
}

func (p *Page) runView(r *Run) runView {
	x := runView{Run: r, Steps: r.Steps, Marks: r.marks(), MoreMark: len(r.Line.Marks) - len(r.marks()), AsideAll: r.SetAside, Aside: r.Run.Asides[:min(len(r.Run.Asides), Shown)], LeftAll: r.SkippedRows(), Tables: map[int]string{}}
	for i, s := range r.Steps {
		x.Tables[i+1] = s.Table
	}
	for _, l := range r.Looks {
		x.Looks = append(x.Looks, looked(l))
	}
	if c := r.Options.Consent; c != nil {
		x.Accepted = accepted(c)
		x.Hazards = c.Hazards
	}
	for _, s := range r.Options.Resumed {
		x.Resumed = append(x.Resumed, resumedView{s.At.Local().Format("2006-01-02 15:04:05"), s.By, strings.Join(s.Despite, ", ")})
	}
	for _, s := range r.Skipped[:min(len(r.Skipped), Shown)] {
		x.Left = append(x.Left, leftOver(s)...)
	}
	add := func(cmd, what string) { x.Commands = append(x.Commands, [2]string{cmd, what}) }
	if r.UndoneBy == 0 && r.Status == ledger.Done {
		add(fmt.Sprintf("jugatum verify %d%s", r.Run.Run, p.DB), "checks the database against what was recorded")
	}
	if r.Undoable() {
		add(fmt.Sprintf("jugatum undo %d%s", r.Run.Run, p.DB), "puts the old values back")
	}
	if r.UndoneBy == 0 && (r.Status == ledger.Stopped || r.Status == ledger.Failed) {
		add(fmt.Sprintf("jugatum resume %d%s", r.Run.Run, p.DB), "goes on where it stopped")
	}
	return x
}

// resumedView is what was said when a run was resumed.
type resumedView struct{ When, By, What string }

func leftOver(s ledger.Left) (out []leftView) {
	if s.Gone {
		return []leftView{{Key: s.Key, Table: s.Table, First: true, Gone: true}}
	}
	for _, c := range s.Columns() {
		out = append(out, leftView{Key: s.Key, Table: s.Table, First: len(out) == 0, Column: c, Expected: s.Expected[c], Found: s.Found[c]})
	}
	return out
}

// looked prepares rows for the page.
func looked(l kept.Look) lookView {
	x := lookView{Look: l}
	for _, r := range l.Rows {
		for i, c := range r.Values {
			before, after := c.Before, c.After
			one := lineView{Key: r.Key, First: i == 0, Column: c.Column}
			switch l.Does {
			case "insert", "copy":
				one.Before, one.After = marked{None: true}, whole(after)
				x.After = true
			case "delete", "move", "merge":
				one.Before, one.After = whole(before), marked{None: true}
				x.Before = true
			default:
				one.Before, one.After = differing(before, after)
				x.Before, x.After = true, true
			}
			x.Lines = append(x.Lines, one)
		}
	}
	return x
}

// beside is how many characters beside what differs are shown, and most how many at all.
const (
	beside = 40
	most   = 160
)

// whole is a value without a mark.
func whole(s *string) marked {
	if s == nil {
		return marked{Null: true}
	}
	r := []rune(*s)
	return marked{Head: string(r[:min(len(r), most)]), CutEnd: len(r) > most}
}

// differing marks what is not the same on both sides.
func differing(before, after *string) (marked, marked) {
	if before == nil || after == nil {
		b, a := whole(before), whole(after)
		b.Mid, b.Head, a.Mid, a.Head = b.Head, "", a.Head, ""
		return b, a
	}
	b, a := []rune(*before), []rune(*after)
	head := 0
	for head < min(len(b), len(a)) && b[head] == a[head] {
		head++
	}
	tail := 0
	for tail < min(len(b), len(a))-head && b[len(b)-1-tail] == a[len(a)-1-tail] {
		tail++
	}
	side := func(r []rune) marked {
		x := marked{}
		from, to := max(head-beside, 0), min(len(r)-tail+beside, len(r))
		mid := r[head : len(r)-tail]
		x.CutFront, x.CutEnd = from > 0, to < len(r)
		if len(mid) > most {
			mid, x.CutEnd, to = mid[:most], true, len(r)-tail
		}
		x.Head, x.Mid, x.Tail = string(r[from:head]), string(mid), string(r[len(r)-tail:to])
		return x
	}
	return side(b), side(a)
}

// moments are the figures of the plots as a table, in about two dozen stretches.
func moments(t *timeline.Timeline) (out []moment) {
	const lines = 24
	n := len(t.At)
	for from := 0; from < n; {
		to := min(from+max((n+lines-1)/lines, 1), n)
		out = append(out, momentOf(t, t.At[from:to]))
		from = to
	}
	return out
}

func momentOf(t *timeline.Timeline, part []timeline.Moment) moment {
	var rows, log, logRows, logged float64
	batches, images, hold, others, lag := 0, int64(0), math.NaN(), math.NaN(), math.NaN()
	most := func(a *float64, b float64) {
		if math.IsNaN(*a) || b > *a {
			*a = b
		}
	}
	for _, m := range part {
		rows, log, batches, images = rows+m.Rows, log+m.LogBytes, batches+m.Batches, images+m.Images
		if !math.IsNaN(m.LogARow) {
			logged, logRows = logged+m.LogARow*m.Rows, logRows+m.Rows
		}
		most(&hold, m.LongestHold)
		most(&others, m.MostWaiters)
		most(&lag, m.MostLag)
	}
	seconds := t.Width * float64(len(part))
	x := moment{From: clock(part[0].From), Rows: count(rows / seconds), Batches: term.Count(int64(batches)), Log: size(log / seconds), Images: term.Count(images), Hold: figureText(hold, milliseconds), Others: figureText(others, count), Lag: figureText(lag, milliseconds), LogRow: "–"}
	if logRows > 0 {
		x.LogRow = size(logged / logRows)
	}
	return x
}

// figureText words a figure that may not be known.
func figureText(v float64, words func(float64) string) string {
	if math.IsNaN(v) {
		return "–"
	}
	return words(v)
}

// how words what a step did to its rows.
func how(s report.Step) string {
	text := s.Verb + " by " + s.Method
	switch {
	case s.Verb == "call":
		return "call for each line"
	case strings.HasPrefix(s.Method, "undo"):
		return "old state put back" + strings.TrimPrefix(s.Method, "undo")
	case s.Lanes > 1:
		text += fmt.Sprintf(", %d lanes", s.Lanes)
	}
	return text
}

// actText words what becomes of the rows of an act, and by which columns they are found.
func actText(role string, by []string, ahead bool) string {
	return report.ActText(role, ahead) + ", " + term.Clean(strings.Join(by, ", "))
}
