package e2e

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"
)

// peak follows the most memory that a process had resident, in bytes, until it
// has ended. The process's own account of itself (rusage) begins with the
// memory of the one that started it, which here can be larger.
func peak(pid int, ended <-chan struct{}) int64 {
	most := int64(0)
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	for {
		if text, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid)); err == nil {
			if _, rest, ok := strings.Cut(string(text), "VmHWM:"); ok {
				var kib int64
				fmt.Sscan(rest, &kib)
				most = max(most, kib*1024)
			}
		}
		select {
		case <-ended:
			return most
		case <-tick.C:
		}
	}
}

// TestMemory holds the program to 64 MiB, whatever the size of the table.
func TestMemory(t *testing.T) {
	const rows, most = 2_000_000, 64 << 20
	engines(t, func(t *testing.T, d *database) {
		unlogged := ""
		if d.engine == "postgres" {
			unlogged = "UNLOGGED "
		}
		d.exec("CREATE "+unlogged+"TABLE t (id "+d.integer()+" PRIMARY KEY, n integer, s text)", "INSERT INTO t SELECT i, i % 1000, 'moor with care ' || i FROM "+d.numbers(rows))
		d.settled("t")
		o := d.must(0, "run", "--sql", "UPDATE t SET s = replace(s, 'moor', 'berth') WHERE n % 4 = 0", "--accept", "any")
		t.Logf("%d rows, resident %.1f MiB", rows, float64(o.maxRSSBytes)/(1<<20))
		if o.maxRSSBytes > most || o.maxRSSBytes < 1<<20 {
			t.Errorf("resident memory %d bytes, want at most %d", o.maxRSSBytes, most)
		}
		if got := d.one("SELECT count(*) FROM t WHERE s LIKE 'berth%'"); got != "500000" {
			t.Errorf("%s rows changed", got)
		}
		o = d.must(0, "verify", "1")
		if o.maxRSSBytes > most {
			t.Errorf("verify: resident memory %d bytes", o.maxRSSBytes)
		}
	})
}
