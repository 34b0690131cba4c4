package page

import (
	"fmt"
	"io"
	"strings"

	"jugatum/internal/term"
)

// Markdown writes the report for a wiki or a ticket: without plots, which Files draws.
func (p *Page) Markdown(w io.Writer) error {
	m := &markdown{w: w}
	m.line("# %s", escape(p.Title()))
	for _, r := range p.Runs {
		p.markdownHead(m, r)
	}
	m.line("\n## Rows")
	for _, r := range p.Runs {
		if len(p.Runs) > 1 {
			m.line("\n### Run %d", r.Run.Run)
		}
		m.rows(p.runView(r))
	}
	m.line("\n## Cost")
	m.facts(p)
	m.marks(p)
	m.line("\n## Job")
	for _, r := range p.Runs {
		x := p.runView(r)
		if len(p.Runs) > 1 {
			m.line("\n### Run %d", r.Run.Run)
		}
		m.line("\nDigest `%s`", r.Job.Digest)
		m.code(r.Job.Text)
		for _, k := range r.Params {
			m.line("- %s = %s (%s)", escape(k.Name), escape(k.Text), k.Type)
		}
		m.asides(x)
		for _, c := range x.Commands {
			m.line("- `%s`: %s", strings.ReplaceAll(term.Clean(c[0]), "`", "'"), c[1])
		}
	}
	return m.err
}

// marks says when what happened, which the plots mark.
func (m *markdown) marks(p *Page) {
	var rows [][]string
	for _, r := range p.Runs {
		for _, k := range r.marks() {
			rows = append(rows, []string{fmt.Sprintf("run %d", r.Run.Run), clock(k.At), k.Text})
		}
	}
	if len(rows) == 0 {
		return
	}
	m.line("\n## Over the time")
	m.table(" >", []string{"run", "after", "what happened"}, rows)
	for _, r := range p.Runs {
		if n := len(r.Line.Marks) - len(r.marks()); n > 0 {
			m.line("\n… and %d more of run %d.", n, r.Run.Run)
		}
	}
}

// markdown writes lines, and keeps the first error.
type markdown struct {
	w   io.Writer
	err error
}

func (m *markdown) line(format string, args ...any) {
	if _, err := fmt.Fprintf(m.w, format+"\n", args...); m.err == nil {
		m.err = err
	}
}

// table writes a table; numbers says which columns are numbers.
func (m *markdown) table(numbers string, head []string, rows [][]string) {
	if len(rows) == 0 {
		return
	}
	m.line("")
	m.line("| %s |", strings.Join(head, " | "))
	rule := make([]string, len(head))
	for i := range rule {
		rule[i] = "---"
		if i < len(numbers) && numbers[i] == '>' {
			rule[i] = "--:"
		}
	}
	m.line("| %s |", strings.Join(rule, " | "))
	for _, r := range rows {
		for i := range r {
			r[i] = escape(r[i])
		}
		m.line("| %s |", strings.Join(r, " | "))
	}
}

// code writes a text as it is, whatever is in it.
func (m *markdown) code(text string) {
	fence := "```"
	for strings.Contains(text, fence) {
		fence += "`"
	}
	m.line("\n%s\n%s\n%s\n", fence, strings.TrimRight(term.CleanLines(text), "\n"), fence)
}

// escape writes a text so that nothing in it is taken for a mark.
func escape(s string) string {
	var b strings.Builder
	for _, r := range term.Clean(s) {
		if strings.ContainsRune("\\`*_{}[]()<>#+!|~&$@", r) {
			b.WriteByte('\\')
		}
		b.WriteRune(r)
	}
	return strings.ReplaceAll(b.String(), "://", ":\\//") // nor for an address
}

func (p *Page) markdownHead(m *markdown, r *Run) {
	m.line("")
	if len(p.Runs) > 1 {
		m.line("**Run %d**, %s  ", r.Run.Run, escape(r.Title))
	}
	m.line("**%s**", escape(r.Sentence()))
	if r.Error != "" {
		m.line("\n%s", escape(r.Error))
	}
	m.line("")
	if r.Reason != "" {
		m.line("- why: %s", escape(r.Reason))
	}
	by := r.User + " on " + r.Host
	if r.DBUser != "" {
		by += ", database user " + r.DBUser
	}
	m.line("- by: %s", escape(by))
	when := r.StartedAt.Local().Format("2006-01-02 15:04:05")
	if r.EndedAt != nil {
		when += " to " + r.EndedAt.Local().Format("2006-01-02 15:04:05 MST")
	}
	m.line("- when: %s", when)
	m.line("- where: %s", escape(r.Database))
	m.line("- verified: %s", escape(r.VerifiedText()))
}

func (m *markdown) rows(x runView) {
	var rows [][]string
	for _, s := range x.Steps {
		rows = append(rows, []string{s.Name, s.Table, how(s), term.Count(s.Batches), term.Count(s.Scanned), term.Count(s.Matched), term.Count(s.Changed), term.Count(s.Skipped)})
		for _, a := range s.Acts {
			rows = append(rows, []string{"", a.Table, actText(a.Role, a.By, false), "", "", "", term.Count(a.Changed), ""})
		}
	}
	m.table("   >>>>>", []string{"step", "table", "how", "batches", "scanned", "matched", "changed", "skipped"}, rows)
	for _, l := range x.Looks {
		m.look(l)
	}
	if x.Accepted != "" {
		m.line("\nAccepted: %s.", escape(x.Accepted))
	}
	for _, h := range x.Hazards {
		what := h.Level
		if h.Meant {
			what = "went on despite"
		}
		m.line("- %s %s: %s", what, escape(h.Code), escape(h.Text))
	}
	for _, s := range x.Resumed {
		m.line("- %s, %s resumed it: went on despite %s", s.When, escape(s.By), escape(s.What))
	}
}

func (m *markdown) look(l lookView) {
	m.line("\n### %s: some of %s of %s", escape(l.Step), term.Rows(l.Kept), escape(l.Table))
	side := func(x marked) string {
		switch {
		case x.None:
			return ""
		case x.Null:
			return "NULL"
		}
		return x.Head + x.Mid + x.Tail
	}
	var rows [][]string
	for _, c := range l.Lines {
		key := ""
		if c.First {
			key = c.Key
		}
		rows = append(rows, []string{key, c.Column, side(c.Before), side(c.After)})
	}
	m.table("", []string{"key", "column", "before", "after"}, rows)
	rows = nil
	for _, f := range l.Figures {
		if l.Before {
			rows = append(rows, []string{f.Column, "before", f.Before.Min, f.Before.Max, f.Before.Sum})
		}
		if l.After {
			rows = append(rows, []string{f.Column, "after", f.After.Min, f.After.Max, f.After.Sum})
		}
	}
	m.table("  >>>", []string{"column", "", "least", "most", "sum"}, rows)
}

func (m *markdown) facts(p *Page) {
	head := []string{"", "figure"}
	switch {
	case len(p.Runs) > 1:
		for _, r := range p.Runs {
			head = append(head, fmt.Sprintf("run %d", r.Run.Run))
		}
		head = append(head, "last ÷ first")
	case p.Runs[0].Estimate != nil:
		head = append(head, "measured", "estimated before")
	default:
		head = append(head, "measured")
	}
	head = append(head, "whose")
	var rows [][]string
	group := ""
	for _, f := range p.facts() {
		row := []string{"", f.Name}
		if f.Group != group {
			group = f.Group
			row[0] = group
		}
		row = append(row, f.Values...)
		if len(p.Runs) > 1 {
			row = append(row, f.Differ)
		} else if p.Runs[0].Estimate != nil {
			row = append(row, f.Estimated)
		}
		rows = append(rows, append(row, f.Scope))
	}
	m.table("  "+strings.Repeat(">", len(head)-3), head, rows)
}

func (m *markdown) asides(x runView) {
	var rows [][]string
	for _, a := range x.Aside {
		why := a.Error
		if a.Retried {
			why = "changed later"
		}
		rows = append(rows, []string{a.KeyText, x.Tables[a.Step], why})
	}
	m.table("", []string{"set aside", "table", "why"}, rows)
	rows = nil
	for _, l := range x.Left {
		found := l.Found
		if l.Gone {
			found = "the row is gone"
		}
		rows = append(rows, []string{l.Key, l.Table, l.Column, l.Expected, found})
	}
	m.table("", []string{"skipped", "table", "column", "as the run left it", "as it was found"}, rows)
	if x.Aside != nil || x.Left != nil {
		m.line("")
	}
}
