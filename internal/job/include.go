package job

import (
	"bytes"
	"fmt"
	"maps"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"
)

// A job may include others of the same folder: their steps come before its own, in the order in which they
// are named. What is recorded of a run is one text, so that it goes on without the files.

// mark begins the line that says which file the text after it is of.
const mark = "#: "

// included is the text of a job that another one includes.
type included struct {
	name string
	text []byte
}

// Bundle is the text of a job, followed by the texts of the jobs that it includes, which read gives by
// their names. Parse reads it.
func Bundle(name string, text []byte, read func(file string) ([]byte, error)) ([]byte, error) {
	var f struct {
		Include []string `toml:"include"`
	}
	if toml.Unmarshal(text, &f) != nil || len(f.Include) == 0 { // what is wrong with it Parse tells
		return text, nil
	}
	r := reader{name: name, j: &Job{}}
	r.j.places, _, _ = places(text)
	out := bytes.Clone(text)
	for _, file := range f.Include {
		if file != filepath.Base(file) || file == "." || file == filepath.Base(name) || strings.ContainsAny(file, "\r\n") {
			return nil, r.fail("include", "include: %q is not the name of another job in the same folder", file)
		}
		more, err := read(file)
		if err != nil {
			return nil, r.fail("include", "include: %s cannot be read: %v", file, err)
		}
		out = append(append(out, "\n"+mark+file+"\n"...), more...)
	}
	if own, others := unbundle(out); !bytes.Equal(own, text) || len(others) != len(f.Include) {
		return nil, r.fail("include", "include: a line that begins with %q cannot stand in one of these jobs", mark)
	}
	return out, nil
}

// unbundle takes a text apart.
func unbundle(text []byte) (own []byte, others []included) {
	parts := bytes.Split(text, []byte("\n"+mark))
	for _, p := range parts[1:] {
		name, rest, _ := bytes.Cut(p, []byte("\n"))
		others = append(others, included{string(name), rest})
	}
	return parts[0], others
}

// include reads the jobs that the file includes, and takes their steps and parameters up.
func (r *reader) include(names []string, others []included) error {
	if len(others) > len(names) {
		return &Error{File: r.name, Msg: fmt.Sprintf("a line begins with %q, which stands only between jobs that are put together", mark)}
	}
	for i, name := range names {
		if i >= len(others) || others[i].name != name {
			return r.fail("include", "include: the text of %s is not there", name)
		}
		sub := reader{name: filepath.Join(filepath.Dir(r.name), name), j: &Job{}, within: true, before: len(r.j.Steps)}
		if err := sub.parse(others[i].text, nil); err != nil {
			return err
		}
		for path, at := range sub.j.places {
			if at.File = sub.name; strings.HasPrefix(path, "step.") {
				r.taken[shift(path, len(r.j.Steps))] = at
			}
		}
		for _, s := range sub.j.Steps {
			if slices.ContainsFunc(r.j.Steps, func(o Step) bool { return o.Name == s.Name }) {
				return r.fail("include", "include: two steps are called %q, the second in %s", s.Name, name)
			}
			r.j.Steps = append(r.j.Steps, s)
		}
		for _, p := range sub.j.Params {
			at := slices.IndexFunc(r.j.Params, func(o Param) bool { return o.Name == p.Name })
			switch {
			case at < 0:
				r.j.Params = append(r.j.Params, p)
			case r.j.Params[at].Type != p.Type:
				return r.fail("include", "include: the parameter %s is %s, and %s in %s", p.Name, r.j.Params[at].Type, p.Type, name)
			}
		}
	}
	r.before = len(r.j.Steps)
	return nil
}

// placed gives the places of all steps by their number in the job, once the file has been read.
func (r *reader) placed() map[string]Place {
	out := maps.Clone(r.taken)
	for path, at := range r.j.places {
		out[shift(path, r.before)] = at
	}
	return out
}

// shift is the path of a key of a step that so many others come before.
func shift(path string, by int) string {
	rest, ok := strings.CutPrefix(path, "step.")
	if !ok {
		return path
	}
	number, more, _ := strings.Cut(rest, ".")
	n, err := strconv.Atoi(number)
	if err != nil {
		return path
	}
	if more != "" {
		more = "." + more
	}
	return "step." + strconv.Itoa(n+by) + more
}

// given reports whether any limit is there.
func (f fileLimits) given() bool { return !reflect.ValueOf(f).IsZero() }
