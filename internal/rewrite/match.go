package rewrite

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"regexp/syntax"
	"sort"
	"strings"
	"unicode"
	"unicode/utf8"
)

// match is one occurrence and what takes its place.
type match struct {
	start, end int
	form       Form
	with       []byte
	kind       string // for a Finder: how it differs from the text, "" if it does not
}

// literal is a text to look for, in one form.
type literal struct {
	text, with []byte
	form       Form
}

// matcher finds occurrences in text, leftmost first, and of those that begin at
// the same place the longest.
type matcher struct {
	literals []literal
	re       *regexp.Regexp // where letters' case does not count: one group a literal; or the pattern
	pattern  bool
	with     string // of a pattern
	words    bool
	keep     bool
	anchors  []anchor
	finder   *Finder  // instead of all the rest
	escapes  bool     // JSON's \uXXXX may hide any character
	encoded  [][]byte // for a Finder: parts of the text's base64
}

// anchor is a part of a text that is written the same in every form.
type anchor struct {
	text []byte // in lower case where case does not count; empty: found everywhere
	fold bool
}

func newMatcher(r Rules) (*matcher, error) {
	m := &matcher{words: r.Words, keep: r.Case == Keep}
	switch r.Case {
	case Exact, Any, Keep:
	default:
		return nil, fmt.Errorf("case: %q is not known; there are \"any\" and \"keep\", and without it letters are compared as written", r.Case)
	}
	forms := r.Forms
	if forms == nil {
		forms = []Form{Plain, JSON}
	}
	m.escapes = !r.Flat
	if r.Pattern != "" {
		if len(r.Pairs) != 1 || r.Pairs[0].Find != "" {
			return nil, errors.New("a pattern takes the place of find, and has one text to replace it with")
		}
		text := r.Pattern
		if r.Case != Exact {
			text = "(?i:" + text + ")"
		}
		re, err := regexp.Compile(text)
		if err != nil {
			return nil, patternError(r.Pattern, err)
		}
		if re.MatchString("") {
			return nil, errors.New("the pattern matches the empty text, and so everywhere")
		}
		m.re, m.pattern, m.with = re, true, r.Pairs[0].With
		return m, nil
	}
	if len(r.Pairs) == 0 {
		return nil, errors.New("nothing to find")
	}
	seen := map[string]bool{}
	for _, p := range r.Pairs {
		if p.Find == "" {
			return nil, errors.New("the text to find is empty")
		}
		if seen[p.Find] {
			return nil, fmt.Errorf("%q is to be found twice", p.Find)
		}
		seen[p.Find] = true
		for _, f := range forms {
			if encoders[f] == nil {
				return nil, fmt.Errorf("forms: there is no form %q; there are plain, json, url, entity and double", f)
			}
			for _, encode := range encoders[f] {
				text := encode(p.Find)
				if f != Plain && (text == p.Find || m.has(text)) {
					continue
				}
				m.literals = append(m.literals, literal{[]byte(text), []byte(encode(p.With)), f})
			}
		}
		if a := anchorOf(p.Find); a != "" {
			one := anchor{text: []byte(a)}
			if r.Case != Exact {
				one = anchor{[]byte(strings.ToLower(a)), true}
			}
			m.anchors = append(m.anchors, one)
		} else {
			m.anchors = append(m.anchors, anchor{}) // found everywhere
		}
	}
	sort.SliceStable(m.literals, func(a, b int) bool { return len(m.literals[a].text) > len(m.literals[b].text) })
	if r.Case != Exact {
		var parts []string
		for _, l := range m.literals {
			parts = append(parts, "("+regexp.QuoteMeta(string(l.text))+")")
		}
		m.re = regexp.MustCompile("(?i)" + strings.Join(parts, "|"))
	}
	return m, nil
}

func (m *matcher) has(text string) bool {
	for _, l := range m.literals {
		if string(l.text) == text {
			return true
		}
	}
	return false
}

// patternError points at the place in a pattern.
func patternError(pattern string, err error) error {
	var se *syntax.Error
	if !errors.As(err, &se) {
		return err
	}
	at := max(strings.Index(pattern, se.Expr), 0)
	return fmt.Errorf("the pattern cannot be read: %s\n    %s\n    %s^", se.Code, pattern, strings.Repeat(" ", utf8.RuneCountInString(pattern[:at])))
}

// anchorOf is the longest run of ASCII letters and digits in a text. No form
// writes those in another way, but for JSON's \uXXXX.
func anchorOf(s string) string {
	best, begin := "", 0
	for i := 0; i <= len(s); i++ {
		if i < len(s) && (s[i] >= '0' && s[i] <= '9' || s[i] >= 'a' && s[i] <= 'z' || s[i] >= 'A' && s[i] <= 'Z') {
			continue
		}
		if i-begin > len(best) {
			best = s[begin:i]
		}
		begin = i + 1
	}
	return best
}

var unicodeEscape = []byte(`\u`)

// maybe is false if there can be no occurrence in s. It allocates nothing.
func (m *matcher) maybe(s []byte) bool {
	if m.pattern {
		return true
	}
	for i := range m.anchors {
		switch a := &m.anchors[i]; {
		case a.fold:
			if indexFold(s, a.text) >= 0 {
				return true
			}
		case bytes.Contains(s, a.text):
			return true
		}
	}
	for _, e := range m.encoded {
		if bytes.Contains(s, e) {
			return true
		}
	}
	return m.escapes && bytes.Contains(s, unicodeEscape)
}

// all appends the occurrences in s to found.
func (m *matcher) all(s []byte, found []match) []match {
	if m.finder != nil {
		return m.finder.all(s, found)
	}
	if m.re != nil {
		return m.folded(s, found)
	}
	var next [8]int
	at := next[:0]
	backslash := bytes.IndexByte(s, '\\') >= 0
	for _, l := range m.literals {
		if !backslash && bytes.IndexByte(l.text, '\\') >= 0 {
			at = append(at, len(s)) // it cannot be there
			continue
		}
		at = append(at, -1)
	}
	for pos := 0; pos < len(s); {
		best := -1
		for i, l := range m.literals {
			if at[i] >= 0 && at[i] < pos || at[i] == -1 {
				if j := bytes.Index(s[pos:], l.text); j >= 0 {
					at[i] = pos + j
				} else {
					at[i] = len(s)
				}
			}
			if at[i] < len(s) && (best < 0 || at[i] < at[best]) {
				best = i
			}
		}
		if best < 0 {
			break
		}
		l := m.literals[best]
		start, end := at[best], at[best]+len(l.text)
		if m.words && !whole(s, start, end) {
			pos = start + 1
			continue
		}
		found = append(found, match{start: start, end: end, form: l.form, with: l.with})
		pos = end
	}
	return found
}

// folded is all by a regular expression.
func (m *matcher) folded(s []byte, found []match) []match {
	for pos := 0; pos < len(s); {
		loc := m.re.FindSubmatchIndex(s[pos:])
		if loc == nil {
			break
		}
		start, end := pos+loc[0], pos+loc[1]
		if end == start { // a pattern such as \b, away from the ends of an empty text
			_, n := utf8.DecodeRune(s[start:])
			pos = start + max(n, 1)
			continue
		}
		if m.words && !whole(s, start, end) {
			_, n := utf8.DecodeRune(s[start:])
			pos = start + n
			continue
		}
		if m.pattern {
			found = append(found, match{start: start, end: end, form: Plain, with: m.re.Expand(nil, []byte(m.with), s[pos:], loc)})
			pos = end
			continue
		}
		for i, l := range m.literals {
			if loc[2+2*i] < 0 {
				continue
			}
			with := l.with
			if m.keep {
				with = likeCase(s[start:end], with)
			}
			found = append(found, match{start: start, end: end, form: l.form, with: with})
			break
		}
		pos = end
	}
	return found
}

// likeCase gives a replacement the case of what it replaces: all upper case, the
// first letter alone, all lower case; otherwise it stays as it is written.
func likeCase(old, with []byte) []byte {
	upper, lower, first := false, false, rune(0)
	for _, r := range string(old) {
		if !unicode.IsLetter(r) {
			continue
		}
		if first == 0 {
			first = r
			if unicode.IsUpper(r) {
				continue // it counts apart
			}
		}
		upper, lower = upper || unicode.IsUpper(r), lower || unicode.IsLower(r)
	}
	switch {
	case first == 0:
		return with
	case unicode.IsUpper(first) && upper && !lower:
		return bytes.ToUpper(with)
	case unicode.IsUpper(first) && !upper:
		out := []rune(strings.ToLower(string(with)))
		for i, r := range out {
			if unicode.IsLetter(r) {
				out[i] = unicode.ToUpper(r)
				break
			}
		}
		return []byte(string(out))
	case unicode.IsLower(first) && !upper:
		return bytes.ToLower(with)
	}
	return with
}

// whole reports whether s[start:end] is not part of a longer word.
func whole(s []byte, start, end int) bool {
	first, _ := utf8.DecodeRune(s[start:end])
	last, _ := utf8.DecodeLastRune(s[start:end])
	if before, _ := utf8.DecodeLastRune(s[:start]); wordRune(first) && start > 0 && wordRune(before) {
		return false
	}
	after, _ := utf8.DecodeRune(s[end:])
	return !(wordRune(last) && end < len(s) && wordRune(after))
}

func wordRune(r rune) bool {
	if r < utf8.RuneSelf {
		return r == '_' || r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9'
	}
	return unicode.IsLetter(r) || unicode.IsDigit(r) || unicode.Is(unicode.Mn, r)
}

// Anchor is the part of a text to find that every form of it holds, "" if there
// is none.
func Anchor(find string) string { return anchorOf(find) }

// indexFold is bytes.Index for ASCII text whose letters' case does not count;
// text is given in lower case. It allocates nothing, and does not look further
// than a few times as far as what it finds: a value may hold very many.
func indexFold(s, text []byte) int {
	low, up := text[0], text[0]
	if low >= 'a' && low <= 'z' {
		up -= 'a' - 'A'
	}
	for at := eitherByte(s, 0, low, up); at >= 0 && at <= len(s)-len(text); at = eitherByte(s, at+1, low, up) {
		i := 1
		for i < len(text) {
			c := s[at+i]
			if c >= 'A' && c <= 'Z' {
				c += 'a' - 'A'
			}
			if c != text[i] {
				break
			}
			i++
		}
		if i == len(text) {
			return at
		}
	}
	return -1
}

// indexByte is a variable so that a test can count how far it looks.
var indexByte = bytes.IndexByte

// eitherByte is where one of two bytes stands next in s from i on, -1 if nowhere.
// It looks for both in stretches that grow, since one of them may be found
// everywhere and the other nowhere.
func eitherByte(s []byte, i int, a, b byte) int {
	for n := 32; i < len(s); n *= 2 {
		part := s[i:min(i+n, len(s))]
		at := indexByte(part, a)
		if at >= 0 {
			part = part[:at]
		}
		if a != b {
			if other := indexByte(part, b); other >= 0 {
				return i + other
			}
		}
		if at >= 0 {
			return i + at
		}
		i += len(part)
	}
	return -1
}
