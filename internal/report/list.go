package report

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/preview"
	"jugatum/internal/term"
)

// List is what became of the lines of a list.
type List struct {
	Step     string           `json:"step"`
	File     string           `json:"file"`
	SHA256   string           `json:"sha256"`
	Lines    int64            `json:"lines"`
	Outcomes map[string]int64 `json:"outcomes"` // lines by what became of them, once the step is done
}

// lists reads what became of the lists of a run, and names the tables of its steps by them.
func lists(ctx context.Context, l *ledger.Ledger, r *ledger.Run, steps []Step) (out []List, err error) {
	if !slices.ContainsFunc(paramNames(r), ledger.IsListParam) {
		return nil, nil
	}
	j, err := job.Restore(r.Source)
	if err != nil { // its job means nothing any more, and its steps are told all the same
		return nil, nil
	}
	counts, err := l.Outcomes(ctx, r.ID)
	if err != nil {
		return nil, err
	}
	for i, s := range j.Steps {
		x, err := ledger.ListOf(r.Params, i)
		if err != nil {
			return nil, err
		}
		if x == nil || x.SHA256 == "" { // nobody's list: what was found in the database
			continue
		}
		one := List{Step: s.Name, File: x.File, SHA256: x.SHA256, Lines: x.Lines, Outcomes: map[string]int64{}}
		for n := range r.Steps { // rows that are inserted come from our table of lines, which means nothing to anybody
			st := &steps[n]
			if j.Of(st.Name) != i {
				continue
			}
			switch r.Steps[n].Verb {
			case "insert":
				st.Table = s.Table
			case "call":
				st.Table = x.File
			}
			for outcome, lines := range counts[r.Steps[n].N] { // those of each turn, with its last step
				one.Outcomes[outcome] += lines
			}
		}
		if r.UndoOf != 0 { // which puts rows back, and carries no line out
			continue
		}
		out = append(out, one)
	}
	return out, nil
}

func paramNames(r *ledger.Run) (names []string) {
	for name := range r.Params {
		names = append(names, name)
	}
	return names
}

// OutcomesText words counts of lines by outcome: "3 changed, 1 no such key".
func OutcomesText(o *term.Out, counts map[string]int64) string {
	var parts []string
	for _, outcome := range change.Outcomes {
		if n := counts[string(outcome)]; n > 0 {
			text := term.Count(n) + " " + string(outcome)
			if outcome == change.NoSuchKey || outcome == change.KeyExists || outcome == change.Refused {
				text = o.Paint(term.Warn, text)
			}
			parts = append(parts, text)
		}
	}
	return strings.Join(parts, ", ")
}

// printLists tells what became of the lines of lists. db is how the options that name the
// database are repeated.
func (s *Run) printLists(o *term.Out, db string) {
	for _, x := range s.Lists {
		o.Printf("\n  list     %s, %s lines", term.Clean(x.File), term.Count(x.Lines))
		text := OutcomesText(o, x.Outcomes)
		switch {
		case text != "":
			o.Printf(": %s\n", text)
			o.Printf("           %s\n", o.Paint(term.Faint, fmt.Sprintf("`jugatum show %d%s --lines FILE` writes what became of each", s.Run, db)))
		case !s.Keep:
			o.Printf("; with --keep none it is not known what became of each\n")
		default:
			o.Printf("\n")
		}
	}
}

// PrintCall tells how often a statement would be called.
func PrintCall(o *term.Out, x *preview.Call) {
	o.Printf("  %s of %s: %s\n", o.Paint(term.Bold, term.Counted(x.Lines, "line")), term.Clean(x.File), term.Clean(strings.Join(strings.Fields(x.Statement), " ")))
	if x.Routine != "" {
		o.Printf("  %s\n", o.Paint(term.Faint, term.Clean(x.Routine)))
	}
}

// PrintLines tells what would become of the lines of a list that a step carries out.
func PrintLines(o *term.Out, x *preview.Lines) {
	text := OutcomesText(o, x.Outcomes)
	if text == "" {
		text = "nothing"
	}
	if x.Turn > 0 { // what the rows hold by then is not known
		o.Printf("  of %s whose key an earlier line has: at most %s\n", term.Counted(x.Lines, "line"), text)
		return
	}
	o.Printf("  list %s: %s\n", term.Clean(x.File), text)
}
