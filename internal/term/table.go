package term

import (
	"slices"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// Table is a table to be written to a stream. Cells are the caller's own text,
// or text that went through Clean.
type Table struct {
	out     *Out
	w       table.Writer
	configs []table.ColumnConfig
	names   []string // of the columns
	widths  []int    // of their widest cells, in characters
	yields  []string // names of columns that give way where there is no room, the first of them first
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
		t.names, t.widths = append(t.names, h), append(t.widths, text.StringWidthWithoutEscSequences(h))
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
	for i, c := range cells {
		row = append(row, c)
		if i < len(t.widths) {
			t.widths[i] = max(t.widths[i], text.StringWidthWithoutEscSequences(c))
		}
	}
	t.w.AppendRow(row)
}

// Yield names columns that are left out, in this order, as far as the table is wider than its stream.
// What they tell should be told elsewhere as well, or be little.
func (t *Table) Yield(names ...string) *Table {
	t.yields = names
	return t
}

// fit hides columns until the table fits, or none is left that gives way.
func (t *Table) fit() {
	const gap = 2 // behind each column
	width := 0
	for i, w := range t.widths {
		if most := t.configs[i].WidthMax; most > 0 {
			w = min(w, most)
		}
		width += w + gap
	}
	for _, name := range t.yields {
		if width <= t.out.Width() {
			return
		}
		if i := slices.Index(t.names, name); i >= 0 {
			t.configs[i].Hidden = true
			width -= t.widths[i] + gap
		}
	}
}

// Print writes the table.
func (t *Table) Print() {
	t.fit()
	t.w.SetColumnConfigs(t.configs)
	t.out.Printf("%s\n", t.w.Render())
}
