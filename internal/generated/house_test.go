package generated

import (
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"jugatum/internal/testserver"
)

// house is a database in two copies: for the plain statement, and for the program.
type house struct {
	engine, dir string
	plain, ours *sql.DB
	url         string
	names       [2]string
	n           int
}

func newHouse(dir, engine string, w int) (*house, error) {
	h := &house{engine: engine, dir: dir, names: [2]string{fmt.Sprintf("plain%d", w), fmt.Sprintf("ours%d", w)}}
	var err error
	switch engine {
	case "postgres":
		if err = adminExec("pgx", pg.URL("postgres"), "DROP DATABASE IF EXISTS "+h.names[0], "CREATE DATABASE "+h.names[0], "DROP DATABASE IF EXISTS "+h.names[1], "CREATE DATABASE "+h.names[1]); err != nil {
			return nil, err
		}
		h.url = pg.URL(h.names[1])
		h.plain, _ = sql.Open("pgx", pg.URL(h.names[0])+"&default_query_exec_mode=simple_protocol")
		h.ours, _ = sql.Open("pgx", pg.URL(h.names[1])+"&default_query_exec_mode=simple_protocol")
	case "mariadb":
		h.url = my.URL(h.names[1])
		h.plain, _ = sql.Open("mysql", my.DSN("")+"&multiStatements=true")
		h.ours, _ = sql.Open("mysql", my.DSN("")+"&multiStatements=true")
		h.plain.SetMaxOpenConns(1)
		h.ours.SetMaxOpenConns(1)
	}
	return h, err
}

func adminExec(driver, url string, texts ...string) error {
	db, err := sql.Open(driver, url)
	if err != nil {
		return err
	}
	defer db.Close()
	for _, text := range texts {
		if _, err := db.Exec(text); err != nil {
			return err
		}
	}
	return nil
}

func (h *house) close() {
	for _, db := range []*sql.DB{h.plain, h.ours} {
		if db != nil {
			db.Close()
		}
	}
}

// Sessions of MariaDB begin in a zone where clocks are put back: rows are made, and compared, in UTC, in which a
// text stands for one time.
const (
	utc    = "+00:00"
	inZone = testserver.Zone
)

// within has a database's one session read and write times in a zone.
func (h *house) within(db *sql.DB, zone string) *sql.DB {
	if h.engine == "mariadb" {
		if _, err := db.Exec("SET time_zone = '" + zone + "'"); err != nil {
			panic(err) // there is none of this name
		}
	}
	return db
}

// furnish makes both copies anew.
func (h *house) furnish(zone string, setup []string) error {
	h.n++
	for i, db := range []**sql.DB{&h.plain, &h.ours} {
		clear := ""
		switch h.engine {
		case "sqlite":
			if *db != nil {
				(*db).Close()
			}
			path := filepath.Join(h.dir, fmt.Sprintf("%s-%d.db", h.names[i], h.n%2))
			for _, end := range []string{"", "-wal", "-shm", "-journal"} {
				os.Remove(path + end)
			}
			var err error
			if *db, err = sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(20000)&_pragma=foreign_keys(1)&_pragma=synchronous(0)&_pragma=journal_mode(wal)"); err != nil {
				return err
			}
			if i == 1 {
				h.url = "sqlite:" + path
			}
		case "postgres":
			clear = "SET client_min_messages = error; DROP SCHEMA public CASCADE; CREATE SCHEMA public; DROP SCHEMA IF EXISTS jugatum CASCADE;"
		case "mariadb":
			clear = "DROP DATABASE IF EXISTS " + h.names[i] + "; CREATE DATABASE " + h.names[i] + " CHARACTER SET utf8mb4; USE " + h.names[i] + ";"
		}
		if _, err := h.within(*db, zone).Exec(clear + strings.Join(setup, ";")); err != nil {
			return err
		}
	}
	return nil
}

// dump gives every byte that the queries read, sorted.
func (h *house) dump(db *sql.DB, queries []string) ([]string, error) {
	h.within(db, utc)
	var out []string
	for _, q := range queries {
		if !strings.HasPrefix(q, "SELECT") { // a table, and a filter perhaps
			var parts []string
			table, _, _ := strings.Cut(q, " ")
			names, err := lines(db, map[string]string{"sqlite": "SELECT name FROM pragma_table_xinfo('" + table + "')",
				"mariadb": "SELECT column_name FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = '" + table + "' ORDER BY ordinal_position"}[h.engine])
			if err != nil {
				return nil, err
			}
			for _, c := range names {
				if c == "w" { // which another session writes to
					continue
				}
				if h.engine == "sqlite" {
					parts = append(parts, "quote("+c+")")
				} else {
					parts = append(parts, "coalesce(hex(cast("+c+" AS binary)), 'NULL')")
				}
			}
			if q = "SELECT " + strings.Join(parts, " || ',' || ") + " FROM " + q; h.engine == "mariadb" {
				q = strings.Replace(q, " || ',' || ", ", ',', ", -1)
				q = "SELECT concat(" + strings.TrimPrefix(strings.Replace(q, " FROM ", ") FROM ", 1), "SELECT ")
			}
		}
		list, err := lines(db, q)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", q, err)
		}
		slices.Sort(list)
		out = append(append(out, "--"), list...)
	}
	return out, nil
}

func lines(db *sql.DB, query string) ([]string, error) {
	rows, err := db.Query(query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var s sql.NullString
		if err := rows.Scan(&s); err != nil {
			return nil, err
		}
		out = append(out, s.String)
	}
	return out, rows.Err()
}
