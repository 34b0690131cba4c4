package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
)

// TestFilterTraps: what a filter does not find, or finds against what it says, is told with the
// number of rows, by each server's own rules.
func TestFilterTraps(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE item (id "+d.integer()+" PRIMARY KEY, code varchar(20), qty integer, note text)",
			`INSERT INTO item VALUES (1, '0', 0, 'a'), (2, '00', 1, 'b'), (3, 'crate', 2, NULL), (4, '', 0, NULL), (5, '  ', 10, 'c'), (6, NULL, NULL, 'd'), (7, '10', 9, 'e'), (8, '9', 10, '')`,
			"CREATE TABLE gone (code varchar(20))", "INSERT INTO gone VALUES ('crate'), (NULL)")
		type ask struct{ where, code, want string }
		var asked []ask // a step of one job for each
		job := ""
		for _, x := range []struct{ where, code, maria, sqlite, postgres string }{
			{"code <> 'crate'", "null-unmatched", "1", "1", "1"},
			{"'crate' <> item.code AND qty IS NULL", "null-unmatched", "1", "1", "1"},
			{"code <> 'crate' AND qty = 5", "null-unmatched", "1", "1", "1"}, // of which qty is NULL as well
			{"code <> 'crate' AND id < 6", "null-unmatched", "", "", ""},
			{"code <> 'crate' OR code IS NULL", "null-unmatched", "", "", ""},
			{"code NOT IN ('crate', '0')", "null-unmatched", "1", "1", "1"},
			{"NOT (code = 'crate' OR note = 'a')", "null-unmatched", "2", "2", "2"},
			{"note NOT LIKE 'x%'", "null-unmatched", "2", "2", "2"},
			{"code NOT IN (SELECT code FROM gone)", "null-unmatched", "7", "7", "7"},
			{"code NOT IN (SELECT code FROM gone WHERE code IS NOT NULL)", "null-unmatched", "1", "1", "1"},
			{"id <> 3", "null-unmatched", "", "", ""},
			{"code = ''", "blank-text", "1", "2", "2"},
			{"note = 'a'", "blank-text", "", "", ""},
			{"code = 0", "mixed-types", "4", "1", ""}, // 00, crate, the empty text, blanks; for SQLite 00
			{"code > 5 AND id > 6", "mixed-types", "1", "1", ""},
			{"code IN (0, 10)", "mixed-types", "4", "1", ""},
			{"qty = 'crate'", "mixed-types", "2", "", ""},
			{"qty = '10'", "mixed-types", "", "", ""},
		} {
			if d.engine == "postgres" && x.code == "mixed-types" && x.where != "qty = '10'" {
				continue // an error there
			}
			asked = append(asked, ask{x.where, x.code, map[string]string{"mariadb": x.maria, "sqlite": x.sqlite, "postgres": x.postgres}[d.engine]})
			job += "[[step]]\nname = 'step " + fmt.Sprint(len(asked)) + "'\ntable = 'item'\nset = { note = \"'seen'\" }\nwhere = \"" + x.where + "\"\n"
		}
		for i, s := range d.preview(d.job(job)).Steps {
			got := ""
			for _, h := range s.Hazards {
				if h.Code == asked[i].code {
					got = strings.TrimSpace(fmt.Sprint(got, " ", h.Rows))
				}
			}
			if got != asked[i].want {
				t.Errorf("%s: %s is told of %q rows, expected %q", asked[i].where, asked[i].code, got, asked[i].want)
			}
		}
		for _, c := range d.preview("--sql", "UPDATE item SET code = nullif(trim(code), ''), qty = NULL WHERE id > 3").Steps[0].Columns {
			if got := fmt.Sprint(c.Name, c.MissingBefore, c.MissingAfter); got != "code{0 1 1} {2 0 0}" && got != "qty{0 0 0} {4 0 0}" {
				t.Error(got)
			}
		}
		var survey struct {
			Values []struct {
				Rows    int
				Columns []struct {
					Name               string
					Null, Empty, Blank int
				}
			}
		}
		if err := json.Unmarshal([]byte(d.must(0, "survey", "item", "--json").out), &survey); err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprint(survey.Values); got != "[{8 [{id 0 0 0} {code 1 1 1} {qty 1 0 0} {note 2 1 0}]}]" {
			t.Error(got)
		}
		d.must(2, "survey", "nothing")
		// What is only asked for the sake of a warning may meet values that the filter keeps away from.
		if p := d.preview("--sql", "UPDATE item SET qty = 5 WHERE note = '' AND CAST(code AS "+d.by("signed", "integer")+") > 0"); p.Total != 1 {
			t.Errorf("%+v", p)
		}
		for _, where := range []string{"code = NULL", "NULL <> code", "code NOT IN ('a', NULL)"} {
			sql := "UPDATE item SET note = 'seen' WHERE " + where
			if o := d.must(3, "run", "--sql", sql, "--accept", "any"); !strings.Contains(o.err, "equals-null") || !strings.Contains(o.err, "is never true") {
				t.Error(o.err)
			}
			d.must(0, "run", "--sql", sql, "--accept", "any", "--despite", "equals-null")
		}
		if n := d.one("SELECT count(*) FROM item WHERE note = 'seen'"); n != "0" {
			t.Errorf("%s rows", n)
		}
	})
}
