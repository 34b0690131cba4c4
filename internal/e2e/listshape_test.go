package e2e

import (
	"strings"
	"testing"
)

// TestListShaped: the values of a list are brought into a form before anybody looks at them: its keys find
// their rows, its numbers are numbers; what has no such form is a fault with its place.
func TestListShaped(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE berth (code varchar(20) PRIMARY KEY, rate numeric(8,2), since date, note varchar(40))",
			"INSERT INTO berth VALUES ('N-1', 10, '2020-01-01', 'old'), ('N-2', 20, '2020-01-01', 'old'), ('N-3', 30, '2020-01-01', NULL)")
		before := d.dump("berth")
		const form = `shape = { "no." = ["trim", "upper"], rate = { number = ",", group = "." }, since = { date = ["02.01.2006", "2/1/06"] }, note = ["trim", "blank_to_null"], op = "lower" }
columns = { "no." = "code" }
action = { column = "op" }
`
		lines := "no.,rate,since,note,op\n\" n-1 \",\"1.234,5\",28.11.2026,\" repaired \",UPDATE\nN-2,20,1/1/24,  ,Update\nn-4,\"7,25\",01.02.2025,x,INSERT\nN-3,1,1/1/24,,delete\n"
		for _, x := range []struct{ file, text string }{
			{"list.csv", lines},
			{"list.jsonl", `{"no.": " n-1 ", "rate": "1.234,5", "since": "28.11.2026", "note": " repaired ", "op": "UPDATE"}
{"no.": "N-2", "rate": "20", "since": "1/1/24", "note": "  ", "op": "Update"}
{"no.": "n-4", "rate": "7,25", "since": "01.02.2025", "note": "x", "op": "INSERT"}
{"no.": "N-3", "rate": "1", "since": "1/1/24", "note": null, "op": "delete"}
`},
		} {
			job := d.job("[[step]]\ntable = 'berth'\nchanges = '" + d.list(x.file, x.text) + "'\n" + form)
			d.must(0, "preview", job)
			d.must(0, "run", job, "--accept", "4", "--again")
			for _, row := range []string{"code = 'N-1' AND rate = 1234.5 AND since = '2026-11-28' AND note = 'repaired'", "code = 'N-2' AND rate = 20 AND since = '2024-01-01' AND note IS NULL", "code = 'N-4' AND rate = 7.25 AND since = '2025-02-01' AND note = 'x'"} {
				if n := d.one("SELECT count(*) FROM berth WHERE " + row); n != "1" || d.one("SELECT count(*) FROM berth") != "3" {
					t.Errorf("%s: %s: %s rows", x.file, row, n)
				}
			}
			d.must(0, "verify", d.lastRun())
			d.must(0, "undo", d.lastRun())
			same(t, "undone", d.dump("berth"), before)
		}
		for _, x := range []struct{ text, want string }{
			{strings.Replace(lines, "28.11.2026", "31.11.2026", 1), "list.csv:2: column since: it is no date as in"},
			{strings.Replace(lines, "N-2,20,", "N-2,1.2.3,", 1), "list.csv:3: column rate: it is no number"},
			{strings.Replace(lines, "n-4,", "n-1,", 1), "have the same key"}, // once they are upper case
			{strings.Replace(lines, ",note,", ",remark,", 1), `shape: there is no column "note"`},
		} {
			if o := d.must(2, "preview", d.job("[[step]]\ntable = 'berth'\nchanges = '"+d.list("list.csv", x.text)+"'\n"+form)); !strings.Contains(o.err, x.want) {
				t.Errorf("expected %q: %s", x.want, o.err)
			}
		}
		job := d.job("[[step]]\neach = '" + d.list("each.csv", "code,rate\n\" N-1\",\"12,5\"\n") + "'\nshape = { code = 'trim', rate = { number = ',' } }\ncall = 'UPDATE berth SET rate = :rate WHERE code = :code'\ntypes = { rate = 'decimal' }\n")
		d.must(0, "run", job, "--accept", "1", "--despite", "no-undo")
		if got := d.one("SELECT count(*) FROM berth WHERE code = 'N-1' AND rate = 12.5"); got != "1" {
			t.Errorf("called for %s rows", got)
		}
	})
}
