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
}

// Columns of ours in the table of a list.
const (
	ListLine    = "jugatum_line"    // the line of the file on which it begins
	ListAction  = "jugatum_action"  // what is to become of it: insert, update, delete or upsert; NULL where the step says so for all
	ListOutcome = "jugatum_outcome" // what became of it; NULL as long as that is open
)

// Layout is the table of a list with all of its columns, as it is made.
func (l *List) Layout(d Dialect) *Table {
	t := &Table{Schema: l.Table.Schema, Name: l.Table.Name, Strict: l.Table.Strict}
	types := d.Types()
	line := &Column{Name: ListLine, Type: types.Int, NotNull: true}
	// In the order of what its rows are found by; several lines may have the same key, of which
	// the table is asked when all are there.
	t.Key = &Key{Name: "primary key", Columns: append(slices.Clone(l.Table.Key.Columns), line)}
	t.Columns = append(t.Columns, line, &Column{Name: ListAction, Type: types.Word}, &Column{Name: ListOutcome, Type: types.Word})
	t.Columns = append(t.Columns, l.Table.Columns...)
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
var Outcomes = []Outcome{Inserted, Changed, Deleted, Unchanged, NoSuchKey, KeyExists, Refused}

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

// target is the job's table, whichever side of a copy that is.
func (c *Change) target() *Table {
	if c.Into != nil {
		return c.Into.Table
	}
	return c.Table
}

// there appends that there is a row with the key of a line.
func (q *Query) there(c *Change, alias string) *Query {
	q.Add("EXISTS (SELECT 1 FROM ", c.target().SQL(c.D), " AS jugatum_i WHERE ")
	return q.lineKey(c, "jugatum_i", alias).Add(")")
}

// lineKey appends that a row of the job's table has the key of a line.
func (q *Query) lineKey(c *Change, row, line string) *Query {
	for i, k := range c.Lines.Table.Key.Columns {
		if i > 0 {
			q.Add(" AND ")
		}
		q.Add(row, ".", q.D.Quote(k.Name), " ", k.Op("="), " ", line, ".", q.D.Quote(k.Name))
	}
	return q
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
	return q.there(c, "line").acting("line", l.Alone)
}

// does is the outcome of lines of which rows are kept.
func (c *Change) does() Outcome {
	switch c.Verb {
	case sqltext.Insert:
		return Inserted
	case sqltext.Delete:
		return Deleted
	}
	return Changed
}

// SettleKept is the statement that says of lines what became of them by the kept rows after
// from, up to to.
func SettleKept(c *Change, kept *Kept, from, to int64) *Query {
	q := &Query{D: c.D}
	l := c.Lines
	table, outcome := l.SQL, q.D.Quote(ListOutcome)
	named := func(col *Column) string { // in the kept row; "" if it is not there
		for _, x := range slices.Concat(kept.AfterRun(c).Keys, kept.Old) {
			if x.Of.Name == col.Name {
				return "k." + q.D.Quote(x.Name)
			}
		}
		return ""
	}
	known := !slices.ContainsFunc(l.Table.Key.Columns, func(col *Column) bool { return named(col) == "" })
	join := func() *Query {
		if !known { // by the row itself
			return q.lineKey(c, "jugatum_t", "l")
		}
		for i, col := range l.Table.Key.Columns {
			if i > 0 {
				q.Add(" AND ")
			}
			q.Add("l.", q.D.Quote(col.Name), " ", col.Op("="), " ", named(col))
		}
		return q
	}
	var through func()
	if !known {
		through = func() { q.KeyJoin("jugatum_t", "k", kept.AfterRun(c)) }
	}
	word := "'" + string(c.does()) + "'"
	if q.D.Forms().By == ByJoin {
		q.Add("UPDATE ", kept.Table, " AS k ")
		if !known {
			q.Add("STRAIGHT_JOIN ", c.Table.SQL(q.D), " AS jugatum_t ON ")
			through()
			q.Add(" ")
		}
		q.Add("STRAIGHT_JOIN ", table, " AS l ON ")
		join().Add(" SET l.", outcome, " = ", word, " WHERE ").seq(kept, from, to)
		return q.Add(" AND l.", outcome, " IS NULL").acting("l", l.Actions)
	}
	q.Add("UPDATE ", table, " AS l SET ", outcome, " = ", word, " FROM ", kept.Table, " AS k")
	if !known {
		q.Add(", ", c.Table.SQL(q.D), " AS jugatum_t")
	}
	q.Add(" WHERE ").seq(kept, from, to).Add(" AND ")
	if !known {
		through()
		q.Add(" AND ")
	}
	join()
	return q.Add(" AND l.", outcome, " IS NULL").acting("l", l.Actions)
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

// SettleRest is the statement that says what became of those lines of a stretch of the list of
// which nothing is known so far: there is a row or not, which they have not changed.
func SettleRest(c *Change, outcome Outcome, r Range) *Query {
	q := &Query{D: c.D}
	l := c.Lines
	q.Add("UPDATE ", l.SQL, " AS l SET ", q.D.Quote(ListOutcome), " = '", string(outcome), "' WHERE l.", q.D.Quote(ListOutcome), " IS NULL").Range("l", l.Table.Key, r)
	actions := l.Actions
	if outcome == l.Missed {
		actions = l.Alone
	}
	q.acting("l", actions).Add(" AND ")
	if outcome == NoSuchKey {
		q.Add("NOT ")
	}
	return q.there(c, "l")
}

// Rest lists the outcomes of lines that have changed nothing, in the order in which they are
// settled.
func (c *Change) Rest() (out []Outcome) {
	if c.Verb == sqltext.Update {
		out = append(out, Unchanged)
	}
	if c.Lines.Missed != "" {
		out = append(out, c.Lines.Missed)
	}
	return out
}

// Settled is a change that has carried out lines, with what it kept.
type Settled struct {
	Change *Change
	Kept   *Kept // nil without kept values
}

// LinesShown is the query for the lines of a list in the order of the file, all as text: the
// line, its action and what became of it; the values that it has for the columns of the list;
// and for each of these the value that the row had before, as far as that was kept.
func LinesShown(d Dialect, l *List, by []Settled) *Query {
	q := &Query{D: d}
	text := func(alias string, c *Column) string { return d.Text(c, alias+"."+d.Quote(c.Name)) }
	packed := false
	var before [][]string // for each of the changes, each column's old value
	from := ""
	for i, s := range by {
		if s.Kept == nil || s.Change.Verb == sqltext.Insert {
			continue
		}
		packed = packed || s.Kept.Packed != ""
		k, t := "k"+itoa(i), "t"+itoa(i)
		join := &Query{D: d}
		own := slices.Equal(s.Change.Table.Key.Names(), l.Table.Key.Names())
		if !own { // by the row, which is gone if it was deleted: then by what was kept
			named := ""
			for n, col := range l.Table.Key.Columns {
				for _, o := range s.Kept.Old {
					if o.Of.Name == col.Name && s.Change.Verb == sqltext.Delete {
						if n > 0 {
							named += " AND "
						}
						named += "l." + d.Quote(col.Name) + " " + col.Op("=") + " " + k + "." + d.Quote(o.Name)
					}
				}
			}
			if named != "" {
				join.Add(" LEFT JOIN ", s.Kept.Table, " AS ", k, " ON ", named)
			} else {
				join.Add(" LEFT JOIN ", s.Change.Table.SQL(d), " AS ", t, " ON ").lineKey(s.Change, t, "l")
				join.Add(" LEFT JOIN ", s.Kept.Table, " AS ", k, " ON ").KeyJoin(t, k, s.Kept.AfterRun(s.Change))
			}
		} else {
			join.Add(" LEFT JOIN ", s.Kept.Table, " AS ", k, " ON ").KeyJoin("l", k, s.Kept)
		}
		from += join.String()
		var olds []string
		for _, c := range l.Table.Columns {
			old := ""
			for _, o := range slices.Concat(s.Kept.Keys, s.Kept.Old) {
				if o.Of.Name == c.Name {
					old = d.Text(o.Of, k+"."+d.Quote(o.Name))
				}
			}
			olds = append(olds, old)
		}
		before = append(before, olds)
	}
	q.Add(d.Settings(packed, packed), "SELECT l.", d.Quote(ListLine), ", l.", d.Quote(ListAction), ", l.", d.Quote(ListOutcome))
	for _, c := range l.Table.Columns {
		q.Add(", ", text("l", c))
	}
	for n := range l.Table.Columns {
		var olds []string
		for _, b := range before {
			if b[n] != "" {
				olds = append(olds, b[n])
			}
		}
		switch len(olds) {
		case 0:
			q.Add(", NULL")
		case 1:
			q.Add(", ", olds[0])
		default:
			q.Add(", coalesce(", strings.Join(olds, ", "), ")")
		}
	}
	return q.Add(" FROM ", l.SQL, " AS l", from, " ORDER BY l.", d.Quote(ListLine))
}
