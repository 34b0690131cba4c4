package cli

import (
	"context"
	"strings"

	"github.com/urfave/cli/v3"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/term"
)

func (a *app) newCmd() *cli.Command {
	return &cli.Command{
		Name:      "new",
		Usage:     "write a commented job to begin with",
		ArgsUsage: "KIND",
		Description: "KIND is " + strings.Join(job.Beginnings, ", ") + ". With --table it is filled in for that table, its key and its\n" +
			"columns; its filter finds no row until another one is written. Without --output it is written to standard output.\n\n" +
			example("jugatum new update --db sqlite:saltmere.db --table berth -o rates.toml", "jugatum new replace"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "table", Usage: "the table that the job is for"},
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "write it to `FILE`"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			kind, err := oneArg(c, "a kind of step: "+strings.Join(job.Beginnings, ", "))
			if err != nil {
				return err
			}
			var t *change.Table
			d := engine.Dialects()[0]
			if name := c.String("table"); name != "" {
				db, err := a.open(ctx, c)
				if err != nil {
					return err
				}
				defer db.Close()
				d = db.Dialect()
				schema, table, ok := strings.Cut(name, ".")
				if !ok {
					schema, table = "", name
				}
				if t, err = db.Table(ctx, schema, table); err != nil {
					return err
				}
			}
			text, err := job.Begin(kind, t, d)
			if err != nil {
				return usagef("%v", err)
			}
			to := c.String("output")
			if to == "" {
				if a.out.TTY {
					text = cleanLines(text)
				}
				a.out.Printf("%s", text)
				return nil
			}
			f, err := create(to)
			if err != nil {
				return err
			}
			defer f.Close()
			if _, err := f.WriteString(text); err != nil {
				return err
			}
			if err := f.Close(); err != nil {
				return err
			}
			a.err.Printf("%s is written. `jugatum check %s` reads it without a database, `jugatum preview %s` tells what it would do.\n", term.Clean(to), term.Clean(quoted(to)), term.Clean(quoted(to)))
			return nil
		},
	}
}
