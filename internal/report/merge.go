package report

import (
	"fmt"
	"strings"

	"jugatum/internal/preview"
	"jugatum/internal/term"
)

// shownSizes is how many sizes of groups are told; the larger ones are told together.
const shownSizes = 8

// PrintMerge tells which rows would become one.
func PrintMerge(o *term.Out, m *preview.Merge) {
	but := map[string]string{"exact": "", "trimmed": ", but for blanks around it", "folded": ", but for case, blanks and the Unicode form"}[m.SameAs]
	o.Printf("  %s of rows with the same %s%s\n", o.Paint(term.Bold, term.Counted(m.Groups, "group")), term.Clean(strings.Join(m.By, " and ")), but)
	if m.Apart > 0 {
		o.Printf("  %s\n", o.Paint(term.Faint, fmt.Sprintf("%s in no group, since %s is NULL there", term.Rows(m.Apart), term.Clean(strings.Join(m.By, " or ")))))
	}
	if m.Groups == 0 {
		return
	}
	o.Printf("\n")
	t := o.NewTable(">  rows in a group", ">groups", ">rows that go")
	rest, go_ := int64(0), int64(0)
	for i, s := range m.Sizes {
		if i >= shownSizes && len(m.Sizes) > shownSizes+1 {
			rest, go_ = rest+s.Groups, go_+s.Groups*(s.Rows-1)
			continue
		}
		t.Row("  "+term.Count(s.Rows), term.Count(s.Groups), term.Count(s.Groups*(s.Rows-1)))
	}
	if rest > 0 {
		t.Row(fmt.Sprintf("  %s to %s", term.Count(m.Sizes[shownSizes].Rows), term.Count(m.Sizes[len(m.Sizes)-1].Rows)), term.Count(rest), term.Count(go_))
	}
	t.Print()
	printMergeColumns(o, m)
	printLargest(o, m)
}

// printMergeColumns tells of columns in which rows of a group are not the same.
func printMergeColumns(o *term.Out, m *preview.Merge) {
	what := "only in rows that go: lost"
	if m.Blanks == "fill" {
		what = "only in rows that go: filled in"
	}
	t := o.NewTable("  column", ">"+what, ">different values: the first stays")
	shown := false
	for _, c := range m.Columns {
		if c.Missing > 0 || c.Contrary > 0 {
			t.Row("  "+term.Clean(c.Name), term.Count(c.Missing), term.Count(c.Contrary))
			shown = true
		}
	}
	if shown {
		o.Printf("\n")
		t.Print()
		o.Printf("  %s\n", o.Paint(term.Faint, "Numbers of groups. What goes can be read afterwards with kept, and undo brings it back."))
	}
}

// printLargest shows the largest group: one line a column, one column a row of it, as far as that goes.
func printLargest(o *term.Out, m *preview.Merge) {
	const most = 5 // rows beside each other
	list := m.Largest
	if len(list) > most {
		list = list[:most]
	}
	o.Printf("\n")
	header := []string{"  the largest group"}
	each := max((o.Width()-24)/max(len(list), 1)-2, 12)
	for _, x := range list {
		word := "goes "
		if x.Stays {
			word = "stays "
		}
		header = append(header, word+o.Cut(term.Clean(x.Key), each-6))
	}
	t := o.NewTable(header...)
	for i := range list[0].Values {
		cells := []string{"  " + term.Clean(list[0].Values[i].Column)}
		different := false
		for _, x := range list {
			v := x.Values[i]
			text := o.Value(v.Now, each)
			if v.Filled != nil {
				text = o.Paint(term.Good, o.Value(v.Filled, each-8)) + " (from " + term.Clean(v.From) + ")"
			}
			if a, b := v.Now, list[0].Values[i].Now; (a == nil) != (b == nil) || a != nil && *a != *b {
				different = true
			}
			cells = append(cells, text)
		}
		if different || i < len(m.By) {
			t.Row(cells...)
		}
	}
	t.Print()
	if rest := m.Of - int64(len(list)); rest > 0 {
		o.Printf("  %s\n", o.Paint(term.Faint, fmt.Sprintf("and %s of this group; --json has the first %d", term.Rows(rest), len(m.Largest))))
	}
}
