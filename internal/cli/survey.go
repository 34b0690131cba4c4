package cli

import (
	"context"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"jugatum/internal/report"
	"jugatum/internal/survey"
	"jugatum/internal/term"
)

func (a *app) survey() *cli.Command {
	return &cli.Command{
		Name:        "survey",
		Usage:       "the tables, what makes each awkward to change in batches, and the settings that matter",
		Description: example("jugatum survey --db sqlite:saltmere.db"),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usagef("survey takes no arguments")
			}
			db, err := a.open(ctx, c)
			if err != nil {
				return err
			}
			defer db.Close()
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
		t := o.NewTable(header...)
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
