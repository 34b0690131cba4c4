package main

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"math"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
)

const trialHead = `What a trial estimates for each way, divided by what the run of that way then takes (the program's own time), and how the way that it recommends is to the cheapest of those carried out.

| engine | change | way | estimated | took (median) | estimated ÷ took | |
|---|---|---|---|---|---|---|
`

// Marks for trials: an estimate is within a quarter of the run, and the way recommended within a
// tenth of the best.
const (
	trialWithin = 0.25
	trialBest   = 1.10
)

// onCopy is whether trials are made on a copy of the table.
var onCopy bool

// triedWay is one way as the trial tells it.
type triedWay struct {
	Method    string
	Workers   int
	Keep      bool
	Yardstick bool
	Seconds   float64
	Failed    string
	Name      string
}

// trials holds what trials estimate against what runs take.
func (b *bench) trials(rounds int) (string, error) {
	text := ""
	for _, s := range append(shapes(b.engine), shape{name: "1 in 2 rows deleted", sql: "DELETE FROM visit WHERE berth < 499"}) {
		if s.refers || !strings.Contains(s.name, wanted) || wanted == "" && s.name != "every row computed" && s.name != "1 in 8 rows, text replaced" && s.name != "1 in 2 rows deleted" {
			continue
		}
		b.sources, b.refers = s.sources, s.refers
		if err := b.fresh(); err != nil {
			return "", err
		}
		res, err := b.once(s.sql, sql.LevelDefault)
		if err != nil {
			return "", err
		}
		rows, _ := res.RowsAffected()
		if err := b.fresh(); err != nil {
			return "", err
		}
		args := []string{"trial", "--json", "--db", b.url}
		if onCopy {
			args = append(args, "--copy")
		}
		if s.job == "" {
			args = append(args, "--sql", s.sql)
		} else {
			path := filepath.Join(filepath.Dir(b.bin), "job.toml")
			if err := os.WriteFile(path, []byte(s.job), 0o644); err != nil {
				return "", err
			}
			args = append(args, path)
		}
		cmd := exec.Command(b.bin, args...)
		var said strings.Builder
		cmd.Stderr = &said
		out, err := cmd.Output()
		if err != nil {
			return "", fmt.Errorf("trial: %w: %s", err, said.String())
		}
		var told struct {
			Steps []struct {
				Ways []triedWay
				Run  string
			}
		}
		if err := json.Unmarshal(out, &told); err != nil {
			return "", err
		}
		best, advised := math.Inf(1), math.NaN()
		for _, w := range told.Steps[0].Ways {
			if w.Failed != "" || w.Yardstick || w.Workers > 2 {
				continue
			}
			r := result{Keep: "values", Workers: w.Workers, Rows: rows, method: w.Method}
			if !w.Keep {
				r.Keep = "none"
			}
			var took []float64
			for range rounds {
				seconds, err := b.batches(s, &r)
				if err != nil {
					return "", err
				}
				took = append(took, seconds)
			}
			sort.Float64s(took)
			t := took[rounds/2]
			ratio := w.Seconds / t
			mark := ""
			if math.Abs(ratio-1) > trialWithin {
				mark = "missed"
			}
			text += fmt.Sprintf("| %s | %s | %s | %.2f s | %.2f s | %.2f | %s |\n", b.engine, s.name, w.Name, w.Seconds, t, ratio, mark)
			if w.Keep && w.Method != "single" {
				best = min(best, t)
				if w.options() == told.Steps[0].Run {
					advised = t
				}
			}
		}
		mark := ""
		if !(advised/best <= trialBest) {
			mark = "missed"
		}
		text += fmt.Sprintf("| %s | %s | recommended: %s | | | %.2f of the best | %s |\n", b.engine, s.name, told.Steps[0].Run, advised/best, mark)
	}
	return text, nil
}

// options are those of run that choose the way.
func (w triedWay) options() string {
	text := "--method " + w.Method
	if w.Workers > 1 {
		text += fmt.Sprintf(" --workers %d", w.Workers)
	}
	return text
}
