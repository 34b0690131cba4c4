package generated

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strings"
)

// another is a session that writes to the rows of a case while it is carried out.
type another struct {
	stop, done chan struct{}
	written    int64 // rows, each by one
	children   int64 // that it made
}

// other begins to write where the case says that another session does.
func (h *house) other(c Case) (*another, error) {
	a := &another{}
	if len(c.Writes) == 0 {
		return a, nil
	}
	var db *sql.DB
	var err error
	switch h.engine {
	case "sqlite":
		db, err = sql.Open("sqlite", "file:"+strings.TrimPrefix(h.url, "sqlite:")+"?_pragma=busy_timeout(20000)&_pragma=foreign_keys(1)&_pragma=synchronous(0)&_pragma=journal_mode(wal)")
	case "postgres":
		db, err = sql.Open("pgx", h.url+"&default_query_exec_mode=simple_protocol")
	default:
		db, err = sql.Open("mysql", my.DSN(h.names[1]))
	}
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	if err := db.Ping(); err != nil {
		db.Close()
		return nil, err
	}
	a.stop, a.done = make(chan struct{}), make(chan struct{})
	r := rand.New(rand.NewPCG(c.Seed, 23))
	go func() {
		defer close(a.done)
		defer db.Close()
		for number := 0; ; {
			select {
			case <-a.stop:
				return
			default:
			}
			for range 10 + r.IntN(30) { // as others do who write now and then: the run has its turn meanwhile
				if _, err := lines(db, "SELECT count(*) FROM t"); err != nil {
					break
				}
			}
			of, count := c.Writes, &a.written
			if len(c.Children) > 0 && r.IntN(2) == 0 {
				of, count = c.Children, &a.children
			}
			number++
			if res, err := db.Exec(strings.Replace(of[r.IntN(len(of))], NewChild, fmt.Sprint(firstChild+number), 1)); err == nil { // what a rule would refuse is not written
				n, _ := res.RowsAffected()
				*count += n
			}
		}
	}()
	return a, nil
}

// end ends the session.
func (a *another) end() {
	if a.stop != nil {
		close(a.stop)
		<-a.done
		a.stop = nil
	}
}

// orphaned tells what became, in the end, of rows that were made; "" if they are there and have their
// references.
func (a *another) orphaned(db *sql.DB) string {
	if a.children == 0 {
		return ""
	}
	count, err := lines(db, fmt.Sprintf("SELECT count(*) FROM child JOIN t ON t_id = id WHERE c >= %d", firstChild))
	if err != nil || count[0] != fmt.Sprint(a.children) {
		return fmt.Sprintf("another session made %d rows, of which %v are there with their references (%v)", a.children, count, err)
	}
	return ""
}

// lost tells what was written and is not there, "" if all is.
func (a *another) lost(db *sql.DB) string {
	if a.done == nil {
		return ""
	}
	sum, err := lines(db, "SELECT coalesce(sum(w), 0) FROM t")
	if err != nil || sum[0] != fmt.Sprint(a.written) {
		return fmt.Sprintf("another session wrote %d times, of which %v are there (%v)", a.written, sum, err)
	}
	return ""
}
