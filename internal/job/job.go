// Package job reads what is to be changed: a TOML file, or one SQL statement
// from the command line, and the values of its parameters.
package job

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/kind"
	"jugatum/internal/sqltext"
)

// Job is one change as a whole: its steps are carried out in order.
type Job struct {
	Title  string
	Reason string
	Params []Param
	Limits Limits
	Keep   Keep
	Steps  []Step

	Source Source
	places map[string]Place
}

// Source is where the job came from, kept in the ledger so that a run can be
// resumed without the file.
type Source struct {
	Name string `json:"name"` // file name, or "--sql"
	Text string `json:"text"`
	SQL  bool   `json:"sql"` // Text is one statement, not TOML
}

// Param is a parameter that the job declares.
type Param struct {
	Name string
	Type change.ValueType
	Ask  string // the question at a terminal
}

// Limits are the job's own settings; zero values are unset.
type Limits struct {
	Hold     time.Duration
	Batch    int
	Workers  int
	Replicas []string
	Pace     map[string]string // waiters, lag, log_rate, window as written; absent where unset
}

// Keep limits what runs leave in the database, kept values above all; zero values are unset.
type Keep struct {
	Days  int   // after which what a run had kept is dropped
	Bytes int64 // that all runs together may take; what the oldest kept goes first
}

// Step is one change to one table.
type Step struct {
	change.Spec
	Kind   kind.Step // nil for a change as it is written
	Expect *Expect
	Checks []Check
	Method string `json:"-"` // sweep, roster or single; "" to be chosen. How it is carried out does not tell one job from another
}

// Expect is the number of rows a step should change, both ends included.
type Expect struct{ Min, Max int64 }

func (e Expect) String() string {
	if e.Min == e.Max {
		return strconv.FormatInt(e.Min, 10)
	}
	return fmt.Sprintf("%d..%d", e.Min, e.Max)
}

// Check is a query of one value and what it should be.
type Check struct {
	SQL    string `json:"sql"`
	Is     string `json:"is"`
	Before bool   `json:"before"` // asked before the step
	After  bool   `json:"after"`  // asked after it, and by verify
}

// Place is a position in the job file, 1-based.
type Place struct {
	Line, Column int
	File         string // where it is not the job's own: one that the job includes
}

// Error is a fault in a job with its place.
type Error struct {
	File  string
	Place Place
	Msg   string
	Hint  string // further lines, such as the SQL with a caret
}

func (e *Error) Error() string {
	where := e.File
	if e.Place.Line > 0 {
		if e.Place.File != "" {
			where = e.Place.File
		}
		where = fmt.Sprintf("%s:%d:%d", where, e.Place.Line, e.Place.Column)
	}
	s := where + ": " + e.Msg
	if e.Hint != "" {
		s += "\n" + e.Hint
	}
	return s
}

// FromSQL makes the job of one statement.
func FromSQL(sql string) *Job {
	return &Job{
		Title:  "",
		Steps:  []Step{{Spec: change.Spec{Name: "sql", SQL: sql}}},
		Source: Source{Name: "--sql", Text: sql, SQL: true},
	}
}

// Restore reads a job back from the ledger.
func Restore(s Source) (*Job, error) {
	if s.SQL {
		return FromSQL(s.Text), nil
	}
	return Parse(s.Name, []byte(s.Text))
}

// Once reports whether every step tells by itself which rows are done already, so
// that a second run changes none of them again.
func (j *Job) Once() bool {
	for _, s := range j.Steps {
		if s.Once == "" {
			return false
		}
	}
	return len(j.Steps) > 0
}

// Digest tells jobs apart: equal for the same steps with the same parameters,
// whatever the title, the limits, comments, blanks and the case of bare words.
func (j *Job) Digest(d sqltext.Dialect, values map[string]change.Value) string {
	form := *j
	form.Steps = append([]Step(nil), j.Steps...)
	for i := range form.Steps {
		s := &form.Steps[i].Spec
		s.SQL, s.Table, s.Where, s.Order = tokens(d, s.SQL), tokens(d, s.Table), tokens(d, s.Where), tokens(d, s.Order)
		s.Let, s.Set = fieldTokens(d, s.Let), fieldTokens(d, s.Set)
		if k := form.Steps[i].Kind; k != nil {
			form.Steps[i].Kind = k.Each(func(sql string) string { return tokens(d, sql) })
		}
	}
	return "2:" + form.WrittenDigest(values)
}

// tokens is SQL text as its tokens, one blank between them; text that cannot be
// read stays as it is.
func tokens(d sqltext.Dialect, text string) string {
	list, err := sqltext.Lex(d, text)
	if err != nil {
		return text
	}
	words := make([]string, 0, len(list))
	for _, t := range list {
		if t.Kind == sqltext.Ident {
			t.Text = strings.ToLower(t.Text)
		}
		words = append(words, t.Text)
	}
	if n := len(words); n > 0 && words[n-1] == ";" {
		words = words[:n-1]
	}
	return strings.Join(words, " ")
}

func fieldTokens(d sqltext.Dialect, fields []change.Field) []change.Field {
	out := append([]change.Field(nil), fields...)
	for i := range out {
		out[i].Expr = tokens(d, out[i].Expr)
	}
	return out
}

// WrittenDigest is the digest by the text as it is written, as earlier versions
// recorded it.
func (j *Job) WrittenDigest(values map[string]change.Value) string {
	type stepForm struct {
		Spec   change.Spec
		Checks []Check
		Fill   kind.Step            `json:",omitempty"`
		Kinds  map[string]kind.Step `json:",omitempty"` // all others, by name
	}
	form := struct {
		Steps  []stepForm
		Values map[string]change.Value
	}{Values: values}
	for _, s := range j.Steps {
		x := stepForm{Spec: s.Spec, Checks: s.Checks}
		if s.Kind != nil {
			if name := s.Kind.Kind(); name == "fill" { // which was there before there were others
				x.Fill = s.Kind
			} else {
				x.Kinds = map[string]kind.Step{name: s.Kind}
			}
		}
		form.Steps = append(form.Steps, x)
	}
	b, err := json.Marshal(form)
	if err != nil { // strings, booleans and maps of them always marshal
		panic(err)
	}
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:])
}

// Name is how the job is called in lists.
func (j *Job) Name() string {
	if j.Title != "" {
		return j.Title
	}
	if j.Source.SQL {
		return strings.Join(strings.Fields(j.Source.Text), " ")
	}
	return j.Source.Name
}

// Values reads the given parameter texts by their declared types. Undeclared
// parameters are an error in a file; beside --sql, where nothing can be
// declared, the type is told by NAME:TYPE=VALUE or by the look of the value.
// missing lists declared parameters that were not given.
func (j *Job) Values(given map[string]string) (values map[string]change.Value, missing []Param, err error) {
	values = map[string]change.Value{}
	declared := map[string]bool{}
	for _, p := range j.Params {
		declared[p.Name] = true
		text, ok := given[p.Name]
		if !ok {
			missing = append(missing, p)
			continue
		}
		if values[p.Name], err = ParseValue(p.Type, text); err != nil {
			return nil, nil, fmt.Errorf("parameter %s: %w", p.Name, err)
		}
	}
	for name, text := range given {
		if declared[name] {
			continue
		}
		if !j.Source.SQL {
			names := make([]string, len(j.Params))
			for i, p := range j.Params {
				names[i] = p.Name
			}
			msg := fmt.Sprintf("the job has no parameter %q", name)
			if near := change.Nearest(name, names); near != "" {
				msg += fmt.Sprintf("; did you mean %q?", near)
			}
			return nil, nil, fmt.Errorf("%s", msg)
		}
		plain, typ, typed := strings.Cut(name, ":")
		if !typed {
			typ = string(guessType(text))
		}
		if values[plain], err = ParseValue(change.ValueType(typ), text); err != nil {
			return nil, nil, fmt.Errorf("parameter %s: %w", plain, err)
		}
	}
	return values, missing, nil
}

func guessType(text string) change.ValueType {
	if n, err := strconv.ParseInt(text, 10, 64); err == nil && strconv.FormatInt(n, 10) == text {
		return change.IntegerValue
	}
	if isDecimal(text) && (text[0] != '0' || strings.HasPrefix(text, "0.")) {
		return change.DecimalValue
	}
	return change.TextValue
}

func isDecimal(s string) bool {
	s = strings.TrimPrefix(strings.TrimPrefix(s, "-"), "+")
	digits, points := 0, 0
	for _, r := range s {
		switch {
		case r >= '0' && r <= '9':
			digits++
		case r == '.':
			points++
		default:
			return false
		}
	}
	return digits > 0 && points <= 1
}

// ParseValue reads a value of a type from text.
func ParseValue(t change.ValueType, text string) (change.Value, error) {
	bad := func(want string) (change.Value, error) {
		return change.Value{}, fmt.Errorf("%q is not %s", text, want)
	}
	switch t {
	case change.TextValue:
	case change.IntegerValue:
		if _, err := strconv.ParseInt(text, 10, 64); err != nil {
			return bad("an integer of 64 bits")
		}
	case change.DecimalValue:
		if !isDecimal(text) {
			return bad("a decimal number such as 1.035")
		}
	case change.BooleanValue:
		if text != "true" && text != "false" {
			return bad("true or false")
		}
	case change.DateValue:
		if _, err := time.Parse("2006-01-02", text); err != nil {
			return bad("a date such as 2026-03-01")
		}
	case change.TimestampValue:
		for _, layout := range []string{"2006-01-02 15:04:05", "2006-01-02T15:04:05", time.RFC3339, "2006-01-02 15:04:05Z07:00", "2006-01-02 15:04:05.999999"} {
			if _, err := time.Parse(layout, text); err == nil {
				return change.Value{Type: t, Text: text}, nil
			}
		}
		return bad("a timestamp such as 2026-03-01 06:30:00")
	default:
		return change.Value{}, fmt.Errorf("%q is not a type; use text, integer, decimal, boolean, date or timestamp", t)
	}
	return change.Value{Type: t, Text: text}, nil
}

// ParseExpect reads "120" or "100..250".
func ParseExpect(s string) (Expect, error) {
	lo, hi, isRange := strings.Cut(s, "..")
	if !isRange {
		hi = lo
	}
	var e Expect
	var err1, err2 error
	e.Min, err1 = strconv.ParseInt(strings.TrimSpace(lo), 10, 64)
	e.Max, err2 = strconv.ParseInt(strings.TrimSpace(hi), 10, 64)
	if err1 != nil || err2 != nil || e.Min < 0 || e.Max < e.Min {
		return e, fmt.Errorf("%q is not a number of rows; write %q or %q", s, "120", "100..250")
	}
	return e, nil
}
