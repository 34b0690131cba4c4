package report

import (
	"fmt"

	"jugatum/internal/change"
	"jugatum/internal/preview"
	"jugatum/internal/term"
)

// PrintFill tells what a step that fills columns from other rows finds, and does not.
func PrintFill(o *term.Out, f *preview.Fill) {
	o.Printf("\n")
	if f.Unmatched > 0 {
		what := map[change.Unmatched][2]string{change.Leave: {"row matches nothing and stays as it is", "rows match nothing and stay as they are"},
			change.Null: {"row matches nothing and becomes NULL", "rows match nothing and become NULL"}, change.Fail: {"row matches nothing, which is not allowed", "rows match nothing, which is not allowed"}}[change.Unmatched(f.Becomes)]
		o.Printf("  %s %s\n", o.Paint(term.Warn, term.Count(f.Unmatched)), what[min(f.Unmatched-1, 1)])
	}
	o.Printf("  %s\n", o.Paint(term.Faint, fmt.Sprintf("source: %s, %s of them used by no row of the table", term.Rows(f.Rows), term.Count(f.Unused))))
	each := max((o.Width()-30)/max(len(f.Columns), 1), 12)
	if len(f.Values) > 0 {
		o.Printf("\n")
		header := []string{"  without a match: " + term.Clean(f.Columns[0])}
		for _, c := range f.Columns[1:] {
			header = append(header, term.Clean(c))
		}
		t := o.NewTable(append(header, ">rows")...)
		listed := int64(0)
		for _, u := range f.Values {
			var cells []string
			for i, v := range u.Values {
				text := o.Value(v, each)
				if i == 0 {
					text = "  " + text
				}
				cells = append(cells, text)
			}
			listed += u.Rows
			t.Row(append(cells, term.Count(u.Rows))...)
		}
		t.Print()
		if listed < f.Unmatched {
			o.Printf("  %s\n", o.Paint(term.Faint, fmt.Sprintf("and %s with other values", term.Rows(f.Unmatched-listed))))
		}
	}
	if len(f.Several) == 0 {
		return
	}
	o.Printf("\n")
	t := o.NewTable("  several source rows: key", ">rows", "column", "least", "greatest")
	each = max((o.Width()-56)/2, 12)
	for _, s := range f.Several {
		key, rows := "  "+o.Cut(term.Clean(s.Key), 24), term.Count(s.Rows)
		for _, c := range s.Choices {
			t.Row(key, rows, term.Clean(c.Column), o.Value(c.Least, each), o.Value(c.Most, each))
			key, rows = "", ""
		}
	}
	t.Print()
}

// printFills tells it after a run, with what could be declared now.
func printFills(o *term.Out, list []*preview.Fill) {
	for _, f := range list {
		o.Printf("\n  %s", o.Paint(term.Bold, "after step "+term.Clean(f.Step)))
		PrintFill(o, f)
		for _, text := range f.Advice {
			o.Printf("  %s %s\n", o.Paint(term.Good, "advice"), term.Clean(text))
		}
	}
}
