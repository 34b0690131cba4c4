// Package rewrite replaces text in values, also where it stands inside JSON or
// serialised text, at any nesting, so that what holds it stays valid. It knows
// no database: a value is bytes in UTF-8, and the answer is bytes or the reason
// why the value was left alone.
//
// A value is worked on as a whole: memory is that of the value and of its
// replacement. What does not hold the text is given back as it came, without
// allocating anything.
package rewrite

import "fmt"

// Form is a way in which a text is written.
type Form string

const (
	Plain  Form = "plain"  // as it is
	JSON   Form = "json"   // with JSON's escapes, in text that is not itself a JSON document
	URL    Form = "url"    // percent-encoded
	Entity Form = "entity" // with HTML's character references
	Double Form = "double" // one of these, written in it a second time
)

// Rules say what is replaced.
type Rules struct {
	Pairs   []Pair
	Pattern string // a regular expression (RE2) instead of Pairs[0].Find; its With may use $1, ${name}
	Case    Case
	Words   bool   // only whole words
	Forms   []Form // nil: Plain and JSON
	Keys    bool   // also the keys of JSON objects and of serialised arrays
	Damaged string // "plain": a damaged structure is treated as plain text; otherwise it is left alone
	Growth  int    // most that a pattern may make of one value, in multiples of its length; 0 is 10
	Flat    bool   // values are plain text, whatever they look like
}

// Pair is a text and what takes its place.
type Pair struct{ Find, With string }

// Case says how letters are compared.
type Case string

const (
	Exact Case = ""     // as written
	Any   Case = "any"  // upper and lower case are the same
	Keep  Case = "keep" // as Any, and the replacement takes the case of what it replaces
)

// Edit is one replacement in a value: the bytes from Start to End become New.
type Edit struct {
	Start, End int
	New        []byte
}

// Place is where an occurrence stands.
type Place struct {
	Form Form
	In   string // "" for the value itself; "json", "serialised", "json in serialised", …
	Key  bool   // in a key of a JSON object or a serialised array
}

// String words the place.
func (p Place) String() string {
	s := string(p.Form)
	if p.In != "" {
		s = "in " + p.In
		if p.Form != Plain {
			s += ", " + string(p.Form)
		}
	}
	if p.Key {
		s += ", key"
	}
	return s
}

// Result is what was found in one value.
type Result struct {
	Edits  []Edit
	Places []Place // of each occurrence that is replaced
}

// Damage is a value that looks structured but is not valid, so that nobody can
// say what a replacement would have to be.
type Damage struct {
	Kind string // "JSON", "serialised text"
	At   int    // byte in the value, or in the string that holds it
	What string

	sure bool // it holds an occurrence
}

func (d *Damage) Error() string {
	return fmt.Sprintf("damaged %s at byte %d: %s", d.Kind, d.At, d.What)
}

// Rewriter carries rules out. It may be used from several goroutines.
type Rewriter struct {
	rules Rules
	m     *matcher
}

// New prepares rules. Errors are about the rules, worded for their author.
func New(rules Rules) (*Rewriter, error) {
	m, err := newMatcher(rules)
	if err != nil {
		return nil, err
	}
	return &Rewriter{rules: rules, m: m}, nil
}

// Replace gives the value with its occurrences replaced: src itself, without
// allocating, if there are none. An error leaves the value alone: a *Damage, or
// a pattern that would make it grow beyond its bound.
func (r *Rewriter) Replace(src []byte) ([]byte, error) {
	if !r.m.maybe(src) {
		return src, nil
	}
	res, err := r.Look(src)
	if err != nil || len(res.Edits) == 0 {
		return src, err
	}
	return Apply(src, res.Edits), nil
}

// Look finds what would be replaced.
func (r *Rewriter) Look(src []byte) (Result, error) {
	w := walker{m: r.m, rules: &r.rules}
	if !r.m.maybe(src) {
		return w.res, nil
	}
	edits, err := w.text(src, "", false)
	if err != nil {
		return Result{}, err
	}
	w.res.Edits = edits
	if r.rules.Pattern != "" {
		most := r.rules.Growth
		if most == 0 {
			most = 10
		}
		if grown := len(src) + delta(edits); grown > most*len(src)+64 {
			return Result{}, fmt.Errorf("the pattern makes %d bytes of %d, more than %d times as many", grown, len(src), most)
		}
	}
	return w.res, nil
}

// Apply carries edits out; they are in order and do not overlap.
func Apply(src []byte, edits []Edit) []byte {
	out := make([]byte, 0, max(len(src)+delta(edits), 0))
	at := 0
	for _, e := range edits {
		out = append(out, src[at:e.Start]...)
		out = append(out, e.New...)
		at = e.End
	}
	return append(out, src[at:]...)
}

// delta is by how many bytes edits make a text longer.
func delta(edits []Edit) int {
	n := 0
	for _, e := range edits {
		n += len(e.New) - (e.End - e.Start)
	}
	return n
}

// walker goes through one value.
type walker struct {
	m     *matcher
	rules *Rules
	res   Result
	depth int
	see   func(s []byte, f match, in string, key bool) // instead of edits, if set
}

// deepest is how deeply structures may be nested; nothing in earnest comes near.
const deepest = 200

// text gives the edits for a text, whatever it holds. in says what it is inside of.
func (w *walker) text(s []byte, in string, key bool) ([]Edit, error) {
	if !w.m.maybe(s) {
		return nil, nil
	}
	if w.depth++; w.depth > deepest {
		return nil, &Damage{Kind: "structure", What: fmt.Sprintf("more than %d levels deep", deepest)}
	}
	defer func() { w.depth-- }()
	if w.rules.Flat {
		return w.plain(s, in, key)
	}
	var edits []Edit
	var err error
	places := len(w.res.Places)
	switch {
	case looksSerialised(s):
		edits, err = w.serialised(s, inside("serialised", in))
	case looksJSON(s):
		edits, err = w.json(s, inside("json", in))
	default:
		return w.plain(s, in, key)
	}
	if err == nil {
		return edits, nil
	}
	w.res.Places = w.res.Places[:places]
	if w.see != nil {
		return w.plain(s, inside("damaged "+err.(*Damage).Kind, in), key)
	}
	if w.rules.Damaged == "plain" {
		return w.plain(s, in, key)
	}
	// Only what holds an occurrence needs to be understood.
	d := err.(*Damage)
	if d.sure = d.sure || len(w.m.all(s, nil)) > 0; !d.sure {
		return nil, nil
	}
	return nil, d
}

func inside(kind, in string) string {
	if in == "" {
		return kind
	}
	return kind + " in " + in
}

// plain gives the edits for text without a structure that counts.
func (w *walker) plain(s []byte, in string, key bool) ([]Edit, error) {
	var buf [4]match
	found := w.m.all(s, buf[:0])
	if w.m.encoded != nil {
		w.base64(s, in, key)
	}
	if len(found) == 0 {
		return nil, nil
	}
	if w.see != nil {
		for _, f := range found {
			w.see(s, f, in, key)
		}
		return nil, nil
	}
	if key && !w.rules.Keys {
		return nil, nil
	}
	edits := make([]Edit, 0, len(found))
	strings := lengths{s: s}
	for _, f := range found {
		if !w.rules.Flat && w.rules.Damaged != "plain" && len(f.with) != f.end-f.start && strings.hold(f.start, f.end) {
			return nil, &Damage{Kind: "serialised text", At: f.start, What: "the occurrence stands in a string with a length, within other text", sure: true}
		}
		edits = append(edits, Edit{f.start, f.end, f.with})
		w.res.Places = append(w.res.Places, Place{f.form, in, key})
	}
	return edits, nil
}
