package e2e

import (
	"fmt"
	"strings"
	"testing"
)

// TestListFromACopy: rows that were changed, deleted and added since a copy was made of a table
// are as they were once the copy is a list for it, for every kind of key; and nothing is left to do.
func TestListFromACopy(t *testing.T) {
	eachLayout(t, func(t *testing.T, d *database, li int, l layout) {
		if l.keyless || l.name == "any storage class" || l.name == "strict with generated" { // where a line's texts would be kept as texts
			return
		}
		d.within = true
		r := seeded(uint64(7000 + li))
		table, copied := d.quote("tåble"), d.quote("cöpy")
		l.make(d, table, 1)
		fill(d, l, r, 120, table)
		columns := strings.Split(l.cols, ", ")
		key := l.cols
		if l.name == "unique index beside NULLs" {
			key = "k"
		}
		columns = append(columns, "n", "txt", "amt", "flag", "bin")
		d.exec(fmt.Sprintf("CREATE TABLE %s AS SELECT %s FROM %s", copied, strings.Join(columns, ", "), table))
		want := d.dump(table)
		if l.name != "generated and identity" { // a row would come back under another number
			d.exec("DELETE FROM " + table + " WHERE n % 5 = 0")
		}
		d.exec("UPDATE "+table+" SET n = -1, txt = 'other', bin = NULL WHERE n % 3 = 0 OR n IS NULL", "UPDATE "+table+" SET amt = 1, flag = NULL WHERE n % 7 = 0")
		action := "upsert"
		if l.name == "generated and identity" {
			action = "update"
		}
		query := strings.ReplaceAll("SELECT "+strings.Join(columns, ", ")+" FROM "+copied+" ORDER BY "+key+" DESC", `"`, d.by("`", `"`))
		job := d.job("[[step]]\ntable = '" + table + "'\nchanges = { sql = '''" + query + "''' }\naction = '" + action + "'\n")
		d.must(0, "preview", job)
		d.must(0, "run", job, "--accept", "any", "--batch", "17")
		same(t, "as the copy has it", d.dump(table), want)
		if o := d.must(0, "run", job, "--accept", "0", "--again"); !strings.Contains(o.err, "No row would change") {
			t.Error(o.err)
		}
	})
}
