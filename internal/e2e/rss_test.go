package e2e

import (
	"os"
	"syscall"
	"testing"
)

// maxRSS is the most memory that the process had resident, in bytes.
func maxRSS(p *os.ProcessState) int64 {
	return p.SysUsage().(*syscall.Rusage).Maxrss * 1024 // KiB on Linux
}

// TestMemory holds the program to 64 MiB, whatever the size of the table.
func TestMemory(t *testing.T) {
	if testing.Short() {
		t.Skip("2,000,000 rows")
	}
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
		if o.maxRSSBytes > most {
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
