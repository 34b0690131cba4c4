package plan

import (
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/hazard"
	"jugatum/internal/job"
	"jugatum/internal/sqltext"
)

// seenIn is a plan of one change of berth, and what was found of it.
func seenIn(digest string, counts ...int64) (*Plan, Sight) {
	c := &change.Change{Step: "rates", Verb: sqltext.Update, Table: &change.Table{Name: "berth"}}
	for range counts[1:] {
		c.Acts = append(c.Acts, &change.Act{Change: &change.Change{Verb: sqltext.Delete, Table: &change.Table{Name: "visit"}}})
	}
	return &Plan{Digest: digest, Job: &job.Job{}, Changes: []*change.Change{c}}, Sight{Found: []Outlook{{Counts: counts, Findings: []hazard.Finding{{Code: "not-cleared", Level: hazard.Warning, Text: "106 rows"}, {Code: "kept-deleted", Level: hazard.Note}}}}, Keep: true}
}

// TestApproved: what was approved runs, and nothing else: not another job, not what has become
// suspicious in another way, not other numbers than the tolerance allows.
func TestApproved(t *testing.T) {
	p, s := seenIn("2:ab", 100, 40)
	approval := p.Approval(s)
	for _, x := range []struct {
		name      string
		change    func(p *Plan, s *Sight)
		approval  string
		tolerance string
		want      string // of the error; "" for none
	}{
		{"the same", func(*Plan, *Sight) {}, approval, "0", ""},
		{"in capitals", func(*Plan, *Sight) {}, " " + strings.ToUpper(approval), "0", ""},
		{"another text of a hazard", func(_ *Plan, s *Sight) { s.Found[0].Findings[0].Text = "107 rows" }, approval, "0", ""},
		{"without a note", func(_ *Plan, s *Sight) { s.Found[0].Findings = s.Found[0].Findings[:1] }, approval, "0", ""},
		{"another job", func(p *Plan, _ *Sight) { p.Digest = "2:ac" }, approval, "0", "this is not what was approved"},
		{"another method", func(p *Plan, _ *Sight) { p.Method = "single" }, approval, "0", "this is not what was approved"},
		{"another table", func(p *Plan, _ *Sight) { p.Changes[0].Table = &change.Table{Name: "quay"} }, approval, "0", "this is not what was approved"},
		{"nothing kept", func(_ *Plan, s *Sight) { s.Keep = false }, approval, "0", "this is not what was approved"},
		{"something else suspicious", func(_ *Plan, s *Sight) { s.Found[0].Findings[0].Code = "trigger" }, approval, "0", "this is not what was approved"},
		{"despite it", func(_ *Plan, s *Sight) { s.Despite = []string{"cascade"} }, approval, "0", "this is not what was approved"},
		{"other numbers approved", func(*Plan, *Sight) {}, strings.Replace(approval, "-100.", "-101.", 1), "0", "this is not what was approved"},
		{"one more", func(_ *Plan, s *Sight) { s.Found[0].Counts = []int64{101, 40} }, approval, "0", `step "rates": 101 rows would change, but 100 were approved; look at the preview again, or allow for it with --tolerance`},
		{"one more of those with them", func(_ *Plan, s *Sight) { s.Found[0].Counts = []int64{100, 41} }, approval, "0", `rows of visit that go along in step "rates": 41 rows`},
		{"one more, allowed", func(_ *Plan, s *Sight) { s.Found[0].Counts = []int64{101, 41} }, approval, "1", ""},
		{"two fewer, allowed", func(_ *Plan, s *Sight) { s.Found[0].Counts = []int64{98, 40} }, approval, "2%", ""},
		{"three fewer", func(_ *Plan, s *Sight) { s.Found[0].Counts = []int64{97, 40} }, approval, "2 %", "97 rows"},
		{"not counted", func(_ *Plan, s *Sight) { s.Found[0].Counts = []int64{-1, 40} }, approval, "0", "-1 rows"},
		{"none", func(*Plan, *Sight) {}, "bla", "0", "is no approval"},
		{"no numbers", func(*Plan, *Sight) {}, approval[:strings.LastIndex(approval, "-")+1], "0", "is no approval"},
		{"cut short", func(*Plan, *Sight) {}, approval[2:], "0", "is no approval"},
	} {
		p, s := seenIn("2:ab", 100, 40)
		x.change(p, &s)
		tolerance, err := ParseTolerance(x.tolerance)
		if err != nil {
			t.Fatal(err)
		}
		n, err := p.Approved(x.approval, s, tolerance)
		switch {
		case x.want == "" && (err != nil || n != 140):
			t.Errorf("%s: %d rows, %v", x.name, n, err)
		case x.want != "" && (err == nil || !strings.Contains(err.Error(), x.want)):
			t.Errorf("%s: %v, expected %q", x.name, err, x.want)
		}
	}
	for _, bad := range []string{"x", "-1", "101%", "NaN%", "1.5", "%"} {
		if _, err := ParseTolerance(bad); err == nil {
			t.Errorf("%q is taken for a tolerance", bad)
		}
	}
}
