package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/hazard"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/preview"
	"jugatum/internal/report"
	"jugatum/internal/runner"
)

// Ask says what Assess is to do.
type Ask struct {
	Options  *ledger.Options // of the run; its Estimate is set where a batch is rehearsed
	Count    bool            // count the rows that match and change
	Rehearse bool
	Despite  []string // codes of hazards that a person has overridden

	Begin func(ch *change.Change) // if set, is told of each step before it is looked at, which may take its time
}

// Assessment is what is known of a step before it is carried out.
type Assessment struct {
	Step      *ledger.Step // with its counts, -1 where they were not asked for
	Table     string
	Alone     string // why only one worker may carry it out, where several are wanted
	Rehearsal *preview.Rehearsal
	Lines     *preview.Lines // what would become of them, where a list is carried out and rows are counted
	Call      *preview.Call  // where a statement is called for each line
	Findings  []hazard.Finding
	LastPass  bool // rows that have come to match by then are changed in one
}

// Assess looks at each step before anything is changed and tells of it, makes the
// steps of the run's record, and refuses what no person has overridden. total is
// how many rows will change, -1 if they are not counted.
func (p *Plan) Assess(ctx context.Context, ask Ask, tell func(*Assessment)) (steps []*ledger.Step, total int64, err error) {
	lacks, err := p.Lacks(ctx, ask.Options.Keep)
	if err != nil {
		return nil, 0, err
	}
	var found []hazard.Finding
	var counts []int64 // of each change before a last pass; -1 not counted
	for i, ch := range p.Changes {
		if ch.Late {
			st, err := p.lateStep(ctx, ch)
			if err != nil {
				return nil, 0, err
			}
			st.N = i + 1
			steps = append(steps, st)
			continue
		}
		if ask.Begin != nil {
			ask.Begin(ch)
		}
		x, err := p.assess(ctx, ch, ask)
		if err != nil {
			return nil, 0, err
		}
		x.Step.N = i + 1
		x.Findings = append(lacks[len(counts)], x.Findings...)
		found = append(found, x.Findings...)
		n := x.Step.ToChange
		total += max(n, 0)
		for _, a := range x.Step.Acts {
			total += max(a.ToChange, 0)
		}
		if n < 0 && p.Job.Steps[ch.Of].Expect != nil { // which must be counted all the same
			if _, n, err = preview.Count(ctx, p.DB, ch); err != nil {
				return nil, 0, p.Fault(err)
			}
		}
		counts = append(counts, n)
		tell(x)
		steps = append(steps, x.Step)
	}
	if refused := Refusing(found, ask.Despite); len(refused) > 0 {
		hint := ""
		for _, code := range refused {
			if hazard.Liftable(code) && code != hazard.EveryRow && code != hazard.Grants {
				hint += "; --despite " + code + " if it is meant"
			}
		}
		return nil, 0, Refusef("refused because of %s, see above%s; nothing was changed", strings.Join(refused, ", "), hint)
	}
	if err := p.checksBefore(ctx, 0); err != nil {
		return nil, 0, err
	}
	if err := p.Expectations(counts); err != nil {
		return nil, 0, err
	}
	if !ask.Count {
		total = -1
	}
	return steps, total, nil
}

// assess looks at one step.
func (p *Plan) assess(ctx context.Context, ch *change.Change, ask Ask) (*Assessment, error) {
	opts := ask.Options
	st := record(ch)
	if ch.Table.Key == nil && opts.Keep && p.MethodOf(ch) == "single" {
		return nil, Refusef("step %q: %s has no key, so kept values could not be put back; add --keep none", ch.Step, ch.Table)
	}
	if m := p.MethodOf(ch); ch.Call != nil && (m == "roster" || m == "single") {
		return nil, Refusef("step %q: a statement is called for one line after the other, which method %s is not", ch.Step, m)
	}
	if k := ch.DerivedKey(); k != nil && opts.Keep {
		return nil, Refusef("step %q: the database computes the key column %s of %s from a column that is assigned, and kept values are found by it; use --method single --keep none", ch.Step, k.Name, ch.Table)
	}
	x := &Assessment{Step: st, LastPass: p.HasLastPass(ch)}
	var err error
	if ask.Count {
		look, err := preview.Look(ctx, p.DB, ch, p.MethodOf(ch), 0)
		if err != nil {
			return nil, p.Fault(err)
		}
		x.Table, x.Findings, x.Lines, x.Call = look.Table, look.Hazards, look.Lines, look.Call
		st.Matched, st.ToChange = look.Matched, look.Changes
		for i := range look.Acts {
			st.Acts[i].ToChange = look.Acts[i].Rows
		}
	} else if x.Findings, err = preview.Refusals(ctx, p.DB, ch, p.MethodOf(ch), opts.Keep); err != nil {
		return nil, p.Fault(err)
	}
	if st.Method, err = p.Choose(ctx, ch, st.Matched); err != nil {
		return nil, err
	}
	if opts.Workers > 1 {
		x.Alone = runner.Alone(p.DB, ch, st.Method)
	}
	if ask.Rehearse {
		if x.Rehearsal, err = p.Rehearse(ctx, ch, st.Method, *opts, st.ToChange); err != nil {
			return nil, err
		}
		if x.Rehearsal != nil {
			opts.Estimate = addEstimate(opts.Estimate, Estimated(x.Rehearsal))
		}
	}
	Settable(x.Findings, opts.SetAside)
	p.Postpone(ch, x.Findings, ask.Despite)
	return x, nil
}

// Settable lowers what refuses a run unless rows may be set aside: a batch that meets one goes on
// without it.
func Settable(found []hazard.Finding, most int) {
	for i := range found {
		if found[i].Code == hazard.DoesNotFit && most > 0 {
			found[i].Level = hazard.Warning
		}
	}
}

// Refusing lists the codes of findings that refuse a run, each once: those that nobody has overridden.
func Refusing(found []hazard.Finding, despite []string) (codes []string) {
	for _, f := range found {
		if refuses(f, despite) && !slices.Contains(codes, f.Code) {
			codes = append(codes, f.Code)
		}
	}
	return codes
}

// refuses reports whether a finding refuses a run of somebody who has overridden these.
func refuses(f hazard.Finding, despite []string) bool {
	return f.Level == hazard.Refusal && !(slices.Contains(despite, f.Code) && hazard.Liftable(f.Code))
}

// record makes the record of a change that is not begun.
func record(ch *change.Change) *ledger.Step {
	st := &ledger.Step{Name: ch.Step, Verb: ch.Does(), TableSchema: ch.Table.Schema, TableName: ch.Table.Name,
		SetColumns: ch.SetNames(), Matched: -1, ToChange: -1, TableRows: ch.Table.Rows, Status: "pending", Acts: records(ch)}
	if ch.Table.Key != nil {
		st.KeyColumns = ch.Table.Key.Names()
		if ch.Table.Key.Hidden {
			st.Numbered = ch.Table
		}
	}
	return st
}

// lateStep makes the record of a last pass. What stands against it stood against the pass before it.
func (p *Plan) lateStep(ctx context.Context, ch *change.Change) (st *ledger.Step, err error) {
	st = record(ch)
	st.Method, err = p.Choose(ctx, ch, 0) // few rows, as far as anybody can say
	return st, err
}

// Fault says which kind of trouble a look at the rows ran into: values that cannot
// be worked out are the job's fault, and what may not be read is refused.
func (p *Plan) Fault(err error) error {
	switch p.DB.Fault(err) {
	case engine.Data, engine.Invalid:
		return &job.Error{File: p.Job.Source.Name, Msg: err.Error()}
	case engine.Denied:
		return Refusef("%v; %s must have SELECT on every table from which rows go along, or that is read", err, p.DB.User())
	}
	return err
}

// Rehearse carries out one batch of a step and rolls it back. It gives nothing
// where there is nothing to rehearse.
func (p *Plan) Rehearse(ctx context.Context, ch *change.Change, method string, opts ledger.Options, changes int64) (*preview.Rehearsal, error) {
	if changes == 0 || ch.Table.Key == nil {
		return nil, nil
	}
	if ch.LaterTurn() { // what it will find is not there yet
		return nil, nil
	}
	if ch.Call != nil { // what a statement does may be more than a rollback takes back
		return nil, nil
	}
	workers := 1
	if runner.Alone(p.DB, ch, method) == "" {
		workers = opts.Workers
	}
	x, err := preview.Rehearse(ctx, p.DB, ch, preview.Plan{Keep: opts.Keep, Hold: opts.Hold, Fixed: opts.Batch, Workers: workers, Listed: method == "roster", Changes: changes})
	if err != nil {
		return nil, fmt.Errorf("the rehearsal of step %q: %w; it was rolled back", ch.Step, err)
	}
	return x, nil
}

// Estimated is what the ledger keeps of a rehearsal.
func Estimated(x *preview.Rehearsal) *ledger.Estimate {
	return &ledger.Estimate{Batches: x.Batches, Seconds: x.Seconds, HoldMS: x.HoldMS, LogBytes: x.LogBytes, LogKind: x.LogKind, KeptBytes: x.KeptBytes}
}

// addEstimate adds up what is estimated for several steps.
func addEstimate(sum, x *ledger.Estimate) *ledger.Estimate {
	if sum == nil {
		return x
	}
	return &ledger.Estimate{Batches: sum.Batches + x.Batches, Seconds: sum.Seconds + x.Seconds, HoldMS: max(sum.HoldMS, x.HoldMS),
		LogBytes: report.Plus(sum.LogBytes, x.LogBytes), LogKind: x.LogKind, KeptBytes: report.Plus(sum.KeptBytes, x.KeptBytes)}
}
