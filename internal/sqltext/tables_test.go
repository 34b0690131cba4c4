package sqltext_test

import (
	"strings"
	"testing"

	"jugatum/internal/dialect"
	"jugatum/internal/sqltext"
)

func TestMariaDBStatements(t *testing.T) {
	for _, c := range []struct {
		sql                          string
		target, alias, tables, where string
		set                          string // column = expression; …
	}{
		{sql: "UPDATE visit SET n = n + 1, s = \"a;b\" WHERE id > 3", target: "visit", where: "id > 3", set: `n = n + 1; s = "a;b"`},
		{sql: "UPDATE `od``d` AS v SET v.n = 1", target: "od`d", alias: "v", set: "n = 1"},
		{sql: "UPDATE saltmere.visit SET visit.n = 1", target: "visit", set: "n = 1"},
		{sql: "UPDATE visit v, quay q SET v.quay_id = q.id WHERE q.name = v.quay_name", target: "visit", alias: "v", tables: "visit v, quay q", where: "q.name = v.quay_name", set: "quay_id = q.id"},
		{sql: "UPDATE quay AS q LEFT JOIN db.visit AS v ON v.q = q.id AND (v.n IN (1, 2)) SET v.n = q.id, v.s = 'x' WHERE 1", target: "visit", alias: "v",
			tables: "quay AS q LEFT JOIN db.visit AS v ON v.q = q.id AND (v.n IN (1, 2))", where: "1", set: "n = q.id; s = 'x'"},
		{sql: "UPDATE visit STRAIGHT_JOIN (SELECT id AS i FROM quay) AS d ON d.i = visit.q SET visit.n = d.i", target: "visit", tables: "visit STRAIGHT_JOIN (SELECT id AS i FROM quay) AS d ON d.i = visit.q", set: "n = d.i"},
		{sql: "UPDATE visit FORCE INDEX (i) SET n = 1", target: "visit", tables: "visit FORCE INDEX (i)", set: "n = 1"},
		{sql: "DELETE FROM visit WHERE n = 1 # all of them", target: "visit", where: "n = 1"},
		{sql: "DELETE v FROM visit AS v WHERE v.n = 1", target: "visit", alias: "v", where: "v.n = 1"},
		{sql: "DELETE v.* FROM visit AS v JOIN quay q ON q.id = v.q WHERE q.n > 1", target: "visit", alias: "v", tables: "visit AS v JOIN quay q ON q.id = v.q", where: "q.n > 1"},
		{sql: "DELETE FROM v USING visit AS v NATURAL JOIN quay", target: "visit", alias: "v", tables: "visit AS v NATURAL JOIN quay"},
	} {
		s, err := sqltext.Parse(dialect.MariaDB, c.sql)
		if err != nil {
			t.Errorf("%s\n%v", c.sql, err)
			continue
		}
		alias := ""
		if s.Alias != nil {
			alias = s.Alias.Name()
		}
		var set []string
		for _, a := range s.Set {
			set = append(set, a.Columns[0].Name()+" = "+a.Expr.String())
		}
		if s.Target.Table.Name() != c.target || alias != c.alias || s.Tables.String() != c.tables || s.Where.String() != c.where || strings.Join(set, "; ") != c.set {
			t.Errorf("%s\ntarget %s, alias %q, tables %q, where %q, set %q", c.sql, s.Target.Table.Name(), alias, s.Tables.String(), s.Where.String(), set)
		}
		if !s.Tables.Empty() {
			if at := s.Tables.Tokens[s.TargetAt]; at.Name() != c.target && s.Tables.Tokens[s.TargetAt+2].Name() != c.target {
				t.Errorf("%s: the target is said to stand at %q", c.sql, at.Text)
			}
		}
	}
}

func TestMariaDBRefusals(t *testing.T) {
	for sql, want := range map[string]string{
		"UPDATE IGNORE visit SET n = 1":               "must not pass unseen",
		"UPDATE LOW_PRIORITY visit SET n = 1":         "LOW_PRIORITY",
		"DELETE QUICK FROM visit":                     "QUICK",
		"UPDATE visit, quay SET n = 1":                "put the table before each column",
		"UPDATE visit v, quay q SET v.n = 1, q.n = 2": "one table at a time",
		"UPDATE visit v, quay q SET z.n = 1":          "no table is called z",
		"DELETE v, q FROM visit v, quay q":            "one table at a time",
		"DELETE z FROM visit v":                       "no table is called z",
		"DELETE v":                                    "expected FROM",
		"WITH x AS (SELECT 1) UPDATE visit SET n = 1": "no WITH before UPDATE",
		"UPDATE visit SET n = 1 /*! , s = 2 */":       "would execute",
		"UPDATE visit SET s = 'it\\'s":                "no closing",
		"UPDATE SET n = 1":                            "expected a table's name",
		"UPDATE visit":                                "expected SET",
		"UPDATE (SELECT 1) AS d SET n = 1":            "expected a table's name",
		"UPDATE visit SET n = 1; DROP TABLE visit":    "only one statement",
		"DELETE FROM visit USING":                     "nothing stands after USING",
		"UPDATE visit SET":                            "expected a column's name",
		"UPDATE visit SET n = 1 ORDER BY id":          "expected LIMIT",
		"UPDATE visit SET n = 1 ORDER BY LIMIT 5":     "nothing stands after ORDER BY",
		"UPDATE visit SET n = 1 LIMIT many":           "expected a number of rows",
		"DELETE FROM visit LIMIT 5, 10":               "\",\" is not expected here",
		"UPDATE visit v, quay q SET v.n = 1 LIMIT 5":  "LIMIT is not supported here",
		"UPDATE visit AS v SET visit.n = 1":           "no table is called visit",
		"DELETE FROM visit WHERE n = 1 RETURNING n":   "RETURNING is not supported",
		"UPDATE visit SET n = :a WHERE s = ?":         "parameters are written :name",
		"INSERT INTO visit VALUES (1)":                "one UPDATE or DELETE",
	} {
		_, err := sqltext.Parse(dialect.MariaDB, sql)
		if err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s\ngave %v, want %q", sql, err, want)
		}
	}
}
