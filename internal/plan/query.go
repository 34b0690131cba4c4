package plan

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"os"

	"jugatum/internal/change"
	"jugatum/internal/list"
	"jugatum/internal/sqltext"
)

// query asks for the lines of a list. What comes back is written to a file first, since not every
// database can be written to while it is read, and then read as any list is.
func (x *loading) query(ctx context.Context) error {
	d, field := x.p.DB.Dialect(), x.kind.Kind()
	fail := func(err error) error {
		return &change.FieldError{Step: x.of.Name, Field: field, Err: err}
	}
	if err := sqltext.Source(d, x.from.SQL); err != nil {
		return fail(err)
	}
	if x.format.Header != nil || x.format.Separator != 0 || x.format.Encoding != "" || x.format.Null != nil {
		return fail(fmt.Errorf("header, separator, null and encoding are for files: a query has columns and values of its own"))
	}
	tokens, err := sqltext.Lex(d, x.from.SQL)
	if err != nil {
		return fail(err)
	}
	for len(tokens) > 0 && tokens[len(tokens)-1].Punct(";") {
		tokens = tokens[:len(tokens)-1]
	}
	text := sqltext.Fragment{Tokens: tokens}
	for _, name := range text.Params() {
		if _, ok := x.p.Values[name]; !ok {
			return fail(fmt.Errorf("parameter :%s is not declared; add [param.%s] to the job, or give it with --param %s=…", name, name, name))
		}
	}
	f, err := os.CreateTemp("", "jugatum-*.jsonl")
	if err != nil {
		return fmt.Errorf("a file for what the query gives: %w", err)
	}
	defer os.Remove(f.Name())
	defer f.Close()
	out := bufio.NewWriterSize(f, 1<<16)
	lines := int64(0)
	var names []string
	err = x.p.DB.Texts(ctx, (&change.Query{D: d}).Fragment(text, x.p.Values), func(columns []string) error {
		names = columns
		return nil
	}, func(values []*string) error {
		if lines++; x.told != nil && lines%stretchLines == 0 {
			x.told(x.from.Name(), lines)
		}
		return writeLine(out, names, values)
	})
	if err != nil {
		return x.p.badSQL(x.of.Name, field, err)
	}
	if err := out.Flush(); err != nil {
		return fmt.Errorf("writing what the query gives: %w", err)
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if lines == 0 {
		if x.in, err = list.None(queryName, names); err != nil {
			return err
		}
	} else if x.in, err = list.Open(queryName, f, x.format); err != nil {
		return err
	}
	return x.read(ctx, queryName, "a query")
}

// queryName is what places in the lines of a query begin with; its end says how they are read.
const queryName = "query.jsonl"

// writeLine writes a line as a JSON object.
func writeLine(out *bufio.Writer, names []string, values []*string) error {
	for i, v := range values {
		out.WriteByte("{,"[min(i, 1)])
		for n, part := range []any{names[i], v} {
			if n > 0 {
				out.WriteByte(':')
			}
			text, err := json.Marshal(part)
			if err != nil {
				return err
			}
			out.Write(text)
		}
	}
	_, err := out.WriteString("}\n")
	return err
}
