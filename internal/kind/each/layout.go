package each

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/kind"
	"jugatum/internal/list"
)

// Layout says which value of a line is which parameter.
type Layout struct {
	Columns []string // those of the list that are parameters of the statement, in the order of the list
	at      []int    // where each stands in a line
	fields  []field
	format  list.Format
}

type field struct {
	typ     list.Type
	boolean bool
	bytes   bool
}

// Layout holds the columns of a list, called names, against the parameters of the statement.
// told is what the server takes parameters without a declared type for, as far as it tells;
// others are the job's own parameters.
func (s *Step) Layout(d change.Dialect, step string, call *change.Call, told map[string]*change.Column, others map[string]change.Value, names []string) (*Layout, error) {
	fail := func(field, format string, args ...any) error {
		return &change.FieldError{Step: step, Field: field, Err: fmt.Errorf(format, args...)}
	}
	for _, name := range sorted(s.Types) {
		if !slices.Contains(names, name) {
			return nil, fail("types."+name, "%s has no column %q%s", s.From.Name(), name, kind.Nearest(name, names))
		}
	}
	l := &Layout{format: s.Format}
	params := call.Statement.Params()
	for i, name := range names {
		if !slices.Contains(params, name) {
			continue
		}
		if _, both := others[name]; both {
			return nil, fail("call", ":%s could be the column of %s or the job's parameter; rename one of them", name, s.From.Name())
		}
		l.Columns, l.at = append(l.Columns, name), append(l.at, i)
		l.fields = append(l.fields, read(d, s.Types[name], told[name]))
	}
	for _, p := range params {
		if _, other := others[p]; !other && !slices.Contains(names, p) {
			return nil, fail("call", "%s has no column %q for :%s%s; it has %s", s.From.Name(), p, p, kind.Nearest(p, names), strings.Join(names, ", "))
		}
	}
	if len(l.Columns) == 0 {
		return nil, fail("call", "the statement has no parameter that is a column of %s (%s), so that it would be the same for each line", s.From.Name(), strings.Join(names, ", "))
	}
	return l, nil
}

func sorted(types map[string]change.ValueType) (names []string) {
	for name := range types {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

// read tells how the values of a column are written: as declared, or else as what the server
// takes them for.
func read(d change.Dialect, declared change.ValueType, told *change.Column) field {
	switch declared {
	case change.IntegerValue:
		return field{typ: list.Type{Kind: list.Number}}
	case change.DecimalValue:
		return field{typ: list.Type{Kind: list.Number, Scale: list.Unlimited, Digits: d.Forms().Digits}}
	case change.BooleanValue:
		return field{boolean: true}
	case change.DateValue:
		return field{typ: list.Type{Kind: list.Date, Strict: true}}
	case change.TimestampValue:
		return field{typ: list.Type{Kind: list.Timestamp, Scale: 6}}
	case change.TextValue:
		return field{}
	}
	if told == nil {
		return field{}
	}
	return field{typ: kind.Typed(d, told), bytes: kind.HoldsBytes(told)}
}

// Row is a line as the table of the list has it: the line of the file, then the values, as
// texts or nil.
func (l *Layout) Row(file string, line list.Line) ([]any, error) {
	row := []any{int64(line.At)}
	for i, f := range l.fields {
		v := line.Values[l.at[i]]
		if v == nil {
			row = append(row, nil)
			continue
		}
		text, err := f.value(l.format, *v)
		if err != nil {
			return nil, &list.Fault{File: file, Line: line.At, Field: l.Columns[i], Msg: err.Error()}
		}
		row = append(row, text)
	}
	return row, nil
}

func (f field) value(format list.Format, text string) (string, error) {
	switch {
	case f.boolean && text != "true" && text != "false":
		return "", fmt.Errorf("%q is not true or false", text)
	case f.bytes && strings.HasPrefix(text, `\x`):
		if _, err := hex.DecodeString(text[2:]); err != nil {
			return "", fmt.Errorf(`after \x, expected bytes in hexadecimal: %v`, err)
		}
		return text, nil
	}
	return format.Value(f.typ, text)
}
