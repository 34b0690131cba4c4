package shape

import (
	"bytes"
	"errors"
	"fmt"
	"html"
	"regexp"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/language"
	"golang.org/x/text/unicode/norm"
)

// words are the transforms. A new one is a row here and one in docs/shapes.md.
var words []word

func init() { // a composite literal would go in a circle: Read looks at them
	words = []word{
		{"trim", nil, plain(trim), nil, true},
		{"collapse", nil, plain(collapse), nil, true},
		{"upper", nil, cased(cases.Upper, isUpper), nil, true},
		{"lower", nil, cased(cases.Lower, isLower), nil, true},
		{"title", nil, cased(func(t language.Tag, o ...cases.Option) cases.Caser { return cases.Title(t, o...) }, isTitle), nil, false},
		{"normalise", nil, normalise, nil, true},
		{"pad_left", []string{"with"}, pad(true), nil, true},
		{"pad_right", []string{"with"}, pad(false), nil, true},
		{"keep", nil, kept(true), nil, true},
		{"drop", nil, kept(false), nil, true},
		{"word_to_end", []string{"between"}, moved(true), nil, false},
		{"word_to_front", []string{"between"}, moved(false), nil, false},
		{"rewrite", []string{"with"}, rewritten, nil, false},
		{"decode", nil, decode, nil, false},
		{"recode", nil, recode, nil, false},
		{"blank_to_null", nil, nil, blankToNull, true},
		{"null_to", nil, nil, nullTo, true},
		{"before", []string{"at"}, nil, part(true), false},
		{"after", []string{"at"}, nil, part(false), false},
		{"extract", []string{"group"}, nil, extract, false},
		{"map", []string{"otherwise"}, nil, mapped, false},
		{"number", []string{"group"}, nil, number, false},
		{"date", nil, nil, date, false},
	}
}

// plain is a transform without arguments.
func plain(do func(v []byte) []byte) func(a args) (func(v []byte) []byte, error) {
	return func(a args) (func(v []byte) []byte, error) {
		if v, ok := a.m[a.word]; ok && v != true {
			return nil, fmt.Errorf("it takes nothing: write %q", a.word)
		}
		return do, nil
	}
}

// trim takes blanks away at both ends: whatever Unicode calls white space.
func trim(v []byte) []byte { return bytes.TrimFunc(v, unicode.IsSpace) }

// collapse makes one space of every run of blanks.
func collapse(v []byte) []byte {
	at := -1
	for i, n := 0, 0; i < len(v); i += n {
		var r rune
		if n = 1; v[i] > ' ' && v[i] < utf8.RuneSelf { // most are
			continue
		}
		if r, n = utf8.DecodeRune(v[i:]); !unicode.IsSpace(r) {
			continue
		}
		next, _ := utf8.DecodeRune(v[i+n:])
		if r != ' ' || unicode.IsSpace(next) && i+n < len(v) {
			at = i
			break
		}
	}
	if at < 0 {
		return v
	}
	out := append(make([]byte, 0, len(v)), v[:at]...)
	blank := false
	for i, n := at, 0; i < len(v); i += n {
		var r rune
		r, n = utf8.DecodeRune(v[i:])
		if unicode.IsSpace(r) {
			if !blank {
				out = append(out, ' ')
			}
			blank = true
			continue
		}
		blank = false
		out = append(out, v[i:i+n]...)
	}
	return out
}

// cased is a letter case by the rules of a language; is tells quickly of a text that has it already.
func cased(of func(language.Tag, ...cases.Option) cases.Caser, is func(v []byte) bool) func(a args) (func(v []byte) []byte, error) {
	return func(a args) (func(v []byte) []byte, error) {
		tag := language.Und
		if v, ok := a.m[a.word]; ok && v != true {
			name, err := a.must(a.word)
			if err != nil {
				return nil, err
			}
			if tag, err = language.Parse(name); err != nil {
				return nil, fmt.Errorf("%q is no language, such as \"nl\" or \"tr\"", name)
			}
		}
		quick := tag == language.Und
		return func(v []byte) []byte {
			if quick && is(v) {
				return v
			}
			// A Caser has a state, and values come from several goroutines.
			return of(tag).Bytes(v)
		}, nil
	}
}

// isUpper reports whether a text of ASCII alone has no small letter.
func isUpper(v []byte) bool {
	for _, c := range v {
		if c >= utf8.RuneSelf || c >= 'a' && c <= 'z' {
			return false
		}
	}
	return true
}

// isLower reports whether a text of ASCII alone has no capital.
func isLower(v []byte) bool {
	for _, c := range v {
		if c >= utf8.RuneSelf || c >= 'A' && c <= 'Z' {
			return false
		}
	}
	return true
}

// isTitle reports whether a text of ASCII letters and spaces alone has a capital at the beginning of each word,
// and nowhere else.
func isTitle(v []byte) bool {
	begins := true
	for _, c := range v {
		switch {
		case c == ' ':
			begins = true
			continue
		case begins && c >= 'A' && c <= 'Z', !begins && c >= 'a' && c <= 'z':
		default:
			return false
		}
		begins = false
	}
	return true
}

// normalise brings a text into a Unicode normalisation form (UAX 15), NFC unless another is named.
func normalise(a args) (func(v []byte) []byte, error) {
	name := "NFC"
	if v, ok := a.m[a.word]; ok && v != true {
		var err error
		if name, err = a.must(a.word); err != nil {
			return nil, err
		}
	}
	form, ok := map[string]norm.Form{"NFC": norm.NFC, "NFD": norm.NFD, "NFKC": norm.NFKC, "NFKD": norm.NFKD}[name]
	if !ok {
		return nil, fmt.Errorf("%q is none of NFC, NFD, NFKC, NFKD", name)
	}
	return func(v []byte) []byte {
		if form.IsNormal(v) {
			return v
		}
		return form.Bytes(v)
	}, nil
}

// mostPad is the widest that a text is padded to, in characters.
const mostPad = 10_000

// pad makes a text at least so many characters long, with spaces or another character.
func pad(left bool) func(a args) (func(v []byte) []byte, error) {
	return func(a args) (func(v []byte) []byte, error) {
		width, err := a.number(a.word, 1, mostPad)
		if err != nil {
			return nil, err
		}
		with, err := a.text("with", " ")
		if err != nil {
			return nil, err
		}
		if utf8.RuneCountInString(with) != 1 {
			return nil, fmt.Errorf("with: %q is not one character", with)
		}
		return func(v []byte) []byte {
			lacks := width - utf8.RuneCount(v)
			if lacks <= 0 {
				return v
			}
			fill := bytes.Repeat([]byte(with), lacks)
			if left {
				return append(fill, v...)
			}
			return slices.Concat(v, fill)
		}, nil
	}
}

// classes of characters.
var classes = map[string]func(r rune) bool{
	"letters": unicode.IsLetter, "digits": unicode.IsDigit, "blanks": unicode.IsSpace, "punctuation": unicode.IsPunct, "symbols": unicode.IsSymbol,
	"controls": func(r rune) bool { return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) },
}

// kept leaves only characters of some classes, or all but these: a class by its name, or characters
// as they are.
func kept(keep bool) func(a args) (func(v []byte) []byte, error) {
	return func(a args) (func(v []byte) []byte, error) {
		list, err := a.list(a.word)
		if err != nil {
			return nil, err
		}
		var of []func(r rune) bool
		single := ""
		for _, name := range list {
			switch f := classes[name]; {
			case f != nil:
				of = append(of, f)
			case utf8.RuneCountInString(name) > 1 && !strings.ContainsFunc(name, func(r rune) bool { return !unicode.IsLetter(r) }):
				return nil, fmt.Errorf("%q is no class of characters (letters, digits, blanks, punctuation, symbols, controls); write characters one by one", name)
			default:
				single += name
			}
		}
		stays := func(r rune) bool {
			in := strings.ContainsRune(single, r) || slices.ContainsFunc(of, func(f func(rune) bool) bool { return f(r) })
			return in == keep
		}
		var ascii [utf8.RuneSelf]bool // the same for the characters that are the most
		for r := range rune(utf8.RuneSelf) {
			ascii[r] = stays(r)
		}
		return func(v []byte) []byte {
			i := 0
			for i < len(v) && v[i] < utf8.RuneSelf && ascii[v[i]] {
				i++
			}
			if i == len(v) || bytes.IndexFunc(v[i:], func(r rune) bool { return !stays(r) }) < 0 {
				return v
			}
			return bytes.Map(func(r rune) rune {
				if stays(r) {
					return r
				}
				return -1
			}, v)
		}, nil
	}
}

// moved moves a word from the beginning to the end, "MV Kestrel" becomes "Kestrel, MV", or back.
func moved(toEnd bool) func(a args) (func(v []byte) []byte, error) {
	return func(a args) (func(v []byte) []byte, error) {
		list, err := a.list(a.word)
		if err != nil {
			return nil, err
		}
		between, err := a.text("between", ", ")
		if err != nil {
			return nil, err
		}
		return func(v []byte) []byte {
			for _, w := range list {
				if toEnd {
					if rest, ok := bytes.CutPrefix(v, []byte(w+" ")); ok && len(rest) > 0 {
						return slices.Concat(rest, []byte(between), []byte(w))
					}
				} else if rest, ok := bytes.CutSuffix(v, []byte(between+w)); ok && len(rest) > 0 {
					return slices.Concat([]byte(w+" "), rest)
				}
			}
			return v
		}, nil
	}
}

// rewritten replaces every match of a pattern (RE2); $1 or ${name} stands for what a group has matched.
func rewritten(a args) (func(v []byte) []byte, error) {
	pattern, err := a.must(a.word)
	if err != nil {
		return nil, err
	}
	with, ok := a.m["with"].(string)
	if !ok {
		return nil, errors.New("with: expected the text that takes the place of what matches")
	}
	re, err := regexp.Compile(pattern)
	if err != nil {
		return nil, err
	}
	for _, m := range regexp.MustCompile(`\$(?:\{(\w+)\}|(\w+))`).FindAllStringSubmatch(strings.ReplaceAll(with, "$$", ""), -1) {
		name := m[1] + m[2]
		if re.SubexpIndex(name) < 0 && !slices.Contains(numbers(re.NumSubexp()), name) {
			return nil, fmt.Errorf("with: the pattern has no group %q, for which nothing would be put; write ${1}x where a letter or digit follows, $$ for a dollar", name)
		}
	}
	return func(v []byte) []byte {
		if !re.Match(v) {
			return v
		}
		return re.ReplaceAll(v, []byte(with))
	}, nil
}

// numbers are "0" up to n.
func numbers(n int) (out []string) {
	for i := range n + 1 {
		out = append(out, fmt.Sprint(i))
	}
	return out
}

// decode takes an encoding off: HTML's character references, or percent-encoding. What is not
// encoded rightly stays.
func decode(a args) (func(v []byte) []byte, error) {
	name, err := a.must(a.word)
	if err != nil {
		return nil, err
	}
	switch name {
	case "html":
		return func(v []byte) []byte {
			if bytes.IndexByte(v, '&') < 0 {
				return v
			}
			return []byte(html.UnescapeString(string(v)))
		}, nil
	case "percent":
		return unpercent, nil
	}
	return nil, fmt.Errorf("%q is neither html nor percent", name)
}

// unpercent decodes %41; a value that is not UTF-8 afterwards stays as it is.
func unpercent(v []byte) []byte {
	if bytes.IndexByte(v, '%') < 0 {
		return v
	}
	out := make([]byte, 0, len(v))
	for i := 0; i < len(v); i++ {
		if v[i] == '%' && i+2 < len(v) && hex(v[i+1]) >= 0 && hex(v[i+2]) >= 0 {
			out = append(out, byte(hex(v[i+1])<<4|hex(v[i+2])))
			i += 2
			continue
		}
		out = append(out, v[i])
	}
	if !utf8.Valid(out) {
		return v
	}
	return out
}

func hex(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c >= 'a' && c <= 'f':
		return int(c-'a') + 10
	case c >= 'A' && c <= 'F':
		return int(c-'A') + 10
	}
	return -1
}

// recode sets right a text that is UTF-8 and was read as another encoding: "Ã©" becomes "é". One that
// cannot have come about so stays as it is.
func recode(a args) (func(v []byte) []byte, error) {
	name, err := a.must(a.word)
	if err != nil {
		return nil, err
	}
	enc, err := htmlindex.Get(name)
	if err != nil {
		return nil, fmt.Errorf("%q is no encoding, such as \"windows-1252\"", name)
	}
	return func(v []byte) []byte {
		if bytes.IndexFunc(v, func(r rune) bool { return r >= utf8.RuneSelf }) < 0 {
			return v
		}
		out, err := enc.NewEncoder().Bytes(v)
		if err != nil || !utf8.Valid(out) { // a character that the encoding has not, or what was no UTF-8
			return v
		}
		return out
	}, nil
}
