package page

import (
	"bytes"
	"encoding/json"
	"math"
	"regexp"
	"strings"
	"testing"
	"time"

	"jugatum/internal/hazard"
	"jugatum/internal/kept"
	"jugatum/internal/ledger"
	"jugatum/internal/preview"
	"jugatum/internal/report"
	"jugatum/internal/timeline"
	"jugatum/internal/trial"
)

var noon = time.Date(2026, 11, 29, 12, 0, 0, 0, time.UTC)

// example is a run of three batches a second for a minute, with something to tell in every part.
func example(id int64, word string) *Run {
	ended := noon.Add(time.Minute)
	value, other := "old "+word, "new "+word
	r := &Run{Run: &report.Run{Schema: report.Schema, Run: id, Title: "Rates " + word, Reason: word, Status: ledger.Done, Database: "sqlite:saltmere.db", StartedAt: noon, EndedAt: &ended, User: "mara", Host: "quay1", Version: "0.2.0", Keep: true, KeptBytes: 4 << 20, HoldMS: 200, Workers: 1,
		Steps:    []report.Step{{Name: "raise " + word, Table: "berth", Verb: "update", Method: "sweep", Status: ledger.Done, Batches: 180, Scanned: 20000, Matched: 18000, Changed: 18000, Acts: []report.Act{{Name: "with " + word, Table: "visit", Verb: "delete", By: []string{"berth_no"}, Changed: 7}}}},
		Holds:    report.Holds{Batches: 180, MedianMS: 80, P99MS: 150, MaxMS: 160},
		Log:      report.Log{Bytes: 1 << 20, Records: 20000, Images: 12, Scope: "ours", Kind: "write-ahead log"},
		SetAside: 150, Estimate: &ledger.Estimate{Batches: 170, Seconds: 50, HoldMS: 90, LogBytes: 900_000, KeptBytes: -1},
		Waits: []ledger.Wait{{Session: "12", MS: 30, For: "berth", Statement: "SELECT " + word}},
		Lists: []report.List{{Step: "raise", File: word + ".csv", Lines: 9, Outcomes: map[string]int64{"changed": 9}}}},
		Job:      Job{Name: "rates.toml", Text: "title = \"" + word + "\"\n[[step]]\n", Digest: "2:ab"},
		Params:   []Param{{"rise", "decimal", "1.03 " + word}},
		Options:  ledger.Options{Keep: true, SetAside: 200, Consent: &ledger.Consent{Rows: 18007, Hazards: []ledger.Hazard{{Step: "raise", Code: "every-row", Level: "refusal", Text: "all of " + word, Meant: true}}}},
		Verified: &ledger.Verified{At: ended, Who: "mara", Host: "quay1", Holds: true, Compared: 18007, Checks: []ledger.CheckOutcome{{SQL: "SELECT '" + word + "'", Want: "0", Got: "0", OK: true}}},
		Looks: []kept.Look{{Step: "raise", Table: "berth", Does: "update", Kept: 18000, Summed: true, Rows: []kept.Row{{Key: word, Values: []kept.Cell{{Column: "note", Before: &value, After: &other}, {Column: "gone", Before: &value}}}},
			Figures: []kept.Figure{{Column: "day_rate", Before: kept.Sums{Min: "1", Max: "9", Sum: "500"}}}}},
		Locks: map[string]int{"RowExclusiveLock": 4},
	}
	for i := range 150 {
		r.Run.Asides = append(r.Run.Asides, ledger.Aside{Step: 1, N: int64(i), KeyText: word, New: map[string]*string{"note": &value, "rate": nil}, Error: "no " + word})
	}
	r.Skipped = []ledger.Left{{Step: 1, Key: word, Table: "berth", Expected: map[string]string{"note": word}, Found: map[string]string{"note": "x"}}, {Step: 1, Key: "8", Table: "berth", Gone: true}}
	var batches []timeline.Batch
	for i := range 180 {
		batches = append(batches, timeline.Batch{Began: noon.Add(time.Duration(i) * time.Second / 3), Hold: time.Duration(60+i%40) * time.Millisecond, Changed: 100, LogBytes: 5800, Images: int64(i % 9 / 8), Waiters: int64(i % 2)})
	}
	r.Line = timeline.New(batches, []timeline.Event{{At: noon.Add(20 * time.Second), Text: "tune hold 100ms, by " + word}})
	return r
}

func html(t *testing.T, p *Page) string {
	t.Helper()
	var b bytes.Buffer
	if err := p.HTML(&b); err != nil {
		t.Fatal(err)
	}
	return b.String()
}

// hostile is a text that would like to be more than that.
const hostile = "<script src=http://x.test/a.js></script><img src=http://x.test onerror=alert(1)>\"'}}{{.}}</style>]]>\x1b[31m\u202e`|*_[a](http://x.test)"

// TestHostile: whatever cells, jobs and errors contain stands in the page as a text.
func TestHostile(t *testing.T) {
	one, two := html(t, &Page{Runs: []*Run{example(1, hostile)}, Made: noon, By: "0.2.0"}), html(t, &Page{Runs: []*Run{example(1, hostile), example(2, hostile)}, Made: noon, By: "0.2.0"})
	proposal := &bytes.Buffer{}
	value := hostile
	p := &Proposal{Title: hostile, Reason: hostile, Database: hostile, User: hostile, Job: Job{Name: hostile, Text: hostile}, Params: []Param{{"a", "text", hostile}}, Total: 2, Stands: []string{hostile}, Approval: "x", Command: hostile,
		Steps: []Proposed{{Step: &preview.Step{Name: hostile, Table: hostile, Verb: "update", Changes: 2, Sample: []preview.Row{{Key: hostile, Changes: []preview.Cell{{Column: hostile, Before: &value}}}}, Hazards: []hazard.Finding{{Code: hostile, Level: hazard.Warning, Text: hostile}}}, Shown: hostile}}}
	if err := p.HTML(proposal); err != nil {
		t.Fatal(err)
	}
	tried := &bytes.Buffer{}
	if err := triedPage(hostile).HTML(tried); err != nil {
		t.Fatal(err)
	}
	tag := regexp.MustCompile(`<[a-zA-Z/!][^>]*>`)
	for name, text := range map[string]string{"one run": one, "two runs": two, "a proposal": proposal.String(), "a trial": tried.String()} {
		if n := strings.Count(text, "&lt;script"); n < 5 {
			t.Errorf("%s: the text stands there %d times", name, n)
		}
		for _, m := range tag.FindAllString(text, -1) {
			if regexp.MustCompile(`(?i)^<(script|img|iframe|object|link|base)|\son\w+=|javascript:|src=`).MatchString(m) {
				t.Errorf("%s has %s", name, m)
			}
		}
		for _, bad := range []string{"\x1b", "\u202e", `href="http`, "url("} {
			if strings.Contains(text, bad) {
				t.Errorf("%s has %q", name, bad)
			}
		}
		if !strings.Contains(text, `content="default-src 'none'; style-src 'unsafe-inline'"`) {
			t.Errorf("%s has no policy that forbids scripts", name)
		}
	}
	var md bytes.Buffer
	if err := (&Page{Runs: []*Run{example(1, hostile)}}).Markdown(&md); err != nil {
		t.Fatal(err)
	}
	outside := regexp.MustCompile("(?s)```.*```").ReplaceAllString(md.String(), "")
	for _, bad := range []string{`(^|[^\\])<(script|img)`, `[^\\]\]\(http`, "\x1b", "\u202e", ` https?://`} {
		if regexp.MustCompile(bad).MatchString(outside) {
			t.Errorf("the Markdown has %q", bad)
		}
	}
}

// triedPage is a page of a trial in which each text is the one given.
func triedPage(text string) *Trial {
	keep, bare := trial.Tried{Way: trial.Way{Method: "sweep", Workers: 1, Keep: true}, LogRow: 58, Records: -1, Images: 3, Temporary: 64 << 10, Locks: map[string]int{text: 12}}, trial.Tried{Way: trial.Way{Method: "single", Workers: 1}, LogRow: -1, Images: -1, Temporary: -1}
	keep.Seconds, keep.HoldMS, keep.LogBytes, keep.Room, keep.Vary, keep.Trials, keep.Batches, keep.Dead = 30, 90, 1<<20, 2<<20, 0.07, 10, 180, 100_000
	bare.Seconds, bare.HoldMS, bare.LogBytes, bare.Dead = 20, 20000, -1, -1
	return &Trial{Title: text, Database: text, User: text, Job: Job{Name: text, Text: text}, Keys: "time", Hold: 200 * time.Millisecond, Made: noon, By: "0.2.0",
		Steps: []TriedStep{{Name: text, Table: text, Advice: text, Command: text, Result: &trial.Result{Looks: 12, Rows: 1000000, Changes: 100000, Trials: 20, Rounds: 5, Spent: 4, Log: -1, Ways: []trial.Tried{bare, keep, {Way: trial.Way{Method: "roster"}, Failed: text}}, Short: text, Uncommitted: text}}}}
}

// TestTrialTells: the page of a trial has each way's figures, says what is not known, and which hold is over the target.
func TestTrialTells(t *testing.T) {
	var b bytes.Buffer
	if err := triedPage("spring").HTML(&b); err != nil {
		t.Fatal(err)
	}
	text := regexp.MustCompile(`\s+`).ReplaceAllString(regexp.MustCompile(`<[^>]*>`).ReplaceAllString(b.String(), " "), " ")
	for _, want := range []string{"100,000 of 1,000,000 rows would change", "20.0 s 20.0 s (over the target) ? – – 0 0 %", "30.0 s 90 ms 1.0 MiB 2.0 MiB 100,000 180 7 %", "58 B ? 3 64 KiB 0 spring 12", "20 transactions in 5 rounds, 4.0 s, ? of log", "not tried:", "hold target 200 ms"} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
	if !strings.Contains(b.String(), `<rect width="66.7"`) {
		t.Error("the faster way's bar is not two thirds of the other's")
	}
}

// TestTells: the page has what a reader looks for, and every part that the links on it lead to.
func TestTells(t *testing.T) {
	text := html(t, &Page{Runs: []*Run{example(3, "spring")}, Made: noon, By: "0.2.0", DB: " --db sqlite:saltmere.db"})
	for _, want := range []string{"Done: 18,007 rows changed in 180 batches, in 1 min 00 s; 150 set aside", "it holds; 18,007 rows of kept values compared", "mara accepted 18,007 rows", "went on despite",
		"<del>old</del> spring", "<ins>new</ins> spring", "RowExclusiveLock", "ours alone", "1.0 MiB", "58 bytes", "full-page images", "The first 100 of 150", "the row is gone", "jugatum verify 3 --db sqlite:saltmere.db", "tune hold 100ms, by spring", "spring.csv of step raise has 9 lines; 9 changed", ">170<"} {
		if !strings.Contains(text, want) {
			t.Errorf("the page does not say %q", want)
		}
	}
	for _, m := range regexp.MustCompile(`href="#([^"]*)"`).FindAllStringSubmatch(text, -1) {
		if !strings.Contains(text, `id="`+m[1]+`"`) {
			t.Errorf("a link leads to %q, which is nowhere", m[1])
		}
	}
	if n := strings.Count(text, "<svg"); n != 3 {
		t.Errorf("%d drawings", n)
	}
	both := html(t, &Page{Runs: []*Run{example(3, "spring"), example(4, "autumn")}, Made: noon, By: "0.2.0"})
	if !strings.Contains(both, "Runs 3, 4") || !strings.Contains(both, "last ÷ first") || strings.Contains(both, "<ins>") {
		t.Error("two runs are not side by side")
	}
}

// TestSentences: how a run ended, in each case.
func TestSentences(t *testing.T) {
	for want, change := range map[string]func(r *Run){
		"Done: 18,007 rows changed in 180 batches, in 1 min 00 s.":                                                            func(r *Run) {},
		"Done: 18,007 rows deleted in 180 batches, in 1 min 00 s.":                                                            func(r *Run) { r.Steps[0].Verb = "delete" },
		"Done: 18,000 lines carried out in 180 batches, in 1 min 00 s.":                                                       func(r *Run) { r.Steps[0].Verb, r.Steps[0].Acts = "call", nil },
		"Done: 18,007 rows put back as they were before run 2 in 180 batches, in 1 min 00 s; 3 skipped.":                      func(r *Run) { r.UndoOf, r.Steps[0].Skipped = 2, 3 },
		"Stopped: so far 18,007 rows changed in 180 batches, in 1 min 00 s. It can be resumed.":                               func(r *Run) { r.Status = ledger.Stopped },
		"Failed: 18,007 rows changed in 180 batches, in 1 min 00 s before that. It can be resumed.":                           func(r *Run) { r.Status = ledger.Failed },
		"Not at its end: so far 18,007 rows changed in 180 batches, in 1 min 00 s. It is at work, or its process was killed.": func(r *Run) { r.Status = ledger.Running },
		"Done: 1 row changed in 1 batch, in 1 min 00 s; 2 set aside. Run 9 took it back.": func(r *Run) {
			r.Steps[0].Changed, r.Steps[0].Batches, r.Steps[0].Acts, r.SetAside, r.UndoneBy = 1, 1, nil, 2, 9
		},
	} {
		r := example(1, "x")
		r.SetAside = 0
		change(r)
		if got := r.Sentence(); got != want {
			t.Errorf("got %s\nexpected %s", got, want)
		}
	}
	r := example(1, "x")
	r.Verified.Holds, r.Verified.Mismatched, r.Verified.Checks = false, 4, nil
	if got := r.VerifiedText(); !strings.HasPrefix(got, "it does not hold: 4 rows not as recorded; 18,007 rows of kept values compared with the tables (") {
		t.Error(got)
	}
	r.Verified.Holds, r.Verified.At = true, r.EndedAt.Add(-time.Second)
	if got := r.VerifiedText(); r.HeldUp() || !strings.HasPrefix(got, "not verified since it went on (before that, on ") {
		t.Error("a verification from before the end counts:", got)
	}
	if r.Verified = nil; r.HeldUp() || r.VerifiedText() != "not verified" {
		t.Error(r.VerifiedText())
	}
}

// TestSideBySide: figures that differ say how.
func TestSideBySide(t *testing.T) {
	a, b := example(1, "x"), example(2, "x")
	b.Holds.MedianMS, b.Workers = 20, 4
	got := map[string]string{}
	for _, f := range (&Page{Runs: []*Run{a, b}}).facts() {
		got[f.Name] = strings.Join(f.Values, " | ") + " | " + f.Differ
	}
	for name, want := range map[string]string{"hold of a batch, median": "80 ms | 20 ms | × 0.25", "workers": "1 | 4 | differs", "batches": "180 | 180 | ", "target": "200 ms | 200 ms | "} {
		if got[name] != want {
			t.Errorf("%s: %s, expected %s", name, got[name], want)
		}
	}
}

// TestMarked: the part that differs is marked, and long values are cut around it.
func TestMarked(t *testing.T) {
	text := func(m marked) string {
		out := m.Head + "[" + m.Mid + "]" + m.Tail
		if m.CutFront {
			out = "…" + out
		}
		if m.CutEnd {
			out += "…"
		}
		return out
	}
	long := strings.Repeat("a", 300)
	for _, x := range []struct{ before, after, b, a string }{
		{"rate 12", "rate 14", "rate 1[2]", "rate 1[4]"},
		{"", "x", "[]", "[x]"},
		{"aa", "aaa", "aa[]", "aa[a]"},
		{"Müller", "Möller", "M[ü]ller", "M[ö]ller"},
		{long + "x" + long, long + "y" + long, "…" + long[:beside] + "[x]" + long[:beside] + "…", "…" + long[:beside] + "[y]" + long[:beside] + "…"},
	} {
		b, a := differing(&x.before, &x.after)
		if text(b) != x.b || text(a) != x.a {
			t.Errorf("%.20s to %.20s: %s and %s", x.before, x.after, text(b), text(a))
		}
	}
	if b, a := differing(nil, &long); !b.Null || a.Mid != long[:most] || !a.CutEnd {
		t.Error(b, a)
	}
}

// TestJSON: what is not known is null, never a number that JSON has not.
func TestJSON(t *testing.T) {
	r := example(1, "x")
	r.Line.At[3].MedianHold = math.NaN()
	var b bytes.Buffer
	if err := (&Page{Runs: []*Run{r}}).JSON(&b); err != nil {
		t.Fatal(err)
	}
	var out struct {
		Schema int
		Runs   []struct {
			Run      int64
			Timeline struct {
				Stretches []struct {
					Median *float64 `json:"median_hold_ms"`
				}
				Marks []struct{ Text string }
			}
		}
	}
	if err := json.Unmarshal(b.Bytes(), &out); err != nil {
		t.Fatal(err)
	}
	if s := out.Runs[0].Timeline.Stretches; out.Runs[0].Run != 1 || s[3].Median != nil || s[4].Median == nil || len(out.Runs[0].Timeline.Marks) != 1 {
		t.Errorf("%+v", out)
	}
}
