package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// granted gives the statements that docs/privileges.md lists for an engine.
func granted(t *testing.T, engine string) []string {
	t.Helper()
	text, err := os.ReadFile("../../docs/privileges.md")
	if err != nil {
		t.Fatal(err)
	}
	block := regexp.MustCompile("(?s)## " + engine + "\n+```sql\n(.*?)```").FindStringSubmatch(string(text))
	if block == nil {
		t.Fatalf("no list for %s", engine)
	}
	var out []string
	for _, line := range strings.Split(strings.TrimSpace(block[1]), "\n") {
		line, _, _ = strings.Cut(line, "--")
		out = append(out, strings.TrimSuffix(strings.TrimSpace(line), ";"))
	}
	return out
}

// single takes GRANT a, b (c, d) ON x TO y apart into one statement a privilege.
func single(grant string) []string {
	list, rest, _ := strings.Cut(strings.TrimPrefix(grant, "GRANT "), " ON ")
	var out []string
	for _, p := range regexp.MustCompile(`[A-Z ]+(\([^)]*\))?`).FindAllString(list, -1) {
		if p = strings.TrimSpace(p); p != "" {
			out = append(out, "GRANT "+p+" ON "+rest)
		}
	}
	return out
}

// TestLeastPrivileges: a user who has what the docs list, and nothing else, can do
// everything; of what it has each is missed by name before anything is recorded.
func TestLeastPrivileges(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		engine, home, role, ledger, berth := "PostgreSQL", "harbour", "clerk_"+newName(), "jugatum", "harbour.berth"
		names := strings.NewReplacer("clerk", role)
		if d.engine == "mariadb" {
			home = d.one("SELECT DATABASE()")
			engine, ledger, berth = "MariaDB", home+"_dba", "berth"
			d.exec("CREATE DATABASE "+ledger, "CREATE USER "+role)
			t.Cleanup(func() { d.exec("DROP USER "+role, "DROP DATABASE "+ledger) })
			names = strings.NewReplacer("clerk", role, "saltmere.", home+".", "dba.", ledger+".")
		} else {
			d.exec("CREATE ROLE "+role+" LOGIN", "CREATE SCHEMA harbour")
			t.Cleanup(func() { d.exec("DROP OWNED BY "+role, "DROP ROLE "+role) })
		}
		d.exec("CREATE TABLE "+home+".berth (id integer PRIMARY KEY, day_rate integer, note varchar(40))",
			"INSERT INTO "+home+".berth SELECT i, i * 10, 'see http://charts' FROM "+d.numbers(200),
			"CREATE TABLE "+home+".tariff (id integer PRIMARY KEY, rate integer)", "INSERT INTO "+home+".tariff SELECT i, i FROM "+d.numbers(200))
		var grants []string
		for _, g := range granted(t, engine) {
			g = names.Replace(g)
			d.exec(g)
			if strings.HasPrefix(g, "GRANT") {
				grants = append(grants, single(g)...)
			}
		}
		if len(grants) < 6 {
			t.Fatalf("only %q", grants)
		}
		clerk := &database{t: t, engine: d.engine, url: strings.NewReplacer("postgres@", role+"@", "root@", role+"@").Replace(d.url)}
		if d.engine == "postgres" {
			clerk.url += "&search_path=harbour"
		}
		clerk.within = true
		replace := filepath.Join(t.TempDir(), "replace.toml")
		text := "[[step]]\nname = \"links\"\nin = [\"berth.note\"]\nreplace = { find = \"http://\", with = \"https://\" }\n"
		if err := os.WriteFile(replace, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		jobs := [][]string{
			{"--sql", "UPDATE berth SET day_rate = day_rate + 1 WHERE id > 100"},
			{replace},
			{"--sql", d.by("UPDATE berth JOIN tariff ON tariff.id = berth.id SET berth.day_rate = rate", "UPDATE berth SET day_rate = rate FROM tariff WHERE tariff.id = berth.id")},
			{"--sql", "DELETE FROM berth WHERE id <= 50"},
		}
		with := func(args ...string) []string {
			if d.engine == "mariadb" {
				args = append(args, "--ledger", ledger)
			}
			return args
		}
		// told gives what the previews say; a run of what one refuses is refused as well.
		told := func() (all string) {
			for _, job := range jobs {
				o := clerk.jugatum(with(append([]string{"preview"}, job...)...)...)
				all += o.out + o.err
				if o.status == 3 || strings.Contains(o.out, "refusal missing-grant") {
					clerk.must(3, with(append([]string{"run", "--accept", "any"}, job...)...)...)
				}
			}
			return all
		}
		if out := told(); strings.Contains(out, "refusal") || strings.Contains(out, "GRANT INSERT") {
			t.Errorf("with all that is listed:\n%s", out)
		}
		for _, g := range grants {
			d.exec(strings.Replace(strings.Replace(g, "GRANT", "REVOKE", 1), " TO ", " FROM ", 1))
			privilege := regexp.MustCompile(`^GRANT ([A-Z ]+[A-Z]) (\(|ON)`).FindStringSubmatch(g)[1]
			out := told()
			if !regexp.MustCompile("granted: [^\n]*"+privilege).MatchString(out) && !strings.Contains(out, "must have "+privilege) {
				t.Errorf("without %s:\n%s", g, out)
			}
			d.exec(g)
		}
		if o := clerk.must(0, with("runs")...); !strings.Contains(o.out, "No run") {
			t.Errorf("something was recorded:\n%s", o.out)
		}
		o := clerk.must(1, with("run", "--accept", "any", "--batch", "50", "--sql", "UPDATE berth SET note = repeat('x', 40 + id) WHERE id = 7")...)
		if strings.Contains(o.err, "new_") || !strings.Contains(o.err, d.by("note", "varying(40)")) {
			t.Error(o.err)
		}
		clerk.must(0, "undo", "1")
		before := [][]string{d.dump(berth)}
		for i, job := range jobs {
			args := append([]string{"run", "--accept", "any"}, job...)
			if i > 0 {
				args = append(args, "--rehearse")
			} else {
				args = append(args, "--method", "roster")
			}
			clerk.must(0, with(args...)...)
			clerk.must(0, "verify", strconv.Itoa(i+3))
			before = append(before, d.dump(berth))
		}
		for i := len(jobs); i > 0; i-- {
			same(t, "before the undo", d.dump(berth), before[i])
			clerk.must(0, "undo", strconv.Itoa(i+2)) // the ledger is found
			same(t, "undone", d.dump(berth), before[i-1])
		}
	})
}
