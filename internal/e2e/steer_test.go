package e2e

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"jugatum/internal/ledger"
)

// sumJSON is what the tests here read of a run's summary.
type sumJSON struct {
	Status   string
	SetAside int64 `json:"set_aside"`
	Rows     []struct {
		Key, Error string
		New        map[string]*string
		Retried    bool
	} `json:"rows_set_aside"`
	HoldMS    float64 `json:"hold_target_ms"`
	KeptBytes int64   `json:"kept_bytes"`
	Log       struct{ Bytes int64 }
	MostLagMS float64 `json:"most_lag_ms"`
	Incidents []ledger.Incident
	Server    map[string]int64
	Steps     []struct {
		Changed int64
		Acts    []struct {
			Name    string
			Changed int64
		}
	}
	Others struct {
		Waits, Sessions, Samples int64
		TotalMS                  float64 `json:"total_ms"`
		LookingMS                float64 `json:"looking_ms"`
		OwnMS                    float64 `json:"own_ms"`
		OwnMostMS                float64 `json:"own_most_ms"`
	}
	Waits []struct {
		For       string `json:"waiting_for"`
		Statement string
		MS        float64 `json:"wait_ms"`
	} `json:"longest_waits"`
	Signals []struct {
		Kind, Who string
		SeenAt    *time.Time `json:"seen_at"`
	}
}

func (d *database) show(run string) sumJSON {
	d.t.Helper()
	var s sumJSON
	if err := json.Unmarshal([]byte(d.must(0, "show", run, "--json").out), &s); err != nil {
		d.t.Fatal(err)
	}
	return s
}

// TestSteered pauses, tunes, lets go on and stops a run from another terminal.
func TestSteered(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.killTable()
		// So little log a second that the run is far from its end, however slow the rest is.
		cmd := d.start("run", "--sql", killSQL, "--accept", "any", "--batch", "25", "--log-rate", "1MB/s")
		d.waitForBatches(3)
		d.must(0, "pause", "1")
		if d.engine == "mariadb" { // what was begun ahead is given up: an open transaction would keep others from the table's definition
			d.exec("SET STATEMENT lock_wait_timeout = 3 FOR ALTER TABLE t COMMENT = 'altered while paused'")
		}
		before := d.one("SELECT count(*) FROM " + d.ledger("batch"))
		d.must(2, "tune", "1", "--hold", "soon")
		d.must(2, "tune", "1")
		d.must(0, append([]string{"tune", "1", "--batch", "30"}, d.workers(2)...)...)
		time.Sleep(500 * time.Millisecond)
		if got := d.one("SELECT count(*) FROM " + d.ledger("batch")); got != before {
			t.Errorf("%s batches while paused, %s before", got, before)
		}
		d.must(0, "resume", "1") // it goes on in its own process
		d.until("the new batch size is used", func() bool {
			return d.one("SELECT count(*) FROM "+d.ledger("batch")+" WHERE scanned = 30") != "0"
		})
		if lanes := d.one("SELECT count(*) FROM " + d.ledger("lane")); lanes != map[bool]string{true: "1", false: "8"}[d.engine == "sqlite"] {
			t.Errorf("%s lanes", lanes)
		}
		d.must(0, "pause", "1") // with no fixed batch the rest would take a moment
		d.must(0, append([]string{"tune", "1", "--hold", "150ms"}, d.workers(1)...)...)
		d.must(0, "tune", "1", "--batch", "500", "--log-rate", "500MB/s") // for the rest
		d.must(0, "stop", "1")
		cmd.Wait()
		if status := cmd.ProcessState.ExitCode(); status != 4 {
			t.Errorf("exit status %d\n%s", status, cmd.Stderr)
		}
		d.must(3, "pause", "1") // nobody is there to hear it
		s := d.show("1")
		if s.Status != "stopped" || len(s.Signals) != 7 || s.Signals[6].Kind != "stop" || s.Signals[6].SeenAt == nil || s.Signals[0].Who == "" {
			t.Errorf("%+v", s)
		}
		d.must(0, "tune", "--help")
		o := d.must(0, append([]string{"resume", "1"}, d.workers(3)...)...)
		if !strings.Contains(o.out, "run 1 done") {
			t.Error(o.out)
		}
		if o := d.must(0, "watch", "1"); !strings.Contains(o.out, "run 1 done") {
			t.Error(o.out)
		}
		d.changedOnce()
	})
}

// TestRowsSetAside: rows that cannot be changed stand alone at last; the first
// ends a run unless it may be set aside.
func TestRowsSetAside(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer NOT NULL, CHECK (n < 5000 OR n >= 100000))", "INSERT INTO t SELECT i, i FROM "+d.numbers(3000))
		d.exec("UPDATE t SET n = 4500 WHERE id IN (7, 8, 1234, 3000)")
		before := d.dump("t")
		run := func(more ...string) []string {
			return append([]string{"run", "--sql", "UPDATE t SET n = n + 1000 WHERE id > 0", "--accept", "any"}, more...)
		}
		o := d.must(1, run()...)
		if !strings.Contains(o.err, "row 7:") || !strings.Contains(o.err, "--set-aside") {
			t.Errorf("it does not name the row: %s", o.err)
		}
		if got := d.one("SELECT count(*) FROM t WHERE n > id AND id < 7"); got != "6" {
			t.Errorf("%s rows before the bad one were changed", got)
		}
		d.must(0, "undo", "1")
		same(t, "undone", d.dump("t"), before)
		if o := d.must(1, run("--set-aside", "3")...); !strings.Contains(o.err, "row 3000") {
			t.Errorf("the fourth row should have ended the run: %s", o.err)
		}
		d.must(0, "undo", "3")
		o = d.must(5, run("--set-aside", "4")...)
		if !strings.Contains(o.out, "set aside 4 rows") {
			t.Error(o.out)
		}
		if got := d.one("SELECT count(*) FROM t WHERE n = id + 1000"); got != "2996" {
			t.Errorf("%s rows changed", got)
		}
		s := d.show("5")
		if s.SetAside != 4 || len(s.Rows) != 4 || s.Rows[0].Key != "7" || s.Rows[3].Key != "3000" || s.Rows[2].Error == "" || *s.Rows[2].New["n"] != "5500" || s.Steps[0].Changed != 2996 {
			t.Errorf("%+v", s)
		}
		path := filepath.Join(t.TempDir(), "aside.csv")
		d.must(0, "show", "5", "--set-aside-csv", path)
		if text, err := os.ReadFile(path); err != nil || strings.Count(string(text), "\n") < 5 || !strings.HasPrefix(string(text), "step,key,error,changed_later,n\n1,7,") {
			t.Errorf("%s %v", text, err)
		}
		d.must(0, "verify", "5")
		d.must(3, "resume", "5")
		d.must(5, "resume", "5", "--retry-set-aside") // nothing was fixed
		d.exec("UPDATE t SET n = 4 WHERE id = 7", "DELETE FROM t WHERE id = 8", "UPDATE t SET n = 99000 + 1000 WHERE id = 1234", "UPDATE t SET n = 0 WHERE id = 3000")
		d.must(0, "resume", "5", "--retry-set-aside")
		if got := d.one("SELECT count(*) FROM t WHERE id = 7 AND n = 1004 OR id = 1234 AND n = 101000 OR id = 3000 AND n = 1000"); got != "3" {
			t.Errorf("%s of 3 rows were changed later", got)
		}
		if s := d.show("5"); s.SetAside != 0 || !s.Rows[3].Retried || s.Steps[0].Changed != 2999 {
			t.Errorf("%+v", s)
		}
		d.must(0, "verify", "5")
		d.must(0, "undo", "5")
		if got := d.one("SELECT count(*) FROM t WHERE n >= 1000 AND n = id + 1000"); got != "0" {
			t.Errorf("%s rows were not put back", got)
		}
	})
}

// stuck waits until a session of the run waits for a lock. SQLite cannot tell;
// there nothing can be written any more once the lock is taken.
func (d *database) stuck() {
	d.t.Helper()
	d.until("the run waits for a lock", func() bool {
		switch d.engine {
		case "postgres":
			return d.one("SELECT count(*) FROM pg_stat_activity WHERE application_name LIKE 'jugatum run%' AND datname = current_database() AND wait_event_type = 'Lock'") != "0"
		case "mariadb":
			return d.transactions("LOCK WAIT") > 0
		}
		return true
	})
}

// transactions is how many of InnoDB's transactions in this database have such a
// mark in the server's report. (Its account in information_schema is renewed only
// if nobody has read it for a tenth of a second, and the run reads it as well.)
func (d *database) transactions(mark string) (n int) {
	d.t.Helper()
	var kind, name, text string
	if err := d.db.QueryRow("SHOW ENGINE INNODB STATUS").Scan(&kind, &name, &text); err != nil {
		d.t.Fatal(err)
	}
	ours := map[string]bool{}
	for _, id := range d.lines("SELECT id FROM information_schema.processlist WHERE db = DATABASE()") {
		ours[id] = true
	}
	for _, part := range strings.Split(text, "---TRANSACTION")[1:] {
		_, rest, _ := strings.Cut(part, "MariaDB thread id ")
		id, _, _ := strings.Cut(rest, ",")
		// A batch may wait for the one before it as well, at its lane in the ledger.
		if ours[id] && strings.Contains(part, mark) && (mark != "LOCK WAIT" || strings.Contains(strings.ReplaceAll(part, "`", `"`), `."t" trx id`)) {
			n++
		}
	}
	return n
}

// closed is a window that does not open while the test goes on.
func closed() string {
	far := time.Now().Add(12 * time.Hour)
	return far.Format("15:04") + "-" + far.Add(time.Minute).Format("15:04")
}

// lockBetweenBatches takes SQLite's write lock on a connection while a run waits
// for its window, and opens that: its next batch has to wait. The process stands
// still meanwhile, or it might be done before the lock is taken.
func (d *database) lockBetweenBatches(cmd *exec.Cmd, conn *sql.Conn) {
	d.t.Helper()
	d.saying("window")
	cmd.Process.Signal(syscall.SIGSTOP)
	d.until("the process stands still", func() bool {
		stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", cmd.Process.Pid))
		return err == nil && strings.Contains(string(stat), ") T ")
	})
	for _, text := range []string{`INSERT INTO jugatum_signal (run, n, at, kind, args, who, host) SELECT id, 1, heartbeat, 'tune', '{"window":"off"}', '', '' FROM jugatum_run`, "BEGIN IMMEDIATE"} {
		if _, err := conn.ExecContext(d.t.Context(), text); err != nil {
			d.t.Fatal(err)
		}
	}
	cmd.Process.Signal(syscall.SIGCONT)
}

// TestOwnWaitsAreSeen holds one row for a while: the batch that needs it waits,
// and its record says for how long.
func TestOwnWaitsAreSeen(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.killTable()
		d.db.SetMaxOpenConns(2)
		conn, err := d.db.Conn(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		begun := time.Now()
		run := []string{"run", "--sql", killSQL, "--accept", "any", "--batch", "1000", "--hold", "50ms"}
		if d.engine == "sqlite" {
			run = append(run, "--window", closed())
		}
		cmd := d.starting(run...)
		if d.engine == "sqlite" {
			d.lockBetweenBatches(cmd, conn)
		} else {
			d.waitForBatches(3)
			for _, text := range []string{"BEGIN", fmt.Sprintf("UPDATE t SET n = n WHERE id = %d", killRows-9)} {
				if _, err := conn.ExecContext(t.Context(), text); err != nil {
					t.Fatal(err)
				}
			}
			d.waitForBatches((killRows-9+999)/1000 - 1) // all but the one that needs the row
		}
		d.stuck()
		d.saying("waiting for another session's lock") // it gave up a wait, and counts it
		if _, err := conn.ExecContext(t.Context(), "COMMIT"); err != nil {
			t.Fatal(err)
		}
		if err := cmd.Wait(); err != nil {
			t.Fatalf("%v\n%s", err, d.told())
		}
		d.changedOnce()
		s := d.show("1")
		if all := float64(time.Since(begun).Milliseconds()); s.Others.OwnMS <= 0 || s.Others.OwnMostMS <= 0 || s.Others.OwnMostMS > s.Others.OwnMS || s.Others.OwnMS > all {
			t.Errorf("we waited %v ms, %v ms of them in one batch", s.Others.OwnMS, s.Others.OwnMostMS)
		}
		if got := d.one("SELECT count(*) FROM " + d.ledger("batch") + " WHERE lock_wait_ms > 0"); got == "0" {
			t.Errorf("%s batches waited", got)
		}
		if o := d.must(0, "show", "1"); !strings.Contains(o.out, "for others' locks") {
			t.Error(o.out)
		}
	})
}

// looks waits until sessions of the program that look at others have been asked so many times more, of
// which a look asks two at most.
func (d *database) looks(times int) {
	d.t.Helper()
	conn, err := d.db.Conn(context.Background()) // whose own queries do not count
	if err != nil {
		d.t.Fatal(err)
	}
	defer conn.Close()
	last := ""
	d.until("the program has looked", func() bool {
		now := ""
		if err := conn.QueryRowContext(context.Background(), d.by("SELECT coalesce(max(query_id), 0) FROM information_schema.processlist WHERE db = DATABASE() AND id <> CONNECTION_ID() AND command = 'Sleep'",
			"SELECT coalesce(max(query_start)::text, '') FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid() AND state = 'idle'")).Scan(&now); err != nil {
			d.t.Fatal(err)
		}
		if now != last {
			last, times = now, times-1
		}
		return times < 0
	})
}

// TestOthersWaitsAreSeen: a session that waits on a batch is seen, with what it
// waits for, and the run eases off if it may not wait.
func TestOthersWaitsAreSeen(t *testing.T) {
	beside(t)
	for _, e := range []string{"postgres", "mariadb"} {
		t.Run(e, func(t *testing.T) {
			t.Parallel()
			var d *database
			if e == "mariadb" {
				_, d = ownMariaDB(t) // InnoDB renews its account of waits only while nobody reads it
			} else {
				d = fresh(t, e)
			}
			const rows = 2000
			d.exec("CREATE TABLE t (id bigint PRIMARY KEY, n bigint, pad varchar(60))", "INSERT INTO t SELECT i, i, 'moor with care' FROM "+d.numbers(rows))
			d.settled("t")
			// One batch is the whole table, and cannot end as long as its last row is
			// held; who wants its first one waits for it.
			release := d.gate(rows)
			defer release()
			cmd := d.start("run", "--sql", "UPDATE t SET n = n * 3 + 1, pad = upper(pad) WHERE id > 0", "--accept", "any", "--batch", fmt.Sprint(rows), "--waiters", "0", "--hold", "30m")
			d.stuck()
			done := make(chan error, 1)
			go func() {
				_, err := d.db.Exec("UPDATE t SET pad = 'x' WHERE id = 1")
				done <- err
			}()
			d.until("the other session waits for the batch", func() bool {
				if e == "mariadb" {
					return d.transactions("LOCK WAIT") == 2 // with the batch, which waits for the row that is held
				}
				return d.one("SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND query LIKE 'UPDATE t SET pad%' AND wait_event_type = 'Lock'") == "1"
			})
			d.looks(6)
			release()
			if err := cmd.Wait(); err != nil {
				t.Fatalf("%v\n%s", err, cmd.Stderr)
			}
			if err := <-done; err != nil {
				t.Fatal(err)
			}
			s := d.show("1")
			if s.Others.Samples < 1 || s.Others.Waits < 1 || s.Others.Sessions < 1 || s.Others.TotalMS <= 0 || len(s.Waits) == 0 {
				t.Fatalf("%+v", s.Others)
			}
			if !strings.Contains(s.Waits[0].For, "t") || !strings.Contains(strings.ToUpper(s.Waits[0].Statement), "UPDATE T SET PAD") {
				t.Errorf("%+v", s.Waits[0])
			}
			if got := d.one("SELECT max(waiters) FROM " + d.ledger("batch")); got == "0" || got == "-1" {
				t.Errorf("the batch's record says %s waiters", got)
			}
			if o := d.must(0, "show", "1"); !strings.Contains(o.out, "waited,") {
				t.Error(o.out)
			}
		})
	}
}
