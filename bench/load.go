package main

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os/exec"
	"sort"
	"sync"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5/pgconn"
)

// load is what other sessions do while a table is changed: transfers between
// accounts that stand in the very rows that the change goes over. The sum of
// all balances must stay what it was.
type load struct {
	db        *sql.DB
	rows      int
	sessions  int
	mu        sync.Mutex
	latencies []time.Duration
	repeated  int // transfers that a deadlock or a timeout rolled back, done again
}

// transfer moves money between two accounts, again and again until it succeeds;
// the time for that is what an application's user would have waited.
func (l *load) transfer(r *rand.Rand) (repeated int, err error) {
	a, b := 1+r.IntN(l.rows), 1+r.IntN(l.rows)
	if a == b {
		return 0, nil
	}
	if a > b { // in one order, so that transfers never wait for each other in a circle
		a, b = b, a
	}
	n := 1 + r.IntN(100)
	once := func() error {
		tx, err := l.db.Begin()
		if err != nil {
			return err
		}
		defer tx.Rollback()
		for _, x := range [][2]int{{a, -n}, {b, n}} {
			text := fmt.Sprintf("UPDATE account SET balance = balance + (%d) WHERE id = %d", x[1], x[0])
			if _, err := tx.Exec(text); err != nil {
				return err
			}
		}
		return tx.Commit()
	}
	for {
		err := once()
		var me *mysql.MySQLError
		var pe *pgconn.PgError
		if errors.As(err, &me) && (me.Number == 1213 || me.Number == 1205) || errors.As(err, &pe) && (pe.Code == "40P01" || pe.Code == "40001") {
			repeated++
			continue
		}
		return repeated, err
	}
}

// during lets the load go on for as long as do takes.
func (l *load) during(do func() error) error {
	ctx, stop := context.WithCancel(context.Background())
	l.latencies, l.repeated = nil, 0
	var group sync.WaitGroup
	failed := make(chan error, l.sessions)
	for i := range l.sessions {
		group.Add(1)
		go func() {
			defer group.Done()
			r := rand.New(rand.NewPCG(uint64(i), 11))
			for ctx.Err() == nil {
				begun := time.Now()
				n, err := l.transfer(r)
				if err != nil {
					failed <- err
					return
				}
				l.mu.Lock()
				l.latencies = append(l.latencies, time.Since(begun))
				l.repeated += n
				l.mu.Unlock()
				time.Sleep(2 * time.Millisecond)
			}
		}()
	}
	err := do()
	stop()
	group.Wait()
	select {
	case ferr := <-failed:
		return errors.Join(err, ferr)
	default:
		return err
	}
}

func (l *load) row(engine, what string, took time.Duration) string {
	s := append([]time.Duration(nil), l.latencies...)
	sort.Slice(s, func(a, b int) bool { return s[a] < s[b] })
	at := func(share float64) float64 {
		return float64(s[min(int(share*float64(len(s))), len(s)-1)].Microseconds()) / 1000
	}
	return fmt.Sprintf("| %s | %s | %.1f s | %d | %.1f ms | %.1f ms | %.0f ms | %d |", engine, what, took.Seconds(), len(s), at(0.5), at(0.99), at(1), l.repeated)
}

const (
	loadChange = "UPDATE account SET dues = round(dues * 1.05, 2) WHERE id > 0"
	loadHead   = "| engine | beside the load | took | transfers | median | 99th percentile | longest | repeated |\n|---|---|---|---|---|---|---|---|\n"
)

// underLoad prints the load's latencies alone, beside a run in batches and
// beside the single statement.
func (b *bench) underLoad() (string, error) {
	fill := fmt.Sprintf("INSERT INTO account SELECT i, 1000, (i %% 1000) / 7.0, 'moor with care at the north mole' FROM %s", map[string]string{
		"postgres": fmt.Sprintf("generate_series(1, %d) AS i", b.rows), "mariadb": fmt.Sprintf("(SELECT seq AS i FROM seq_1_to_%d) AS s", b.rows)}[b.engine])
	for _, text := range []string{"DROP TABLE IF EXISTS account", "CREATE TABLE account (id bigint PRIMARY KEY, balance bigint, dues numeric(10,2), note varchar(60))", fill} {
		if _, err := b.db.Exec(text); err != nil {
			return "", fmt.Errorf("%s: %w", text, err)
		}
	}
	l := &load{db: b.db, rows: b.rows, sessions: 4}
	out := ""
	for _, c := range []struct {
		what string
		do   func() error
	}{
		{"nothing", func() error { time.Sleep(8 * time.Second); return nil }},
		{"a run, hold 100 ms, waiters 0", func() error {
			text, err := exec.Command(b.bin, "run", "--db", b.url, "--sql", loadChange, "--accept", "any", "--hold", "100ms", "--waiters", "0").CombinedOutput()
			if err != nil {
				return fmt.Errorf("%w\n%s", err, text)
			}
			return nil
		}},
		{"the single statement", func() error { _, err := b.db.Exec(loadChange); return err }},
	} {
		begun := time.Now()
		if err := l.during(c.do); err != nil {
			return "", fmt.Errorf("%s: %w", c.what, err)
		}
		line := l.row(b.engine, c.what, time.Since(begun))
		fmt.Println(line)
		out += line + "\n"
		var sum int64
		if err := b.db.QueryRow("SELECT sum(balance) FROM account").Scan(&sum); err != nil {
			return "", err
		}
		if sum != int64(b.rows)*1000 {
			return "", fmt.Errorf("%s: the balances add up to %d, not %d", c.what, sum, b.rows*1000)
		}
	}
	return out, nil
}
