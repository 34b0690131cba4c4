package rewrite

import (
	"bytes"
	"errors"
	"regexp"
	"sort"
	"strings"
	"unicode/utf8"
)

// Finder finds a text in every form, and what is nearly it: in another case,
// within longer words, and for an address with another scheme, with or without
// www., without the slash at its end.
type Finder struct {
	scheme string // "http", "" without one
	www    bool
	slash  bool // it ends with one
	core   string
	ways   []way
	anchor []byte         // in lower case; every way's core holds it
	re     *regexp.Regexp // without an anchor: one group a way
	m      *matcher
	not    map[string]bool
}

// way is the text in one style of one form.
type way struct {
	form   Form
	encode func(string) string
	core   string
	bytes  []byte // the core
	at     int    // where the anchor stands in the core

	sep, slash, www string // ://, / and www. in this way
}

// Hit is one occurrence.
type Hit struct {
	Place
	Kind                 string // how it differs from the text; "" not at all
	Before, Match, After string // the occurrence with what stands around it
}

var schemed = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9+.\-]*://.`)

// NewFinder prepares to find a text.
func NewFinder(text string) (*Finder, error) {
	if text == "" {
		return nil, errors.New("the text to find is empty")
	}
	f := &Finder{core: text}
	if schemed.MatchString(text) {
		f.scheme, f.core, _ = strings.Cut(text, "://")
	}
	if f.scheme != "" || strings.HasPrefix(strings.ToLower(text), "www.") {
		if len(f.core) > 5 && strings.EqualFold(f.core[:4], "www.") {
			f.www, f.core = true, f.core[4:]
		}
		if f.slash = len(f.core) > 1 && strings.HasSuffix(f.core, "/"); f.slash {
			f.core = f.core[:len(f.core)-1]
		}
	}
	seen := map[string]bool{}
	for _, form := range []Form{Plain, JSON, URL, Entity, Double} {
		for _, encode := range encoders[form] {
			// Written in a form that leaves the text as it is, it is plain.
			if whole := encode(text); !seen[whole] {
				seen[whole] = true
				f.ways = append(f.ways, way{form: form, encode: encode, core: encode(f.core), bytes: []byte(encode(f.core)), sep: encode("://"), slash: encode("/"), www: encode("www.")})
			}
		}
	}
	sort.SliceStable(f.ways, func(a, b int) bool { return len(f.ways[a].core) > len(f.ways[b].core) })
	f.m = &matcher{finder: f, escapes: true, anchors: []anchor{{}}}
	if a := anchorOf(f.core); a != "" {
		f.anchor = []byte(strings.ToLower(a))
		f.m.anchors[0] = anchor{f.anchor, true}
		for i := range f.ways {
			f.ways[i].at = strings.Index(f.ways[i].core, a)
		}
		return f, nil
	}
	var parts []string
	for _, w := range f.ways {
		parts = append(parts, "("+regexp.QuoteMeta(w.core)+")")
	}
	f.re = regexp.MustCompile("(?i)" + strings.Join(parts, "|"))
	return f, nil
}

// Ignore has occurrences left out that are this other text, in any form: such as
// what the text was replaced with.
func (f *Finder) Ignore(text string) {
	if text == "" {
		return
	}
	f.not = map[string]bool{}
	for _, w := range f.ways {
		f.not[w.encode(text)] = true
	}
}

// ignored reports whether the occurrence is a part of what is to be left out.
func (f *Finder) ignored(s []byte, m match) bool {
	for text := range f.not {
		for at := max(m.start-len(text), 0); at <= m.start; at++ {
			if at+len(text) >= m.end && at+len(text) <= len(s) && string(s[at:at+len(text)]) == text {
				return true
			}
		}
	}
	return false
}

// Anchor is a part of the text that every form of it holds, in one case or
// another; "" if there is none.
func (f *Finder) Anchor() string { return anchorOf(f.core) }

// Find gives the occurrences in a value.
func (f *Finder) Find(value []byte) []Hit {
	var hits []Hit
	f.Visit(value, func(p Place, kind string, s []byte, start, end int) {
		h := Hit{Place: p, Kind: kind, Match: string(s[start:end])}
		h.Before, h.After = Around(s, start, end)
		hits = append(hits, h)
	})
	return hits
}

// Visit calls see for each occurrence in a value: where it stands, how it
// differs, and the text that holds it from start to end, which is only there
// during the call.
func (f *Finder) Visit(value []byte, see func(p Place, kind string, s []byte, start, end int)) {
	if !f.m.maybe(value) {
		return
	}
	w := walker{m: f.m, rules: &Rules{}}
	w.see = func(s []byte, m match, in string, key bool) {
		see(Place{m.form, in, key}, m.kind, s, m.start, m.end)
	}
	w.text(value, "", false) // an error says only that it is nested too deeply
}

// shown is how many bytes around an occurrence are shown.
const shown = 32

// Around gives what stands around an occurrence.
func Around(s []byte, start, end int) (before, after string) {
	from, to := max(start-shown, 0), min(end+shown, len(s))
	for from < start && !utf8.RuneStart(s[from]) {
		from++
	}
	for to > end && to < len(s) && !utf8.RuneStart(s[to]) {
		to--
	}
	before, after = string(s[from:start]), string(s[end:to])
	if from > 0 {
		before = "…" + before
	}
	if to < len(s) {
		after += "…"
	}
	return before, after
}

// all finds the text in s by its core and looks at what stands around it.
func (f *Finder) all(s []byte, found []match) []match {
	if f.re == nil {
		return f.anchored(s, found)
	}
	for pos := 0; pos < len(s); {
		loc := f.re.FindSubmatchIndex(s[pos:])
		if loc == nil {
			break
		}
		best := match{}
		for i, w := range f.ways {
			if loc[2+2*i] < 0 {
				continue
			}
			// The cores of several forms may look the same, and only what stands
			// around them tells which it is: the longest wins.
			for j := i; j < len(f.ways); j++ {
				if f.ways[j].core != w.core {
					continue
				}
				if m := f.classify(s, pos+loc[0], pos+loc[1], &f.ways[j]); best.end == 0 || m.end-m.start > best.end-best.start || m.end-m.start == best.end-best.start && m.kind == "" {
					best = m
				}
			}
			break
		}
		if !f.ignored(s, best) {
			found = append(found, best)
		}
		pos = max(best.end, pos+loc[1])
	}
	return found
}

// anchored is all by the anchor: where that stands, each way's core is held
// against what is around it.
func (f *Finder) anchored(s []byte, found []match) []match {
	for pos, from := 0, 0; ; {
		i := indexFold(s[from:], f.anchor)
		if i < 0 {
			return found
		}
		hit := from + i
		from = hit + 1
		best := match{}
		for n := range f.ways {
			w := &f.ways[n]
			start := hit - w.at
			end := start + len(w.core)
			if start < pos || end > len(s) || !bytes.EqualFold(s[start:end], w.bytes) {
				continue
			}
			m := f.classify(s, start, end, w)
			if best.end == 0 || m.end-m.start > best.end-best.start || m.end-m.start == best.end-best.start && m.kind == "" && best.kind != "" {
				best = m
			}
			if m.kind == "" { // all of the text, scheme and slash too: no other way has more
				break
			}
		}
		if best.end == 0 {
			continue
		}
		if !f.ignored(s, best) {
			found = append(found, best)
		}
		pos = best.end
		from = max(from, pos)
	}
}

// classify tells how an occurrence of the core differs from the text.
func (f *Finder) classify(s []byte, start, end int, w *way) match {
	var kinds []string
	m := match{start: start, end: end, form: w.form}
	same := string(s[start:end]) == w.core
	if f.scheme != "" || f.www {
		www := hasSuffixFold(s[:m.start], "www.")
		if www {
			m.start -= 4
			same = same && (!f.www || string(s[m.start:m.start+4]) == w.www)
		}
		scheme, at := "", m.start
		if f.scheme != "" && hasSuffixFold(s[:m.start], w.sep) {
			at -= len(w.sep)
			i := at
			for i > 0 && schemeByte(s[i-1]) {
				i--
			}
			if scheme = string(s[i:at]); scheme != "" {
				m.start = i
			}
		}
		switch {
		case f.scheme == "" || scheme == f.scheme:
		case strings.EqualFold(scheme, f.scheme):
			same = false
		case scheme == "":
			kinds = append(kinds, "without the scheme")
		default:
			kinds = append(kinds, "other scheme")
		}
		switch {
		case www && !f.www:
			kinds = append(kinds, "with www.")
		case !www && f.www:
			kinds = append(kinds, "without www.")
		}
		if f.slash {
			if bytes.HasPrefix(s[m.end:], []byte(w.slash)) {
				m.end += len(w.slash)
			} else {
				kinds = append(kinds, "without the slash at its end")
			}
		}
	}
	if !same {
		kinds = append(kinds, "other case")
	}
	if !whole(s, m.start, m.end) {
		kinds = append(kinds, "in a longer word")
	}
	m.kind = strings.Join(kinds, ", ")
	return m
}

func hasSuffixFold(s []byte, suffix string) bool {
	if len(s) < len(suffix) {
		return false
	}
	for i, c := range s[len(s)-len(suffix):] { // ASCII, as all of these are
		if c >= 'A' && c <= 'Z' {
			c += 'a' - 'A'
		}
		want := suffix[i]
		if want >= 'A' && want <= 'Z' {
			want += 'a' - 'A'
		}
		if c != want {
			return false
		}
	}
	return true
}

func schemeByte(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '+' || c == '-' || c == '.'
}

// Replaced reports whether a replacement of the text covers the occurrence
// unless it is told otherwise.
func (h Hit) Replaced() bool { return Covered(h.Place, h.Kind) }

// Covered is Hit.Replaced for a place and a difference.
func Covered(p Place, kind string) bool {
	if p.Key || p.Form != Plain && p.Form != JSON || strings.Contains(p.In, "damaged") || strings.Contains(p.In, "base64") {
		return false
	}
	return kind == "" || kind == "in a longer word"
}
