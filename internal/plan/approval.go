package plan

import (
	"crypto/sha256"
	"encoding/base32"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jugatum/internal/hazard"
)

// An approval says what two people have looked at: a job with its parameters, how many rows it
// would change, what is suspicious about it, and which of that is meant. It is a digest of all
// that, followed by the numbers, so that a run can hold what it finds against it.

// Outlook is what was found of one step.
type Outlook struct {
	Counts   []int64 // rows that would change: the step's own, then those of each of its acts
	Findings []hazard.Finding
}

// Sight is all that an approval is of, besides the job itself.
type Sight struct {
	Found   []Outlook // of each change
	Despite []string  // codes of hazards that are meant
	Keep    bool      // old and new values are kept
}

// Outlook is what an assessment found of its step.
func (x *Assessment) Outlook() Outlook {
	out := Outlook{Counts: []int64{x.Step.ToChange}, Findings: x.Findings}
	for _, a := range x.Step.Acts {
		out.Counts = append(out.Counts, a.ToChange)
	}
	return out
}

// approvalLetters is how much of the digest an approval has: 120 bits, so that nobody makes two
// jobs of which one passes for the other.
const (
	approvalLetters = 24
	approvalGroup   = 6
)

// Approval is the approval of what is seen.
func (p *Plan) Approval(s Sight) string {
	var counts []string
	for _, x := range s.Found {
		for _, n := range x.Counts {
			counts = append(counts, strconv.FormatInt(n, 10))
		}
	}
	text := strings.Join(counts, ".")
	return p.approvalDigest(s, text) + "-" + text
}

// approvalDigest is the digest of the job and its parameters, of these numbers, and of the codes
// of what was found and is meant.
func (p *Plan) approvalDigest(s Sight, counts string) string {
	type step struct {
		Name, Does, Table string
		Method            string
		Set, Codes        []string
	}
	of := struct {
		Digest, Counts string
		Steps          []step
		Despite        []string
		Keep           bool
	}{Digest: p.Digest, Counts: counts, Keep: s.Keep}
	for i, c := range p.Foremost() {
		x := step{Name: c.Step, Method: p.MethodOf(c), Does: c.Does(), Table: c.Target().String(), Set: c.SetNames()}
		for _, f := range s.Found[i].Findings {
			if f.Level != hazard.Note && !slices.Contains(x.Codes, f.Code) {
				x.Codes = append(x.Codes, f.Code)
			}
		}
		slices.Sort(x.Codes)
		of.Steps = append(of.Steps, x)
	}
	of.Despite = slices.Compact(slices.Sorted(slices.Values(s.Despite)))
	text, err := json.Marshal(of)
	if err != nil { // texts
		panic(err)
	}
	sum := sha256.Sum256(text)
	letters := strings.ToLower(base32.StdEncoding.EncodeToString(sum[:]))[:approvalLetters]
	var groups []string
	for part := range slices.Chunk([]byte(letters), approvalGroup) {
		groups = append(groups, string(part))
	}
	return strings.Join(groups, "-")
}

// Tolerance is by how much a count may differ from the one that was approved.
type Tolerance struct {
	Rows  int64
	Share float64 // of the count approved
}

// ParseTolerance reads "100" or "2%".
func ParseTolerance(s string) (t Tolerance, err error) {
	number, share := strings.CutSuffix(strings.TrimSpace(s), "%")
	if share {
		t.Share, err = strconv.ParseFloat(strings.TrimSpace(number), 64)
		t.Share /= 100
	} else if number != "" {
		t.Rows, err = strconv.ParseInt(strings.ReplaceAll(number, ",", ""), 10, 64)
	}
	if err != nil || t.Rows < 0 || !(t.Share >= 0 && t.Share <= 1) {
		return t, fmt.Errorf("%q is neither a number of rows nor a share of up to 100%%", s)
	}
	return t, nil
}

// allows reports whether a count is near enough to the one that was approved.
func (t Tolerance) allows(now, approved int64) bool {
	by := max(now-approved, approved-now)
	return by <= t.Rows || float64(by) <= t.Share*float64(approved)
}

// Approved refuses what is not what was approved. It gives the number of rows that was.
func (p *Plan) Approved(approval string, s Sight, t Tolerance) (int64, error) {
	approval = strings.ToLower(strings.TrimSpace(approval))
	at := strings.LastIndexByte(approval, '-')
	var approved []int64
	if at > 0 {
		for _, text := range strings.Split(approval[at+1:], ".") {
			n, err := strconv.ParseInt(text, 10, 64)
			if err != nil {
				approved = nil
				break
			}
			approved = append(approved, n)
		}
	}
	if approved == nil || len(approval[:at]) != approvalLetters+approvalLetters/approvalGroup-1 {
		return 0, Refusef("%q is no approval; `jugatum preview --page FILE` makes one, such as %s-1200", approval, strings.Repeat("-xxxxxx", approvalLetters/approvalGroup)[1:])
	}
	if p.approvalDigest(s, approval[at+1:]) != approval[:at] {
		return 0, Refusef("this is not what was approved: the job, a parameter, the method, whether values are kept, what is suspicious about it, or what is to go on despite that differs; look at the preview again (now it is %s)", p.Approval(s))
	}
	var now []int64
	for _, x := range s.Found {
		now = append(now, x.Counts...)
	}
	if len(now) != len(approved) { // the digest has as many steps, which refers to as many tables by now
		return 0, Refusef("%d tables would change, but %d did when it was approved; look at the preview again", len(now), len(approved))
	}
	total, n := int64(0), 0
	changes := p.Foremost()
	for i, x := range s.Found {
		for k := range x.Counts {
			if !t.allows(now[n], approved[n]) {
				what := fmt.Sprintf("step %q", changes[i].Step)
				if k > 0 {
					what = fmt.Sprintf("rows of %s that go along in step %q", changes[i].Acts[k-1].Change.Table, changes[i].Step)
				}
				return 0, Refusef("%s: %d rows would change, but %d were approved; look at the preview again, or allow for it with --tolerance", what, now[n], approved[n])
			}
			total += max(approved[n], 0)
			n++
		}
	}
	return total, nil
}
