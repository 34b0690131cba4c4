package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// triable makes a table whose trigger writes to another one, and of which every other row matches.
func (d *database) triable(rows int) (sql string) {
	d.exec("CREATE TABLE berth (berth_no "+d.integer()+" PRIMARY KEY, day_rate integer NOT NULL, note varchar(40))", "CREATE TABLE history (berth_no "+d.integer()+", day_rate integer)")
	d.exec("INSERT INTO berth SELECT i, i % 500, concat('as it was ', i) FROM " + d.numbers(rows))
	switch d.engine {
	case "postgres":
		d.exec("CREATE FUNCTION keep_history() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO history VALUES (OLD.berth_no, OLD.day_rate); RETURN NEW; END $$",
			"CREATE TRIGGER history AFTER UPDATE ON berth FOR EACH ROW EXECUTE FUNCTION keep_history()")
	default:
		d.exec("CREATE TRIGGER history AFTER UPDATE ON berth FOR EACH ROW BEGIN INSERT INTO history VALUES (OLD.berth_no, OLD.day_rate); END")
	}
	return "UPDATE berth SET day_rate = day_rate + 1000 WHERE day_rate < 250"
}

// TestTrial: a trial tells what each way would come to and which to take, and the table, and what its
// triggers write to, are the same to the byte afterwards.
func TestTrial(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		sql := d.triable(4000)
		d.within = true
		before := d.dump("berth")
		page := filepath.Join(t.TempDir(), "trial.html")
		o := d.must(0, "trial", "--sql", sql, "--rounds", "2", "--json", "--page", page)
		same(t, "after a trial", d.dump("berth"), before)
		if n := d.one("SELECT count(*) FROM history"); n != "0" {
			t.Errorf("the trigger has left %s rows", n)
		}
		var out struct {
			Steps []struct {
				Rows, Changes int64
				Trials        int
				Advice, Run   string
				Ways          []struct {
					Name, Failed string
					Seconds      float64
					Hold         float64 `json:"hold_ms"`
					Room         int64
					Keep         bool
				}
			}
		}
		if err := json.Unmarshal([]byte(o.out), &out); err != nil {
			t.Fatal(err)
		}
		s := out.Steps[0]
		written, err := os.ReadFile(page)
		if err != nil {
			t.Fatal(err)
		}
		if o := d.must(2, "trial", "--sql", sql, "--page", page); !strings.Contains(o.err, "is there already") {
			t.Error(o.err)
		}
		names := map[string]bool{}
		for _, w := range s.Ways {
			names[w.Name] = true
			if !strings.Contains(string(written), `<th scope="row">`+w.Name) {
				t.Errorf("the page has no %s", w.Name)
			}
			if w.Failed != "" || w.Seconds <= 0 || w.Hold <= 0 || w.Keep && w.Room == 0 {
				t.Errorf("%+v", w)
			}
		}
		want := []string{"sweep", "single", "sweep, nothing kept", "single, nothing kept", "rowwise, nothing kept"}
		if d.engine != "sqlite" {
			want = append(want, "sweep, 2 workers", "sweep, 4 workers")
		}
		for _, name := range want {
			if !names[name] {
				t.Errorf("%s was not tried: %v", name, names)
			}
		}
		if s.Changes != 2000 || s.Trials < 10 || s.Run == "" || !strings.HasPrefix(s.Advice, "s") {
			t.Errorf("%+v", s)
		}
		// What it says is what run takes, and what preview says runs the same way.
		d.must(0, append([]string{"run", "--sql", sql, "--accept", "2000"}, strings.Fields(s.Run)...)...)
		d.must(0, "verify", d.lastRun())
		d.must(0, "undo", d.lastRun())
		same(t, "undone", d.dump("berth"), before)
		text := d.must(0, "trial", "--sql", sql, "--rounds", "1", "--by", "hold").out
		if !strings.Contains(text, "2,000 rows would change") || !strings.Contains(text, "all rolled back") || !strings.Contains(text, "(to compare)") || !strings.Contains(text, "jugatum run --sql ") {
			t.Error(text)
		}
	})
}

// TestTrialOnACopy: ways are tried with commits on a copy of the table, of which nothing is left, also
// after a kill; the table stays as it was.
func TestTrialOnACopy(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE \"old berth\" (\"select\" "+d.integer()+" PRIMARY KEY, day_rate integer NOT NULL CHECK (day_rate < 5000), note varchar(40) DEFAULT 'n', quay integer)",
			"CREATE UNIQUE INDEX by_note ON \"old berth\" (note, \"select\")", "CREATE INDEX few ON \"old berth\" (quay)")
		d.exec("INSERT INTO \"old berth\" SELECT i, i % 500, concat('as it was ', i), i % 7 FROM " + d.numbers(3000))
		d.settled("\"old berth\"")
		before := d.dump("\"old berth\"")
		sql := d.by("UPDATE `old berth` SET day_rate = `old berth`.day_rate + 1000, note = upper(note) WHERE day_rate < 250", "UPDATE \"old berth\" SET day_rate = \"old berth\".day_rate + 1000, note = upper(note) WHERE day_rate < 250")
		left := func() string {
			return strings.Join(d.lines(map[string]string{"sqlite": "SELECT name FROM sqlite_schema WHERE name LIKE 'jugatum_trial%' OR name LIKE 'jugatum_rehearsal%'",
				"postgres": "SELECT relname FROM pg_class WHERE relname LIKE 'trial%' OR relname LIKE 'rehearsal%'",
				"mariadb":  "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND (table_name LIKE 'jugatum_trial%' OR table_name LIKE 'jugatum_rehearsal%')"}[d.engine]), ", ")
		}
		var out struct {
			Steps []struct {
				Copied, Changes int64
				Ways            []struct {
					Name, Failed string
					Trials       int
					Seconds      float64
					Log          int64   `json:"log_bytes"`
					Hold         float64 `json:"hold_ms"`
				}
			}
		}
		o := d.must(0, "trial", "--sql", sql, "--copy", "--rounds", "2", "--json")
		if err := json.Unmarshal([]byte(o.out), &out); err != nil {
			t.Fatal(err)
		}
		s := out.Steps[0]
		if s.Copied != 3000 || s.Changes != 1500 || len(s.Ways) < 5 {
			t.Errorf("%+v", s)
		}
		for _, w := range s.Ways {
			if w.Failed != "" || w.Trials == 0 || w.Seconds <= 0 || w.Hold <= 0 || d.engine != "sqlite" && w.Log == 0 {
				t.Errorf("%+v", w)
			}
		}
		same(t, "after trials on a copy", d.dump("\"old berth\""), before)
		if got := left(); got != "" {
			t.Errorf("left: %s", got)
		}
		if o := d.must(0, "trial", "--sql", sql, "--copy", "--rounds", "1", "--spend-room", "40KB").out; !strings.Contains(o, "on a copy of ") || strings.Contains(o, "copy of 3,000 rows") {
			t.Errorf("a copy that may take 40 KB: %s", o)
		}

		// Interrupted, it drops the copy itself.
		cmd := d.start("trial", "--sql", sql, "--copy", "--rounds", "100")
		d.until("there is a copy", func() bool { return strings.Contains(left(), "trial_copy") })
		cmd.Process.Signal(os.Interrupt)
		cmd.Wait()
		if got := left(); got != "" || cmd.ProcessState.ExitCode() == 0 {
			t.Errorf("interrupted: exit status %d, left: %s", cmd.ProcessState.ExitCode(), got)
		}

		// Killed with the copy there, it is dropped by the next trial, or by prune.
		for _, next := range [][]string{{"trial", "--sql", sql, "--copy", "--rounds", "1"}, {"prune", "--leftovers", "--yes"}} {
			cmd := d.start("trial", "--sql", sql, "--copy", "--rounds", "100")
			d.until("there is a copy", func() bool { return strings.Contains(left(), "trial_copy") })
			cmd.Process.Kill()
			cmd.Wait()
			d.until("nothing is left after "+next[0], func() bool { // what the server was at when its client was killed may come to its end after that
				d.must(0, next...)
				return left() == ""
			})
		}
		same(t, "after a kill", d.dump("\"old berth\""), before)

		// What a trigger writes elsewhere would stay.
		d.exec("DROP TABLE \"old berth\"")
		sql = d.triable(100)
		if o := d.must(3, "trial", "--sql", sql, "--copy"); !strings.Contains(o.err, "trigger history of ") || !strings.Contains(o.err, "would stay there") {
			t.Error(o.err)
		}
		d.exec("CREATE TABLE quay (id "+d.integer()+" PRIMARY KEY)", "CREATE TABLE crane (id "+d.integer()+" PRIMARY KEY, quay "+d.integer()+", FOREIGN KEY (quay) REFERENCES quay (id) ON DELETE CASCADE)",
			"INSERT INTO quay VALUES (1), (2)", "INSERT INTO crane VALUES (1, 1)")
		if o := d.must(3, "trial", "--sql", "DELETE FROM quay WHERE id < 3", "--copy"); !strings.Contains(o.err, "rows of other tables go along") || !strings.Contains(o.err, "leave out --copy") {
			t.Error(o.err)
		}
		if d.engine == "mariadb" {
			if o := d.must(3, "trial", "--sql", "UPDATE crane JOIN quay ON quay.id = crane.quay SET crane.quay = 2 WHERE quay.id = 1", "--copy"); !strings.Contains(o.err, "among others that it joins") {
				t.Error(o.err)
			}
		}
		if o := d.must(2, "trial", "--sql", sql, "--spend-room", "1GB"); !strings.Contains(o.err, "goes with --copy") {
			t.Error(o.err)
		}
	})
}

// TestTrialWrites: what a trial recommends goes into the job's file, which runs so then; the rest of the
// file stays as it was written.
func TestTrialWrites(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		sql := d.triable(1000)
		path := d.job("title = 'Rates' # of 2027\n[[step]]\nname = 'raise'\nsql = '" + sql + "'\n")
		if o := d.must(0, "trial", path, "--rounds", "1", "--write"); !strings.Contains(o.err, "says so now") {
			t.Error(o.err)
		}
		text, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		m := regexp.MustCompile(`^title = 'Rates' # of 2027\n\[limits\]\nworkers = ([1-4])\n\n\[\[step\]\]\nmethod = "(sweep|single|roster)"\nname = 'raise'\n`).FindStringSubmatch(string(text))
		if m == nil {
			t.Fatalf("%s", text)
		}
		d.must(0, "run", path, "--accept", "500")
		if got := d.one("SELECT method FROM " + d.ledger("step")); got != m[2] {
			t.Errorf("the run went by %s", got)
		}
		if o := d.must(2, "trial", "--sql", sql, "--write"); !strings.Contains(o.err, "one statement has none") {
			t.Error(o.err)
		}
	})
}

// TestTrialKilled: a trial that is killed leaves the table as it was, and nothing that the next one
// would stumble over.
func TestTrialKilled(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		sql := d.triable(4000)
		before := d.dump("berth")
		for range 3 {
			cmd := d.start("trial", "--sql", sql, "--rounds", "100", "--spend", "10m")
			d.until("the ledger is there", func() bool { return d.haveLedger() })
			cmd.Process.Kill()
			cmd.Wait()
		}
		d.within = true
		d.must(0, "trial", "--sql", sql, "--rounds", "1")
		same(t, "after trials that were killed", d.dump("berth"), before)
	})
}

// TestTrialRefused: what cannot be tried is told, and why.
func TestTrialRefused(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.triable(50)
		d.exec("CREATE TABLE keyless (n integer)")
		call := d.job("[[step]]\neach = '" + d.list("a.csv", "no\n1\n") + "'\ncall = 'UPDATE berth SET day_rate = 1 WHERE berth_no = :no'\n")
		list := d.job("[[step]]\ntable = 'berth'\nchanges = '" + d.list("b.csv", "berth_no,day_rate\n1,2\n") + "'\naction = 'update'\n")
		for _, x := range []struct {
			status int
			args   []string
			want   string
		}{
			{2, []string{"--sql", "UPDATE berth SET day_rate = 1 WHERE day_rate > 3", "--by", "price"}, "--by price: time, hold, log, room"},
			{2, []string{"--sql", "UPDATE berth SET day_rate = 1 WHERE day_rate > 3", "--spend", "1ms"}, "--spend 1ms: at least 1s"},
			{2, []string{"--sql", "UPDATE berth SET day_rate = 1 WHERE day_rate > 3", "--rounds", "0"}, "--rounds 0: 1 to 100"},
			{2, []string{"--sql", "UPDATE berth SET day_rate = 1 WHERE day_rate > 3", "--spend-log", "much"}, "--spend-log much: expected an amount"},
			{3, []string{"--sql", "UPDATE berth SET day_rate = 1"}, "every-row"},
			{3, []string{call}, "a rollback may not take back all that the statement does"},
			{3, []string{list}, "there is one way to carry it out"},
		} {
			if o := d.must(x.status, append([]string{"trial"}, x.args...)...); !strings.Contains(o.err, x.want) {
				t.Errorf("%q: %s", x.args, o.err)
			}
		}
		if o := d.must(0, "trial", "--sql", "UPDATE berth SET day_rate = 1 WHERE day_rate > 30000"); !strings.Contains(o.out, "no row would change: there is nothing to try") {
			t.Error(o.out)
		}
		if o := d.must(0, "trial", "--sql", "UPDATE berth SET day_rate = 2 WHERE day_rate > 3", "--rounds", "1"); !strings.Contains(o.out, "too few to tell more than the order of size") {
			t.Error(o.out)
		}
		if d.engine != "sqlite" {
			d.must(3, "trial", "--sql", "UPDATE keyless SET n = 1 WHERE n > 3")
		}
	})
}
