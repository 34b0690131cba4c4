package change

import "slices"

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
