package find_test

import (
	"context"
	"errors"
	"slices"
	"testing"

	"jugatum/internal/dbtest"
	"jugatum/internal/find"
)

var notices = []string{"CREATE TABLE notice (id INTEGER PRIMARY KEY, body text, data text, scan blob)",
	`INSERT INTO notice VALUES (1, 'see http://charts and http://tides', '{"http://k": "http:\/\/charts"}', x'00687474703a2f2f'), (2, 'HTTP://charts', 'a:1:{i:0;s:9:"http://ab";}', NULL), (3, 'https://charts', 'aHR0cDovL2NoYXJ0cw==', NULL)`,
	"CREATE TABLE berth (code text PRIMARY KEY, note text)", "INSERT INTO berth VALUES ('http://a', 'plain'), ('b', 'http://b')", "CREATE TABLE loose (note text, rowid, _rowid_, oid)", "INSERT INTO loose (note) VALUES ('http://c')"}

// TestSearch: where a text is, in which forms, and what is nearly it.
func TestSearch(t *testing.T) {
	db, _ := dbtest.Open(t, notices...)
	search := func(o find.Options) map[string]find.Column {
		t.Helper()
		told := 0
		o.Progress = func(string, int, int, int64) { told++ }
		r, err := find.Search(context.Background(), db, "http://", o)
		if err != nil {
			t.Fatal(err)
		}
		if told == 0 || r.Looked == 0 {
			t.Errorf("%+v", r)
		}
		out := map[string]find.Column{}
		for _, c := range r.Columns {
			out[c.Table+"."+c.Column] = c
		}
		return out
	}
	all := search(find.Options{})
	if c := all["notice.body"]; c.Exact != 2 || c.Hits != 3 || c.ExactRows != 1 || len(c.Kinds) != 2 || len(c.Kinds[0].Examples) != 2 {
		t.Errorf("%+v", c)
	}
	if c := all["notice.data"]; c.Hits < 3 || !slices.ContainsFunc(c.Kinds, func(k find.Kind) bool { return !k.Covered }) {
		t.Errorf("%+v", c)
	}
	if len(all) != 5 || all["berth.code"].Hits != 1 || all["loose.note"].Hits != 1 {
		t.Errorf("%+v", all)
	}
	if some := search(find.Options{In: []string{"notice.*"}, Except: []string{"*.data"}}); len(some) != 1 {
		t.Errorf("%+v", some)
	}
	if bytes := search(find.Options{In: []string{"notice.scan", "notice.data"}, Binary: true, Base64: true}); bytes["notice.scan"].Hits != 1 || !bytes["notice.scan"].Bytes || bytes["notice.data"].Hits < 4 {
		t.Errorf("%+v", bytes)
	}
	var pe *find.PatternError
	if _, err := find.Search(context.Background(), db, "x", find.Options{In: []string{"nowhere.*"}}); !errors.As(err, &pe) {
		t.Error(err)
	}
}

// TestAgain: what a replacement left, and why.
func TestAgain(t *testing.T) {
	db, other := dbtest.Open(t, notices...)
	p, err := dbtest.Plan(db, "[[step]]\nname = \"links\"\nin = [\"*.note\", \"*.body\", \"*.code\"]\nreplace = { find = \"http://\", with = \"https://\" }\n", "", nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := dbtest.Run(t, db, p.Job.Source.Text, dbtest.Options()); err != nil {
		t.Fatal(err)
	}
	again := func() find.LeftOver {
		t.Helper()
		list, err := find.Again(context.Background(), db, p.Tables, p.Replaced(), func(string, int, int, int64) {})
		if err != nil || len(list) != 1 {
			t.Fatalf("%+v %v", list, err)
		}
		return list[0]
	}
	x := again()
	if x.Text != "http://" || x.Left != 0 || len(x.Still) != 0 || len(x.Near) != 1 || x.Near[0].Column != "notice.body" {
		t.Errorf("%+v", x)
	}
	why := map[string]string{}
	for _, l := range x.Elsewhere {
		why[l.Column] = l.Because
	}
	if why["berth.code"] != "in a key column, which a job must name in full" || why["loose.note"] != "in a table without a key" || why["notice.data"] != "not among the columns of the job" {
		t.Errorf("%v", why)
	}
	dbtest.Exec(t, other, "UPDATE notice SET body = 'http://new' WHERE id = 3")
	if x := again(); x.Left != 1 || len(x.Still) != 1 {
		t.Errorf("%+v", x)
	}
	for _, s := range [][3]string{{"JSON, key", "", "a key (keys = true)"}, {"damaged PHP", "", "damaged"}, {"plain", "other case", "other case"}, {"JSON", "", "this form is not named (forms)"}} {
		if got := find.Stays(s[0], s[1]); got != s[2] {
			t.Errorf("%q: %q", s, got)
		}
	}
}
