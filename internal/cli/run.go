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
	"jugatum/internal/events"
	"jugatum/internal/find"
	"jugatum/internal/hazard"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
	"jugatum/internal/report"
	"jugatum/internal/runner"
	"jugatum/internal/term"
)

func (a *app) runCmd() *cli.Command {
	return &cli.Command{
		Name:      "run",
		Usage:     "carry a job out, in batches",
		ArgsUsage: "JOB",
		Description: "Before anything is changed, the number of rows is asked for: typed at a terminal, given as --accept elsewhere.\n" +
			"The first Ctrl-C ends the run after the batch under way, the second rolls that batch back; `resume` goes on.\n\n" +
			example("jugatum run --db sqlite:saltmere.db quay-ids.toml --accept 18955"),
		Flags: append(append(append(jobFlags(), limitFlags()...), eventFlags()...),
			&cli.IntFlag{Name: "set-aside", Usage: "most rows that may be set aside because they cannot be changed; the first one more ends the run"},
			&cli.DurationFlag{Name: "hold", Value: defaultHold, Usage: "longest time a batch may hold its locks; batches find their size by it"},
			&cli.IntFlag{Name: "batch", Usage: "a fixed number of rows for every batch"},
			workersFlag(),
			replicaFlag(),
			awaitFlag(),
			&cli.StringFlag{Name: "keep", Value: "values", Usage: "values (old and new ones, for verify and undo) or none"},
			&cli.BoolFlag{Name: "no-search", Usage: "do not look once more after the run: for replaced texts, and for what a fill found no match for"},
			&cli.BoolFlag{Name: "rehearse", Usage: "carry out one batch of each step and roll it back first; the summary sets what it estimated against what came"},
			&cli.StringFlag{Name: "accept", Usage: "the number of rows that will change, in all tables together, or any: then nothing is counted beforehand"},
			&cli.StringFlag{Name: "approved", Usage: "instead of --accept: the approval that preview --page made; refused unless this is what was approved"},
			&cli.StringFlag{Name: "tolerance", Value: "0", Usage: "with --approved: by how much the rows of a step may differ from those approved, a number or a share such as 2%"},
			&cli.BoolFlag{Name: "every-row", Usage: "a step without a filter is meant"},
			&cli.IntFlag{Name: "until-clean", Usage: "once it is done, look for rows that match again, and run it for those, at most `N` times more"},
			&cli.BoolFlag{Name: "again", Usage: "run a job that already finished here with the same parameters"},
			&cli.StringSliceFlag{Name: "despite", Usage: "go on despite the hazard with this code"},
		),
		Action: func(ctx context.Context, c *cli.Command) error {
			return a.withPlan(ctx, c, func(db engine.DB, p *plan.Plan) error { return a.untilClean(ctx, c, db, p) })
		},
	}
}

// start asks the guards, records the run and carries it out.
func (a *app) start(ctx context.Context, c *cli.Command, p *plan.Plan) error {
	opts, err := limits(c, p.Job)
	if err != nil {
		return err
	}
	if err := named(c, p.Job.Limits.Replicas, "the job"); err != nil {
		return err
	}
	if err := able(p.DB, opts); err != nil {
		return err
	}
	if err := plan.MayWrite(ctx, p.DB, c.StringSlice("despite")); err != nil {
		return err
	}
	if err := follow(ctx, c, p.DB, &opts); err != nil {
		return err
	}
	if _, err := a.followers(c); err != nil { // before anything is recorded
		return err
	}
	defer func() { a.unfollow(a.following) }() // where it does not come to a run
	if lag, ok := p.DB.(engine.LagTeller); ok && opts.Limits.Lag > 0 && len(opts.Replicas) == 0 {
		if l, err := lag.Lag(ctx); err != nil {
			return fmt.Errorf("asking for the standbys' lag: %w", err)
		} else if l.Age < 0 {
			a.err.Printf("  %s lag: no standby is connected now; one that comes will be waited for\n", a.err.Paint(term.Warn, "warning"))
		}
	}
	l := a.ledger(p.DB)
	beside, err := p.Earlier(ctx, l, c.Bool("again"))
	if err != nil {
		return err
	}
	for _, b := range beside {
		a.err.Printf("  %s %s\n", a.err.Paint(term.Warn, "warning"), term.Clean(b))
	}
	steps, total, err := a.assess(ctx, c, p, &opts)
	if err != nil {
		return err
	}
	fires := false // a trigger, which may change rows whose new values are the old ones
	for i, ch := range p.Changes {
		fires = fires || ch.Triggered() && steps[i].Matched != 0
	}
	if total == 0 && !fires {
		a.err.Printf("No row would change; nothing was done.\n")
		if c.Bool("json") {
			return a.json(struct {
				Schema int            `json:"schema"`
				Run    *ledger.Run    `json:"run"`
				Steps  []*ledger.Step `json:"steps"`
			}{report.Schema, nil, []*ledger.Step{}})
		}
		return nil
	}
	r := &ledger.Run{Title: p.Job.Name(), Reason: p.Job.Reason, Source: p.Job.Source, Params: p.Values, Digest: p.Digest, Options: opts, Version: buildVersion().version, Steps: steps, Sealer: a.sealer()}
	a.begun = time.Now()
	recorded := a.during("recording the run")
	work, err := p.Record(ctx, l, r)
	recorded()
	if err != nil {
		return err
	}
	return a.execute(ctx, c, p, l, r, work)
}

// assess shows what is known of the steps and asks whether to go on.
func (a *app) assess(ctx context.Context, c *cli.Command, p *plan.Plan, opts *ledger.Options) ([]*ledger.Step, int64, error) {
	for _, why := range p.LeftOut {
		a.err.Printf("  %s left out: %s\n", a.err.Paint(term.Warn, "warning"), term.Clean(why))
	}
	accept, lifted := c.String("accept"), despite(c)
	approved, tolerance, err := approval(c)
	if err != nil {
		return nil, 0, err
	}
	p.Keeping(opts.Keep, lifted)
	ask := plan.Ask{Options: opts, Count: accept != "any", Rehearse: c.Bool("rehearse"), Despite: lifted}
	counting, stop := leaving(ctx)
	defer stop()
	opts.Consent = &ledger.Consent{Rows: -1}
	seen := plan.Sight{Despite: lifted, Keep: opts.Keep}
	looked := func() {}
	ask.Begin = func(ch *change.Change) {
		what := "looking at step %s of %s"
		if ask.Count {
			what = "counting the rows of step %s in %s"
		}
		looked = a.during(fmt.Sprintf(what, term.Clean(ch.Step), term.Clean(ch.Target().String())))
	}
	steps, total, err := p.Assess(counting, ask, func(x *plan.Assessment) {
		looked()
		seen.Found = append(seen.Found, x.Outlook())
		opts.Consent.Hazards = append(opts.Consent.Hazards, told(x, lifted)...)
		name := term.Clean(x.Step.Name)
		if ask.Count && x.Call != nil {
			a.err.Printf("%s:\n", a.err.Paint(term.Bold, name))
			report.PrintCall(a.err, x.Call)
		} else if ask.Count {
			a.err.Printf("%s: %s of %s matched, %s will change\n", a.err.Paint(term.Bold, name), term.Rows(x.Step.Matched), term.Clean(x.Table), a.err.Paint(term.Bold, term.Count(x.Step.ToChange)))
			if x.LastPass {
				a.err.Printf("  %s\n", lastPassLine)
			}
			if x.Lines != nil {
				report.PrintLines(a.err, x.Lines)
			}
			for _, act := range x.Step.Acts {
				a.err.Printf("  with them, in each batch: %s, %s rows\n", term.Clean(act.Name()), a.err.Paint(term.Bold, term.Count(act.ToChange)))
			}
		}
		if x.Alone != "" {
			a.err.Printf("  %s step %s stays on one worker: %s\n", a.err.Paint(term.Warn, "warning"), name, x.Alone)
		}
		if x.Rehearsal != nil {
			a.printRehearsal(a.err, x.Rehearsal)
		}
		a.printHazards(a.err, x.Findings, lifted)
	})
	looked()
	err = a.signalled(counting, err)
	stop() // a person who is asked may leave in the usual way
	switch {
	case err != nil:
	case approved != "":
		opts.Consent.Approved = approved
		opts.Consent.Rows, err = p.Approved(approved, seen, tolerance)
	case ask.Count:
		opts.Consent.Rows = total
		err = a.accept(ctx, accept, total)
	}
	return steps, total, err
}

// approval reads what was approved, "" if the run is to ask instead.
func approval(c *cli.Command) (approved string, t plan.Tolerance, err error) {
	approved = c.String("approved")
	switch {
	case approved == "" && c.IsSet("tolerance"):
		return "", t, usagef("--tolerance goes with --approved")
	case approved != "" && c.String("accept") != "":
		return "", t, usagef("--approved stands instead of --accept")
	}
	if t, err = plan.ParseTolerance(c.String("tolerance")); err != nil {
		return "", t, usagef("--tolerance: %v", err)
	}
	return approved, t, nil
}

// told lists the hazards of a step as they are recorded.
func told(x *plan.Assessment, lifted []string) (out []ledger.Hazard) {
	for _, f := range x.Findings {
		out = append(out, ledger.Hazard{Step: f.Step, Code: f.Code, Level: string(f.Level), Text: f.Text, Meant: f.Level == hazard.Refusal && slices.Contains(lifted, f.Code)})
	}
	return out
}

// accept has a person, or the caller, say how many rows will change.
func (a *app) accept(ctx context.Context, given string, total int64) error {
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
	answer, err := a.keyboard.Ask(ctx, a.err, fmt.Sprintf("Type the number of rows to go on (%s), anything else to leave:", term.Count(total)))
	if err != nil || strings.ReplaceAll(answer, ",", "") != strconv.FormatInt(total, 10) {
		return refusef("not confirmed; nothing was changed")
	}
	return nil
}

// leftForLater lists work that a run left to the server, each sort once.
func leftForLater(ctx context.Context, db engine.DB, work []*runner.Work) (out []engine.Setting, err error) {
	h, ok := db.(engine.Housekeeper)
	if !ok {
		return nil, nil
	}
	told := map[string]bool{}
	for _, w := range work {
		if w.Change.Call != nil { // of whose tables nothing is known
			continue
		}
		list, err := h.Housekeeping(ctx, w.Change)
		if err != nil {
			return nil, err
		}
		for _, x := range list {
			if !told[x.Name] {
				told[x.Name] = true
				out = append(out, x)
			}
		}
	}
	return out, nil
}

// execute carries a run out and tells how it ended.
func (a *app) execute(parent context.Context, c *cli.Command, p *plan.Plan, l *ledger.Ledger, r *ledger.Run, work []*runner.Work) error {
	ctx, stop, done := a.interruptible(parent)
	defer done()
	shown := a.newLiveRun(stop)
	shown.listen(ctx, &controls{db: p.DB, l: l, run: r.ID})
	rn := &runner.Runner{DB: p.DB, Ledger: l, Run: r, Work: work, Stop: stop, Retry: c.Bool("retry-set-aside"),
		Resumed: c.Name == "resume", Despite: slices.Contains(c.StringSlice("despite"), "check")}
	rn.Watch = shown.show
	rn.Happened = shown.happened
	p.Guard(rn, despite(c))
	f, err := a.followers(c)
	if err != nil {
		shown.clear()
		return err
	}
	defer a.unfollow(f)
	f.watch(rn)
	begun := a.begun // before the run was recorded, which may wait for a lock
	if begun.IsZero() {
		begun = time.Now()
	}
	f.tell(events.Begin(r, p.DB.Name(), c.Name == "resume"))
	err = rn.Execute(ctx)
	shown.clear()
	if !errors.Is(err, runner.ErrTaken) {
		f.tell(events.End(r))
	}
	if errors.Is(err, runner.ErrTaken) {
		return err
	}
	// The parent's context: a run that was interrupted is summed up all the same.
	sum, serr := report.Read(parent, p.DB, l, r.ID, time.Since(begun))
	if serr != nil {
		return errors.Join(err, serr)
	}
	if err == nil {
		if sum.Keeping, serr = leftForLater(parent, p.DB, work); serr != nil {
			return serr
		}
	}
	if err == nil && r.UndoOf == 0 && !c.Bool("no-search") {
		if sum.Fills, serr = p.Filled(ctx); serr != nil {
			return serr
		}
	}
	if err == nil && r.UndoOf == 0 && !c.Bool("no-search") {
		live := a.err.NewLive()
		sum.Search, serr = find.Again(ctx, p.DB, p.Tables, p.Replaced(), func(table string, n, of int, hits int64) {
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
		sum.Print(a.out, dbFlag(c, p.DB))
	}
	if err == nil && r.UndoOf == 0 {
		a.tidy(parent, p, l, r)
	}
	for _, step := range rn.Belated {
		fmt.Fprintf(a.err, "Rows of step %q have been changed after later steps had begun: what these would have done with the new values, here or in other tables, is not done.\n", step)
	}
	var ve *plan.Unheld
	var ae *runner.AccountError
	if errors.As(err, &ae) {
		return &plan.Unheld{Msg: fmt.Sprintf("run %d: %v; nothing after it was begun. Look before you go on: `jugatum show %d%s`, `jugatum undo %d%s`", r.ID, ae, r.ID, dbFlag(c, p.DB), r.ID, dbFlag(c, p.DB))}
	}
	switch {
	case errors.As(err, &ve):
		return err
	case errors.Is(err, runner.ErrGuard):
		return err
	case errors.Is(err, runner.ErrStopped):
		return fmt.Errorf("run %d %w; everything up to here is kept, `jugatum resume %d%s` goes on", r.ID, err, r.ID, dbFlag(c, p.DB))
	case err != nil:
		if re := (*engine.RenumberedError)(nil); errors.As(err, &re) {
			return fmt.Errorf("run %d failed: %v", r.ID, err) // which is no refusal here: batches before this one are there
		}
		or := ""
		if sum.Undoable() {
			or = fmt.Sprintf(", or take it back with `jugatum undo %d%s`", r.ID, dbFlag(c, p.DB))
		}
		return fmt.Errorf("run %d failed: %w\nEverything before this batch is kept: fix the cause and `jugatum resume %d%s`%s", r.ID, err, r.ID, dbFlag(c, p.DB), or)
	}
	if r.UndoOf == 0 {
		if err := p.Forbidden(r.ID, sum.Lists); err != nil {
			return err
		}
	}
	left, aside := int64(0), sum.SetAside
	for _, s := range sum.Steps {
		left += s.Skipped
	}
	if aside > 0 {
		were := " were"
		if aside == 1 {
			were = " was"
		}
		return &asideError{fmt.Sprintf("%s%s set aside; `jugatum show %d%s` lists what was, `jugatum resume %d%s --retry-set-aside` tries again", term.Rows(aside), were, r.ID, dbFlag(c, p.DB), r.ID, dbFlag(c, p.DB))}
	}
	if left > 0 {
		return &asideError{fmt.Sprintf("%s rows were skipped: others, or a trigger, have changed them since, or the database refuses their old values; `jugatum show %d%s` lists them", term.Count(left), r.ID, dbFlag(c, p.DB))}
	}
	return nil
}
