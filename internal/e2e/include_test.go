package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestInclude: a job that includes others is one run, which goes on, is verified and taken back without any of
// the files; a fault in one of them is told with its place there.
func TestInclude(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE berth (id integer PRIMARY KEY, rate integer UNIQUE, zone varchar(9))", "INSERT INTO berth VALUES (1, 10, 'A'), (2, 20, 'B'), (3, 17, 'C')")
		before := d.dump("berth")
		dir := t.TempDir()
		write := func(name, text string) string {
			path := filepath.Join(dir, name)
			if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
				t.Fatal(err)
			}
			return path
		}
		write("zones.toml", "[[step]]\ntable = 'berth'\nwhere = \"zone = 'A'\"\nput = { zone = 'D' }\n")
		write("rates.toml", "[param.by]\ntype = 'integer'\n[[step]]\nname = 'raise'\ntable = 'berth'\nwhere = 'id = 1'\nset = { rate = 'rate + :by' }\n")
		job := write("spring.toml", "title = 'spring'\ninclude = ['zones.toml', 'rates.toml']\n[[step]]\nname = 'last'\ntable = 'berth'\nwhere = 'id = 2'\nput = { zone = 'E' }\n")
		d.must(0, "check", job)
		d.must(1, "run", job, "--param", "by=7", "--accept", "3") // two berths would have one rate
		if got := d.one("SELECT zone FROM berth WHERE id = 1"); got != "D" {
			t.Errorf("the first step has left %s", got)
		}
		if err := os.RemoveAll(dir); err != nil {
			t.Fatal(err)
		}
		d.exec("DELETE FROM berth WHERE id = 3")
		run := d.lastRun()
		d.must(0, "resume", run)
		if got := d.lines("SELECT " + d.by("concat(rate, zone)", "rate || zone") + " FROM berth ORDER BY id"); strings.Join(got, " ") != "17D 20E" {
			t.Errorf("%v", got)
		}
		if o := d.must(0, "show", run); !strings.Contains(o.out, "#: rates.toml") {
			t.Errorf("%s", o.out)
		}
		d.must(0, "verify", run)
		d.must(0, "undo", run)
		d.exec("INSERT INTO berth VALUES (3, 17, 'C')")
		same(t, "undone", d.dump("berth"), before)

		os.Mkdir(dir, 0o755)
		write("zones.toml", "[[step]]\ntable = 'berth'\nwhere = \"zones = 'A'\"\nput = { zone = 'D' }\n")
		job = write("spring.toml", "include = ['zones.toml']\n")
		if o := d.must(2, "preview", job); !strings.Contains(o.err, filepath.Join(dir, "zones.toml")+":3:1: ") && !strings.Contains(o.err, filepath.Join(dir, "zones.toml")+":2:1: ") {
			t.Errorf("%s", o.err)
		}
		os.Remove(filepath.Join(dir, "zones.toml"))
		if o := d.must(2, "run", job, "--accept", "any"); !strings.Contains(o.err, "spring.toml:1:1: include: zones.toml cannot be read") {
			t.Errorf("%s", o.err)
		}
	})
}

// TestMapFromAFile: a map that stands in a file is part of the job, and of its record.
func TestMapFromAFile(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE vessel (id integer PRIMARY KEY, flag varchar(9))", "INSERT INTO vessel VALUES (1, 'GB '), (2, 'NL'), (3, NULL), (4, 'x')")
		before := d.dump("vessel")
		dir := t.TempDir()
		job, flags := filepath.Join(dir, "flags.toml"), filepath.Join(dir, "flags.csv")
		os.WriteFile(flags, []byte("old,new\nGB,UK\nNL,Netherlands\n"), 0o644)
		os.WriteFile(job, []byte("[[step]]\ntable = 'vessel'\nshape = { flag = ['trim', { map = 'flags.csv', otherwise = 'refuse' }] }\n"), 0o644)
		if o := d.must(map[bool]int{false: 3}[d.engine == "sqlite"], "preview", job); !strings.Contains(o.out, "no-form: 1 row has a value that a transform does not take: row 4, flag: it is none of the texts of the map") || d.engine != "sqlite" && !strings.Contains(o.out, "1 new value does not fit") {
			t.Errorf("%s", o.out)
		}
		os.WriteFile(flags, []byte("old,new\nGB,UK\nNL,HL\n"), 0o644)
		d.must(5, "run", job, "--accept", "2", "--set-aside", "1")
		os.RemoveAll(dir)
		if got := d.one("SELECT count(*) FROM vessel WHERE id = 1 AND flag = 'UK' OR id = 2 AND flag = 'HL' OR id = 4 AND flag = 'x'"); got != "3" {
			t.Errorf("%v", d.dump("vessel"))
		}
		d.must(5, "resume", d.lastRun(), "--retry-set-aside")
		d.must(0, "verify", d.lastRun())
		d.must(0, "undo", d.lastRun())
		same(t, "undone", d.dump("vessel"), before)
	})
}
