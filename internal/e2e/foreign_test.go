package e2e

import (
	"fmt"
	"strings"
	"testing"
)

// TestUndoLeavesWorkOfOthers: an undo takes out rows that the run had made only where nobody has done
// anything with them since: no column is another one, also of those that the run did not name, and no row
// of somebody else's goes with them.
func TestUndoLeavesWorkOfOthers(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE quay (id "+d.integer()+" PRIMARY KEY, name varchar(20), remark varchar(20), grade varchar(9) NOT NULL DEFAULT 'new', depth numeric(6,2) DEFAULT 0, tide integer DEFAULT -1)",
			"CREATE TABLE berth (id "+d.integer()+" PRIMARY KEY, quay "+d.integer()+", at integer, FOREIGN KEY (quay) REFERENCES quay (id) ON DELETE CASCADE)",
			"CREATE TABLE crane (id "+d.integer()+" PRIMARY KEY, quay "+d.integer()+", FOREIGN KEY (quay) REFERENCES quay (id) ON DELETE SET NULL)",
			"CREATE TABLE source (id "+d.integer()+" PRIMARY KEY, name varchar(20))")
		rows := "(1, 'a'), (2, 'b'), (3, 'c'), (4, 'd'), (5, 'e'), (6, 'f'), (7, 'g'), (8, 'h')"
		lines := strings.NewReplacer("(", "", "), ", "\n", ")", "\n", ", ", ",", "'", "").Replace("id,name\n" + rows)
		for _, job := range []string{
			"table = 'quay'\nchanges = '" + d.list("quays.csv", lines) + "'\naction = 'insert'",
			"table = 'source'\ncopy_to = 'quay'",
			"table = 'source'\nmove_to = 'quay'",
		} {
			d.exec("DELETE FROM berth", "DELETE FROM crane", "DELETE FROM quay", "DELETE FROM source", "INSERT INTO source VALUES "+rows)
			d.must(0, "run", d.job("[[step]]\n"+job+"\n"), "--accept", "any", "--every-row", "--again", "--batch", "3")
			run := d.lastRun()
			d.exec("UPDATE quay SET remark = 'mine' WHERE id = 2", "UPDATE quay SET grade = 'NEW' WHERE id = 3", "UPDATE quay SET depth = 0.01 WHERE id = 4", "UPDATE quay SET tide = NULL WHERE id = 5",
				"INSERT INTO berth VALUES (1, 6, 0)", "INSERT INTO crane VALUES (1, 7)")
			d.must(0, "verify", run)
			before := append(d.dump("berth"), d.dump("crane")...)
			o := d.must(5, "undo", run)
			same(t, job, append(d.dump("berth"), d.dump("crane")...), before)
			if got := strings.Join(d.lines("SELECT id FROM quay ORDER BY id"), " "); got != "2 3 4 5 6 7" {
				t.Errorf("%s: %s are left, want 2 to 7\n%s%s", job, got, o.out, o.err)
			}
			text := d.must(0, "show", d.lastRun()).out
			d.must(0, "verify", d.lastRun())
			if page := d.must(0, "report", d.lastRun(), "-o", "-").out; !strings.Contains(page, "rows of berth refer to it") {
				t.Error("the page does not tell why")
			}
			for _, want := range []string{"remark", "mine", "grade", "depth", "tide", "row 6 was refused: rows of berth refer to it (on delete cascade)", "row 7 was refused: rows of crane refer to it (on delete set null)"} {
				if !strings.Contains(text, want) {
					t.Errorf("%s: it is not told that %s: %s", job, want, text)
				}
			}
			if d.engine == "postgres" && !strings.Contains(o.out, "dead rows of quay") && !strings.Contains(job, "move_to") {
				t.Errorf("what is left for a VACUUM: %s", o.out)
			}
			if strings.Contains(job, "move_to") {
				if got := strings.Join(d.lines("SELECT id FROM source ORDER BY id"), " "); got != "1 8" {
					t.Errorf("%s are back, want 1 and 8", got)
				}
			}
		}
	})
}

// TestUndoOfRowsThatReferToEachOther: rows that were inserted and refer to others of them go as they came,
// whichever came first; where somebody else's row refers to one, it stays, and what it refers to.
func TestUndoOfRowsThatReferToEachOther(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE part (id "+d.integer()+" PRIMARY KEY, name varchar(20), of_part "+d.integer()+", FOREIGN KEY (of_part) REFERENCES part (id) ON DELETE CASCADE)",
			"CREATE TABLE source (id "+d.integer()+" PRIMARY KEY, name varchar(20), of_part "+d.integer()+")", "INSERT INTO part VALUES (1, 'crane', NULL)")
		rows := "id,name,of_part\n"
		for i := 2; i < 20; i++ {
			rows += fmt.Sprintf("%d,part %d,%d\n", i, i, i/2) // a tree
			d.exec(fmt.Sprintf("INSERT INTO source VALUES (%d, 'part %d', %d)", i, i, i/2))
		}
		before := append(d.dump("part"), d.dump("source")...)
		for _, job := range []string{
			"table = 'part'\nchanges = '" + d.list("parts.csv", rows) + "'\naction = 'insert'",
			"table = 'source'\ncopy_to = 'part'",
			"table = 'source'\nmove_to = 'part'",
		} {
			for _, batch := range []string{"4", "100"} {
				args := []string{"run", d.job("[[step]]\n" + job + "\n"), "--accept", "any", "--every-row", "--again", "--batch", batch}
				d.must(0, args...)
				d.must(0, "undo", d.lastRun(), "--batch", batch)
				d.must(0, "verify", d.lastRun())
				same(t, job, append(d.dump("part"), d.dump("source")...), before)

				d.must(0, args...)
				d.exec("INSERT INTO part VALUES (100, 'mine', 19)")
				d.must(5, "undo", d.lastRun(), "--batch", batch)
				if got := strings.Join(d.lines("SELECT id FROM part ORDER BY id"), " "); got != "1 2 4 9 19 100" {
					t.Errorf("%s: %s are left", job, got)
				}
				d.exec("DELETE FROM part WHERE id > 1", "DELETE FROM source")
				for i := 2; i < 20; i++ {
					d.exec(fmt.Sprintf("INSERT INTO source VALUES (%d, 'part %d', %d)", i, i, i/2))
				}
			}
		}
	})
}

// TestUndoSeesRowsThatComeMeanwhile: a row that somebody else is about to commit refers to one that an undo
// is about to take out, which waits for it and then leaves both.
func TestUndoSeesRowsThatComeMeanwhile(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, name varchar(20))", "CREATE TABLE source (id integer PRIMARY KEY, name varchar(20))",
			"CREATE TABLE berth (id integer PRIMARY KEY, quay integer, FOREIGN KEY (quay) REFERENCES t (id) ON DELETE CASCADE)", "INSERT INTO source VALUES (1, 'a'), (2, 'b'), (3, 'c')")
		for _, job := range []string{"copy_to", "move_to"} {
			d.must(0, "run", d.job("[[step]]\ntable = 'source'\n"+job+" = 't'\n"), "--accept", "3", "--every-row")
			run := d.lastRun()
			tx, err := d.db.Begin()
			if err != nil {
				t.Fatal(err)
			}
			defer tx.Rollback()
			if _, err := tx.Exec("INSERT INTO berth VALUES (1, 2)"); err != nil {
				t.Fatal(err)
			}
			cmd := d.start("undo", run)
			d.stuck()
			if err := tx.Commit(); err != nil {
				t.Fatal(err)
			}
			cmd.Wait()
			if status := cmd.ProcessState.ExitCode(); status != 5 {
				t.Errorf("%s: exit status %d: %s", job, status, cmd.Stderr)
			}
			if got := d.one("SELECT count(*) FROM berth") + " " + strings.Join(d.lines("SELECT id FROM t"), " "); got != "1 2" {
				t.Errorf("%s: berths and quays left: %s", job, got)
			}
			d.exec("DELETE FROM t", "DELETE FROM source", "INSERT INTO source VALUES (1, 'a'), (2, 'b'), (3, 'c')")
		}
	})
}

// TestOthersAreNoVictims: a session that comes to wait for a row between a batch's reading it and its changing
// it is served when the batch is done. It is not in a deadlock with the batch, of which the server would
// end the one that has done less: theirs.
func TestOthersAreNoVictims(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		const changed = "SELECT concat(sum(n), ' ', count(*)) FROM t WHERE name <> 'x'"
		const moved = "SELECT concat(count(*), ' ', (SELECT count(*) FROM t)) FROM t_old"
		move := "[[step]]\ntable = 't'\nwhere = 'id > 0'\nmove_to = 't_old'\n"
		// The server cannot work md5 out twice for all that we know, so that rows are read with locks.
		for name, c := range map[string]struct {
			job, query, want string
			more             []string
		}{
			"joined":             {"[[step]]\nsql = '" + d.by("UPDATE t JOIN source ON source.id = t.q SET t.name = md5(source.name)", "UPDATE t SET name = md5(source.name) FROM source WHERE source.id = t.q") + "'\n", changed, "1 40", nil},
			"filled":             {"[[step]]\ntable = 't'\nfrom = 'source'\nmatch = { q = 'id' }\nfill = { name = 'md5(source.name)' }\n", changed, "1 40", nil},
			"shaped":             {"[[step]]\ntable = 't'\n[step.shape]\nname = [{ of = 'word' }, 'upper']\n", changed, "1 40", nil},
			"moved":              {move, moved, "40 0", nil},
			"moved, not kept":    {move, moved, "40 0", []string{"--keep", "none"}},
			"moved by a roster":  {move, moved, "40 0", []string{"--method", "roster"}},
			"moved by two lanes": {move, moved, "40 0", []string{"--workers", "2"}},
		} {
			d.exec("DROP TABLE IF EXISTS t", "DROP TABLE IF EXISTS t_old", "DROP TABLE IF EXISTS source", "CREATE TABLE t (id integer PRIMARY KEY, q integer, n integer, word varchar(40), name varchar(40))", "CREATE TABLE source (id integer PRIMARY KEY, name varchar(20))",
				"INSERT INTO source VALUES (1, 'a'), (2, 'b')", "INSERT INTO t SELECT i, 1 + i % 2, 0, "+d.by("concat('w', i)", "'w' || i")+", 'x' FROM "+d.numbers(40))
			release := d.gate(40)
			cmd := d.start(append([]string{"run", d.job(c.job), "--accept", "40", "--every-row", "--again", "--batch", "10", "--hold", "60s"}, c.more...)...)
			d.stuck()
			other := make(chan error)
			go func() {
				_, err := d.db.Exec("UPDATE t SET n = n + 1 WHERE id = 39")
				other <- err
			}()
			d.until("the other session waits, or has changed its row", func() bool {
				if d.engine == "postgres" {
					return d.one("SELECT (SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND wait_event_type = 'Lock') + 2 * (SELECT sum(n) FROM t)") >= "2"
				}
				return d.transactions("LOCK WAIT") > 1 || d.one("SELECT coalesce(sum(n), 0) FROM t") == "1"
			})
			release()
			if err := <-other; err != nil {
				t.Errorf("%s: the other session: %v", name, err)
			}
			cmd.Wait()
			if status := cmd.ProcessState.ExitCode(); status != 0 {
				t.Errorf("%s: exit status %d: %s", name, status, cmd.Stderr)
			}
			if got := d.one(c.query); got != c.want {
				t.Errorf("%s: %s", name, got)
			}
		}
	})
}
