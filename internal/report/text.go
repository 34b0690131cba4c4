package report

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"jugatum/internal/engine"
	"jugatum/internal/find"
	"jugatum/internal/ledger"
	"jugatum/internal/term"
)

// Print tells how the run went and what can be done next. db is how the options that
// name the database are repeated.
func (s *Run) Print(o *term.Out, db string) {
	s.printResult(o)
	s.printLists(o, db)
	if len(s.Skipped) > 0 {
		o.Printf("\n")
		s.printSkipped(o, 10, fmt.Sprintf("`jugatum show %d%s` lists them all", s.Run, db))
	}
	PrintHousekeeping(o, s.Keeping)
	printFills(o, s.Fills)
	printSearch(o, s.Search)
	s.printNext(o, db)
}

// PrintRecord tells all that is on record: how the run went, batches that held
// long, waits, rows set aside or skipped, signals, and what can be done next.
func (s *Run) PrintRecord(o *term.Out, db string) {
	s.printResult(o)
	s.printLists(o, db)
	s.printSlowest(o)
	s.printWaits(o)
	s.printAsides(o)
	s.printSignals(o)
	if len(s.Skipped) > 0 {
		o.Printf("\n")
		s.printSkipped(o, len(s.Skipped), "")
	}
	s.printNext(o, db)
}

// printResult tells how the run went.
func (s *Run) printResult(o *term.Out) {
	style := term.Good
	if s.Status != ledger.Done {
		style = term.Bad
	}
	name := fmt.Sprintf("run %d", s.Run)
	if s.UndoOf != 0 {
		name += fmt.Sprintf(" (undo of run %d)", s.UndoOf)
	}
	o.Printf("%s %s  %s\n\n", o.Paint(term.Bold, name), o.Paint(style, s.Status), term.Clean(s.Title))
	t := o.NewTable("  step", "table", "", ">batches", ">scanned", ">matched", ">changed", ">skipped", ">retries").Yield("batches", "retries", "matched")
	if !slices.ContainsFunc(s.Steps, func(x Step) bool { return x.Retries > 0 }) { // then that there were none is told best by nothing
		t.Yield("retries", "batches", "matched")
	}
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
		for _, a := range x.Acts {
			t.Row("", term.Clean(a.Table), with(a, x.Method), "", "", "", term.Count(a.Changed))
		}
	}
	t.Print()
	for _, x := range s.Steps {
		if text := unchangedText(x, s.SetAside); text != "" {
			o.Printf("  %s\n", o.Paint(term.Faint, text))
		}
	}
	if s.Holds.Batches > 0 {
		o.Printf("\n  hold     median %s, 99th percentile %s, longest %s; target %s\n", term.Duration(Milliseconds(s.Holds.MedianMS)), term.Duration(Milliseconds(s.Holds.P99MS)), term.Duration(Milliseconds(s.Holds.MaxMS)), term.Duration(Milliseconds(s.HoldMS)))
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
		o.Printf("  log      %s (%s)\n", log, Scope(s.Log.Scope))
	}
	if s.Pruned != nil {
		o.Printf("  kept     %s\n", o.Paint(term.Warn, fmt.Sprintf("nothing any more: %s dropped the values on %s", term.Clean(s.Pruned.Who), s.Pruned.At.Local().Format("2006-01-02 15:04"))))
	}
	if s.KeptBytes > 0 {
		o.Printf("  kept     %s of old and new values\n", term.Bytes(s.KeptBytes))
	}
	if text := serverText(s.Server); text != "" {
		o.Printf("  server   %s (whole server, meanwhile)\n", text)
	}
	if s.Estimate != nil {
		o.Printf("  estimate %s\n", EstimateText(*s.Estimate))
	}
	if s.Others.Samples > 0 {
		o.Printf("  others   %s\n", othersText(s.Others))
	}
	if s.Others.OwnMostMS >= 1 {
		o.Printf("  waited   %s for others' locks, at most %s in a batch\n", term.Duration(Milliseconds(s.Others.OwnMS)), term.Duration(Milliseconds(s.Others.OwnMostMS)))
	}
	if s.MostLagMS >= 0 {
		o.Printf("  replicas the one furthest behind was %s behind at most\n", term.Duration(Milliseconds(s.MostLagMS)))
	}
	if n, without := s.Lost(); n > 0 {
		o.Printf("  lost     %s, and made again after %s in all\n", term.Counted(n, "connection"), term.Duration(without))
	}
	o.Printf("  elapsed  %s\n", term.Duration(s.elapsed))
	if s.SetAside > 0 {
		o.Printf("  %s\n", o.Paint(term.Warn, "set aside "+term.Rows(s.SetAside)+" that could not be changed"))
	}
	if s.Error != "" {
		o.Printf("  error    %s\n", o.Paint(term.Bad, term.Clean(s.Error)))
	}
}

// how words what a step does to its rows.
func how(verb, method string) string {
	switch {
	case verb == "call":
		return "call for each line"
	case !strings.HasPrefix(method, "undo"):
		return verb + " by " + method
	case verb == "insert":
		return "take inserted rows out again" + strings.TrimPrefix(method, "undo")
	case verb == "copy":
		return "take copies out again" + strings.TrimPrefix(method, "undo")
	case verb == "delete":
		return "re-insert deleted rows" + strings.TrimPrefix(method, "undo")
	}
	return "put old values back" + strings.TrimPrefix(method, "undo")
}

// with words what a step does to rows of another table.
func with(a Act, method string) string {
	by := term.Clean(strings.Join(a.By, ", "))
	switch {
	case strings.HasPrefix(method, "undo"):
		return "with them, by " + by
	}
	return ActText(a.Role, false) + ", " + by
}

// ActText words what becomes of the rows of an act: what would, ahead of a run, or what did.
func ActText(role string, ahead bool) string {
	switch role {
	case "deleted":
		return pick(ahead, "deleted", "deleted with them")
	case "cleared":
		return pick(ahead, "lose their reference", "lost their reference")
	case "moved":
		return pick(ahead, "refer to the row that stays", "refer to the row that stayed")
	case "doubled":
		return pick(ahead, "would stand twice: deleted", "would have stood twice: deleted")
	case "filled":
		return pick(ahead, "the row that stays is filled", "the row that stayed was filled")
	}
	return role
}

func pick(first bool, a, b string) string {
	if first {
		return a
	}
	return b
}

// unchangedText says why a step changed fewer rows than it matched, "" if it did not.
func unchangedText(x Step, setAside int64) string {
	rest := x.Matched - x.Changed - x.Skipped
	if strings.HasPrefix(x.Method, "undo") {
		for _, a := range x.Acts {
			rest -= a.Changed
		}
	}
	if x.Matched < 0 || x.Changed < 0 || rest <= 0 || x.Verb == "call" {
		return ""
	}
	if setAside > 0 {
		return fmt.Sprintf("step %s: %s matched and did not change: they had the new values already, or were set aside", term.Clean(x.Name), term.Rows(rest))
	}
	return fmt.Sprintf("step %s: %s matched and had the new values already", term.Clean(x.Name), term.Rows(rest))
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
		text = fmt.Sprintf("%s %s waited, %s in all, the longest %s", term.Count(w.Sessions), sessions, term.Duration(Milliseconds(w.TotalMS)), term.Duration(Milliseconds(w.LongestMS)))
		if w.TotalMS == 0 { // seen by one check only, of a server that does not tell since when
			text = fmt.Sprintf("%s %s waited, for less than it takes to look twice", term.Count(w.Sessions), sessions)
		}
	}
	checks := "checks"
	if w.Samples == 1 {
		checks = "check"
	}
	return text + fmt.Sprintf(" (%s %s, which took %s)", term.Count(w.Samples), checks, term.Duration(Milliseconds(w.LookingMS)))
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
func (s *Run) printAsides(o *term.Out) {
	if len(s.Asides) == 0 {
		return
	}
	tables := s.tables()
	o.Printf("\n")
	t := o.NewTable("  set aside", "table", "new values", "why")
	each := max((o.Width()-44)/2, 16)
	for _, x := range s.Asides {
		var values []string
		for _, col := range slices.Sorted(maps.Keys(x.New)) {
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
func (s *Run) tables() map[int]string {
	out := map[int]string{}
	for i, x := range s.Steps {
		out[i+1] = x.Table
	}
	return out
}

// printWaits lists the longest waits of other sessions on us.
func (s *Run) printWaits(o *term.Out) {
	if len(s.Waits) == 0 {
		return
	}
	o.Printf("\n")
	t := o.NewTable("  longest waits", "session", "for", "statement")
	for _, w := range s.Waits {
		t.Row("  "+term.Duration(Milliseconds(w.MS)), term.Clean(w.Session), term.Clean(w.For), o.Cut(term.Clean(w.Statement), max(o.Width()-60, 20)))
	}
	t.Print()
}

// printSignals lists what other terminals said to the run.
func (s *Run) printSignals(o *term.Out) {
	if len(s.Signals) == 0 {
		return
	}
	o.Printf("\n")
	t := o.NewTable("  signal", "with", "by", "at", "heard after")
	for _, x := range s.Signals {
		var args []string
		for _, k := range slices.Sorted(maps.Keys(x.Args)) {
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
func (s *Run) printSlowest(o *term.Out) {
	if len(s.Slowest) == 0 {
		return
	}
	o.Printf("\n")
	t := o.NewTable("  longest holds", ">step", ">lane/batch", ">scanned", ">changed", ">log", "locks by mode").Yield("locks by mode", "lane/batch", "step")
	for _, b := range s.Slowest {
		var locks []string
		for _, mode := range slices.Sorted(maps.Keys(b.Locks)) {
			locks = append(locks, fmt.Sprintf("%s %d", mode, b.Locks[mode]))
		}
		text := strings.Join(locks, ", ")
		switch {
		case text != "":
		case engine.IsFile(s.Database):
			text = "the write lock of the file"
		default:
			text = "not told"
		}
		batch := term.Count(b.Batch)
		if s.Steps[b.Step-1].Lanes > 1 {
			batch = fmt.Sprintf("%d/%s", b.Lane, batch)
		}
		t.Row("  "+term.Duration(Milliseconds(b.HoldMS)), fmt.Sprint(b.Step), batch, term.Count(b.Scanned), term.Count(b.Changed), term.Bytes(b.LogBytes), text)
	}
	t.Print()
}

// printNext lists the commands that make sense now.
func (s *Run) printNext(o *term.Out, db string) {
	next := [][2]string{}
	add := func(cmd, what string) {
		next = append(next, [2]string{fmt.Sprintf("jugatum %s %d%s", cmd, s.Run, db), what})
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
		next = append(next, [2]string{fmt.Sprintf("jugatum resume %d%s --retry-set-aside", s.Run, db), "tries the rows that were set aside again"})
	}
	add("show", "the record of this run")
	if s.Status == ledger.Done {
		add("report", "writes a page about it, for others to read")
	}
	if s.Undoable() {
		add("undo", "puts the old values back")
	}
	o.Printf("\n")
	width := 0
	for _, n := range next {
		width = max(width, len([]rune(n[0])))
	}
	for _, n := range next {
		o.Printf("  %s  %s\n", o.Paint(term.Accent, term.Pad(n[0], width)), o.Paint(term.Faint, n[1]))
	}
}

// printSkipped lists rows that an undo skipped.
func (s *Run) printSkipped(o *term.Out, limit int, more string) {
	rows, tables := s.Skipped, s.tables()
	for from := 0; from < min(limit, len(rows)); { // a table each
		to := from
		for to < min(limit, len(rows)) && rows[to].Step == rows[from].Step && rows[to].Table == rows[from].Table {
			to++
		}
		PrintMismatched(o, rows[from:to], "skipped of "+term.Clean(cmp.Or(rows[from].Table, tables[rows[from].Step])), "as the run left it", "as it is now")
		from = to
	}
	if len(rows) > limit {
		o.Printf("  … and %s more; %s\n", term.Count(int64(len(rows)-limit)), more)
	}
}

// PrintMismatched lists rows with their key, the values wanted and those found.
func PrintMismatched(o *term.Out, rows []ledger.Left, what, wanted, found string) {
	t := o.NewTable("  "+what, "column", wanted, found)
	each := max((o.Width()-50)/2, 16)
	var refused []string
	for _, x := range rows {
		key := "  " + o.Cut(term.Clean(x.Key), 24)
		if x.Table != "" {
			key += " in " + term.Clean(x.Table)
		}
		if x.Gone {
			t.Row(key, "", "", o.Paint(term.Warn, "the row is gone"))
			continue
		}
		for _, col := range slices.Sorted(maps.Keys(x.Expected)) {
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

// PrintHousekeeping tells what work was left for later, and what it means.
func PrintHousekeeping(o *term.Out, list []engine.Setting) {
	if len(list) == 0 {
		return
	}
	o.Printf("\n")
	width := 0
	for _, x := range list {
		width = max(width, len([]rune(x.Name)))
	}
	for _, x := range list {
		sep := "  "
		if width+len(x.Value)+len(x.Meaning)+6 > o.Width() {
			sep = "\n    "
		}
		o.Printf("  %s  %s%s%s\n", term.Pad(term.Clean(x.Name), width), o.Paint(term.Bold, x.Value), sep, o.Paint(term.Faint, term.Clean(x.Meaning)))
		if x.Advice != "" {
			o.Printf("    %s\n", o.Paint(term.Warn, term.Clean(x.Advice)))
		}
	}
}

// EstimateText words what a rehearsal estimated.
func EstimateText(f ledger.Estimate) string {
	batches := "batches"
	if f.Batches == 1 {
		batches = "batch"
	}
	text := fmt.Sprintf("about %s %s, %s without their commits, holds of %s", term.Count(f.Batches), batches, term.Duration(time.Duration(f.Seconds*float64(time.Second))), term.Duration(Milliseconds(f.HoldMS)))
	if f.LogBytes >= 0 {
		text += ", " + term.Bytes(f.LogBytes) + " of " + cmp.Or(f.LogKind, "log")
	}
	if f.KeptBytes >= 0 {
		text += ", " + term.Bytes(f.KeptBytes) + " of kept values"
	}
	return text
}

// printSearch tells what a search after the run found.
func printSearch(o *term.Out, list []find.LeftOver) {
	for _, x := range list {
		near, elsewhere := int64(0), int64(0)
		for _, l := range x.Near {
			near += l.Hits
		}
		for _, l := range x.Elsewhere {
			elsewhere += l.Hits
		}
		style := term.Good
		if x.Left > 0 {
			style = term.Bad
		}
		o.Printf("\n  search   %s: %s; %s similar texts not replaced; %s in other columns\n", term.Clean(x.Text), o.Paint(style, term.Count(x.Left)+" left"), term.Count(near), term.Count(elsewhere))
		if near+elsewhere+x.Left == 0 {
			continue
		}
		t := o.NewTable("  left in", ">found", "because")
		for _, l := range slices.Concat(x.Still, x.Near, x.Elsewhere) {
			t.Row("  "+term.Clean(l.Column), term.Count(l.Hits), l.Because)
		}
		t.Print()
	}
}

// Scope says whose log a figure counts.
func Scope(s string) string {
	switch s {
	case "ours":
		return "ours alone"
	case "server":
		return "whole server"
	}
	return "not told"
}

// Milliseconds makes a duration of a figure of the ledger.
func Milliseconds(ms float64) time.Duration { return time.Duration(ms * float64(time.Millisecond)) }
