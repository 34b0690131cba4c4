package main

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"os/exec"
	"sort"
	"strings"
)

const undoHead = `Time of an undo divided by that of its run, one worker, and the hold's 99th percentile of each (target 200 ms).

| engine | change | ratio (median) | least … greatest | wanted | hold of the run, of the undo |
|---|---|---|---|---|---|
`

// undoWanted is how many times its run an undo may take.
const undoWanted = 2.0

// undos times runs and what takes them back.
func (b *bench) undos(rounds int) (string, error) {
	text := ""
	for _, s := range shapes(b.engine) {
		if s.rare || !strings.Contains(s.name, wanted) {
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
		r := result{Keep: "values", Workers: 1}
		r.Rows, _ = res.RowsAffected()
		var ratios []float64
		hold := 0.0
		for range rounds {
			run, err := b.batches(s, &r)
			if err != nil {
				return "", err
			}
			out, err := exec.Command(b.bin, "undo", "1", "--json", "--db", b.url).Output()
			if err != nil {
				return "", fmt.Errorf("undo: %w", err)
			}
			var sum struct {
				Elapsed float64 `json:"elapsed_s"`
				Holds   struct {
					P99 float64 `json:"p99_ms"`
				}
			}
			if err := json.Unmarshal(out, &sum); err != nil {
				return "", err
			}
			ratios = append(ratios, sum.Elapsed/run)
			hold = max(hold, sum.Holds.P99)
		}
		sort.Float64s(ratios)
		text += fmt.Sprintf("| %s | %s | %.2f | %.2f … %.2f | ≤ %.2f | %.0f, %.0f ms |\n", b.engine, s.name, ratios[rounds/2], ratios[0], ratios[rounds-1], undoWanted, r.HoldP99, hold)
	}
	return text, nil
}
