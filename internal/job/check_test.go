package job_test

import (
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/job"
)

// TestCheck: what a job's text tells without a database, with its place.
func TestCheck(t *testing.T) {
	all := []change.Dialect{dialect.SQLite, dialect.PostgreSQL, dialect.MariaDB}
	for _, x := range []struct{ text, fault, remark string }{
		{"[[step]]\nsql = \"UPDATE berth SET zone = 'b' WHERE berth_no = 1\"\n", "", ""},
		{"[param.n]\ntype = \"integer\"\n[[step]]\nsql = \"UPDATE berth SET zone = 'b' WHERE berth_no = :n\"\n", "", ""},
		{"[param.n]\ntype = \"integer\"\n[[step]]\nsql = \"UPDATE berth SET zone = 'b' WHERE berth_no = 1\"\n", "", "parameter n is declared and not used"},
		{"[[step]]\nname = \"a\"\ntable = \"berth\"\nwhere = \"berth_no = :n\"\nset = { zone = \"'b'\" }\n", "j.toml:4:1: step \"a\": where: parameter :n is not declared", ""},
		{"[[step]]\ntable = \"berth\"\nwhere = \"(berth_no = 1\"\nset = { zone = \"'b'\" }\n", "j.toml:3:1: ", ""},
		{"[[step]]\ntable = \"berth\"\nwhere = \"berth_no = 1\"\nset = { zone = \"'b\" }\n", "j.toml:4:", ""},
		{"[[step]]\nsql = \"UPDATE berth SET zone = 'b' WHERE\"\n", "j.toml:2:1: ", ""},
		{"[[step]]\nsql = \"UPDATE berth SET `zone` = 'b' WHERE berth_no = 1\"\n", "", "step \"step 1\": sql cannot be read by PostgreSQL"},
		{"[[step]]\ntable = \"berth\"\nchanges = \"rates.csv\"\naction = \"update\"\nset = { zone = \"line.zone\" }\n", "", ""},
		{"[[step]]\ntable = \"berth\"\nwhere = \"1 = 1\"\ndelete = true\ncheck = [{ sql = \"DELETE FROM berth\", is = 0 }]\n", "j.toml:5:1: ", ""},
	} {
		j, err := job.Parse("j.toml", []byte(x.text))
		if err != nil {
			t.Fatalf("%s\n%v", x.text, err)
		}
		c := j.Check(all)
		fault := ""
		for _, f := range c.Faults {
			fault += f.Error() + "\n"
		}
		if (x.fault == "") != (fault == "") || !strings.HasPrefix(fault, x.fault) {
			t.Errorf("%s\nfaults %q, expected %q", x.text, fault, x.fault)
		}
		if got := strings.Join(c.Remarks, "; "); (x.remark == "") != (got == "") || !strings.HasPrefix(got, x.remark) {
			t.Errorf("%s\nremarks %q, expected %q", x.text, got, x.remark)
		}
		if lists := strings.Contains(x.text, "rates.csv"); lists != (len(c.Lists) == 1) {
			t.Errorf("%s\nlists %v", x.text, c.Lists)
		}
	}
}
