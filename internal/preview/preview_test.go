package preview_test

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"jugatum/internal/dbtest"
	"jugatum/internal/engine"
	"jugatum/internal/preview"
)

func looked(t *testing.T, db engine.DB, text string, sample int) *preview.Step {
	t.Helper()
	p, err := dbtest.Plan(db, text, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	s, err := preview.Look(context.Background(), db, p.Changes[0], "sweep", sample)
	if err != nil {
		t.Fatal(err)
	}
	matched, changes, err := preview.Count(context.Background(), db, p.Changes[0])
	if err != nil || matched != s.Matched || changes != s.Changes {
		t.Errorf("%s: counted %d and %d, looked %d and %d (%v)", text, matched, changes, s.Matched, s.Changes, err)
	}
	return s
}

func codes(s *preview.Step) (out []string) {
	for _, f := range s.Hazards {
		out = append(out, f.Code)
	}
	slices.Sort(out)
	return out
}

// TestLook: rows that match, rows that change, figures before and after, a sample,
// and the hazards that only the rows show.
func TestLook(t *testing.T) {
	db, other := dbtest.Open(t, "CREATE TABLE quay (id INTEGER PRIMARY KEY, code text UNIQUE, depth integer)", "INSERT INTO quay VALUES (1, 'a', 10), (2, 'b', 12), (3, 'c', 14), (4, NULL, NULL)",
		"CREATE TABLE visit (id INTEGER PRIMARY KEY, quay_id integer REFERENCES quay (id) ON DELETE CASCADE ON UPDATE CASCADE, n integer)", "INSERT INTO visit VALUES (1, 1, 5), (2, 1, 6), (3, 2, 7)",
		"CREATE TABLE berth (id INTEGER PRIMARY KEY, quay_code text REFERENCES quay (code), q integer)", "INSERT INTO berth VALUES (1, 'b', 1)",
		"CREATE TABLE rate (quay_id integer, depth integer)", "INSERT INTO rate VALUES (1, 20), (1, 21), (2, 12)")
	s := looked(t, db, "UPDATE quay SET depth = 12 WHERE id < 4", 6)
	if s.Matched != 3 || s.Changes != 2 || s.TableRows != 4 || s.Verb != "update" || len(s.Sample) == 0 || s.Columns[0].Before == nil || s.Columns[0].Before.Max != "14" || s.Columns[0].After.Max != "12" {
		t.Errorf("%+v", s)
	}
	if row := s.Sample[0]; row.Key != "1" || *row.Changes[0].Before != "10" || *row.Changes[0].After != "12" {
		t.Errorf("%+v", row)
	}
	for _, x := range []struct {
		sql  string
		want string
		rows int64
	}{
		{"UPDATE quay SET id = 9 WHERE id = 1", "follows", 2},
		{"DELETE FROM quay WHERE id = 2", "referenced", 1},
		{"UPDATE quay SET code = 'a' WHERE id IN (2, 3)", "unique-collision", -2},
		{"UPDATE quay SET depth = rate.depth FROM rate WHERE rate.quay_id = quay.id", "ambiguous-source", 1},
		{"UPDATE quay SET depth = NULL WHERE depth = NULL", "equals-null", -1},
	} {
		s := looked(t, db, x.sql, 3)
		found := false
		for _, f := range s.Hazards {
			found = found || f.Code == x.want && (f.Rows == x.rows || x.rows == -2)
		}
		if !found {
			t.Errorf("%s: %+v", x.sql, s.Hazards)
		}
	}
	if s := looked(t, db, "DELETE FROM visit WHERE id = 3", 3); s.Changes != 1 || s.Verb != "delete" || *s.Sample[0].Changes[0].Before == "" {
		t.Errorf("%+v", s)
	}
	named := looked(t, db, "[[step]]\nname = \"s\"\ntable = \"quay\"\nwhere = \"id < 3\"\nlet = { more = \"depth + 5\" }\nset = { depth = \"more * 2\" }\n", 3)
	if !slices.Equal(named.Named, []string{"more"}) || *named.Sample[0].Named[0] != "15" || *named.Sample[0].Changes[0].After != "30" {
		t.Errorf("%+v", named)
	}
	first := looked(t, db, "[[step]]\nname = \"s\"\ntable = \"quay\"\norder = \"id DESC\"\nfirst = 2\nset = { depth = \"1\" }\n", 3)
	if first.Matched != 2 || first.First == "" {
		t.Errorf("%+v", first)
	}
	if got := dbtest.One(t, other, "SELECT group_concat(depth) FROM quay"); got != "10,12,14" {
		t.Errorf("a preview changed something: %s", got)
	}
}

// TestLookAtReplacement: occurrences by column and form, what stays and why.
func TestLookAtReplacement(t *testing.T) {
	db, _ := dbtest.Open(t, "CREATE TABLE notice (id INTEGER PRIMARY KEY, body text, data text)",
		`INSERT INTO notice VALUES (1, 'see http://charts and http://tides', '{"url": "http:\/\/charts"}'), (2, 'HTTP://charts', 'a:1:{i:0;s:9:"http://ab";}'), (3, 'nothing', 'a:1:{i:0;s:99:"http://ab";}'), (4, 'https://charts', NULL)`)
	s := looked(t, db, "[[step]]\nname = \"links\"\nin = [\"notice.body\", \"notice.data\"]\nreplace = { find = \"http://\", with = \"https://\" }\n", 10)
	r := s.Replacement
	if r == nil || len(r.Columns) != 2 || s.Changes != 2 || r.Damaged != 1 || len(r.Broken) != 1 || r.Broken[0].Key != "3" || r.Already != 1 {
		t.Fatalf("%+v %+v", s, r)
	}
	body, data := r.Columns[0], r.Columns[1]
	if body.Hits != 2 || body.Rows != 1 || len(body.Near) == 0 || len(data.Forms) != 2 {
		t.Errorf("%+v\n%+v", body, data)
	}
	if got := codes(s); !slices.Contains(got, "damaged") {
		t.Errorf("%v", got)
	}
	if len(s.Sample) == 0 || !strings.Contains(*s.Sample[0].Changes[0].After, "https://charts and https://tides") {
		t.Errorf("%+v", s.Sample)
	}
}

// TestRehearse: one batch is carried out and rolled back, and the whole estimated.
func TestRehearse(t *testing.T) {
	db, other := dbtest.Open(t, "CREATE TABLE t (id INTEGER PRIMARY KEY, n integer, note text)",
		"INSERT INTO t SELECT i, i, 'http://' || i FROM (WITH RECURSIVE s(i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM s WHERE i < 3000) SELECT i FROM s)")
	for _, x := range []struct {
		job     string
		plan    preview.Plan
		batches int64
	}{
		{"UPDATE t SET n = n + 1 WHERE id > 0", preview.Plan{Keep: true, Hold: time.Second, Fixed: 500, Changes: 3000}, 6},
		{"DELETE FROM t WHERE id > 0", preview.Plan{Hold: time.Second, Fixed: 1000, Changes: 3000}, 3},
		{"UPDATE t SET n = 0 WHERE n % 3 = 0", preview.Plan{Keep: true, Hold: time.Second, Fixed: 250, Listed: true, Changes: 1000}, 4},
		{"[[step]]\nname = \"links\"\nin = [\"t.note\"]\nreplace = { find = \"http://\", with = \"https://\" }\n", preview.Plan{Keep: true, Hold: time.Second, Fixed: 500, Changes: 3000}, 6},
	} {
		p, err := dbtest.Plan(db, x.job, "", nil)
		if err != nil {
			t.Fatal(err)
		}
		r, err := preview.Rehearse(context.Background(), db, p.Changes[0], x.plan)
		if err != nil {
			t.Fatal(err)
		}
		if r.Changed == 0 || r.Rows < r.Changed || r.Batches != x.batches || r.Seconds <= 0 || x.plan.Keep != (r.KeptBytes > 0) {
			t.Errorf("%s: %+v", x.job, r)
		}
	}
	if got := dbtest.One(t, other, "SELECT count(*) FROM t WHERE n = id AND note = 'http://' || id"); got != "3000" {
		t.Errorf("a rehearsal left %s rows as they were", got)
	}
	if got := dbtest.One(t, other, "SELECT count(*) FROM sqlite_schema WHERE name LIKE 'jugatum%'"); got != "0" {
		t.Errorf("a rehearsal left %s tables", got)
	}
}
