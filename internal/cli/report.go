package cli

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/kept"
	"jugatum/internal/ledger"
	"jugatum/internal/page"
	"jugatum/internal/plan"
	"jugatum/internal/term"
)

func (a *app) reportCmd() *cli.Command {
	return &cli.Command{
		Name:      "report",
		Usage:     "a run as a page that anybody can read: what it did, what it cost, and that it was right; or several side by side",
		ArgsUsage: "RUN [RUN…]",
		Description: "The page is one file that asks for nothing from elsewhere and runs no script. Of rows that were set aside or\n" +
			"skipped it has the first hundred; all of them go into a .csv file beside it. With several runs, the figures of\n" +
			"each stand side by side, and their plots over each other.\n\n" +
			example("jugatum report --db sqlite:saltmere.db 3", "jugatum report --db sqlite:saltmere.db 3 7 -o before-and-after.html"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "out", Aliases: []string{"o"}, Usage: "write into this file; else into run-RUN.html (or .md, .json) here; - is the standard output"},
			&cli.StringFlag{Name: "format", Value: "html", Usage: "html, md or json"},
			&cli.StringFlag{Name: "plots", Usage: "also draw each plot into a file of its own in this folder"},
			&cli.StringFlag{Name: "as", Value: "svg", Usage: "with --plots: svg or png"},
			trustFlag(),
		},
		Action: a.report,
	}
}

// sampled is how many rows of each step are shown before and after.
const sampled = 5

func (a *app) report(ctx context.Context, c *cli.Command) error {
	ids, err := runNumbers(c)
	if err != nil {
		return err
	}
	format := c.String("format")
	if c.Bool("json") {
		format = "json"
	}
	if !slices.Contains([]string{"html", "md", "json"}, format) {
		return usagef("--format %s: html, md or json", format)
	}
	if as := c.String("as"); as != "svg" && as != "png" {
		return usagef("--as %s: svg or png", as)
	}
	db, err := a.open(ctx, c)
	if err != nil {
		return err
	}
	defer db.Close()
	l := a.ledger(db)
	p := &page.Page{Made: time.Now(), By: buildVersion().version, DB: dbFlag(c, db)}
	for _, id := range ids {
		r, err := l.Load(ctx, id)
		if err == ledger.ErrNone {
			return usagef("%s: %v", db.Name(), err)
		}
		if err != nil {
			return err
		}
		var see func() (page.Seen, error)
		if len(ids) == 1 {
			see = func() (page.Seen, error) { return a.see(ctx, c, db, l, r) }
		}
		x, err := page.Read(ctx, db, l, id, see)
		if err != nil {
			return err
		}
		if x.Doubt, _ = doubt(db, l, r); x.Doubt == "" {
			x.Doubt = doubtConsent(db, l, r)
		}
		if x.Verified != nil {
			x.Doubtful = doubtVerified(db, l, r.ID, *x.Verified)
			x.Verified.Seal = "" // which tells a reader nothing
		}
		p.Runs = append(p.Runs, x)
	}
	to := c.String("out")
	if to == "" && !c.Bool("json") {
		var names []string
		for _, id := range ids {
			names = append(names, strconv.FormatInt(id, 10))
		}
		to = "run-" + strings.Join(names, "-") + "." + format
	}
	if err := a.writeReport(p, to, format); err != nil {
		return err
	}
	if to != "" && to != "-" {
		if err := a.writeRest(ctx, l, p, to); err != nil {
			return err
		}
	}
	if dir := c.String("plots"); dir != "" {
		return a.writePlots(p, dir, c.String("as"))
	}
	return nil
}

// runNumbers reads the arguments.
func runNumbers(c *cli.Command) (ids []int64, err error) {
	if !c.Args().Present() {
		return nil, usagef("report takes the numbers of runs; `jugatum runs` lists them")
	}
	for _, arg := range c.Args().Slice() {
		id, err := strconv.ParseInt(arg, 10, 64)
		if err != nil || id < 1 {
			return nil, usagef("%q is not the number of a run; `jugatum runs` lists them", arg)
		}
		if slices.Contains(ids, id) {
			return nil, usagef("run %d is named twice", id)
		}
		ids = append(ids, id)
	}
	return ids, nil
}

// see looks at the tables of a run. How goes by its record, which somebody else may have written.
func (a *app) see(ctx context.Context, c *cli.Command, db engine.DB, l *ledger.Ledger, r *ledger.Run) (out page.Seen, err error) {
	switch why, changed := doubt(db, l, r); {
	case changed:
		return out, errors.New(why)
	case why != "" && !c.Bool(trustRecord):
		return out, fmt.Errorf("%s; --%s shows them", why, trustRecord)
	}
	if err := l.Coherent(ctx, r); err != nil {
		return out, err
	}
	_, work, err := plan.Prepare(ctx, db, l, r)
	if err != nil {
		return out, err
	}
	if out.Keeping, err = leftForLater(ctx, db, work); err != nil {
		return out, err
	}
	switch {
	case r.UndoOf != 0:
		return out, fmt.Errorf("run %d has them, which this one takes back", r.UndoOf)
	case !r.Options.Keep:
		return out, errors.New("nothing was kept (--keep none)")
	case r.Pruned != nil:
		return out, errors.New("it " + r.Lost())
	}
	if err := a.fit(ctx, c, db, r, work); err != nil {
		return out, err
	}
	out.Looks, err = kept.Looks(ctx, db, work, sampled)
	return out, err
}

// writeReport writes the page itself.
func (a *app) writeReport(p *page.Page, to, format string) error {
	write := map[string]func(w io.Writer) error{"html": p.HTML, "md": p.Markdown, "json": p.JSON}[format]
	if to == "" || to == "-" {
		return write(a.out)
	}
	f, err := create(to)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := write(f); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return fmt.Errorf("writing %s: %w", to, err)
	}
	a.err.Printf("%s is written.\n", term.Clean(to))
	return nil
}

// writeRest writes rows that the page shows the first of into files beside it.
func (a *app) writeRest(ctx context.Context, l *ledger.Ledger, p *page.Page, to string) error {
	for _, r := range p.Runs {
		id := r.Run.Run
		for _, rest := range []struct {
			n     int64
			name  string
			write func(path string) error
		}{
			{r.SetAside, "set-aside", func(path string) error {
				all, err := l.Asides(ctx, id, math.MaxInt32)
				if err != nil {
					return err
				}
				return writeAsides(path, all)
			}},
			{r.SkippedRows(), "skipped", func(path string) error {
				all, err := l.Skipped(ctx, id, math.MaxInt32)
				if err != nil {
					return err
				}
				return writeSkipped(path, all)
			}},
		} {
			if rest.n <= page.Shown {
				continue
			}
			end := filepath.Ext(to)
			path := fmt.Sprintf("%s-%d-%s.csv", strings.TrimSuffix(to, end), id, rest.name)
			if err := rest.write(path); err != nil {
				return err
			}
			a.err.Printf("%s has all %s.\n", term.Clean(path), term.Rows(rest.n))
		}
	}
	return nil
}

// writeSkipped writes rows that an undo skipped: a line for each of their columns.
func writeSkipped(path string, list []ledger.Left) error {
	f, err := create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	w := csv.NewWriter(f)
	w.Write([]string{"step", "table", "key", "column", "as_the_run_left_it", "as_it_was_found"})
	for _, x := range list {
		if x.Gone {
			w.Write([]string{fmt.Sprint(x.Step), cell(x.Table), cell(x.Key), "", "", "the row is gone"})
			continue
		}
		for _, col := range x.Columns() {
			w.Write([]string{fmt.Sprint(x.Step), cell(x.Table), cell(x.Key), cell(col), cell(x.Expected[col]), cell(x.Found[col])})
		}
	}
	w.Flush()
	if err := w.Error(); err != nil {
		return err
	}
	return f.Close()
}

// writePlots draws each plot into a file of its own.
func (a *app) writePlots(p *page.Page, dir, as string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return usagef("the folder %s cannot be made: %v", dir, err)
	}
	n := 0
	err := p.Files(as, func(name string) (io.WriteCloser, error) {
		n++
		return create(filepath.Join(dir, name))
	})
	if err == nil {
		a.err.Printf("%s in %s.\n", term.Counted(int64(n), "plot"), term.Clean(dir))
	}
	return err
}
