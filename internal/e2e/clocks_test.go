package e2e

import (
	"fmt"
	"testing"

	"jugatum/internal/testserver"
)

// TestClocksPutBack changes rows whose key is a point in time, in a night in which texts of two of them are
// the same, and lets a run go on in another time zone than it began in.
func TestClocksPutBack(t *testing.T) {
	t.Parallel()
	_, d := ownMariaDB(t)
	for _, text := range testserver.Zones {
		d.exec(text)
	}
	const all = "SELECT concat_ws('|', id, unix_timestamp(at), coalesce(unix_timestamp(seen), 'none'), n, note) FROM %s ORDER BY id"
	in := func(zone string) {
		d.exec("SET GLOBAL time_zone = '" + zone + "'")
		d.db.SetMaxIdleConns(0) // sessions that have the old one
		d.db.SetMaxIdleConns(2)
	}
	fresh := func() {
		in("+00:00")
		for _, table := range []string{"t", "p"} {
			d.exec("DROP TABLE IF EXISTS " + table)
			d.exec("CREATE TABLE " + table + " (at timestamp(3) NOT NULL DEFAULT 0, seen timestamp NULL, id int UNIQUE, n int, note varchar(40), PRIMARY KEY (at, id))")
			d.exec("INSERT INTO " + table + " SELECT from_unixtime(1603580400 + 240 * seq + 0.125), if(seq % 3, from_unixtime(1603591200 - 240 * seq), NULL), seq, seq % 7, concat('http://old/', seq) FROM seq_1_to_60")
			d.exec("INSERT INTO " + table + " VALUES (0, 0, 61, 3, 'http://old/'), ('1970-01-01 00:00:01', NULL, 62, 3, 'http://old/'), ('2038-01-19 03:14:07', NULL, 63, 3, 'http://old/')")
		}
		in(testserver.Zone)
	}
	for _, c := range []struct{ sql, job string }{
		{sql: "UPDATE t SET n = n + 10 WHERE n >= 0"},
		{sql: "UPDATE t SET n = n + 10 WHERE n = 3"},
		{sql: "UPDATE t SET n = n + 10, seen = at WHERE n >= 0"},
		{sql: "DELETE FROM t WHERE n > 2"},
		{sql: "UPDATE t SET note = replace(note, 'old', 'new')", job: "[[step]]\nin = [\"t.note\"]\nreplace = { find = \"old\", with = \"new\" }\n"},
		{sql: "UPDATE t SET n = n + 10 ORDER BY at DESC LIMIT 45", job: "[[step]]\ntable = \"t\"\nset = { n = \"n + 10\" }\norder = \"at DESC\"\nfirst = 45\n"},
	} {
		for _, more := range [][]string{nil, {"--keep", "none"}, {"--workers", "2"}, {"--method", "roster"}} {
			fresh()
			before := d.lines(fmt.Sprintf(all, "p"))
			d.exec(c.sql)
			want := d.lines(fmt.Sprintf(all, "t"))
			fresh()
			args := []string{"run", "--sql", c.sql}
			if c.job != "" {
				if len(more) > 0 && more[0] == "--method" {
					continue
				}
				args = []string{"run", d.job(c.job)}
			}
			what := fmt.Sprint(c.sql, more)
			d.must(0, append(append(args, "--every-row", "--accept", "any", "--again", "--batch", "7"), more...)...)
			same(t, what, d.lines(fmt.Sprintf(all, "t")), want)
			d.must(0, "verify", d.lastRun())
			if len(more) > 0 && more[0] == "--keep" {
				continue
			}
			d.must(0, "undo", d.lastRun(), "--batch", "7")
			same(t, "undo of "+what, d.lines(fmt.Sprintf(all, "t")), before)
		}
	}

	fresh()
	before := d.lines(fmt.Sprintf(all, "t"))
	for row, zone := range map[int]string{24: testserver.Overseas, 41: "+00:00"} {
		fresh()
		release := d.gate(row)
		cmd := d.start("run", "--sql", "UPDATE t SET n = n + 10 WHERE n >= 0", "--accept", "63", "--again", "--batch", "7", "--hold", "60s")
		d.stuck()
		cmd.Process.Kill()
		cmd.Wait()
		release()
		in(zone)
		d.must(0, "resume", d.lastRun())
		if got := d.one("SELECT count(*) FROM t JOIN p USING (id) WHERE t.n = p.n + 10"); got != "63" {
			t.Errorf("resumed in %s, %s of 63 rows were changed", zone, got)
		}
		d.must(0, "verify", d.lastRun())
		d.must(0, "undo", d.lastRun(), "--batch", "7")
		same(t, "undo in "+zone, d.lines(fmt.Sprintf(all, "t")), before)
	}
}
