package report

import (
	"fmt"

	"jugatum/internal/preview"
	"jugatum/internal/term"
)

// PrintMove tells of the table that rows are to go to.
func PrintMove(o *term.Out, m *preview.Move) {
	text := "which the run makes, with the same columns and key"
	if !m.Made {
		rows := term.Count(m.Rows)
		if m.Estimated {
			rows = "about " + rows
		}
		text = fmt.Sprintf("which has %s rows", rows)
	}
	o.Printf("  %s\n", o.Paint(term.Faint, term.Clean(m.To)+": "+text))
}
