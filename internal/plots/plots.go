// Package plots draws figures over time, and how figures are spread, as SVG or PNG. All words in
// a plot are ours: nothing that a database says is written into one.
package plots

import (
	"bytes"
	"fmt"
	"image/color"
	"io"
	"math"
	"strings"

	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/plotter"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgimg"
	"gonum.org/v1/plot/vg/vgsvg"
)

// Panel is one plot: lines over an axis, or bars.
type Panel struct {
	Name  string // one word, for a file's name
	Title string
	Lines []Line
	Bars  []Bar
	Limit float64 // a level to be held against, 0 for none
	Marks []Mark
	From  float64 // of the axis below
	To    float64
	Log   bool                 // the axis below is logarithmic
	Below func(float64) string // words a value of the axis below
	Aside func(float64) string // words a value of the axis at the side
	Whole bool                 // values are whole numbers
	Bytes bool                 // values are bytes, whose round values are powers of two
}

// Line is one of a panel's. A value of NaN breaks it.
type Line struct {
	X, Y  []float64
	Fill  bool // down to 0
	Faint bool
	Color int // of the series, from 0
}

// Bar is one of a histogram's.
type Bar struct {
	From, To, Height float64
}

// Mark is a moment with a number.
type Mark struct {
	At    float64
	Label string
	Lower int // lines that the label stands below the top
}

// Colours. In a page they are what its style sheet says, see Inline.
var (
	ink    = color.RGBA{0x1b, 0x25, 0x30, 255}
	faint  = color.RGBA{0x5f, 0x6b, 0x77, 255}
	grid   = color.RGBA{0xdd, 0xe2, 0xe7, 255}
	paper  = color.RGBA{0xff, 0xff, 0xff, 255}
	limit  = color.RGBA{0xb3, 0x26, 0x1e, 255}
	series = []color.RGBA{{0x14, 0x65, 0x82, 255}, {0xb8, 0x56, 0x1c, 255}, {0x4c, 0x74, 0x1c, 255}, {0x74, 0x42, 0x90, 255}, {0x8a, 0x6d, 0x00, 255}, {0x9c, 0x2f, 0x62, 255}}
)

// styled names the colours for a page's style sheet.
func styled() map[string]color.RGBA {
	out := map[string]color.RGBA{"ink": ink, "faint": faint, "grid": grid, "paper": paper, "limit": limit}
	for i, c := range series {
		out[fmt.Sprintf("series-%d", i+1)] = c
	}
	return out
}

// Series is how many lines can be told apart by their colours.
const Series = 6

// Sizes of a drawing.
const (
	width       = 9.6 * vg.Inch
	panelHeight = 1.75 * vg.Inch
	textSize    = vg.Length(9)
)

// plotted makes the plot of a panel; last says that it shows the words of the axis below.
func (p Panel) plotted(last bool) (*plot.Plot, error) {
	x := plot.New()
	x.BackgroundColor = nil
	face := font.Font{Typeface: "Liberation", Variant: "Sans", Size: textSize}
	x.Title.Text, x.Title.TextStyle.Font, x.Title.Padding = " ", face, 4 // the room for heading
	x.X.Min, x.X.Max = p.From, p.To
	x.X.Tick.Marker, x.Y.Tick.Marker = ticks{words: p.Below, log: p.Log, most: 8}, ticks{words: p.Aside, whole: p.Whole, bytes: p.Bytes, most: 4}
	for _, a := range []*plot.Axis{&x.X, &x.Y} {
		a.Tick.Label.Font, a.Tick.Label.Color, a.Tick.LineStyle.Color = face, faint, grid
		a.LineStyle.Color, a.Padding = grid, 0
		a.Tick.Length = 3
	}
	if !last {
		x.X.Tick.Marker = ticks{words: func(float64) string { return "" }, log: p.Log, most: 8}
	}
	if p.Log {
		x.X.Scale = plot.LogScale{}
	}
	style := x.X.Tick.Label
	style.Color, style.XAlign, style.YAlign = ink, draw.XLeft, draw.YBottom
	x.Add(heading{p.Title, style})
	g := plotter.NewGrid()
	g.Vertical.Color, g.Horizontal.Color = nil, grid
	x.Add(g)
	top := p.Limit
	for _, b := range p.Bars {
		top = max(top, b.Height)
		x.Add(b)
	}
	for _, l := range p.Lines {
		for _, y := range l.Y {
			if !math.IsNaN(y) {
				top = max(top, y)
			}
		}
		if err := l.add(x); err != nil {
			return nil, err
		}
	}
	if top == 0 {
		top = 1
	}
	x.Y.Min, x.Y.Max = 0, top*1.08
	if p.Whole {
		x.Y.Max = max(top*1.08, 4)
	}
	if p.Limit > 0 {
		x.Add(level{p.Limit, p.From, p.To})
	}
	for _, m := range p.Marks {
		x.Add(m)
	}
	return x, nil
}

// add adds the parts of a line between its breaks.
func (l Line) add(x *plot.Plot) error {
	c := series[l.Color%len(series)]
	var part plotter.XYs
	flush := func() error {
		defer func() { part = nil }()
		switch len(part) {
		case 0:
			return nil
		case 1:
			s, err := plotter.NewScatter(part)
			if err != nil {
				return err
			}
			s.GlyphStyle = draw.GlyphStyle{Color: c, Radius: 1.4, Shape: draw.CircleGlyph{}}
			x.Add(s)
			return nil
		}
		line, err := plotter.NewLine(part)
		if err != nil {
			return err
		}
		line.LineStyle = draw.LineStyle{Color: c, Width: 1.3}
		if l.Faint {
			line.LineStyle.Width, line.LineStyle.Dashes = 0.9, []vg.Length{3, 2}
		}
		if l.Fill {
			line.FillColor = area(c)
		}
		x.Add(line)
		return nil
	}
	for i := range l.X {
		if math.IsNaN(l.Y[i]) {
			if err := flush(); err != nil {
				return err
			}
			continue
		}
		part = append(part, plotter.XY{X: l.X[i], Y: l.Y[i]})
	}
	return flush()
}

// fillAlpha is how much of a line's colour the area below it has, of 255.
const fillAlpha = 46

func area(c color.RGBA) color.Color { return color.NRGBA{c.R, c.G, c.B, fillAlpha} }

// Plot draws a bar.
func (b Bar) Plot(c draw.Canvas, p *plot.Plot) {
	tx, ty := p.Transforms(&c)
	const gap = 0.6
	from, to, bottom, top := tx(b.From)+gap, tx(b.To)-gap, ty(0), ty(b.Height)
	c.FillPolygon(series[0], []vg.Point{{X: from, Y: bottom}, {X: from, Y: top}, {X: to, Y: top}, {X: to, Y: bottom}})
}

// heading is a plot's title, above its left end.
type heading struct {
	text  string
	style draw.TextStyle
}

func (h heading) Plot(c draw.Canvas, _ *plot.Plot) {
	c.FillText(h.style, vg.Point{X: c.Min.X, Y: c.Max.Y + 4}, h.text)
}

// level is a limit across a plot.
type level struct{ y, from, to float64 }

func (l level) Plot(c draw.Canvas, p *plot.Plot) {
	tx, ty := p.Transforms(&c)
	c.StrokeLine2(draw.LineStyle{Color: limit, Width: 1, Dashes: []vg.Length{5, 3}}, tx(l.from), ty(l.y), tx(l.to), ty(l.y))
}

// Plot draws a mark: a line from bottom to top, and its number there.
func (m Mark) Plot(c draw.Canvas, p *plot.Plot) {
	tx, _ := p.Transforms(&c)
	x := tx(m.At)
	c.StrokeLine2(draw.LineStyle{Color: faint, Width: 0.7, Dashes: []vg.Length{1.5, 2}}, x, c.Min.Y, x, c.Max.Y)
	if m.Label != "" {
		style := p.X.Tick.Label
		style.Color, style.XAlign, style.YAlign = ink, draw.XLeft, draw.YTop
		style.Font.Size = textSize - 1
		at := x + 1.5
		if x > c.Max.X-nearEnd {
			style.XAlign, at = draw.XRight, x-1.5
		}
		c.FillText(style, vg.Point{X: at, Y: c.Max.Y - vg.Length(m.Lower)*textSize}, m.Label)
	}
}

// nearEnd is so near to the right end that a label goes to the left of its mark.
const nearEnd = 36

// ticks are round values, each with its words.
type ticks struct {
	words func(float64) string
	log   bool
	whole bool
	bytes bool
	most  int
}

func (t ticks) Ticks(from, to float64) (out []plot.Tick) {
	words := t.words
	if words == nil {
		words = func(v float64) string { return fmt.Sprint(v) }
	}
	if t.log {
		return logTicks(from, to, words)
	}
	step := niceStep((to-from)/float64(t.most), t.whole)
	if t.bytes {
		step = math.Pow(2, math.Ceil(math.Log2((to-from)/float64(t.most))))
	}
	for v := math.Ceil(from/step) * step; v <= to+step*1e-9; v += step {
		out = append(out, plot.Tick{Value: v, Label: words(v)})
	}
	return out
}

// logTicks are powers of ten, and between them what is needed to have some.
func logTicks(from, to float64, words func(float64) string) (out []plot.Tick) {
	between := []float64{1}
	switch decades := math.Log10(to / from); {
	case decades < 0.5:
		between = []float64{1, 1.2, 1.5, 2, 2.5, 3, 4, 5, 6, 7, 8, 9}
	case decades < 3:
		between = []float64{1, 2, 5}
	}
	for e := math.Floor(math.Log10(from)); e <= math.Ceil(math.Log10(to)); e++ {
		for _, f := range between {
			if v := f * math.Pow(10, e); v >= from*0.999 && v <= to*1.001 {
				out = append(out, plot.Tick{Value: v, Label: words(v)})
			}
		}
	}
	return out
}

// niceStep is the next larger step of 1, 2, 2.5 or 5 times a power of ten.
func niceStep(least float64, whole bool) float64 {
	if least <= 0 {
		return 1
	}
	p := math.Pow(10, math.Floor(math.Log10(least)))
	for _, f := range []float64{1, 2, 2.5, 5, 10} {
		if f*p >= least*0.999 {
			if whole {
				return max(math.Ceil(f*p), 1)
			}
			return f * p
		}
	}
	return 10 * p
}

// Draw draws panels one below the other, over the same axis, as "svg" or "png".
func Draw(w io.Writer, panels []Panel, as string) error {
	return drawn(w, panels, as, paper)
}

func drawn(w io.Writer, panels []Panel, as string, background color.Color) error {
	high := panelHeight*vg.Length(len(panels)) + 12
	var out vg.CanvasWriterTo
	switch as {
	case "svg":
		out = vgsvg.New(width, high)
	case "png":
		out = vgimg.PngCanvas{Canvas: vgimg.NewWith(vgimg.UseWH(width, high), vgimg.UseDPI(144))}
	default:
		return fmt.Errorf("plots are drawn as svg or png, not %q", as)
	}
	c := draw.New(out)
	if background != nil {
		c.SetColor(background)
		c.Fill(c.Rectangle.Path())
	}
	rows := make([][]*plot.Plot, len(panels))
	for i, p := range panels {
		x, err := p.plotted(i == len(panels)-1)
		if err != nil {
			return fmt.Errorf("drawing %s: %w", p.Name, err)
		}
		rows[i] = []*plot.Plot{x}
	}
	tiles := draw.Tiles{Rows: len(panels), Cols: 1, PadTop: 4, PadBottom: 2, PadLeft: 4, PadRight: 14, PadY: 6}
	for i, canvases := range plot.Align(rows, tiles, c) {
		rows[i][0].Draw(canvases[0])
	}
	_, err := out.WriteTo(w)
	return err
}

// Inline draws panels as SVG that stands in a page: as wide as there is room, in colours and
// letters of the page's style sheet (--plot-ink, --plot-series-1 and so on). label says what is to
// be seen, for those who do not see it.
func Inline(panels []Panel, label string) (string, error) {
	var b bytes.Buffer
	if err := drawn(&b, panels, "svg", nil); err != nil {
		return "", err
	}
	text := b.String()
	begin := strings.Index(text, "<svg")
	end := begin + strings.Index(text[begin:], ">")
	head := text[begin:end]
	box := head[strings.Index(head, "viewBox="):]
	box = box[:strings.Index(box[9:], `"`)+10]
	old := []string{"font-family:Liberation Sans;font-variant:normal;font-weight:normal;font-style:normal;", ""}
	for name, c := range styled() {
		old = append(old, written(c), "var(--plot-"+name+")", written(area(c)), "var(--plot-"+name+")")
	}
	body := strings.NewReplacer(old...).Replace(text[end:])
	return `<svg xmlns="http://www.w3.org/2000/svg" role="img" aria-label="` + escaped.Replace(label) + `" ` + box + body, nil
}

// written is a colour as it stands in the SVG, which has its opacity elsewhere.
func written(c color.Color) string {
	r, g, b, a := c.RGBA()
	full := 255.0 / float64(a)
	return fmt.Sprintf("#%02X%02X%02X", int(float64(r)*full), int(float64(g)*full), int(float64(b)*full))
}

var escaped = strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;")
