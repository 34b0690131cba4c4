package e2e

import (
	"strings"
	"testing"
)

// TestTriedAgainAfterLaterSteps: a row that a step has set aside is not changed any more once a
// later step has changed it, by whatever key it has then; a row that no later step has changed is.
func TestTriedAgainAfterLaterSteps(t *testing.T) {
	const first = "[[step]]\nname = 'raise'\nsql = 'UPDATE berth SET day_rate = day_rate * 100 WHERE day_rate > 4'\n"
	for _, x := range []struct {
		name, later string
		options     []string
		rates       string // of rows 11 to 15 afterwards, of which 14 and 15 were set aside
		status      int
		why         string
		belated     bool // a row of the first step has been changed after the second one
	}{
		{"by another update", "[[step]]\nname = 'add'\nsql = 'UPDATE berth SET day_rate = day_rate + 7 WHERE berth_no = 15'\n", nil,
			"500 600 700 1100 19", 5, `step "add" has changed the row since`, true},
		{"one of another row", "[[step]]\nname = 'add'\nsql = 'UPDATE berth SET day_rate = day_rate + 7 WHERE berth_no = 11'\n", nil,
			"507 600 700 1100 1200", 0, "", true},
		{"that moves its key", "[[step]]\nname = 'renumber'\nsql = 'UPDATE berth SET berth_no = berth_no + 100 WHERE berth_no > 13'\nmethod = 'single'\n", nil,
			"500 600 700", 5, `step "renumber" has changed the row since`, false},
		{"of which nothing is kept", "[[step]]\nname = 'add'\nsql = 'UPDATE berth SET day_rate = day_rate + 7 WHERE berth_no = 11'\n", []string{"--keep", "none"},
			"507 600 700 11 12", 5, "which they were is not on record", false},
		{"by a list", "[[step]]\nname = 'list'\ntable = 'berth'\nchanges = 'LIST'\naction = 'update'\n", nil,
			"500 600 700 1100 77", 5, `step "list" has changed the row since`, true},
		{"by a move", "[[step]]\nname = 'archive'\ntable = 'berth'\nwhere = 'berth_no = 15'\nmove_to = 'archive'\n", nil,
			"500 600 700 1100", 5, `step "archive" has changed the row since`, true},
	} {
		t.Run(x.name, func(t *testing.T) {
			engines(t, func(t *testing.T, d *database) {
				d.within = true
				d.ruledRates()
				d.exec("INSERT INTO berth SELECT i, i - 6 FROM "+d.numbers(13)+" WHERE i > 10", "INSERT INTO berth VALUES (14, 11), (15, 12)")
				before := d.dump("berth")
				later := strings.Replace(x.later, "LIST", d.list("late.csv", "berth_no,day_rate\n15,77\n"), 1)
				d.must(5, append([]string{"run", d.job(first + later), "--accept", "any", "--set-aside", "5"}, x.options...)...)
				run := d.lastRun()
				d.exec("UPDATE rule SET most = 9000")
				if o := d.must(x.status, "resume", run, "--retry-set-aside"); strings.Contains(o.err, `Rows of step "raise" have been changed after later steps`) != x.belated {
					t.Error(o.err)
				}
				if got := d.lines("SELECT day_rate FROM berth WHERE berth_no BETWEEN 11 AND 15 ORDER BY berth_no"); strings.Join(got, " ") != x.rates {
					t.Errorf("the rates are %s, expected %s", got, x.rates)
				}
				if o := d.must(0, "show", run); !strings.Contains(o.out, x.why) {
					t.Error(o.out)
				}
				if x.options != nil {
					return
				}
				d.must(0, "verify", run)
				d.must(0, "undo", run)
				same(t, "undone", d.dump("berth"), before)
			})
		})
	}
}

// TestTriedAgainWithActs: rows that would be deleted along with one that was set aside have been
// changed by a later step.
func TestTriedAgainWithActs(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE quay (quay_no "+d.integer()+" PRIMARY KEY)", "CREATE TABLE rule (keeps integer)", "INSERT INTO rule VALUES (3)",
			"CREATE TABLE berth (berth_no "+d.integer()+" PRIMARY KEY, quay_no "+d.integer()+" REFERENCES quay (quay_no) ON DELETE CASCADE, note text)")
		switch d.engine {
		case "postgres":
			d.exec("CREATE FUNCTION keeps() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN IF OLD.quay_no = (SELECT keeps FROM rule) THEN RAISE EXCEPTION 'kept'; END IF; RETURN OLD; END $$",
				"CREATE TRIGGER keeps BEFORE DELETE ON quay FOR EACH ROW EXECUTE FUNCTION keeps()")
		case "mariadb":
			d.exec("CREATE TRIGGER keeps BEFORE DELETE ON quay FOR EACH ROW BEGIN IF OLD.quay_no = (SELECT keeps FROM rule) THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = 'kept'; END IF; END")
		default:
			d.exec("CREATE TRIGGER keeps BEFORE DELETE ON quay FOR EACH ROW WHEN OLD.quay_no = (SELECT keeps FROM rule) BEGIN SELECT RAISE(ABORT, 'kept'); END")
		}
		d.exec("INSERT INTO quay SELECT i FROM "+d.numbers(5), "INSERT INTO berth SELECT i, 1 + i % 5, 'as it was' FROM "+d.numbers(20))
		job := d.job("[[step]]\nname = 'close'\nsql = 'DELETE FROM quay WHERE quay_no > 1'\n[[step]]\nname = 'note'\nsql = \"UPDATE berth SET note = 'open'\"\n")
		d.must(5, "run", job, "--accept", "any", "--set-aside", "5", "--despite", "every-row")
		run := d.lastRun()
		d.exec("DELETE FROM rule")
		d.must(5, "resume", run, "--retry-set-aside")
		if got := d.one("SELECT count(*) FROM berth"); got != "8" {
			t.Errorf("%s berths", got)
		}
		if o := d.must(0, "show", run); !strings.Contains(o.out, `step "note" has changed rows of berth since`) {
			t.Error(o.out)
		}
	})
}

// TestTriedAgainWithinAList: the other actions of the same list are of other lines, also where nothing
// is kept of them.
func TestTriedAgainWithinAList(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.ruledRates()
		d.exec("INSERT INTO berth SELECT i, i FROM " + d.numbers(5))
		job := d.job("[[step]]\ntable = 'berth'\nchanges = '" + d.list("a.csv", "berth_no,day_rate,op\n1,0,delete\n2,5000,update\n3,30,update\n6,60,insert\n") + "'\naction = { column = 'op' }\n")
		d.must(5, "run", job, "--accept", "any", "--set-aside", "2", "--keep", "none")
		d.exec("UPDATE rule SET most = 9000")
		d.must(0, "resume", d.lastRun(), "--retry-set-aside")
		if got := strings.Join(d.lines("SELECT day_rate FROM berth ORDER BY berth_no"), " "); got != "5000 30 4 5 60" {
			t.Error(got)
		}
	})
}
