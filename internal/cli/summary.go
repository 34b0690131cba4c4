package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"jugatum/internal/engine"
	"jugatum/internal/ledger"
	"jugatum/internal/sqltext"
	"jugatum/internal/term"
)

// summary is a run as `run`, `resume`, `undo` and `show` give it.
type summary struct {
	Schema    int              `json:"schema"`
	Run       int64            `json:"run"`
	Title     string           `json:"title"`
	Reason    string           `json:"reason"`
	UndoOf    int64            `json:"undo_of,omitempty"`
	UndoneBy  int64            `json:"undone_by,omitempty"`
	Status    string           `json:"status"`
	Error     string           `json:"error,omitempty"`
	Database  string           `json:"database"`
	StartedAt time.Time        `json:"started_at"`
	EndedAt   *time.Time       `json:"ended_at,omitempty"`
	User      string           `json:"os_user"`
	DBUser    string           `json:"db_user,omitempty"`
	Host      string           `json:"host"`
	Version   string           `json:"version"`
	Keep      bool             `json:"kept_values"`
	KeptBytes int64            `json:"kept_bytes"` // room that they take now; -1 unknown, or none
	HoldMS    float64          `json:"hold_target_ms"`
	Workers   int              `json:"workers"` // wanted; a step may have had fewer
	Steps     []summaryStep    `json:"steps"`
	Holds     summaryHolds     `json:"holds"`
	Log       summaryLog       `json:"log"`
	ElapsedS  float64          `json:"elapsed_s"`
	Skipped   []ledger.Left    `json:"skipped,omitempty"`
	Slowest   []ledger.Slow    `json:"slowest"`
	SetAside  int64            `json:"set_aside"`
	Asides    []ledger.Aside   `json:"rows_set_aside,omitempty"`
	Estimate  *ledger.Estimate `json:"estimate,omitempty"`
	Others    ledger.Watching  `json:"others"`
	Server    map[string]int64 `json:"server,omitempty"`
	Keeping   []engine.Setting `json:"housekeeping,omitempty"`
	Waits     []ledger.Wait    `json:"longest_waits,omitempty"`
	Signals   []ledger.Signal  `json:"signals,omitempty"`
	Search    []leftOver       `json:"search,omitempty"` // of the replaced texts, after the run

	run     *ledger.Run
	elapsed time.Duration

	replicas bool // it was paced by replicas, which a resume wants named again
}

type summaryStep struct {
	Name      string `json:"name"`
	Table     string `json:"table"`
	Verb      string `json:"verb"`
	Method    string `json:"method"`
	Status    string `json:"status"`
	Batches   int64  `json:"batches"`
	Scanned   int64  `json:"scanned"`
	Matched   int64  `json:"matched"` // -1: not told apart from the changed ones
	Changed   int64  `json:"changed"`
	Skipped   int64  `json:"skipped"`
	Retries   int64  `json:"retries"`
	KeptTable string `json:"kept_table,omitempty"`
	Lanes     int    `json:"lanes"`
}

type summaryHolds struct {
	Batches  int64   `json:"batches"`
	MedianMS float64 `json:"median_ms"`
	P99MS    float64 `json:"p99_ms"`
	MaxMS    float64 `json:"max_ms"`
}

type summaryLog struct {
	Bytes   int64  `json:"bytes"`   // -1 unknown
	Records int64  `json:"records"` // -1 unknown
	Images  int64  `json:"full_page_images"`
	Scope   string `json:"scope"`
	Kind    string `json:"kind"`
}

// summary reads a run back from the ledger. elapsed is this process's time, 0
// for that between start and end.
func (a *app) summary(ctx context.Context, db engine.DB, l *ledger.Ledger, id int64, elapsed time.Duration) (*summary, error) {
	r, err := l.Load(ctx, id)
	if err != nil {
		return nil, err
	}
	h, err := l.Holds(ctx, id)
	if err != nil {
		return nil, err
	}
	if elapsed == 0 && !r.EndedAt.IsZero() {
		elapsed = r.EndedAt.Sub(r.StartedAt)
	}
	s := &summary{Schema: 1, Run: r.ID, Title: r.Title, Reason: r.Reason, UndoOf: r.UndoOf, UndoneBy: r.UndoneBy, Status: r.Status, Error: r.Error, Database: db.Name(),
		StartedAt: r.StartedAt, User: r.OSUser, DBUser: r.DBUser, Host: r.Host, Version: r.Version, Keep: r.Options.Keep, replicas: len(r.Options.Replicas) > 0, KeptBytes: -1, Estimate: r.Options.Estimate, HoldMS: msf(r.Options.Hold), Workers: max(r.Options.Workers, 1),
		Holds: summaryHolds{h.Batches, msf(h.Median), msf(h.P99), msf(h.Max)}, Log: summaryLog{-1, -1, -1, "", ""}, ElapsedS: elapsed.Seconds(), Steps: []summaryStep{}, run: r, elapsed: elapsed}
	if !r.EndedAt.IsZero() {
		s.EndedAt = &r.EndedAt
	}
	weigher, weighs := db.(engine.Weigher)
	for _, st := range r.Steps {
		if table := cmp.Or(st.PackedTable, st.KeptTable); weighs && table != "" && r.UndoOf == 0 {
			if n, err := weigher.Weigh(ctx, table); err == nil { // they may have been dropped since
				s.KeptBytes = max(s.KeptBytes, 0) + n
			}
		}
		t := st.Totals
		table := st.TableName
		if st.TableSchema != "" && st.TableSchema != "public" {
			table = st.TableSchema + "." + table
		}
		s.Steps = append(s.Steps, summaryStep{st.Name, table, st.Verb, st.Method, st.Status, t.Batches, t.Scanned, t.Matched, t.Changed, t.Skipped, t.Retries, st.KeptTable, len(st.Lanes)})
		if t.Log.Scope != "" {
			s.Log.Scope, s.Log.Kind = t.Log.Scope, logKind(db.Dialect(), t.Log)
			s.Log.Bytes, s.Log.Records, s.Log.Images = plus(s.Log.Bytes, t.Log.Bytes), plus(s.Log.Records, t.Log.Records), plus(s.Log.Images, t.Log.Images)
		}
	}
	if s.Slowest, err = l.Slowest(ctx, id, 5); err != nil {
		return nil, err
	}
	if s.SetAside, err = l.AsideCount(ctx, id); err != nil {
		return nil, err
	}
	if s.Asides, err = l.Asides(ctx, id, 1000); err != nil {
		return nil, err
	}
	if s.Others, s.Waits, err = l.Watched(ctx, id, 5); err != nil {
		return nil, err
	}
	if s.Server, err = l.Server(ctx, id); err != nil {
		return nil, err
	}
	if s.Signals, err = l.Signals(ctx, id, 0); err != nil {
		return nil, err
	}
	if r.UndoOf != 0 {
		if s.Skipped, err = l.Skipped(ctx, id, 1000); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// logKind names the log that the figures are of.
func logKind(d sqltext.Dialect, l engine.Log) string {
	switch {
	case d == sqltext.MariaDB && l.Scope == "ours":
		return "binary log"
	case d == sqltext.MariaDB:
		return "redo log"
	case l.Records < 0:
		return "rollback journal"
	}
	return "write-ahead log"
}

// plus adds figures of which -1 is unknown.
func plus(a, b int64) int64 {
	switch {
	case a < 0:
		return b
	case b < 0:
		return a
	}
	return a + b
}

func msf(d time.Duration) float64 { return float64(d.Microseconds()) / 1000 }

func dur(ms float64) time.Duration { return time.Duration(ms * float64(time.Millisecond)) }

// printSummary tells how a run went and what can be done next.
func (a *app) printSummary(s *summary, dbFlag string) {
	a.printResult(s, dbFlag)
	a.printNext(s, dbFlag)
}

// printResult tells how a run went.
func (a *app) printResult(s *summary, dbFlag string) {
	o := a.out
	style := term.Good
	if s.Status != ledger.Done {
		style = term.Bad
	}
	name := fmt.Sprintf("run %d", s.Run)
	if s.UndoOf != 0 {
		name += fmt.Sprintf(" (undo of run %d)", s.UndoOf)
	}
	o.Printf("%s %s  %s\n\n", o.Paint(term.Bold, name), o.Paint(style, s.Status), term.Clean(s.Title))
	t := o.NewTable("  step", "table", "", ">batches", ">scanned", ">matched", ">changed", ">skipped", ">retries")
	for _, x := range s.Steps {
		matched := term.Count(x.Matched)
		if x.Matched < 0 {
			matched = "-"
		}
		method := x.Method
		if x.Lanes > 1 {
			method += fmt.Sprintf(", %d lanes", x.Lanes)
		}
		t.Row("  "+term.Clean(x.Name), term.Clean(x.Table), how(x.Verb, method), term.Count(x.Batches), term.Count(x.Scanned), matched, term.Count(x.Changed), term.Count(x.Skipped), term.Count(x.Retries))
	}
	t.Print()
	for _, x := range s.Steps {
		if text := unchangedText(x, s.SetAside); text != "" {
			o.Printf("  %s\n", o.Paint(term.Faint, text))
		}
	}
	if s.Holds.Batches > 0 {
		o.Printf("\n  hold     median %s, 99th percentile %s, longest %s; target %s\n", term.Duration(dur(s.Holds.MedianMS)), term.Duration(dur(s.Holds.P99MS)), term.Duration(dur(s.Holds.MaxMS)), term.Duration(dur(s.HoldMS)))
	}
	if s.Log.Scope != "" {
		log := fmt.Sprintf("%s in %s records", term.Bytes(s.Log.Bytes), term.Count(s.Log.Records))
		switch {
		case s.Log.Images >= 0:
			log += fmt.Sprintf(", %s full-page images", term.Count(s.Log.Images))
		case s.Log.Records >= 0:
			log = fmt.Sprintf("%s in %s frames of the %s", term.Bytes(s.Log.Bytes), term.Count(s.Log.Records), s.Log.Kind)
		default:
			log = fmt.Sprintf("%s of %s", term.Bytes(s.Log.Bytes), s.Log.Kind)
		}
		o.Printf("  log      %s (%s)\n", log, scope(s.Log.Scope))
	}
	if s.KeptBytes > 0 {
		o.Printf("  kept     %s of old and new values\n", term.Bytes(s.KeptBytes))
	}
	if text := serverText(s.Server); text != "" {
		o.Printf("  server   %s (whole server, meanwhile)\n", text)
	}
	if s.Estimate != nil {
		o.Printf("  estimate %s\n", estimateText(*s.Estimate))
	}
	if s.Others.Samples > 0 {
		o.Printf("  others   %s\n", othersText(s.Others))
	}
	if s.Others.OwnMostMS >= 1 {
		o.Printf("  waited   %s for others' locks, at most %s in a batch\n", term.Duration(dur(s.Others.OwnMS)), term.Duration(dur(s.Others.OwnMostMS)))
	}
	o.Printf("  elapsed  %s\n", term.Duration(s.elapsed))
	if s.SetAside > 0 {
		o.Printf("  %s\n", o.Paint(term.Warn, fmt.Sprintf("set aside %s rows that could not be changed", term.Count(s.SetAside))))
	}
	if s.Error != "" {
		o.Printf("  error    %s\n", o.Paint(term.Bad, term.Clean(s.Error)))
	}
	if len(s.Skipped) > 0 {
		o.Printf("\n")
		a.printLeft(s.Skipped, 10, fmt.Sprintf("`jugatum show %d%s` lists them all", s.Run, dbFlag), s.tables())
	}
	a.printHousekeeping(s.Keeping)
	a.printSearch(s.Search)
}

// how words what a step does to its rows.
func how(verb, method string) string {
	switch {
	case !strings.HasPrefix(method, "undo"):
		return verb + " by " + method
	case verb == "delete":
		return "re-insert deleted rows" + strings.TrimPrefix(method, "undo")
	}
	return "put old values back" + strings.TrimPrefix(method, "undo")
}

// unchangedText says why a step changed fewer rows than it matched, "" if it did not.
func unchangedText(x summaryStep, setAside int64) string {
	rest := x.Matched - x.Changed - x.Skipped
	if x.Matched < 0 || x.Changed < 0 || rest <= 0 {
		return ""
	}
	if setAside > 0 {
		return fmt.Sprintf("step %s: %s rows matched and did not change: they had the new values already, or were set aside", term.Clean(x.Name), term.Count(rest))
	}
	return fmt.Sprintf("step %s: %s rows matched and had the new values already", term.Clean(x.Name), term.Count(rest))
}

// othersText says what the run cost other sessions, as far as was seen, and
// what the looking cost.
func othersText(w ledger.Watching) string {
	text := "no blocked sessions seen"
	if w.Seen > 0 {
		sessions := "sessions"
		if w.Sessions == 1 {
			sessions = "session"
		}
		text = fmt.Sprintf("%s %s waited, %s in all, the longest %s", term.Count(w.Sessions), sessions, term.Duration(dur(w.TotalMS)), term.Duration(dur(w.LongestMS)))
		if w.TotalMS == 0 { // seen by one check only, of a server that does not tell since when
			text = fmt.Sprintf("%s %s waited, for less than it takes to look twice", term.Count(w.Sessions), sessions)
		}
	}
	checks := "checks"
	if w.Samples == 1 {
		checks = "check"
	}
	return text + fmt.Sprintf(" (%s %s, which took %s)", term.Count(w.Samples), checks, term.Duration(dur(w.LookingMS)))
}

// serverText words what the whole server wrote during a run.
func serverText(m map[string]int64) string {
	var parts []string
	if n, ok := m["wal_bytes"]; ok {
		parts = append(parts, term.Bytes(n)+" of write-ahead log")
	}
	if n, ok := m["redo_bytes"]; ok {
		parts = append(parts, term.Bytes(n)+" of redo log")
	}
	if n, ok := m["history_list"]; ok {
		parts = append(parts, fmt.Sprintf("history list %+d", n))
	}
	return strings.Join(parts, ", ")
}

// printAsides lists rows that were set aside.
func (a *app) printAsides(list []ledger.Aside, tables map[int]string) {
	if len(list) == 0 {
		return
	}
	o := a.out
	o.Printf("\n")
	t := o.NewTable("  set aside", "table", "new values", "why")
	each := max((o.Width()-44)/2, 16)
	for _, x := range list {
		var values []string
		for _, col := range sortedKeys(x.New) {
			v := "NULL"
			if x.New[col] != nil {
				v = *x.New[col]
			}
			values = append(values, col+" = "+v)
		}
		text := strings.Join(values, ", ")
		if x.New == nil {
			text = "cannot be worked out"
		}
		why := x.Error
		if x.Retried {
			why = o.Paint(term.Good, "changed later")
		} else {
			why = o.Cut(term.Clean(strings.TrimPrefix(why, "ERROR: ")), each+10)
		}
		t.Row("  "+o.Cut(term.Clean(x.KeyText), 24), term.Clean(tables[x.Step]), o.Cut(term.Clean(text), each), why)
	}
	t.Print()
}

// tables names the table of each step by its number.
func (s *summary) tables() map[int]string {
	out := map[int]string{}
	for i, x := range s.Steps {
		out[i+1] = x.Table
	}
	return out
}

// printSignals lists what other terminals said to the run.
func (a *app) printSignals(list []ledger.Signal) {
	if len(list) == 0 {
		return
	}
	a.out.Printf("\n")
	t := a.out.NewTable("  signal", "with", "by", "at", "heard after")
	for _, x := range list {
		var args []string
		for _, k := range sortedKeys(x.Args) {
			args = append(args, k+" "+x.Args[k])
		}
		heard := "not heard"
		if x.SeenAt != nil {
			heard = term.Duration(x.SeenAt.Sub(x.At))
		}
		t.Row("  "+x.Kind, term.Clean(strings.Join(args, ", ")), term.Clean(x.Who+"@"+x.Host), x.At.Local().Format("15:04:05"), heard)
	}
	t.Print()
}

// printSlowest lists the batches that held their locks longest.
func (a *app) printSlowest(s *summary) {
	if len(s.Slowest) == 0 {
		return
	}
	o := a.out
	o.Printf("\n")
	t := o.NewTable("  longest holds", ">step", ">lane/batch", ">scanned", ">changed", ">log", "locks by mode")
	for _, b := range s.Slowest {
		var locks []string
		for _, mode := range sortedKeys(b.Locks) {
			locks = append(locks, fmt.Sprintf("%s %d", mode, b.Locks[mode]))
		}
		text := strings.Join(locks, ", ")
		switch {
		case text != "":
		case strings.HasPrefix(s.Database, "sqlite:"):
			text = "the write lock of the file"
		default:
			text = "not told"
		}
		batch := term.Count(b.Batch)
		if s.Steps[b.Step-1].Lanes > 1 {
			batch = fmt.Sprintf("%d/%s", b.Lane, batch)
		}
		t.Row("  "+term.Duration(dur(b.HoldMS)), fmt.Sprint(b.Step), batch, term.Count(b.Scanned), term.Count(b.Changed), term.Bytes(b.LogBytes), text)
	}
	t.Print()
}

// printNext lists the commands that make sense now.
func (a *app) printNext(s *summary, dbFlag string) {
	next := [][2]string{}
	add := func(cmd, what string) {
		next = append(next, [2]string{fmt.Sprintf("jugatum %s %d%s", cmd, s.Run, dbFlag), what})
	}
	if s.Status != ledger.Done && s.UndoneBy == 0 {
		what := "goes on where it stopped"
		if s.replicas {
			what += ", once its replicas are named again with --replica"
		}
		add("resume", what)
	}
	if s.Status == ledger.Done && s.UndoneBy == 0 {
		add("verify", "checks the database against what was recorded")
	}
	if s.SetAside > 0 {
		next = append(next, [2]string{fmt.Sprintf("jugatum resume %d%s --retry-set-aside", s.Run, dbFlag), "tries the rows that were set aside again"})
	}
	add("show", "the record of this run")
	if s.UndoOf == 0 && s.Keep && s.UndoneBy == 0 {
		add("undo", "puts the old values back")
	}
	a.out.Printf("\n")
	width := 0
	for _, n := range next {
		width = max(width, len([]rune(n[0])))
	}
	for _, n := range next {
		a.out.Printf("  %s  %s\n", a.out.Paint(term.Accent, term.Pad(n[0], width)), a.out.Paint(term.Faint, n[1]))
	}
}

// printLeft lists rows of an undo that were skipped.
func (a *app) printLeft(rows []ledger.Left, limit int, more string, tables map[int]string) {
	for from := 0; from < min(limit, len(rows)); { // a table each
		to := from
		for to < min(limit, len(rows)) && rows[to].Step == rows[from].Step {
			to++
		}
		a.printMismatched(rows[from:to], "skipped of "+term.Clean(tables[rows[from].Step]), "as the run left it", "as it is now")
		from = to
	}
	if len(rows) > limit {
		a.out.Printf("  … and %s more; %s\n", term.Count(int64(len(rows)-limit)), more)
	}
}

// printMismatched lists rows with key, the values wanted and those found.
func (a *app) printMismatched(rows []ledger.Left, what, wanted, found string) {
	o := a.out
	t := o.NewTable("  "+what, "column", wanted, found)
	each := max((o.Width()-50)/2, 16)
	var refused []string
	for _, x := range rows {
		key := "  " + o.Cut(term.Clean(x.Key), 24)
		if x.Gone {
			t.Row(key, "", "", o.Paint(term.Warn, "the row is gone"))
			continue
		}
		for _, col := range sortedKeys(x.Expected) {
			w, f := x.Expected[col], x.Found[col]
			is, should := o.Diff(&f, &w, each) // what is found is what is wrong
			t.Row(key, term.Clean(col), should, is)
			key = ""
		}
		if why := x.Found[ledger.RefusedBecause]; why != "" {
			refused = append(refused, fmt.Sprintf("row %s was refused: %s", term.Clean(x.Key), term.Clean(why)))
		}
	}
	t.Print()
	for _, x := range refused {
		o.Printf("  %s\n", o.Paint(term.Warn, x))
	}
}
