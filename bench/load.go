package main

import (
	"bufio"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
)

// load is what other sessions do while a table is changed: the transactions of
// pgbench, each of which adds an amount to an account, to its teller and to its
// branch, and writes it down. On PostgreSQL pgbench itself does that, on MariaDB
// we do the same. The change goes over the accounts. Balances must add up
// afterwards.
type load struct {
	b        *bench
	sessions int
	rate     int    // transactions a second, of all sessions; 0: as many as there can be
	pgbench  string // the program, on PostgreSQL

	mu        sync.Mutex
	latencies []time.Duration
	repeated  int // transactions that a deadlock or a timeout rolled back, done again
}

// tables makes the accounts, and tellers and branches as pgbench has them.
func (l *load) tables() error {
	scale := max(l.b.rows/100_000, 1)
	if l.pgbench != "" {
		text, err := exec.Command(l.pgbench, "-i", "-q", "-s", fmt.Sprint(scale), l.b.url).CombinedOutput()
		if err != nil {
			return fmt.Errorf("pgbench -i: %w\n%s", err, text)
		}
		_, err = l.b.db.Exec("CHECKPOINT")
		return err
	}
	for _, text := range []string{"DROP TABLE IF EXISTS pgbench_accounts, pgbench_tellers, pgbench_branches, pgbench_history",
		"CREATE TABLE pgbench_accounts (aid integer PRIMARY KEY, bid integer, abalance integer, filler char(84))",
		"CREATE TABLE pgbench_tellers (tid integer PRIMARY KEY, bid integer, tbalance integer, filler char(84))",
		"CREATE TABLE pgbench_branches (bid integer PRIMARY KEY, bbalance integer, filler char(88))",
		"CREATE TABLE pgbench_history (n bigint AUTO_INCREMENT PRIMARY KEY, tid integer, bid integer, aid integer, delta integer, mtime timestamp(6), filler char(22))",
		fmt.Sprintf("INSERT INTO pgbench_accounts SELECT seq, (seq - 1) DIV 100000 + 1, 0, '' FROM seq_1_to_%d", scale*100_000),
		fmt.Sprintf("INSERT INTO pgbench_tellers SELECT seq, (seq - 1) DIV 10 + 1, 0, '' FROM seq_1_to_%d", scale*10),
		fmt.Sprintf("INSERT INTO pgbench_branches SELECT seq, 0, '' FROM seq_1_to_%d", scale)} {
		if _, err := l.b.db.Exec(text); err != nil {
			return fmt.Errorf("%s: %w", text, err)
		}
	}
	return l.b.settle()
}

// sums fails unless what all transactions added up to is the same everywhere.
func (l *load) sums() error {
	var accounts, tellers, branches, history int64
	if err := l.b.db.QueryRow(`SELECT (SELECT sum(abalance) FROM pgbench_accounts), (SELECT sum(tbalance) FROM pgbench_tellers), (SELECT sum(bbalance) FROM pgbench_branches),
		(SELECT coalesce(sum(delta), 0) FROM pgbench_history)`).Scan(&accounts, &tellers, &branches, &history); err != nil {
		return err
	}
	if accounts != tellers || tellers != branches || branches != history {
		return fmt.Errorf("the balances add up to %d, %d and %d, and what was written down to %d", accounts, tellers, branches, history)
	}
	return nil
}

// during lets the load go on for as long as do takes.
func (l *load) during(do func() error) error {
	l.latencies, l.repeated = nil, 0
	if l.pgbench != "" {
		return l.besidePgbench(do)
	}
	ctx, stop := context.WithCancel(context.Background())
	var group sync.WaitGroup
	failed := make(chan error, l.sessions)
	for i := range l.sessions {
		group.Add(1)
		go func() {
			defer group.Done()
			if err := l.session(ctx, rand.New(rand.NewPCG(uint64(i), 11))); err != nil {
				failed <- err
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

// session is one client. Where a rate is given, transactions are due at random
// moments, and what counts is the time from then on, as pgbench has it: a user
// who has to wait behind others waits all the same.
func (l *load) session(ctx context.Context, r *rand.Rand) error {
	conn, err := l.b.db.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	due := time.Now()
	for ctx.Err() == nil {
		if l.rate > 0 {
			due = due.Add(time.Duration(r.ExpFloat64() * float64(l.sessions) / float64(l.rate) * float64(time.Second)))
			time.Sleep(time.Until(due))
		} else {
			due = time.Now()
		}
		repeated, err := l.transaction(conn, r)
		if err != nil {
			return err
		}
		l.mu.Lock()
		l.latencies = append(l.latencies, time.Since(due))
		l.repeated += repeated
		l.mu.Unlock()
	}
	return nil
}

// transaction is one of pgbench's, carried out again until it succeeds.
func (l *load) transaction(conn *sql.Conn, r *rand.Rand) (repeated int, err error) {
	scale := max(l.b.rows/100_000, 1)
	aid, tid, bid, delta := 1+r.IntN(scale*100_000), 1+r.IntN(scale*10), 1+r.IntN(scale), r.IntN(10_001)-5000
	once := func() error {
		ctx := context.Background() // a transaction that was begun is ended
		tx, err := conn.BeginTx(ctx, nil)
		if err != nil {
			return err
		}
		defer tx.Rollback()
		var balance int64
		if _, err = tx.Exec(fmt.Sprintf("UPDATE pgbench_accounts SET abalance = abalance + (%d) WHERE aid = %d", delta, aid)); err == nil {
			err = tx.QueryRow(fmt.Sprintf("SELECT abalance FROM pgbench_accounts WHERE aid = %d", aid)).Scan(&balance)
		}
		for _, text := range []string{fmt.Sprintf("UPDATE pgbench_tellers SET tbalance = tbalance + (%d) WHERE tid = %d", delta, tid),
			fmt.Sprintf("UPDATE pgbench_branches SET bbalance = bbalance + (%d) WHERE bid = %d", delta, bid),
			fmt.Sprintf("INSERT INTO pgbench_history (tid, bid, aid, delta, mtime) VALUES (%d, %d, %d, %d, current_timestamp)", tid, bid, aid, delta)} {
			if err == nil {
				_, err = tx.Exec(text)
			}
		}
		if err != nil {
			return err
		}
		return tx.Commit()
	}
	for {
		err := once()
		var me *mysql.MySQLError
		if errors.As(err, &me) && (me.Number == 1213 || me.Number == 1205) {
			repeated++
			continue
		}
		return repeated, err
	}
}

// besidePgbench has pgbench write every transaction's latency down, and counts
// those that were under way while do was.
func (l *load) besidePgbench(do func() error) error {
	dir, err := os.MkdirTemp("", "jugatum-load-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	args := []string{"-n", "-c", fmt.Sprint(l.sessions), "-T", "3600", "--max-tries=100", "-l", "--log-prefix=" + filepath.Join(dir, "log")}
	if l.rate > 0 {
		args = append(args, "-R", fmt.Sprint(l.rate))
	}
	cmd := exec.Command(l.pgbench, append(args, l.b.url)...)
	var said strings.Builder
	cmd.Stdout, cmd.Stderr = &said, &said
	if err := cmd.Start(); err != nil {
		return err
	}
	time.Sleep(time.Second) // until its sessions are there
	begun := time.Now()
	err = do()
	ended := time.Now()
	time.Sleep(100 * time.Millisecond)
	cmd.Process.Signal(syscall.SIGALRM) // its own alarm, after -T seconds: it finishes the transactions under way
	if werr := cmd.Wait(); werr != nil {
		return errors.Join(err, fmt.Errorf("pgbench: %w\n%s", werr, said.String()))
	}
	if err != nil {
		return err
	}
	logs, err := filepath.Glob(filepath.Join(dir, "log*"))
	if err != nil {
		return err
	}
	for _, path := range logs {
		if err := l.read(path, begun, ended); err != nil {
			return err
		}
	}
	return nil
}

// read reads pgbench's log: client, transaction, latency in microseconds (with -R
// from when it was due), script, second and microsecond of its end, then the lag
// where there is a rate, then how often it was tried again.
func (l *load) read(path string, begun, ended time.Time) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	for lines := bufio.NewScanner(f); lines.Scan(); {
		x := strings.Fields(lines.Text())
		if len(x) < 7 {
			return fmt.Errorf("pgbench's log has a line %q", lines.Text())
		}
		latency, err := strconv.ParseInt(x[2], 10, 64)
		if err != nil {
			return fmt.Errorf("pgbench: a transaction %s", x[2]) // skipped or failed
		}
		s, _ := strconv.ParseInt(x[4], 10, 64)
		us, _ := strconv.ParseInt(x[5], 10, 64)
		took := time.Duration(latency) * time.Microsecond
		if at := time.Unix(s, us*1000); at.Before(begun) || at.Add(-took).After(ended) {
			continue
		}
		again, _ := strconv.Atoi(x[len(x)-1])
		l.latencies = append(l.latencies, took)
		l.repeated += again
	}
	return nil
}

// at is a quantile of the latencies, in milliseconds.
func (l *load) at(share float64) float64 {
	if len(l.latencies) == 0 {
		return 0
	}
	s := slices.Sorted(slices.Values(l.latencies))
	return float64(s[min(int(share*float64(len(s))), len(s)-1)].Microseconds()) / 1000
}

func (l *load) row(engine, what string, took time.Duration) string {
	return fmt.Sprintf("| %s | %s | %.1f s | %.0f | %.1f ms | %.1f ms | %.0f ms | %d |", engine, what, took.Seconds(), float64(len(l.latencies))/took.Seconds(), l.at(0.5), l.at(0.99), l.at(1), l.repeated)
}

const (
	loadChange = "UPDATE pgbench_accounts SET filler = concat('no. ', aid) WHERE aid > 0"
	loadHead   = "| engine | beside the load | took | transactions a second | median | 99th percentile | longest | repeated |\n|---|---|---|---|---|---|---|---|\n"
)

// underLoad prints the load's latencies alone, beside a run in batches and
// beside the single statement, some rounds of them, and the median of the ratios.
func (b *bench) underLoad(rounds, rate, sessions int, with string) (string, error) {
	l := &load{b: b, sessions: sessions, rate: rate}
	if b.engine == "postgres" {
		found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/pgbench")
		if len(found) == 0 {
			path, err := exec.LookPath("pgbench")
			if err != nil {
				return "", errors.New("pgbench is missing: it comes with the server (Debian: postgresql)")
			}
			found = []string{path}
		}
		l.pgbench = found[len(found)-1]
	}
	out := ""
	var ratios, yardstick []float64
	for range rounds {
		alone := 0.0
		for _, c := range []struct {
			what string
			do   func() error
		}{
			{"nothing", func() error { time.Sleep(10 * time.Second); return nil }},
			{busy, compute},
			{"a run, " + with, func() error {
				text, err := exec.Command(b.bin, append([]string{"run", "--db", b.url, "--sql", loadChange, "--accept", "any", "--again"}, strings.Fields(with)...)...).CombinedOutput()
				if err != nil {
					return fmt.Errorf("%w\n%s", err, text)
				}
				return nil
			}},
			{"the single statement", func() error { _, err := b.db.Exec(loadChange); return err }},
		} {
			if err := b.fresh(); err != nil {
				return "", err
			}
			if err := l.tables(); err != nil {
				return "", err
			}
			var took time.Duration
			if err := l.during(func() error {
				begun := time.Now()
				defer func() { took = time.Since(begun) }()
				return c.do()
			}); err != nil {
				return "", fmt.Errorf("%s: %w", c.what, err)
			}
			line := l.row(b.engine, c.what, took)
			fmt.Println(line)
			out += line + "\n"
			if err := l.sums(); err != nil {
				return "", fmt.Errorf("%s: %w", c.what, err)
			}
			switch c.what {
			case "nothing":
				alone = l.at(0.99)
			case "the single statement":
			case busy:
				yardstick = append(yardstick, l.at(0.99)/alone)
			default:
				ratios = append(ratios, l.at(0.99)/alone)
			}
		}
	}
	slices.Sort(ratios)
	slices.Sort(yardstick)
	line := fmt.Sprintf("\n%s: 99th percentile beside a run ÷ alone %.2f (%.2f … %.2f; wanted ≤ 2); beside %s %.2f (%.2f … %.2f)\n\n", b.engine, ratios[rounds/2], ratios[0], ratios[rounds-1],
		busy, yardstick[rounds/2], yardstick[0], yardstick[rounds-1])
	fmt.Print(line)
	return out + line, nil
}

const busy = "a busy processor"

// compute keeps one processor busy for ten seconds, and touches no database: how
// much of what a load suffers is that somebody else runs at all.
func compute() error {
	cmd := exec.Command("sh", "-c", "while :; do :; done")
	if err := cmd.Start(); err != nil {
		return err
	}
	time.Sleep(10 * time.Second)
	if err := cmd.Process.Kill(); err != nil {
		return err
	}
	cmd.Wait()
	return nil
}
