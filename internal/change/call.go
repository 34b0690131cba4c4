package change

import (
	"fmt"
	"slices"

	"jugatum/internal/sqltext"
)

// Call is a statement that is carried out for each line of a list, with the values of the line
// in the place of its parameters. What it does is the server's to know: nothing is kept.
type Call struct {
	Statement *sqltext.Call
	Types     map[string]ValueType // of parameters that are declared; the server takes others for what it expects there, or for texts
	Columns   []string             // of the list, which are parameters

	// Of what the server says of the statement.
	Routine string         // what is called, with its arguments; "" where there is nothing to tell
	Owner   string         // whose it is, where that is another user, and it has the rights of this one
	Commits string         // why it may end the transaction that it is called in; "" if it does not
	Out     map[int]string // places of arguments in which a server gives values back through a variable, and their names
}

// Called is the outcome of a line whose statement was carried out, Begun of one of which that is
// not known: it may have ended the transaction that it was called in, and the run was cut off.
const (
	Called Outcome = "called"
	Begun  Outcome = "begun"
)

// Columns of the table that says what became of lines.
const (
	CallLine     = "line"
	CallOutcome  = "outcome"
	CallAffected = "affected" // rows, where the server tells how many
	CallReturned = "returned" // the first row that came back, as a JSON object
	CallError    = "error"
)

// CallColumns lists them.
var CallColumns = []string{CallLine, CallOutcome, CallAffected, CallReturned, CallError}

// CallsTable is the table that says what became of lines.
func CallsTable(d Dialect, name TableName) *Table {
	types := d.Types()
	t := &Table{Schema: name.Schema, Name: name.Name}
	for i, typ := range []string{types.Int, types.Word, types.Int, types.Text, types.Text} {
		t.Columns = append(t.Columns, &Column{Name: CallColumns[i], Type: typ, NotNull: i < 2})
	}
	t.Key = &Key{Name: "primary key", Columns: t.Columns[:1]}
	return t
}

// NewCallList describes a list whose columns are the parameters of a statement, as texts. Its
// rows are told by the line of the file.
func NewCallList(d Dialect, file string, at TableName, columns []string) *List {
	types := d.Types()
	line := &Column{Name: ListLine, Type: types.Int, Base: types.Int, Class: Number, NotNull: true}
	t := &Table{Schema: at.Schema, Name: at.Name, Shown: file, Bytes: -1, Columns: []*Column{line}, Key: &Key{Name: "primary key", Columns: []*Column{line}, Integer: true}}
	return &List{File: file, Table: t, Extra: columns}
}

// call makes the change of a statement that is called.
func (b *builder) call() error {
	c := b.c
	c.Call, c.Verb, c.Table = b.spec.Call, sqltext.Calling, c.Lines.Table
	c.Ref = c.D.Quote(c.Table.Name)
	for _, name := range c.Call.Statement.Params() {
		if _, ok := c.Params[name]; !ok && !slices.Contains(c.Call.Columns, name) {
			return b.failf("call", "parameter :%s is no column of %s and no parameter of the job", name, c.Lines.File)
		}
	}
	return nil
}

// CallQuery is the statement with values in the place of its parameters: those of a line, in the
// order of the list's columns, and the job's own.
func (c *Call) CallQuery(d Dialect, line []*string, params map[string]Value) *Query {
	q := &Query{D: d}
	arg, depth := -1, 0
	for i, t := range c.Statement.Tokens {
		if i > 0 && t.Space {
			q.Add(" ")
		}
		switch {
		case t.Punct("("):
			if depth++; depth == 1 {
				arg = 0
			}
		case t.Punct(")"):
			depth--
		case t.Punct(",") && depth == 1:
			arg++
		case depth == 1 && c.Out[arg] != "" && t.Is("NULL"):
			q.Add(OutVariable(arg))
			continue
		}
		if t.Kind != sqltext.Param {
			q.Add(t.Text)
			continue
		}
		name := t.Name()
		at := slices.Index(c.Columns, name)
		switch {
		case at < 0:
			q.Bound(d.Bind(params[name]))
		case line[at] == nil && c.Types[name] != "":
			q.Bound(d.Bind(Value{Type: c.Types[name], Null: true}))
		case line[at] == nil:
			q.Bound(d.BindAs(nil, ""))
		case c.Types[name] != "":
			q.Bound(d.Bind(Value{Type: c.Types[name], Text: *line[at]}))
		default:
			q.Bound(d.BindAs(*line[at], ""))
		}
	}
	return q
}

// OutVariable is the session's variable in the place of an argument that gives a value back.
func OutVariable(arg int) string { return fmt.Sprintf("@jugatum_%d", arg+1) }

// CallLines is the query for the lines of a stretch in their order: the line, what has become of
// it, and why, as far as that was settled, and its values.
func CallLines(c *Change, r Range) *Query {
	q := &Query{D: c.D}
	q.Add("SELECT l.", c.D.Quote(ListLine), ", c.", CallOutcome, ", c.", CallError)
	for _, name := range c.Call.Columns {
		q.Add(", l.", c.D.Quote(name))
	}
	q.Add(" FROM ", c.Lines.SQL, " AS l LEFT JOIN ", c.Lines.Calls, " AS c ON c.", CallLine, " = l.", c.D.Quote(ListLine), " WHERE 1 = 1")
	return q.Range("l", c.Table.Key, r).Add(" ORDER BY l.", c.D.Quote(ListLine))
}

// CallsShown is the query for the lines of a list with what became of each, in the order of
// the file: the line, the outcome, rows affected, what came back and the error, then its values.
func CallsShown(d Dialect, l *List) *Query {
	q := &Query{D: d}
	line := "l." + d.Quote(ListLine)
	q.Add("SELECT ", line, ", c.", CallOutcome, ", c.", CallAffected, ", c.", CallReturned, ", c.", CallError)
	for _, name := range l.Extra {
		q.Add(", l.", d.Quote(name))
	}
	return q.Add(" FROM ", l.SQL, " AS l LEFT JOIN ", l.Calls, " AS c ON c.", CallLine, " = ", line, " ORDER BY ", line)
}
