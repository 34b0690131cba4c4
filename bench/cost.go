package main

import (
	"fmt"
	"sort"
)

const costHead = `Time of a run divided by that of the same run by a program that does not measure the log, the locks and the waits of its batches. One worker.

| engine | change | kept values | ratio (median) | least … greatest | wanted |
|---|---|---|---|---|---|
`

// costs times runs in pairs, with and without measuring.
func (b *bench) costs(rounds int) (string, error) {
	text := ""
	for _, s := range shapes(b.engine) {
		if s.job != "" || s.rare || s.sources {
			continue // a fixed cost of little things would be all that is told apart
		}
		if err := b.fresh(); err != nil {
			return "", err
		}
		res, err := b.db.Exec(s.sql)
		if err != nil {
			return "", err
		}
		rows, _ := res.RowsAffected()
		for _, keep := range []string{"none", "values"} {
			var ratios []float64
			for range rounds {
				var elapsed [2]float64
				for i, without := range []bool{false, true} {
					r := result{Keep: keep, Workers: 1, Rows: rows, unmeasured: without}
					if elapsed[i], err = b.batches(s, &r); err != nil {
						return "", err
					}
				}
				ratios = append(ratios, elapsed[0]/elapsed[1])
			}
			sort.Float64s(ratios)
			text += fmt.Sprintf("| %s | %s | %s | %.2f | %.2f … %.2f | ≤ 1.05 |\n", b.engine, s.name, keep, ratios[rounds/2], ratios[0], ratios[rounds-1])
		}
	}
	return text, nil
}
