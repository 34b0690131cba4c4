package e2e

import (
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"jugatum/internal/ledger"
)

const killRows = 100_000

// killTable makes the table whose change must not be applied twice.
func (d *database) killTable() {
	d.exec("DROP TABLE IF EXISTS t")
	d.exec("CREATE TABLE t (id "+d.integer()+" PRIMARY KEY, n bigint)", "INSERT INTO t SELECT i, i % 1000 FROM "+d.numbers(killRows))
	d.settled("t")
}

const killSQL = "UPDATE t SET n = n * 3 + 1 WHERE id % 10 <> 0"

// changedOnce fails unless every row was changed just once.
func (d *database) changedOnce() {
	d.t.Helper()
	if got := d.one("SELECT count(*) FROM t WHERE n <> CASE WHEN id % 10 <> 0 THEN (id % 1000) * 3 + 1 ELSE id % 1000 END"); got != "0" {
		d.t.Fatalf("%s of %d rows are not as one change leaves them", got, killRows)
	}
	if got := d.one("SELECT count(*) FROM " + d.ledger("batch") + " WHERE scanned >= 0 AND changed > scanned"); got != "0" {
		d.t.Errorf("%s batches say that they changed more rows than they went over", got)
	}
}

// unchanged fails unless every row is as it was at the beginning.
func (d *database) unchanged() {
	d.t.Helper()
	if got := d.one("SELECT count(*) FROM t WHERE n <> id % 1000"); got != "0" {
		d.t.Fatalf("%s rows are not as they were", got)
	}
	if got := d.one("SELECT count(*) FROM t"); got != strconv.Itoa(killRows) {
		d.t.Fatalf("%s rows", got)
	}
}

// start runs the program in the background.
func (d *database) start(args ...string) *exec.Cmd {
	d.t.Helper()
	cmd := exec.Command(bin, append(args, "--db", d.url)...)
	cmd.Stderr = &strings.Builder{}
	if err := cmd.Start(); err != nil {
		d.t.Fatal(err)
	}
	return cmd
}

// run and step of the ledger, by engine.
func (d *database) ledger(table string) string {
	if d.engine == "postgres" {
		return "jugatum." + table
	}
	return "jugatum_" + table
}

func (d *database) lastRun() string {
	d.t.Helper()
	return d.one("SELECT coalesce(max(id), 0) FROM " + d.ledger("run"))
}

// killed runs a command and then resumes what it began, killing it every time
// after a while, until it comes to its end. It gives the number of kills.
func (d *database) killed(after func(kills int) time.Duration, args ...string) int {
	d.t.Helper()
	kills := 0
	before := "0"
	if kills == 0 && d.haveLedger() {
		before = d.lastRun()
	}
	for {
		cmd := d.start(args...)
		done := make(chan error, 1)
		go func() { done <- cmd.Wait() }()
		select {
		case err := <-done:
			if err == nil {
				return kills
			}
			// A server may finish the commit of a record after the process that asked for it was killed,
			// and after we have looked for it: the same command once more is refused then, rightly.
			if kills > 0 && args[0] != "resume" && cmd.ProcessState.ExitCode() == 3 && d.lastRun() != before {
				args = append([]string{"resume", d.lastRun()}, d.workers(kills%4)...)
				continue
			}
			d.t.Fatalf("%v: %v\n%s", args, err, cmd.Stderr)
		case <-time.After(after(kills)):
			cmd.Process.Signal(syscall.SIGKILL)
			<-done
			kills++
		}
		if d.haveLedger() {
			if last := d.lastRun(); last != before {
				status := d.one("SELECT status FROM " + d.ledger("run") + " WHERE id = " + last)
				if status == "done" {
					return kills
				}
				args = append([]string{"resume", last}, d.workers(kills%4)...)
			}
		}
		if kills > 500 {
			d.t.Fatal("it never comes to an end")
		}
	}
}

// workers is the option for n of them, nothing for 0 or where there is one writer.
func (d *database) workers(n int) []string {
	if n == 0 || d.engine == "sqlite" {
		return nil
	}
	return []string{"--workers", strconv.Itoa(n)}
}

func (d *database) haveLedger() bool {
	if d.engine == "sqlite" {
		return d.one("SELECT count(*) FROM sqlite_schema WHERE name = 'jugatum_run'") == "1"
	}
	if d.engine == "mariadb" {
		return d.one("SELECT count(*) FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = 'jugatum_outcome'") == "1"
	}
	return d.one("SELECT count(to_regclass('jugatum.run'))") == "1"
}

// TestKilledAndResumed kills run and undo at random moments, at least 20 times each.
func TestKilledAndResumed(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		r := seeded(99)
		// Later every time, so that it comes to an end on a busy machine too, and not at all once that is enough.
		after := func(kills int) time.Duration {
			if kills >= 20 {
				return time.Hour
			}
			return time.Duration(25+r.IntN(200)+5*kills) * time.Millisecond
		}
		runKills, undoKills := 0, 0
		for runKills < 20 || undoKills < 20 { // as many rounds as that takes on this machine
			d.killTable()
			runKills += d.killed(after, append([]string{"run", "--sql", killSQL, "--accept", "any", "--again", "--batch", "1000"}, d.workers(r.IntN(4))...)...)
			d.changedOnce()
			run := d.lastRun()
			d.must(0, "verify", run)
			undoKills += d.killed(after, "undo", run, "--batch", "1000")
			d.unchanged()
			d.must(0, "verify", d.lastRun())
		}
		t.Logf("killed %d times during run, %d during undo", runKills, undoKills)
	})
}

// TestUndoOfUnfinishedRun takes back a run that was killed midway.
func TestUndoOfUnfinishedRun(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.killTable()
		cmd := d.start("run", "--sql", killSQL, "--accept", "any", "--batch", "20")
		d.waitForBatches(4)
		if o := d.jugatum("undo", "1"); o.status != 3 {
			t.Errorf("undo of a run that goes on: exit status %d, want 3\n%s", o.status, o.err)
		}
		if d.engine == "sqlite" { // on servers it waits for the run's session to end, which may be on its way
			d.must(3, "resume", "1")
		}
		cmd.Process.Kill()
		cmd.Wait()
		d.must(0, "undo", "1")
		d.unchanged()
		d.must(3, "resume", "1")
		d.must(3, "verify", "1")
		d.must(0, "verify", "2")
	})
}

// TestServerStopped stops the server without ceremony in the middle of a run
// and starts it again: the run finds its way back by itself.
func TestServerStopped(t *testing.T) {
	beside(t)
	d := ownServer(t)
	d.killTable()
	cmd := d.start("run", "--sql", killSQL, "--accept", "any", "--batch", "1000")
	d.waitForBatches(5)
	if err := d.server.Halt("immediate"); err != nil {
		t.Fatal(err)
	}
	time.Sleep(300 * time.Millisecond)
	if err := d.server.Start(); err != nil {
		t.Fatal(err)
	}
	if err := cmd.Wait(); err != nil {
		t.Fatalf("%v\n%s", err, cmd.Stderr)
	}
	d.changedOnce()
	d.must(0, "verify", "1")
	if n := d.reconnected("the same server, which has been started anew"); n == 0 {
		t.Error("no incident tells that the server was stopped")
	}
}

// reconnected counts connections of run 1 that were lost and of which these words are told.
func (d *database) reconnected(words string) (n int) {
	d.t.Helper()
	for _, x := range d.show("1").Incidents {
		if x.Kind == ledger.Reconnected && strings.HasPrefix(x.Detail, words) {
			n++
		}
	}
	return n
}

// TestConnectionsTerminated has an administrator end the run's session again and again.
func TestConnectionsTerminated(t *testing.T) {
	servers(t, func(t *testing.T, d *database) { connectionsTerminated(t, d, 1) })
}

// TestWorkersTerminated is the same with several of them.
func TestWorkersTerminated(t *testing.T) {
	servers(t, func(t *testing.T, d *database) { connectionsTerminated(t, d, 3) })
}

// servers runs a test on each engine that has a server.
func servers(t *testing.T, f func(t *testing.T, d *database)) {
	beside(t)
	for _, e := range []string{"postgres", "mariadb"} {
		t.Run(e, func(t *testing.T) {
			t.Parallel()
			f(t, fresh(t, e))
		})
	}
}

// terminate ends the sessions in which runs work here, and says how many.
func (d *database) terminate() int {
	d.t.Helper()
	if d.engine == "postgres" {
		return len(d.lines("SELECT pg_terminate_backend(pid)::text FROM pg_stat_activity WHERE application_name = 'jugatum run 1' AND datname = current_database()"))
	}
	n := 0
	for _, id := range d.lines("SELECT id FROM information_schema.processlist WHERE db = DATABASE() AND id <> CONNECTION_ID() AND info IS NOT NULL AND info NOT LIKE '%processlist%'") {
		if _, err := d.db.Exec("KILL " + id); err == nil { // it may have ended by itself
			n++
		}
	}
	return n
}

// TestTakenOver has a run's process stand still, as a machine that is suspended
// does, and lose its sessions; another one resumes the run and ends it. When the
// first comes back, it changes nothing more, and does not touch the record.
func TestTakenOver(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		for i, workers := range []int{1, 3} {
			d.killTable()
			d.exec("DROP TABLE IF EXISTS u", "CREATE TABLE u (id integer PRIMARY KEY, n integer)", "INSERT INTO u VALUES (1, 1), (2, 2)")
			job := filepath.Join(t.TempDir(), "job.toml")
			os.WriteFile(job, []byte("[[step]]\nsql = \""+killSQL+"\"\n[[step]]\nsql = \"UPDATE u SET n = n * 10 WHERE id > 0\"\n"), 0o644)
			before := 0
			if i > 0 {
				before = atoi(d.one("SELECT count(*) FROM " + d.ledger("batch")))
			}
			cmd := d.start(append([]string{"run", job, "--accept", "any", "--again", "--batch", "400"}, d.workers(workers)...)...)
			d.waitForBatches(before + 40)
			cmd.Process.Signal(syscall.SIGSTOP)
			if d.engine == "postgres" {
				d.lines("SELECT pg_terminate_backend(pid)::text FROM pg_stat_activity WHERE application_name LIKE 'jugatum%' AND datname = current_database()")
			} else {
				for _, id := range d.lines("SELECT id FROM information_schema.processlist WHERE db = DATABASE() AND id <> CONNECTION_ID()") {
					d.db.Exec("KILL " + id)
				}
			}
			run := d.lastRun()
			d.must(0, "resume", run)
			batches := d.one("SELECT count(*) FROM " + d.ledger("batch"))
			cmd.Process.Signal(syscall.SIGCONT)
			cmd.Wait()
			if text := cmd.Stderr.(*strings.Builder).String(); cmd.ProcessState.ExitCode() != 3 || !strings.Contains(text, "another process") {
				t.Errorf("%d workers: the process that came back: exit status %d\n%s", workers, cmd.ProcessState.ExitCode(), text)
			}
			if got := d.one("SELECT count(*) FROM " + d.ledger("batch")); got != batches {
				t.Errorf("%d workers: %s batches, then %s", workers, batches, got)
			}
			d.changedOnce()
			if got := d.one("SELECT sum(n) FROM u"); got != "30" {
				t.Errorf("%d workers: the second step was carried out more than once: %s", workers, got)
			}
			if got := d.one("SELECT status FROM " + d.ledger("run") + " WHERE id = " + run); got != "done" {
				t.Errorf("%d workers: the run is %s", workers, got)
			}
			d.must(0, "verify", run)
		}
	})
}

func connectionsTerminated(t *testing.T, d *database, workers int) {
	d.killTable()
	cmd := d.start(append([]string{"run", "--sql", killSQL, "--accept", "any", "--batch", "1000"}, d.workers(workers)...)...)
	done := make(chan error, 1)
	release := d.gate(killRows - 9) // it cannot end before its sessions were ended often enough
	defer release()
	d.waitForBatches(1)
	go func() { done <- cmd.Wait() }()
	ended := 0
	for {
		select {
		case err := <-done:
			if err != nil {
				t.Fatalf("%v\n%s", err, cmd.Stderr)
			}
			if ended < 3 {
				t.Fatalf("only %d sessions were ended", ended)
			}
			d.changedOnce()
			d.must(0, "verify", "1")
			if n := d.reconnected("the same server: "); n == 0 {
				t.Error("no incident tells of a connection that was made again")
			}
			return
		case <-time.After(60 * time.Millisecond):
			if ended < 12 {
				ended += d.terminate()
			} else {
				release()
			}
		}
	}
}

// TestMariaDBKilled kills the server itself, as a crash would, and starts it again.
func TestMariaDBKilled(t *testing.T) {
	beside(t)
	m, d := ownMariaDB(t, "log-bin=bin", "binlog-format=ROW")
	d.killTable()
	cmd := d.start("run", "--sql", killSQL, "--accept", "any", "--batch", "500", "--workers", "2")
	for kills := 0; kills < 3; kills++ {
		d.waitForBatches(10 * (kills + 1))
		m.Kill()
		if err := m.Start(); err != nil {
			t.Fatal(err)
		}
	}
	if err := cmd.Wait(); err != nil {
		t.Fatalf("%v\n%s", err, cmd.Stderr)
	}
	d.changedOnce()
	d.must(0, "verify", "1")
	d.must(0, "undo", "1")
	d.unchanged()
}

// TestCutAtCommit puts a proxy before the server that passes a COMMIT on and
// then cuts the connection, so that the answer is lost: whether the batch took
// effect must be read from the ledger.
func TestCutAtCommit(t *testing.T) {
	for _, workers := range []int{1, 2} {
		servers(t, func(t *testing.T, d *database) { cutAtCommit(t, d, workers) })
	}
}

func cutAtCommit(t *testing.T, d *database, workers int) {
	var port string // of a server that is there: the other may be missing
	if d.engine == "mariadb" {
		port = fmt.Sprint(maria.Port)
	} else {
		port = fmt.Sprint(server.Port)
	}
	d.killTable()
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	var commits, cuts atomic.Int64
	go func() {
		for {
			client, err := listener.Accept()
			if err != nil {
				return
			}
			go proxy(client, port, &commits, &cuts)
		}
	}()
	direct := d.url
	d.url = strings.Replace(direct, ":"+port+"/", fmt.Sprintf(":%d/", listener.Addr().(*net.TCPAddr).Port), 1)
	d.must(0, append([]string{"run", "--sql", killSQL, "--accept", "any", "--batch", "2000"}, d.workers(workers)...)...)
	d.url = direct
	if cuts.Load() < 5 {
		t.Fatalf("only %d commits were cut", cuts.Load())
	}
	t.Logf("%d commits cut", cuts.Load())
	d.changedOnce()
	d.must(0, "verify", "1")
}

// proxy passes bytes both ways and cuts every seventh connection's commit.
func proxy(client net.Conn, port string, commits, cuts *atomic.Int64) {
	defer client.Close()
	up, err := net.Dial("tcp", "127.0.0.1:"+port)
	if err != nil {
		return
	}
	defer up.Close()
	go func() {
		io.Copy(client, up)
		client.Close()
	}()
	buf := make([]byte, 64<<10)
	for {
		n, err := client.Read(buf)
		if n > 0 {
			if _, err := up.Write(buf[:n]); err != nil {
				return
			}
			// The driver prepares and then executes; a short message that holds
			// the word is the statement itself.
			if strings.Contains(string(buf[:n]), "COMMIT") && commits.Add(1)%7 == 0 {
				client.Close() // before the answer can come back
				cuts.Add(1)
				time.Sleep(20 * time.Millisecond) // the server still carries it out
				return
			}
		}
		if err != nil {
			return
		}
	}
}

// TestLanesThatKeepNothing: the last lanes match rows and change none, so that
// the highest numbers of kept rows are unused; undo and verify pass them by.
func TestLanesThatKeepNothing(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t SELECT i, CASE WHEN i <= 300 THEN 0 ELSE 5 END FROM "+d.numbers(1000))
		d.settled("t")
		before := d.dump("t")
		d.must(0, "run", "--sql", "UPDATE t SET n = 5 WHERE id > 0", "--accept", "300", "--batch", "20", "--workers", "3")
		d.must(0, "verify", "1")
		d.must(0, "undo", "1", "--batch", "50")
		d.must(0, "verify", "2")
		same(t, "undone", d.dump("t"), before)
	})
}

// killedMidway carries out a command, kills it once a batch of its run is there, and
// resumes the run, by another number of workers each time, and kills it again, until it
// has ended; from most kills on it is left to come to its end. check is asked between any
// two of them. It gives the run's number, verified.
func (d *database) killedMidway(r *rand.Rand, kills *int, most int, check func(), args ...string) string {
	d.t.Helper()
	before := "0"
	if d.haveLedger() {
		before = d.lastRun()
	}
	cmd := d.start(args...)
	d.until("a batch is done", func() bool {
		return d.haveLedger() && d.lastRun() != before && d.one("SELECT count(*) FROM "+d.ledger("batch")+" WHERE run = "+d.lastRun()) != "0"
	})
	cmd.Process.Kill()
	cmd.Wait()
	run := d.lastRun()
	for *kills++; d.one("SELECT status FROM "+d.ledger("run")+" WHERE id = "+run) != "done"; {
		check()
		cmd := d.start(append([]string{"resume", run}, d.workers(*kills%3)...)...)
		after := time.Duration(30+r.IntN(150)+5**kills) * time.Millisecond // longer each time
		if *kills >= most {
			after = time.Hour
		}
		stop := time.AfterFunc(after, func() { cmd.Process.Kill() })
		if cmd.Wait() != nil {
			*kills++
		}
		stop.Stop()
	}
	check()
	d.must(0, "verify", run)
	return run
}
