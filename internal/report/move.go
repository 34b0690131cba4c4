package report

import (
	"jugatum/internal/preview"
	"jugatum/internal/term"
)

// PrintMove tells of the table that rows are to go to.
func PrintMove(o *term.Out, m *preview.Move) {
	text := " is there already"
	if m.Made {
		text = " is made by the run, with the same columns and key"
	}
	o.Printf("  %s\n", o.Paint(term.Faint, term.Clean(m.To)+text))
}
