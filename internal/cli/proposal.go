package cli

import (
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/change"
	"jugatum/internal/hazard"
	"jugatum/internal/ledger"
	"jugatum/internal/page"
	"jugatum/internal/plan"
	"jugatum/internal/preview"
	"jugatum/internal/term"
)

// sight is what an approval is of, from a preview.
func sight(steps []*preview.Step, lifted []string, keep bool) plan.Sight {
	out := plan.Sight{Despite: lifted, Keep: keep}
	for _, s := range steps {
		x := plan.Outlook{Counts: []int64{s.Changes}, Findings: s.Hazards}
		for _, a := range s.Acts {
			x.Counts = append(x.Counts, a.Rows)
		}
		out.Found = append(out.Found, x)
	}
	return out
}

// writeProposal writes the page that a change is approved by.
func (a *app) writeProposal(c *cli.Command, p *plan.Plan, opts ledger.Options, steps []*preview.Step, total int64, missed error, to string) error {
	lifted, given := despite(c), maps.Clone(p.Values)
	delete(given, change.Clock) // it will be another one
	x := &page.Proposal{Title: p.Job.Name(), Reason: p.Job.Reason, Database: p.DB.Name(), Job: page.JobOf(p.Job.Source, p.Digest),
		Params: page.ParamsOf(given), Total: total, Keep: opts.Keep, Made: time.Now(), By: buildVersion().version, User: ledger.OSUser(), DBUser: p.DB.User(),
		Approval: p.Approval(sight(steps, lifted, opts.Keep)), Command: a.runCommand(c, p, lifted)}
	if missed != nil {
		x.Stands = append(x.Stands, missed.Error())
	}
	for _, s := range steps {
		one := page.Proposed{Step: s, Lifted: map[string]bool{}, Shown: a.plainly(s, lifted)}
		for _, f := range s.Hazards {
			if f.Level == hazard.Refusal {
				if hazard.Liftable(f.Code) && slices.Contains(lifted, f.Code) {
					one.Lifted[f.Code] = true
				} else {
					x.Stands = append(x.Stands, f.Code+": "+f.Text)
				}
			}
		}
		if s.Rehearsal != nil {
			one.Estimate = plan.Estimated(s.Rehearsal)
		}
		x.Steps = append(x.Steps, one)
	}
	return a.writePage(to, x.HTML)
}

// writePage writes a page to a file, which must not be there.
func (a *app) writePage(to string, page func(io.Writer) error) error {
	f, err := create(to)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := page(f); err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	a.err.Printf("%s is written.\n", term.Clean(to))
	return nil
}

// plainly is a step's preview as a terminal shows it, without colours.
func (a *app) plainly(s *preview.Step, lifted []string) string {
	var b strings.Builder
	shown := *a
	shown.out = &term.Out{Writer: &b}
	shown.printStep(s, lifted, true)
	return strings.Trim(b.String(), "\n")
}

// runCommand is the command that carries out what is approved.
func (a *app) runCommand(c *cli.Command, p *plan.Plan, lifted []string) string {
	text := "jugatum run"
	if p.Job.Source.SQL {
		text += " --sql " + quoted(p.Job.Source.Text)
	} else {
		text += " " + quoted(p.Job.Source.Name)
	}
	for _, x := range c.StringSlice("param") {
		text += " --param " + quoted(x)
	}
	for _, code := range lifted {
		if code == hazard.EveryRow {
			text += " --every-row"
			continue
		}
		text += " --despite " + code
	}
	if p.Method != "" {
		text += " --method " + p.Method
	}
	if n := c.Int("set-aside"); n > 0 {
		text += " --set-aside " + strconv.Itoa(n)
	}
	if c.String("keep") == "none" {
		text += " --keep none"
	}
	return text + dbFlag(c, p.DB)
}

// quoted writes a word of a shell's command line.
func quoted(s string) string {
	if s != "" && !strings.ContainsFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || strings.ContainsRune("-_./:=@%+,", r))
	}) {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}
