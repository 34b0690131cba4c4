package e2e

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"
)

// TestStopped sends the polite signal: the batch ends, and the run says how to go on.
func TestStopped(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.killTable()
		cmd := d.start("run", "--sql", killSQL, "--accept", "any", "--batch", map[bool]string{true: "20", false: "200"}[d.engine == "sqlite"])
		release := d.gate(killRows - 9) // it cannot end before it is told to
		d.waitForBatches(3)
		cmd.Process.Signal(syscall.SIGTERM)
		cmd.Wait()
		release()
		if got := cmd.ProcessState.ExitCode(); got != 4 {
			t.Fatalf("exit status %d, want 4\n%s", got, cmd.Stderr)
		}
		if !strings.Contains(fmt.Sprint(cmd.Stderr), "resume 1") {
			t.Errorf("it does not say how to go on: %s", cmd.Stderr)
		}
		d.must(3, "run", "--sql", killSQL, "--accept", "any") // unfinished: refused
		d.must(0, "resume", "1")
		d.changedOnce()
		d.must(3, "resume", "1")
	})
}

// TestSecondSignal cancels the batch itself.
func TestSecondSignal(t *testing.T) {
	beside(t)
	d := fresh(t, "postgres")
	d.killTable()
	cmd := d.start("run", "--sql", "UPDATE t SET n = n + 0 * length(pg_sleep(0.002)::text) + 1", "--every-row", "--accept", "any", "--batch", "5000")
	d.until("the batch has begun", func() bool {
		return d.one("SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND application_name = 'jugatum run 1' AND state = 'active' AND query LIKE 'EXPLAIN%'") != "0"
	})
	interrupt(cmd)
	if got := cmd.ProcessState.ExitCode(); got != 4 {
		t.Fatalf("exit status %d, want 4\n%s", got, cmd.Stderr)
	}
	d.unchanged()
	if got := fmt.Sprint(cmd.Stderr); !strings.Contains(got, "was rolled back") {
		t.Errorf("it does not say what became of the batch: %s", got)
	}
	d.until("our sessions have ended", func() bool {
		return d.one("SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND application_name = 'jugatum run 1'") == "0"
	})
}

// interrupt sends signals until the program has ended: two that come too close
// to each other are one.
func interrupt(cmd *exec.Cmd) {
	ended := make(chan struct{})
	go func() {
		defer close(ended)
		cmd.Wait()
	}()
	for {
		cmd.Process.Signal(os.Interrupt)
		select {
		case <-ended:
			return
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// TestSecondSignalOnMariaDB: a statement whose client goes away would go on there
// and hold its locks; it is ended on the server, and rolled back before we say so.
func TestSecondSignalOnMariaDB(t *testing.T) {
	beside(t)
	d := fresh(t, "mariadb")
	d.killTable()
	d.exec("CREATE TABLE o (k bigint PRIMARY KEY)", "INSERT INTO o SELECT id FROM t")
	cmd := d.start("run", "--method", "single", "--keep", "none", "--sql", "DELETE t FROM t JOIN o ON o.k = t.id AND sleep(0.001) = 0", "--accept", "any")
	d.until("the statement is under way", func() bool { // and not the look at it before the run
		return d.haveLedger() && d.one("SELECT count(*) FROM jugatum_lane") != "0" &&
			d.one("SELECT count(*) FROM information_schema.processlist WHERE db = DATABASE() AND info LIKE 'DELETE%'") != "0"
	})
	interrupt(cmd)
	if got := cmd.ProcessState.ExitCode(); got != 4 {
		t.Fatalf("exit status %d, want 4\n%s", got, cmd.Stderr)
	}
	if got := d.one("SELECT count(*) FROM information_schema.processlist WHERE db = DATABASE() AND info LIKE 'DELETE%'"); got != "0" {
		t.Errorf("the statement goes on after the program has ended")
	}
	d.unchanged()
}

// TestCommitsOverlap: on MariaDB a batch changes its rows while the one before it
// commits, and what it does stays within one transaction.
func TestCommitsOverlap(t *testing.T) {
	_, d := ownMariaDB(t)
	t.Parallel()
	d.killTable()
	// While commits are held up, the next batch changes its rows all the same.
	cmd := d.start("run", "--sql", killSQL, "--accept", "any", "--batch", "500")
	d.waitForBatches(3)
	conn, err := d.db.Conn(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	for _, stage := range []string{"START", "FLUSH", "BLOCK_DDL", "BLOCK_COMMIT"} {
		if _, err := conn.ExecContext(context.Background(), "BACKUP STAGE "+stage); err != nil {
			t.Fatal(err)
		}
	}
	d.until("a batch has changed its rows while the one before it commits", func() bool {
		return d.transactions("undo log entries") == 2
	})
	if _, err := conn.ExecContext(context.Background(), "BACKUP STAGE END"); err != nil {
		t.Fatal(err)
	}
	conn.Close()
	if err := cmd.Wait(); err != nil {
		t.Fatalf("%v\n%s", err, cmd.Stderr)
	}
	d.changedOnce()
	d.must(0, "verify", "1")
	d.killTable()
	for i, keep := range []string{"values", "none"} {
		if i > 0 {
			d.killTable()
		}
		d.must(0, "run", "--sql", killSQL, "--accept", "any", "--batch", "1000", "--keep", keep, "--again")
		d.changedOnce()
		run := d.lastRun()
		d.must(0, "verify", run)
		batches, overlaps := atoi(d.one("SELECT count(*) FROM jugatum_batch WHERE run = "+run)), d.overlaps(run)
		if batches != killRows/1000 {
			t.Errorf("values kept: %s; of %d batches %d began before the commit of the one before had ended", keep, batches, overlaps)
		}
		t.Logf("values kept: %s; of %d batches %d began before the commit of the one before had ended", keep, batches, overlaps)
	}
	d.must(3, "undo", "3") // nothing was kept
	d.exec("UPDATE t SET n = id % 1000")
	// Where others are not to wait, one session of ours is busy at a time.
	d.must(0, "run", "--sql", killSQL, "--accept", "any", "--batch", "1000", "--again", "--waiters", "0")
	if got := d.overlaps("4"); got != 0 {
		t.Errorf("with --waiters %d batches began before the commit of the one before had ended", got)
	}
	d.changedOnce()
	d.must(0, "undo", "4")
	d.unchanged()
}

// overlaps is how many batches of a run by one worker began before the commit of
// the one before had ended.
func (d *database) overlaps(run string) int {
	return atoi(d.one(`SELECT count(*) FROM jugatum_batch a JOIN jugatum_batch b ON b.run = a.run AND b.n = a.n + 1
		WHERE a.run = ` + run + ` AND timestampdiff(MICROSECOND, left(a.began_at, 26), left(b.began_at, 26)) < a.hold_ms * 1000`))
}
