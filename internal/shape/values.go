package shape

import (
	"bytes"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"
)

// Transforms that give or take NULL, a part of a text, or what a text says rather than how it is
// written.

// blankToNull has a text of nothing but blanks be NULL.
func blankToNull(a args) (Transform, error) {
	_, err := plain(nil)(a)
	return Transform{nulls: true, do: func(v []byte) []byte {
		if len(trim(v)) == 0 {
			return nil
		}
		return v
	}}, err
}

// nullTo has a text stand for NULL.
func nullTo(a args) (Transform, error) {
	s, err := a.text(a.word, "")
	return Transform{null: append([]byte{}, s...), do: func(v []byte) []byte { return v }}, err
}

// part is what stands before, or after, an occurrence of a separator: the first, another one, or one
// counted from the end. Where there is none, all of it stands before, and nothing, NULL, after.
func part(before bool) func(a args) (Transform, error) {
	return func(a args) (Transform, error) {
		between, err := a.must(a.word)
		if err != nil {
			return Transform{}, err
		}
		at := 1
		if _, ok := a.m["at"]; ok {
			n, ok := a.m["at"].(int64)
			if !ok || n == 0 || n < -1000 || n > 1000 {
				return Transform{}, errors.New("at: expected a whole number: 1 for the first, 2 for the second, -1 for the last")
			}
			at = int(n)
		}
		sep := []byte(between)
		return Transform{nulls: !before, settles: before && at > 0, do: func(v []byte) []byte {
			i := occurrence(v, sep, at)
			switch {
			case i < 0 && before:
				return v
			case i < 0:
				return nil
			case before:
				return v[:i:i]
			}
			return v[i+len(sep):]
		}}, nil
	}
}

// occurrence is where the n-th separator begins, counted from the end where n is negative; -1 if
// there are not as many.
func occurrence(v, sep []byte, n int) int {
	if n < 0 {
		end := len(v)
		for ; n < 0; n++ {
			if end = bytes.LastIndex(v[:end], sep); end < 0 {
				return -1
			}
		}
		return end
	}
	at := -len(sep)
	for ; n > 0; n-- {
		i := bytes.Index(v[at+len(sep):], sep)
		if i < 0 {
			return -1
		}
		at += len(sep) + i
	}
	return at
}

// extract is what a group of a pattern (RE2) has matched, or all of the match; NULL where there is none.
func extract(a args) (Transform, error) {
	pattern, err := a.must(a.word)
	if err != nil {
		return Transform{}, err
	}
	re, err := regexp.Compile(pattern)
	if err != nil {
		return Transform{}, err
	}
	group := min(re.NumSubexp(), 1)
	switch g := a.m["group"].(type) {
	case nil:
	case int64:
		if group = int(g); g < 0 || group > re.NumSubexp() {
			return Transform{}, fmt.Errorf("group: the pattern has no group %d", g)
		}
	case string:
		if group = re.SubexpIndex(g); group < 0 {
			return Transform{}, fmt.Errorf("group: the pattern has no group %q", g)
		}
	default:
		return Transform{}, errors.New("group: expected the number or the name of a group")
	}
	return Transform{nulls: true, do: func(v []byte) []byte {
		m := re.FindSubmatchIndex(v)
		if m == nil || m[2*group] < 0 {
			return nil
		}
		return v[m[2*group]:m[2*group+1]:m[2*group+1]]
	}}, nil
}

// mapped puts one text in the place of another, by a table of them.
func mapped(a args) (Transform, error) {
	table, ok := a.m[a.word].(map[string]any)
	if !ok || len(table) == 0 {
		return Transform{}, errors.New("expected { \"old text\" = \"new text\" }, or the name of a file with two columns")
	}
	to := map[string][]byte{}
	for k, v := range table {
		s, ok := v.(string)
		if !ok {
			return Transform{}, fmt.Errorf("%q: expected a text", k)
		}
		to[k] = append([]byte{}, s...)
	}
	otherwise, err := a.text("otherwise", "keep")
	if err != nil || !slices.Contains([]string{"keep", "null", "refuse"}, otherwise) {
		return Transform{}, fmt.Errorf("otherwise: %q is not keep, null or refuse", otherwise)
	}
	settles := true
	for _, new := range to {
		again, known := to[string(new)]
		settles = settles && (known && string(again) == string(new) || !known && otherwise == "keep")
	}
	return Transform{nulls: otherwise == "null", settles: settles, try: func(v []byte) ([]byte, error) {
		if new, ok := to[string(v)]; ok {
			return new, nil
		}
		switch otherwise {
		case "null":
			return nil, nil
		case "refuse":
			return nil, errors.New("it is none of the texts of the map")
		}
		return v, nil
	}}, nil
}

var whole = regexp.MustCompile(`^[+-]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)$`)

// number is what a text says as a number, as SQL writes it.
func number(a args) (Transform, error) {
	mark, err := a.text(a.word, ".")
	if err == nil && mark != "." && mark != "," {
		err = fmt.Errorf("%q is no decimal mark: \".\" or \",\"", mark)
	}
	if err != nil {
		return Transform{}, err
	}
	group, err := a.text("group", "")
	if err != nil {
		return Transform{}, err
	}
	if group != "" && (group == mark || len([]rune(group)) != 1 || strings.ContainsAny(group, "0123456789+-")) {
		return Transform{}, fmt.Errorf("group: %q cannot stand between groups of digits here", group)
	}
	return Transform{try: func(v []byte) ([]byte, error) {
		s := strings.TrimSpace(string(v))
		if group != "" {
			if !grouped(s, mark, group) {
				return nil, fmt.Errorf("it is no number with %q between groups of three digits", group)
			}
			s = strings.ReplaceAll(s, group, "")
		}
		if mark == "," {
			if strings.Contains(s, ".") {
				return nil, errors.New("it is no number with a decimal comma")
			}
			s = strings.Replace(s, ",", ".", 1)
		}
		if !whole.MatchString(s) {
			return nil, errors.New("it is no number")
		}
		return []byte(plainNumber(s)), nil
	}}, nil
}

// grouped reports whether a separator stands before each three digits of the whole part, or not at all.
func grouped(s, mark, group string) bool {
	if !strings.Contains(s, group) {
		return true
	}
	before, after, _ := strings.Cut(strings.TrimLeft(s, "+-"), mark)
	parts := strings.Split(before, group)
	for i, p := range parts {
		if len(p) != 3 && (i > 0 || len(p) == 0 || len(p) > 3) {
			return false
		}
	}
	return !strings.Contains(after, group)
}

// plainNumber is a number without what does not count in it.
func plainNumber(s string) string {
	sign := ""
	if s[0] == '-' {
		sign = "-"
	}
	s = strings.TrimLeft(strings.TrimLeft(s, "+-"), "0")
	if strings.Contains(s, ".") {
		s = strings.TrimSuffix(strings.TrimRight(s, "0"), ".")
	}
	switch {
	case s == "":
		return "0"
	case s[0] == '.':
		s = "0" + s
	}
	return sign + s
}

// date is what a text says as a day, written in one of some ways, as SQL writes it.
func date(a args) (Transform, error) {
	layouts, err := a.list(a.word)
	if err != nil {
		return Transform{}, err
	}
	day := time.Date(2006, 1, 2, 0, 0, 0, 0, time.UTC)
	other := time.Date(1987, 11, 23, 0, 0, 0, 0, time.UTC)
	for _, l := range layouts {
		if t, err := time.Parse(l, other.Format(l)); err != nil || !t.Equal(other) {
			return Transform{}, fmt.Errorf("%q does not say how 2 January 2006 is written, such as %q", l, day.Format("02.01.2006"))
		}
	}
	return Transform{try: func(v []byte) ([]byte, error) {
		s := strings.TrimSpace(string(v))
		for _, l := range layouts {
			if t, err := time.Parse(l, s); err == nil {
				return []byte(t.Format("2006-01-02")), nil
			}
		}
		return nil, fmt.Errorf("it is no date as in %s", strings.Join(layouts, ", "))
	}}, nil
}

// Fitting changes nothing, and gives the error of a value that does not fit where it is to go.
func Fitting(fits func(text string) error) Transform {
	return Transform{Name: "fits", try: func(v []byte) ([]byte, error) { return v, fits(string(v)) }}
}
