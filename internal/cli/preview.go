package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/jedib0t/go-pretty/v6/text"
	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/hazard"
	"jugatum/internal/plan"
	"jugatum/internal/preview"
	"jugatum/internal/report"
	"jugatum/internal/term"
)

func (a *app) preview() *cli.Command {
	return &cli.Command{
		Name:      "preview",
		Usage:     "rows matched, rows really changed, before and after, hazards; changes nothing",
		ArgsUsage: "JOB",
		Description: example("jugatum preview --db sqlite:saltmere.db mooring-tariff.toml --param rise=1.035",
			`jugatum preview --db sqlite:saltmere.db --sql "DELETE FROM cargo_line WHERE tonnes = 0"`),
		Flags: append(jobFlags(),
			&cli.IntFlag{Name: "sample", Value: 6, Usage: "rows to show of each step"},
			&cli.BoolFlag{Name: "rehearse", Usage: "carry out one batch of each step and roll it back, and estimate the whole from it"},
			&cli.DurationFlag{Name: "hold", Value: defaultHold, Usage: "for --rehearse: longest time a batch may hold its locks"},
			&cli.IntFlag{Name: "batch", Usage: "for --rehearse: a fixed number of rows for every batch"},
			&cli.StringFlag{Name: "workers", Usage: "for --rehearse: how many sessions change rows at the same time"},
			&cli.StringFlag{Name: "keep", Value: "values", Usage: "values or none, as for run"},
			&cli.IntFlag{Name: "set-aside", Usage: "as for run: values that do not fit are no refusal then"},
			&cli.BoolFlag{Name: "every-row", Usage: "a step without a filter is meant, as for run"},
			&cli.StringSliceFlag{Name: "despite", Usage: "hazards that run would be told to go on despite"},
			&cli.StringFlag{Name: "page", Usage: "write the preview into this file as a page, with an approval that run --approved takes"},
			&cli.BoolFlag{Name: "verbose", Usage: "explain the work that is left for later"},
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			if n := c.Int("sample"); n < 0 || n > 10_000 {
				return usagef("--sample %d: 0 to 10000 rows can be shown", n)
			}
			return a.withPlan(ctx, c, func(db engine.DB, p *plan.Plan) error { return a.look(ctx, c, db, p) })
		},
	}
}

// look shows what the steps of a plan would do.
func (a *app) look(ctx context.Context, c *cli.Command, db engine.DB, p *plan.Plan) error {
	opts, err := limits(c, p.Job)
	if err != nil {
		return err
	}
	if err := able(db, opts); err != nil {
		return err
	}
	p.Keeping(opts.Keep, c.StringSlice("despite"))
	var steps []*preview.Step
	var found []hazard.Finding
	total := int64(0)
	changes := p.Foremost()
	counts := make([]int64, len(changes))
	lacks, err := p.Lacks(ctx, opts.Keep)
	if err != nil {
		return err
	}
	for i, ch := range changes {
		looked := a.during(fmt.Sprintf("counting the rows of step %s in %s", term.Clean(ch.Step), term.Clean(ch.Target().String())))
		s, err := preview.Look(ctx, db, ch, p.MethodOf(ch), int(c.Int("sample")))
		looked()
		if err != nil {
			return p.Fault(err)
		}
		if s.Method, err = p.Choose(ctx, ch, s.Matched); err != nil {
			return err
		}
		s.Hazards = append(lacks[i], s.Hazards...)
		plan.Settable(s.Hazards, opts.SetAside)
		p.Postpone(ch, s.Hazards, despite(c))
		found = append(found, s.Hazards...)
		s.LastPass = p.HasLastPass(ch)
		if c.Bool("rehearse") {
			if s.Rehearsal, err = p.Rehearse(ctx, ch, s.Method, opts, s.Changes); err != nil {
				return err
			}
		}
		steps = append(steps, s)
		counts[i] = s.Changes
		total += s.Total()
	}
	missed := p.Expectations(counts)
	if to := c.String("page"); to != "" {
		if err := a.writeProposal(c, p, opts, steps, total, missed, to); err != nil {
			return err
		}
	}
	// What this user may not do another one may, who carries it out.
	if refused := plan.Refusing(found, append(despite(c), hazard.Grants)); len(refused) > 0 {
		missed = errors.Join(refusef("a run would be refused because of %s, see above", strings.Join(refused, ", ")), missed)
	}
	if c.Bool("json") {
		err := a.json(struct {
			Schema   int             `json:"schema"`
			Database string          `json:"database"`
			Job      string          `json:"job"`
			Total    int64           `json:"total"`
			Steps    []*preview.Step `json:"steps"`
		}{report.Schema, db.Name(), p.Job.Name(), total, steps})
		return errors.Join(err, missed)
	}
	a.out.Printf("%s  %s\n", a.out.Paint(term.Bold, term.Clean(p.Job.Name())), a.out.Paint(term.Faint, db.Name()))
	for _, why := range p.LeftOut {
		a.out.Printf("  %s left out: %s\n", a.out.Paint(term.Warn, "warning"), term.Clean(why))
	}
	lifted := despite(c)
	for _, s := range steps {
		a.printStep(s, lifted, c.Bool("verbose"))
		if s.Call != nil && c.Bool("rehearse") {
			a.out.Printf("\n  not rehearsed: a rollback may not take back all that the statement does\n")
		}
	}
	if len(steps) > 1 || total != steps[0].Changes {
		what := "rows in all steps together"
		if len(steps) == 1 {
			what = "rows in all tables together"
		}
		a.out.Printf("\n%s %s: that is what --accept takes\n", a.out.Paint(term.Bold, term.Count(total)), what)
	}
	if len(steps) > 1 {
		a.out.Printf("%s\n", a.out.Paint(term.Faint, "Every step is counted on the data as it is now; what an earlier step changes is not in the later counts."))
	}
	return missed
}

// lastPassLine tells of a step with late = "again".
const lastPassLine = "and in a last pass those that have come to match by then"

// printStep shows what one step would do: first what stands in its way.
func (a *app) printStep(s *preview.Step, lifted []string, verbose bool) {
	o := a.out
	width := o.Width()
	if s.Call != nil {
		o.Printf("\n%s  call for each line of %s", o.Paint(term.Bold, term.Clean(s.Name)), term.Clean(s.Table))
	} else {
		o.Printf("\n%s  %s %s by %s", o.Paint(term.Bold, term.Clean(s.Name)), s.Verb, term.Clean(s.Table), s.Method)
	}
	if s.First != "" {
		o.Printf(": %s", term.Clean(s.First))
	}
	o.Printf("\n")
	var refusals, rest []hazard.Finding
	for _, f := range s.Hazards {
		if f.Level == hazard.Refusal {
			refusals = append(refusals, f)
		} else {
			rest = append(rest, f)
		}
	}
	a.printHazards(o, refusals, lifted)
	verb, what := "would change", "rows"
	switch s.Verb {
	case "delete":
		verb = "would be deleted"
	case "merge":
		verb = "would become one with others"
	case "move":
		verb = "would move to " + term.Clean(s.Move.To)
	case "copy":
		verb = "would be copied to " + term.Clean(s.Move.To)
	case "insert":
		verb, what = "would be inserted into "+term.Clean(s.Move.To), "lines"
	}
	total := term.Count(s.TableRows)
	if s.Estimated {
		total = "about " + total
	}
	later := s.Lines != nil && s.Lines.Turn > 0
	if s.Call != nil {
		report.PrintCall(o, s.Call)
	} else if !later {
		o.Printf("  %s of %s matched, %s %s\n", term.Counted(s.Matched, strings.TrimSuffix(what, "s")), total, o.Paint(term.Bold, term.Count(s.Changes)), verb)
	}
	if s.LastPass {
		o.Printf("  %s\n", lastPassLine)
	}
	if s.Lines != nil {
		report.PrintLines(o, s.Lines)
	}
	if s.Move != nil && s.Lines == nil {
		report.PrintMove(o, s.Move)
	}
	if s.Merge != nil {
		report.PrintMerge(o, s.Merge)
	}
	printActs(o, s)
	a.printFigures(s)
	if s.Replacement != nil {
		a.printReplacement(s.Replacement)
	}
	if s.Fill != nil {
		report.PrintFill(o, s.Fill)
	}
	if len(s.Sample) > 0 && s.Merge == nil { // whose largest group says more
		o.Printf("\n")
		a.printSample(s, width-2)
	}
	if len(rest) > 0 {
		o.Printf("\n")
	}
	a.printHazards(o, rest, lifted)
	if s.Rehearsal != nil {
		a.printRehearsal(o, s.Rehearsal)
	}
	switch {
	case verbose:
		report.PrintHousekeeping(a.out, s.Keeping)
	case len(s.Keeping) > 0:
		var parts []string
		for _, x := range s.Keeping {
			parts = append(parts, term.Clean(x.Name)+" "+x.Value)
		}
		o.Printf("\n  %s\n", o.Paint(term.Faint, "left for later: "+strings.Join(parts, ", ")+" (--verbose explains)"))
	}
}

// printActs tells of the rows of other tables that change first.
func printActs(o *term.Out, s *preview.Step) {
	if len(s.Acts) == 0 {
		return
	}
	o.Printf("\n")
	t := o.NewTable("  with them", "", "by", ">rows")
	for _, x := range s.Acts {
		t.Row("  "+term.Clean(x.Table), report.ActText(x.Role, true), o.Cut(term.Clean(strings.Join(x.By, ", ")), 40), term.Count(x.Rows))
	}
	t.Print()
	text := "In each batch these are changed first, and kept: undo brings them back as well."
	if s.Verb == "merge" {
		text = "All in the batch in which the others go, and kept: undo brings them back as well."
	}
	o.Printf("  %s\n", o.Paint(term.Faint, text))
}

// printRehearsal tells what one batch cost and what the whole will.
func (a *app) printRehearsal(o *term.Out, x *preview.Rehearsal) {
	o.Printf("\n  rehearsed  one batch of %s rows, %s changed, in %s; rolled back\n", term.Count(x.Rows), term.Count(x.Changed), term.Duration(report.Milliseconds(x.WorkMS)))
	if x.LogRow >= 0 {
		text := fmt.Sprintf("%.0f bytes", x.LogRow)
		if x.Records >= 0 {
			text += fmt.Sprintf(" in %.1f records", x.Records)
		}
		o.Printf("  log        %s of %s for each changed row (%s)\n", text, cmp.Or(x.LogKind, "log"), report.Scope(x.Log.Scope))
	}
	if len(x.Locks) > 0 {
		var list []string
		for _, k := range slices.Sorted(maps.Keys(x.Locks)) {
			list = append(list, fmt.Sprintf("%s %s", k, term.Count(int64(x.Locks[k]))))
		}
		o.Printf("  locks      %s\n", strings.Join(list, ", "))
	}
	f := plan.Estimated(x)
	o.Printf("  estimated  %s\n", o.Paint(term.Bold, report.EstimateText(*f)))
}

func (a *app) printFigures(s *preview.Step) {
	o := a.out
	numbers := false
	for _, c := range s.Columns {
		if c.Before != nil && s.Changes > 0 {
			numbers = true
		}
		if c.Longest > 0 {
			limit := "no limit"
			if c.Width > 0 {
				limit = fmt.Sprintf("room for %d", c.Width)
			}
			o.Printf("  %s: longest new value %d characters, %s\n", term.Clean(c.Name), c.Longest, limit)
		}
		if c.MissingBefore.Any() || c.MissingAfter.Any() {
			o.Printf("  %s: %s\n", term.Clean(c.Name), missingText(c))
		}
	}
	if !numbers {
		return
	}
	o.Printf("\n")
	t := o.NewTable("  column", "", ">minimum", ">maximum", ">sum", ">distinct")
	for _, c := range s.Columns {
		if c.Before == nil {
			continue
		}
		t.Row("  "+term.Clean(c.Name), "before", c.Before.Min, c.Before.Max, c.Before.Sum, term.Count(c.Before.Distinct))
		t.Row("", "after", c.After.Min, c.After.Max, c.After.Sum, term.Count(c.After.Distinct))
	}
	t.Print()
}

// missingText tells how many of the rows that change have no value in a column, or none to be
// seen, before and after.
func missingText(c preview.Column) string {
	var out []string
	for _, x := range []struct {
		name          string
		before, after int64
	}{{"NULL", c.MissingBefore.Null, c.MissingAfter.Null}, {"empty", c.MissingBefore.Empty, c.MissingAfter.Empty}, {"only blanks", c.MissingBefore.Blank, c.MissingAfter.Blank}} {
		if x.before != 0 || x.after != 0 {
			out = append(out, fmt.Sprintf("%s in %s, after it in %s", x.name, term.Rows(x.before), term.Count(x.after)))
		}
	}
	return strings.Join(out, "; ")
}

// printSample shows sample rows: a table where each row is one line, or one
// line a column where there is more to show.
func (a *app) printSample(s *preview.Step, width int) {
	o := a.out
	header := []string{"  " + term.Clean(strings.Join(s.Key, ", "))}
	for _, n := range s.Named {
		header = append(header, term.Clean(n))
	}
	if s.Verb != "update" { // the rows go: there is nothing after
		for _, c := range s.Sample[0].Changes {
			header = append(header, term.Clean(c.Column))
		}
		t := o.NewTable(header...)
		each := max((width-16)/max(len(header)-1, 1)-2, 6)
		for _, r := range s.Sample {
			cells := []string{"  " + o.Cut(term.Clean(r.Key), 24)}
			for _, c := range r.Changes {
				cells = append(cells, o.Value(c.Before, each))
			}
			t.Row(cells...)
		}
		t.Print()
		return
	}
	header = append(header, "column")
	each := max((width-36-14*len(s.Named))/2, 16)
	if s.Replacement != nil {
		form := "form"
		if s.Replacement.Shapes {
			form = "transform"
		}
		header = append(header, form)
		each = max((width-58)/2, 16)
	}
	t := o.NewTable(append(header, "before", "after")...)
	for _, r := range s.Sample {
		for i, c := range r.Changes {
			cells := []string{"  " + o.Cut(term.Clean(r.Key), 24)}
			for _, n := range r.Named {
				cells = append(cells, o.Value(n, 16))
			}
			if i > 0 {
				for j := range cells {
					cells[j] = ""
				}
			}
			before, after := o.Diff(c.Before, c.After, each)
			cells = append(cells, term.Clean(c.Column))
			if s.Replacement != nil {
				cells = append(cells, o.Cut(strings.Join(c.Forms, "; "), 28))
			}
			t.Row(append(cells, before, after)...)
		}
	}
	t.Print()
}

// printHazards tells what was found; of refusals that were lifted it says so.
func (a *app) printHazards(o *term.Out, list []hazard.Finding, lifted []string) {
	for _, level := range []hazard.Level{hazard.Refusal, hazard.Warning, hazard.Note} {
		style := map[hazard.Level]text.Colors{hazard.Refusal: term.Bad, hazard.Warning: term.Warn, hazard.Note: term.Faint}[level]
		for _, f := range list {
			word := string(f.Level)
			paint := style
			if f.Level == hazard.Refusal && hazard.Liftable(f.Code) && slices.Contains(lifted, f.Code) {
				word, paint = "lifted", term.Faint
			}
			if f.Level == level {
				o.Printf("  %s %s\n", o.Paint(paint, fmt.Sprintf("%-7s %s:", word, f.Code)), term.Clean(f.Text))
			}
		}
	}
}

// despite lists the refusals that a person lifts.
func despite(c *cli.Command) []string {
	list := c.StringSlice("despite")
	if c.Bool("every-row") {
		list = append(list, hazard.EveryRow)
	}
	return list
}
