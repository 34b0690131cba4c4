package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

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
				}{1, r})
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
		t := o.NewTable("table", ">rows", ">size", "key", ">indexes", ">triggers", "referred to by")
		for _, x := range r.Tables {
			rows := term.Count(x.Rows)
			if x.Estimated {
				rows = "~" + rows
			}
			size := ""
			if x.Bytes >= 0 {
				size = term.Bytes(x.Bytes)
			}
			key := term.Clean(strings.Join(x.Key, ", "))
			if key == "" {
				key = o.Paint(term.Warn, "none")
			}
			t.Row(term.Clean(x.Name), rows, size, key, term.Count(int64(x.Indexes)), term.Count(int64(len(x.Triggers))), term.Clean(strings.Join(x.ReferredBy, ", ")))
		}
		t.Print()
		o.Printf("%s\n\n", o.Paint(term.Faint, "~ estimated by the server's statistics; the others are counted"))
	}
	for _, x := range r.Tables {
		for _, s := range x.Remarks {
			o.Printf("%s %s: %s\n", o.Paint(term.Warn, "!"), o.Paint(term.Bold, term.Clean(x.Name)), term.Clean(s))
		}
	}
	o.Printf("\n")
	t := o.NewTable("setting", "value", "what it means for a change in batches")
	t.Wrap(2, o.Width()-52)
	for _, s := range r.Settings {
		t.Row(s.Name, term.Clean(s.Value), s.Meaning)
	}
	t.Print()
}
