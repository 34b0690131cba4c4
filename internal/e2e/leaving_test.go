package e2e

import (
	"context"
	"os"
	"strings"
	"testing"
)

// TestLookingLeavesNothingBehind: a command that looks and is interrupted, while the server is busy
// with its query, leaves no query behind there.
func TestLookingLeavesNothingBehind(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		if d.engine == "sqlite" { // there is no server
			return
		}
		if d.engine == "postgres" && atoi(d.one("SELECT current_setting('server_version_num')")) < 140000 {
			t.Skip("PostgreSQL 13 does not look whether its client is there")
		}
		d.exec("CREATE TABLE berth (id integer PRIMARY KEY, note varchar(20))", "INSERT INTO berth VALUES (1, 'x')")
		ctx := context.Background()
		other, err := d.db.Conn(ctx)
		if err != nil {
			t.Fatal(err)
		}
		defer other.Close()
		busy := d.by("SELECT count(*) FROM information_schema.processlist WHERE db = DATABASE() AND command = 'Query' AND info LIKE '%berth%' AND state LIKE 'Waiting%'",
			"SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND application_name LIKE 'jugatum%' AND state = 'active' AND wait_event_type = 'Lock'")
		for _, args := range [][]string{{"find", "x"}, {"preview", "--sql", "UPDATE berth SET note = 'y'"}} {
			for _, s := range map[string][]string{"mariadb": {"LOCK TABLES berth WRITE"}, "postgres": {"BEGIN", "LOCK TABLE berth IN ACCESS EXCLUSIVE MODE"}}[d.engine] {
				if _, err := other.ExecContext(ctx, s); err != nil {
					t.Fatal(err)
				}
			}
			cmd := d.start(args...)
			d.until("the server is busy with a query", func() bool { return d.one(busy) != "0" })
			cmd.Process.Signal(os.Interrupt)
			cmd.Wait()
			if said := cmd.Stderr.(*strings.Builder).String(); cmd.ProcessState.ExitCode() != 1 || !strings.Contains(said, "broken off by a signal; nothing was changed") {
				t.Errorf("%v: exit status %d\n%s", args, cmd.ProcessState.ExitCode(), said)
			}
			d.until("the query has ended", func() bool { return d.one(busy) == "0" })
			if _, err := other.ExecContext(ctx, d.by("UNLOCK TABLES", "ROLLBACK")); err != nil {
				t.Fatal(err)
			}
		}
	})
}
