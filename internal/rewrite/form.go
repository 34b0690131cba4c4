package rewrite

import (
	"fmt"
	"strings"
	"unicode/utf16"
	"unicode/utf8"
)

// encoders write a text in a form; those of one form differ in style. A form
// that leaves a text as it is does not count.
var encoders = map[Form][]func(string) string{
	Plain: {func(s string) string { return s }},
	JSON: {
		func(s string) string { return escapeJSON(s, style{slash: true}) },
		func(s string) string { return escapeJSON(s, style{slash: true, ascii: true}) },
		func(s string) string { return escapeJSON(s, style{slash: true, ascii: true, upper: true}) },
		func(s string) string { return escapeJSON(s, style{}) },
		func(s string) string { return escapeJSON(s, style{ascii: true}) },
	},
	URL: {func(s string) string { return percent(s, "0123456789ABCDEF") }, func(s string) string { return percent(s, "0123456789abcdef") }},
	Entity: {
		func(s string) string { return entity(s, "&#39;") }, func(s string) string { return entity(s, "&#039;") },
		func(s string) string { return entity(s, "&apos;") },
		func(s string) string { return strings.ReplaceAll(entity(s, "&#39;"), "/", "&#x2F;") },
		func(s string) string { return strings.ReplaceAll(entity(s, "&#39;"), "/", "&#47;") },
	},
	Double: {
		func(s string) string {
			return escapeJSON(escapeJSON(s, style{slash: true}), style{slash: true})
		},
		func(s string) string { return escapeJSON(escapeJSON(s, style{slash: true}), style{}) },
		func(s string) string {
			return percent(percent(s, "0123456789ABCDEF"), "0123456789ABCDEF")
		},
		func(s string) string { return entity(entity(s, "&#39;"), "&#39;") },
	},
}

// style is how a JSON text writes what may be written in several ways.
type style struct {
	slash bool // / as \/
	ascii bool // other characters than ASCII as \uXXXX
	upper bool // with upper-case digits
	html  bool // < > & as \uXXXX
}

// escapeJSON writes a text as it stands between the quotes of a JSON string.
func escapeJSON(s string, st style) string { return string(appendJSON(nil, []byte(s), st)) }

func appendJSON(out, s []byte, st style) []byte {
	hex := func(u uint16) {
		format := `\u%04x`
		if st.upper {
			format = `\u%04X`
		}
		out = fmt.Appendf(out, format, u)
	}
	for i := 0; i < len(s); {
		c := s[i]
		if c < utf8.RuneSelf {
			i++
			switch {
			case c == '"' || c == '\\':
				out = append(out, '\\', c)
			case c == '/' && st.slash:
				out = append(out, '\\', '/')
			case c == '\n':
				out = append(out, '\\', 'n')
			case c == '\r':
				out = append(out, '\\', 'r')
			case c == '\t':
				out = append(out, '\\', 't')
			case c < 0x20 || st.html && (c == '<' || c == '>' || c == '&'):
				hex(uint16(c))
			default:
				out = append(out, c)
			}
			continue
		}
		r, n := utf8.DecodeRune(s[i:])
		switch {
		case !st.ascii || r == utf8.RuneError && n == 1:
			out = append(out, s[i:i+n]...)
		case r > 0xffff:
			a, b := utf16.EncodeRune(r)
			hex(uint16(a))
			hex(uint16(b))
		default:
			hex(uint16(r))
		}
		i += n
	}
	return out
}

// percent writes every byte but the unreserved ones of RFC 3986 as %XX.
func percent(s, digits string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		c := s[i]
		if c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || strings.IndexByte("-_.~", c) >= 0 {
			b.WriteByte(c)
			continue
		}
		b.WriteByte('%')
		b.WriteByte(digits[c>>4])
		b.WriteByte(digits[c&15])
	}
	return b.String()
}

// entity writes the characters that HTML gives a meaning as character references.
func entity(s, apostrophe string) string {
	return strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", `"`, "&quot;", "'", apostrophe).Replace(s)
}
