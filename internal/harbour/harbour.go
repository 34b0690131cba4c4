// Package harbour makes the demo: the books of Saltmere, a made-up port
// authority, dirty on purpose in the ways that Jugatum fixes. The same seed and
// size give the same bytes. Rows are made one after the other and written in
// blocks, so that memory does not grow with the size.
package harbour

import (
	"context"
	"embed"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Sizes of the big table, visit, in rows.
const (
	Least = 1_000
	Most  = 10_000_000
)

//go:embed jobs
var jobs embed.FS

// WriteJobs puts the demo's job files into a folder and gives their paths. A job
// that MariaDB writes in another way is there in its own form.
func WriteJobs(dir string, d change.Dialect) ([]string, error) {
	list, err := jobs.ReadDir("jobs")
	if err != nil {
		return nil, err
	}
	var out []string
	for _, f := range list {
		if f.IsDir() {
			continue
		}
		text, err := jobs.ReadFile("jobs/" + strings.ToLower(d.String()) + "/" + f.Name())
		if err != nil {
			text, err = jobs.ReadFile("jobs/" + f.Name())
		}
		if err != nil {
			return nil, err
		}
		path := filepath.Join(dir, f.Name())
		if err := os.WriteFile(path, text, 0o644); err != nil {
			return nil, err
		}
		out = append(out, path)
	}
	return out, nil
}

// Tables are the demo's tables in the order in which they are made.
var Tables = []string{"quay", "berth", "tariff", "vessel", "visit", "cargo_line", "notice", "setting", "bollard", "inspection", "crane"}

// schema holds {key} for the type of a row's number, {ref} for that of what refers to one.
var schema = []string{
	`CREATE TABLE quay (id {key} PRIMARY KEY, name varchar(40) NOT NULL UNIQUE, zone varchar(8))`,
	`CREATE TABLE berth (berth_no {key} PRIMARY KEY, quay_id integer NOT NULL REFERENCES quay (id), zone varchar(8), day_rate numeric(8,2) NOT NULL, closed_on date, revised_by varchar(40))`,
	`CREATE TABLE tariff (zone varchar(8) NOT NULL, goods varchar(30) NOT NULL, per_tonne numeric(8,3) NOT NULL, PRIMARY KEY (zone, goods))`,
	`CREATE TABLE vessel (id {key} PRIMARY KEY, name varchar(60) NOT NULL, master varchar(60), length_m numeric(6,1))`,
	`CREATE TABLE visit (id {key} PRIMARY KEY, vessel_id integer NOT NULL, berth_no integer, zone varchar(8), quay_name varchar(40), quay_id integer, arrived_at timestamp NOT NULL, left_at timestamp, dues numeric(10,2), audited boolean NOT NULL, note text)`,
	`CREATE TABLE cargo_line (visit_id integer NOT NULL, line_no integer NOT NULL, goods varchar(30) NOT NULL, tonnes numeric(9,3) NOT NULL, PRIMARY KEY (visit_id, line_no))`,
	`CREATE TABLE notice (id {key} PRIMARY KEY, slug varchar(60) NOT NULL UNIQUE, title varchar(120) NOT NULL, body text)`,
	`CREATE TABLE setting (name varchar(60) PRIMARY KEY NOT NULL, value text)`,
	`CREATE TABLE bollard (id {key} PRIMARY KEY, berth_no {ref} NOT NULL, load_tonnes integer NOT NULL, FOREIGN KEY (berth_no) REFERENCES berth (berth_no) ON DELETE CASCADE)`,
	`CREATE INDEX bollard_by_berth ON bollard (berth_no)`,
	`CREATE TABLE inspection (id {key} PRIMARY KEY, bollard_id {ref} NOT NULL, inspected_on date NOT NULL, finding varchar(40), FOREIGN KEY (bollard_id) REFERENCES bollard (id) ON DELETE CASCADE)`,
	`CREATE INDEX inspection_by_bollard ON inspection (bollard_id)`,
	`CREATE TABLE crane (id {key} PRIMARY KEY, name varchar(40) NOT NULL, berth_no {ref}, FOREIGN KEY (berth_no) REFERENCES berth (berth_no) ON DELETE SET NULL)`,
	`CREATE INDEX crane_by_berth ON crane (berth_no)`,
}

// Load makes the tables and fills them. On PostgreSQL they go into the schema
// that stands first in the session's search path.
func Load(ctx context.Context, s *engine.Session, d change.Dialect, seed uint64, rows int) error {
	if rows < Least || rows > Most {
		return fmt.Errorf("--rows %d: the demo can have %d to %d visits", rows, Least, Most)
	}
	t := d.Types()
	types := strings.NewReplacer("{key}", t.RowKey, "{ref}", t.KeyRef, "timestamp", t.Timestamp)
	tx, err := s.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, text := range schema {
		if _, err := tx.Exec(ctx, types.Replace(text)); err != nil {
			return err
		}
	}
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	g := &generator{r: rand.New(rand.NewPCG(seed, 0x5a17)), rows: rows}
	for _, t := range Tables {
		if err := load(ctx, s, t, g.table(t)); err != nil {
			return fmt.Errorf("filling %s: %w", t, err)
		}
	}
	return nil
}

// next gives one row, nil at the end.
type next func() []any

// load writes rows in blocks of one statement each, and some blocks a transaction.
func load(ctx context.Context, s *engine.Session, table string, rows next) error {
	const perStatement, perTx = 200, 50
	row := rows()
	for row != nil {
		tx, err := s.Start(ctx)
		if err != nil {
			return err
		}
		for n := 0; n < perTx && row != nil; n++ {
			var b strings.Builder
			var args []any
			b.WriteString("INSERT INTO " + table + " VALUES ")
			for i := 0; i < perStatement && row != nil; i++ {
				if i > 0 {
					b.WriteString(", ")
				}
				b.WriteString("(" + strings.TrimSuffix(strings.Repeat("?, ", len(row)), ", ") + ")")
				args = append(args, row...)
				row = rows()
			}
			if _, err := tx.Exec(ctx, b.String(), args...); err != nil {
				tx.Rollback()
				return err
			}
		}
		if err := tx.Commit(ctx); err != nil {
			tx.Rollback()
			return err
		}
	}
	return nil
}
