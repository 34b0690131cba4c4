package e2e

import (
	"context"
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"sort"
	"strings"
	"testing"
	"time"

	"jugatum/internal/engine"
	"jugatum/internal/engine/mariadb"
	"jugatum/internal/engine/postgres"
	"jugatum/internal/engine/sqlite"
	"jugatum/internal/harbour"
	"jugatum/internal/report"
)

// commands gives the lines of a Markdown file's shell blocks that call the program.
func commands(t *testing.T, file string) []string {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, block := range regexp.MustCompile("(?s)```sh\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		for _, line := range strings.Split(block[1], "\n") {
			line, _, _ = strings.Cut(line, "  #")
			if strings.HasPrefix(line, "jugatum ") {
				out = append(out, strings.TrimSpace(line))
			}
		}
	}
	return out
}

// TestGuide carries out every command of the README and the guide on the demo's data.
func TestGuide(t *testing.T) {
	for file, least := range map[string]int{"README.md": 7, "docs/guide.md": 15} {
		t.Run(file, func(t *testing.T) { followed(t, "../../"+file, least) })
	}
}

// followed carries out the commands of a file.
func followed(t *testing.T, file string, least int) {
	dir := filepath.Join(t.TempDir(), "saltmere")
	if o := command(t, "demo", "--only-data", "--rows", "2000", dir); o.status != 0 {
		t.Fatal(o.err)
	}
	url := "sqlite:" + filepath.Join(dir, "saltmere.db")
	list := commands(t, file)
	if len(list) < least {
		t.Fatalf("only %d commands", len(list))
	}
	for _, line := range list {
		args := strings.Fields(strings.NewReplacer("saltmere/", dir+"/", " quay-ids", " "+dir+"/quay-ids", "aside.csv", filepath.Join(dir, "aside.csv"), "trial.html", filepath.Join(dir, "trial.html")).Replace(line))[1:]
		want := 0
		switch args[0] {
		case "run": // a person types the number; here any will do
			args = append(args, "--accept", "any")
		case "report": // it would be written where the reader is
			args = append(args, "-o", filepath.Join(dir, "page.html"))
		case "resume", "pause", "stop", "tune": // nothing stopped it here, and it goes on no more
			want = 3
		}
		if o := command(t, append(args, "--db", url)...); o.status != want {
			t.Errorf("%s: exit status %d\n%s", line, o.status, o.err)
		}
	}
}

// blocks gives the code blocks of a Markdown file in a language that are for an
// engine: those that name none, or it, after the language.
func blocks(t *testing.T, file, language, engine string) []string {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, b := range regexp.MustCompile("(?s)```"+language+"( [a-z ]+)?\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		if b[1] == "" || strings.Contains(b[1], engine) {
			out = append(out, b[2])
		}
	}
	return out
}

// documentedLists are the files that stand in a text, by their names.
func documentedLists(t *testing.T, file string) map[string]string {
	t.Helper()
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	for _, b := range regexp.MustCompile("(?s)```csv ([a-z0-9.-]+)\n(.*?)```").FindAllStringSubmatch(string(text), -1) {
		out[b[1]] = b[2]
	}
	return out
}

// harbourIn fills a database with the demo's data.
func (d *database) harbourIn() {
	d.t.Helper()
	d.harbourOf(2000)
}

// harbourOf is that with so many visits.
func (d *database) harbourOf(visits int) {
	d.t.Helper()
	ctx := context.Background()
	d.one("SELECT 1") // makes the file
	var db engine.DB
	var err error
	switch d.engine {
	case "sqlite":
		db, err = sqlite.Open(ctx, d.url)
	case "postgres":
		db, err = postgres.Open(ctx, d.url)
	default:
		db, err = mariadb.Open(ctx, d.url)
	}
	if err != nil {
		d.t.Fatal(err)
	}
	defer db.Close()
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "demo", LockTimeout: time.Second})
	if err != nil {
		d.t.Fatal(err)
	}
	defer s.Close()
	if err := harbour.Load(ctx, s, db.Dialect(), 1, visits); err != nil {
		d.t.Fatal(err)
	}
}

// TestDocumentedJobs: each job in the docs runs as it is printed, on every engine
// that it names, and so does the SQL that reads the ledger afterwards.
func TestDocumentedJobs(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.harbourIn()
		jobs := append(blocks(t, "../../docs/job-files.md", "toml", d.engine), blocks(t, "../../docs/shapes.md", "toml", d.engine)...)
		if d.engine != "sqlite" { // what one of them calls
			d.exec(d.by("CREATE PROCEDURE set_day_rate(no int, rate decimal(8,2)) UPDATE berth SET day_rate = rate WHERE berth_no = no",
				"CREATE PROCEDURE set_day_rate(no int, rate numeric) LANGUAGE sql AS $$ UPDATE berth SET day_rate = rate WHERE berth_no = no $$"))
		}
		if len(jobs) < 2 {
			t.Fatalf("only %d jobs", len(jobs))
		}
		for i, text := range jobs {
			if !strings.Contains(text, "[[step]]") {
				t.Errorf("this is no job:\n%s", text)
				continue
			}
			job := filepath.Join(t.TempDir(), "job.toml")
			if err := os.WriteFile(job, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
			for name, list := range documentedLists(t, "../../docs/job-files.md") {
				if err := os.WriteFile(filepath.Join(filepath.Dir(job), name), []byte(list), 0o644); err != nil {
					t.Fatal(err)
				}
			}
			args := []string{job}
			if strings.Contains(text, "[param.rise]") {
				args = append(args, "--param", "rise=1.035")
			}
			d.must(0, append([]string{"preview", "--despite", "no-undo"}, args...)...)
			d.must(0, append([]string{"run", "--accept", "any", "--despite", "no-undo"}, args...)...)
			if i == 0 {
				for _, block := range blocks(t, "../../docs/architecture.md", "sql", d.engine) {
					for _, query := range strings.Split(strings.TrimSpace(block), "\n") {
						if len(d.lines("SELECT CAST(x AS text) FROM ("+strings.TrimSuffix(query, ";")+") AS x")) == 0 {
							t.Errorf("%s gives nothing", query)
						}
					}
				}
			}
		}
	})
}

// TestHelp: every command tells an example, and every flag of the README and the guide is there.
func TestHelp(t *testing.T) {
	all := ""
	for _, c := range []string{"demo", "survey", "find", "preview", "trial", "run", "resume", "watch", "pause", "stop", "tune", "runs", "show", "verify", "report", "undo", "kept", "prune", "forget", "new", "check"} {
		o := command(t, c, "--help")
		if o.status != 0 || !strings.Contains(o.out, "Example:") || !strings.Contains(o.out, "jugatum "+c) {
			t.Errorf("%s --help: exit status %d\n%s", c, o.status, o.out)
		}
		all += o.out
	}
	all += command(t, "--help").out
	for _, file := range []string{"README.md", "docs/guide.md", "docs/job-files.md", "docs/guarantees.md", "docs/pace.md", "docs/privileges.md", "docs/events.md"} {
		text, err := os.ReadFile("../../" + file)
		if err != nil {
			t.Fatal(err)
		}
		for _, flag := range regexp.MustCompile("--[a-z][a-z-]+").FindAllString(string(text), -1) {
			if !strings.Contains(all, flag) {
				t.Errorf("%s speaks of %s, which no command has", file, flag)
			}
		}
	}
	if o := command(t, "version"); o.status != 0 || !strings.Contains(o.out, "commit") || !strings.Contains(o.out, "go1.") {
		t.Error(o.out)
	}
}

// keys lists the keys of a JSON document, those of nested ones as a.b.
func keys(v any, prefix string, into map[string]bool) {
	switch v := v.(type) {
	case map[string]any:
		for k, x := range v {
			into[prefix+k] = true
			keys(x, prefix+k+".", into)
		}
	case []any:
		for _, x := range v {
			keys(x, prefix, into)
		}
	}
}

// TestJSONIsDocumented: every key that a command gives stands in docs/json.md.
func TestJSONIsDocumented(t *testing.T) {
	doc, err := os.ReadFile("../../docs/json.md")
	if err != nil {
		t.Fatal(err)
	}
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer, s varchar(9))", "INSERT INTO t VALUES (1, 1, 'x'), (2, 2, 'y')")
		job := filepath.Join(t.TempDir(), "job.toml")
		os.WriteFile(job, []byte("[[step]]\ntable = \"t\"\nwhere = \"id > 0\"\nlet = { two = \"n * 2\" }\nset = { n = \"two\", s = \"s || '!'\" }\ncheck = [{ sql = \"SELECT count(*) FROM t\", is = 2 }]\n"), 0o644)
		rep := filepath.Join(t.TempDir(), "rep.toml")
		os.WriteFile(rep, []byte("[[step]]\nin = [\"t.s\"]\nreplace = { find = \"x\", with = \"z\" }\nlate = \"again\"\n"), 0o644)
		for _, args := range [][]string{{"survey"}, {"find", "x"}, {"preview", rep}, {"trial", job, "--rounds", "1"}, {"run", rep, "--accept", "1"}, {"undo", "1"}, {"preview", job}, {"preview", job, "--rehearse"}, {"run", job, "--accept", "2"}, {"verify", "3"}, {"show", "3"}, {"report", "3"}, {"undo", "3"}, {"runs"}, {"version"}} {
			o := d.must(0, append(args, "--json")...)
			var v map[string]any
			if err := json.Unmarshal([]byte(o.out), &v); err != nil {
				t.Fatalf("%v: %v\n%s", args, err, o.out)
			}
			if v["schema"] != float64(report.Schema) {
				t.Errorf("%v: schema %v", args, v["schema"])
			}
			found := map[string]bool{}
			keys(v, "", found)
			var missing []string
			for k := range found {
				last := k[strings.LastIndexByte(k, '.')+1:]
				if strings.HasPrefix(k, "slowest.locks.") || strings.HasPrefix(k, "runs.slowest.locks.") || strings.HasPrefix(k, "runs.locks.") || strings.HasPrefix(k, "steps.ways.locks.") || strings.HasPrefix(k, "steps.rehearsal.locks.") || last == "schema" {
					continue
				}
				if !strings.Contains(string(doc), "`"+last+"`") {
					missing = append(missing, k)
				}
			}
			sort.Strings(missing)
			if len(missing) > 0 {
				t.Errorf("%v gives keys that docs/json.md does not know: %v", args, missing)
			}
		}
	})
}
