// Package list reads lists of values from files, line by line: comma-separated values by
// RFC 4180, tab-separated values, and JSON Lines, compressed or not, in UTF-8 or another
// encoding. Memory does not grow with the file. Every fault has its place.
package list

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"jugatum/internal/shape"
)

// Format is how a list is written, as far as its name does not tell.
type Format struct {
	Header    []string // the names of the columns, where the first line does not have them
	Separator rune     // between the fields of a .csv file; 0 is a comma
	Null      *string  // the text that stands for NULL; nil: none does
	Encoding  string   // the name of a character encoding; "" is UTF-8
	Date      string   // how dates are written, as Go's reference date would be: "02.01.2006"; "" as the database reads them
	Timestamp string   // likewise, with the time of day: "02.01.2006 15:04"
	Guarded   bool     `json:",omitempty"` // texts may have an apostrophe before them, which is none of theirs: see Guard
	Decimal   rune     // before the fraction of a number; 0 is a point
	Shape     []Shaped `json:",omitempty"` // what is done to values before anybody looks at them
}

// Shaped is a column whose texts are brought into a form.
type Shaped struct {
	Column string
	Chain  []shape.Spec
}

// MaxLine is the length in bytes of the longest line that is read.
const MaxLine = 16 << 20

// Line is one record of a list. Its values are in the order of the columns, nil is NULL.
type Line struct {
	At     int // the line of the file on which it begins
	Values []*string
}

// Fault is what is wrong with a list, and where.
type Fault struct {
	File   string
	Line   int    // of the file, from 1; 0 if it is none in particular
	Column int    // in bytes, from 1; 0 if only the line is known
	Field  string // the column's name, "" if it is none in particular
	Msg    string
}

func (f *Fault) Error() string {
	place := f.File
	if f.Line > 0 {
		place += fmt.Sprintf(":%d", f.Line)
	}
	if f.Column > 0 {
		place += fmt.Sprintf(":%d", f.Column)
	}
	if f.Field != "" {
		place += ": column " + f.Field
	}
	return place + ": " + f.Msg
}

// Reader reads a list. It is for one goroutine.
type Reader struct {
	Name    string   // of the file, for messages
	Columns []string // the names of its columns

	in    *input
	lines lines
	null  *string
	plain bool // values have no apostrophe before them
	read  int  // lines that line has given, and the empty ones between them, and one

	chains []shape.Chain // by column; nil where no column has any
}

// lines are the records of one kind of file.
type lines interface {
	// next gives the fields of the next record, valid until the next call, and the line of
	// the file on which it begins; io.EOF at the end.
	next() (fields []*string, at int, err error)
}

// Open begins to read a list: its header is read. How it is written the end of the name
// tells: .csv, .tsv or .jsonl, with .gz or .zst after that where it is compressed.
func Open(name string, from io.Reader, f Format) (*Reader, error) {
	plain, packed := strings.ToLower(name), ""
	for _, end := range []string{".gz", ".zst"} {
		if cut, ok := strings.CutSuffix(plain, end); ok {
			plain, packed = cut, end
		}
	}
	csv := strings.HasSuffix(plain, ".csv") || plain == Stdin
	in, err := open(name, from, packed, f.Encoding, csv)
	if err != nil {
		return nil, err
	}
	r := &Reader{Name: name, in: in, null: f.Null, plain: !f.Guarded, read: 1}
	switch {
	case csv:
		r.lines, err = r.csv(f)
	case f.Separator != 0:
		err = &Fault{File: name, Msg: "a separator is for .csv files"}
	case strings.HasSuffix(plain, ".tsv"):
		r.lines, err = r.tsv(f)
	case strings.HasSuffix(plain, ".jsonl"):
		r.lines, err = r.json(f)
	default:
		err = &Fault{File: name, Msg: "expected a name that ends in .csv, .tsv or .jsonl, with .gz or .zst after that if it is compressed"}
	}
	if err == nil {
		err = r.shape(f.Shape)
	}
	if err != nil {
		r.Close()
		return nil, err
	}
	return r, nil
}

// shape makes the transforms of the columns that have some.
func (r *Reader) shape(of []Shaped) (err error) {
	for _, s := range of {
		at := slices.Index(r.Columns, s.Column)
		if at < 0 {
			return &Fault{File: r.Name, Msg: fmt.Sprintf("shape: there is no column %q; it has %s", s.Column, strings.Join(r.Columns, ", "))}
		}
		if r.chains == nil {
			r.chains = make([]shape.Chain, len(r.Columns))
		}
		if r.chains[at], err = shape.Made(s.Chain); err != nil {
			return err
		}
	}
	return nil
}

// None is a list without a line.
func None(name string, columns []string) (*Reader, error) {
	in, err := open(name, strings.NewReader(""), "", "", false)
	return &Reader{Name: name, Columns: columns, in: in, lines: noLines{}, read: 1}, err
}

type noLines struct{}

func (noLines) next() ([]*string, int, error) { return nil, 0, io.EOF }

// Stdin stands for the standard input, in which comma-separated values are expected.
const Stdin = "-"

// Close ends what decompresses. The file itself is the caller's.
func (r *Reader) Close() { r.in.close() }

// Sum is the SHA-256 of the file as it is stored, in hexadecimal, and its length in bytes;
// of what has been read so far.
func (r *Reader) Sum() (digest string, bytes int64) { return r.in.sum() }

// Next gives the next line, io.EOF after the last.
func (r *Reader) Next() (Line, error) {
	fields, at, err := r.lines.next()
	if err != nil {
		return Line{}, err
	}
	out := Line{At: at, Values: make([]*string, len(fields))}
	for i, f := range fields {
		fail := func(msg string) (Line, error) {
			return Line{}, &Fault{File: r.Name, Line: at, Field: r.Columns[i], Msg: msg}
		}
		switch {
		case f == nil:
		case strings.IndexByte(*f, 0) >= 0:
			return fail(nul)
		case r.null != nil && *f == *r.null:
		case r.plain:
			out.Values[i] = f
		default:
			v := Unguard(*f)
			out.Values[i] = &v
		}
		if r.chains == nil || r.chains[i] == nil {
			continue
		}
		var text []byte
		if v := out.Values[i]; v != nil {
			text = []byte(*v)
		}
		text, err := r.chains[i].Apply(text)
		if err != nil {
			return fail(err.Error())
		}
		if out.Values[i] = nil; text != nil {
			v := string(text)
			if strings.IndexByte(v, 0) >= 0 {
				return fail(nul)
			}
			out.Values[i] = &v
		}
	}
	return out, nil
}

// named checks the names of the columns.
func (r *Reader) named(names []string, at int) error {
	seen := map[string]int{}
	for i, name := range names {
		switch before, twice := seen[name]; {
		case name == "":
			return &Fault{File: r.Name, Line: at, Msg: fmt.Sprintf("column %d has no name", i+1)}
		case twice:
			return &Fault{File: r.Name, Line: at, Msg: fmt.Sprintf("columns %d and %d are both called %q", before, i+1, name)}
		}
		seen[name] = i + 1
	}
	r.Columns = names
	return nil
}

// headed takes the names from the format, or else from the first line.
func (r *Reader) headed(f Format, first func() ([]string, int, error)) error {
	if f.Header != nil {
		return r.named(f.Header, 0)
	}
	names, at, err := first()
	if err == io.EOF {
		return &Fault{File: r.Name, Msg: "the file is empty: expected a line with the names of the columns"}
	}
	if err != nil {
		return err
	}
	return r.named(names, at)
}

// counted refuses a line of another number of fields than there are columns.
func (r *Reader) counted(n, at int) error {
	if n == len(r.Columns) {
		return nil
	}
	return &Fault{File: r.Name, Line: at, Msg: fmt.Sprintf("expected %d fields (%s), this line has %d", len(r.Columns), strings.Join(r.Columns, ", "), n)}
}
