package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/plan"
	"jugatum/internal/term"
)

// jobFlags are those that say what is to be done.
func jobFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "sql", Usage: "the job: one UPDATE or DELETE", TakesFile: false},
		&cli.StringSliceFlag{Name: "param", Usage: "a parameter, NAME=VALUE; beside --sql also NAME:TYPE=VALUE"},
		&cli.StringFlag{Name: "params", Usage: "a `FILE` of parameters: NAME = VALUE, in TOML; --param overrides it"},
		&cli.StringFlag{Name: "method", Usage: "sweep (the table in key order, in batches), roster (the keys listed first, then that list in batches) or single (one statement); left out, the cheaper of the first two"},
	}
}

// withPlan opens the database, makes the plan of the job that the arguments name, and does something
// with both.
func (a *app) withPlan(ctx context.Context, c *cli.Command, do func(db engine.DB, p *plan.Plan) error) error {
	db, err := a.open(ctx, c)
	if err != nil {
		return err
	}
	defer db.Close()
	p, err := a.plan(ctx, c, db)
	if err != nil {
		return err
	}
	defer p.Close()
	return do(db, p)
}

// load reads the job that a command's arguments name.
func (a *app) load(c *cli.Command) (*job.Job, error) {
	sql := c.String("sql")
	switch {
	case sql != "" && c.Args().Present():
		return nil, usagef("a job file and --sql cannot both be given")
	case sql != "":
		return job.FromSQL(sql), nil
	}
	path, err := oneArg(c, "a job file (or --sql with one statement)")
	if err != nil {
		return nil, err
	}
	return parseJob(path)
}

// parseJob reads a job's file, and those of the jobs that it includes.
func parseJob(path string) (*job.Job, error) {
	text, err := readJob(path)
	if err != nil {
		return nil, usagef("the job file %s cannot be read: %v", path, err)
	}
	text, err = job.Bundle(path, text, func(file string) ([]byte, error) { return readJob(filepath.Join(filepath.Dir(path), file)) })
	if err != nil {
		return nil, err
	}
	return job.Parse(path, text)
}

// plan reads the job and its parameters and turns its steps into changes.
func (a *app) plan(ctx context.Context, c *cli.Command, db engine.DB) (*plan.Plan, error) {
	j, err := a.load(c)
	if err != nil {
		return nil, err
	}
	given, err := params(c.StringSlice("param"))
	if err != nil {
		return nil, err
	}
	if path := c.String("params"); path != "" {
		text, err := readJob(path)
		if err != nil {
			return nil, usagef("the file of parameters %s cannot be read: %v", path, err)
		}
		more, err := job.ParseParams(path, text)
		if err != nil {
			return nil, err
		}
		for name, value := range more {
			if _, there := given[name]; !there {
				given[name] = value
			}
		}
	}
	values, missing, err := j.Values(given)
	if err != nil {
		return nil, usagef("%v", err)
	}
	for _, p := range missing {
		if !a.keyboard.TTY {
			return nil, usagef("parameter %s is missing; give --param %s=… (%s)", p.Name, p.Name, p.Type)
		}
		for {
			question := p.Ask
			if question == "" {
				question = p.Name
			}
			text, err := a.keyboard.Ask(ctx, a.err, question+" ("+string(p.Type)+"):")
			if err != nil {
				return nil, usagef("parameter %s is missing", p.Name)
			}
			if values[p.Name], err = job.ParseValue(p.Type, text); err == nil {
				break
			}
			a.err.Printf("%v\n", err)
		}
	}
	method := c.String("method")
	if err := plan.CheckMethod(method); err != nil {
		return nil, &usageError{err}
	}
	if plan.HasLists(j) { // which are written to the database
		if err := plan.MayWrite(ctx, db, c.StringSlice("despite")); err != nil {
			return nil, err
		}
	}
	live := a.err.NewLive()
	defer live.Clear()
	ctx, stop := leaving(ctx)
	defer stop()
	p, err := plan.New(ctx, db, j, values, method, func(file string, lines int64) {
		text := fmt.Sprintf("reading %s: %s lines", term.Clean(file), term.Count(lines))
		live.Show(func(int) []string { return []string{text} }, func() string { return text }, false)
	})
	return p, a.signalled(ctx, err)
}

func params(list []string) (map[string]string, error) {
	out := map[string]string{}
	for _, s := range list {
		name, value, ok := strings.Cut(s, "=")
		if !ok || name == "" {
			return nil, usagef("--param %s: write NAME=VALUE", s)
		}
		if _, twice := out[name]; twice {
			return nil, usagef("--param %s is given twice", name)
		}
		out[name] = value
	}
	return out, nil
}

// json writes one document.
func (a *app) json(v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	if err := e.Encode(v); err != nil {
		return err
	}
	text := b.Bytes()
	if a.out.TTY {
		text = term.CleanJSON(text)
	}
	_, err := a.out.Write(text)
	return err
}

// planFile plans a job file that has no parameters.
func planFile(ctx context.Context, db engine.DB, path string) (*plan.Plan, error) {
	j, err := parseJob(path)
	if err != nil {
		return nil, err
	}
	return plan.New(ctx, db, j, nil, "", nil)
}
