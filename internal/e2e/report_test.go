package e2e

import (
	"encoding/json"
	"fmt"
	"image/png"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestReport: a run is told as a page, as Markdown and as JSON, by what is on record: how it
// ended, verified or not, rows before and after, what it cost, its plots; and several side by side.
func TestReport(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.harbourRates("berth")
		dir := t.TempDir()
		at := func(name string) string { return filepath.Join(dir, name) }
		read := func(name string) string {
			t.Helper()
			text, err := os.ReadFile(at(name))
			if err != nil {
				t.Fatal(err)
			}
			return string(text)
		}
		job := d.job("title = 'Rates'\nreason = 'CHG-7'\n[[step]]\nname = 'raise'\ntable = 'berth'\nset = { day_rate = 'day_rate + 1', note = \"'<b>new</b>'\" }\nwhere = 'berth_no <= 90'\ncheck = [{ sql = 'SELECT count(*) FROM berth WHERE day_rate < 0', is = 0 }]\n")
		d.must(0, "run", job, "--accept", "90", "--batch", "7", "--rehearse")
		run := d.lastRun()
		d.must(0, "report", run, "-o", at("a.html"))
		page := read("a.html")
		for _, want := range []string{"<h1>Rates</h1>", "CHG-7", "Done: 90 rows changed in ", "not verified", "raise", "&lt;b&gt;new&lt;/b&gt;", "estimated before", "not-cleared", "accepted 90 rows", "jugatum undo " + run, "<svg", "day_rate &#43; 1"} {
			if !strings.Contains(page, want) {
				t.Errorf("the page does not say %q", want)
			}
		}
		if strings.Contains(page, "<b>new") {
			t.Error("a cell is markup")
		}
		// The columns of numbers are summed up from what was kept.
		for _, n := range []string{"4095", "4185"} { // 1 + … + 90, and one more each
			if !strings.Contains(page, n) {
				t.Errorf("the page has no sum of %s", n)
			}
		}
		d.must(0, "verify", run)
		d.must(0, "report", run, "-o", at("a.md"), "--format", "md", "--plots", at("plots"), "--as", "png")
		if md := read("a.md"); !strings.Contains(md, "it holds; 90 rows of kept values compared with the tables, 1 check of the job asked") || !strings.Contains(md, "| raise | berth | update by ") {
			t.Error(md)
		}
		for _, name := range []string{"rows", "batch", "hold"} {
			f, err := os.Open(at("plots/" + name + ".png"))
			if err != nil {
				t.Fatal(err)
			}
			if img, err := png.Decode(f); err != nil || img.Bounds().Dx() < 1000 {
				t.Errorf("%s: %v", name, err)
			}
			f.Close()
		}
		d.must(0, "undo", run)
		undo := d.lastRun()
		d.must(0, "report", run, undo, "-o", at("both.html"))
		if both := read("both.html"); !strings.Contains(both, "Runs "+run+", "+undo) || !strings.Contains(both, "Run "+undo+" took it back") || !strings.Contains(both, "put back as they were before run "+run) {
			t.Error("the runs are not side by side")
		}
		var out struct {
			Runs []struct {
				Run      json.Number
				Status   string
				Job      struct{ Text string }
				Verified struct{ Holds bool }
				Looks    []struct{ Rows int64 }
				Consent  struct{ Rows int64 }
				Timeline struct{ Stretches []struct{ Changed float64 } }
			}
		}
		o := d.must(0, "report", run, "--json")
		if err := json.Unmarshal([]byte(o.out), &out); err != nil {
			t.Fatal(err)
		}
		r := out.Runs[0]
		sum := 0.0
		for _, x := range r.Timeline.Stretches {
			sum += x.Changed
		}
		if r.Run.String() != run || r.Status != "done" || !r.Verified.Holds || r.Consent.Rows != 90 || strings.Contains(o.out, "seal") || len(r.Looks) != 1 || r.Looks[0].Rows != 90 || sum < 89.99 || sum > 90.01 || !strings.Contains(r.Job.Text, "berth_no <= 90") {
			t.Errorf("%+v, %g rows along the time", r, sum)
		}
		for _, x := range []struct {
			status int
			args   []string
			want   string
		}{
			{2, []string{"report"}, "report takes the numbers of runs"},
			{2, []string{"report", "first"}, `"first" is not the number of a run`},
			{2, []string{"report", "99"}, "no run 99"},
			{2, []string{"report", run, run}, "run " + run + " is named twice"},
			{2, []string{"report", run, "--format", "pdf"}, "--format pdf: html, md or json"},
			{2, []string{"report", run, "--plots", dir, "--as", "gif"}, "--as gif: svg or png"},
			{2, []string{"report", run, "-o", at("a.html")}, "is there already"},
			{2, []string{"report", run, "-o", at("none/a.html")}, "no such file or directory"},
			{2, []string{"report", run, "-o", at("c.html"), "--plots", at("a.md")}, "cannot be made"},
		} {
			if o := d.must(x.status, x.args...); !strings.Contains(o.err, x.want) {
				t.Errorf("%q: %s", x.args, o.err)
			}
		}
	})
}

// TestReportOfWhatIsNot: a run that is not at its end says so, one that kept nothing has no rows to
// show, and a record that somebody has changed is not carried out for the sake of a page.
func TestReportOfWhatIsNot(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.harbourRates("berth")
		path := filepath.Join(t.TempDir(), "a.html")
		page := func(args ...string) string {
			t.Helper()
			os.Remove(path)
			d.must(0, append([]string{"report", "-o", path}, args...)...)
			text, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			return string(text)
		}
		d.must(0, "run", "--sql", "UPDATE berth SET note = 'x'", "--every-row", "--accept", "any", "--keep", "none")
		run := d.lastRun()
		if text := page(run); !strings.Contains(text, "nothing was kept (--keep none)") || !strings.Contains(text, "any number of rows, none were counted") || !strings.Contains(text, "went on despite") {
			t.Error("it is not told that nothing was kept")
		}
		d.must(0, "run", "--sql", "UPDATE berth SET note = 'y'", "--every-row", "--accept", "100")
		run = d.lastRun()
		d.must(0, "verify", run)
		if text := page(run); strings.Contains(text, "changed since") || strings.Contains(text, "no seal") || !strings.Contains(text, `<dd class="good">it holds`) {
			t.Error("a run that is as it was recorded is doubted")
		}
		for _, x := range []struct{ table, column, from, to, told string }{
			{"run", "options", `"rows":100`, `"rows":99`, "what was accepted before the run, and told of its hazards, has been changed since"},
			{"outcome", "detail", `"compared":100`, `"compared":9000`, "the record of it has been changed since"},
		} {
			change := func(from, to string) {
				d.exec("UPDATE " + d.ledger(x.table) + " SET " + x.column + " = replace(" + x.column + ", '" + from + "', '" + to + "')")
			}
			change(x.from, x.to)
			if text := page(run); !strings.Contains(text, x.told) {
				t.Errorf("a %s that somebody has changed is told as it is", x.column)
			}
			change(x.to, x.from)
		}
		d.exec("UPDATE " + d.ledger("run") + " SET status = 'running', ended_at = NULL WHERE id = " + run) // as a kill leaves it
		d.must(0, "verify", run)
		if text := page(run); !strings.Contains(text, "not verified") {
			t.Error("that a part of a run holds is told of the whole")
		}
		if text := page(run); !strings.Contains(text, "Not at its end: so far 100 rows changed") || !strings.Contains(text, "<ins>y</ins>") {
			t.Error("it is not told that the run is not at its end")
		}
		d.exec("UPDATE " + d.ledger("run") + " SET source_text = 'UPDATE berth SET note = NULL' WHERE id = " + run)
		if text := page(run); strings.Count(text, "somebody has changed it since it was made") != 2 || strings.Contains(text, "<ins>") {
			t.Error("a changed record was carried out")
		}
	})
}

// TestManySetAside: of very many rows set aside the page has the first, and a file all.
func TestManySetAside(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.exec("CREATE TABLE berth (berth_no " + d.integer() + " PRIMARY KEY, day_rate integer NOT NULL, CHECK (day_rate < 1000))")
		d.exec("INSERT INTO berth SELECT i, i FROM " + d.numbers(130))
		d.must(5, "run", "--sql", "UPDATE berth SET day_rate = day_rate + 990 WHERE berth_no > 0", "--accept", "130", "--set-aside", "200", "--batch", "50")
		dir := t.TempDir()
		d.must(0, "report", d.lastRun(), "-o", filepath.Join(dir, "a.html"))
		all, err := os.ReadFile(filepath.Join(dir, "a-"+d.lastRun()+"-set-aside.csv"))
		if err != nil {
			t.Fatal(err)
		}
		page, _ := os.ReadFile(filepath.Join(dir, "a.html"))
		if n := strings.Count(string(all), "\n"); n != 122 || !strings.Contains(string(page), "The first 100 of 121") {
			t.Errorf("%d lines", n)
		}
	})
}

// TestApproval: what was approved on a page runs, also when a few rows have come since, if that is
// allowed; and nothing else does.
func TestApproval(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.harbourRates("berth")
		dir := t.TempDir()
		job := d.job("title = 'Rates'\n[param.rise]\ntype = 'integer'\n[[step]]\nname = 'raise'\ntable = 'berth'\nset = { day_rate = 'day_rate + :rise' }\nwhere = 'berth_no <= 90'\n")
		approve := func(name string, args ...string) string {
			t.Helper()
			path := filepath.Join(dir, name)
			d.must(0, append([]string{"preview", job, "--page", path}, args...)...)
			text, err := os.ReadFile(path)
			if err != nil {
				t.Fatal(err)
			}
			m := regexp.MustCompile(`--approved ([a-z0-9.-]+)</pre>`).FindSubmatch(text)
			if m == nil || !strings.Contains(string(text), "90 rows would change") {
				t.Fatalf("no approval on the page:\n%s", text)
			}
			return string(m[1])
		}
		approved := approve("a.html", "--param", "rise=3")
		if again := approve("b.html", "--param", "rise=3", "--sample", "0"); again != approved {
			t.Errorf("the approval of the same is %s, then %s", approved, again)
		}
		for _, x := range []struct {
			status int
			args   []string
			want   string
		}{
			{3, []string{"--param", "rise=4", "--approved", approved}, "this is not what was approved"},
			{3, []string{"--param", "rise=3", "--approved", approved, "--keep", "none"}, "this is not what was approved"},
			{3, []string{"--param", "rise=3", "--approved", "x-90"}, "is no approval"},
			{2, []string{"--param", "rise=3", "--approved", approved, "--accept", "90"}, "--approved stands instead of --accept"},
			{2, []string{"--param", "rise=3", "--accept", "90", "--tolerance", "3"}, "--tolerance goes with --approved"},
			{2, []string{"--param", "rise=3", "--approved", approved, "--tolerance", "many"}, "is neither a number of rows nor a share"},
		} {
			if o := d.must(x.status, append([]string{"run", job}, x.args...)...); !strings.Contains(o.err, x.want) {
				t.Errorf("%q: %s", x.args, o.err)
			}
		}
		d.exec("DELETE FROM berth WHERE berth_no IN (4, 5)") // data moves on
		if o := d.must(3, "run", job, "--param", "rise=3", "--approved", approved, "--tolerance", "2%"); !strings.Contains(o.err, `step "raise": 88 rows would change, but 90 were approved`) {
			t.Error(o.err)
		}
		d.must(0, "run", job, "--param", "rise=3", "--approved", approved, "--tolerance", "3%")
		d.must(0, "report", d.lastRun(), "-o", filepath.Join(dir, "r.html"))
		text, _ := os.ReadFile(filepath.Join(dir, "r.html"))
		if !strings.Contains(string(text), "90 rows, as approved ("+approved+")") {
			t.Error("the report does not tell of the approval")
		}
	})
}

// TestPageInABrowser: a page full of hostile values runs none of them, and asks for nothing. It
// needs a browser, and is left out where there is none.
func TestPageInABrowser(t *testing.T) {
	browser, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("no chromium here")
	}
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	asked := make(chan struct{}, 100)
	go func() {
		for {
			c, err := listener.Accept()
			if err != nil {
				return
			}
			asked <- struct{}{}
			c.Close()
		}
	}()
	defer listener.Close()
	d := fresh(t, "sqlite")
	there := "http://" + listener.Addr().String()
	evil := `<script>document.title='run'</script><img src="` + there + `/i" onerror="document.title='run'"><style>@import "` + there + `/c";</style><iframe src="` + there + `"></iframe>`
	d.exec("CREATE TABLE berth (berth_no integer PRIMARY KEY, note text)", "INSERT INTO berth SELECT i, '"+strings.ReplaceAll(evil, "'", "''")+"' || i FROM "+d.numbers(20))
	job := d.job(fmt.Sprintf("title = '''%s'''\nreason = '''%s'''\n[[step]]\nname = '''%s'''\ntable = 'berth'\nset = { note = \"note || 'x'\" }\nwhere = 'berth_no > 2'\n", evil, evil, evil))
	dir := t.TempDir()
	d.must(0, "preview", job, "--page", filepath.Join(dir, "p.html"))
	d.must(0, "run", job, "--accept", "18", "--batch", "3")
	d.must(0, "report", d.lastRun(), "-o", filepath.Join(dir, "r.html"))
	for _, name := range []string{"p.html", "r.html"} {
		out, err := exec.Command(browser, "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update", "--disable-sync", "--user-data-dir="+t.TempDir(), "--dump-dom", "file://"+filepath.Join(dir, name)).Output()
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		dom := string(out)
		if !strings.Contains(dom, "<h1>&lt;script&gt;") || strings.Contains(dom, "<title>run</title>") || strings.Contains(dom, "<img") || strings.Contains(dom, "<iframe") {
			t.Errorf("%s: a value became a part of the page", name)
		}
	}
	select {
	case <-asked:
		t.Error("a page asked for something")
	default:
	}
}
