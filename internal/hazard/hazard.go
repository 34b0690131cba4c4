// Package hazard knows what is suspicious about a change: what can be told from
// its text and the table's description alone, and how the findings that need a
// look at the rows are worded. It looks at no rows itself.
package hazard

import (
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// Level is how grave a finding is.
type Level string

const (
	Note    Level = "note"    // worth knowing
	Warning Level = "warning" // look before going on
	Refusal Level = "refusal" // a run is refused unless it is told to go on despite it
)

// Finding is one suspicious thing about a step.
type Finding struct {
	Step  string `json:"step"`
	Code  string `json:"code"` // what --despite takes
	Level Level  `json:"level"`
	Text  string `json:"text"`
	Rows  int64  `json:"rows"` // rows concerned, -1 where that is no question of rows
}

// Codes that other packages ask for by name.
const (
	EveryRow    = "every-row"
	KeyChanged  = "key-changed"
	ReadsTarget = "reads-target"
	NoKey       = "no-key"
	LeftToRight = "left-to-right"
	Opaque      = "opaque-function"
	OncePerRun  = "once-a-statement"
	Cascade     = "cascade"
	TriggerSelf = "trigger-target"
	Grants      = "missing-grant"
	DoesNotFit  = "does-not-fit"
	RowQuery    = "row-query"
	Source      = "trigger-source"
	ReadOnly    = "read-only" // of the database, not of a step
)

// Liftable reports whether a person may accept a refusal with this code; the
// others would make the run go wrong.
func Liftable(code string) bool {
	switch code {
	case EveryRow, Cascade, LeftToRight, Opaque, OncePerRun, TriggerSelf, Grants, RowQuery, DoesNotFit, Source:
		return true
	}
	return false
}

// Text finds what the change's own text shows. method is sweep, roster, single, or "" while it is not chosen.
func Text(c *change.Change, method string) []Finding {
	f := finder{c: c}
	if c.EveryRow() {
		f.add(EveryRow, Refusal, "there is no filter: every row of %s is concerned; run needs --every-row", c.Table)
	}
	if len(c.Reads.Live) > 0 {
		f.add(ReadsTarget, Refusal, "%s reads %s while the statement changes it: what it finds depends on the order of the rows, also in one statement; compute the value by a sub-query", strings.Join(c.Reads.Live, ", "), c.Table)
	}
	if method != "single" {
		switch {
		case c.Table.Key == nil:
			f.add(NoKey, Refusal, "%s has no primary key and no unique index over NOT NULL columns, so there is no order to walk it in; add a key, or use --method single --keep none", c.Table)
		case c.ChangesKey():
			f.add(KeyChanged, Refusal, "the change assigns a key column (%s), by which batches find their way; use --method single", strings.Join(c.Table.Key.Names(), ", "))
		case c.DerivedKey() != nil:
			f.add(KeyChanged, Refusal, "the database computes the key column %s from a column that is assigned, and batches find their way by it; use --method single --keep none", c.DerivedKey().Name)
		}
		f.triggers()
		if why := c.AtOnce(); why != "" {
			f.add("at-once", Warning, "%s, which one statement for all rows fulfils and a batch may not: then the run ends at that batch, with nothing wrong; --method single does all rows at once", why)
		}
	}
	f.rights()
	if method != "single" || c.Split {
		f.reads()
	}
	f.sources(method)
	f.rowQueries()
	if f.c.Table.OnConflict {
		f.add("on-conflict", Warning, "a constraint of %s says ON CONFLICT, by which SQLite would delete other rows or pass rows by; here a row that breaks it is an error, since nothing could put those back", f.c.Table)
	}
	f.nulls()
	f.leftToRight()
	f.again()
	f.words()
	if c.Verb == sqltext.Delete && has(c.Where, "LIKE", "ILIKE", "GLOB") {
		f.add("like-delete", Warning, "rows are deleted by a pattern; look at the sample for rows that match by chance")
	}
	if c.Verb == sqltext.Delete {
		f.add("kept-deleted", Note, "the rows live on in the kept values that undo needs, also what was to be forgotten; --keep none keeps nothing")
	}
	return f.found
}

// rights finds what is seen or done by other rights than this user's own.
func (f *finder) rights() {
	if f.c.Table.Policies {
		f.add("row-policy", Warning, "row policies of %s hold for this user: only rows that they let it see are counted, changed and verified", f.c.Table)
	}
	if names := f.c.Reads.Policies; len(names) > 0 {
		f.add("row-policy", Warning, "row policies of %s, which the step reads, hold for this user: another user's statement may find other rows there", strings.Join(names, ", "))
	}
	if names := f.c.Reads.Definer; len(names) > 0 {
		f.add("definer-rights", Note, "the step reads by the rights of the users in brackets, not by those of this user, and may find rows that this user cannot see: %s", strings.Join(names, ", "))
	}
	for _, t := range f.c.Table.Triggers {
		if t.Definer != "" && f.fires(t) {
			f.add("definer-rights", Note, "trigger %s runs with the rights of %s and may change what this user may not", t.Name, t.Definer)
		}
	}
}

// fires reports whether the change sets off a trigger.
func (f *finder) fires(t change.Trigger) bool {
	return f.c.Verb == sqltext.Update && t.Update || f.c.Verb == sqltext.Delete && t.Delete
}

// reads tells what the server says the change reads besides its row.
func (f *finder) reads() {
	r := f.c.Reads
	if r.Target && len(r.Live) == 0 {
		f.add(ReadsTarget, Refusal, "the step reads %s, the table that it changes: later batches would see what earlier ones did, one statement would not; %s", f.c.Table, f.instead())
	}
	if len(r.Opaque) > 0 {
		f.add(Opaque, Refusal, "what %s reads cannot be seen; should it be %s, later batches would see what earlier ones did: %s, or --despite %s if it reads nothing that the step changes", strings.Join(r.Opaque, ", "), f.c.Table, f.instead(), Opaque)
	}
	if len(r.Once) > 0 {
		f.add(OncePerRun, Refusal, "%s is worked out once for a whole statement, and so once for each batch: its rows would get another value in each; %s, or --despite %s if that is meant", strings.Join(r.Once, ", "), f.instead(), OncePerRun)
	}
	for _, call := range r.Volatile {
		name := strings.TrimSuffix(call, "()")
		if has(f.c.Where, strings.ToUpper(name)) {
			f.add("volatile", Warning, "%s stands in the filter and answers otherwise each time: other rows will change than were counted", call)
		} else {
			f.add("volatile", Note, "%s gives another value for every row, and each time: a preview shows other values than a run writes", call)
		}
	}
	if r.Clock {
		f.add("clock", Warning, "the time is told in a view, a function or in another way that the run's own time cannot take the place of: it is that of each batch")
	}
}

// instead is what to do where batches of the step would go wrong.
func (f *finder) instead() string {
	if f.c.Split {
		return "and the statement is one step for each table that inherits, also with --method single: change them one by one, with ONLY"
	}
	return "use --method single"
}

// triggers finds those that change other rows of the target, so that the order
// of the rows decides what becomes of them.
func (f *finder) triggers() {
	for _, t := range f.c.Table.Triggers {
		if f.fires(t) && t.Statement {
			f.add("statement-trigger", Warning, "trigger %s fires once for a statement, and so once for each batch; --method single has it fire once", t.Name)
		}
		if f.fires(t) && t.Writes(f.c.D, f.c.Table.Name) {
			f.add(TriggerSelf, Refusal, "trigger %s itself changes rows of %s: what it does to rows that later batches come to, and to the values kept, depends on the batches; use --method single, or --despite %s if it is harmless", t.Name, f.c.Table, TriggerSelf)
		}
	}
}

// rowQueries finds queries of several columns that may give another row each time
// they are asked, and they are asked once for each column.
func (f *finder) rowQueries() {
	for _, s := range f.c.Set {
		if !s.Row {
			continue
		}
		why := ""
		if f.c.D == sqltext.PostgreSQL && (has(s.Expr, "LIMIT", "FETCH", "OFFSET") || distinctOn(s.Expr)) {
			why = "cuts its rows, and which are the first may differ where the order leaves that open"
		}
		for _, call := range f.c.Reads.Volatile {
			if has(s.Expr, strings.ToUpper(strings.TrimSuffix(call, "()"))) {
				why = "calls " + call
			}
		}
		if why != "" {
			f.add(RowQuery, Refusal, "the query that gives %s together with other columns %s: it is asked once for each column, which could then be of different rows; join the table instead (UPDATE … FROM), or --despite %s if it always gives one and the same row", s.Column.Name, why, RowQuery)
			return
		}
	}
}

// distinctOn reports whether DISTINCT ON stands in a fragment.
func distinctOn(f sqltext.Fragment) bool {
	for i, t := range f.Tokens {
		if t.Is("DISTINCT") && i+1 < len(f.Tokens) && f.Tokens[i+1].Is("ON") {
			return true
		}
	}
	return false
}

// sources finds what writes to a table that the statement reads while its rows are
// changed: triggers, and references that the database follows. Later batches would
// read what came of earlier ones; one statement reads its tables as they were, but
// on SQLite and MariaDB what comes of it depends on the order of the rows as well.
func (f *finder) sources(method string) {
	if method == "single" && f.c.D == sqltext.PostgreSQL && !f.c.Split {
		return
	}
	way := f.instead()
	if f.c.D != sqltext.PostgreSQL {
		way = "also in one statement it depends on the order of the rows: compute the values beforehand"
	}
	for _, name := range f.c.Reads.Tables {
		for _, t := range f.c.Table.Triggers {
			if f.fires(t) && t.Writes(f.c.D, name) {
				f.add(Source, Refusal, "trigger %s writes to %s, which the step reads: later rows would be changed by what came of earlier ones; %s, or --despite %s if that does not matter", t.Name, name, way, Source)
			}
		}
		for _, fk := range f.c.Table.ReferredBy {
			action := fk.OnDelete
			if f.c.Verb == sqltext.Update {
				action = fk.OnUpdate
				if !slices.ContainsFunc(f.c.Set, func(s change.Set) bool { return slices.Contains(fk.Parent, s.Column.Name) }) {
					continue
				}
			}
			writes := action == "CASCADE" || action == "SET NULL" || action == "SET DEFAULT"
			if writes && strings.EqualFold(fk.Table, name) {
				f.add(Source, Refusal, "rows of %s, which the step reads, go or change with those of %s (%s): later rows would be changed by what came of earlier ones; %s, or --despite %s if that does not matter", name, f.c.Table, fk.Name, way, Source)
			}
		}
	}
}

type finder struct {
	c     *change.Change
	found []Finding
}

func (f *finder) add(code string, level Level, format string, args ...any) {
	f.found = append(f.found, Finding{Step: f.c.Step, Code: code, Level: level, Text: fmt.Sprintf(format, args...), Rows: -1})
}

func has(f sqltext.Fragment, words ...string) bool {
	for _, t := range f.Tokens {
		for _, w := range words {
			if t.Is(w) {
				return true
			}
		}
	}
	return false
}

// nulls finds comparisons with NULL, which are never true.
func (f *finder) nulls() {
	for _, frag := range []sqltext.Fragment{f.c.Where, f.c.From} {
		ts := frag.Tokens
		for i := 1; i < len(ts); i++ {
			if !ts[i].Is("NULL") || !(ts[i-1].Punct("=") || ts[i-1].Punct(">") || ts[i-1].Punct("<")) {
				continue
			}
			op := ts[i-1].Text
			if i > 1 && (ts[i-2].Punct("<") || ts[i-2].Punct("!")) {
				op = ts[i-2].Text + op
			}
			f.add("equals-null", Warning, "%s NULL is never true; IS NULL or IS NOT NULL is meant", op)
		}
	}
}

// leftToRight finds assignments that read a column assigned before them. The
// standard takes all values from the row as it was, and so does Jugatum on every
// server; MariaDB's own UPDATE would go on with the new one.
func (f *finder) leftToRight() {
	if f.c.D != sqltext.MariaDB {
		return
	}
	for i, s := range f.c.Set {
		for _, before := range f.c.Set[:i] {
			if s.Literal == nil && !s.Implicit && f.mentions(s.Expr, before.Column.Name) {
				f.add(LeftToRight, Refusal, "%s is computed from %s, which is assigned before it: by MariaDB's own rule from the new value, by the standard and here from the old one; --despite %s if that is meant, or write the expression out", s.Column.Name, before.Column.Name, LeftToRight)
				return
			}
		}
	}
}

// again finds changes that apply twice when they are run twice: an assigned
// column is computed from itself, and the filter does not ask about it.
func (f *finder) again() {
	if f.c.Verb == sqltext.Delete {
		return
	}
	for _, s := range f.c.Set {
		if f.mentions(f.c.Where, s.Column.Name) {
			return
		}
	}
	for _, s := range f.c.Set {
		if s.Literal == nil && !s.Implicit && f.mentions(s.Expr, s.Column.Name) {
			f.add("not-cleared", Warning, "%s is computed from itself and the filter still matches afterwards: a second run would change the rows again", s.Column.Name)
			return
		}
	}
}

// mentions reports whether a fragment speaks of the target's column: by its
// bare name, or qualified by the target and not by a source.
func (f *finder) mentions(frag sqltext.Fragment, column string) bool {
	ref := strings.Trim(f.c.Ref, "\"`")
	for i, t := range frag.Tokens {
		if !f.c.D.Same(t, column) {
			continue
		}
		if i < 2 || !frag.Tokens[i-1].Punct(".") || strings.EqualFold(frag.Tokens[i-2].Name(), ref) {
			return true
		}
	}
	return false
}

// words finds strings that are a column's name, and quoted names that are no column.
func (f *finder) words() {
	told := map[string]bool{}
	for _, frag := range f.c.Fragments() {
		for i, t := range frag.Tokens {
			if told[t.Text] {
				continue
			}
			switch {
			case t.Kind == sqltext.String && strings.HasPrefix(t.Text, "'"):
				word := strings.Trim(t.Text, "'")
				for _, col := range f.c.Table.Columns {
					if word != "" && strings.EqualFold(col.Name, word) {
						told[t.Text] = true
						f.add("quoted-column", Warning, "%s is a text here, but %s also has a column of that name; write it without quotes if the column is meant", t.Text, f.c.Table)
					}
				}
			case t.Kind == sqltext.QuotedIdent && f.c.D == sqltext.SQLite && strings.HasPrefix(t.Text, `"`):
				joined := i > 0 && (frag.Tokens[i-1].Punct(".") || frag.Tokens[i-1].Is("AS")) || i+1 < len(frag.Tokens) && (frag.Tokens[i+1].Punct(".") || frag.Tokens[i+1].Punct("("))
				if !joined && f.c.Table.Column(f.c.D, t) == nil && f.c.From.Empty() && !has(frag, "SELECT") {
					told[t.Text] = true
					f.add("quoted-text", Warning, "%s is no column of %s, so SQLite takes it as a text; write it in single quotes if that is meant", t.Text, f.c.Table)
				}
			}
		}
	}
}

// rows words a count; below 0 there are some.
func rows(n int64) string {
	switch {
	case n < 0:
		return "rows"
	case n == 1:
		return "1 row"
	}
	return fmt.Sprintf("%d rows", n)
}

// Rows words the findings that come from looking at the rows. A count of 0 gives
// none, one below 0 stands for some that nobody has counted.
func Rows(c *change.Change, code string, n int64, args ...string) (Finding, bool) {
	if n == 0 {
		return Finding{}, false
	}
	level, text := Warning, ""
	arg := func(i int) string {
		if i < len(args) {
			return args[i]
		}
		return ""
	}
	switch code {
	case DoesNotFit:
		level = Refusal
		text = fmt.Sprintf("%d new values do not fit %s.%s %s: fix the expression, or let such rows be set aside (--set-aside %d)", n, c.Table, arg(0), arg(1), n)
	case "unique-collision":
		text = fmt.Sprintf("%d values of the unique index %s would stand more than once", n, arg(0))
	case "ambiguous-source":
		level = Refusal
		text = fmt.Sprintf("%d rows match several source rows that give them different new values; make the match unique", n)
	case Cascade:
		level = Refusal
		what := "go with them"
		switch {
		case arg(2) == "SET NULL" || arg(2) == "SET DEFAULT":
			what = "lose their reference to them"
		case arg(1) == "update":
			what = "change with them"
		}
		text = fmt.Sprintf("%s of %s %s (on %s %s); undo cannot put that back: --despite %s if it is meant", rows(n), arg(0), what, arg(1), strings.ToLower(arg(2)), Cascade)
	case "referenced":
		text = fmt.Sprintf("%s of %s refer to rows concerned (%s): the database will refuse those", rows(n), arg(0), strings.ToLower(arg(1)))
	case "trigger":
		level = Note
		text = fmt.Sprintf("trigger %s (%s) fires for %d rows; what it changes elsewhere is not kept", arg(0), arg(1), n)
	case "null-key":
		level = Refusal
		text = fmt.Sprintf("%s have NULL in the key (%s) and would not be reached; give them a key first, or use --method single --keep none", rows(n), arg(0))
	}
	return Finding{Step: c.Step, Code: code, Level: level, Text: text, Rows: max(n, -1)}, true
}
