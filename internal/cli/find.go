package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/find"
	"jugatum/internal/job"
	"jugatum/internal/plan"
	"jugatum/internal/preview"
	"jugatum/internal/report"
	"jugatum/internal/term"
)

func (a *app) find() *cli.Command {
	return &cli.Command{
		Name:      "find",
		Usage:     "where a text occurs in any table and column, in which form, how often",
		ArgsUsage: "TEXT",
		Description: "Every column that can hold text is looked through, each table in one pass that only reads. Found is also what is nearly the text: in another case, in longer words, with another scheme, escaped or encoded.\n" +
			"--becomes and --write make a job of it that replaces the text in the columns that hold it.\n\n" +
			example("jugatum find --db sqlite:saltmere.db http://charts.saltmere.test"),
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "in", Usage: "only these columns, as 'TABLE.COLUMN' with * for any ('notice.*')"},
			&cli.StringSliceFlag{Name: "except", Usage: "not these columns"},
			&cli.BoolFlag{Name: "binary", Usage: "also in columns of bytes"},
			&cli.BoolFlag{Name: "base64", Usage: "also in what is encoded in base64, in the case that is given"},
			&cli.Int64Flag{Name: "sample", Usage: "look at about so many rows of a larger table only"},
			&cli.StringFlag{Name: "becomes", Usage: "the text that is to take its place"},
			&cli.StringFlag{Name: "write", Usage: "write a job that does so into this file", TakesFile: true},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			text, err := oneArg(c, "the text to find")
			if err != nil {
				return err
			}
			if text == "" {
				return usagef("the text to find is empty")
			}
			if c.IsSet("becomes") != c.IsSet("write") {
				return usagef("--becomes TEXT and --write FILE go together")
			}
			if c.IsSet("becomes") && c.String("becomes") == text {
				return usagef("--becomes is the text itself: nothing would change")
			}
			if c.IsSet("sample") && (c.Int64("sample") < 1 || c.IsSet("write")) {
				return usagef("--sample wants a number of rows from 1 up, and does not go with --write, whose counts would be wrong")
			}
			if path := c.String("write"); path != "" {
				if _, err := os.Stat(path); err == nil {
					return usagef("%s is there already; choose another name or remove it", path)
				}
			}
			db, err := a.open(ctx, c)
			if err != nil {
				return err
			}
			defer db.Close()
			live := a.err.NewLive()
			begun := time.Now()
			r, err := find.Search(ctx, db, text, find.Options{In: c.StringSlice("in"), Except: c.StringSlice("except"), Sample: c.Int64("sample"), Binary: c.Bool("binary"), Base64: c.Bool("base64"),
				Progress: func(table string, n, of int, hits int64) {
					live.Show(func(int) []string { return []string{findLine(table, n, of, hits)} }, func() string { return findLine(table, n, of, hits) }, false)
				}})
			live.Clear()
			var pe *find.PatternError
			switch {
			case errors.As(err, &pe):
				return usagef("%v", err)
			case err != nil:
				return err
			}
			if path := c.String("write"); path != "" {
				if err := a.writeJob(ctx, db, path, r, c.String("becomes"), dbFlag(c, db)); err != nil {
					return err
				}
			}
			if c.Bool("json") {
				return a.json(struct {
					Schema int `json:"schema"`
					*find.Result
				}{report.Schema, r})
			}
			a.printFound(r, time.Since(begun))
			return nil
		},
	}
}

func findLine(table string, n, of int, hits int64) string {
	return fmt.Sprintf("looking through %s, table %d of %d: %s found", term.Clean(table), n, of, term.Count(hits))
}

// printFound lists where a text occurs.
func (a *app) printFound(r *find.Result, took time.Duration) {
	o := a.out
	hits, rows := int64(0), int64(0)
	for _, c := range r.Columns {
		hits, rows = hits+c.Hits, rows+c.Rows
	}
	o.Printf("%s: %s occurrences in %s values of %d columns; %d columns of %d tables looked through in %s\n", o.Paint(term.Bold, term.Clean(r.Text)), o.Paint(term.Bold, term.Count(hits)), term.Count(rows), len(r.Columns), r.Looked, r.Tables, term.Duration(took))
	if len(r.Sampled) > 0 {
		o.Printf("%s\n", o.Paint(term.Warn, "only a part of "+term.Clean(strings.Join(r.Sampled, ", "))+" was looked at; its counts are of that part"))
	}
	for _, c := range r.Columns {
		table := c.Table
		if c.Schema != "" && c.Schema != "public" {
			table = c.Schema + "." + table
		}
		o.Printf("\n%s  %s in %s rows", o.Paint(term.Bold, term.Clean(table+"."+c.Column)), term.Count(c.Hits), term.Count(c.Rows))
		if c.Parts {
			o.Printf("  %s", o.Paint(term.Warn, "an array or an enumeration: found, but not to be replaced by a job"))
		}
		if c.Bytes {
			o.Printf("  %s", o.Paint(term.Warn, "bytes: found, but not to be replaced by a job"))
		}
		o.Printf("\n")
		t := o.NewTable("  form", "differs", ">found", "key", "for example")
		width := max(o.Width()-78, 30)
		for _, k := range c.Kinds {
			form, differs, count := k.Form, k.Differs, term.Count(k.Hits)
			if differs == "" {
				differs = o.Paint(term.Good, "exact")
			}
			for _, x := range k.Examples {
				t.Row("  "+o.Cut(form, 28), differs, count, o.Cut(term.Clean(x.Key), 14), o.Marked(x.Before, x.Match, x.After, width))
				form, differs, count = "", "", ""
			}
		}
		t.Print()
	}
}

// writeJob writes a job that replaces what was found, one step a table, with the
// rows that its own preview counts. What no job can change is left out and named.
func (a *app) writeJob(ctx context.Context, db engine.DB, path string, r *find.Result, becomes, dbFlag string) error {
	d, err := find.NewDraft(ctx, db, r, becomes)
	if err != nil {
		return err
	}
	if len(d.Steps) == 0 {
		return refusef("nothing was found that a replacement would cover, so no job was written")
	}
	j, err := job.Parse(path, []byte(d.String()))
	if err != nil {
		return err
	}
	p, err := plan.New(ctx, db, j, nil, "", nil)
	if err != nil {
		return err
	}
	aside := int64(0)
	for _, ch := range p.Changes {
		look, err := preview.Look(ctx, db, ch, "", 0)
		if err != nil {
			return p.Fault(err)
		}
		step := &d.Steps[ch.Of]
		step.Expect, step.Counted = step.Expect+look.Changes, true
		if look.Replacement != nil {
			step.Damaged += look.Replacement.Damaged
		}
		aside += step.Damaged
	}
	f, err := create(path)
	if err != nil {
		return err
	}
	_, err = f.WriteString(d.String())
	if err = errors.Join(err, f.Close()); err != nil {
		return fmt.Errorf("the job cannot be written: %w", err)
	}
	for _, x := range d.Left {
		a.err.Printf("  %s left out: %s\n", a.err.Paint(term.Warn, "warning"), term.Clean(x))
	}
	more := ""
	if aside > 0 {
		more = fmt.Sprintf("; run it with --set-aside %d, for rows whose values look structured and are damaged", aside)
	}
	a.err.Printf("%s written, %d steps; `jugatum preview%s %s` shows what it would do%s\n", path, len(d.Steps), dbFlag, path, more)
	return nil
}
