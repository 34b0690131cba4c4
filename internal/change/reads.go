package change

import (
	"slices"
	"strings"

	"jugatum/internal/sqltext"
)

// Reads is what the server says a change reads besides the row that it changes.
// The zero value is nothing.
type Reads struct {
	Target   bool     // rows of its target once more: later batches would see what earlier ones did
	Live     []string // functions that read the target while the statement changes it, and so see some of the change (MariaDB)
	Opaque   []string // functions of which nobody can see what they read, as "f()"
	Volatile []string // functions that give another value at every call, where that is once a row
	Once     []string // functions of which one statement takes one value for all rows, and each batch another
	Tables   []string // other tables, by their names alone
	Definer  []string // views and functions that run with another user's rights, as "view v (owner)"
	Policies []string // other tables of which row policies hold for this user
	Before   []string // of all that it reads, also what is read once, before the first batch: tables, by their names alone
	Clock    bool     // the time, where the run's time cannot be put in its place: in a view or a function
}

// Merge adds what another part of the change reads.
func (r *Reads) Merge(o Reads) {
	r.Target, r.Clock = r.Target || o.Target, r.Clock || o.Clock
	for _, x := range []struct {
		to   *[]string
		from []string
	}{{&r.Live, o.Live}, {&r.Opaque, o.Opaque}, {&r.Volatile, o.Volatile}, {&r.Once, o.Once}, {&r.Definer, o.Definer}, {&r.Policies, o.Policies}, {&r.Tables, o.Tables}} {
		for _, name := range x.from {
			if !slices.Contains(*x.to, name) {
				*x.to = append(*x.to, name)
			}
		}
	}
}

// Table notes another table that is read.
func (r *Reads) Table(name string) {
	if !slices.Contains(r.Tables, name) {
		r.Tables = append(r.Tables, name)
	}
}

// Sort tells for a function that gives another value at every call, or in every
// transaction, how the change calls it. Only a call that stands in the job's own
// SQL outside of every sub-query is surely made once a row; in a view or a
// sub-query the server may work it out once for the whole statement.
func (r *Reads) Sort(c *Change, function string, perRow bool) {
	word := strings.ToLower(strings.TrimSuffix(function, "()"))
	where := &r.Once
	if perRow && c.callsPerRow(word) {
		where = &r.Volatile
	}
	if !slices.Contains(*where, function) {
		*where = append(*where, function)
	}
}

// callsPerRow reports whether every place where the job's SQL has this word
// stands in an expression of the row, outside of all sub-queries.
func (c *Change) callsPerRow(word string) bool {
	found := false
	for field, f := range c.Fragments() {
		inQuery := inQueries(f.Tokens, field == "from" || field == "with")
		for i, t := range f.Tokens {
			if (t.Kind == sqltext.Ident || t.Kind == sqltext.QuotedIdent) && strings.EqualFold(t.Name(), word) {
				if inQuery[i] {
					return false
				}
				found = true
			}
		}
	}
	return found
}

// inQueries tells of each token whether it stands within a query; begun is true if all of them do.
func inQueries(tokens []sqltext.Token, begun bool) []bool {
	out, deep := make([]bool, len(tokens)), []bool{begun}
	for i, t := range tokens {
		switch {
		case t.Punct("("):
			next := i+1 < len(tokens) && slices.ContainsFunc([]string{"SELECT", "WITH", "VALUES", "TABLE"}, tokens[i+1].Is)
			deep = append(deep, deep[len(deep)-1] || next)
		case t.Punct(")") && len(deep) > 1:
			deep = deep[:len(deep)-1]
		}
		out[i] = deep[len(deep)-1]
	}
	return out
}

// Instead is the change with other rows in the place of its target's: source is
// a sub-query with the same columns. It is for asking the server what else the
// change reads, and no more.
func (c *Change) Instead(source string) *Change {
	out := *c
	table := *c.Table
	table.Schema, table.Alone = "", false
	out.Table, out.instead = &table, source
	return &out
}

// TableRefs lists the tables and views that SQL text names where a table can
// stand: after FROM and JOIN, and after the commas there. begun is true if it
// begins as a list of tables. A function with FROM among its arguments, such as
// TRIM, can give one too many, never one too few.
func TableRefs(tokens []sqltext.Token, begun bool) []sqltext.Name {
	type level struct{ tables, want bool } // in a list of tables; a table comes next
	stack := []level{{begun, begun}}
	var out []sqltext.Name
	for i := 0; i < len(tokens); i++ {
		t, top := tokens[i], &stack[len(stack)-1]
		switch {
		case t.Punct("("):
			stack = append(stack, level{top.want, top.want})
			top.want = false
		case t.Punct(")"):
			if len(stack) > 1 {
				stack = stack[:len(stack)-1]
			}
		case t.Punct(","):
			top.want = top.tables
		case t.Is("FROM"), t.Is("JOIN"), t.Is("STRAIGHT_JOIN"), t.Is("TABLE"):
			*top = level{true, true}
		case t.Is("SELECT"), t.Is("WHERE"), t.Is("GROUP"), t.Is("ORDER"), t.Is("HAVING"), t.Is("LIMIT"), t.Is("SET"), t.Is("UNION"), t.Is("EXCEPT"), t.Is("INTERSECT"), t.Is("WINDOW"), t.Is("ON"), t.Is("USING"):
			tables := top.tables && (t.Is("ON") || t.Is("USING")) // a comma after these goes on with the list
			*top = level{tables, false}
		case top.want && (t.Is("ONLY") || t.Is("LATERAL")):
		case top.want && (t.Kind == sqltext.Ident || t.Kind == sqltext.QuotedIdent):
			n := sqltext.Name{Table: t}
			if i+2 < len(tokens) && tokens[i+1].Punct(".") {
				n = sqltext.Name{Schema: t, Table: tokens[i+2], Qualified: true}
				i += 2
			}
			out = append(out, n)
			top.want = false
		}
	}
	return out
}

// TableRefs lists the tables and views that the job's SQL names besides the target.
func (c *Change) TableRefs() []sqltext.Name {
	var out []sqltext.Name
	for field, f := range c.Fragments() {
		tokens := f.Tokens
		if c.joined && field == "from" { // the target itself stands in it
			at, n := c.targetAt, 1
			if at+2 < len(tokens) && tokens[at+1].Punct(".") {
				n = 3
			}
			tokens = append(append(append([]sqltext.Token(nil), tokens[:at]...), sqltext.Token{Kind: sqltext.Ident, Text: "jugatum_target"}), tokens[at+n:]...)
		}
		out = append(out, TableRefs(tokens, field == "from")...)
	}
	return out
}

// ReadsOthers reports whether rows of other tables decide which rows change, or to
// what: then a row that nobody has written may match now and not have matched before.
// A table of ours that was made of them stays as it is.
func (c *Change) ReadsOthers() bool {
	return !c.From.Empty() && !c.ReadsOurs() || len(c.Reads.Tables) > 0 || len(c.Reads.Opaque) > 0
}

// AnswersAgain reports whether the filter and the new values of a row that nobody
// has changed are after the change what they were before it. They are not where
// the change reads its own target, as one statement may, where triggers have a
// say, or where what it asks answers otherwise by itself.
func (c *Change) AnswersAgain() bool {
	return c.Rewrite == nil && c.First == nil && !c.Interferes() && !c.Reads.Target && len(c.Reads.Volatile) == 0 && !c.Reads.Clock
}
