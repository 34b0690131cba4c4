package e2e

import (
	"strings"
	"testing"
)

// TestNamedWhereColumnsCannotBeSeen: a named value that stands in a sub-query over a table of which this
// user may read some columns only is refused: one of the others might have its name.
func TestNamedWhereColumnsCannotBeSeen(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		role := "clerk_" + newName()
		d.exec("CREATE TABLE visit (id integer PRIMARY KEY, fee integer)", "INSERT INTO visit SELECT i, i FROM "+d.numbers(10),
			"CREATE TABLE tariff (zone integer PRIMARY KEY, amount integer, note varchar(20))", "INSERT INTO tariff VALUES (1, 4, 'x'), (2, 40, 'x')",
			d.by("CREATE USER "+role, "CREATE ROLE "+role+" LOGIN"), "GRANT SELECT ON visit TO "+role, "GRANT SELECT (zone, amount) ON tariff TO "+role, d.by("GRANT UPDATE ON visit TO "+role, "GRANT UPDATE, DELETE ON visit TO "+role))
		t.Cleanup(func() {
			if d.engine == "mariadb" {
				d.exec("DROP USER " + role)
			} else {
				d.exec("DROP OWNED BY "+role, "DROP ROLE "+role)
			}
		})
		clerk := &database{t: t, engine: d.engine, url: strings.NewReplacer("postgres@", role+"@", "root@", role+"@").Replace(d.url), within: true}
		preview := func(let string) []string {
			return []string{"preview", d.job("[[step]]\ntable = \"visit\"\nlet = { " + let + " = \"fee + 1\" }\nwhere = \"EXISTS (SELECT 1 FROM tariff AS f WHERE f.amount = " + let + ")\"\nset = { fee = \"0\" }\n")}
		}
		if o := clerk.must(2, preview("least")...); !strings.Contains(o.err, "least is used within a sub-query, where least is perhaps a column of tariff, of which "+role) {
			t.Error(o.err)
		}
		d.exec("GRANT SELECT ON tariff TO " + role)
		if o := clerk.must(0, preview("least")...); !strings.Contains(o.out, "1 row") {
			t.Error(o.out)
		}
		if o := clerk.must(2, preview("note")...); !strings.Contains(o.err, "a column of tariff") {
			t.Error(o.err)
		}
	})
}
