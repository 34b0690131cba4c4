package page

import (
	_ "embed"
	"html/template"
	"io"
	"time"

	"jugatum/internal/kept"
	"jugatum/internal/ledger"
	"jugatum/internal/preview"
	"jugatum/internal/report"
)

//go:embed proposal.html
var proposal string

func init() { template.Must(templates.New("proposal").Parse(proposal)) }

// Proposal is a change that nobody has carried out yet, to be approved.
type Proposal struct {
	Title    string
	Reason   string
	Database string
	User     string
	DBUser   string
	Job      Job
	Params   []Param
	Steps    []Proposed
	Total    int64 // rows, in all tables together
	Keep     bool  // old and new values are kept
	Stands   []string
	Approval string
	Command  string // that carries it out, without the approval
	Made     time.Time
	By       string // version of the program
}

// Proposed is one of its steps.
type Proposed struct {
	*preview.Step
	Lifted   map[string]bool // codes of refusals that are meant
	Estimate *ledger.Estimate
	Shown    string // as a terminal shows it
}

// HTML writes the page.
func (p *Proposal) HTML(w io.Writer) error {
	return templates.ExecuteTemplate(w, "proposal", struct {
		*Proposal
		Styles template.CSS
	}{p, template.CSS(styles)})
}

// Looked are the rows of the sample, with what would change marked.
func (s Proposed) Looked() lookView {
	x := kept.Look{Does: s.Verb}
	for _, r := range s.Sample {
		row := kept.Row{Key: r.Key}
		for _, c := range r.Changes {
			row.Values = append(row.Values, kept.Cell{Column: c.Column, Before: c.Before, After: c.After})
		}
		x.Rows = append(x.Rows, row)
	}
	if s.Verb == "insert" || s.Verb == "copy" { // the sample has what they come from
		for _, r := range x.Rows {
			for i := range r.Values {
				r.Values[i].After, r.Values[i].Before = r.Values[i].Before, nil
			}
		}
	}
	return looked(x)
}

// Numbers reports whether a column of numbers is assigned.
func (s Proposed) Numbers() bool {
	for _, c := range s.Columns {
		if c.Before != nil && s.Changes > 0 {
			return true
		}
	}
	return false
}

// EstimateText words what a rehearsal estimated, "" without one.
func (s Proposed) EstimateText() string {
	if s.Estimate == nil {
		return ""
	}
	return report.EstimateText(*s.Estimate)
}
