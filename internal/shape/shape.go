// Package shape brings texts into a form: without blanks around them, in one letter case, with
// only some characters, decoded. Every transform works on the bytes of one value, which are
// UTF-8, knows no server, and comes out the same whatever the server's own rules are.
package shape

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"
)

// A Transform is one of them, ready to be applied.
type Transform struct {
	Name string // as its author wrote it: "trim", `pad_left 8`

	// do gives the new value, which may be v itself or a part of it; v is never written to. try does
	// where a value may have none.
	do  func(v []byte) []byte
	try func(v []byte) ([]byte, error)

	word    string
	settles bool // what it has made it leaves as it is

	nulls bool   // do may give NULL
	null  []byte // what stands for NULL; nil where NULL stays
}

// Apply gives the value in its new form; nil is NULL. Nothing is allocated where it is so already.
func (t Transform) Apply(v []byte) ([]byte, error) {
	switch {
	case v == nil:
		return t.null, nil
	case t.try != nil:
		return t.try(v)
	}
	out := t.do(v)
	if out == nil && !t.nulls {
		out = []byte{}
	}
	return out, nil
}

// Chain is transforms that are applied from left to right.
type Chain []Transform

// ErrNotText is a value that is not UTF-8, of which nobody can say which characters it has.
var ErrNotText = errors.New("it is not valid UTF-8")

// Apply gives the value in the form that all of them make; nil is NULL. An error is that it is no text,
// or that it has no such form.
func (c Chain) Apply(v []byte) (_ []byte, err error) {
	if !utf8.Valid(v) {
		return nil, ErrNotText
	}
	for _, t := range c {
		if v, err = t.Apply(v); err != nil {
			return nil, err
		}
	}
	return v, nil
}

// TakesNull reports whether NULL may become something else, and MakesNull whether something may become
// NULL.
func (c Chain) TakesNull() bool {
	return slices.ContainsFunc(c, func(t Transform) bool { return t.null != nil })
}

// MakesNull: see TakesNull.
func (c Chain) MakesNull() bool {
	return slices.ContainsFunc(c, func(t Transform) bool { return t.nulls })
}

// Steps gives the names of those transforms that change something of a value, each as it comes to it.
func (c Chain) Steps(v []byte) (names []string) {
	for _, t := range c {
		out, err := t.Apply(v)
		if err != nil {
			return names
		}
		if string(out) != string(v) || (out == nil) != (v == nil) {
			names = append(names, t.Name)
		}
		v = out
	}
	return names
}

// Settles reports whether a value that has the form stays as it is when the chain is applied to it
// again. It says so only of what is sure to: of a transform by itself that does, and of several that
// leave each other's forms as they are.
func (c Chain) Settles() bool {
	if len(c) == 1 {
		return c[0].settles
	}
	cases := map[string]bool{}
	for i, t := range c {
		switch t.word {
		case "trim", "collapse":
		case "upper", "lower":
			cases[t.Name] = true
		case "blank_to_null":
			if i < len(c)-1 {
				return false
			}
		default:
			return false
		}
	}
	return len(cases) < 2
}

// Spec is a transform as its author wrote it: a word, and what belongs to it.
type Spec struct {
	Word string
	Args map[string]any `json:",omitempty"` // of the table in which it stands, the word among them
}

// Read makes a transform of what stands in a job file: a word, or a table that begins with one.
func Read(v any) (Spec, Transform, error) {
	switch v := v.(type) {
	case string:
		s := Spec{Word: v}
		t, err := s.Make()
		return s, t, err
	case map[string]any:
		for _, w := range words {
			if _, ok := v[w.name]; ok {
				s := Spec{w.name, v}
				t, err := s.Make()
				return s, t, err
			}
		}
		var given []string
		for k := range v {
			given = append(given, k)
		}
		slices.Sort(given)
		return Spec{}, Transform{}, fmt.Errorf("none of %s is a transform: %s", strings.Join(given, ", "), strings.Join(Words(), ", "))
	}
	return Spec{}, Transform{}, fmt.Errorf("expected a transform, such as \"trim\" or { pad_left = 8 }, not %T", v)
}

// Specs makes the transforms of what stands in a job file for a text: one, or several in brackets.
func Specs(v any) (out []Spec, err error) {
	list, ok := v.([]any)
	if !ok {
		list = []any{v}
	}
	for _, x := range list {
		s, _, err := Read(x)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	if len(out) == 0 {
		err = errors.New("there is no transform")
	}
	return out, err
}

// Made makes the chain of transforms as they were written.
func Made(specs []Spec) (c Chain, err error) {
	for _, s := range specs {
		t, err := s.Make()
		if err != nil {
			return nil, err
		}
		c = append(c, t)
	}
	return c, nil
}

// word is a transform by its name.
type word struct {
	name string
	more []string // further keys of its table
	make func(a args) (func(v []byte) []byte, error)
	full func(a args) (Transform, error) // instead of make, where there is more to say of it
	ends bool                            // whatever its arguments, what it has made it leaves as it is
}

// Words are the names of all transforms, in the order in which the docs tell them.
func Words() (out []string) {
	for _, w := range words {
		out = append(out, w.name)
	}
	return out
}

// Make makes the transform.
func (s Spec) Make() (Transform, error) {
	i := slices.IndexFunc(words, func(w word) bool { return w.name == s.Word })
	if i < 0 {
		return Transform{}, fmt.Errorf("there is no transform %q: %s", s.Word, strings.Join(Words(), ", "))
	}
	w := words[i]
	for k := range s.Args {
		if k != w.name && !slices.Contains(w.more, k) {
			return Transform{}, fmt.Errorf("%s: unknown key %q", w.name, k)
		}
	}
	var t Transform
	var err error
	if w.full != nil {
		t, err = w.full(args{s.Word, s.Args})
	} else {
		t.do, err = w.make(args{s.Word, s.Args})
	}
	if err != nil {
		return Transform{}, fmt.Errorf("%s: %w", w.name, err)
	}
	t.Name, t.word, t.settles = s.String(), w.name, t.settles || w.ends
	return t, nil
}

// String is how the transform is called in a preview.
func (s Spec) String() string {
	switch v := s.Args[s.Word].(type) {
	case nil, bool:
		return s.Word
	case map[string]any:
		return fmt.Sprintf("%s of %d", s.Word, len(v))
	case []any:
		var list []string
		for _, x := range v {
			list = append(list, fmt.Sprint(x))
		}
		return s.Word + " " + strings.Join(list, ", ")
	default:
		return fmt.Sprintf("%s %v", s.Word, v)
	}
}

// args are what stands beside a transform's word.
type args struct {
	word string
	m    map[string]any
}

// text is a text argument; what stands for it where it is left out.
func (a args) text(key, otherwise string) (string, error) {
	v, ok := a.m[key]
	if !ok {
		return otherwise, nil
	}
	s, ok := v.(string)
	if !ok {
		return "", fmt.Errorf("%s: expected a text, not %T", key, v)
	}
	return s, nil
}

// must is a text argument that has to be there.
func (a args) must(key string) (string, error) {
	s, err := a.text(key, "")
	if err == nil && s == "" {
		err = fmt.Errorf("%s: expected a text", key)
	}
	return s, err
}

// list is a text, or several.
func (a args) list(key string) (out []string, err error) {
	switch v := a.m[key].(type) {
	case string:
		out = []string{v}
	case []any:
		for _, x := range v {
			s, ok := x.(string)
			if !ok {
				return nil, fmt.Errorf("%s: expected texts, not %T", key, x)
			}
			out = append(out, s)
		}
	default:
		return nil, fmt.Errorf("%s: expected a text, or several in brackets", key)
	}
	if len(out) == 0 || slices.Contains(out, "") {
		return nil, fmt.Errorf("%s: an empty text stands for nothing", key)
	}
	return out, nil
}

// number is a whole number from least up to most.
func (a args) number(key string, least, most int64) (int, error) {
	n, ok := a.m[key].(int64)
	if !ok || n < least || n > most {
		return 0, fmt.Errorf("%s: expected a whole number from %d to %d", key, least, most)
	}
	return int(n), nil
}
