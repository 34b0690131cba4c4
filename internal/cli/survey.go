package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/report"
	"jugatum/internal/survey"
	"jugatum/internal/term"
)

func (a *app) survey() *cli.Command {
	return &cli.Command{
		Name:        "survey",
		Usage:       "the tables, what makes each awkward to change in batches, and the settings that matter",
		ArgsUsage:   "[TABLE…]",
		Description: "With tables named, reads these once and tells of each column in how many rows it is NULL, the empty text, or\nnothing but blanks.\n\n" + example("jugatum survey --db sqlite:saltmere.db", "jugatum survey --db sqlite:saltmere.db visit vessel"),
		Action: func(ctx context.Context, c *cli.Command) error {
			db, err := a.open(ctx, c)
			if err != nil {
				return err
			}
			defer db.Close()
			if c.Args().Present() {
				return a.missing(ctx, c, db)
			}
			r, err := survey.Look(ctx, db)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return a.json(struct {
					Schema int `json:"schema"`
					*survey.Result
				}{report.Schema, r})
			}
			a.printSurvey(r)
			return nil
		},
	}
}

// missing tells of the named tables which values are missing, and how.
func (a *app) missing(ctx context.Context, c *cli.Command, db engine.DB) error {
	names := c.Args().Slice()
	done := a.during("reading " + term.Clean(strings.Join(names, ", ")))
	list, err := survey.Missing(ctx, db, names)
	done()
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return a.json(struct {
			Schema   int             `json:"schema"`
			Database string          `json:"database"`
			Values   []survey.Values `json:"values"`
		}{report.Schema, db.Name(), list})
	}
	o := a.out
	for _, v := range list {
		o.Printf("%s  %s\n\n", o.Paint(term.Bold, term.Clean(v.Table)), o.Paint(term.Faint, term.Rows(v.Rows)))
		t := o.NewTable("column", "type", ">NULL", ">empty", ">only blanks")
		for _, x := range v.Columns {
			cells := []string{term.Clean(x.Name), term.Clean(x.Type), term.Count(x.Null), "", ""}
			if x.NotNull {
				cells[2] = o.Paint(term.Faint, "NOT NULL")
			}
			if x.Text {
				cells[3], cells[4] = term.Count(x.Empty), term.Count(x.Blank)
			}
			t.Row(cells...)
		}
		t.Print()
		o.Printf("\n")
	}
	return nil
}

func (a *app) printSurvey(r *survey.Result) {
	o := a.out
	o.Printf("%s  %s\n\n", o.Paint(term.Bold, r.Database), o.Paint(term.Faint, r.Server))
	if len(r.Tables) == 0 {
		o.Printf("There are no tables.\n\n")
	} else {
		header := []string{"table", ">rows", ">size", "key", ">indexes", ">triggers", "referred to by"}
		sized := r.Tables[0].Bytes >= 0
		if !sized {
			header = slices.Delete(header, 2, 3)
		}
		t := o.NewTable(header...).Yield("indexes", "triggers", "referred to by")
		estimated := false
		for _, x := range r.Tables {
			rows := term.Count(x.Rows)
			if x.Estimated {
				rows = "~" + rows
				estimated = true
			}
			key := term.Clean(strings.Join(x.Key, ", "))
			if key == "" {
				key = o.Paint(term.Warn, "none")
			}
			cells := []string{term.Clean(x.Name), rows, term.Bytes(x.Bytes), key, term.Count(int64(x.Indexes)), term.Count(int64(len(x.Triggers))), term.Clean(strings.Join(x.ReferredBy, ", "))}
			if !sized {
				cells = slices.Delete(cells, 2, 3)
			}
			t.Row(cells...)
		}
		t.Print()
		if estimated {
			o.Printf("%s\n", o.Paint(term.Faint, "~ estimated by the server's statistics; the others are counted"))
		}
		o.Printf("\n")
	}
	remarks := 0
	for _, x := range r.Tables {
		for _, s := range x.Remarks {
			remarks++
			o.Printf("%s %s: %s\n", o.Paint(term.Warn, "!"), o.Paint(term.Bold, term.Clean(x.Name)), term.Clean(s))
		}
	}
	for _, s := range r.Settings {
		if s.Advice != "" {
			remarks++
			o.Printf("%s %s: %s; %s\n", o.Paint(term.Warn, "!"), o.Paint(term.Bold, s.Name), term.Clean(s.Value), term.Clean(s.Advice))
		}
	}
	if remarks > 0 {
		o.Printf("\n")
	}
	t := o.NewTable("setting", "value", "what it means for a change in batches")
	t.Wrap(2, o.Width()-52)
	for _, s := range r.Settings {
		t.Row(s.Name, term.Clean(s.Value), s.Meaning)
	}
	t.Print()
}
