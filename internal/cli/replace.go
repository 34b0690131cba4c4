package cli

import (
	"slices"

	"jugatum/internal/find"
	"jugatum/internal/preview"
	"jugatum/internal/term"
)

// printReplacement tells what a step that replaces text finds, by column and form,
// and what it would leave.
func (a *app) printReplacement(r *preview.Replacement) {
	o := a.out
	o.Printf("\n")
	header, rest := []string{"  column", ">rows", "form", ">replaced"}, []string(nil)
	if r.Shapes {
		header = []string{"  column", ">rows", "transform", ">changes"}
	}
	if slices.ContainsFunc(r.Columns, func(c preview.ReplacedColumn) bool { return len(c.Near) > 0 }) {
		header, rest = append(header, ">stays", "because"), []string{"", ""}
	}
	t := o.NewTable(header...)
	for _, c := range r.Columns {
		name, rows := "  "+term.Clean(c.Name), term.Count(c.Rows)
		for _, f := range c.Forms {
			t.Row(append([]string{name, rows, f.Form, o.Paint(term.Bold, term.Count(f.Hits))}, rest...)...)
			name, rows = "", ""
		}
		for _, f := range c.Near {
			t.Row(name, rows, f.Form, "", o.Paint(term.Warn, term.Count(f.Hits)), find.Stays(f.Form, f.Differs))
			name, rows = "", ""
		}
	}
	t.Print()
	if len(r.Broken) > 0 {
		o.Printf("\n")
		b := o.NewTable("  row", "column", "what is wrong").Wrap(2, max(o.Width()-44, 30))
		for _, x := range r.Broken {
			b.Row("  "+a.out.Cut(term.Clean(x.Key), 24), term.Clean(x.Column), term.Clean(x.Reason))
		}
		b.Print()
	}
}
