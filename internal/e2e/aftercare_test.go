package e2e

import (
	"encoding/json"
	"strings"
	"testing"
)

// rules are what aftercare tells of a run.
func (d *database) rules(run string) (steps []struct {
	None  string
	Rules []struct {
		Kind       string
		Keeps      string
		Breaking   int64
		Instead    bool
		From       string
		Statements []struct{ SQL, Locks string }
	}
}) {
	d.t.Helper()
	var out struct{ Steps json.RawMessage }
	if err := json.Unmarshal([]byte(d.must(0, "aftercare", "--json", run).out), &out); err != nil {
		d.t.Fatal(err)
	}
	if err := json.Unmarshal(out.Steps, &steps); err != nil {
		d.t.Fatal(err)
	}
	return steps
}

// TestAftercare: what is printed is taken by the server, lets in rows that hold to it, and keeps out, or
// changes, those that do not; nothing of it is carried out by itself.
func TestAftercare(t *testing.T) {
	const made = "CREATE TABLE quay (id integer PRIMARY KEY, name varchar(40) UNIQUE); CREATE TABLE visit (id integer PRIMARY KEY, zone varchar(20), tonnes integer, price integer, dues integer, quay varchar(40), quay_id integer, note varchar(200));" +
		"INSERT INTO quay VALUES (1, 'North'), (2, 'South');" +
		"INSERT INTO visit (id, zone, tonnes, price, quay, note) VALUES (1, NULL, 3, 4, 'North', ' a  b '), (2, 'it''s \\', 5, 6, 'South', 'http://x'), (3, 'B', 0, 1, 'North', 'ok'), (4, 'B', 7, NULL, 'South', 'Http ')"
	for _, x := range []struct {
		name, job string
		kinds     string // of the rules that are carried out
		instead   bool   // those that stand in the place of others are
		good      string // values of a row that is taken, after its id
		bad       string // of one that is refused, or changed
		becomes   string // what it is changed to, as a condition; "" if it is refused
	}{
		{"what is missing", "put = { zone = \"it's \\\\ A\" }\nwhere = 'zone IS NULL'", "default", false, "(id, note) VALUES (11, 'x')", "(id, note) VALUES (12, 'x')", "zone LIKE 'it''s _ A'"},
		{"every row has one", "put = { zone = 'A' }\nwhere = 'zone IS NULL'", "not null", false, "(id, zone) VALUES (11, 'x')", "(id, zone) VALUES (12, NULL)", ""},
		{"computed", "set = { dues = 'visit.tonnes * price' }\nwhere = 'tonnes > 0'", "trigger", false, "(id, tonnes, price, dues) VALUES (11, 0, 4, 9)", "(id, tonnes, price, dues) VALUES (12, 3, 4, 5)", "dues = 12"},
		{"computed, held to", "set = { dues = 'tonnes * price' }\nwhere = 'tonnes > 0'", "check", true, "(id, tonnes, price, dues) VALUES (11, 3, 4, 12)", "(id, tonnes, price, dues) VALUES (12, 3, 4, NULL)", ""},
		{"computed, by the database", "set = { dues = 'tonnes * coalesce(price, 0)' }", "generated column", true, "(id, tonnes, price) VALUES (11, 3, 4)", "(id, tonnes, price, dues) VALUES (12, 3, 4, 5)", ""},
		{"by a parameter", "set = { dues = 'tonnes * :rate' }\nwhere = \"zone <> 'q''s'\"\n[param.rate]\ntype = 'integer'", "trigger", false, "(id, zone, tonnes) VALUES (11, 'q''s', 4)", "(id, zone, tonnes) VALUES (12, 'r', 4)", "dues = 28"},
		{"in its form", "shape = { note = ['trim', 'collapse'] }", "check", false, "(id, note) VALUES (11, 'a b')", "(id, note) VALUES (12, ' a')", ""},
		{"in small letters", "shape = { note = ['trim', 'lower', { drop = 'x' }] }", "check", false, "(id, note) VALUES (11, NULL)", "(id, note) VALUES (12, 'Ab')", ""},
		{"what was deleted", "delete = true\nwhere = 'tonnes = 0'", "check", false, "(id, tonnes) VALUES (11, NULL)", "(id, tonnes) VALUES (12, 0)", ""},
		{"one of each", "merge = ['zone']\nwhere = 'id > 1'", "unique index", false, "(id, zone) VALUES (11, 'b')", "(id, zone) VALUES (12, 'B')", ""},
		{"one of each, in any writing", "merge = ['zone', 'quay']\nsame_as = 'folded'", "unique index", false, "(id, zone, quay) VALUES (11, 'North', 'B')", "(id, zone, quay) VALUES (12, ' b ', 'NORTH')", ""},
		{"a reference", "from = 'quay'\nmatch = { quay = 'name' }\nfill = { quay_id = 'id' }", "foreign key", false, "(id, quay_id) VALUES (11, 2)", "(id, quay_id) VALUES (12, 9)", ""},
		{"in every row", "from = 'quay'\nmatch = { quay = 'name' }\nfill = { quay_id = 'id' }", "not null", false, "(id, quay_id) VALUES (11, 9)", "(id, quay_id) VALUES (12, NULL)", ""},
		{"without a text", "in = ['visit.note']\nreplace = { find = 'http://', with = 'https://' }", "check", false, "(id, note) VALUES (11, 'https://x')", "(id, note) VALUES (12, 'http://x')", ""},
		{"with another text", "in = ['visit.note']\nreplace = { find = 'http://', with = 'https://' }", "trigger", true, "(id, note) VALUES (11, NULL)", "(id, note) VALUES (12, 'http://x')", "note = 'https://x'"},
	} {
		t.Run(x.name, func(t *testing.T) {
			engines(t, func(t *testing.T, d *database) {
				d.within = true
				for _, text := range strings.Split(made, ";") {
					if d.engine == "mariadb" {
						text = strings.ReplaceAll(text, `\`, `\\`)
					}
					d.exec(text)
				}
				job := "[[step]]\n" + map[bool]string{true: "", false: "table = 'visit'\n"}[strings.HasPrefix(x.job, "in =")] + x.job + "\n"
				args := []string{"run", d.job(job), "--accept", "any"}
				if strings.Contains(x.job, ":rate") {
					args = append(args, "--param", "rate=7")
				}
				d.must(0, append(args, "--every-row")...)
				const rows = "(SELECT id, zone, tonnes, price, dues, quay, quay_id, note FROM visit) AS v" // a column may come to stand elsewhere
				before := d.read(rows)
				found := false
				for _, s := range d.rules("1") {
					for _, r := range s.Rules {
						if r.Kind != x.kinds || r.Instead != x.instead {
							continue
						}
						found = true
						if r.Breaking > 0 || r.From == "" || r.Keeps == "" {
							t.Errorf("%+v", r)
						}
						for _, st := range r.Statements {
							if st.Locks == "" {
								t.Errorf("%s: what does it lock?", st.SQL)
							}
							if d.engine == "sqlite" {
								d.db.SetMaxOpenConns(1)
							}
							d.exec(st.SQL)
						}
					}
				}
				if !found {
					t.Fatalf("no %s: %+v", x.kinds, d.rules("1"))
				}
				same(t, "the rows that were there", d.read(rows), before)
				d.exec("INSERT INTO visit " + x.good)
				_, err := d.db.Exec("INSERT INTO visit " + x.bad)
				switch {
				case x.becomes == "" && err == nil:
					t.Errorf("it was taken: %s", x.bad)
				case x.becomes != "" && err != nil:
					t.Error(err)
				case x.becomes != "" && d.one("SELECT count(*) FROM visit WHERE id = 12 AND "+x.becomes) != "1":
					t.Errorf("it became %v", d.lines("SELECT concat(zone, dues, note) FROM visit WHERE id = 12"))
				}
			})
		})
	}
}
