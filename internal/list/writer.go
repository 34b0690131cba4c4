package list

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
)

// Writer writes a list that Open reads back to the very values: as .csv, where a text stands for NULL
// and what a spreadsheet would take for a formula has an apostrophe before it (Format.Guarded), or as
// .jsonl.
type Writer struct {
	columns []string
	null    string
	csv     *csv.Writer // nil for .jsonl
	out     *bufio.Writer
	row     []string
}

// NewWriter begins a list; the end of its name says how it is written. null is the text for NULL in a
// .csv file, which no value may be.
func NewWriter(name string, to io.Writer, columns []string, null string) (*Writer, error) {
	w := &Writer{columns: columns, null: null, out: bufio.NewWriterSize(to, 64<<10)}
	switch lower := strings.ToLower(name); {
	case strings.HasSuffix(lower, ".jsonl"):
		return w, nil
	case !strings.HasSuffix(lower, ".csv"):
		return nil, &Fault{File: name, Msg: "expected a name that ends in .csv or .jsonl"}
	}
	w.csv, w.row = csv.NewWriter(w.out), make([]string, len(columns))
	return w, w.csv.Write(columns)
}

// errNUL is a value that no list holds.
var errNUL = errors.New(nul)

// Write writes a line; nil is NULL.
func (w *Writer) Write(values []*string) error {
	for i, v := range values {
		if v != nil && strings.IndexByte(*v, 0) >= 0 {
			return fmt.Errorf("column %s: %w", w.columns[i], errNUL)
		}
	}
	if w.csv == nil {
		return w.object(values)
	}
	for i, v := range values {
		if w.row[i] = w.null; v != nil {
			w.row[i] = Guard(*v)
		}
	}
	if len(w.row) == 1 && w.row[0] == "" { // which would be an empty line
		w.csv.Flush()
		_, err := w.out.WriteString("\"\"\n")
		return err
	}
	return w.csv.Write(w.row)
}

// object writes a line as a JSON object.
func (w *Writer) object(values []*string) error {
	for i, v := range values {
		w.out.WriteByte("{,"[min(i, 1)])
		name, err := json.Marshal(w.columns[i])
		if err != nil {
			return err
		}
		text, err := json.Marshal(v)
		if err != nil {
			return err
		}
		w.out.Write(name)
		w.out.WriteByte(':')
		w.out.Write(text)
	}
	_, err := w.out.WriteString("}\n")
	return err
}

// Flush writes what is not written yet.
func (w *Writer) Flush() error {
	if w.csv != nil {
		if w.csv.Flush(); w.csv.Error() != nil {
			return w.csv.Error()
		}
	}
	return w.out.Flush()
}

// guarded are the first characters of texts that have an apostrophe before them: those by which a
// spreadsheet tells a formula, and the apostrophe itself.
const guarded = "=+-@\t\r\n'"

// Guard is a value with an apostrophe before it where a spreadsheet would take it for a formula;
// numbers stay as they are.
func Guard(v string) string {
	if v != "" && strings.IndexByte(guarded, v[0]) >= 0 && !number.MatchString(v) {
		return "'" + v
	}
	return v
}

// Unguard is what Guard was given.
func Unguard(v string) string { return strings.TrimPrefix(v, "'") }
