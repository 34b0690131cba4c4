package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"sort"
	"strings"
	"testing"
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

// TestGuide carries out every command of the guide on the demo's data.
func TestGuide(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "saltmere")
	if o := command(t, "demo", "--only-data", "--rows", "2000", dir); o.status != 0 {
		t.Fatal(o.err)
	}
	url := "sqlite:" + filepath.Join(dir, "saltmere.db")
	list := commands(t, "../../docs/guide.md")
	if len(list) < 7 {
		t.Fatalf("only %d commands in the guide", len(list))
	}
	for _, line := range list {
		args := strings.Fields(strings.NewReplacer("saltmere/", dir+"/", "aside.csv", filepath.Join(dir, "aside.csv")).Replace(line))[1:]
		want := 0
		switch args[0] {
		case "run": // a person types the number; here any will do
			args = append(args, "--accept", "any")
		case "resume", "pause", "stop", "tune": // nothing stopped it here, and it goes on no more
			want = 3
		}
		if o := command(t, append(args, "--db", url)...); o.status != want {
			t.Errorf("%s: exit status %d\n%s", line, o.status, o.err)
		}
	}
}

// TestHelp: every command tells an example, and every flag of the README and the guide is there.
func TestHelp(t *testing.T) {
	all := ""
	for _, c := range []string{"demo", "survey", "find", "preview", "run", "resume", "watch", "pause", "stop", "tune", "runs", "show", "verify", "undo"} {
		o := command(t, c, "--help")
		if o.status != 0 || !strings.Contains(o.out, "Example:") || !strings.Contains(o.out, "jugatum "+c) {
			t.Errorf("%s --help: exit status %d\n%s", c, o.status, o.out)
		}
		all += o.out
	}
	all += command(t, "--help").out
	for _, file := range []string{"README.md", "docs/guide.md", "docs/job-files.md", "docs/guarantees.md", "docs/pace.md", "docs/privileges.md"} {
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
		os.WriteFile(rep, []byte("[[step]]\nin = [\"t.s\"]\nreplace = { find = \"x\", with = \"z\" }\n"), 0o644)
		for _, args := range [][]string{{"survey"}, {"find", "x"}, {"preview", rep}, {"run", rep, "--accept", "1"}, {"undo", "1"}, {"preview", job}, {"preview", job, "--rehearse"}, {"run", job, "--accept", "2"}, {"verify", "3"}, {"show", "3"}, {"undo", "3"}, {"runs"}, {"version"}} {
			o := d.must(0, append(args, "--json")...)
			var v map[string]any
			if err := json.Unmarshal([]byte(o.out), &v); err != nil {
				t.Fatalf("%v: %v\n%s", args, err, o.out)
			}
			if v["schema"] != 1.0 {
				t.Errorf("%v: schema %v", args, v["schema"])
			}
			found := map[string]bool{}
			keys(v, "", found)
			var missing []string
			for k := range found {
				last := k[strings.LastIndexByte(k, '.')+1:]
				if strings.HasPrefix(k, "slowest.locks.") || strings.HasPrefix(k, "steps.rehearsal.locks.") || last == "schema" {
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
