package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/report"
	"jugatum/internal/term"
)

func (a *app) check() *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "read jobs without a database, as an editor or a commit hook would",
		ArgsUsage: "JOB…",
		Description: "Faults are told with file, line and column; status 2 if there are any. What depends on the database (which tables and\n" +
			"columns there are, what is suspicious about a change) `preview` tells.\n\n" +
			example("jugatum check quay-ids.toml", "jugatum check jobs/*.toml"),
		Action: func(_ context.Context, c *cli.Command) error {
			if !c.Args().Present() {
				return usagef("check what? Name job files")
			}
			return a.checkJobs(c)
		},
	}
}

// checkedJSON is what is told of one file.
type checkedJSON struct {
	File    string   `json:"file"`
	Title   string   `json:"title,omitempty"`
	Steps   int      `json:"steps"`
	Faults  []string `json:"faults"`
	Remarks []string `json:"remarks"`
}

func (a *app) checkJobs(c *cli.Command) error {
	var all []checkedJSON
	faults := 0
	for _, path := range c.Args().Slice() {
		x := checkJob(path)
		faults += len(x.Faults)
		all = append(all, x)
	}
	if c.Bool("json") {
		if err := a.json(struct {
			Schema int           `json:"schema"`
			Jobs   []checkedJSON `json:"jobs"`
		}{report.Schema, all}); err != nil {
			return err
		}
	} else {
		for _, x := range all {
			for _, f := range x.Faults {
				a.out.Printf("%s %s\n", a.out.Paint(term.Bad, "fault"), cleanLines(f))
			}
			for _, r := range x.Remarks {
				a.out.Printf("%s %s: %s\n", a.out.Paint(term.Warn, "remark"), term.Clean(x.File), term.Clean(r))
			}
			if len(x.Faults) == 0 {
				title := ""
				if x.Title != "" {
					title = ": " + term.Clean(x.Title)
				}
				a.out.Printf("%s %s%s, %s\n", a.out.Paint(term.Good, "good"), term.Clean(x.File), title, term.Counted(int64(x.Steps), "step"))
			}
		}
	}
	if faults > 0 {
		return usagef("%s in %s", term.Counted(int64(faults), "fault"), term.Counted(int64(len(all)), "file"))
	}
	return nil
}

// checkJob reads one job.
func checkJob(path string) checkedJSON {
	x := checkedJSON{File: path, Faults: []string{}, Remarks: []string{}}
	j, err := parseJob(path)
	if err != nil {
		x.Faults = append(x.Faults, err.Error())
		return x
	}
	x.Title, x.Steps = j.Title, len(j.Steps)
	found := j.Check(engine.Dialects())
	for _, f := range found.Faults {
		x.Faults = append(x.Faults, f.Error())
	}
	x.Remarks = append(x.Remarks, found.Remarks...)
	for _, list := range found.Lists {
		switch info, err := os.Stat(list); {
		case errors.Is(err, os.ErrNotExist):
			x.Remarks = append(x.Remarks, fmt.Sprintf("the list %s is not there yet", list))
		case err != nil:
			x.Faults = append(x.Faults, fmt.Sprintf("%s: the list %s cannot be read: %v", path, list, bare(err)))
		case info.IsDir():
			x.Faults = append(x.Faults, fmt.Sprintf("%s: the list %s is a folder", path, list))
		}
	}
	return x
}

// cleanLines makes a text of several lines harmless.
func cleanLines(s string) string {
	lines := strings.Split(s, "\n")
	for i := range lines {
		lines[i] = term.Clean(lines[i])
	}
	return strings.Join(lines, "\n")
}
