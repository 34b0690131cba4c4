package e2e

import (
	"context"
	"fmt"
	"sync"
	"time"
)

// What tests wait for, and what they hold so that it does not come too soon.

// waitForBatches waits until a run has finished some batches.
func (d *database) waitForBatches(n int) {
	d.t.Helper()
	d.until("batches are finished", func() bool {
		return d.haveLedger() && atoi(d.one("SELECT count(*) FROM "+d.ledger("batch"))) >= n
	})
}

// patience is how long a test waits for what must come, before it gives up.
const patience = 4 * time.Minute

// until waits for something that must come to be.
func (d *database) until(what string, so func() bool) {
	d.t.Helper()
	for begun := time.Now(); !so(); time.Sleep(10 * time.Millisecond) {
		if time.Since(begun) > patience {
			d.t.Fatalf("it does not come about that %s", what)
		}
	}
}

// gate holds a row of t, so that no run over it can come to its end, until it is
// released. On SQLite nothing can be held but the whole file, and it does nothing.
func (d *database) gate(id int) (release func()) {
	d.t.Helper()
	if d.engine == "sqlite" {
		return func() {}
	}
	conn, err := d.db.Conn(context.Background())
	if err != nil {
		d.t.Fatal(err)
	}
	for _, text := range []string{"BEGIN", d.by(fmt.Sprintf("SELECT n FROM t WHERE id = %d FOR UPDATE", id), fmt.Sprintf("UPDATE t SET n = n WHERE id = %d", id))} {
		if _, err := conn.ExecContext(context.Background(), text); err != nil {
			d.t.Fatal(err)
		}
	}
	return sync.OnceFunc(func() {
		conn.ExecContext(context.Background(), "ROLLBACK")
		conn.Close()
	})
}
