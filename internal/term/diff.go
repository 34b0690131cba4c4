package term

import (
	"unicode/utf8"

	"github.com/jedib0t/go-pretty/v6/text"
)

// Diff shows a value before and after with what changed between them marked,
// and the rest of long texts left out. nil is NULL.
func (o *Out) Diff(before, after *string, width int) (string, string) {
	if before == nil || after == nil {
		return o.value(before, Old, width), o.value(after, New, width)
	}
	b, a := Clean(*before), Clean(*after)
	if b == a {
		return Fit(b, width), Fit(a, width)
	}
	head := commonPrefix(b, a)
	tail := commonSuffix(b[head:], a[head:])
	return o.mark(b, head, tail, Old, width), o.mark(a, head, tail, New, width)
}

func (o *Out) value(s *string, style text.Colors, width int) string {
	if s == nil {
		return o.Paint(Faint, "NULL")
	}
	return o.Paint(style, quoteEmpty(Fit(Clean(*s), width)))
}

// quoteEmpty makes an empty text visible.
func quoteEmpty(s string) string {
	if s == "" {
		return "''"
	}
	return s
}

// mark writes s with s[head:len(s)-tail] marked, and as much around it as fits.
func (o *Out) mark(s string, head, tail int, style text.Colors, width int) string {
	mid := s[head : len(s)-tail]
	if s == "" {
		return o.Paint(style, "''")
	}
	open, close := "", ""
	if !o.Color && (head > 0 || tail > 0) {
		open, close = "⟦", "⟧" // without colours, brackets mark the change
		width -= 2
	}
	left, right := s[:head], s[len(s)-tail:]
	lw, rw := utf8.RuneCountInString(left), utf8.RuneCountInString(right)
	mid = Fit(mid, max(width-min(lw, nearby)-min(rw, nearby), 4))
	room := max(width-utf8.RuneCountInString(mid), 0)
	if lw+rw > room { // share the room, and give one side what the other does not need
		l := min(lw, max(room/2, room-rw))
		r := min(rw, room-l)
		if l < lw {
			runes := []rune(left)
			left = "…" + string(runes[len(runes)-max(l-1, 0):])
		}
		if r < rw {
			right = string([]rune(right)[:max(r-1, 0)]) + "…"
		}
	}
	return left + open + o.Paint(style, mid) + close + right
}

// nearby is how many characters beside a change are shown however long it is.
const nearby = 6

func commonPrefix(a, b string) int {
	n := 0
	for n < len(a) && n < len(b) && a[n] == b[n] {
		n++
	}
	for n > 0 && n < len(a) && !utf8.RuneStart(a[n]) || n > 0 && n < len(b) && !utf8.RuneStart(b[n]) {
		n--
	}
	return n
}

func commonSuffix(a, b string) int {
	n := 0
	for n < len(a) && n < len(b) && a[len(a)-1-n] == b[len(b)-1-n] {
		n++
	}
	for n > 0 && !utf8.RuneStart(a[len(a)-n]) {
		n--
	}
	return n
}

// Marked writes a match with what stands around it, the match marked, in about
// width characters.
func (o *Out) Marked(before, match, after string, width int) string {
	s := Clean(before) + Clean(match) + Clean(after)
	return o.mark(s, len(Clean(before)), len(Clean(after)), New, width)
}
