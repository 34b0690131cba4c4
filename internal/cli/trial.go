package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/pace"
	"jugatum/internal/page"
	"jugatum/internal/plan"
	"jugatum/internal/preview"
	"jugatum/internal/report"
	"jugatum/internal/runner"
	"jugatum/internal/term"
	"jugatum/internal/trial"
)

func (a *app) trialCmd() *cli.Command {
	return &cli.Command{
		Name:      "trial",
		Usage:     "which way to carry a job out is cheapest on this database: tried and rolled back, or on a copy",
		ArgsUsage: "JOB",
		Description: "Each way is tried on stretches of the real table, in turns, and what it would take for the whole is estimated from\n" +
			"that: time, the longest hold, log, and room for kept values. Nothing is changed; what a rollback leaves behind (dead\n" +
			"rows, numbers of sequences) is that of the rows tried. With --copy it is a copy of the table that is changed.\n\n" +
			example("jugatum trial --db sqlite:saltmere.db quay-ids.toml", `jugatum trial --db sqlite:saltmere.db --sql "UPDATE visit SET remark = trim(remark)" --every-row --by log`),
		Flags: append(jobFlags()[:2],
			&cli.StringFlag{Name: "by", Value: "time", Usage: "put the ways in order by time, hold, log or room"},
			&cli.DurationFlag{Name: "spend", Value: time.Minute, Usage: "time for all trials of a step together"},
			&cli.StringFlag{Name: "spend-log", Usage: "log that the trials of a step may write, such as 1GB; left out, no limit"},
			&cli.BoolFlag{Name: "copy", Usage: "try on a copy of the table, with its indexes and real commits, which is dropped again"},
			&cli.StringFlag{Name: "spend-room", Value: "1GB", Usage: "room that the copy may take; of a larger table some rows are copied, from many places"},
			&cli.IntFlag{Name: "rounds", Value: 5, Usage: "how often each way is tried, if there is time"},
			&cli.DurationFlag{Name: "hold", Value: defaultHold, Usage: "longest time that a transaction may hold its locks"},
			&cli.BoolFlag{Name: "write", Usage: "put the ways recommended into the job's file: the method of each step, and workers in [limits]"},
			&cli.StringFlag{Name: "page", Usage: "write what the trials came to as a page, to `FILE`"},
			&cli.BoolFlag{Name: "every-row", Usage: "a step without a filter is meant, as for run"},
			&cli.StringSliceFlag{Name: "despite", Usage: "hazards that run would be told to go on despite"},
		),
		Action: a.trial,
	}
}

// tried is a step with what its trials came to.
type tried struct {
	Name  string `json:"name"`
	Table string `json:"table"`
	*trial.Result
	Advice string `json:"advice"`
	Run    string `json:"run,omitempty"` // the options that choose the way

	best *trial.Tried // nil if none is recommended
	of   int          // the job's step
}

func (a *app) trial(ctx context.Context, c *cli.Command) error {
	by := c.String("by")
	if !slices.Contains(trial.By, by) {
		return usagef("--by %s: %s", by, strings.Join(trial.By, ", "))
	}
	o := trial.Options{Spend: c.Duration("spend"), Rounds: int(c.Int("rounds"))}
	switch {
	case o.Spend < time.Second:
		return usagef("--spend %s: at least 1s", o.Spend)
	case o.Rounds < 1 || o.Rounds > 100:
		return usagef("--rounds %d: 1 to 100", o.Rounds)
	}
	if s := c.String("spend-log"); s != "" {
		l, err := pace.Limits{}.With("log_rate", s) // of the whole, here
		if err != nil || l.LogRate == 0 {
			return usagef("--spend-log %s: expected an amount such as 500MB or 1GB", s)
		}
		o.SpendLog = l.LogRate
	}
	room, err := pace.Limits{}.With("log_rate", c.String("spend-room")) // bytes, here
	if err != nil || room.LogRate == 0 {
		return usagef("--spend-room %s: expected an amount such as 500MB or 1GB", c.String("spend-room"))
	}
	if o.Copy, o.SpendRoom = c.Bool("copy"), room.LogRate; !o.Copy && c.IsSet("spend-room") {
		return usagef("--spend-room goes with --copy")
	}
	if c.Bool("write") && c.String("sql") != "" {
		return usagef("--write puts the way into a job's file, and one statement has none")
	}
	if err := free(c.String("page")); err != nil {
		return err
	}
	return a.withPlan(ctx, c, func(_ engine.DB, p *plan.Plan) error { return a.try(ctx, c, p, o) })
}

// try tries the ways to carry a plan's steps out, and tells what they came to.
func (a *app) try(ctx context.Context, c *cli.Command, p *plan.Plan, o trial.Options) error {
	db, by := p.DB, c.String("by")
	if err := plan.MayWrite(ctx, db, c.StringSlice("despite")); err != nil {
		return err
	}
	opts, err := limits(c, p.Job)
	if err != nil {
		return err
	}
	o.Hold = opts.Hold
	if err := a.mayTry(ctx, c, p, &opts); err != nil {
		return err
	}
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "jugatum trial", LockTimeout: 5 * time.Second})
	if err != nil {
		return err
	}
	err = a.ledger(db).Ensure(ctx, s)
	s.Close()
	if err != nil {
		return fmt.Errorf("the ledger cannot be made in %s, which kept values need: %w", db.Name(), err)
	}
	var all []tried
	for _, ch := range p.Foremost() {
		x, err := a.tryStep(ctx, p, ch, o, by)
		if err != nil {
			return err
		}
		all = append(all, *x)
		if !c.Bool("json") {
			a.printTrial(x, by, p, c)
		}
	}
	if to := c.String("page"); to != "" {
		if err := a.writeTrial(c, p, all, o.Hold, to); err != nil {
			return err
		}
	}
	if c.Bool("write") {
		if err := a.writeTuned(p.Job, all); err != nil {
			return err
		}
	}
	if c.Bool("json") {
		return a.json(struct {
			Schema   int     `json:"schema"`
			Database string  `json:"database"`
			Job      string  `json:"job"`
			Hold     float64 `json:"hold_target_ms"`
			Steps    []tried `json:"steps"`
		}{report.Schema, db.Name(), p.Job.Name(), engine.MS(o.Hold), all})
	}
	return nil
}

// mayTry refuses what a run would be refused for, and what a rollback may not take back.
func (a *app) mayTry(ctx context.Context, c *cli.Command, p *plan.Plan, opts *ledger.Options) error {
	for _, ch := range p.Changes {
		if why := trial.Untriable(ch); why != "" {
			return refusef("step %q: %s; `jugatum preview --rehearse` estimates a batch of it where it can be rolled back", ch.Step, why)
		}
	}
	ask := plan.Ask{Options: opts, Despite: despite(c)}
	_, _, err := p.Assess(ctx, ask, func(x *plan.Assessment) { a.printHazards(a.err, x.Findings, despite(c)) })
	return err
}

// tryStep tries the ways to carry one step out.
func (a *app) tryStep(ctx context.Context, p *plan.Plan, ch *change.Change, o trial.Options, by string) (*tried, error) {
	begun := time.Now()
	var err error
	if o.Matched, o.Changes, err = preview.Count(ctx, p.DB, ch); err != nil {
		return nil, p.Fault(err)
	}
	o.Counting = time.Since(begun)
	x := &tried{Name: ch.Step, Table: ch.Table.String(), of: ch.Of}
	if o.Changes == 0 {
		x.Result = &trial.Result{Rows: ch.Table.Rows, Matched: o.Matched, Ways: []trial.Tried{}, Short: "no row would change: there is nothing to try"}
		return x, nil
	}
	live := a.err.NewLive()
	o.Told = func(done, rounds int, way string) {
		text := fmt.Sprintf("%s: round %d of %d: %s", term.Clean(ch.Step), done+1, rounds, way)
		live.Show(func(int) []string { return []string{text} }, func() string { return text }, false)
	}
	roster := ch.Rewrite == nil && o.Matched*4 < ch.Table.Rows
	x.Result, err = trial.Run(ctx, p.DB, ch, trial.Ways(ch, runner.Alone(p.DB, ch, "sweep") != "", roster), o)
	live.Clear()
	if err != nil {
		var refused trial.Refusal
		switch {
		case errors.As(err, &refused):
			return nil, refusef("step %q: %s", ch.Step, refused)
		case o.Copy:
			return nil, fmt.Errorf("step %q: %w", ch.Step, err)
		}
		return nil, fmt.Errorf("step %q: %w; all of it was rolled back", ch.Step, err)
	}
	x.Order(by)
	var best *trial.Tried
	x.Advice, best = x.Result.Advise(by, o.Hold)
	if x.best = best; best != nil {
		x.Run = best.Options()
	}
	return x, nil
}

// printTrial shows what the trials came to.
func (a *app) printTrial(x *tried, by string, p *plan.Plan, c *cli.Command) {
	o := a.out
	o.Printf("%s  %s of %s, %s would change\n", o.Paint(term.Bold, term.Clean(x.Name)), term.Rows(x.Rows), term.Clean(x.Table), term.Rows(x.Changes))
	if len(x.Ways) == 0 {
		o.Printf("  %s\n\n", x.Short)
		return
	}
	o.Printf("  %s\n\n", o.Paint(term.Faint, fmt.Sprintf("%s in %s, %s; for the whole it would come to about:", term.Counted(int64(x.Trials), "trial"), term.Duration(time.Duration(x.Spent*float64(time.Second))), x.Where())))
	most := 0.0
	for _, w := range x.Ways {
		if w.Failed == "" && !w.Yardstick {
			most = max(most, w.Figure(by))
		}
	}
	old := slices.ContainsFunc(x.Ways, func(w trial.Tried) bool { return w.Dead >= 0 })
	head := []string{"  way", by, ">time", ">longest hold", ">log", ">kept", ">batches", ">varies by"}
	if old {
		head = append(head, ">dead rows")
	}
	t := o.NewTable(head...).Yield("batches", "varies by", "dead rows", "kept")
	for _, w := range x.Ways {
		if w.Failed != "" {
			continue
		}
		room := "-"
		if w.Keep {
			room = bytesOr(w.Room)
		}
		name := w.Name()
		if w.Yardstick {
			name = o.Paint(term.Faint, name+" (to compare)")
		}
		cells := []string{"  " + name, o.Bar(min(w.Figure(by)/max(most, 1e-9), 1), 16), term.Duration(time.Duration(w.Seconds * float64(time.Second))), term.Duration(report.Milliseconds(w.HoldMS)), bytesOr(w.LogBytes), room, term.Count(w.Batches), fmt.Sprintf("%.0f %%", 100*w.Vary)}
		switch {
		case w.Dead >= 0:
			cells = append(cells, term.Count(w.Dead))
		case old:
			cells = append(cells, "-")
		}
		t.Row(cells...)
	}
	t.Print()
	for _, w := range x.Ways {
		if w.Failed == "" && w.Temporary > 0 {
			o.Printf("  %s\n", o.Paint(term.Faint, fmt.Sprintf("%s: a trial wrote %s to temporary files", w.Name(), term.Bytes(w.Temporary))))
		}
	}
	for _, w := range x.Ways {
		if w.Failed != "" {
			o.Printf("  %s %s: %s\n", o.Paint(term.Warn, "not tried"), w.Name(), term.Clean(w.Failed))
		}
	}
	if text := x.Others(); text != "" {
		o.Printf("  %s\n", o.Paint(term.Faint, text))
	}
	o.Printf("\n")
	if x.Short != "" {
		o.Printf("  %s %s\n", o.Paint(term.Warn, "warning"), x.Short)
	}
	if x.Left != "" {
		o.Printf("  %s %s\n", o.Paint(term.Warn, "warning"), term.Clean(x.Left))
	}
	if x.Uncommitted != "" {
		o.Printf("  %s commits could not be measured, and are in no figure: %s\n", o.Paint(term.Warn, "warning"), term.Clean(x.Uncommitted))
	}
	o.Printf("%s\n", term.Wrap(x.Advice, "  ", min(o.Width(), 120)))
	if x.Run != "" {
		o.Printf("  %s\n", o.Paint(term.Accent, a.runCommand(c, p, despite(c))+" "+x.Run))
	}
	o.Printf("\n")
}

// writeTrial writes the page.
func (a *app) writeTrial(c *cli.Command, p *plan.Plan, all []tried, hold time.Duration, to string) error {
	given := maps.Clone(p.Values)
	delete(given, change.Clock)
	x := &page.Trial{Title: p.Job.Name(), Database: p.DB.Name(), User: ledger.OSUser(), DBUser: p.DB.User(), Job: page.JobOf(p.Job.Source, p.Digest), Params: page.ParamsOf(given),
		Keys: c.String("by"), Hold: hold, Made: time.Now(), By: buildVersion().version}
	for _, s := range all {
		one := page.TriedStep{Name: s.Name, Table: s.Table, Result: s.Result, Advice: s.Advice}
		if s.Run != "" {
			one.Command = a.runCommand(c, p, despite(c)) + " " + s.Run
		}
		x.Steps = append(x.Steps, one)
	}
	return a.writePage(to, x.HTML)
}

// writeTuned writes the ways recommended into the job's file.
func (a *app) writeTuned(j *job.Job, all []tried) error {
	t := job.Tuning{Methods: make([]string, len(j.Steps))}
	differ := map[int]bool{} // steps of which parts are better carried out in different ways
	for _, x := range all {
		if x.best == nil {
			continue
		}
		if m := &t.Methods[x.of]; *m != "" && *m != x.best.Method {
			differ[x.of] = true
		} else {
			*m = x.best.Method
		}
		t.Workers = max(t.Workers, x.best.Workers)
	}
	for i := range differ {
		t.Methods[i] = ""
	}
	if t.Workers == 0 {
		a.err.Printf("No way is recommended, so nothing is written.\n")
		return nil
	}
	text, err := j.Tuned(t)
	if err != nil {
		return usagef("%s is as it was: %v", j.Source.Name, err)
	}
	if err := rewrite(j.Source.Name, j.Source.Text, text); err != nil {
		return err
	}
	a.err.Printf("%s says so now.\n", term.Clean(j.Source.Name))
	return nil
}

// bytesOr words an amount that may not be known.
func bytesOr(n int64) string {
	if n < 0 {
		return "?"
	}
	return term.Bytes(n)
}
