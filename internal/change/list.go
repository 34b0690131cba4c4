package change

import (
	"slices"
	"strings"

	"jugatum/internal/sqltext"
)

// List is a list of values, line by line, that was read into a table of ours.
type List struct {
	File  string // its name, for messages
	SQL   string // the table, as SQL text
	Lines int64

	// Table has those columns whose values go into the job's table, called as they are there,
	// and its key is what finds a row there. Columns of our own it does not name.
	Table *Table

	Extra []string // columns besides, which the job's own SQL asks for; texts

	Calls string // the table that says what became of lines for which a statement is called, as SQL text; "" of any other list

	// Turn is how many lines with the same key come before each of these: what is carried out in
	// the order of the file has a table for each turn. Later are the lists of the turns after it.
	// Has are the actions that lines of a later turn have of their own.
	Turn  int
	Later []*List
	Has   []string
}

// Columns of ours in the table of a list.
const (
	ListLine    = "jugatum_line"    // the line of the file on which it begins
	ListAction  = "jugatum_action"  // what is to become of it: insert, update, delete or upsert; NULL where the step says so for all
	ListOutcome = "jugatum_outcome" // what became of it; NULL as long as that is open
	ListFound   = "jugatum_found"   // of a later turn: 1 or 0 where the lines before leave a row or none; NULL where they leave it as it is
)

// Layout is the table of a list with all of its columns, as it is made.
func (l *List) Layout(d Dialect) *Table {
	t := &Table{Schema: l.Table.Schema, Name: l.Table.Name, Strict: l.Table.Strict}
	types := d.Types()
	if l.Calls != "" {
		t.Key, t.Columns = l.Table.Key, slices.Clone(l.Table.Columns)
		return l.extra(t, types)
	}
	line := &Column{Name: ListLine, Type: types.Int, NotNull: true}
	// In the order of what its rows are found by; several lines may have the same key, of which
	// the table is asked when all are there.
	t.Key = &Key{Name: "primary key", Columns: append(slices.Clone(l.Table.Key.Columns), line)}
	t.Columns = append(t.Columns, line, &Column{Name: ListAction, Type: types.Word}, &Column{Name: ListOutcome, Type: types.Word})
	if l.Turn > 0 {
		t.Columns = append(t.Columns, &Column{Name: ListFound, Type: types.Int})
	}
	t.Columns = append(t.Columns, l.Table.Columns...)
	return l.extra(t, types)
}

// extra adds the columns of texts.
func (l *List) extra(t *Table, types Types) *Table {
	for _, name := range l.Extra {
		t.Columns = append(t.Columns, &Column{Name: name, Type: types.Text})
	}
	return t
}

// NewList describes the list for a table: key are the columns by which its rows are found,
// others those that get values besides.
func NewList(file string, at TableName, target *Table, key, others []*Column, extra []string) *List {
	t := &Table{Schema: at.Schema, Name: at.Name, Shown: file, Strict: target.Strict, Bytes: -1, Key: &Key{Name: "key of the list", Integer: len(key) == 1 && slices.Equal(key, target.keyColumns()) && target.Key.Integer}}
	for i, c := range slices.Concat(key, others) {
		x := *c
		x.Identity, x.Generated, x.OnUpdate, x.Default, x.NotNull = false, false, "", "", i < len(key)
		t.Columns = append(t.Columns, &x)
	}
	t.Key.Columns = t.Columns[:len(key):len(key)]
	return &List{File: file, Table: t, Extra: extra}
}

func (t *Table) keyColumns() []*Column {
	if t.Key == nil {
		return nil
	}
	return t.Key.Columns
}

// Lines are those lines of a list that a change carries out.
type Lines struct {
	*List
	Actions []string // those with one of these; nil: all of them
	All     string   // the action of every line; "" where they have their own

	// Missed says what is told of lines that no other change of the step carries out where
	// this one finds a row that must not be there, or none: NoSuchKey or KeyExists; "" where
	// there are none of these. Alone are the actions of those lines; nil: all.
	Missed Outcome
	Alone  []string
	Fail   bool // there must be none
}

// Outcome is what became of a line of a list.
type Outcome string

const (
	Inserted  Outcome = "inserted"
	Changed   Outcome = "changed"
	Deleted   Outcome = "deleted"
	Unchanged Outcome = "unchanged"   // the row has these values already
	NoSuchKey Outcome = "no such key" // there is no row to change or delete
	KeyExists Outcome = "key exists"  // there is a row where one was to be inserted
	Refused   Outcome = "refused"     // by the database, and set aside
)

// Outcomes lists them in the order in which they are told.
var Outcomes = []Outcome{Called, Inserted, Changed, Deleted, Unchanged, NoSuchKey, KeyExists, Refused}

// acting appends that a line has one of these actions.
func (q *Query) acting(alias string, actions []string) *Query {
	if actions == nil {
		return q
	}
	q.Add(" AND ", alias, ".", ListAction, " IN (")
	for i, a := range actions {
		q.sep(i).Add("'", a, "'") // one of four words of ours
	}
	return q.Add(")")
}

// Target is the job's table, whichever side of a copy that is.
func (c *Change) Target() *Table {
	if c.Into != nil {
		return c.Into.Table
	}
	return c.Table
}

// Walked is the table whose keys a step's batches are stretches of: that of its list where the lines
// find their rows by the very key, so that rows of which there is no line are not scanned.
func (c *Change) Walked() *Table {
	l := c.Lines
	if l == nil || c.Call != nil || c.Table.Large || c.Verb == sqltext.Insert || c.Table.Key == nil || !slices.Equal(l.Table.Key.Names(), c.Table.Key.Names()) {
		return c.Table
	}
	if !c.D.Forms().Collations && slices.ContainsFunc(l.Table.Key.Columns, func(k *Column) bool { return k.Class != Number }) {
		return c.Table // by other rules, perhaps, than those by which the table compares them
	}
	return l.Table
}

// lineRange is the key of the list where a stretch of the table's key is one of the list's as well:
// planners do not tell so themselves of what is joined to it.
func (c *Change) lineRange() *Key {
	if c.Lookup == nil || c.Walked() == c.Table {
		return nil
	}
	return c.Lines.Table.Key
}

// RangedTwice reports whether a stretch is one of the list as well as one of the table.
func (c *Change) RangedTwice() bool { return c.lineRange() != nil }

// there appends that there is a row with the key of a line.
func (q *Query) there(c *Change, alias string) *Query {
	q.Add("EXISTS (SELECT 1 FROM ", c.Target().SQL(c.D), " AS jugatum_i WHERE ")
	return q.lineKey(c, "jugatum_i", alias).Add(")")
}

// lineKey appends that a row of the job's table has the key of a line.
func (q *Query) lineKey(c *Change, row, line string) *Query {
	return q.sameKey(c.Lines.List, row, line)
}

// MissedLines is the query, from FROM on, for the lines that a change would not carry out, nor
// any other of the step; nil if there are none of these.
func MissedLines(c *Change) *Query {
	l := c.Lines
	if l == nil || l.Missed == "" {
		return nil
	}
	q := &Query{D: c.D}
	q.Add(" FROM ", l.SQL, " AS line WHERE ")
	if l.Missed == NoSuchKey {
		q.Add("NOT ")
	}
	return q.found(c, "line").acting("line", l.Alone)
}

// MarkInserted is the statement that says of those lines of a stretch that are to make a row, or
// to change it if there is one, that they make it; nil if there are none of these. It comes before
// the rows are made, in the same transaction: should another session make one in between, the
// key refuses it, and all of the batch is tried again. So a line whose row was not there is told
// from one whose row another session has made since, which is to be changed.
func MarkInserted(c *Change, r Range) *Query {
	l := c.Lines
	if l == nil || c.Verb != sqltext.Insert || l.All != "upsert" && !slices.Contains(l.Actions, "upsert") {
		return nil
	}
	q := &Query{D: c.D}
	q.Add("UPDATE ", l.SQL, " AS l SET ", c.D.Quote(ListOutcome), " = '", string(Inserted), "' WHERE l.", c.D.Quote(ListOutcome), " IS NULL").Range("l", l.Table.Key, r)
	if l.All == "" {
		q.acting("l", []string{"upsert"})
	}
	return q.Add(" AND NOT ").there(c, "l")
}

// Settles is the outcome of lines of which rows are kept.
func (c *Change) Settles() Outcome {
	switch c.Verb {
	case sqltext.Insert:
		return Inserted
	case sqltext.Delete:
		return Deleted
	}
	return Changed
}

// KeptLines is the query for how many lines there are of which rows are kept, and nothing else is
// recorded, by their action.
func KeptLines(c *Change, kept *Kept) *Query {
	q := &Query{D: c.D}
	q.Add(c.D.Settings(kept.Packed != ""), "SELECT coalesce(l.", c.D.Quote(ListAction), ", ''), count(*) FROM ", kept.Table, " AS k")
	q.keptLine(c, kept, " JOIN ", "k", "t", c.Lines.SQL+" AS l")
	q.Add(" WHERE l.", c.D.Quote(ListOutcome), " IS NULL").acting("l", c.Lines.Actions)
	return q.Add(" GROUP BY 1")
}

// keptLine appends the joins by which a kept row finds its line, or a line its kept row: of
// line, as an item of a FROM list, or of the kept rows where that is empty. It goes by the row
// itself, called t, where the key of the list is not among what is kept.
func (q *Query) keptLine(c *Change, kept *Kept, join, k, t, line string) *Query {
	after := kept.AfterRun(c)
	named := func(col *Column) string {
		for _, x := range slices.Concat(after.Keys, kept.Old) {
			if x.Of.Name == col.Name {
				return k + "." + q.D.Quote(x.Name)
			}
		}
		return ""
	}
	direct := &Query{D: q.D}
	for i, col := range c.Lines.Table.Key.Columns {
		if named(col) == "" {
			direct = nil
			break
		}
		if i > 0 {
			direct.Add(" AND ")
		}
		direct.Add("l.", q.D.Quote(col.Name), " ", col.Op("="), " ", named(col))
	}
	rows := func(q *Query) *Query {
		return q.Add(join).apart(kept, slices.Concat(after.Keys, kept.Keys, kept.Old), 0, 0).Add(" AS ", k, " ON ")
	}
	row := func(q *Query) *Query { return q.Add(join, c.Table.SQL(q.D), " AS ", t, " ON ") }
	switch {
	case direct != nil && line != "":
		return q.Add(join, line, " ON ", direct.String())
	case direct != nil:
		return rows(q).Add(direct.String())
	case line != "":
		return row(q).KeyJoin(t, k, after).Add(join, line, " ON ").lineKey(c, t, "l")
	}
	return rows(row(q).lineKey(c, t, "l")).KeyJoin(t, k, after)
}

// SettleRow is the statement that says of the line of one row what became of it.
func SettleRow(c *Change, key KeyValue, outcome Outcome) *Query {
	q := &Query{D: c.D}
	l := c.Lines
	q.Add("UPDATE ", l.SQL, " AS l SET ", q.D.Quote(ListOutcome), " = '", string(outcome), "' WHERE l.", q.D.Quote(ListOutcome), " IS NULL").acting("l", l.Actions)
	if c.Table == l.Table { // the rows are the lines themselves
		return q.at("l", l.Table.Key, key)
	}
	q.Add(" AND EXISTS (SELECT 1 FROM ", c.Table.SQL(q.D), " AS jugatum_t WHERE ").lineKey(c, "jugatum_t", "l")
	return q.at("jugatum_t", c.Table.Key, key).Add(")")
}

// Unsettle is the statement that leaves open again what became of lines with an outcome.
func Unsettle(c *Change, outcome Outcome) *Query {
	q := &Query{D: c.D}
	l, name := c.Lines, q.D.Quote(ListOutcome)
	return q.Add("UPDATE ", l.SQL, " AS l SET ", name, " = NULL WHERE l.", name, " = '", string(outcome), "'").acting("l", l.Actions)
}

// SettleMissed is the statement that says of those lines of a stretch of the list for which no
// row is found, nor made by another change, that there is none.
func SettleMissed(c *Change, r Range) *Query {
	q := &Query{D: c.D}
	l := c.Lines
	q.Add("UPDATE ", l.SQL, " AS l SET ", q.D.Quote(ListOutcome), " = '", string(NoSuchKey), "' WHERE l.", q.D.Quote(ListOutcome), " IS NULL").Range("l", l.Table.Key, r)
	return q.acting("l", l.Alone).Add(" AND NOT ").there(c, "l")
}

// Otherwise is what became of a line that has changed nothing, and of which nothing else is
// recorded, by its action.
func Otherwise(action string) Outcome {
	switch action {
	case "insert":
		return KeyExists
	case "delete":
		return NoSuchKey
	}
	return Unchanged
}

// Settled is a change that has carried out lines, with what it kept.
type Settled struct {
	Change *Change
	Kept   *Kept // nil without kept values
}

// Carried is a list, or one turn of it, with the changes that carry it out.
type Carried struct {
	*Lines
	By   []Settled
	Done bool // all of them have come to their ends
}

// LinesShown is the query for the lines of a list, which may have several turns, in the order
// of the file, all as text: the line, its action and what became of it; the values that it has
// for the columns of the list; and for each of these the value that the row had before, as far
// as that was kept.
func LinesShown(d Dialect, turns []Carried) *Query {
	all, packed := &Query{D: d}, false
	for i, x := range turns {
		if i > 0 {
			all.Add(" UNION ALL ")
		}
		q := x.shown(d, &packed)
		all.Add(q.String())
	}
	q := &Query{D: d}
	return q.Add(d.Settings(packed), all.String(), " ORDER BY 1")
}

// shown is the query for the lines of one turn, in no order.
func (x Carried) shown(d Dialect, packed *bool) *Query {
	q := &Query{D: d}
	l, done := x.List, x.Done
	action, outcome := "l."+d.Quote(ListAction), "l."+d.Quote(ListOutcome)
	became := "CASE"                                 // what was kept tells more than whether there was a row when the step had ended
	before := make([][]string, len(l.Table.Columns)) // old values of each column
	joins := &Query{D: d}
	for i, s := range x.By {
		if s.Kept == nil {
			done = false
			continue
		}
		k := "k" + itoa(i)
		*packed = *packed || s.Kept.Packed != ""
		joins.keptLine(s.Change, s.Kept, " LEFT JOIN ", k, "t"+itoa(i), "")
		became += " WHEN " + k + ".seq IS NOT NULL THEN '" + string(s.Change.Settles()) + "'"
		if s.Change.Verb == sqltext.Insert { // there was no row before
			continue
		}
		for n, c := range l.Table.Columns {
			for _, o := range slices.Concat(s.Kept.Keys, s.Kept.Old) {
				if o.Of.Name == c.Name {
					before[n] = append(before[n], d.Text(o.Of, k+"."+d.Quote(o.Name)))
					break
				}
			}
		}
	}
	became += " WHEN " + outcome + " IS NOT NULL THEN " + outcome
	if done {
		if x.All != "" {
			became += " ELSE '" + string(Otherwise(x.All)) + "'"
		} else {
			became += " WHEN " + action + " = 'insert' THEN '" + string(Otherwise("insert")) + "' WHEN " + action + " = 'delete' THEN '" + string(Otherwise("delete")) + "' ELSE '" + string(Unchanged) + "'"
		}
	}
	q.Add("SELECT l.", d.Quote(ListLine), ", ", action, ", ", became, " END")
	for _, c := range l.Table.Columns {
		q.Add(", ", d.Text(c, "l."+d.Quote(c.Name)))
	}
	for _, olds := range before {
		switch len(olds) {
		case 0:
			q.Add(", NULL")
		case 1:
			q.Add(", ", olds[0])
		default:
			q.Add(", coalesce(", strings.Join(olds, ", "), ")")
		}
	}
	return q.Add(" FROM ", l.SQL, " AS l", joins.String())
}
