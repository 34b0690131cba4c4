package plots

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"image/png"
	"io"
	"math"
	"regexp"
	"strings"
	"testing"
)

// example has a panel of each sort: an area with breaks, a limit, marks, and bars.
func example() []Panel {
	var x, y []float64
	for i := range 100 {
		x, y = append(x, float64(i)), append(y, 1000+500*math.Sin(float64(i)/8))
	}
	y[40], y[60], y[62] = math.NaN(), math.NaN(), math.NaN() // a single value between breaks
	return []Panel{
		{Name: "rows", Title: "rows a second", Lines: []Line{{X: x, Y: y, Fill: true}, {X: x, Y: y, Faint: true, Color: 1}}, To: 100, Limit: 1800, Marks: []Mark{{At: 30, Label: "1"}, {At: 99, Label: "2", Lower: 1}}, Aside: func(v float64) string { return fmt.Sprint(v) }},
		{Name: "few", Title: "two at most", Lines: []Line{{X: []float64{1, 2}, Y: []float64{0, 2}}}, To: 100, Whole: true},
	}
}

// TestInline: a drawing in a page is well-formed, has no colour, letters or size of its own, and
// takes nothing from elsewhere; what it says to those who do not see it is no markup.
func TestInline(t *testing.T) {
	text, err := Inline(example(), `"><script>`)
	if err != nil {
		t.Fatal(err)
	}
	for d := xml.NewDecoder(strings.NewReader(text)); ; {
		if _, err := d.Token(); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
	}
	for _, bad := range []string{`#[0-9A-Fa-f]{6}`, `#-`, `<svg[^>]* width=`, `font-family`, `<script`, `href`, `url\(`, `<\?xml`, `NaN`} {
		if m := regexp.MustCompile(bad).FindString(text); m != "" {
			t.Errorf("the drawing has %q", m)
		}
	}
	for _, want := range []string{"var(--plot-series-1)", "var(--plot-limit)", "fill-opacity", `role="img"`, "viewBox=", "rows a second"} {
		if !strings.Contains(text, want) {
			t.Errorf("the drawing has no %q", want)
		}
	}
}

func TestDraw(t *testing.T) {
	var b bytes.Buffer
	if err := Draw(&b, example(), "png"); err != nil {
		t.Fatal(err)
	}
	img, err := png.Decode(&b)
	if err != nil {
		t.Fatal(err)
	}
	colours := map[string]bool{}
	for y := img.Bounds().Min.Y; y < img.Bounds().Max.Y; y++ {
		for x := img.Bounds().Min.X; x < img.Bounds().Max.X; x++ {
			r, g, b, _ := img.At(x, y).RGBA()
			colours[fmt.Sprint(r>>8, g>>8, b>>8)] = true
		}
	}
	for name, c := range map[string]string{"paper": "255 255 255", "first line": "20 101 130", "limit": "179 38 30"} {
		if !colours[c] {
			t.Errorf("nothing has the colour of the %s", name)
		}
	}
	bars := []Panel{{Name: "holds", Title: "holds", Bars: []Bar{{From: 1, To: 2, Height: 3}, {From: 2, To: 4, Height: 9}}, From: 1, To: 4, Log: true}}
	if err := Draw(&b, bars, "svg"); err != nil || !strings.Contains(b.String(), "#146582") {
		t.Error(err, "no bar is drawn")
	}
	if err := Draw(&b, bars, "pdf"); err == nil || err.Error() != `plots are drawn as svg or png, not "pdf"` {
		t.Error(err)
	}
}

// TestTicks: round values, not too many, within the axis.
func TestTicks(t *testing.T) {
	for _, x := range []struct {
		t        ticks
		from, to float64
		want     string
	}{
		{ticks{most: 4}, 0, 10, "0 2.5 5 7.5 10"},
		{ticks{most: 4}, 0, 186_000, "0 50000 100000 150000"},
		{ticks{most: 4, whole: true}, 0, 2.2, "0 1 2"},
		{ticks{most: 4, bytes: true}, 0, 27e6, "0 8.388608e+06 1.6777216e+07 2.5165824e+07"},
		{ticks{log: true}, 1.5, 300, "2 5 10 20 50 100 200"},
		{ticks{log: true}, 100, 160, "100 120 150"},
		{ticks{log: true}, 0.01, 10000, "0.01 0.1 1 10 100 1000 10000"},
	} {
		var got []string
		for _, k := range x.t.Ticks(x.from, x.to) {
			got = append(got, fmt.Sprint(k.Value))
		}
		if text := strings.Join(got, " "); text != x.want {
			t.Errorf("from %g to %g: %s, expected %s", x.from, x.to, text, x.want)
		}
	}
}
