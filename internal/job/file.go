package job

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"math/big"
	"net/url"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/dustin/go-humanize"
	"github.com/pelletier/go-toml/v2"

	"jugatum/internal/change"
	"jugatum/internal/kind"
	"jugatum/internal/kind/changes"
	"jugatum/internal/kind/each"
	"jugatum/internal/kind/fill"
	"jugatum/internal/kind/merge"
	"jugatum/internal/kind/move"
	"jugatum/internal/kind/shape"
	"jugatum/internal/list"
	"jugatum/internal/pace"
	"jugatum/internal/sqltext"
)

// The shape of a job file. Reading is strict: a key that is not here is an error.
type file struct {
	Title  string `toml:"title"`
	Reason string `toml:"reason"`

	Include []string `toml:"include"`

	Param  map[string]fileParam `toml:"param"`
	Limits fileLimits           `toml:"limits"`
	Keep   fileKeep             `toml:"keep"`
	Step   []fileStep           `toml:"step"`
}

type fileParam struct {
	Type string `toml:"type"`
	Ask  string `toml:"ask"`
}

type fileLimits struct {
	Hold     *string  `toml:"hold"`
	Batch    *int     `toml:"batch"`
	Workers  *int     `toml:"workers"`
	Replicas []string `toml:"replicas"`
	Waiters  *int     `toml:"waiters"`
	Lag      *string  `toml:"lag"`
	LogRate  *string  `toml:"log_rate"`
	Window   *string  `toml:"window"`
}

type fileKeep struct {
	Days  *int    `toml:"days"`
	Bytes *string `toml:"bytes"`
}

type fileStep struct {
	Name    string            `toml:"name"`
	SQL     *string           `toml:"sql"`
	Table   *string           `toml:"table"`
	Where   *string           `toml:"where"`
	Let     map[string]any    `toml:"let"` // SQL, or transforms
	Set     map[string]string `toml:"set"`
	Put     map[string]any    `toml:"put"`
	Delete  bool              `toml:"delete"`
	Order   *string           `toml:"order"`
	Skip    *int64            `toml:"skip"`
	Once    *string           `toml:"once"`
	First   *int64            `toml:"first"`
	In      []string          `toml:"in"`
	Except  []string          `toml:"except"`
	Replace *fileReplace      `toml:"replace"`
	FillKeys
	ShapeKeys
	MergeKeys
	MoveKeys
	ChangesKeys
	EachKeys
	ListKeys
	Late   *string     `toml:"late"`
	Method *string     `toml:"method"`
	Expect any         `toml:"expect"`
	Check  []fileCheck `toml:"check"`
}

// The keys of each kind of step.
type (
	FillKeys    = fill.Keys
	ShapeKeys   = shape.Keys
	MergeKeys   = merge.Keys
	MoveKeys    = move.Keys
	ChangesKeys = changes.Keys
	EachKeys    = each.Keys
	ListKeys    = list.Keys // of those that have a list
)

// kinds are the kinds of steps that a step may be of by its keys; a new one has a row.
func (f fileStep) kinds() []kind.Keys {
	lists, calls, moves, shapes, fills := f.ChangesKeys, f.EachKeys, f.MoveKeys, f.ShapeKeys, f.FillKeys
	if calls.Used() { // some have keys in common
		calls.Written = f.ListKeys
	} else {
		lists.Written = f.ListKeys
	}
	switch {
	case calls.Used():
		calls.Written.Shape, shapes.Shape = shapes.Shape, nil
	case lists.Used():
		lists.Written.Shape, shapes.Shape = shapes.Shape, nil
	case fills.Used():
		fills.Shape, shapes.Shape = shapes.Shape, nil
	}
	if lists.Used() {
		lists.Order, lists.Present, lists.Set, moves.Present = f.Order, moves.Present, f.Set, nil
	}
	return []kind.Keys{fills, shapes, f.MergeKeys, moves, lists, calls}
}

// kind are those whose keys the step has.
func (f fileStep) kind() []kind.Keys {
	return slices.DeleteFunc(f.kinds(), func(k kind.Keys) bool { return !k.Used() })
}

type fileReplace struct {
	Find       *string    `toml:"find"`
	With       *string    `toml:"with"`
	Pairs      [][]string `toml:"pairs"`
	Pattern    *string    `toml:"pattern"`
	Growth     int        `toml:"growth"`
	Case       string     `toml:"case"`
	WholeWords bool       `toml:"whole_words"`
	Forms      []string   `toml:"forms"`
	Keys       bool       `toml:"keys"`
	Structured *bool      `toml:"structured"`
	Damaged    string     `toml:"damaged"`
}

type fileCheck struct {
	SQL  string `toml:"sql"`
	Is   any    `toml:"is"`
	When string `toml:"when"`
}

// Parse reads a job file. Every fault is an *Error with line and column.
// The jobs that it includes stand behind it in text; see Bundle.
func Parse(name string, text []byte) (*Job, error) {
	own, others := unbundle(text)
	r := reader{name: name, taken: map[string]Place{}, j: &Job{Source: Source{Name: name, Text: string(text)}}}
	if err := r.parse(own, others); err != nil {
		return nil, err
	}
	return r.j, nil
}

// parse reads the text of one file.
func (r *reader) parse(text []byte, others []included) error {
	name := r.name
	if i := invalidUTF8(text); i >= 0 {
		line := 1 + bytes.Count(text[:i], []byte("\n"))
		return &Error{File: name, Place: Place{Line: line, Column: i - bytes.LastIndexByte(text[:i], '\n')}, Msg: fmt.Sprintf("byte 0x%02x is not valid UTF-8", text[i])}
	}
	var f file
	err := toml.NewDecoder(bytes.NewReader(text)).DisallowUnknownFields().Decode(&f)
	if err != nil {
		return r.decodeError(err)
	}
	r.j.places, r.order, r.written = places(text)
	if r.within && (f.Include != nil || f.Limits.given() || f.Keep != fileKeep{}) {
		return &Error{File: name, Place: Place{Line: 1, Column: 1}, Msg: "a job that another one includes has steps and parameters alone: include, limits and keep belong to the one that includes it"}
	}
	if err := r.include(f.Include, others); err != nil {
		return err
	}
	if err := r.job(f); err != nil {
		return err
	}
	for name := range r.files {
		if !r.within && !r.used[name] { // a comment of the author's, perhaps: what stands after it would be lost
			return &Error{File: r.name, Msg: fmt.Sprintf("a line begins with %q, which stands only before the text of a file that belongs to the job", mark)}
		}
	}
	if len(r.taken) > 0 {
		r.j.places = r.placed()
	}
	return nil
}

func invalidUTF8(b []byte) int {
	for i := 0; i < len(b); {
		r, size := utf8.DecodeRune(b[i:])
		if r == utf8.RuneError && size == 1 {
			return i
		}
		i += size
	}
	return -1
}

// At places an error of the change package in the file. Others pass unchanged.
func (j *Job) At(err error) error {
	var fe *change.FieldError
	if !errors.As(err, &fe) {
		return err
	}
	out := &Error{File: j.Source.Name, Msg: fmt.Sprintf("step %q: %s: %v", fe.Step, fe.Field, fe.Err)}
	if j.Source.SQL {
		out.Msg = fe.Err.Error()
	}
	for i, s := range j.Steps {
		if s.Name != fe.Step && j.Of(fe.Step) != i {
			continue
		}
		path := "step." + strconv.Itoa(i)
		out.Place = j.places[path]
		for _, p := range []string{path + "." + fe.Field, path + "." + strings.SplitN(fe.Field, ".", 2)[0]} {
			if at, ok := j.places[p]; ok {
				out.Place = at
				break
			}
		}
	}
	var se *sqltext.Error
	if errors.As(fe.Err, &se) {
		out.Hint = se.Caret()
		if j.Source.SQL {
			out.Place.Line, out.Place.Column = se.Position()
			out.Msg = se.Msg
		}
	}
	return out
}

type reader struct {
	name  string
	j     *Job
	order map[string][]string // path of a table → its keys as they stand in the file

	written map[string]string // path of a number with a point → its text

	within bool              // the file is included by another one
	before int               // steps of jobs before it
	taken  map[string]Place  // of the keys of their steps
	used   map[string]bool   // of the files that follow
	files  map[string][]byte // that maps are read from, by their names
}

func (r *reader) fail(path, format string, args ...any) error {
	e := &Error{File: r.name, Msg: fmt.Sprintf(format, args...)}
	for p := path; p != ""; { // the nearest enclosing key that has a place
		if at, ok := r.j.places[p]; ok {
			e.Place = at
			break
		}
		i := strings.LastIndexByte(p, '.')
		if i < 0 {
			break
		}
		p = p[:i]
	}
	return e
}

func (r *reader) decodeError(err error) error {
	var strict *toml.StrictMissingError
	var decode *toml.DecodeError
	switch {
	case errors.As(err, &strict) && len(strict.Errors) > 0:
		d := strict.Errors[0]
		line, col := d.Position()
		key := d.Key()
		msg := fmt.Sprintf("unknown key %q", strings.Join(key, "."))
		if near := nearestKey(key); near != "" {
			msg += fmt.Sprintf("; the nearest known one is %q", near)
		}
		return &Error{File: r.name, Place: Place{Line: line, Column: col}, Msg: msg}
	case errors.As(err, &decode):
		line, col := decode.Position()
		msg := strings.TrimPrefix(decode.Error(), "toml: ")
		if m := wrongType.FindStringSubmatch(msg); m != nil {
			msg = fmt.Sprintf("expected a %s, not a TOML %s", wanted(m[2]), m[1])
		}
		if key := decode.Key(); len(key) > 0 && !strings.Contains(msg, key[len(key)-1]) {
			msg = strings.Join(key, ".") + ": " + msg
		}
		return &Error{File: r.name, Place: Place{Line: line, Column: col}, Msg: msg}
	}
	return &Error{File: r.name, Msg: strings.TrimPrefix(err.Error(), "toml: ")}
}

// wrongType is how the TOML library words a value of the wrong type.
var wrongType = regexp.MustCompile(`^cannot (?:decode|unmarshal) TOML (\S+) into .* of type (\S+)$`)

// wanted names a Go type in TOML's words.
func wanted(goType string) string {
	switch strings.TrimPrefix(goType, "*") {
	case "string":
		return "text"
	case "int", "int64":
		return "whole number"
	case "bool":
		return "boolean"
	}
	return "table"
}

// nearestKey finds the known key closest to the last part of an unknown one.
func nearestKey(key toml.Key) string {
	t := reflect.TypeFor[file]()
	for _, part := range key[:len(key)-1] {
		for t.Kind() == reflect.Slice || t.Kind() == reflect.Map || t.Kind() == reflect.Pointer {
			t = t.Elem()
		}
		if t.Kind() != reflect.Struct {
			return ""
		}
		next := t
		keysOf(t, func(name string, of reflect.Type) {
			if name == part {
				next = of
			}
		})
		t = next
	}
	for t.Kind() == reflect.Slice || t.Kind() == reflect.Map || t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	if t.Kind() != reflect.Struct {
		return ""
	}
	var known []string
	keysOf(t, func(name string, _ reflect.Type) { known = append(known, name) })
	return change.Nearest(key[len(key)-1], known)
}

func (r *reader) job(f file) error {
	j := r.j
	j.Title, j.Reason = f.Title, f.Reason
	for _, name := range r.keys("param", f.Param) {
		p := f.Param[name]
		path := "param." + name
		if !sqltext.IsParam(name) {
			return r.fail(path, "%q cannot name a parameter; use letters, digits and _", name)
		}
		if strings.HasPrefix(name, "jugatum_") {
			return r.fail(path, "%q: names that begin with jugatum_ are used by Jugatum itself; choose another", name)
		}
		if p.Type == "" {
			return r.fail(path, "param.%s: type is missing; use text, integer, decimal, boolean, date or timestamp", name)
		}
		if _, err := ParseValue(change.ValueType(p.Type), ""); err != nil && strings.Contains(err.Error(), "is not a type") {
			return r.fail(path+".type", "param.%s: %v", name, err)
		}
		if at := slices.IndexFunc(j.Params, func(o Param) bool { return o.Name == name }); at >= 0 { // of a job that is included
			if j.Params[at].Type != change.ValueType(p.Type) {
				return r.fail(path+".type", "param.%s is %s here and %s in a job that is included", name, p.Type, j.Params[at].Type)
			}
			continue
		}
		j.Params = append(j.Params, Param{name, change.ValueType(p.Type), p.Ask})
	}
	if h := f.Limits.Hold; h != nil {
		d, err := time.ParseDuration(*h)
		if err != nil || d < time.Millisecond || d > time.Hour {
			return r.fail("limits.hold", "limits.hold: %q is not a time from 1ms to 1h, such as \"200ms\"", *h)
		}
		j.Limits.Hold = d
	}
	if b := f.Limits.Batch; b != nil {
		if *b < 1 {
			return r.fail("limits.batch", "limits.batch: %d is not a number of rows from 1 up", *b)
		}
		j.Limits.Batch = *b
	}
	if n := f.Limits.Workers; n != nil {
		if *n < 1 || *n > pace.MostWorkers {
			return r.fail("limits.workers", "limits.workers: %d is not a number from 1 to %d", *n, pace.MostWorkers)
		}
		j.Limits.Workers = *n
	}
	for _, raw := range f.Limits.Replicas {
		if u, err := url.Parse(raw); err != nil || u.Host == "" {
			return r.fail("limits.replicas", "limits.replicas: expected URLs such as mariadb://HOST:PORT/")
		} else if _, has := u.User.Password(); has {
			return r.fail("limits.replicas", "limits.replicas: a job holds no passwords; leave it out")
		}
	}
	j.Limits.Replicas = f.Limits.Replicas
	j.Limits.Pace = map[string]string{}
	if n := f.Limits.Waiters; n != nil {
		j.Limits.Pace["waiters"] = strconv.Itoa(*n)
	}
	for name, text := range map[string]*string{"lag": f.Limits.Lag, "log_rate": f.Limits.LogRate, "window": f.Limits.Window} {
		if text != nil {
			j.Limits.Pace[name] = *text
		}
	}
	for name, text := range j.Limits.Pace {
		if _, err := (pace.Limits{}).With(name, text); err != nil {
			return r.fail("limits."+name, "limits.%s: %q: %v", name, text, err)
		}
	}
	if n := f.Keep.Days; n != nil {
		if *n < 1 || *n > 36500 {
			return r.fail("keep.days", "keep.days: %d is not a number of days from 1 up", *n)
		}
		j.Keep.Days = *n
	}
	if text := f.Keep.Bytes; text != nil {
		n, err := humanize.ParseBytes(*text)
		if err != nil || n == 0 || n > math.MaxInt64 {
			return r.fail("keep.bytes", "keep.bytes: %q is not an amount such as \"5GB\"", *text)
		}
		j.Keep.Bytes = int64(n)
	}
	if len(f.Step)+len(j.Steps) == 0 {
		return &Error{File: r.name, Place: Place{Line: 1, Column: 1}, Msg: "the job has no [[step]]"}
	}
	for i, fs := range f.Step {
		path := "step." + strconv.Itoa(i)
		if err := r.mapped(path, "shape", fs.ShapeKeys.Shape); err != nil {
			return err
		}
		if err := r.mapped(path, "let", fs.Let); err != nil {
			return err
		}
		s, err := r.step(i, fs)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(j.Steps, func(o Step) bool { return o.Name == s.Name }) {
			return r.fail("step."+strconv.Itoa(i)+".name", "two steps are called %q", s.Name)
		}
		j.Steps = append(j.Steps, s)
	}
	return nil
}

// literal makes a value of what TOML gave. written is the text of a number with a point, "" if
// that is not known.
func literal(v any, written string) (change.Value, error) {
	switch v := v.(type) {
	case string:
		return change.Value{Type: change.TextValue, Text: v}, nil
	case int64:
		return change.Value{Type: change.IntegerValue, Text: strconv.FormatInt(v, 10)}, nil
	case float64:
		text, err := decimal(v, written)
		return change.Value{Type: change.DecimalValue, Text: text}, err
	case bool:
		return change.Value{Type: change.BooleanValue, Text: strconv.FormatBool(v)}, nil
	case toml.LocalDate:
		return change.Value{Type: change.DateValue, Text: v.String()}, nil
	case toml.LocalDateTime:
		if v.Nanosecond%1000 != 0 {
			return change.Value{}, errNanoseconds
		}
		return change.Value{Type: change.TimestampValue, Text: strings.Replace(v.String(), "T", " ", 1)}, nil
	case time.Time:
		if v.Nanosecond()%1000 != 0 {
			return change.Value{}, errNanoseconds
		}
		return change.Value{Type: change.TimestampValue, Text: v.Format("2006-01-02 15:04:05.999999Z07:00")}, nil
	}
	return change.Value{}, fmt.Errorf("expected a text, number, boolean, date or timestamp, not %T", v)
}

var errNanoseconds = errors.New("a time has microseconds at most; write it as a text if the column holds more")

// exactDigits is how many digits a float64 keeps of any decimal number.
const exactDigits = 15

// decimal writes a number with a point with all of its digits, which a float64 may have lost: as
// it is written, without zeros at its end.
func decimal(v float64, written string) (string, error) {
	if math.IsInf(v, 0) || math.IsNaN(v) {
		return "", fmt.Errorf("%v is no number", v)
	}
	short := strconv.FormatFloat(v, 'f', -1, 64)
	text := strings.TrimPrefix(strings.ReplaceAll(written, "_", ""), "+")
	switch {
	case written != "" && strings.ContainsAny(text, "eE"):
		if exact, ok := new(big.Rat).SetString(text); !ok || exact.Cmp(new(big.Rat).SetFloat64(v)) != 0 && significant(text) > exactDigits {
			return "", fmt.Errorf("%s has more digits than a number here keeps; write it without an exponent", written)
		}
		return short, nil
	case written == "" && significant(short) > exactDigits:
		return "", fmt.Errorf("%s has more digits than a number here keeps; write it as a text", short)
	case written == "":
		return short, nil
	}
	return strings.TrimSuffix(strings.TrimRight(text, "0"), "."), nil
}

// significant counts the digits of a number without zeros at both ends and its exponent.
func significant(text string) int {
	mantissa, _, _ := strings.Cut(strings.ToLower(text), "e")
	digits := strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, mantissa)
	return len(strings.Trim(digits, "0"))
}
