package changes

import (
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/kind"
	"jugatum/internal/list"
)

// Layout says which value of a line goes where.
type Layout struct {
	Key, Others []*change.Column // of the table
	Extra       []string         // columns of the file that only the step's own SQL asks for
	fields      []field          // in the order of Key, Others and Extra
	action      int              // the field that says what becomes of a line; -1 if none does
	s           *Step
}

// field is a column of the file.
type field struct {
	at     int // among the values of a line
	name   string
	typ    list.Type
	bytes  bool // \x… is bytes in hexadecimal
	bits   bool // a whole number is the bits of one
	filled bool // it must have a value
}

// Layout holds the columns of a file against those of the table.
func (s *Step) Layout(d change.Dialect, step string, target *change.Table, names []string) (*Layout, error) {
	l := &Layout{action: -1, s: s}
	fail := func(field, format string, args ...any) error {
		return &change.FieldError{Step: step, Field: field, Err: fmt.Errorf(format, args...)}
	}
	for name := range s.Columns {
		if !slices.Contains(names, name) {
			return nil, fail("columns."+name, "%s has no column %q%s", s.From.Name(), name, kind.Nearest(name, names))
		}
	}
	if s.By != "" {
		if l.action = slices.Index(names, s.By); l.action < 0 {
			return nil, fail("action.column", "%s has no column %q%s", s.From.Name(), s.By, kind.Nearest(s.By, names))
		}
	}
	keys, err := s.keys(target, fail)
	if err != nil {
		return nil, err
	}
	asked := s.asked(d, alias(target))
	at, others, extra := map[*change.Column]int{}, []*change.Column{}, map[string]int{}
	for i, name := range names {
		if i == l.action {
			continue
		}
		to, mapped := s.Columns[name]
		if mapped && to == "" { // left out
			continue
		}
		if !mapped {
			to = name
		}
		col := change.Loosely(target, to)
		switch before, twice := at[col]; {
		case col == nil && mapped:
			return nil, fail("columns."+name, "table %s has no column %q%s", target, to, change.NearestColumn(target, to))
		case col == nil && slices.Contains(asked, name):
			l.Extra, extra[name] = append(l.Extra, name), i
			continue
		case col == nil:
			return nil, fail("changes", "%s has a column %q, which table %s has not%s; name the one that is meant: columns = { %s = \"…\" }, or leave it out of the file", s.From.Name(), name, target, change.NearestColumn(target, name), name)
		case twice:
			return nil, fail("changes", "columns %q and %q of %s are both for %s.%s", names[before], name, s.From.Name(), target, col.Name)
		case col.Generated:
			return nil, fail("changes", "column %s.%s is computed by the database and cannot be assigned", target, col.Name)
		}
		if at[col] = i; !slices.Contains(keys, col) {
			others = append(others, col)
		}
	}
	for _, k := range keys {
		if _, there := at[k]; !there {
			return nil, fail("changes", "%s has no column for %s, which is part of the key; it has %s. Name the one that is meant: columns = { NAME = %q }, or other unique columns: key = [\"…\"]", s.From.Name(), k.Name, strings.Join(names, ", "), k.Name)
		}
	}
	if len(s.inserts()) > 0 {
		if err := s.insertable(target, at, fail); err != nil {
			return nil, err
		}
	}
	l.Key, l.Others = keys, others
	known := slices.Clone(l.Extra)
	for _, c := range slices.Concat(keys, others) {
		known = append(known, c.Name)
	}
	for _, name := range asked {
		if !slices.ContainsFunc(known, func(k string) bool { return strings.EqualFold(k, name) }) {
			return nil, fail("set", "a line has no column %q%s; columns for the table are called as they are there: %s", name, kind.Nearest(name, known), strings.Join(known, ", "))
		}
	}
	for i, c := range slices.Concat(keys, others) {
		l.fields = append(l.fields, field{at: at[c], name: names[at[c]], typ: kind.Typed(d, c), bytes: kind.HoldsBytes(c), bits: kind.IsBits(d, c), filled: i < len(keys)})
	}
	for _, name := range l.Extra {
		l.fields = append(l.fields, field{at: extra[name], name: name})
	}
	return l, nil
}

// keys are the columns by which a row is found.
func (s *Step) keys(target *change.Table, fail func(field, format string, args ...any) error) (keys []*change.Column, err error) {
	if s.Key == nil {
		if target.Key == nil || target.Key.Hidden {
			return nil, fail("table", "%s has no key by which the lines could find their rows; name unique columns: key = [\"…\"]", target)
		}
		return target.Key.Columns, nil
	}
	var names []string
	for _, name := range s.Key {
		c := change.Loosely(target, name)
		if c == nil {
			return nil, fail("key", "table %s has no column %q%s", target, name, change.NearestColumn(target, name))
		}
		keys, names = append(keys, c), append(names, c.Name)
	}
	if !target.Unique(names...) {
		return nil, fail("key", "two rows of %s may have the same %s: there is no unique index over just these columns, so that a line could mean several rows", target, strings.Join(names, ", "))
	}
	return keys, nil
}

// insertable refuses a list that leaves out what every row must have.
func (s *Step) insertable(target *change.Table, at map[*change.Column]int, fail func(field, format string, args ...any) error) error {
	if len(s.Set) > 0 {
		return fail("set", "a line that makes a row has no row yet that an expression could be over: set goes with updates alone; let the file have a column for it, or the table a default")
	}
	for _, c := range target.Columns {
		if _, there := at[c]; !there && c.NotNull && c.Default == "" && !c.Identity && !c.Generated {
			return fail("changes", "%s has no column for %s, which cannot be NULL and has no default: no row could be made", s.From.Name(), c.Name)
		}
	}
	return nil
}

// Row is a line as the table of the list has it: the line of the file, its action, nothing yet for its
// outcome, then the values: texts, bytes, or nil.
func (l *Layout) Row(file string, line list.Line) ([]any, error) {
	fail := func(f string, format string, args ...any) error {
		return &list.Fault{File: file, Line: line.At, Field: f, Msg: fmt.Sprintf(format, args...)}
	}
	row := append(make([]any, 0, 3+len(l.fields)), int64(line.At), nil, nil)
	if l.action >= 0 {
		word := line.Values[l.action]
		if word == nil {
			return nil, fail(l.s.By, "NULL does not say what becomes of the line")
		}
		a, known := l.s.Words[*word]
		if !known {
			return nil, fail(l.s.By, "%q does not say what becomes of the line; expected %s", *word, l.s.words())
		}
		row[1] = string(a)
	}
	for _, f := range l.fields {
		v := line.Values[f.at]
		if v == nil {
			if f.filled {
				return nil, fail(f.name, "NULL, and no row has that in its key")
			}
			row = append(row, nil)
			continue
		}
		if text, ok := strings.CutPrefix(*v, `\x`); ok && f.bytes {
			b, err := hex.DecodeString(text)
			if err != nil {
				return nil, fail(f.name, `after \x, expected bytes in hexadecimal: %v`, err)
			}
			row = append(row, b)
			continue
		}
		if f.bits {
			n, err := strconv.ParseInt(*v, 10, 64)
			if err != nil || n < 0 {
				return nil, fail(f.name, "expected bits as a whole number, not %q", *v)
			}
			row = append(row, n)
			continue
		}
		text, err := l.s.Format.Value(f.typ, *v)
		if err != nil {
			return nil, fail(f.name, "%v", err)
		}
		row = append(row, text)
	}
	return row, nil
}

// words lists what may say what becomes of a line.
func (s *Step) words() string {
	var all []string
	for w := range s.Words {
		all = append(all, w)
	}
	slices.Sort(all)
	return strings.Join(all, ", ")
}
