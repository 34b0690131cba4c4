package list

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
)

// separated are the records of comma-separated values.
type separated struct {
	r   *Reader
	csv *csv.Reader
	out []*string
}

func (r *Reader) csv(f Format) (lines, error) {
	s := &separated{r: r, csv: csv.NewReader(r.in.Reader)}
	s.csv.FieldsPerRecord = -1 // counted here, with the names
	if f.Separator != 0 {
		s.csv.Comma = f.Separator
		if f.Separator == '"' || f.Separator == '\r' || f.Separator == '\n' {
			return nil, &Fault{File: r.Name, Msg: fmt.Sprintf("%q cannot part fields", f.Separator)}
		}
	}
	return s, r.headed(f, s.record)
}

// record reads the next one.
func (s *separated) record() ([]string, int, error) {
	s.r.in.mark()
	fields, err := s.csv.Read()
	var pe *csv.ParseError
	switch {
	case err == io.EOF:
		return nil, 0, err
	case errors.As(err, &pe):
		var f *Fault
		if errors.As(pe.Err, &f) {
			return nil, 0, f
		}
		return nil, 0, &Fault{File: s.r.Name, Line: pe.Line, Column: pe.Column, Msg: s.wrong(pe)}
	case err != nil:
		return nil, 0, s.r.in.fault(err)
	}
	at, _ := s.csv.FieldPos(0)
	return fields, at, nil
}

// wrong words what is wrong with a record.
func (s *separated) wrong(pe *csv.ParseError) string {
	switch {
	case errors.Is(pe.Err, csv.ErrBareQuote):
		return `a quote within a field that is not quoted; write "a ""quoted"" word"`
	case errors.Is(pe.Err, csv.ErrQuote) && pe.StartLine != pe.Line:
		return fmt.Sprintf("a quoted field is not closed, or text follows its closing quote; the line begins on line %d", pe.StartLine)
	case errors.Is(pe.Err, csv.ErrQuote):
		return "a quoted field is not closed, or text follows its closing quote"
	}
	return pe.Err.Error()
}

func (s *separated) next() ([]*string, int, error) {
	fields, at, err := s.record()
	if err != nil {
		return nil, 0, err
	}
	if err := s.r.counted(len(fields), at); err != nil {
		return nil, 0, err
	}
	s.out = s.out[:0]
	for i, text := range fields {
		fields[i] = strings.ReplaceAll(text, held, "\r")
		s.out = append(s.out, &fields[i])
	}
	return s.out, at, nil
}

// tabbed are the lines of tab-separated values, in which nothing is quoted.
type tabbed struct {
	r   *Reader
	out []*string
}

func (r *Reader) tsv(f Format) (lines, error) {
	t := &tabbed{r: r}
	return t, r.headed(f, t.record)
}

func (t *tabbed) record() ([]string, int, error) {
	text, at, err := t.r.line()
	if err != nil {
		return nil, 0, err
	}
	return strings.Split(text, "\t"), at, nil
}

func (t *tabbed) next() ([]*string, int, error) {
	fields, at, err := t.record()
	if err != nil {
		return nil, 0, err
	}
	if err := t.r.counted(len(fields), at); err != nil {
		return nil, 0, err
	}
	t.out = t.out[:0]
	for i := range fields {
		t.out = append(t.out, &fields[i])
	}
	return t.out, at, nil
}

// line reads the next line that is not empty, without its end.
func (r *Reader) line() (string, int, error) {
	for {
		r.in.mark()
		at := r.read
		text, err := r.in.ReadString('\n')
		if text == "" || err != nil && err != io.EOF {
			if err == io.EOF {
				return "", 0, err
			}
			return "", 0, r.in.fault(err)
		}
		r.read++
		if text = strings.TrimSuffix(strings.TrimSuffix(text, "\n"), "\r"); text != "" {
			return text, at, nil
		}
	}
}
