package e2e

import (
	"fmt"
	"strings"
	"testing"
)

// TestFillInAForm: what fills columns is brought into a form on the way; in batches, by one statement,
// by two workers, killed and resumed; verified and taken back.
func TestFillInAForm(t *testing.T) {
	const job = `[[step]]
table     = 'visit'
where     = 'id > 3'
from      = 'quay'
match     = { quay_no = 'no' }
fill      = { quay_name = 'name', depth = 'sounding', note = 'name' }
shape     = { quay_name = ["trim", "collapse", { map = { "OLD MOLE" = "Old Mole" } }, { null_to = "?" }], depth = [{ extract = '([\d,]+) m' }, { number = "," }] }
`
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE quay (no integer, name varchar(40), sounding varchar(40))", "CREATE TABLE visit (id "+d.integer()+" PRIMARY KEY, quay_no integer, quay_name varchar(20), depth numeric(6,2), note varchar(60))",
			"INSERT INTO quay VALUES (1, '  North  Quay ', 'sounded: 7,25 m'), (2, 'OLD MOLE', NULL), (3, NULL, 'none'), (4, 'West Quay', '12 m'), (4, 'West Quay', '12 m'), (5, 'nobody', '1 m')",
			"INSERT INTO visit SELECT i, i % 7, 'old', 1, 'old' FROM "+d.numbers(400))
		before := d.dump("visit")
		const want = "0|old|1|old 1|North Quay|7.25|  North  Quay  2|Old Mole|NULL|OLD MOLE 3|?|NULL|NULL 4|West Quay|12|West Quay 5|nobody|1|nobody 6|%s|%s|%[1]s"
		rows := func() string {
			d.t.Helper()
			value := func(c string) string { return "coalesce(CAST(" + c + " AS " + d.by("char", "text") + "), 'NULL')" }
			lines := d.lines("SELECT DISTINCT " + d.by("concat_ws('|', quay_no, "+value("quay_name")+", "+value("depth")+", "+value("note")+")", "quay_no || '|' || "+value("quay_name")+" || '|' || "+value("depth")+" || '|' || "+value("note")) + " AS x FROM visit WHERE id > 3 ORDER BY x")
			return strings.ReplaceAll(strings.Join(lines, " "), ".00", "")
		}
		stays := fmt.Sprintf(want, "old", "1")
		file := d.job(job)
		if o := d.must(0, "preview", file); !strings.Contains(o.out, "283 rows") || !strings.Contains(o.out, "114 rows match nothing") || !strings.Contains(o.out, "extract") || strings.Contains(o.out, "jugatum_") {
			t.Error(o.out)
		}
		r := seeded(48)
		for _, options := range [][]string{{"--batch", "30"}, {"--method", "single"}, append([]string{"--batch", "7"}, d.workers(2)...), {"--batch", "20", "--keep", "none"}, {"kill"}} {
			args := []string{"run", file, "--accept", "283", "--again"}
			if options[0] == "kill" {
				kills := 0
				d.killedMidway(r, &kills, 3, func() {}, append(args, "--batch", "9")...)
			} else {
				d.must(0, append(args, options...)...)
			}
			if got := rows(); got != stays {
				t.Fatalf("%v:\n%s\nexpected\n%s", options, got, stays)
			}
			run := d.lastRun()
			if o := d.must(0, "run", file, "--accept", "any", "--again"); !strings.Contains(o.out, "nothing") { // all of it has its form
				t.Error(o.out)
			}
			if options[len(options)-1] != "none" {
				d.must(0, "verify", run)
				d.must(0, "undo", run)
				same(t, fmt.Sprint(options, " undone"), d.dump("visit"), before)
			} else {
				d.exec("UPDATE visit SET quay_name = 'old', depth = 1, note = 'old'")
			}
		}
		d.must(0, "run", d.job(job+"unmatched = 'null'\n"), "--accept", "any", "--batch", "50")
		if got := strings.Replace(rows(), "0|NULL|NULL|NULL", "0|old|1|old", 1); got != fmt.Sprintf(want, "NULL", "NULL") {
			t.Errorf("without a match: %s", got)
		}
		d.must(0, "undo", d.lastRun())
		same(t, "undone", d.dump("visit"), before)

		// Of what is to be made of several values nobody can say which is meant, though the first of
		// them may be picked.
		d.exec("INSERT INTO quay VALUES (5, 'somebody', '2 m')")
		if o := d.must(3, "run", file, "--accept", "any", "--again"); !strings.Contains(o.err, "several") {
			t.Error(o.err)
		}
		d.must(0, "run", d.job(job+"pick = 'name DESC'\n"), "--accept", "any")
		if got := rows(); got != strings.Replace(stays, "5|nobody|1|nobody", "5|somebody|2|somebody", 1) {
			t.Errorf("picked: %s", got)
		}
		d.must(0, "undo", d.lastRun())
		d.exec("DELETE FROM quay WHERE no = 5")

		// What has no form is set aside, and what would be cut told.
		d.exec("UPDATE quay SET sounding = '1,2,3 m' WHERE no = 1", "UPDATE quay SET name = 'a quay whose name is far too long' WHERE no = 2")
		aside := 57
		if d.engine != "sqlite" { // which holds no column to its length
			aside = 57 + 56
		}
		d.must(5, "run", file, "--accept", "any", "--again", "--set-aside", "200")
		if got := d.one("SELECT sum(set_aside) FROM " + d.ledger("batch") + " WHERE run = " + d.lastRun()); atoi(got) != aside {
			t.Errorf("%s rows were set aside, expected %d", got, aside)
		}
		d.must(0, "undo", d.lastRun())
		same(t, "undone", d.dump("visit"), before)

		for _, bad := range [][2]string{
			{strings.Replace(job, "shape     = { quay_name", "shape     = { quay_no", 1), "not among the columns that are filled"},
			{strings.Replace(job, `quay_name = ["trim"`, `quay_name = [{ of = "note" }, "trim"`, 1), "stands in fill"},
			{strings.Replace(job, `, { number = "," }`, "", 1), "a text goes there as a number"},
			{strings.Replace(job, `note = 'name'`, `quay_no = 'no'`, 1), "fill it in a step of its own"},
			{strings.Replace(job, `"trim"`, `"trims"`, 1), "trims"},
		} {
			if o := d.must(2, "preview", d.job(bad[0])); !strings.Contains(o.err, bad[1]) || !strings.Contains(o.err, ":") {
				t.Errorf("%s\n%s", bad[0], o.err)
			}
		}
	})
}
