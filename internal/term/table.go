package term

import (
	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Table is a table to be written to a stream. Cells are the caller's own text,
// or text that went through Clean.
type Table struct {
	out     *Out
	w       table.Writer
	configs []table.ColumnConfig
}

// NewTable begins a table with its header. A column whose name begins with ">"
// is aligned to the right.
func (o *Out) NewTable(header ...string) *Table {
	t := &Table{out: o, w: table.NewWriter()}
	style := table.StyleLight
	style.Options = table.Options{DrawBorder: false, SeparateColumns: false, SeparateHeader: true}
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "  "
	style.Format.Header = text.FormatDefault
	if o.Color {
		text.EnableColors()
		style.Color.Header = text.Colors{text.Bold}
		style.Color.Separator = text.Colors{text.Faint}
	} else {
		text.DisableColors()
	}
	t.w.SetStyle(style)
	row := table.Row{}
	for i, h := range header {
		c := table.ColumnConfig{Number: i + 1}
		if len(h) > 0 && h[0] == '>' {
			c.Align, c.AlignHeader, h = text.AlignRight, text.AlignRight, h[1:]
		}
		t.configs = append(t.configs, c)
		row = append(row, h)
	}
	t.w.AppendHeader(row)
	return t
}

// Wrap lets a column (0-based) break its text at the given width.
func (t *Table) Wrap(column, width int) *Table {
	t.configs[column].WidthMax = max(width, 8)
	t.configs[column].WidthMaxEnforcer = text.WrapSoft
	return t
}

// Row adds a row.
func (t *Table) Row(cells ...string) {
	row := table.Row{}
	for _, c := range cells {
		row = append(row, c)
	}
	t.w.AppendRow(row)
}

// Print writes the table.
func (t *Table) Print() {
	t.w.SetColumnConfigs(t.configs)
	t.out.Printf("%s\n", t.w.Render())
}
