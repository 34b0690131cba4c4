package rewrite

import (
	"bytes"
	"encoding/json"
	"strconv"
	"unicode/utf16"
	"unicode/utf8"
)

// looksJSON reports whether a text was meant to be a JSON object or array that
// holds strings, by its ends. Much other text is in brackets too, so only what
// begins with a key, a string or another bracket counts; text in quotes is text.
func looksJSON(s []byte) bool {
	s = bytes.TrimSpace(s)
	if len(s) < 2 {
		return false
	}
	next := bytes.TrimLeft(s[1:], " \t\r\n")[0]
	switch {
	case s[0] == '{' && s[len(s)-1] == '}':
		return next == '"' || next == '}'
	case s[0] == '[' && s[len(s)-1] == ']':
		return next == '"' || next == '{' || next == '[' || json.Valid(s)
	}
	return false
}

// json gives the edits within the strings of a JSON document; everything else
// stays as it is written.
func (w *walker) json(s []byte, in string) ([]Edit, error) {
	d := document{w: w, s: s, in: in}
	if err := d.value(0); err != nil {
		return nil, err
	}
	if d.space(); d.at < len(s) {
		return nil, d.bad("something follows the document")
	}
	return d.edits, nil
}

// document reads one JSON document (RFC 8259).
type document struct {
	w     *walker
	s     []byte
	in    string
	at    int
	style *style
	edits []Edit
}

func (d *document) bad(what string) error {
	return &Damage{Kind: "JSON", At: d.at, What: what}
}

func (d *document) space() {
	for d.at < len(d.s) && (d.s[d.at] == ' ' || d.s[d.at] == '\n' || d.s[d.at] == '\t' || d.s[d.at] == '\r') {
		d.at++
	}
}

// next passes space by and gives the byte there, 0 at the end.
func (d *document) next() byte {
	d.space()
	if d.at < len(d.s) {
		return d.s[d.at]
	}
	return 0
}

// deepestJSON is how deeply a document may be nested.
const deepestJSON = 10_000

func (d *document) value(depth int) error {
	if depth > deepestJSON {
		return d.bad("it is nested too deeply")
	}
	switch c := d.next(); c {
	case '"':
		return d.text(false)
	case '{', '[':
		end := c + 2 // in ASCII, } and ] come two after { and [
		d.at++
		if d.next() == end {
			d.at++
			return nil
		}
		for {
			if c == '{' {
				if d.next() != '"' {
					return d.bad("expected a key in quotes")
				}
				if err := d.text(true); err != nil {
					return err
				}
				if d.next() != ':' {
					return d.bad("expected a colon after the key")
				}
				d.at++
			}
			if err := d.value(depth + 1); err != nil {
				return err
			}
			switch d.next() {
			case end:
				d.at++
				return nil
			case ',':
				d.at++
			default:
				return d.bad("expected a comma or a closing bracket")
			}
		}
	}
	begin := d.at
	for d.at < len(d.s) && (d.s[d.at] >= '0' && d.s[d.at] <= '9' || d.s[d.at] >= 'a' && d.s[d.at] <= 'z' || d.s[d.at] == 'E' || d.s[d.at] == '-' || d.s[d.at] == '+' || d.s[d.at] == '.') {
		d.at++
	}
	if !json.Valid(d.s[begin:d.at]) {
		d.at = begin
		return d.bad("expected a value")
	}
	return nil
}

// text reads a string and gathers the edits within.
func (d *document) text(key bool) error {
	s, begin, escaped := d.s, d.at+1, false
	i := begin
	for ; ; i++ {
		if i >= len(s) {
			return d.bad("a string does not end")
		}
		c := s[i]
		if c == '"' {
			break
		}
		if c >= ' ' && c != '\\' {
			continue
		}
		d.at = i
		if c < ' ' {
			return d.bad("a control character stands in a string")
		}
		escaped = true
		if i++; i >= len(s) {
			return d.bad("a string does not end")
		}
		switch s[i] {
		case '"', '\\', '/', 'b', 'f', 'n', 'r', 't':
		case 'u':
			if i+4 >= len(s) || !hexadecimal(s[i+1:i+5]) {
				return d.bad("expected four hexadecimal digits after \\u")
			}
			i += 4
		default:
			return d.bad("there is no such escape")
		}
	}
	d.at = i + 1
	body := s[begin:i]
	if !d.w.m.maybe(body) {
		return nil
	}
	text, at := body, []int(nil)
	if escaped {
		text, at = unescape(body)
	}
	inner, err := d.w.text(text, d.in, key)
	if err != nil || len(inner) == 0 {
		return err
	}
	if d.style == nil {
		d.style = styleOf(s)
	}
	for _, e := range inner {
		from, to := e.Start, e.End
		if at != nil {
			from, to = at[from], at[to]
		}
		d.edits = append(d.edits, Edit{begin + from, begin + to, appendJSON(nil, e.New, d.style.in(body))})
	}
	return nil
}

func hexadecimal(s []byte) bool {
	for _, c := range s {
		if !(c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F') {
			return false
		}
	}
	return true
}

// unescape gives the text that a JSON string stands for, and for each of its
// bytes, and its end, where that is written in s. A half of a surrogate pair
// alone becomes U+FFFD, which no search text holds.
func unescape(s []byte) ([]byte, []int) {
	out, at := make([]byte, 0, len(s)), make([]int, 0, len(s)+1)
	add := func(from int, b ...byte) {
		for range b {
			at = append(at, from)
		}
		out = append(out, b...)
	}
	for i := 0; i < len(s); {
		if s[i] != '\\' {
			add(i, s[i])
			i++
			continue
		}
		from := i
		i += 2
		switch c := s[from+1]; c {
		case 'b':
			add(from, '\b')
		case 'f':
			add(from, '\f')
		case 'n':
			add(from, '\n')
		case 'r':
			add(from, '\r')
		case 't':
			add(from, '\t')
		case 'u':
			n, _ := strconv.ParseUint(string(s[i:i+4]), 16, 16)
			i += 4
			r := rune(n)
			if utf16.IsSurrogate(r) {
				if i+6 <= len(s) && s[i] == '\\' && s[i+1] == 'u' {
					low, _ := strconv.ParseUint(string(s[i+2:i+6]), 16, 16)
					if pair := utf16.DecodeRune(r, rune(low)); pair != utf8.RuneError {
						r = pair
						i += 6
					}
				}
				if utf16.IsSurrogate(r) {
					r = utf8.RuneError
				}
			}
			add(from, utf8.AppendRune(nil, r)...)
		default: // " \ /
			add(from, c)
		}
	}
	return out, append(at, len(s))
}

// styleOf is how a document writes what may be written in several ways.
func styleOf(s []byte) *style {
	st := &style{}
	raw := false
	for i := 0; i < len(s); i++ {
		if s[i] != '\\' {
			raw = raw || s[i] >= utf8.RuneSelf
			continue
		}
		if i++; i >= len(s) {
			return st
		}
		switch {
		case s[i] == '/':
			st.slash = true
		case s[i] == 'u':
			if i+5 > len(s) { // what follows is not read yet and may be damaged
				return st
			}
			n, _ := strconv.ParseUint(string(s[i+1:i+5]), 16, 16)
			st.html = st.html || n == '<' || n == '>' || n == '&'
			st.ascii = st.ascii || n >= utf8.RuneSelf
			st.upper = st.upper || bytes.ContainsAny(s[i+1:i+5], "ABCDEF")
			i += 4
		}
	}
	st.ascii = st.ascii && !raw
	return st
}

// in is the style within one string: its own slashes count before the document's.
func (st *style) in(body []byte) style {
	own := *st
	escaped, bare := 0, 0
	for i := 0; i < len(body); i++ {
		switch {
		case body[i] == '/':
			bare++
		case body[i] == '\\':
			if i++; body[i] == '/' {
				escaped++
			}
		}
	}
	if escaped+bare > 0 {
		own.slash = bare == 0
	}
	return own
}
