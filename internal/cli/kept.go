package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
	"jugatum/internal/kept"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
	"jugatum/internal/report"
	"jugatum/internal/term"
)

func (a *app) keptCmd() *cli.Command {
	return &cli.Command{
		Name:      "kept",
		Usage:     "old and new values that a run has kept: how much room they take, and as lists in files",
		ArgsUsage: "RUN",
		Description: "With --write they go into a file, .csv or .jsonl, a file for each table if there are several, with a job\n" +
			"that puts the old values back from them: also where the ledger is gone. Its preview tells which rows differ.\n\n" +
			example("jugatum kept --db sqlite:saltmere.db 3 --write quay-ids-before.csv"),
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "write", Usage: "write them into this file, and the job that puts them back beside it, with the end .toml"},
			trustFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.withRun(ctx, c, func(db engine.DB, l *ledger.Ledger, r *ledger.Run) error {
				return a.kept(ctx, c, db, l, r)
			})
		},
	}
}

// keptJSON is what is told of one part.
type keptJSON struct {
	Step  string `json:"step"`
	Table string `json:"table"`
	Does  string `json:"does"`
	Rows  int64  `json:"rows"`
	Bytes int64  `json:"bytes"`
	File  string `json:"file,omitempty"`
}

func (a *app) kept(ctx context.Context, c *cli.Command, db engine.DB, l *ledger.Ledger, r *ledger.Run) error {
	switch {
	case r.UndoOf != 0:
		return usagef("run %d takes run %d back, and keeps nothing of its own: `jugatum kept %d`", r.ID, r.UndoOf, r.UndoOf)
	case r.Lost() != "":
		return refusef("run %d %s", r.ID, r.Lost())
	}
	if err := a.believe(ctx, c, db, l, r); err != nil {
		return err
	}
	_, work, err := plan.Prepare(ctx, db, l, r)
	if err != nil {
		return err
	}
	if err := a.fit(ctx, c, db, r, work); err != nil {
		return err
	}
	parts := kept.Parts(ctx, db, work)
	var files []kept.File
	job := ""
	if path := c.String("write"); path != "" {
		if r.Status == ledger.Running {
			return refusef("run %d is at work, or was killed, and keeps more yet: `jugatum stop %d` or `jugatum resume %d` first", r.ID, r.ID, r.ID)
		}
		if files, job, err = a.writeKept(ctx, db, r, parts, path); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		out := struct {
			Schema int        `json:"schema"`
			Run    int64      `json:"run"`
			Kept   []keptJSON `json:"kept"`
			Job    string     `json:"job,omitempty"`
		}{report.Schema, r.ID, []keptJSON{}, job}
		for i, x := range parts {
			one := keptJSON{x.Step, x.Table, x.Does, x.Rows, x.Bytes, ""}
			if files != nil {
				one.File = files[i].Name
			}
			out.Kept = append(out.Kept, one)
		}
		return a.json(out)
	}
	if len(parts) == 0 {
		a.out.Printf("Run %d has kept nothing.\n", r.ID)
		return nil
	}
	t := a.out.NewTable("  step", "table", "", ">rows", ">room", "file")
	for i, x := range parts {
		room, file := "-", ""
		if x.Bytes >= 0 {
			room = term.Bytes(x.Bytes)
		}
		if files != nil {
			file = term.Clean(files[i].Name)
		}
		t.Row("  "+term.Clean(x.Step), term.Clean(x.Table), x.Does, term.Count(x.Rows), room, file)
	}
	t.Print()
	if job != "" {
		a.out.Printf("\n  %s  %s\n", a.out.Paint(term.Accent, "jugatum preview "+term.Clean(job)+dbFlag(c, db)), a.out.Paint(term.Faint, "tells which rows differ from their old values; `run` puts them back"))
	}
	return nil
}

// writeKept writes each part into a file, the first into the one that is named, and beside it the job
// that puts them back. What was begun is removed if it cannot be finished.
func (a *app) writeKept(ctx context.Context, db engine.DB, r *ledger.Run, parts []*kept.Part, path string) (files []kept.File, job string, err error) {
	end := filepath.Ext(path)
	if lower := strings.ToLower(end); lower != ".csv" && lower != ".jsonl" {
		return nil, "", usagef("--write %s: expected a name that ends in .csv or .jsonl", path)
	}
	var made []string
	defer func() {
		if err != nil {
			for _, name := range made {
				os.Remove(name)
			}
		}
	}()
	stem := strings.TrimSuffix(path, end)
	for _, p := range parts {
		if p.Rows == 0 {
			files = append(files, kept.File{Part: p})
			continue
		}
		name := path
		if n := len(made); n > 0 {
			name = fmt.Sprintf("%s-%d%s", stem, n+1, end)
		}
		f, err := create(name)
		if err != nil {
			return nil, "", err
		}
		made = append(made, name)
		x := kept.File{Part: p, Name: filepath.Base(name)}
		if strings.EqualFold(end, ".csv") {
			x.Null, err = p.Null(ctx, db)
		}
		if err == nil {
			err = p.Write(ctx, db, f, name, x.Null)
		}
		if cerr := f.Close(); err == nil {
			err = cerr
		}
		if err != nil {
			return nil, "", err
		}
		files = append(files, x)
	}
	text, err := kept.Job(db.Dialect(), r.ID, r.Title, db.Name(), files)
	if err != nil {
		return nil, "", err
	}
	job = stem + ".toml"
	f, err := create(job)
	if err != nil {
		return nil, "", err
	}
	made = append(made, job)
	if _, err = f.WriteString(text); err == nil {
		err = f.Close()
	}
	return files, job, err
}
