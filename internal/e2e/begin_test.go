package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestNewJob: a job to begin with, made for a table, is read without a database and previewed with
// one: it changes nothing until its filter is written.
func TestNewJob(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE "+d.quote("Odd visit")+" (id "+d.integer()+" PRIMARY KEY, "+d.quote("left at")+" timestamp NULL, dues numeric(10,2), note varchar(40))",
			"INSERT INTO "+d.quote("Odd visit")+" (id, dues, note) VALUES (1, 2, 'x'), (2, 3, 'y')")
		dir := t.TempDir()
		for _, kind := range []string{"update", "sql", "delete", "first", "replace", "shape", "fill", "move", "copy", "list", "each"} {
			path := filepath.Join(dir, kind+".toml")
			if o := d.must(0, "new", kind, "--table", "Odd visit", "-o", path); !strings.Contains(o.err, "is written") {
				t.Error(o.err)
			}
			switch kind {
			case "fill", "list", "each": // of which a table or a file is still to be named
			default:
				if p := d.preview(path); p.Total != 0 || len(p.Steps) != 1 {
					t.Errorf("%s: %+v", kind, p)
				}
			}
		}
		all, _ := filepath.Glob(filepath.Join(dir, "*.toml"))
		if o := command(t, append([]string{"check"}, all...)...); o.status != 0 || strings.Count(o.out, "good ") != len(all) || len(all) < 11 {
			t.Errorf("%s%s", o.out, o.err)
		}
		d.must(2, "new", "update", "--table", "Odd visit", "-o", all[0]) // it is there
		d.must(2, "new", "updates")
		d.must(2, "new", "update", "--table", "nothing")
		if n := d.one("SELECT count(*) FROM " + d.quote("Odd visit")); n != "2" {
			t.Error(n)
		}
	})
}

// TestCheckJobs: faults of jobs are told with their places, all of them, and the status says whether there are any.
func TestCheckJobs(t *testing.T) {
	dir := t.TempDir()
	write := func(name, text string) string {
		path := filepath.Join(dir, name)
		if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return path
	}
	good := write("good.toml", "title = 'Notes'\n[[step]]\nsql = \"UPDATE visit SET note = NULL WHERE note = ''\"\n")
	two := write("two.toml", "[[step]]\nname = 'a'\ntable = 'visit'\nwhere = 'id = :n'\nset = { note = '(1' }\n")
	unread := write("unread.toml", "[[stpe]]\n")
	o := command(t, "check", good, two, unread, filepath.Join(dir, "none.toml"))
	if o.status != 2 || !strings.Contains(o.err, "4 faults in 4 files") {
		t.Errorf("%d %s", o.status, o.err)
	}
	for _, want := range []string{"good " + good + ": Notes, 1 step", two + ":4:1: step \"a\": where: parameter :n is not declared", two + ":5:", unread + ":1:", "none.toml cannot be read"} {
		if !strings.Contains(o.out, want) {
			t.Errorf("no %q in\n%s", want, o.out)
		}
	}
	o = command(t, "check", "--json", good, two)
	var out struct {
		Jobs []struct {
			File, Title string
			Steps       int
			Faults      []string
		}
	}
	if err := json.Unmarshal([]byte(o.out), &out); err != nil || o.status != 2 || len(out.Jobs) != 2 || len(out.Jobs[0].Faults) != 0 || len(out.Jobs[1].Faults) != 2 {
		t.Errorf("%v %d %s", err, o.status, o.out)
	}
	if o := command(t, "check"); o.status != 2 {
		t.Error(o.status)
	}
}

// TestParamsFile: parameters come from a file, digit by digit; the command line overrides it.
func TestParamsFile(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE berth (berth_no "+d.integer()+" PRIMARY KEY, rate "+d.by("decimal(30,8)", "numeric(30,8)")+", note varchar(40))", "INSERT INTO berth VALUES (1, 1, 'a'), (2, 1, 'b')")
		job := d.job("[param.rate]\ntype = 'decimal'\n[param.note]\ntype = 'text'\n[[step]]\ntable = 'berth'\nwhere = 'note = :note'\nset = { rate = ':rate' }\n")
		file := filepath.Join(t.TempDir(), "spring.toml")
		if err := os.WriteFile(file, []byte("# of spring\nrate = 123456.12345678\nnote = 'a'\n"), 0o644); err != nil {
			t.Fatal(err)
		}
		d.must(0, "run", job, "--params", file, "--accept", "1")
		d.must(0, "run", job, "--params", file, "--param", "note=b", "--accept", "1")
		if got := d.one("SELECT count(*) FROM berth WHERE rate = 123456.12345678"); got != "2" {
			t.Errorf("%s rows", got)
		}
		for text, want := range map[string]string{"rate = 'x'\nnote = 'a'": "rate", "rates = 1.5\nnote = 'a'": `did you mean "rate"`, "rate = 1.5": "note is missing", "rate = [1]\nnote = 'a'": ":1:", "rate = ": ":1:"} {
			if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
			if o := d.must(2, "run", job, "--params", file, "--accept", "any"); !strings.Contains(o.err, want) {
				t.Errorf("%q: %s", text, o.err)
			}
		}
		d.must(2, "run", job, "--params", file+".none", "--accept", "any")
	})
}

// TestExactNumbers: a value with more digits than a binary number keeps is put as it is written.
func TestExactNumbers(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		if d.engine == "sqlite" { // which has no decimal numbers
			d.exec("CREATE TABLE berth (berth_no integer PRIMARY KEY, rate numeric)", "INSERT INTO berth VALUES (1, 1)")
			if o := d.must(2, "preview", d.job("[[step]]\ntable = 'berth'\nwhere = 'berth_no = 1'\nput = { rate = 12345678901234567.89 }\n")); !strings.Contains(o.err, "job.toml:4:") || !strings.Contains(o.err, "would keep 15") {
				t.Error(o.err)
			}
			d.must(2, "preview", "--sql", "UPDATE berth SET rate = :r WHERE berth_no = 1", "--param", "r:decimal=1.2345678901234567")
			d.must(0, "preview", "--sql", "UPDATE berth SET rate = :r WHERE berth_no = 1", "--param", "r:decimal=1.23456789012345")
			return
		}
		d.exec("CREATE TABLE berth (berth_no "+d.integer()+" PRIMARY KEY, rate numeric(30,4))", "INSERT INTO berth VALUES (1, 1)")
		d.must(0, "run", d.job("[[step]]\ntable = 'berth'\nwhere = 'berth_no = 1'\nput = { rate = 12345678901234567890.1234 }\n"), "--accept", "1")
		if got := d.one("SELECT CAST(rate AS char(40)) FROM berth"); strings.TrimSpace(got) != "12345678901234567890.1234" {
			t.Error(got)
		}
	})
}
