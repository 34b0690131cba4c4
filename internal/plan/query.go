package plan

import (
	"context"
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
	if x.format.Header != nil || x.format.Separator != 0 || x.format.Encoding != "" || x.format.Null != nil || x.format.Guarded {
		return fail(fmt.Errorf("header, separator, null, encoding and guarded are for files: a query has columns and values of its own"))
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
	defer os.Remove(f.Name()) // where a file that is open cannot be removed
	defer f.Close()
	os.Remove(f.Name()) // so that nothing of it stays, however we end
	var out *list.Writer
	lines := int64(0)
	var names []string
	err = x.p.DB.Texts(ctx, (&change.Query{D: d}).Fragment(text, x.p.Values), func(columns []string) error {
		names = columns
		out, err = list.NewWriter(queryName, f, columns, "")
		return err
	}, func(values []*string) error {
		if lines++; x.told != nil && lines%stretchLines == 0 {
			x.told(x.from.Name(), lines)
		}
		return out.Write(values)
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
