package main

import (
	"context"
	"fmt"
	"os"
	"sort"
	"time"
)

const mergeHead = `Rows that are the same become one, in batches, from finding the groups to the end of the run; divided by one transaction by hand: references moved by a join with the groups (a window over the table), then a delete by a self-join. Ten rows to a group, and as many references as rows; a group's rows lie apart in the table.

| engine | kept values | ratio (median) | least … greatest | wanted |
|---|---|---|---|---|
`

// mergeSetup makes the tables: rows of which ten each are the same, and rows that refer to them.
func (b *bench) mergeSetup() error {
	ctx := context.Background()
	conn, err := b.db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	key := map[string]string{"sqlite": "INTEGER"}[b.engine]
	if key == "" {
		key = "bigint"
	}
	numbers := map[string]string{
		"postgres": fmt.Sprintf("generate_series(1, %d) AS i", b.rows),
		"mariadb":  fmt.Sprintf("(SELECT seq AS i FROM seq_1_to_%d) AS s", b.rows),
		"sqlite":   fmt.Sprintf("(WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < %d) SELECT i FROM s) AS s", b.rows),
	}[b.engine]
	groups := b.rows / 10
	texts := []string{"DROP TABLE IF EXISTS arrival", "DROP TABLE IF EXISTS vessel",
		"CREATE TABLE vessel (id " + key + " PRIMARY KEY, name varchar(40), flag varchar(2), crew integer, note varchar(80))",
		"CREATE TABLE arrival (id " + key + " PRIMARY KEY, vessel bigint NOT NULL, tonnes integer)",
		fmt.Sprintf("INSERT INTO vessel SELECT i, concat('Vessel no. ', i %% %d), 'UK', CASE WHEN i %% 3 = 0 THEN i %% 40 END, 'seen off the north mole with her lights out' FROM %s", groups, numbers),
		fmt.Sprintf("INSERT INTO arrival SELECT i, 1 + (i * 7) %% %d, i %% 1000 FROM %s", b.rows, numbers),
		"CREATE INDEX arrival_vessel ON arrival (vessel)"}
	if b.engine == "postgres" {
		texts = append(texts, "ALTER TABLE arrival ADD FOREIGN KEY (vessel) REFERENCES vessel (id)", "VACUUM ANALYZE vessel", "VACUUM ANALYZE arrival", "CHECKPOINT")
	}
	if b.engine == "mariadb" {
		texts = append(texts, "ALTER TABLE arrival ADD FOREIGN KEY (vessel) REFERENCES vessel (id)", "ANALYZE TABLE vessel", "ANALYZE TABLE arrival")
	}
	for _, text := range texts {
		if _, err := conn.ExecContext(ctx, text); err != nil {
			return fmt.Errorf("%s: %w", text, err)
		}
	}
	return nil
}

// mergeByHand times what a person would write.
func (b *bench) mergeByHand() (float64, error) {
	ctx := context.Background()
	conn, err := b.db.Conn(ctx)
	if err != nil {
		return 0, err
	}
	defer conn.Close()
	groups := "(SELECT id, min(id) OVER (PARTITION BY name, flag) AS stays FROM vessel)"
	texts := []string{"UPDATE arrival SET vessel = g.stays FROM " + groups + " AS g WHERE g.id = arrival.vessel AND g.stays <> g.id",
		"DELETE FROM vessel USING vessel AS k WHERE k.name = vessel.name AND k.flag = vessel.flag AND k.id < vessel.id"}
	switch b.engine {
	case "mariadb": // a self-join would compare each row with each of its group
		texts = []string{"UPDATE " + groups + " AS g JOIN arrival ON g.id = arrival.vessel AND g.stays <> g.id SET arrival.vessel = g.stays",
			"DELETE vessel FROM vessel JOIN (SELECT name, flag, min(id) AS stays FROM vessel GROUP BY name, flag) AS g ON g.name = vessel.name AND g.flag = vessel.flag AND g.stays < vessel.id"}
	case "sqlite":
		texts = []string{"UPDATE arrival SET vessel = g.stays FROM " + groups + " AS g WHERE g.id = arrival.vessel AND g.stays <> g.id",
			"DELETE FROM vessel WHERE id NOT IN (SELECT min(id) FROM vessel GROUP BY name, flag)"}
	}
	begun := time.Now()
	tx, err := conn.BeginTx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	for _, text := range texts {
		if _, err := tx.ExecContext(ctx, text); err != nil {
			return 0, fmt.Errorf("%s: %w", text, err)
		}
	}
	err = tx.Commit()
	return time.Since(begun).Seconds(), err
}

// merges times merges against statements by hand.
func (b *bench) merges(rounds int) (string, error) {
	ratios := map[string][]float64{}
	for round := range rounds {
		times := map[string]float64{}
		for _, way := range []string{"hand", "none", "values"} {
			err := b.mergeSetup()
			switch {
			case err != nil:
			case way == "hand":
				times[way], err = b.mergeByHand()
			default:
				text := "[[step]]\ntable = \"vessel\"\nmerge = [\"name\", \"flag\"]\n"
				if b.engine == "sqlite" {
					text += "also = [\"arrival.vessel\"]\n"
				}
				times[way], err = b.timed(text, b.rows/10*9, "--again", "--keep", way)
			}
			if err != nil {
				return "", err
			}
		}
		fmt.Fprintf(os.Stderr, "%s, merge, round %d: by hand %.2f s, none %.2f s, values %.2f s\n", b.engine, round+1, times["hand"], times["none"], times["values"])
		for _, keep := range []string{"none", "values"} {
			ratios[keep] = append(ratios[keep], times[keep]/times["hand"])
		}
	}
	text := ""
	for _, keep := range []string{"none", "values"} {
		r := ratios[keep]
		sort.Float64s(r)
		text += fmt.Sprintf("| %s | %s | %.2f | %.2f … %.2f | ≤ 1.50 |\n", b.engine, keep, r[len(r)/2], r[0], r[len(r)-1])
	}
	return text, nil
}
