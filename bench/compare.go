package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"
)

// compare times the statement alone and, in the same round, the run in batches
// without and with kept values, by one worker and by two.
func (b *bench) compare(s shape, rounds int) ([]result, error) {
	var list []result
	for _, workers := range []int{1, 2} {
		if workers > 1 && (b.engine == "sqlite" || s.rare || s.refers) {
			continue // one writer at a time; too little to share; an order that is to be kept
		}
		list = append(list, result{Engine: b.engine, Shape: s.name, Keep: "none", Workers: workers, Wanted: s.bare}, result{Engine: b.engine, Shape: s.name, Keep: "values", Workers: workers, Wanted: s.kept})
		if workers > 1 {
			list[2].Wanted, list[3].Wanted = twoWorkers, twoWorkers*s.kept
			if s.job != "" {
				list[2].Wanted = twoWorkers * s.bare
			}
			// What two sessions can gain here at all: processors and the log are shared.
			list = append(list, result{Engine: b.engine, Shape: s.name, Keep: "plain", Workers: workers, plain: true})
		}
	}
	b.sources, b.refers = s.sources, s.refers
	ratios, singles := make([][]float64, len(list)), []float64{}
	for round := range rounds {
		if err := b.fresh(); err != nil {
			return nil, err
		}
		begun := time.Now()
		res, err := b.once(s.sql, sql.LevelDefault)
		if err != nil {
			return nil, err
		}
		singles = append(singles, time.Since(begun).Seconds())
		times := fmt.Sprintf("%s, %s, round %d: the statement %.2f s", b.engine, s.name, round+1, singles[round])
		for i := range list {
			r := &list[i]
			r.Rows, _ = res.RowsAffected()
			timed := b.batches
			if r.plain {
				timed = b.halves
			}
			elapsed, err := timed(s, r)
			if err != nil {
				return nil, err
			}
			times += fmt.Sprintf(", %s by %d %.2f s", r.Keep, r.Workers, elapsed)
			ratios[i] = append(ratios[i], elapsed/singles[len(singles)-1])
		}
		fmt.Fprintln(os.Stderr, times)
	}
	sort.Float64s(singles)
	for i := range list {
		r := &list[i]
		sort.Float64s(ratios[i])
		r.Ratio, r.Low, r.High, r.Single = ratios[i][rounds/2], ratios[i][0], ratios[i][rounds-1], singles[rounds/2]
	}
	return list, nil
}

// once carries out the statements of one transaction, and gives the result of the last.
func (b *bench) once(texts string, level sql.IsolationLevel) (res sql.Result, err error) {
	tx, err := b.db.BeginTx(context.Background(), &sql.TxOptions{Isolation: level})
	if err != nil {
		return nil, err
	}
	defer tx.Rollback()
	for _, text := range strings.Split(texts, then) {
		if res, err = tx.Exec(text); err != nil {
			return nil, err
		}
	}
	return res, tx.Commit()
}

// halves times the statement in two sessions at a time, each with half of the keys.
func (b *bench) halves(s shape, r *result) (seconds float64, err error) {
	if err := b.fresh(); err != nil {
		return 0, err
	}
	began := time.Now()
	var both errgroup.Group
	for _, half := range []string{"visit.id <= ", "visit.id > "} {
		both.Go(func() error {
			var texts []string
			for _, text := range strings.Split(s.sql, then) {
				word := " WHERE "
				if strings.Contains(text, word) {
					word = " AND "
				}
				texts = append(texts, text+word+half+fmt.Sprint(b.rows/2))
			}
			// Read committed, or MariaDB has each wait for rows that neither changes.
			_, err := b.once(strings.Join(texts, then), sql.LevelReadCommitted)
			return err
		})
	}
	err = both.Wait()
	return time.Since(began).Seconds(), err
}

// batches times one run, on a table made anew.
func (b *bench) batches(s shape, r *result) (seconds float64, err error) {
	if err := b.fresh(); err != nil {
		return 0, err
	}
	args := []string{"run", "--json", "--db", b.url, "--keep", r.Keep, "--accept", "any", "--no-search"}
	if s.refers && r.Keep == "none" { // what goes with the rows is the database's to delete
		args = append(args, "--despite", "cascade")
	}
	if r.Workers > 1 {
		args = append(args, "--workers", fmt.Sprint(r.Workers))
	}
	if r.method != "" {
		args = append(args, "--method", r.method)
	}
	if s.job == "" {
		args = append(args, "--sql", s.sql)
	} else {
		path := filepath.Join(filepath.Dir(b.bin), "job.toml")
		if err := os.WriteFile(path, []byte(s.job), 0o644); err != nil {
			return 0, err
		}
		args = append(args, path)
	}
	bin := b.bin
	if r.unmeasured {
		bin += "-unmeasured"
	}
	cmd := exec.Command(bin, args...)
	var said strings.Builder
	cmd.Stderr = &said
	text, err := cmd.Output()
	if err != nil {
		return 0, fmt.Errorf("%w: %s", err, said.String())
	}
	var sum struct {
		Elapsed float64 `json:"elapsed_s"`
		Steps   []struct{ Changed int64 }
		Holds   struct {
			P99 float64 `json:"p99_ms"`
		}
	}
	if err := json.Unmarshal(text, &sum); err != nil {
		return 0, err
	}
	if sum.Steps[0].Changed != r.Rows {
		return 0, fmt.Errorf("the statement changed %d rows, the run %d", r.Rows, sum.Steps[0].Changed)
	}
	r.HoldP99 = max(r.HoldP99, sum.Holds.P99)
	return sum.Elapsed, nil
}
