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

// TestMemory: what the program needs does not grow with the table, and is not
// more than 64 MiB.
func TestMemory(t *testing.T) {
	const small, large, most, growth = 300_000, 600_000, 64 << 20, 12 << 20
	engines(t, func(t *testing.T, d *database) {
		unlogged := ""
		if d.engine == "postgres" {
			unlogged = "UNLOGGED "
		}
		peaks := map[string][]int64{}
		for i, rows := range []int{small, large} {
			d.exec("DROP TABLE IF EXISTS t", "CREATE "+unlogged+"TABLE t (id "+d.integer()+" PRIMARY KEY, n integer, s text)", "INSERT INTO t SELECT i, i % 1000, 'moor with care ' || i FROM "+d.numbers(rows))
			d.settled("t")
			for _, args := range [][]string{{"run", "--again", "--sql", "UPDATE t SET s = replace(s, 'moor', 'berth') WHERE n % 4 = 0", "--accept", "any"}, {"verify", fmt.Sprint(i + 1)}} {
				o := d.must(0, args...)
				if o.maxRSSBytes > most || o.maxRSSBytes < 1<<20 {
					t.Errorf("%s over %d rows: resident memory %d bytes, want at most %d", args[0], rows, o.maxRSSBytes, most)
				}
				peaks[args[0]] = append(peaks[args[0]], o.maxRSSBytes)
			}
			if got := d.one("SELECT count(*) FROM t WHERE s LIKE 'berth%'"); got != fmt.Sprint(rows/4) {
				t.Errorf("%s rows changed", got)
			}
		}
		for what, p := range peaks {
			t.Logf("%s: %d rows %.1f MiB, %d rows %.1f MiB", what, small, float64(p[0])/(1<<20), large, float64(p[1])/(1<<20))
			if p[1]-p[0] > growth {
				t.Errorf("%s: twice the rows need %.1f MiB more", what, float64(p[1]-p[0])/(1<<20))
			}
		}
	})
}
