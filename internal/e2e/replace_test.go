package e2e

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"jugatum/internal/rewrite"
)

const oldLink, newLink = "http://charts.saltmere.test", "https://charts.saltmere.test/new"

// linked are values of every kind that hold the old link, and some that do not.
func linked(i int) string {
	link := fmt.Sprintf("%s/%d", oldLink, i)
	serial := fmt.Sprintf(`a:2:{s:4:"link";s:%d:"%s";s:4:"quay";s:6:"Größe";}`, len(link), link)
	serial = strings.Replace(serial, `s:6:"Größe"`, fmt.Sprintf(`s:%d:"Größe"`, len("Größe")), 1)
	jsonText := func(s string) string {
		b, _ := json.Marshal(s)
		return strings.ReplaceAll(string(b), "/", `\/`)
	}
	switch i % 12 {
	case 0:
		return "see " + link + " and " + link
	case 1:
		return serial
	case 2:
		return `{ "a": ` + jsonText(link) + `, "n": 1.50 , "ü":["` + link + `", true]}`
	case 3:
		return `{"inner":` + jsonText(serial) + `}`
	case 4:
		return fmt.Sprintf(`s:%d:"%s";`, len(`["`+link+`"]`), `["`+link+`"]`)
	case 5:
		return `x = "http:\/\/charts.saltmere.test\/5";`
	case 6:
		return "HTTP://CHARTS.SALTMERE.TEST/ and https://charts.saltmere.test"
	case 7:
		return ""
	case 8:
		return "日本 " + link + " ' \" \\ % _ é"
	case 9:
		return strings.Repeat("long ", 3000) + link
	case 10:
		return "%3A " + strings.ReplaceAll(link, "http://", "http%3A%2F%2F")
	}
	return "nothing here"
}

// replaceTable makes a table of such values, NULLs among them, under a composite key.
func (d *database) replaceTable(rows int) {
	d.exec("DROP TABLE IF EXISTS notes", "CREATE TABLE notes (a varchar(20) NOT NULL, b integer NOT NULL, body "+d.by("mediumtext", "text")+", extra "+d.by("mediumtext", "text")+", n integer, PRIMARY KEY (a, b))")
	for i := range rows {
		body, extra := "'"+d.literal(linked(i))+"'", "'"+d.literal(linked(i*7+3))+"'"
		if i%13 == 5 {
			extra = "NULL"
		}
		d.exec(fmt.Sprintf("INSERT INTO notes VALUES ('k %d', %d, %s, %s, %d)", i%17, i, body, extra, i))
	}
	d.settled("notes")
}

// literal writes a text for within single quotes.
func (d *database) literal(s string) string {
	if d.engine == "mariadb" {
		s = strings.ReplaceAll(s, `\`, `\\`)
	}
	return strings.ReplaceAll(s, "'", "''")
}

func jobFile(t *testing.T, text string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "job.toml")
	if err := os.WriteFile(path, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return path
}

// TestReplaceInEveryForm: all engines come to the same bytes, those that the
// replacement itself gives for each value; in batches by one worker or three,
// as a single transaction, with kept values and without; undo restores.
func TestReplaceInEveryForm(t *testing.T) {
	rw, err := rewrite.New(rewrite.Rules{Pairs: []rewrite.Pair{{Find: oldLink, With: newLink}}})
	if err != nil {
		t.Fatal(err)
	}
	const rows = 600
	var want []string
	changed := 0
	for i := range rows {
		a, err1 := rw.Replace([]byte(linked(i)))
		b, err2 := rw.Replace([]byte(linked(i*7 + 3)))
		if err1 != nil || err2 != nil {
			t.Fatal(err1, err2)
		}
		extra := string(b)
		if i%13 == 5 {
			extra = "NULL"
		}
		if string(a) != linked(i) || extra != "NULL" && extra != linked(i*7+3) {
			changed++
		}
		want = append(want, string(a)+"|"+extra)
	}
	job := jobFile(t, fmt.Sprintf("[[step]]\nname = \"links\"\nin = [\"notes.*\"]\nreplace = { find = %q, with = %q }\n", oldLink, newLink))
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		state := func() []string {
			return d.lines("SELECT " + d.by("concat(body, '|', coalesce(extra, 'NULL'))", "body || '|' || coalesce(extra, 'NULL')") + " FROM notes ORDER BY n")
		}
		d.replaceTable(rows)
		before := state()
		o := d.must(0, "preview", job, "--json")
		if !strings.Contains(o.out, fmt.Sprintf(`"changes": %d`, changed)) {
			t.Errorf("the preview does not say that %d rows change:\n%.600s", changed, o.out)
		}
		d.everyFormShown(o.out)
		for n, more := range [][]string{{"--batch", "50"}, append([]string{"--batch", "20"}, d.workers(3)...), {"--method", "single"}, {"--keep", "none"}} {
			d.must(0, append([]string{"run", job, "--again", "--accept", fmt.Sprint(changed)}, more...)...)
			same(t, fmt.Sprint("replaced ", more), state(), want)
			run := d.lastRun()
			if more[0] == "--keep" {
				break
			}
			d.must(0, "verify", run)
			if n == 0 {
				d.must(0, "run", job, "--again", "--accept", fmt.Sprint(d.left(job))) // the new link holds no old one
				same(t, "again", state(), want)
			}
			d.must(0, "undo", run, "--batch", "70")
			same(t, "undone", state(), before)
		}
	})
}

// everyFormShown fails unless the sample of a preview has a row for each form
// in each column.
func (d *database) everyFormShown(out string) {
	d.t.Helper()
	var p struct {
		Steps []struct {
			Replacement struct {
				Columns []struct {
					Name  string
					Forms []struct{ Form string }
				}
			} `json:"replacement"`
			Sample []struct {
				Changes []struct {
					Column string
					Forms  []string
				}
			}
		}
	}
	if err := json.Unmarshal([]byte(out), &p); err != nil {
		d.t.Fatal(err)
	}
	n := 0
	for _, s := range p.Steps {
		shown := map[string]bool{}
		for _, r := range s.Sample {
			for _, c := range r.Changes {
				for _, f := range c.Forms {
					shown[c.Column+" "+f] = true
				}
			}
		}
		for _, c := range s.Replacement.Columns {
			for _, f := range c.Forms {
				if n++; !shown[c.Name+" "+f.Form] {
					d.t.Errorf("no row of the sample shows %s: %s", c.Name, f.Form)
				}
			}
		}
	}
	if n < 5 {
		d.t.Errorf("only %d forms in the preview", n)
	}
}

// left is how many rows a job would change now.
func (d *database) left(job string) int64 {
	d.t.Helper()
	var p struct{ Steps []struct{ Changes int64 } }
	if err := json.Unmarshal([]byte(d.must(0, "preview", job, "--json").out), &p); err != nil {
		d.t.Fatal(err)
	}
	n := int64(0)
	for _, s := range p.Steps {
		n += s.Changes
	}
	return n
}

// TestReplaceByTheDatabase: where the database's own replace() is used it gives
// the same bytes as our own reading of the values.
func TestReplaceByTheDatabase(t *testing.T) {
	native := jobFile(t, fmt.Sprintf("[[step]]\nin = [\"notes.body\", \"notes.extra\"]\nreplace = { find = %q, with = %q, structured = false, forms = [\"plain\"] }\n", oldLink, newLink))
	ours := jobFile(t, fmt.Sprintf("[[step]]\nin = [\"notes.body\", \"notes.extra\"]\nreplace = { pairs = [[%q, %q], [\"is not there\", \"x\"]], structured = false, forms = [\"plain\"] }\n", oldLink, newLink))
	engines(t, func(t *testing.T, d *database) {
		d.replaceTable(300)
		before := d.dump("notes")
		d.must(0, "run", native, "--accept", "any", "--batch", "40")
		want := d.dump("notes")
		d.must(0, "undo", d.lastRun())
		same(t, "undone", d.dump("notes"), before)
		d.must(0, "run", ours, "--accept", "any", "--batch", "40")
		same(t, "ours against the database's", d.dump("notes"), want)
	})
}

// TestReplaceDamaged: values that cannot be understood are not touched but set
// aside, and tried again once they are fixed.
func TestReplaceDamaged(t *testing.T) {
	job := jobFile(t, fmt.Sprintf("[[step]]\nin = [\"notes.*\"]\nreplace = { find = %q, with = %q }\n", oldLink, newLink))
	engines(t, func(t *testing.T, d *database) {
		d.replaceTable(100)
		bad := `a:1:{i:0;s:99:"` + oldLink + `";}`
		d.exec("UPDATE notes SET body = '" + d.literal(bad) + "' WHERE n IN (20, 60)")
		before := d.dump("notes")
		if o := d.must(0, "preview", job); !strings.Contains(o.out, "damaged serialised text") || !strings.Contains(o.out, "--set-aside") {
			t.Errorf("the preview does not tell of damaged values:\n%s", o.out)
		}
		o := d.must(1, "run", job, "--accept", "any", "--method", "single")
		if !strings.Contains(o.err, "damaged serialised text") || !strings.Contains(o.err, "row k") {
			t.Errorf("it does not say which row: %s", o.err)
		}
		same(t, "refused", d.dump("notes"), before)
		d.must(0, "undo", "1")
		d.must(5, "run", job, "--accept", "any", "--set-aside", "2", "--batch", "9")
		run := d.lastRun()
		if got := d.one("SELECT count(*) FROM notes WHERE body = '" + d.literal(bad) + "'"); got != "2" {
			t.Errorf("%s of 2 damaged values are as they were", got)
		}
		if s := d.show(run); s.SetAside != 2 || !strings.Contains(s.Rows[0].Error, "damaged") {
			t.Errorf("%+v", s)
		}
		d.exec(fmt.Sprintf("UPDATE notes SET body = '%s' WHERE n IN (20, 60)", d.literal(fmt.Sprintf(`a:1:{i:0;s:%d:"%s";}`, len(oldLink), oldLink))))
		d.must(0, "resume", run, "--retry-set-aside")
		if got := d.one("SELECT body FROM notes WHERE n = 60"); got != fmt.Sprintf(`a:1:{i:0;s:%d:"%s";}`, len(newLink), newLink) {
			t.Errorf("after another try: %s", got)
		}
	})
}

// TestReplaceKilled: the new text holds the old one, so that a row changed twice shows.
func TestReplaceKilled(t *testing.T) {
	job := jobFile(t, "[[step]]\nin = [\"t.note\"]\nreplace = { find = \"mole\", with = \"north mole\" }\n")
	engines(t, func(t *testing.T, d *database) {
		r := seeded(7)
		after := func(kills int) time.Duration {
			if kills >= 10 { // let it come to its end
				return time.Hour
			}
			return time.Duration(40+r.IntN(160)+5*kills) * time.Millisecond
		}
		d.exec("CREATE TABLE t (id "+d.integer()+" PRIMARY KEY, note varchar(90))", "INSERT INTO t SELECT i, "+d.by("concat('the mole, ', i)", "'the mole, ' || i")+" FROM "+d.numbers(20_000))
		d.settled("t")
		kills := d.killed(after, append([]string{"run", job, "--accept", "any", "--batch", "500"}, d.workers(2)...)...)
		if got := d.one("SELECT count(*) FROM t WHERE note <> " + d.by("concat('the north mole, ', id)", "'the north mole, ' || id")); got != "0" {
			t.Errorf("%s rows are not as one replacement leaves them", got)
		}
		run := d.lastRun()
		d.must(0, "verify", run)
		kills += d.killed(after, "undo", run, "--batch", "500")
		if got := d.one("SELECT count(*) FROM t WHERE note <> " + d.by("concat('the mole, ', id)", "'the mole, ' || id")); got != "0" {
			t.Errorf("%s rows are not restored", got)
		}
		t.Logf("killed %d times", kills)
	})
}

// TestReplaceBesideWriters: other sessions change the same rows meanwhile; none
// of their work is lost, and every row is replaced in just once.
func TestReplaceBesideWriters(t *testing.T) {
	job := jobFile(t, "[[step]]\nin = [\"t.note\"]\nreplace = { find = \"mole\", with = \"north mole\" }\n")
	engines(t, func(t *testing.T, d *database) {
		const rows = 5000
		d.exec("CREATE TABLE t (id "+d.integer()+" PRIMARY KEY, n bigint, note varchar(90))", "INSERT INTO t SELECT i, 0, 'the mole' FROM "+d.numbers(rows))
		d.settled("t")
		stop, done := make(chan bool), make(chan int)
		for w := range 2 {
			go func() {
				r := rand.New(rand.NewPCG(uint64(w), 3))
				written := 0
				for {
					select {
					case <-stop:
						done <- written
						return
					default:
					}
					if _, err := d.db.Exec(fmt.Sprintf("UPDATE t SET n = n + 1 WHERE id = %d", 1+r.IntN(rows))); err != nil {
						t.Errorf("a writer failed: %v", err)
					}
					written++
					time.Sleep(time.Millisecond)
				}
			}()
		}
		d.must(0, append([]string{"run", job, "--accept", "any", "--batch", "100"}, d.workers(2)...)...)
		close(stop)
		written := <-done + <-done
		if got := d.one("SELECT count(*) FROM t WHERE note <> 'the north mole'"); got != "0" {
			t.Errorf("%s rows are not as one replacement leaves them", got)
		}
		if got := d.one("SELECT sum(n) FROM t"); got != fmt.Sprint(written) {
			t.Errorf("writers added %d, %s are there", written, got)
		}
		t.Logf("%d writes beside the run, %s batches tried again", written, d.one("SELECT sum(retries) FROM "+d.ledger("batch")))
		d.must(0, "verify", d.lastRun())
	})
}

// TestFind tells every form apart, on every engine alike, and its job finds
// what it says.
func TestFind(t *testing.T) {
	want := ""
	engines(t, func(t *testing.T, d *database) {
		d.replaceTable(120)
		d.exec("CREATE TABLE empty_one (a integer)", "CREATE TABLE \"odd name\" (\"select\" varchar(200), rowid integer, _rowid_ integer, oid integer)", "INSERT INTO \"odd name\" (\"select\") VALUES ('"+oldLink+"')")
		var r struct {
			Found []struct {
				Table, Column string
				Rows          int64
				Hits          int64 `json:"occurrences"`
				Kinds         []struct {
					Form, Differs string
					Hits          int64 `json:"occurrences"`
				}
			}
		}
		text := d.must(0, "find", oldLink, "--json").out
		if err := json.Unmarshal([]byte(text), &r); err != nil {
			t.Fatal(err)
		}
		got := ""
		for _, c := range r.Found {
			got += fmt.Sprintf("%s.%s %d %d\n", c.Table, c.Column, c.Rows, c.Hits)
			for _, k := range c.Kinds {
				got += fmt.Sprintf("  %s|%s %d\n", k.Form, k.Differs, k.Hits)
			}
		}
		for _, form := range []string{"in json|", "in serialised|", "in serialised in json|", "in json in serialised|", "json|", "plain|other case", "plain|other scheme", "url|"} {
			if !strings.Contains(got, "  "+form) {
				t.Errorf("%s is not told:\n%s", form, got)
			}
		}
		findMu.Lock()
		if want == "" {
			want = got
		}
		if got != want {
			t.Errorf("engines disagree:\n%s\nand\n%s", got, want)
		}
		findMu.Unlock()
		path := filepath.Join(t.TempDir(), "job.toml")
		d.must(0, "find", oldLink, "--in", "notes.*", "--becomes", newLink, "--write", path)
		d.must(2, "find", oldLink, "--becomes", newLink, "--write", path) // it is there already
		o := d.must(0, "run", path, "--accept", "any", "--json")
		if !strings.Contains(o.out, `"left": 0`) || !strings.Contains(o.out, `in a table without a key`) {
			t.Errorf("the search after the run:\n%s", o.out)
		}
		if o := d.must(0, "run", jobFile(t, fmt.Sprintf("[[step]]\nin = [\"notes.body\"]\nreplace = { find = %q, with = %q }\n", "saltmere", "Saltmere")), "--accept", "any", "--every-row", "--json", "--no-search"); strings.Contains(o.out, `"search"`) {
			t.Errorf("searched without being asked to:\n%s", o.out)
		}
		for _, args := range [][]string{{"find"}, {"find", ""}, {"find", "x", "--in", "notes"}, {"find", "x", "--in", "notes.nothing"}, {"find", "x", "--becomes", "y"}, {"find", "x", "--sample", "0"}} {
			d.must(2, args...)
		}
		d.must(0, "find", oldLink, "--sample", "20")
	})
}

var findMu sync.Mutex

// TestFindInBytes: bytes and what is encoded are looked through when asked for,
// told apart, and no part of a job.
func TestFindInBytes(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		bin := map[string]string{"sqlite": "blob", "postgres": "bytea", "mariadb": "mediumblob"}[d.engine]
		d.exec("CREATE TABLE papers (id integer PRIMARY KEY, scan " + bin + ", note text)")
		put := func(id int, scan []byte, note string) {
			t.Helper()
			text := "INSERT INTO papers VALUES (?, ?, ?)"
			if d.engine == "postgres" {
				text = "INSERT INTO papers VALUES ($1, $2, $3)"
			}
			if _, err := d.db.Exec(text, id, scan, note); err != nil {
				t.Fatal(err)
			}
		}
		put(1, []byte("\x00\xff\\ "+oldLink+"/a\x00"), "nothing")
		put(2, []byte("\x00\x01"+strings.ToUpper(oldLink)), "nothing either")
		put(3, []byte{0, 1, 2}, "att: "+base64.StdEncoding.EncodeToString([]byte("x "+oldLink+"/b")))
		put(4, nil, `{"att": "`+base64.StdEncoding.EncodeToString([]byte("xy\xff"+oldLink))+`"}`)
		put(5, []byte(base64.URLEncoding.EncodeToString([]byte("xy "+oldLink))), "see "+oldLink)
		found := func(args ...string) string {
			t.Helper()
			var r struct {
				Found []struct {
					Column string
					Bytes  bool
					Exact  int
					Kinds  []struct {
						Form, Differs string
						Hits          int64 `json:"occurrences"`
					}
				}
			}
			if err := json.Unmarshal([]byte(d.must(0, append([]string{"find", oldLink, "--json", "--in", "papers.*"}, args...)...).out), &r); err != nil {
				t.Fatal(err)
			}
			var lines []string
			for _, c := range r.Found {
				for _, k := range c.Kinds {
					lines = append(lines, fmt.Sprintf("%s %v %d: %s|%s %d", c.Column, c.Bytes, c.Exact, k.Form, k.Differs, k.Hits))
				}
			}
			slices.Sort(lines)
			return strings.Join(lines, "\n")
		}
		for want, args := range map[string][]string{
			"note false 1: plain| 1": nil,
			"note false 1: plain| 1\nscan true 0: plain| 1\nscan true 0: plain|other case 1":                                                                                            {"--binary"},
			"note false 1: in base64 in json| 1\nnote false 1: in base64| 1\nnote false 1: plain| 1":                                                                                    {"--base64"},
			"note false 1: in base64 in json| 1\nnote false 1: in base64| 1\nnote false 1: plain| 1\nscan true 0: in base64| 1\nscan true 0: plain| 1\nscan true 0: plain|other case 1": {"--base64", "--binary"},
		} {
			if got := found(args...); got != want {
				t.Errorf("%v:\n%s\nwant\n%s", args, got, want)
			}
		}
		if o := d.must(0, "find", oldLink, "--binary", "--base64"); !strings.Contains(o.out, "bytes: found, but not to be replaced") {
			t.Errorf("%s", o.out)
		}
		path := filepath.Join(t.TempDir(), "job.toml")
		d.must(0, "find", oldLink, "--in", "papers.*", "--binary", "--becomes", newLink, "--write", path)
		if text, _ := os.ReadFile(path); strings.Contains(string(text), "scan") {
			t.Errorf("bytes stand in the job:\n%s", text)
		}
		if d.engine == "sqlite" { // where a text may stand beside them
			return
		}
		if o := d.must(2, "preview", jobFile(t, "[[step]]\nin = [\"papers.scan\"]\nreplace = { find = \"a\", with = \"b\" }\n")); !strings.Contains(o.err, "bytes") {
			t.Errorf("%s", o.err)
		}
	})
}

// TestReplaceTooLong names the rows before anything runs, and each as it is met.
func TestReplaceTooLong(t *testing.T) {
	job := jobFile(t, "[[step]]\nin = [\"t.note\"]\nreplace = { find = \"mole\", with = \"the long north mole\" }\n")
	servers(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, note varchar(25))", "INSERT INTO t SELECT i, 'mole' FROM "+d.numbers(50), "UPDATE t SET note = 'beyond the mole' WHERE id IN (7, 30)")
		if o := d.must(3, "preview", job); !strings.Contains(o.out, "the new value has 30 characters") || !strings.Contains(o.out, "does-not-fit: 2 new values") {
			t.Errorf("the preview does not name the rows:\n%s", o.out)
		}
		if o := d.must(1, "run", job, "--accept", "any"); !strings.Contains(o.err, "row 7:") {
			t.Errorf("the run does not name the row: %s", o.err)
		}
		d.must(5, "resume", "1", "--set-aside", "5")
		if got := d.one("SELECT count(*) FROM t WHERE note = 'the long north mole'"); got != "48" {
			t.Errorf("%s rows were changed", got)
		}
	})
}

// TestReplaceHazards: what would quietly spoil the data is told beforehand.
func TestReplaceHazards(t *testing.T) {
	d := fresh(t, "sqlite")
	d.exec("CREATE TABLE t (id integer PRIMARY KEY, note text)", "INSERT INTO t VALUES (1, 'moor, moorland'), (2, 'http://a.test/x'), (3, 'berth')")
	for with, want := range map[[2]string][]string{
		{"moor", "berth"}:                    {"longer-words: 1 of the occurrences", "not-reversible: the new text stands there already, 1 times in"},
		{"moor", "moor again"}:               {"grows:"},
		{"http://a.test", "https://a.test/"}: {"double-slash:", "1 occurrences are followed by one"},
	} {
		o := d.must(0, "preview", jobFile(t, fmt.Sprintf("[[step]]\nin = [\"t.note\"]\nreplace = { find = %q, with = %q }\n", with[0], with[1])))
		for _, w := range want {
			if !strings.Contains(o.out, w) {
				t.Errorf("%v: the preview does not say %q:\n%s", with, w, o.out)
			}
		}
	}
}

// TestReplaceHugeCell: values of 30 MB, some of it nested, are a row like any other.
func TestReplaceHugeCell(t *testing.T) {
	job := jobFile(t, fmt.Sprintf("[[step]]\nin = [\"t.note\"]\nreplace = { find = %q, with = %q }\n", oldLink, newLink))
	engines(t, func(t *testing.T, d *database) {
		const size = 20_000_000 // more than a packet of MariaDB's takes, unless somebody changed it
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, note " + d.by("longtext", "text") + ")")
		// The server makes them.
		huge := map[string]string{"sqlite": "replace(hex(zeroblob(%d)), '00', 'x')", "postgres": "repeat('x', %d)", "mariadb": "repeat('x', %d)"}[d.engine]
		huge = fmt.Sprintf(huge, size)
		d.exec("INSERT INTO t VALUES (1, " + d.by("concat("+huge+", '"+oldLink+"')", huge+" || '"+oldLink+"'") + "), (3, 'nothing')")
		head, tail := fmt.Sprintf(`a:1:{i:0;s:%d:"`, size+len(oldLink)), `";}`
		d.exec("INSERT INTO t SELECT 2, " + d.by("concat('"+head+"', note, '"+tail+"')", "'"+head+"' || note || '"+tail+"'") + " FROM t WHERE id = 1")
		serial := len(head) + size + len(oldLink) + len(tail)
		d.must(0, "run", job, "--accept", "2")
		want := map[string]string{"1": fmt.Sprint(size + len(newLink)), "2": fmt.Sprint(len(fmt.Sprintf(`a:1:{i:0;s:%d:"";}`, size+len(newLink))) + size + len(newLink)), "3": "7"}
		for id, n := range want {
			if got := d.one("SELECT length(note) FROM t WHERE id = " + id); got != n {
				t.Errorf("row %s: %s bytes, want %s", id, got, n)
			}
		}
		if got := d.one("SELECT substr(note, 1, 30) FROM t WHERE id = 2"); !strings.HasPrefix(got, fmt.Sprintf(`a:1:{i:0;s:%d:"xxx`, size+len(newLink))) {
			t.Errorf("the length: %s", got)
		}
		d.must(0, "verify", "1")
		d.must(0, "undo", "1")
		if got := d.one("SELECT length(note) FROM t WHERE id = 2"); got != fmt.Sprint(serial) {
			t.Errorf("undone: %s bytes", got)
		}
	})
}

// TestManyWorkers: more workers than readers have connections, all of which set
// rows aside: each such row once, and never more than allowed.
func TestManyWorkers(t *testing.T) {
	job := jobFile(t, fmt.Sprintf("[[step]]\nin = [\"t.note\"]\nreplace = { find = %q, with = %q }\n", oldLink, newLink))
	servers(t, func(t *testing.T, d *database) {
		const rows, every, allowed = 24_000, 120, 150
		bad := `a:1:{i:0;s:99:"` + oldLink + `";}`
		d.exec("CREATE TABLE t (id "+d.integer()+" PRIMARY KEY, note text)",
			fmt.Sprintf("INSERT INTO t SELECT i, CASE WHEN i %% %d = 0 THEN '%s' ELSE %s END FROM %s", every, d.literal(bad), d.by("concat('see "+oldLink+"/', i)", "'see "+oldLink+"/' || i"), d.numbers(rows)))
		d.settled("t")
		d.must(1, "run", job, "--accept", "any", "--workers", "12", "--batch", "100", "--set-aside", fmt.Sprint(allowed))
		aside := "SELECT count(DISTINCT n) FROM " + d.ledger("outcome")
		if got := atoi(d.one(aside)); got > allowed || got < allowed-12 {
			t.Errorf("%d rows are set aside, of %d allowed", got, allowed)
		}
		d.must(5, "resume", "1", "--set-aside", fmt.Sprint(rows/every), "--workers", "12")
		if got := atoi(d.one(aside)); got != rows/every {
			t.Errorf("%d numbers of rows set aside, of %d", got, rows/every)
		}
		if got := d.one("SELECT count(DISTINCT row_key) FROM " + d.ledger("outcome")); atoi(got) != rows/every {
			t.Errorf("%s different rows are set aside", got)
		}
		if got := d.one("SELECT count(*) FROM t WHERE note LIKE 'see " + newLink + "/%'"); atoi(got) != rows-rows/every {
			t.Errorf("%s rows are changed", got)
		}
		if s := d.show("1"); s.SetAside != rows/every || s.Others.Samples == 0 {
			t.Errorf("%d set aside, %d looks at others", s.SetAside, s.Others.Samples)
		}
		d.must(0, "verify", "1")
		d.must(0, "undo", "1")
		if got := d.one("SELECT count(*) FROM t WHERE note LIKE 'see " + oldLink + "/%'"); atoi(got) != rows-rows/every {
			t.Errorf("%s rows are as they were", got)
		}
	})
}
