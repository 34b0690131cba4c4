package list

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
)

// objects are the lines of JSON Lines: an object each, all with the same keys.
type objects struct {
	r     *Reader
	first []*string // the line that the names were taken from; nil once it was given
	at    int
}

func (r *Reader) json(f Format) (lines, error) {
	if f.Header != nil {
		return nil, &Fault{File: r.Name, Msg: "a header is for files whose lines do not have the names themselves"}
	}
	o := &objects{r: r}
	text, at, err := r.line()
	if err == io.EOF {
		return nil, &Fault{File: r.Name, Msg: "the file is empty: expected a JSON object on each line"}
	}
	if err != nil {
		return nil, err
	}
	names, values, err := o.object(text, at)
	if err != nil {
		return nil, err
	}
	if len(names) == 0 {
		return nil, &Fault{File: r.Name, Line: at, Msg: "an object without a key"}
	}
	o.first, o.at = values, at
	return o, r.named(names, at)
}

func (o *objects) next() ([]*string, int, error) {
	if o.first != nil {
		values := o.first
		o.first = nil
		return values, o.at, nil
	}
	text, at, err := o.r.line()
	if err != nil {
		return nil, 0, err
	}
	names, values, err := o.object(text, at)
	if err != nil {
		return nil, 0, err
	}
	out := make([]*string, len(o.r.Columns))
	for i, name := range names {
		to := slices.Index(o.r.Columns, name)
		if to < 0 {
			return nil, 0, &Fault{File: o.r.Name, Line: at, Msg: fmt.Sprintf("there is a key %q, which the first line does not have; every line has the same keys, with null where there is no value", name)}
		}
		out[to] = values[i]
	}
	for _, name := range o.r.Columns {
		if !slices.Contains(names, name) {
			return nil, 0, &Fault{File: o.r.Name, Line: at, Field: name, Msg: "the key is missing; write null where there is no value"}
		}
	}
	return out, at, nil
}

// object takes one line apart. Numbers stay as they are written.
func (o *objects) object(text string, at int) (names []string, values []*string, err error) {
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	fail := func(msg string) error {
		return &Fault{File: o.r.Name, Line: at, Column: int(d.InputOffset()) + 1, Msg: msg}
	}
	wrong := func(err error) error {
		var se *json.SyntaxError
		if errors.As(err, &se) {
			return &Fault{File: o.r.Name, Line: at, Column: int(se.Offset), Msg: se.Error()}
		}
		if err == io.EOF || errors.Is(err, io.ErrUnexpectedEOF) {
			return fail("the object is cut off")
		}
		return fail(err.Error())
	}
	if t, err := d.Token(); err != nil {
		return nil, nil, wrong(err)
	} else if t != json.Delim('{') {
		return nil, nil, &Fault{File: o.r.Name, Line: at, Column: 1, Msg: "expected an object: { … }"}
	}
	for d.More() {
		t, err := d.Token()
		if err != nil {
			return nil, nil, wrong(err)
		}
		name, ok := t.(string)
		if !ok {
			return nil, nil, fail("expected a key")
		}
		if slices.Contains(names, name) {
			return nil, nil, &Fault{File: o.r.Name, Line: at, Msg: fmt.Sprintf("the key %q is there twice", name)}
		}
		var raw json.RawMessage
		if err := d.Decode(&raw); err != nil {
			return nil, nil, wrong(err)
		}
		value, err := scalar(raw)
		if err != nil {
			return nil, nil, wrong(err)
		}
		names, values = append(names, name), append(values, value)
	}
	if _, err := d.Token(); err != nil {
		return nil, nil, wrong(err)
	}
	if rest := strings.TrimSpace(text[d.InputOffset():]); rest != "" {
		return nil, nil, fail("text after the object")
	}
	return names, values, nil
}

// replaced is what the package puts in the place of what is no character.
const replaced = "\ufffd"

// scalar is a JSON value as text: a string's own, null as nil, all others as they are written.
func scalar(raw json.RawMessage) (*string, error) {
	var text string
	switch {
	case string(raw) == "null":
		return nil, nil
	case raw[0] == '"':
		if err := json.Unmarshal(raw, &text); err != nil {
			return nil, err
		}
		if strings.Count(text, replaced) > bytes.Count(raw, []byte(replaced))+strings.Count(strings.ToLower(string(raw)), `\ufffd`) {
			return nil, errors.New("half of a pair of UTF-16, which is no character")
		}
	case raw[0] == '{' || raw[0] == '[':
		var b bytes.Buffer
		if err := json.Compact(&b, raw); err != nil {
			return nil, err
		}
		text = b.String()
	default:
		text = string(raw)
	}
	return &text, nil
}
