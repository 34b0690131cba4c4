package e2e

import (
	"strings"
	"testing"
)

// TestLastPass: rows that come to match behind the sweep are changed in a last pass, and what is done stays
// done; what both passes have done is verified, resumed and taken back.
func TestLastPass(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, code varchar(20) UNIQUE, fee integer)")
		fill := func() {
			d.exec("DELETE FROM t", "INSERT INTO t VALUES (99, 'N15', 1)")
			for _, id := range []string{"1", "2", "3", "4", "15", "20", "21"} {
				d.exec("INSERT INTO t VALUES (" + id + ", 'O" + id + "', 5)")
			}
		}
		fill()
		form := d.by("concat('N', id)", "'N' || id")
		text := "[[step]]\nname = \"rename\"\ntable = \"t\"\nwhere = \"code LIKE 'O%'\"\nset = { code = \"" + form + "\" }\nlate = \"again\"\n"
		job := d.job(text + "expect = 7\n") // of which those that come late are none
		o := d.must(0, "preview", job)
		if n := strings.Count(o.out, "in a last pass"); n != 1 || strings.Contains(o.out, "rows in all steps together") {
			t.Errorf("%s", o.out)
		}
		o = d.must(1, "run", job, "--accept", "7", "--batch", "1") // at row 15
		if !strings.Contains(o.err, "15") {
			t.Errorf("%s", o.err)
		}
		run := d.lastRun()
		d.exec("DELETE FROM t WHERE id = 99", "INSERT INTO t VALUES (-5, 'O-5', 6), (0, 'O0', 6)", "UPDATE t SET code = 'O33' WHERE id = 3")
		d.must(0, "resume", run)
		same(t, "after both passes", d.lines("SELECT code FROM t ORDER BY id"), strings.Fields("N-5 N0 N1 N2 N3 N4 N15 N20 N21"))
		o = d.must(0, "show", run)
		if !strings.Contains(o.out, "rename: last pass") {
			t.Errorf("%s", o.out)
		}
		d.must(0, "verify", run)
		d.must(5, "undo", run) // row 3, which somebody else had changed in between
		same(t, "taken back", d.lines("SELECT code FROM t ORDER BY id"), strings.Fields("O-5 O0 O1 O2 O33 O4 O15 O20 O21"))

		// What cannot be changed is set aside once, by whichever pass comes to it.
		fill()
		d.exec("INSERT INTO t VALUES (98, 'N1', 1)")
		d.must(5, "run", d.job(text), "--accept", "7", "--batch", "2", "--set-aside", "2", "--again")
		same(t, "set aside", d.lines("SELECT code FROM t ORDER BY id"), strings.Fields("O1 N2 N3 N4 O15 N20 N21 N1 N15"))
		d.exec("DELETE FROM t WHERE id > 90")
		d.must(0, "resume", d.lastRun(), "--retry-set-aside")
		same(t, "tried again", d.lines("SELECT code FROM t ORDER BY id"), strings.Fields("N1 N2 N3 N4 N15 N20 N21"))
		d.must(0, "verify", d.lastRun())
		d.must(0, "undo", d.lastRun())
		same(t, "and taken back", d.lines("SELECT code FROM t ORDER BY id"), strings.Fields("O1 O2 O3 O4 O15 O20 O21"))
	})
}

// TestLastPassOfEachKind: the kinds of steps that have a last pass make of rows that come late what they make
// of others; the rest says why it has none.
func TestLastPassOfEachKind(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE berth (id integer PRIMARY KEY, zone varchar(10), rate integer)", "INSERT INTO berth VALUES (1, 'A', 10), (2, 'B', 20)")
		columns := " (id integer PRIMARY KEY, zone varchar(10) UNIQUE, berth integer, rate integer, note varchar(60), done integer, frozen integer, CHECK (frozen IS NULL OR rate IS NULL AND length(note) = 11))"
		d.exec("CREATE TABLE old"+columns, "CREATE TABLE visit"+columns, "CREATE TABLE stamp (id integer PRIMARY KEY, visit integer REFERENCES visit (id))")
		early := []string{"(20, 'w', 1, NULL, 'north quay', NULL, NULL)", "(30, 'z', 1, NULL, ' north quay', NULL, NULL)", "(40, 'y', 2, NULL, 'north quay ', NULL, NULL)"}
		late := "(10, 'x', 2, NULL, ' north quay ', NULL, NULL)"
		fill := func(rows ...string) {
			d.exec("DELETE FROM stamp", "DELETE FROM old", "DELETE FROM visit", "INSERT INTO visit VALUES "+strings.Join(rows, ", "))
		}
		frozen := [2]string{"UPDATE visit SET frozen = 1 WHERE id = 40", "UPDATE visit SET frozen = NULL WHERE id = 40"}
		for _, x := range []struct {
			name, step string
			in         [2]string // what is in the way of row 40, and takes it out of there
		}{
			{"put", "table = 'visit'\nwhere = \"rate IS NULL\"\nput = { rate = 7 }\n", frozen},
			{"once", "table = 'visit'\nset = { rate = \"coalesce(rate, 0) + 1\" }\nonce = 'done'\n", frozen},
			{"delete", "table = 'visit'\nwhere = \"berth > 0\"\ndelete = true\n", [2]string{"INSERT INTO stamp VALUES (1, 40)", "DELETE FROM stamp"}},
			{"fill", "table = 'visit'\nfrom = 'berth'\nmatch = { berth = 'id' }\nfill = { rate = 'rate' }\n", frozen},
			{"replace", "in = ['visit.note']\nreplace = { find = 'north quay', with = 'Pier 4' }\n", frozen},
			{"shape", "table = 'visit'\n[step.shape]\nnote = ['trim', 'upper']\n", frozen},
			{"move", "table = 'visit'\nwhere = \"berth > 0\"\nmove_to = 'old'\n", [2]string{"INSERT INTO old VALUES (99, 'y', 1, 1, '', NULL, NULL)", "DELETE FROM old WHERE id = 99"}},
		} {
			t.Run(x.name, func(t *testing.T) {
				run := func(status int, step string) {
					d.must(status, "run", d.job("[[step]]\n"+step), "--accept", "any", "--every-row", "--again", "--batch", "1")
				}
				fill(append(early, late)...)
				run(0, x.step)
				want := append(d.dump("visit"), d.dump("old")...)
				fill(early...)
				before := d.dump("visit")
				d.exec(x.in[0])
				run(1, withLastPass(x.step)) // at row 40
				d.exec(x.in[1], "INSERT INTO visit VALUES "+late)
				d.must(0, "resume", d.lastRun())
				same(t, "both passes", append(d.dump("visit"), d.dump("old")...), want)
				d.must(0, "verify", d.lastRun())
				d.must(0, "undo", d.lastRun())
				d.exec("DELETE FROM visit WHERE id = 10")
				same(t, "taken back", d.dump("visit"), before)
			})
		}
		for _, x := range []struct{ step, why string }{
			{"table = 'visit'\nset = { rate = 'rate + 1' }\n", "computed from itself"},
			{"table = 'visit'\nset = { rate = 'berth', berth = 'rate' }\n", "rate is computed from berth, which is changed as well"},
			{"table = 'visit'\nfrom = 'berth'\nmatch = { rate = 'id' }\nfill = { rate = 'rate' }\n", "rows are joined by rate, which is changed"},
			{"in = ['visit.note']\nreplace = { pairs = [['north', 'south'], ['south', 'north']] }\n", "would be replaced again"},
			{"in = ['visit.note']\nreplace = { pattern = 'n+', with = 'n' }\n", "a pattern"},
			{"table = 'visit'\n[step.shape]\nnote = [{ after = ' ' }]\n", "might be done to its outcome again"},
			{"table = 'visit'\n[step.shape]\nzone = [{ of = 'note' }, { before = ' ' }]\nnote = ['trim']\n", "which is changed as well"},
			{"table = 'visit'\nwhere = 'rate = 1'\ncopy_to = 'old'\n", "would be copied again"},
			{"table = 'visit'\nfrom = 'berth'\nmatch = { zone = 'zone' }\nmatch_as = 'folded'\nfill = { rate = 'rate' }\n", "match_as"},
			{"table = 'visit'\norder = 'id'\nfirst = 2\nput = { rate = 1 }\n", "late does not go with first"},
			{"table = 'visit'\nmerge = ['zone']\n", "late does not go with merge"},
			{"table = 'visit'\nset = { rate = '(SELECT max(rate) FROM visit)' }\nmethod = 'single'\n", "reads rows of"},
		} {
			if o := d.must(2, "preview", d.job("[[step]]\n"+withLastPass(x.step))); !strings.Contains(o.err, x.why) {
				t.Errorf("%s: %s", x.step, o.err)
			}
		}
	})
}

// withLastPass is a step with a last pass.
func withLastPass(step string) string { return "late = 'again'\n" + step }
