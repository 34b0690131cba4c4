package generated

import (
	"database/sql"
	"fmt"
	"math/rand/v2"
	"strings"
	"time"
)

// another is a session that writes to the rows of a case while it is carried out.
type another struct {
	stop, done chan struct{}
	written    int64 // rows, each by one
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
		db, err = sql.Open("sqlite", "file:"+strings.TrimPrefix(h.url, "sqlite:")+"?_pragma=busy_timeout(20000)&_pragma=synchronous(0)&_pragma=journal_mode(wal)")
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
		for {
			select {
			case <-a.stop:
				return
			case <-time.After(time.Duration(r.IntN(3000)) * time.Microsecond):
			}
			if res, err := db.Exec(c.Writes[r.IntN(len(c.Writes))]); err == nil { // a row that a rule would refuse is not written
				n, _ := res.RowsAffected()
				a.written += n
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
