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
			t.Cleanup(func() { d.exec("DROP USER "+role, "DROP DATABASE IF EXISTS "+ledger) })
			names = strings.NewReplacer("clerk", role, "saltmere.", home+".", "dba.", ledger+".")
		} else {
			d.exec("CREATE ROLE "+role+" LOGIN", "CREATE SCHEMA harbour")
			t.Cleanup(func() { d.exec("DROP OWNED BY "+role, "DROP ROLE "+role) })
		}
		d.exec("CREATE TABLE "+home+".berth (id integer PRIMARY KEY, day_rate integer, note varchar(40))",
			"INSERT INTO "+home+".berth SELECT i, i * 10, 'see http://charts' FROM "+d.numbers(200),
			"CREATE TABLE "+home+".tariff (id integer PRIMARY KEY, rate integer)", "INSERT INTO "+home+".tariff SELECT i, i FROM "+d.numbers(200),
			"CREATE TABLE "+home+".berth_past (id integer PRIMARY KEY, day_rate integer, note varchar(40))")
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
			{d.job("[[step]]\ntable = \"berth\"\nwhere = \"id > 180\"\nmove_to = \"berth_past\"\n")},
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
		clerk.must(0, with("prune", "--undone", "--yes")...)
		clerk.must(0, with("forget", "--yes")...)
		if o := clerk.must(0, with("runs")...); !strings.Contains(o.out, "No run") {
			t.Errorf("something is left:\n%s", o.out)
		}
	})
}

// marked reads the table by command of docs/privileges.md: the commands, and the
// privileges that each needs.
func marked(t *testing.T, engine string) (commands []string, needs map[string][]string, all []string) {
	t.Helper()
	text, err := os.ReadFile("../../docs/privileges.md")
	if err != nil {
		t.Fatal(err)
	}
	needs = map[string][]string{}
	for line := range strings.Lines(string(text)) {
		cells := strings.Split(strings.Trim(strings.TrimSpace(line), "|"), "|")
		for i := range cells {
			cells[i] = strings.ReplaceAll(strings.TrimSpace(cells[i]), "`", "")
		}
		switch {
		case cells[0] == engine:
			commands = cells[1:]
		case commands == nil || strings.HasPrefix(cells[0], "---"):
		case len(cells) != len(commands)+1:
			return commands, needs, all
		default:
			all = append(all, cells[0])
			for i, c := range commands {
				if cells[i+1] == "●" {
					needs[c] = append(needs[c], cells[0])
				}
			}
		}
	}
	t.Fatalf("no table for %s", engine)
	return nil, nil, nil
}

// TestPrivilegesByCommand: what the docs mark for a command is enough for it, and
// none of it can be missing.
func TestPrivilegesByCommand(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		role, home, place, engine := "clerk_"+newName(), "harbour", "jugatum", "PostgreSQL"
		clerk := &database{t: t, engine: d.engine, url: strings.NewReplacer("postgres@", role+"@", "root@", role+"@").Replace(d.url), within: true}
		var ledger []string
		if d.engine == "mariadb" {
			home, engine = d.one("SELECT DATABASE()"), "MariaDB"
			place = home + "_dba"
			ledger = []string{"--ledger", place}
			d.exec("CREATE DATABASE "+place, "CREATE USER "+role)
			t.Cleanup(func() { d.exec("DROP USER "+role, "DROP DATABASE "+place) })
		} else {
			clerk.url += "&search_path=harbour"
			d.exec("CREATE ROLE "+role+" LOGIN", "CREATE SCHEMA harbour", "CREATE SCHEMA jugatum AUTHORIZATION "+role)
			t.Cleanup(func() { d.exec("DROP OWNED BY "+role, "DROP ROLE "+role) })
		}
		d.exec("CREATE TABLE "+home+".berth (id integer PRIMARY KEY, day_rate integer, note varchar(40))", "INSERT INTO "+home+".berth SELECT i, i * 10, 'see charts' FROM "+d.numbers(50),
			"CREATE TABLE "+home+".tariff (id integer PRIMARY KEY, rate integer)", "INSERT INTO "+home+".tariff SELECT i, i FROM "+d.numbers(50),
			"CREATE TABLE "+home+".berth_past (id integer PRIMARY KEY, day_rate integer)") // without texts, for which find would want to read it
		commands, needs, all := marked(t, engine)
		names := strings.NewReplacer("saltmere.", home+".", "dba.", place+".")
		has := map[string]bool{}
		// granted gives the clerk just these.
		granted := func(list []string, but string) {
			want := map[string]bool{}
			for _, p := range list {
				want[p] = p != but
			}
			for _, p := range all {
				if want[p] && !has[p] {
					d.exec("GRANT " + names.Replace(p) + " TO " + role)
				} else if !want[p] && has[p] {
					d.exec("REVOKE " + names.Replace(p) + " FROM " + role)
				}
				has[p] = want[p]
			}
		}
		joined := d.by("UPDATE berth JOIN tariff ON tariff.id = berth.id SET berth.day_rate = rate + 1 WHERE berth.id > 20", "UPDATE berth SET day_rate = rate + 1 FROM tariff WHERE tariff.id = berth.id AND berth.id > 20")
		run := func(sql string) []string {
			return append([]string{"run", "--again", "--accept", "any", "--sql", sql}, ledger...)
		}
		moving := func(id string) []string {
			return append([]string{"run", "--again", "--accept", "any", "--despite", "lost-columns", d.job("[[step]]\ntable = \"berth\"\nwhere = \"" + id + "\"\nmove_to = \"berth_past\"\n")}, ledger...)
		}
		granted(all, "")
		clerk.must(0, run("UPDATE berth SET note = 'x' WHERE id > 40")...)
		for _, c := range commands {
			todo := map[string][]string{"find": {"find", "charts"}, "preview": {"preview", "--sql", joined}, "run": run(joined), "run of a delete": run("DELETE FROM berth WHERE id <= 20"), "run of a move": moving("id IN (21, 22)"), "verify": append([]string{"verify", "1"}, ledger...), "runs": append([]string{"runs"}, ledger...)}[c]
			fresh := func() {}
			if strings.HasPrefix(c, "undo") {
				first := map[string][]string{"undo": run("UPDATE berth SET note = 'y' WHERE id > 40"), "undo of a delete": run("DELETE FROM berth WHERE id = 30"), "undo of a move": moving("id = 31")}[c]
				fresh = func() {
					granted(all, "")
					clerk.must(0, first...)
					todo = []string{"undo", clerk.lastIn(d, place)}
				}
			}
			if todo == nil && !strings.HasPrefix(c, "undo") {
				t.Fatalf("no test of %s", c)
			}
			fresh()
			for _, p := range needs[c] {
				granted(needs[c], p)
				if o := clerk.jugatum(todo...); o.status == 0 && !strings.Contains(o.out, "No run was made") || strings.HasPrefix(c, "undo") && o.status != 3 && p != "SELECT ON dba.*" { // an undo is refused before it begins
					t.Errorf("%s without %s: status %d\n%s%s", c, p, o.status, o.out, o.err)
				}
			}
			granted(needs[c], "")
			clerk.must(0, todo...)
		}
		if len(commands) < 8 || len(needs["run"]) < 4 {
			t.Errorf("%q: %v", commands, needs)
		}
	})
}

// lastIn is the number of the last run in a ledger, asked as another user.
func (d *database) lastIn(other *database, place string) string {
	return other.one("SELECT max(id) FROM " + other.by(place+".jugatum_run", place+".run"))
}
