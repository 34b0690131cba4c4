// Package term is the only place that knows a terminal: its width, its colours,
// its keyboard. It writes tables, a live progress block, and texts from the
// database in a form that can do the terminal no harm.
package term

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf16"

	"github.com/dustin/go-humanize"
	"github.com/jedib0t/go-pretty/v6/text"
	xterm "golang.org/x/term"
)

// Out is a stream and what is known of the terminal behind it.
type Out struct {
	io.Writer
	TTY   bool
	Color bool
	fd    int
}

// NewOut looks at a file. Colour is left out without a terminal, on a dumb one,
// and where NO_COLOR is set (https://no-color.org).
func NewOut(f *os.File) *Out {
	o := &Out{Writer: f, fd: int(f.Fd())}
	o.TTY = xterm.IsTerminal(o.fd)
	o.Color = o.TTY && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	return o
}

// unclipped is the width of what is no terminal: more than any line that is meant
// to be read, so that whoever reads it in a file misses nothing.
const unclipped = 1 << 16

// Width is the terminal's present width in columns. Elsewhere it is COLUMNS, if
// that is set, or so much that nothing is cut off.
func (o *Out) Width() int {
	if o.TTY {
		if w, _, err := xterm.GetSize(o.fd); err == nil && w > 0 {
			return w
		}
		return 100
	}
	if w, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && w >= 40 {
		return w
	}
	return unclipped
}

// Height is the terminal's present height in lines, 0 elsewhere.
func (o *Out) Height() int {
	if o.TTY {
		if _, h, err := xterm.GetSize(o.fd); err == nil {
			return h
		}
	}
	return 0
}

// Styles by meaning.
var (
	Bold   = text.Colors{text.Bold}
	Faint  = text.Colors{text.Faint}
	Good   = text.Colors{text.FgGreen}
	Warn   = text.Colors{text.FgYellow}
	Bad    = text.Colors{text.FgRed, text.Bold}
	Old    = text.Colors{text.FgRed}
	New    = text.Colors{text.FgGreen}
	Accent = text.Colors{text.FgCyan}
)

// Paint styles a text if the stream shows colours.
func (o *Out) Paint(c text.Colors, s string) string {
	if !o.Color || s == "" {
		return s
	}
	text.EnableColors()
	return c.Sprint(s)
}

// Printf writes to the stream.
func (o *Out) Printf(format string, args ...any) { fmt.Fprintf(o.Writer, format, args...) }

// Clean makes a text from the database or from a person safe for a terminal:
// control characters, and those that turn the direction of writing, are shown
// as escapes.
func Clean(s string) string {
	var b strings.Builder
	for i, r := range s {
		switch {
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r == '\r':
			b.WriteString(`\r`)
		case r == unicode.ReplacementChar && !strings.HasPrefix(s[i:], "\uFFFD"):
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case unicode.IsControl(r), unicode.Is(unicode.Cf, r), unicode.Is(unicode.Zl, r), unicode.Is(unicode.Zp, r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// CleanJSON writes what a terminal could take for more than text as JSON's escapes:
// the same document.
func CleanJSON(doc []byte) []byte {
	var b bytes.Buffer
	for _, r := range string(doc) { // a document is valid UTF-8
		switch {
		case r < ' ', !unicode.IsControl(r) && !unicode.Is(unicode.Cf, r):
			b.WriteRune(r) // of the first, only what parts lines stands there
		case r > 0xffff:
			high, low := utf16.EncodeRune(r)
			fmt.Fprintf(&b, `\u%04x\u%04x`, high, low)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.Bytes()
}

// CleanLines is Clean that leaves line ends alone, for messages of several lines.
func CleanLines(s string) string {
	lines := strings.Split(s, "\n")
	for i, l := range lines {
		lines[i] = Clean(strings.ReplaceAll(l, "\t", " "))
	}
	return strings.Join(lines, "\n")
}

// Rows is a number of rows, for people.
func Rows(n int64) string { return Counted(n, "row") }

// Counted is a number of what has a plural by an s.
func Counted(n int64, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return Count(n) + " " + what + "s"
}

// Count writes a number with thousands apart; -1 is unknown.
func Count(n int64) string {
	if n < 0 {
		return "?"
	}
	return humanize.Comma(n)
}

// Bytes writes a size; -1 is unknown.
func Bytes(n int64) string {
	if n < 0 {
		return "?"
	}
	return humanize.IBytes(uint64(n))
}

// Duration writes a time with as much precision as helps.
func Duration(d time.Duration) string {
	switch {
	case d < time.Millisecond:
		return strconv.FormatFloat(float64(d.Microseconds())/1000, 'f', 2, 64) + " ms"
	case d < 10*time.Millisecond:
		return strconv.FormatFloat(float64(d.Microseconds())/1000, 'f', 1, 64) + " ms"
	case d < time.Second:
		return strconv.FormatInt(d.Milliseconds(), 10) + " ms"
	case d < time.Minute:
		return strconv.FormatFloat(d.Seconds(), 'f', 1, 64) + " s"
	case d < time.Hour:
		return fmt.Sprintf("%d min %02d s", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%d h %02d min", int(d.Hours()), int(d.Minutes())%60)
}

// Fit cuts a text to a number of columns, with an ellipsis where it was cut.
func Fit(s string, width int) string {
	if text.StringWidthWithoutEscSequences(s) <= width {
		return s
	}
	return text.Snip(s, width, "…")
}

// Wrap breaks a text between words into lines of at most so many columns, all but the first indented
// like it.
func Wrap(s, indent string, width int) string {
	return indent + strings.ReplaceAll(text.WrapSoft(s, max(width-len(indent), 20)), "\n", "\n"+indent)
}

// Cut is Fit for a cell of a table, which is left whole where nothing is cut.
func (o *Out) Cut(s string, width int) string {
	if o.Width() == unclipped {
		return s
	}
	return Fit(s, width)
}

// Value is a value of a table for reading, cut to a width: NULL, an empty text and
// blanks at either end can be told from others.
func (o *Out) Value(v *string, width int) string {
	switch {
	case v == nil:
		return o.Paint(Faint, "NULL")
	case *v == "":
		return "''"
	case strings.TrimSpace(*v) != *v:
		return "'" + o.Cut(Clean(*v), width-2) + "'"
	}
	return o.Cut(Clean(*v), width)
}
