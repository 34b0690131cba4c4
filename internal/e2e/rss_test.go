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
		if d.engine == "sqlite" {
			d.exec("CREATE TABLE t (id INTEGER PRIMARY KEY, n INTEGER, s TEXT)",
				"INSERT INTO t SELECT i, i % 1000, 'moor with care ' || i FROM (WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < 2000000) SELECT i FROM s)")
		} else {
			d.exec("CREATE UNLOGGED TABLE t (id bigint PRIMARY KEY, n integer, s text)", "INSERT INTO t SELECT i, i % 1000, 'moor with care ' || i FROM generate_series(1, 2000000) AS i", "ANALYZE t")
		}
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
