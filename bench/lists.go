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

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/stdlib"
)

const listsHead = `A list in a file, carried out from reading it to what became of its lines, with kept values and without; divided by what a person would do by hand. Updates of one row in ten: the join with a table that is already loaded with the list. Inserts of as many rows as the table has: the database's own way to load the very file (COPY, LOAD DATA; SQLite: prepared inserts in one transaction). And how long one prepared statement a line takes, of which 10,000 are carried out, each in a transaction of its own.

| engine | list | kept values | ratio (median) | least … greatest | wanted | one statement a line |
|---|---|---|---|---|---|---|
`

// lists times lists against statements by hand.
func (b *bench) lists(rounds int) (string, error) {
	text := ""
	for _, inserts := range []bool{false, true} {
		ratios := map[string][]float64{}
		var perLine []float64
		for round := range rounds {
			times, err := b.listRound(inserts)
			if err != nil {
				return "", err
			}
			fmt.Fprintf(os.Stderr, "%s, inserts %v, round %d: by hand %.2f s, none %.2f s, values %.2f s, a statement a line %.2f s\n", b.engine, inserts, round+1, times["hand"], times["none"], times["values"], times["line"])
			for _, keep := range []string{"none", "values"} {
				ratios[keep] = append(ratios[keep], times[keep]/times["hand"])
			}
			perLine = append(perLine, times["line"]/times["values"])
		}
		name, wanted := "1 row in 10 updated", 1.5
		if inserts {
			name, wanted = "as many rows inserted as there are", 1.3
		}
		sort.Float64s(perLine)
		for _, keep := range []string{"none", "values"} {
			r := ratios[keep]
			sort.Float64s(r)
			line := ""
			if keep == "values" {
				line = fmt.Sprintf("%.0f times as long", perLine[rounds/2])
			}
			text += fmt.Sprintf("| %s | %s | %s | %.2f | %.2f … %.2f | ≤ %.2f | %s |\n", b.engine, name, keep, r[rounds/2], r[0], r[rounds-1], wanted, line)
		}
	}
	calls, err := b.calls(rounds)
	return text + calls, err
}

// calls times a statement for each line of a list against the same statement with a round trip and
// a commit for each.
func (b *bench) calls(rounds int) (string, error) {
	var ratios []float64
	for round := range rounds {
		path, lines, err := b.writeList(false)
		if err != nil {
			return "", err
		}
		if err := b.fresh(); err != nil {
			return "", err
		}
		job := "[[step]]\neach = \"" + path + "\"\ncall = \"UPDATE visit SET dues = :dues WHERE id = :id\"\ntypes = { id = \"integer\", dues = \"decimal\" }\n"
		ours, err := b.timed(job, lines, "--despite", "no-undo")
		if err != nil {
			return "", err
		}
		if err := b.fresh(); err != nil {
			return "", err
		}
		one, err := b.lineByLine(false)
		if err != nil {
			return "", err
		}
		hand := one * float64(lines) / slowly
		fmt.Fprintf(os.Stderr, "%s, calls, round %d: ours %.2f s, a statement a line %.2f s\n", b.engine, round+1, ours, hand)
		ratios = append(ratios, ours/hand)
	}
	sort.Float64s(ratios)
	wanted := ""
	if b.engine == "postgres" {
		wanted = "≤ 0.20"
	}
	return fmt.Sprintf("| %s | a statement for each of as many lines, divided by one round trip and commit for each | – | %.2f | %.2f … %.2f | %s | |\n", b.engine, ratios[rounds/2], ratios[0], ratios[rounds-1], wanted), nil
}

// slowly is how many statements of a line each are timed.
const slowly = 10_000

func (b *bench) listRound(inserts bool) (map[string]float64, error) {
	times := map[string]float64{}
	path, lines, err := b.writeList(inserts)
	if err != nil {
		return nil, err
	}
	if err := b.fresh(); err != nil {
		return nil, err
	}
	if times["hand"], err = b.byHand(path, inserts); err != nil {
		return nil, err
	}
	for _, keep := range []string{"none", "values"} {
		if err := b.fresh(); err != nil {
			return nil, err
		}
		if times[keep], err = b.listed(path, keep, inserts, lines); err != nil {
			return nil, err
		}
	}
	if err := b.fresh(); err != nil {
		return nil, err
	}
	one, err := b.lineByLine(inserts)
	times["line"] = one * float64(lines) / slowly
	return times, err
}

// writeList writes the list beside the program.
func (b *bench) writeList(inserts bool) (path string, lines int, err error) {
	path = filepath.Join(filepath.Dir(b.bin), "list.csv")
	f, err := os.Create(path)
	if err != nil {
		return "", 0, err
	}
	defer f.Close()
	var text strings.Builder
	if inserts {
		text.WriteString("id,berth,dues,note\n")
		for i := 1; i <= b.rows; i++ {
			fmt.Fprintf(&text, "%d,%d,%d.%02d,moor with care at the north mole no. %d\n", b.rows+i, i%997, i%1000, i%100, i)
		}
		lines = b.rows
	} else {
		text.WriteString("id,dues\n")
		for i := 10; i <= b.rows; i += 10 {
			fmt.Fprintf(&text, "%d,-%d.25\n", i, i%1000)
		}
		lines = b.rows / 10
	}
	_, err = f.WriteString(text.String())
	return path, lines, err
}

// byHand times what is done without the program.
func (b *bench) byHand(path string, inserts bool) (float64, error) {
	ctx := context.Background()
	conn, err := b.db.Conn(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	table := "visit"
	if !inserts {
		table = "listed"
		typ := map[string]string{"sqlite": "INTEGER"}[b.engine]
		if typ == "" {
			typ = "bigint"
		}
		for _, text := range []string{"DROP TABLE IF EXISTS listed", "CREATE TABLE listed (id " + typ + " PRIMARY KEY, dues numeric(10,2))"} {
			if _, err := conn.ExecContext(ctx, text); err != nil {
				return 0, err
			}
		}
	}
	begun := time.Now()
	if err := b.bulk(ctx, conn, path, table); err != nil {
		return 0, err
	}
	if inserts {
		return time.Since(begun).Seconds(), nil
	}
	if b.engine == "postgres" {
		if _, err := conn.ExecContext(ctx, "ANALYZE listed"); err != nil {
			return 0, err
		}
	}
	text := "UPDATE visit SET dues = l.dues FROM listed AS l WHERE l.id = visit.id"
	if b.engine == "mariadb" {
		text = "UPDATE listed AS l JOIN visit ON l.id = visit.id SET visit.dues = l.dues"
	}
	begun = time.Now() // the table is loaded already
	_, err = conn.ExecContext(ctx, text)
	return time.Since(begun).Seconds(), err
}

// bulk loads a file by the database's own way.
func (b *bench) bulk(ctx context.Context, conn *sql.Conn, path, table string) error {
	switch b.engine {
	case "postgres":
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		return conn.Raw(func(c any) error {
			_, err := c.(*stdlib.Conn).Conn().PgConn().CopyFrom(ctx, f, "COPY "+table+" FROM STDIN WITH (FORMAT csv, HEADER)")
			return err
		})
	case "mariadb":
		mysql.RegisterLocalFile(path)
		defer mysql.DeregisterLocalFile(path)
		_, err := conn.ExecContext(ctx, "LOAD DATA LOCAL INFILE '"+path+"' INTO TABLE "+table+" FIELDS TERMINATED BY ',' IGNORE 1 LINES")
		return err
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	tx, err := conn.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var insert *sql.Stmt
	for i, line := range strings.Split(strings.TrimSpace(string(text)), "\n") {
		fields := strings.Split(line, ",")
		if i == 0 {
			if insert, err = tx.PrepareContext(ctx, "INSERT INTO "+table+" VALUES ("+strings.TrimSuffix(strings.Repeat("?, ", len(fields)), ", ")+")"); err != nil {
				return err
			}
			continue
		}
		args := make([]any, len(fields))
		for n, f := range fields {
			args[n] = f
		}
		if _, err := insert.ExecContext(ctx, args...); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// listed times the program, from its beginning to its end.
func (b *bench) listed(path, keep string, inserts bool, lines int) (float64, error) {
	action := "update"
	if inserts {
		action = "insert"
	}
	return b.timed("[[step]]\ntable = \"visit\"\nchanges = \""+path+"\"\naction = \""+action+"\"\n", lines, "--keep", keep)
}

// timed times the program with a job that has so many lines.
func (b *bench) timed(text string, lines int, args ...string) (float64, error) {
	job := filepath.Join(filepath.Dir(b.bin), "job.toml")
	if err := os.WriteFile(job, []byte(text), 0o644); err != nil {
		return 0, err
	}
	cmd := exec.Command(b.bin, append([]string{"run", "--json", "--db", b.url, "--accept", "any", job}, args...)...)
	var said strings.Builder
	cmd.Stderr = &said
	begun := time.Now()
	out, err := cmd.Output()
	elapsed := time.Since(begun).Seconds()
	if err != nil {
		return 0, fmt.Errorf("%w: %s", err, said.String())
	}
	var sum struct{ Steps []struct{ Changed int } }
	if err := json.Unmarshal(out, &sum); err != nil {
		return 0, err
	}
	if sum.Steps[0].Changed != lines {
		return 0, fmt.Errorf("%d lines changed %d rows", lines, sum.Steps[0].Changed)
	}
	return elapsed, nil
}

// lineByLine times statements of one line each, each in a transaction of its own, as a loop in a
// program would do it.
func (b *bench) lineByLine(inserts bool) (float64, error) {
	text, one := "UPDATE visit SET dues = ? WHERE id = ?", func(i int) []any { return []any{"-7.25", 10 * i} }
	if inserts {
		text, one = "INSERT INTO visit (dues, id) VALUES (?, ?)", func(i int) []any { return []any{"-7.25", b.rows + i} }
	}
	if b.engine == "postgres" {
		text = strings.Replace(strings.Replace(text, "?", "$1", 1), "?", "$2", 1)
	}
	stmt, err := b.db.Prepare(text)
	if err != nil {
		return 0, err
	}
	defer stmt.Close()
	begun := time.Now()
	for i := 1; i <= slowly; i++ {
		if _, err := stmt.Exec(one(i)...); err != nil {
			return 0, err
		}
	}
	return time.Since(begun).Seconds(), nil
}
