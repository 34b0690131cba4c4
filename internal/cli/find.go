package cli

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/pelletier/go-toml/v2"
	"github.com/urfave/cli/v3"

	"jugatum/internal/find"
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
			if err != nil {
				return usagef("%v", err)
			}
			if path := c.String("write"); path != "" {
				if err := a.writeJob(path, r, c.String("becomes"), dbFlag(c, db)); err != nil {
					return err
				}
			}
			if c.Bool("json") {
				return a.json(struct {
					Schema int `json:"schema"`
					*find.Result
				}{1, r})
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
				differs = o.Paint(term.Good, "not at all")
			}
			for _, x := range k.Examples {
				t.Row("  "+term.Fit(form, 28), differs, count, term.Fit(term.Clean(x.Key), 14), o.Marked(x.Before, x.Match, x.After, width))
				form, differs, count = "", "", ""
			}
		}
		t.Print()
	}
}

// writeJob writes a job that replaces what was found, one step a column.
func (a *app) writeJob(path string, r *find.Result, becomes, dbFlag string) error {
	quote := func(s string) string {
		b, err := toml.Marshal(map[string]string{"k": s})
		if err != nil {
			return fmt.Sprintf("%q", s)
		}
		return strings.TrimSpace(strings.TrimPrefix(string(b), "k = "))
	}
	var b strings.Builder
	fmt.Fprintf(&b, "# Found on %s in %s.\ntitle = %s\n", time.Now().Format("2006-01-02 15:04"), r.Database, quote("Replace "+r.Text))
	steps := 0
	for _, c := range r.Columns {
		if c.Exact == 0 || c.Parts || c.Bytes {
			continue
		}
		steps++
		name := c.Table + "." + c.Column
		if c.Schema != "" && c.Schema != "public" {
			name = c.Schema + "." + name
		}
		var forms []string
		for _, k := range c.Kinds {
			forms = append(forms, strings.TrimSuffix(fmt.Sprintf("%s %s (%s)", term.Count(k.Hits), k.Form, k.Differs), " ()"))
		}
		fmt.Fprintf(&b, "\n[[step]]  # found: %s\nname = %s\nin = [%s]\nreplace = { find = %s, with = %s }\nexpect = %d\n", term.Clean(strings.Join(forms, "; ")), quote(name), quote(name), quote(r.Text), quote(becomes), c.ExactRows)
	}
	if steps == 0 {
		return refusef("nothing was found that a replacement would cover, so no job was written")
	}
	if err := os.WriteFile(path, []byte(b.String()), 0o644); err != nil {
		return fmt.Errorf("the job cannot be written: %w", err)
	}
	a.err.Printf("%s written, %d steps; `jugatum preview%s %s` shows what it would do\n", path, steps, dbFlag, path)
	return nil
}
