package main

import (
	"context"
	"database/sql"
	"fmt"
	"os/exec"
	"path/filepath"
	"sort"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/engine/mariadb"
	"jugatum/internal/engine/postgres"
	"jugatum/internal/engine/sqlite"
	"jugatum/internal/find"
	"jugatum/internal/rewrite"
)

const (
	findText = "http://charts.saltmere.test"
	findHead = "`find` over the whole demo database, and over one table of twelve text columns, divided by hand-written statements that count the rows of each table once, with the same conditions; and by one such statement a column.\n\n" +
		"| engine | in | rows of the largest table | ÷ one statement a table (median) | least … greatest | wanted | ÷ one statement a column |\n|---|---|---|---|---|---|---|\n"
	wideColumns = 12
)

// search times find against statements written by hand.
func (b *bench) search(rounds int) (string, error) {
	ctx := context.Background()
	args := []string{"demo", "--only-data", "--rows", fmt.Sprint(b.rows)}
	if b.engine == "sqlite" {
		b.url = "sqlite:" + filepath.Join(filepath.Dir(b.file), "demo", "saltmere.db")
		args = append(args, filepath.Dir(b.url[len("sqlite:"):]))
	} else {
		args = append(args, "--db", b.url, filepath.Join(filepath.Dir(b.bin), "demo-"+b.engine))
	}
	if text, err := exec.Command(b.bin, args...).CombinedOutput(); err != nil {
		return "", fmt.Errorf("making the demo: %w\n%s", err, text)
	}
	if b.engine == "mariadb" {
		b.url = b.url[:len(b.url)-len("bench")] + "saltmere"
	}
	var db engine.DB
	var err error
	switch b.engine {
	case "sqlite":
		db, err = sqlite.Open(ctx, b.url)
	case "postgres":
		db, err = postgres.Open(ctx, b.url)
	default:
		db, err = mariadb.Open(ctx, b.url)
	}
	if err != nil {
		return "", err
	}
	defer db.Close()
	tables, err := db.Tables(ctx)
	if err != nil {
		return "", err
	}
	if err := b.wide(b.rows / 4); err != nil {
		return "", err
	}
	wide, err := db.Table(ctx, "", "wide")
	if err != nil {
		return "", err
	}
	f, err := rewrite.NewFinder(findText)
	if err != nil {
		return "", err
	}
	count := func(t *change.Table, cols []*change.Column) error {
		q := &change.Query{D: db.Dialect()}
		q.Add("SELECT count(*) FROM ", t.SQL(q.D), " AS jugatum_t WHERE 1 = 0")
		find.Narrow(q, "jugatum_t", cols, f)
		var n int64
		return db.JobPool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&n)
	}
	demo, err := b.timeFind(rounds, tables, count, "--except", "wide.*")
	if err != nil {
		return "", err
	}
	one, err := b.timeFind(rounds, []*change.Table{wide}, count, "--in", "wide.*")
	return fmt.Sprintf("| %s | the demo | %s | %s |\n| %s | 12 text columns | %s | %s |\n", b.engine, group(b.rows), demo, b.engine, group(b.rows/4), one), err
}

// wide makes a table of many text columns, in which every eighth row holds the
// text in one of them.
func (b *bench) wide(rows int) error {
	db, name, numbers := b.db, "wide", fmt.Sprintf("generate_series(1, %d) AS s(i)", rows)
	switch b.engine {
	case "mariadb":
		name, numbers = "saltmere.wide", fmt.Sprintf("(SELECT seq AS i FROM seq_1_to_%d) AS s", rows)
	case "sqlite":
		var err error
		if db, err = sql.Open("sqlite", b.url[len("sqlite:"):]); err != nil {
			return err
		}
		defer db.Close()
		numbers = fmt.Sprintf("(WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < %d) SELECT i FROM s)", rows)
	}
	create, fill := "CREATE TABLE "+name+" (id bigint PRIMARY KEY", "INSERT INTO "+name+" SELECT i"
	for c := range wideColumns {
		create += fmt.Sprintf(", remark_%02d text", c+1)
		text := fmt.Sprintf("concat('see %s/berth/', i)", findText)
		if b.engine == "sqlite" {
			text = fmt.Sprintf("'see %s/berth/' || i", findText)
		}
		fill += fmt.Sprintf(", CASE WHEN i %% %d = %d THEN %s ELSE 'moor with care at the north mole, no swell today' END", 8*wideColumns, 8*c, text)
	}
	for _, text := range []string{create + ")", fill + " FROM " + numbers} {
		if _, err := db.Exec(text); err != nil {
			return fmt.Errorf("%s: %w", text, err)
		}
	}
	return nil
}

// timeFind times find and the statements by hand over these tables.
func (b *bench) timeFind(rounds int, tables []*change.Table, count func(t *change.Table, cols []*change.Column) error, args ...string) (string, error) {
	var whole, each []float64
	for range rounds {
		begun := time.Now()
		for _, t := range tables {
			if cols := find.Columns(t, find.Options{}); len(cols) > 0 {
				if err := count(t, cols); err != nil {
					return "", err
				}
			}
		}
		byTable := time.Since(begun).Seconds()
		begun = time.Now()
		for _, t := range tables {
			for _, c := range find.Columns(t, find.Options{}) {
				if err := count(t, []*change.Column{c}); err != nil {
					return "", err
				}
			}
		}
		byColumn := time.Since(begun).Seconds()
		begun = time.Now()
		if text, err := exec.Command(b.bin, append(append([]string{"find", "--json", "--db", b.url}, args...), findText)...).CombinedOutput(); err != nil {
			return "", fmt.Errorf("find: %w\n%s", err, text)
		}
		ours := time.Since(begun).Seconds()
		whole, each = append(whole, ours/byTable), append(each, ours/byColumn)
	}
	sort.Float64s(whole)
	sort.Float64s(each)
	return fmt.Sprintf("%.2f | %.2f … %.2f | ≤ 1.30 | %.2f", whole[rounds/2], whole[0], whole[rounds-1], each[rounds/2]), nil
}
