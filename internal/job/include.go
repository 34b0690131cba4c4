package job

import (
	"bytes"
	"io"
	"maps"
	"path/filepath"
	"reflect"
	"slices"
	"strconv"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"jugatum/internal/list"
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
	var f beside
	if toml.Unmarshal(text, &f) != nil { // what is wrong with it Parse tells
		return text, nil
	}
	r := reader{name: name, j: &Job{}}
	r.j.places, _, _ = places(text)
	out, maps, parts := bytes.Clone(text), f.maps(), len(f.Include)
	add := func(key, file, what string) ([]byte, error) {
		if file != filepath.Base(file) || file == "." || file == filepath.Base(name) || strings.ContainsAny(file, "\r\n") {
			return nil, r.fail(key, "%s: %q is not the name of %s in the same folder", key, file, what)
		}
		more, err := read(file)
		if err != nil {
			return nil, r.fail(key, "%s: %s cannot be read: %v", key, file, err)
		}
		out = append(append(out, "\n"+mark+file+"\n"...), more...)
		return more, nil
	}
	for _, file := range f.Include {
		more, err := add("include", file, "another job")
		if err != nil {
			return nil, err
		}
		var sub beside
		if toml.Unmarshal(more, &sub) == nil {
			maps = append(maps, sub.maps()...)
		}
	}
	slices.Sort(maps)
	for _, file := range slices.Compact(maps) {
		if _, err := add("map", file, "a file"); err != nil {
			return nil, err
		}
		parts++
	}
	if own, others := unbundle(out); !bytes.Equal(own, text) || len(others) != parts {
		return nil, r.fail("include", "a line that begins with %q cannot stand in this job, or in a file that it names", mark)
	}
	return out, nil
}

// beside are the keys of a job file that name other files whose text belongs to it.
type beside struct {
	Include []string `toml:"include"`
	Step    []struct {
		Shape map[string]any `toml:"shape"`
		Let   map[string]any `toml:"let"`
	} `toml:"step"`
}

// maps lists the files of maps.
func (f beside) maps() (out []string) {
	for _, s := range f.Step {
		for _, transforms := range []map[string]any{s.Shape, s.Let} {
			eachMap(transforms, func(_, file string) (any, error) {
				out = append(out, file)
				return file, nil
			})
		}
	}
	return out
}

// eachMap calls do for each map of a shape that is in a file, and puts what it gives in its place.
func eachMap(shape map[string]any, do func(column, file string) (any, error)) error {
	for _, column := range slices.Sorted(maps.Keys(shape)) {
		list, ok := shape[column].([]any)
		if !ok {
			list = []any{shape[column]}
		}
		for _, v := range list {
			t, ok := v.(map[string]any)
			if !ok {
				continue
			}
			file, ok := t["map"].(string)
			if !ok {
				continue
			}
			of, err := do(column, file)
			if err != nil {
				return err
			}
			t["map"] = of
		}
	}
	return nil
}

// mostMapped is how many bytes a file of a map may have: it is part of the job, and of every run's record.
const mostMapped = 1 << 20

// mapped reads the maps of a step that are in files: of two columns the text in the second takes the place
// of that in the first.
func (r *reader) mapped(path, key string, transforms map[string]any) error {
	return eachMap(transforms, func(column, file string) (any, error) {
		fail := func(format string, args ...any) (any, error) {
			return nil, r.fail(path+"."+key+"."+column, "%s.%s: map: "+format, append([]any{key, column}, args...)...)
		}
		text, ok := r.files[file]
		r.used[file] = true
		switch {
		case !ok:
			return fail("the text of %s is not there", file)
		case len(text) > mostMapped:
			return fail("%s is larger than 1 MiB; put it into a table, and use a step with fill", file)
		}
		in, err := list.Open(file, bytes.NewReader(text), list.Format{})
		if err != nil {
			return fail("%v", err)
		}
		defer in.Close()
		if len(in.Columns) != 2 {
			return fail("%s has %d columns, not two: the old text and the new one", file, len(in.Columns))
		}
		out := map[string]any{}
		for {
			line, err := in.Next()
			if err == io.EOF {
				break
			}
			if err != nil {
				return fail("%v", err)
			}
			from, to := line.Values[0], line.Values[1]
			if from == nil || to == nil {
				return fail("%s:%d: NULL is no text", file, line.At)
			}
			if _, twice := out[*from]; twice {
				return fail("%s:%d: %q stands there twice", file, line.At, *from)
			}
			out[*from] = *to
		}
		if len(out) == 0 {
			return fail("%s has no line after its header", file)
		}
		return out, nil
	})
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
	if !r.within {
		r.files, r.used = map[string][]byte{}, map[string]bool{}
		for _, x := range others[min(len(names), len(others)):] {
			r.files[x.name] = x.text
		}
	}
	for i, name := range names {
		if i >= len(others) || others[i].name != name {
			return r.fail("include", "include: the text of %s is not there", name)
		}
		sub := reader{name: filepath.Join(filepath.Dir(r.name), name), j: &Job{}, within: true, before: len(r.j.Steps), files: r.files, used: r.used}
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
