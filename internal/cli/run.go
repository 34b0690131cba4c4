package cli

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/find"
	"jugatum/internal/hazard"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/preview"
	"jugatum/internal/report"
	"jugatum/internal/runner"
	"jugatum/internal/term"
	"jugatum/internal/verify"
)

func (a *app) runCmd() *cli.Command {
	return &cli.Command{
		Name:      "run",
		Usage:     "carry a job out, in batches",
		ArgsUsage: "JOB",
		Description: "Before anything is changed, the number of rows is asked for: typed at a terminal, given as --accept elsewhere.\n" +
			"The first Ctrl-C ends the run after the batch under way, the second rolls that batch back; `resume` goes on.\n\n" +
			example("jugatum run --db sqlite:saltmere.db quay-ids.toml --accept 18955"),
		Flags: append(append(jobFlags(), limitFlags()...),
			&cli.IntFlag{Name: "set-aside", Usage: "most rows that may be set aside because they cannot be changed; the first one more ends the run"},
			&cli.DurationFlag{Name: "hold", Value: defaultHold, Usage: "longest time a batch may hold its locks; batches find their size by it"},
			&cli.IntFlag{Name: "batch", Usage: "a fixed number of rows for every batch"},
			workersFlag(),
			replicaFlag(),
			awaitFlag(),
			&cli.StringFlag{Name: "keep", Value: "values", Usage: "values (old and new ones, for verify and undo) or none"},
			&cli.BoolFlag{Name: "no-search", Usage: "do not look through the database for replaced texts once more after the run"},
			&cli.BoolFlag{Name: "rehearse", Usage: "carry out one batch of each step and roll it back first; the summary sets what it estimated against what came"},
			&cli.StringFlag{Name: "accept", Usage: "the number of rows that will change, or any: then nothing is counted beforehand"},
			&cli.BoolFlag{Name: "every-row", Usage: "a step without a filter is meant"},
			&cli.BoolFlag{Name: "again", Usage: "run a job that already finished here with the same parameters"},
			&cli.StringSliceFlag{Name: "despite", Usage: "go on despite the hazard with this code"},
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			db, err := a.open(ctx, c)
			if err != nil {
				return err
			}
			defer db.Close()
			p, err := a.plan(ctx, c, db)
			if err != nil {
				return err
			}
			return a.start(ctx, c, p)
		},
	}
}

// start asks the guards, records the run and carries it out.
func (a *app) start(ctx context.Context, c *cli.Command, p *plan) error {
	opts, err := limits(c, p.job)
	if err != nil {
		return err
	}
	if err := named(c, p.job.Limits.Replicas, "the job"); err != nil {
		return err
	}
	if err := able(p.db, opts); err != nil {
		return err
	}
	if err := mayWrite(ctx, c, p.db); err != nil {
		return err
	}
	if err := follow(ctx, c, p.db, &opts); err != nil {
		return err
	}
	if lag, ok := p.db.(engine.LagTeller); ok && opts.Limits.Lag > 0 && len(opts.Replicas) == 0 {
		if l, err := lag.Lag(ctx); err != nil {
			return fmt.Errorf("asking for the standbys' lag: %w", err)
		} else if l.Age < 0 {
			a.err.Printf("  %s lag: no standby is connected now; one that comes will be waited for\n", a.err.Paint(term.Warn, "warning"))
		}
	}
	l := a.ledger(p.db)
	if err := a.earlier(ctx, c, p, l); err != nil {
		return err
	}
	steps, total, err := a.foresee(ctx, c, p, &opts)
	if err != nil {
		return err
	}
	fires := false // a trigger, which may change rows whose new values are the old ones
	for i, ch := range p.changes {
		fires = fires || ch.Triggered() && steps[i].Matched != 0
	}
	if total == 0 && !fires {
		a.err.Printf("No row would change; nothing was done.\n")
		if c.Bool("json") {
			return a.json(struct {
				Schema int            `json:"schema"`
				Run    *ledger.Run    `json:"run"`
				Steps  []*ledger.Step `json:"steps"`
			}{1, nil, []*ledger.Step{}})
		}
		return nil
	}
	r := &ledger.Run{Title: p.job.Name(), Reason: p.job.Reason, Source: p.job.Source, Params: p.values, Digest: p.digest, Options: opts, Version: buildVersion().version, Steps: steps, Sealer: a.sealer()}
	work, err := a.record(ctx, p, l, r)
	if err != nil {
		return err
	}
	return a.execute(ctx, c, p, l, r, work)
}

// mayWrite refuses a database in which somebody has sessions begin as read-only:
// that is meant to keep changes like ours out.
func mayWrite(ctx context.Context, c *cli.Command, db engine.DB) error {
	t, ok := db.(engine.ReadOnlyTeller)
	if !ok || slices.Contains(c.StringSlice("despite"), hazard.ReadOnly) {
		return nil
	}
	setting, err := t.ReadOnly(ctx)
	if err != nil || setting == "" {
		return err
	}
	return refusef("%s is on for this user, database or server: somebody wants nothing changed here; --despite %s if you may", setting, hazard.ReadOnly)
}

// earlier asks the ledger about runs of the same job.
func (a *app) earlier(ctx context.Context, c *cli.Command, p *plan, l *ledger.Ledger) error {
	runs, err := l.SameJob(ctx, p.digest, p.written)
	if err != nil {
		return err
	}
	for _, r := range runs {
		switch {
		case r.UndoneBy != 0:
		case r.Status != ledger.Done:
			return refusef("run %d of this job is unfinished (%s): go on with `jugatum resume %d`, or take it back with `jugatum undo %d`", r.ID, r.Status, r.ID, r.ID)
		case !c.Bool("again") && !p.job.Once():
			return refusef("run %d already did this job here with the same parameters on %s; --again if it is to be done once more", r.ID, r.EndedAt.Local().Format("2006-01-02 15:04"))
		}
	}
	return nil
}

// foresee previews the steps, shows what matters, and asks whether to go on.
func (a *app) foresee(ctx context.Context, c *cli.Command, p *plan, opts *ledger.Options) ([]*ledger.Step, int64, error) {
	accept := c.String("accept")
	count := accept != "any"
	var steps []*ledger.Step
	var refused []string
	total := int64(0)
	for _, why := range p.leftOut {
		a.err.Printf("  %s left out: %s\n", a.err.Paint(term.Warn, "warning"), term.Clean(why))
	}
	lifted := despite(c)
	counts := make([]int64, len(p.changes)) // of each change; -1 not counted
	lacks, err := p.lacks(ctx, opts.Keep)
	if err != nil {
		return nil, 0, err
	}
	for i, ch := range p.changes {
		st := &ledger.Step{N: i + 1, Name: ch.Step, Verb: ch.Verb.String(), TableSchema: ch.Table.Schema, TableName: ch.Table.Name,
			SetColumns: ch.SetNames(), Method: p.method, Matched: -1, ToChange: -1, TableRows: ch.Table.Rows, Status: "pending"}
		if ch.Table.Key != nil {
			st.KeyColumns = ch.Table.Key.Names()
		} else if opts.Keep && p.method == "single" {
			return nil, 0, refusef("step %q: %s has no key, so kept values could not be put back; add --keep none", ch.Step, ch.Table)
		}
		if k := ch.DerivedKey(); k != nil && opts.Keep {
			return nil, 0, refusef("step %q: the database computes the key column %s of %s from a column that is assigned, and kept values are found by it; use --method single --keep none", ch.Step, k.Name, ch.Table)
		}
		found, err := preview.Refusals(ctx, p.db, ch, p.method)
		if err != nil {
			return nil, 0, lookError(p.db, p, err)
		}
		if count {
			look, err := preview.Look(ctx, p.db, ch, p.method, 0)
			if err != nil {
				return nil, 0, lookError(p.db, p, err)
			}
			found = look.Hazards
			st.Matched, st.ToChange = look.Matched, look.Changes
			total += look.Changes
			a.err.Printf("%s: %s rows of %s matched, %s will change\n", a.err.Paint(term.Bold, term.Clean(ch.Step)), term.Count(look.Matched), term.Clean(look.Table), a.err.Paint(term.Bold, term.Count(look.Changes)))
		}
		found = append(lacks[i], found...)
		if st.Method, err = p.choose(ctx, ch, st.Matched); err != nil {
			return nil, 0, err
		}
		if why := runner.Alone(p.db, ch, st.Method); opts.Workers > 1 && why != "" {
			a.err.Printf("  %s step %s stays on one worker: %s\n", a.err.Paint(term.Warn, "warning"), term.Clean(ch.Step), why)
		}
		if c.Bool("rehearse") {
			x, err := p.rehearse(ctx, ch, st.Method, *opts, st.ToChange)
			if err != nil {
				return nil, 0, err
			}
			if x != nil {
				a.printRehearsal(a.err, x)
				opts.Estimate = addEstimate(opts.Estimate, estimated(x))
			}
		}
		for i := range found {
			if found[i].Code == hazard.DoesNotFit && opts.SetAside > 0 { // a batch that meets one goes on without it
				found[i].Level = hazard.Warning
			}
		}
		for _, f := range found {
			if f.Level == hazard.Refusal && !(slices.Contains(lifted, f.Code) && hazard.Liftable(f.Code)) {
				if !slices.Contains(refused, f.Code) {
					refused = append(refused, f.Code)
				}
			}
		}
		counts[i] = st.ToChange
		if counts[i] < 0 && p.job.Steps[stepOf(p.job, ch)].Expect != nil { // which must be counted all the same
			if _, counts[i], err = preview.Count(ctx, p.db, ch); err != nil {
				return nil, 0, lookError(p.db, p, err)
			}
		}
		a.printHazards(a.err, found, lifted)
		steps = append(steps, st)
	}
	if len(refused) > 0 {
		hint := ""
		for _, code := range refused {
			if hazard.Liftable(code) && code != hazard.EveryRow && code != hazard.Grants {
				hint += "; --despite " + code + " if it is meant"
			}
		}
		return nil, 0, refusef("refused because of %s, see above%s; nothing was changed", strings.Join(refused, ", "), hint)
	}
	if err := a.checksBefore(ctx, p, 0); err != nil {
		return nil, 0, err
	}
	if err := p.expectations(counts); err != nil {
		return nil, 0, err
	}
	if count {
		return steps, total, a.accept(accept, total)
	}
	return steps, -1, nil
}

// addEstimate adds up what is estimated for several steps.
func addEstimate(sum, x *ledger.Estimate) *ledger.Estimate {
	if sum == nil {
		return x
	}
	return &ledger.Estimate{Batches: sum.Batches + x.Batches, Seconds: sum.Seconds + x.Seconds, HoldMS: max(sum.HoldMS, x.HoldMS),
		LogBytes: report.Plus(sum.LogBytes, x.LogBytes), LogKind: x.LogKind, KeptBytes: report.Plus(sum.KeptBytes, x.KeptBytes)}
}

// expectations holds the counts of all steps against what the job expects, before
// the first begins. What an earlier step is there to bring about, by changing a
// table that a later one reads, is only asked before that one.
func (p *plan) expectations(counts []int64) error {
	touched := map[string]bool{}
	for i := range p.job.Steps {
		sum, depends := int64(0), false
		for n, c := range p.changes {
			if stepOf(p.job, c) != i {
				continue
			}
			sum += max(counts[n], 0)
			reads := len(c.TableRefs()) > 0 || len(c.Reads.Opaque) > 0 // perhaps through a view
			depends = depends || touched[strings.ToLower(c.Table.Name)] || reads && len(touched) > 0
		}
		if !depends {
			if err := expected(p.job, i, sum); err != nil {
				return err
			}
		}
		for _, c := range p.changes {
			if stepOf(p.job, c) == i {
				touched[strings.ToLower(c.Table.Name)] = true
			}
		}
	}
	return nil
}

// expected holds a count of rows against the step's expect.
func expected(j *job.Job, step int, rows int64) error {
	e := j.Steps[step].Expect
	if e == nil || rows >= e.Min && rows <= e.Max {
		return nil
	}
	return refusef("step %q: %s rows would change, but the job expects %s; fix the filter or the expectation", j.Steps[step].Name, term.Count(rows), e)
}

// accept has a person, or the caller, say how many rows will change.
func (a *app) accept(given string, total int64) error {
	switch {
	case given != "":
		n, err := strconv.ParseInt(strings.ReplaceAll(given, ",", ""), 10, 64)
		if err != nil {
			return usagef("--accept %s: a number of rows, or any", given)
		}
		if n != total {
			return refusef("--accept %d, but %d rows would change; look at the preview again", n, total)
		}
		return nil
	case total == 0:
		return nil
	case !a.keyboard.TTY:
		return refusef("%d rows would change; without a terminal, say so with --accept %d", total, total)
	}
	answer, err := a.keyboard.Ask(a.err, fmt.Sprintf("Type the number of rows to go on (%s), anything else to leave:", term.Count(total)))
	if err != nil || strings.ReplaceAll(answer, ",", "") != strconv.FormatInt(total, 10) {
		return refusef("not confirmed; nothing was changed")
	}
	return nil
}

// record makes the ledger if need be, and the run in it.
func (a *app) record(ctx context.Context, p *plan, l *ledger.Ledger, r *ledger.Run) ([]*runner.Work, error) {
	a.begun = time.Now()
	s, err := p.db.Session(ctx, engine.SessionOptions{Purpose: "jugatum", LockTimeout: 5 * time.Second})
	if err != nil {
		return nil, err
	}
	defer s.Close()
	if err := l.Ensure(ctx, s); err != nil {
		return nil, fmt.Errorf("the ledger cannot be made in %s: %w; nothing was changed", p.db.Name(), err)
	}
	if x, ok := p.db.(engine.Witness); ok {
		if r.Options.Moment, err = moment(ctx, x, s); err != nil {
			return nil, fmt.Errorf("the run cannot be recorded in %s: %w; nothing was changed", p.db.Name(), err)
		}
	}
	kept := make([]*change.Kept, len(p.changes))
	for i, ch := range p.changes {
		if r.Options.Keep && r.Steps[i].KeptTable == "" { // an undo has those of its run
			kept[i] = change.NewKept("", ch)
		}
	}
	if err := l.Create(ctx, s, r, kept); err != nil {
		return nil, fmt.Errorf("the run cannot be recorded in the ledger: %w; nothing was changed", err)
	}
	return p.work(l, r)
}

// moment names the present, as the database counts.
func moment(ctx context.Context, x engine.Witness, s *engine.Session) (string, error) {
	tx, err := s.Start(ctx)
	if err != nil {
		return "", err
	}
	defer tx.Rollback()
	return x.Moment(ctx, tx)
}

// execute carries a run out and tells how it ended.
func (a *app) execute(parent context.Context, c *cli.Command, p *plan, l *ledger.Ledger, r *ledger.Run, work []*runner.Work) error {
	ctx, stop, done := a.interruptible(parent)
	defer done()
	live := a.err.NewLive()
	rn := &runner.Runner{DB: p.db, Ledger: l, Run: r, Work: work, Stop: stop, Retry: c.Bool("retry-set-aside"),
		Resumed: c.Name == "resume", Despite: slices.Contains(c.StringSlice("despite"), "check")}
	rn.Watch = func(pr runner.Progress) {
		live.Show(func(width int) []string { return a.block(pr, width) }, func() string { return line(pr) }, pr.Note != "")
	}
	if r.UndoOf == 0 {
		rn.Before = func(ctx context.Context, w *runner.Work) error { return a.before(ctx, p, w) }
		rn.After = func(ctx context.Context, w *runner.Work) error {
			return a.after(ctx, p, w, func(step int) (n int64) {
				for _, x := range work {
					if p.job.Of(x.Step.Name) == step {
						n += x.Step.Totals.Changed
					}
				}
				return n
			})
		}
	}
	begun := a.begun // before the run was recorded, which may wait for a lock
	if begun.IsZero() {
		begun = time.Now()
	}
	err := rn.Execute(ctx)
	live.Clear()
	if errors.Is(err, runner.ErrTaken) {
		return err
	}
	// The parent's context: a run that was interrupted is summed up all the same.
	sum, serr := report.Read(parent, p.db, l, r.ID, time.Since(begun))
	if serr != nil {
		return errors.Join(err, serr)
	}
	if h, ok := p.db.(engine.Housekeeper); ok && err == nil {
		told := map[string]bool{}
		for _, w := range work {
			list, herr := h.Housekeeping(parent, w.Change)
			if herr != nil {
				return herr
			}
			for _, x := range list {
				if !told[x.Name] {
					told[x.Name] = true
					sum.Keeping = append(sum.Keeping, x)
				}
			}
		}
	}
	if err == nil && r.UndoOf == 0 && !c.Bool("no-search") {
		sum.Search, serr = find.Again(ctx, p.db, p.tables, p.replaced(), func(table string, n, of int, hits int64) {
			live.Show(func(int) []string { return []string{findLine(table, n, of, hits)} }, func() string { return findLine(table, n, of, hits) }, false)
		})
		live.Clear()
		if serr != nil {
			return serr
		}
	}
	if c.Bool("json") {
		if jerr := a.json(sum); jerr != nil {
			return jerr
		}
	} else {
		sum.Print(a.out, dbFlag(c, p.db))
	}
	var ve *verifyError
	var ae *runner.AccountError
	if errors.As(err, &ae) {
		return &verifyError{fmt.Sprintf("run %d: %v; nothing after it was begun. Look before you go on: `jugatum show %d%s`, `jugatum undo %d%s`", r.ID, ae, r.ID, dbFlag(c, p.db), r.ID, dbFlag(c, p.db))}
	}
	switch {
	case errors.As(err, &ve):
		return err
	case errors.Is(err, runner.ErrGuard):
		return err
	case errors.Is(err, runner.ErrStopped):
		return fmt.Errorf("run %d %w; everything up to here is kept, `jugatum resume %d%s` goes on", r.ID, err, r.ID, dbFlag(c, p.db))
	case err != nil:
		return fmt.Errorf("run %d failed: %w\nEverything before this batch is kept: fix the cause and `jugatum resume %d%s`, or take it back with `jugatum undo %d%s`", r.ID, err, r.ID, dbFlag(c, p.db), r.ID, dbFlag(c, p.db))
	}
	left, aside := int64(0), sum.SetAside
	for _, s := range sum.Steps {
		left += s.Skipped
	}
	if aside > 0 {
		return &asideError{fmt.Sprintf("%s rows were set aside; `jugatum show %d%s` lists them, `jugatum resume %d%s --retry-set-aside` tries them again", term.Count(aside), r.ID, dbFlag(c, p.db), r.ID, dbFlag(c, p.db))}
	}
	if left > 0 {
		return &asideError{fmt.Sprintf("%s rows were skipped: others, or a trigger, have changed them since, or the database refuses their old values; `jugatum show %d%s` lists them", term.Count(left), r.ID, dbFlag(c, p.db))}
	}
	return nil
}

// part is the first (0) or last (-1) change that a step of the job became.
func (p *plan) part(step, which int) *change.Change {
	var list []*change.Change
	for _, c := range p.changes {
		if stepOf(p.job, c) == step {
			list = append(list, c)
		}
	}
	if which < 0 {
		return list[len(list)-1]
	}
	return list[which]
}

// before asks what the job wants to hold before a step.
func (a *app) before(ctx context.Context, p *plan, w *runner.Work) error {
	i := p.job.Of(w.Step.Name)
	if w.Change != p.part(i, 0) {
		return nil // asked before the first table of the step
	}
	if p.job.Steps[i].Expect != nil && i > 0 { // the first step's was asked before the run
		n := int64(0)
		for _, c := range p.changes {
			if stepOf(p.job, c) != i {
				continue
			}
			_, one, err := preview.Count(ctx, p.db, c)
			if err != nil {
				return err
			}
			n += one
		}
		if err := expected(p.job, i, n); err != nil {
			return err
		}
	}
	return a.checksBefore(ctx, p, i)
}

// checksBefore asks a step's checks that must hold before it. Those of the
// first step are asked before the run is even recorded.
func (a *app) checksBefore(ctx context.Context, p *plan, step int) error {
	for _, ch := range p.job.Steps[step].Checks {
		if !ch.Before {
			continue
		}
		got, err := verify.Ask(ctx, p.db, ch)
		if err != nil {
			return err
		}
		if !got.OK {
			return refusef("step %q: before it, %q gives %s, not %s; the step was not begun", p.job.Steps[step].Name, ch.SQL, got.Got, got.Want)
		}
	}
	return nil
}

// after asks what the job wants to hold after a step.
func (a *app) after(ctx context.Context, p *plan, w *runner.Work, changed func(step int) int64) error {
	i := p.job.Of(w.Step.Name)
	if w.Change != p.part(i, -1) {
		return nil // asked after the last table of the step
	}
	if e := p.job.Steps[i].Expect; e != nil {
		if n := changed(i); n < e.Min || n > e.Max {
			return &verifyError{fmt.Sprintf("step %q changed %s rows, but the job expects %s; later steps were not begun", p.job.Steps[i].Name, term.Count(n), e)}
		}
	}
	for _, ch := range p.job.Steps[i].Checks {
		if !ch.After {
			continue
		}
		got, err := verify.Ask(ctx, p.db, ch)
		if err != nil {
			return err
		}
		if !got.OK {
			return &verifyError{fmt.Sprintf("step %q: after it, %q gives %s, not %s; later steps were not begun", w.Step.Name, ch.SQL, got.Got, got.Want)}
		}
	}
	return nil
}
