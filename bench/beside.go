package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"strings"
	"sync"
	"time"
)

const besideHead = `Every kind of step and its undo beside sessions that read, write and insert single rows of the tables concerned, about 200 statements a second each: the longest of their waits against the longest hold that the run tells of. Those sessions share two processors with the server, the program and this measurement, so a wait may be a little longer than the hold that caused it; one of more than twice the hold and 250 ms is marked, and so is every error.

| engine | kind | command | took | longest hold | longest write | longest insert | longest read | statements | errors |
|---|---|---|---|---|---|---|---|---|---|
`

// neighbours are sessions that work on single rows of some tables while a step goes over them.
type neighbours struct {
	b      *bench
	mu     sync.Mutex
	most   map[string]time.Duration // longest, by what was done
	count  int
	errors map[string]int
}

// neighbour is a table as others work on it: the column that they write, and what a new row of it needs besides
// its key.
type neighbour struct{ table, column, needs string }

func (k grown) neighbours() []neighbour {
	switch {
	case k.merge, k.named:
		return []neighbour{{"vessel", "crew", ""}, {"arrival", "tonnes", ", vessel"}}
	case k.refers:
		return []neighbour{{"visit", "berth", ""}, {"line", "tonnes", ""}}
	}
	return []neighbour{{"visit", "berth", ""}}
}

// apart is how long a neighbour thinks between two statements.
const apart = 5 * time.Millisecond

// during has the neighbours at work for as long as do takes.
func (n *neighbours) during(tables []neighbour, do func()) error {
	n.most, n.errors = map[string]time.Duration{}, map[string]int{}
	db, err := n.b.others()
	if err != nil {
		return err
	}
	defer db.Close()
	ctx, stop := context.WithCancel(context.Background())
	var group sync.WaitGroup
	session := func(what string, seed uint64, one func(conn *sql.Conn, id int) error) error {
		conn, err := db.Conn(ctx)
		if err != nil {
			return err
		}
		group.Add(1)
		go func() {
			defer group.Done()
			defer conn.Close()
			r := rand.New(rand.NewPCG(seed, 7))
			for ctx.Err() == nil {
				begun := time.Now()
				err := one(conn, 1+r.IntN(n.b.rows))
				n.add(what, time.Since(begun), err)
				time.Sleep(apart)
			}
		}()
		return nil
	}
	for i, t := range tables {
		err = errors.Join(err,
			session("write", uint64(3*i), func(conn *sql.Conn, id int) error { return t.written(conn, id) }),
			session("read", uint64(3*i+1), func(conn *sql.Conn, id int) error {
				var v any
				err := conn.QueryRowContext(context.Background(), fmt.Sprintf("SELECT %s FROM %s WHERE id = %d", t.column, t.table, id)).Scan(&v)
				if errors.Is(err, sql.ErrNoRows) {
					return nil
				}
				return err
			}),
			session("insert", uint64(3*i+2), func(conn *sql.Conn, id int) error { return t.inserted(conn, id) }))
	}
	if err == nil {
		time.Sleep(300 * time.Millisecond) // until all have their stride
		do()
	}
	stop()
	group.Wait()
	return err
}

// written changes a row and changes it back: the run finds it as it was, and yet something was written.
func (t neighbour) written(conn *sql.Conn, id int) error {
	tx, err := conn.BeginTx(context.Background(), nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, by := range []string{"+ 1", "- 1"} {
		if _, err := tx.Exec(fmt.Sprintf("UPDATE %s SET %s = %s %s WHERE id = %d", t.table, t.column, t.column, by, id)); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// inserted puts a row in and takes it back: into a gap where the key is free, else it waits for what has the key
// and is refused.
func (t neighbour) inserted(conn *sql.Conn, id int) error {
	tx, err := conn.BeginTx(context.Background(), nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	values := fmt.Sprint(id)
	if t.needs != "" {
		values += fmt.Sprint(", ", id)
	}
	_, err = tx.Exec(fmt.Sprintf("INSERT INTO %s (id%s) VALUES (%s)", t.table, t.needs, values))
	for _, refused := range []string{"duplicate", "UNIQUE", "foreign key"} {
		if err != nil && strings.Contains(strings.ToLower(err.Error()), strings.ToLower(refused)) {
			return nil
		}
	}
	return err
}

func (n *neighbours) add(what string, took time.Duration, err error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.count++
	n.most[what] = max(n.most[what], took)
	if err != nil {
		n.errors[what+": "+err.Error()]++
	}
}

// others is a connection pool of its own: one for everything would make them wait for each other.
func (b *bench) others() (*sql.DB, error) {
	switch b.engine {
	case "postgres":
		return sql.Open("pgx", b.url)
	case "mariadb":
		return sql.Open("mysql", b.maria.DSN("bench"))
	}
	return sql.Open("sqlite", "file:"+b.file+"?_pragma=busy_timeout(60000)&_pragma=foreign_keys(1)")
}

// beside carries every kind out, and takes it back, beside others.
func (b *bench) beside(limit time.Duration, options []string) (string, error) {
	out := ""
	for _, kind := range grownKinds() {
		if !strings.Contains(kind.name, wanted) {
			continue
		}
		job, done, err := b.prepare(kind)
		if err != nil {
			return "", fmt.Errorf("%s: %w", kind.name, err)
		}
		tell := func(line string) {
			fmt.Fprint(os.Stderr, line)
			out += line
		}
		text, ok, err := b.besideOne(kind, "run", limit, append(append([]string{"run", "--accept", "any", job}, kind.despite()...), options...))
		tell(text)
		if err == nil && ok && !kind.calls {
			text, _, err = b.besideOne(kind, "undo", limit, []string{"undo", "1"})
			tell(text)
		}
		done()
		if err != nil {
			return "", fmt.Errorf("%s: %w", kind.name, err)
		}
	}
	return out, nil
}

func (b *bench) besideOne(kind grown, command string, limit time.Duration, args []string) (line string, ok bool, err error) {
	n := &neighbours{b: b}
	var t took
	if err := n.during(kind.neighbours(), func() { t = b.within(limit, args...) }); err != nil {
		return "", false, err
	}
	if t.over || t.status != 0 && t.status != 5 {
		return fmt.Sprintf("| %s | %s | %s | **exit %d after %.1f s** %s | | | | | | %s |\n", b.engine, kind.name, command, t.status, t.seconds, t.said, n.failed()), false, nil
	}
	hold, err := b.longestHold(map[string]string{"run": "1", "undo": "2"}[command])
	if err != nil {
		return "", false, err
	}
	cell := func(what string) string {
		ms := float64(n.most[what].Microseconds()) / 1000
		if ms > 2*hold && ms > 250 {
			return fmt.Sprintf("**%.0f ms**", ms)
		}
		return fmt.Sprintf("%.0f ms", ms)
	}
	return fmt.Sprintf("| %s | %s | %s | %.1f s | %.0f ms | %s | %s | %s | %s | %s |\n", b.engine, kind.name, command, t.seconds, hold,
		cell("write"), cell("insert"), cell("read"), group(n.count), n.failed()), true, nil
}

// failed is what others were told, and how often.
func (n *neighbours) failed() string {
	var all []string
	for what, times := range n.errors {
		all = append(all, fmt.Sprintf("**%d × %s**", times, what))
	}
	slices.Sort(all)
	return strings.Join(all, "; ")
}

// longestHold is what the record of a run tells, in milliseconds.
func (b *bench) longestHold(run string) (float64, error) {
	text, err := exec.Command(b.bin, "--db", b.url, "show", run, "--json").Output()
	if err != nil {
		return 0, fmt.Errorf("show %s: %w", run, err)
	}
	var r struct {
		Holds struct {
			Max float64 `json:"max_ms"`
		} `json:"holds"`
	}
	err = json.Unmarshal(text, &r)
	return r.Holds.Max, err
}
