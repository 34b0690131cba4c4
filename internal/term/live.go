package term

import (
	"fmt"
	"math"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/text"
)

// Live shows how something goes on: at a terminal one block of lines that is
// written over, elsewhere a line every few seconds.
type Live struct {
	out   *Out
	lines int // of the block on the screen now
	last  time.Time
}

// How often something new is shown.
const (
	redraw = 100 * time.Millisecond
	report = 5 * time.Second
)

// NewLive shows on the stream, which is normally that of messages.
func (o *Out) NewLive() *Live { return &Live{out: o} }

// Show gives the block, and one line that says the same more briefly. It does
// nothing if something was shown just now, unless force is set.
func (l *Live) Show(block func(width int) []string, line func() string, force bool) {
	now := time.Now()
	if !l.out.TTY {
		if l.last.IsZero() {
			l.last = now
		}
		if now.Sub(l.last) >= report {
			l.last = now
			l.out.Printf("%s\n", line())
		}
		return
	}
	if !force && now.Sub(l.last) < redraw {
		return
	}
	l.last = now
	width := l.out.Width()
	var b strings.Builder
	b.WriteString(l.erase())
	lines := block(width - 1)
	for _, s := range lines {
		b.WriteString(Fit(s, width-1) + "\n")
	}
	l.lines = len(lines)
	l.out.Printf("%s", b.String())
}

// erase goes back to the beginning of the block and clears to the end of the
// screen. Every line was cut to the width, so none has wrapped, unless the
// window was made narrower since; then a rest of the old block stays above.
func (l *Live) erase() string {
	if l.lines == 0 {
		return ""
	}
	return fmt.Sprintf("\r\x1b[%dA\x1b[J", l.lines)
}

// Clear takes the block away.
func (l *Live) Clear() {
	if l.out.TTY {
		l.out.Printf("%s", l.erase())
		l.lines = 0
	}
}

// Bar draws a share from 0 to 1; a negative one is unknown.
func (o *Out) Bar(share float64, width int) string {
	width = max(width, 4)
	if share < 0 {
		return o.Paint(Faint, strings.Repeat("·", width))
	}
	full := int(min(share, 1)*float64(width) + 0.5)
	return o.Paint(Accent, strings.Repeat("━", full)) + o.Paint(Faint, strings.Repeat("─", width-full))
}

// Spark draws values from 0 to most as a line of small columns, the newest at the right end; a value
// of NaN, and what is not there, leaves a gap.
func Spark(values []float64, most float64, width int) string {
	const levels = "▁▂▃▄▅▆▇█"
	columns := []rune(levels)
	if len(values) > width {
		values = values[len(values)-width:]
	}
	out := []rune(strings.Repeat(" ", width-len(values)))
	for _, v := range values {
		if math.IsNaN(v) || most <= 0 {
			out = append(out, ' ')
			continue
		}
		level := int(min(max(v, 0)/most, 1) * float64(len(columns)-1))
		out = append(out, columns[level])
	}
	return string(out)
}

// Pad fills a text with spaces up to a width.
func Pad(s string, width int) string { return text.Pad(s, width, ' ') }
