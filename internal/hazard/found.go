package hazard

import (
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// What is found by a change's text, and by what the catalogue and the server say of
// what it reads. Each gives what its text in the table needs, once for each finding.

// one is a single finding.
func one(args ...any) [][]any { return [][]any{args} }

// iff is a single finding if so is true.
func iff(so bool, args ...any) [][]any {
	if !so {
		return nil
	}
	return one(args...)
}

func everyRow(l look) [][]any { return iff(l.c.EveryRow(), l.c.Table) }

func readsTargetLive(l look) [][]any {
	return iff(len(l.c.Reads.Live) > 0, strings.Join(l.c.Reads.Live, ", "), l.c.Table)
}

// batched reports whether the step is cut into batches.
func (l look) batched() bool { return l.method != "single" }

// several reports whether it is more than one statement.
func (l look) several() bool { return l.batched() || l.c.Split || l.c.Rewrite != nil }

func noKey(l look) [][]any {
	return iff(l.batched() && l.c.Table.Key == nil, l.c.Table.Keyless(), l.c.D.DeclareKey(l.c.Table))
}

func keyAssigned(l look) [][]any {
	if !l.batched() || !l.c.ChangesKey() {
		return nil
	}
	return one(strings.Join(l.c.Table.Key.Names(), ", "))
}

func keyComputed(l look) [][]any {
	if !l.batched() || l.c.ChangesKey() || l.c.DerivedKey() == nil {
		return nil
	}
	return one(l.c.DerivedKey().Name)
}

// fires reports whether the change sets off a trigger.
func (l look) fires(t change.Trigger) bool {
	return l.c.Verb == sqltext.Update && t.Update || l.c.Verb == sqltext.Delete && t.Delete
}

func statementTriggers(l look) (out [][]any) {
	for _, t := range l.c.Table.Triggers {
		if l.batched() && l.fires(t) && t.Statement {
			out = append(out, []any{t.Name})
		}
	}
	return out
}

// selfTriggers finds those that change other rows of the target, so that the order
// of the rows decides what becomes of them.
func selfTriggers(l look) (out [][]any) {
	for _, t := range l.c.Table.Triggers {
		if l.batched() && l.fires(t) && t.Writes(l.c.D, l.c.Table.Name) {
			out = append(out, []any{t.Name, l.c.Table})
		}
	}
	return out
}

func atOnce(l look) [][]any {
	if !l.batched() {
		return nil
	}
	why := l.c.AtOnce()
	return iff(why != "", why)
}

func policies(l look) [][]any { return iff(l.c.Table.Policies, l.c.Table) }

func policiesRead(l look) [][]any {
	return iff(len(l.c.Reads.Policies) > 0, strings.Join(l.c.Reads.Policies, ", "))
}

func definersRead(l look) [][]any {
	return iff(len(l.c.Reads.Definer) > 0, strings.Join(l.c.Reads.Definer, ", "))
}

func definerTriggers(l look) (out [][]any) {
	for _, t := range l.c.Table.Triggers {
		if t.Definer != "" && l.fires(t) {
			out = append(out, []any{t.Name, t.Definer})
		}
	}
	return out
}

// instead is what to do where batches of the step would go wrong.
func (l look) instead() string {
	if l.c.Split {
		return "and the statement is one step for each table that inherits, also with --method single: change them one by one, with ONLY"
	}
	if l.c.Rewrite != nil {
		return "and rows whose values are computed here are read in stretches, also with --method single: let a step before this one mark them, or put what is read into a table"
	}
	return "use --method single"
}

func readsTarget(l look) [][]any {
	r := l.c.Reads
	way := l.instead()
	if l.c.Verb == sqltext.Delete && !l.c.From.Empty() || l.c.Verb == sqltext.Delete && slices.ContainsFunc(l.c.TableRefs(), func(n sqltext.Name) bool { return l.c.D.Same(n.Table, l.c.Table.Name) }) {
		way += ", or, where of several rows that are the same one is to stay, a step with merge (docs/job-files.md#merge)"
	}
	return iff(l.several() && r.Target && len(r.Live) == 0, l.c.Table, way)
}

func opaque(l look) [][]any {
	return iff(l.several() && len(l.c.Reads.Opaque) > 0, strings.Join(l.c.Reads.Opaque, ", "), l.c.Table, l.instead())
}

func oncePerRun(l look) [][]any {
	return iff(l.several() && len(l.c.Reads.Once) > 0, strings.Join(l.c.Reads.Once, ", "), l.instead())
}

func volatileFilter(l look) [][]any { return l.volatile(true) }
func volatileValue(l look) [][]any  { return l.volatile(false) }

// volatile lists the calls that answer otherwise each time: those in the filter, or
// the others.
func (l look) volatile(filter bool) (out [][]any) {
	for _, call := range l.c.Reads.Volatile {
		if l.several() && has(l.c.Where, strings.ToUpper(strings.TrimSuffix(call, "()"))) == filter {
			out = append(out, []any{call})
		}
	}
	return out
}

func clock(l look) [][]any { return iff(l.several() && l.c.Reads.Clock) }

// later says what else is to be done where rows that are changed later read what
// came of those before them; "" if they do not: one statement may read its tables as they
// were. Otherwise what comes of it depends on the order of the rows in one statement as well.
func (l look) later() string {
	switch {
	case !l.c.D.Forms().Snapshot:
		return "also in one statement it depends on the order of the rows: compute the values beforehand"
	case l.method == "single" && !l.c.Split:
		return ""
	}
	return l.instead()
}

// triggerSources finds triggers that write to a table that the statement reads
// while its rows are changed.
func triggerSources(l look) (out [][]any) {
	way := l.later()
	if way == "" {
		return nil
	}
	for _, name := range l.c.Reads.Tables {
		for _, t := range l.c.Table.Triggers {
			if l.fires(t) && t.Writes(l.c.D, name) {
				out = append(out, []any{t.Name, name, way})
			}
		}
	}
	return out
}

// followedSources finds references that the database follows to such a table.
func followedSources(l look) (out [][]any) {
	way := l.later()
	if way == "" {
		return nil
	}
	reached := map[string]string{} // tables, however far, and how
	for _, name := range l.c.Reached {
		reached[strings.ToLower(name)] = "by way of others"
	}
	for _, a := range l.c.Acts {
		reached[strings.ToLower(a.Change.Table.Name)] = a.Name()
	}
	for _, r := range l.references() {
		if r.follows() {
			reached[strings.ToLower(r.Table)] = r.Name
		}
	}
	for _, name := range l.c.Reads.Tables {
		if how, ok := reached[strings.ToLower(name)]; ok {
			out = append(out, []any{name, l.c.Table, how, way})
		}
	}
	return out
}

// rowQueries finds a query of several columns that may give another row each time
// it is asked, and it is asked once for each column.
func rowQueries(l look) [][]any {
	for _, s := range l.c.Set {
		if !s.Row {
			continue
		}
		why := ""
		if l.c.D.Forms().AnyOrder && (has(s.Expr, "LIMIT", "FETCH", "OFFSET") || distinctOn(s.Expr)) {
			why = "cuts its rows, and which are the first may differ where the order leaves that open"
		}
		for _, call := range l.c.Reads.Volatile {
			if has(s.Expr, strings.ToUpper(strings.TrimSuffix(call, "()"))) {
				why = "calls " + call
			}
		}
		if why != "" {
			return one(s.Column.Name, why)
		}
	}
	return nil
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

func onConflict(l look) [][]any { return iff(l.c.Table.OnConflict, l.c.Table) }

// leftToRight finds an assignment that reads a column assigned before it. The
// standard takes all values from the row as it was, and so does Jugatum on every
// server; the server's own UPDATE would go on with the new one there.
func leftToRight(l look) [][]any {
	if !l.c.D.Forms().LeftToRight {
		return nil
	}
	for i, s := range l.c.Set {
		for _, before := range l.c.Set[:i] {
			if s.Literal == nil && !s.Implicit && l.mentions(s.Expr, before.Column.Name) {
				return one(s.Column.Name, before.Column.Name)
			}
		}
	}
	return nil
}

// notCleared finds changes that apply twice when they are run twice: an assigned
// column is computed from itself, and the filter does not ask about it.
func notCleared(l look) [][]any {
	if l.c.Rewrite != nil || l.c.Verb == sqltext.Delete || slices.ContainsFunc(l.c.Set, func(s change.Set) bool { return l.mentions(l.c.Where, s.Column.Name) }) {
		return nil
	}
	for _, s := range l.c.Set {
		if s.Literal == nil && !s.Implicit && l.mentions(s.Expr, s.Column.Name) {
			return one(s.Column.Name)
		}
	}
	return nil
}

// mentions reports whether a fragment speaks of the target's column: by its
// bare name, or qualified by the target and not by a source.
func (l look) mentions(frag sqltext.Fragment, column string) bool {
	ref := strings.Trim(l.c.Ref, "\"`")
	for i, t := range frag.Tokens {
		if !l.c.D.Same(t, column) {
			continue
		}
		if i < 2 || !frag.Tokens[i-1].Punct(".") || strings.EqualFold(frag.Tokens[i-2].Name(), ref) {
			return true
		}
	}
	return false
}

// quotedColumns finds strings that are a column's name.
func quotedColumns(l look) (out [][]any) {
	told := map[string]bool{}
	for _, frag := range l.c.Fragments() {
		for _, t := range frag.Tokens {
			if told[t.Text] || t.Kind != sqltext.String || !strings.HasPrefix(t.Text, "'") {
				continue
			}
			word := strings.Trim(t.Text, "'")
			if word != "" && slices.ContainsFunc(l.c.Table.Columns, func(c *change.Column) bool { return strings.EqualFold(c.Name, word) }) {
				told[t.Text] = true
				out = append(out, []any{t.Text, l.c.Table})
			}
		}
	}
	return out
}

// quotedTexts finds quoted names that are no column, and so are texts to the server.
func quotedTexts(l look) (out [][]any) {
	if !l.c.D.Forms().NamesOrTexts || !l.c.From.Empty() {
		return nil
	}
	told := map[string]bool{}
	for _, frag := range l.c.Fragments() {
		for i, t := range frag.Tokens {
			if told[t.Text] || t.Kind != sqltext.QuotedIdent || !strings.HasPrefix(t.Text, `"`) {
				continue
			}
			joined := i > 0 && (frag.Tokens[i-1].Punct(".") || frag.Tokens[i-1].Is("AS")) || i+1 < len(frag.Tokens) && (frag.Tokens[i+1].Punct(".") || frag.Tokens[i+1].Punct("("))
			if !joined && l.c.Table.Column(l.c.D, t) == nil && !has(frag, "SELECT") {
				told[t.Text] = true
				out = append(out, []any{t.Text, l.c.Table})
			}
		}
	}
	return out
}

func likeDelete(l look) [][]any {
	return iff(l.c.Verb == sqltext.Delete && l.c.Merge == nil && has(l.c.Where, "LIKE", "ILIKE", "GLOB"))
}

func keptDeleted(l look) [][]any { return iff(l.c.Verb == sqltext.Delete && l.c.Into == nil) }

func othersTable(l look) [][]any {
	x := l.c.Into
	if x == nil || l.c.Lines != nil || x.Table.Owner == "" || x.Table.Owner == l.c.Table.Owner {
		return nil
	}
	return one(x.Table, x.Table.Owner, l.c.Table)
}

// numbered finds columns that lines have values for and that a sequence would number.
func numbered(l look) (out [][]any) {
	if l.c.Lines == nil || l.c.Into == nil {
		return nil
	}
	for _, p := range l.c.Into.Pairs {
		if p.To.Identity || strings.HasPrefix(p.To.Default, "nextval(") || strings.Contains(p.To.Default, ".nextval(") {
			out = append(out, []any{p.To.Name, l.c.Into.Table})
		}
	}
	return out
}

func policiesThere(l look) [][]any {
	if l.c.Into == nil || !l.c.Into.Table.Policies {
		return nil
	}
	return one(l.c.Into.Table)
}

func triggersThere(l look) (out [][]any) {
	if l.c.Into == nil {
		return nil
	}
	for _, t := range l.c.Into.Table.Triggers {
		if t.Insert {
			out = append(out, []any{t.Name, t.Events, l.c.Into.Table})
		}
	}
	return out
}

// lacked are columns that another table has not, to which rows are moved, or copied.
func lacked(copied bool) func(look) [][]any {
	return func(l look) [][]any {
		if l.c.Into == nil || len(l.c.Into.Lost) == 0 || l.c.Into.Copied != copied {
			return nil
		}
		return one(l.c.Into.Table, strings.Join(l.c.Into.Lost, ", "))
	}
}

func ownColumns(l look) [][]any {
	if l.c.Into == nil || len(l.c.Into.Own) == 0 {
		return nil
	}
	return one(strings.Join(l.c.Into.Own, ", "), l.c.Into.Table)
}

func has(f sqltext.Fragment, words ...string) bool {
	return slices.ContainsFunc(f.Tokens, func(t sqltext.Token) bool { return slices.ContainsFunc(words, t.Is) })
}
