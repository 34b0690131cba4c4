package change

import (
	"time"

	"jugatum/internal/sqltext"
)

// Dialect is the SQL of one kind of server. Whatever differs between servers in the text of
// a statement is asked of it, so that nothing else asks which dialect it is. Expressions
// are given and come back as SQL text.
type Dialect interface {
	sqltext.Dialect
	Forms() *Forms

	// Values that are bound.

	// Bind is a value of a job.
	Bind(v Value) Bound
	// BindKey is a value of a key, as KeyValue holds it, of a column.
	BindKey(v any, c *Column) Bound
	// KeyIs appends the condition that a column of a key, written as value, is v, or lies before or
	// behind it: op is =, <, <=, > or >=. Most do what change.KeyIs does.
	KeyIs(q *Query, c *Column, value, op string, v any) *Query
	// BindTo is a value of a job that is assigned to a column.
	BindTo(v Value, c *Column) Bound
	// BindAs is a value of ours; typ is what a server is told that wants to know its type.
	BindAs(v any, typ string) Bound

	// Expressions.

	// Assign is what stands before and after an expression whose type the server could not
	// tell, so that it can be assigned to a column.
	Assign(c *Column) (before, after string)
	// Unchanged is the condition that two values of a column are the same to the byte; NULL
	// is the same as NULL.
	Unchanged(c *Column, a, b string) string
	// Differs is the condition that a new value, of whatever type, would change the column's
	// stored value b. It is first brought to the column's type, in a way that does not cut
	// it short.
	Differs(c *Column, a, b string) string
	// Fits is the condition that a new value goes into a column without an error, "" where
	// nothing can be said or nothing can fail.
	Fits(c *Column, value string) string
	// Number is a new value of a column as a type that can be added up.
	Number(c *Column, value string) string
	// Text is a value as text for reading, bytes in hexadecimal; of a column, nil if of none.
	Text(c *Column, value string) string
	// KeyOut is a column of a key as KeyValue holds it, whatever the session's settings.
	KeyOut(c *Column, value string) string
	// Characters is the length of a text in characters.
	Characters(text string) string
	// Size is how many bytes a stored value takes.
	Size(value string) string
	// MayBeLarge reports whether a column can hold values of some hundred kilobytes.
	MayBeLarge(c *Column) bool
	// JSONText is a text as a JSON string.
	JSONText(text string) string
	// Concat is texts, one after the other.
	Concat(texts ...string) string
	// Teller recognises at i what tells the time, and gives what stands for the time at and
	// how many tokens it takes the place of; 0 if it is something else.
	Teller(ts []sqltext.Token, i int, at time.Time) (text string, tokens int)

	// Texts that are looked for, and replaced.

	// AsText is a column's value as text, NULL where there is none.
	AsText(c *Column, value string) string
	// AsHex is a column's bytes in hexadecimal, NULL where there are none.
	AsHex(value string) string
	// Contains is the condition that a value contains a text, which is bound once; fold takes
	// ASCII letters of either case for the same, and perhaps more.
	Contains(q *Query, c *Column, value, text string, fold bool)
	// MayHold is a condition that is true if a column's bytes contain a text of ASCII letters
	// and digits, in whichever case, and perhaps otherwise.
	MayHold(q *Query, value, text string)
	// Replaced is a column's text with another text in the place of one; a value that is no
	// text stays as it is.
	Replaced(c *Column, value, text, with string) string

	// Referred is what is put behind a value of a column that refers to another, where it is compared with
	// that one and the two have rules of their own, " COLLATE …"; "" where nothing is needed.
	Referred(parent, child *Column) string

	// Spelled is a value as a text that compares by its bytes, and Words the rows of a JSON
	// array of arrays of such texts, each once, as an item of a FROM list without an alias.
	Spelled(value string) string
	Words(json string, columns []string) string

	// Grouped is what a column's values are put into groups by: those that are the same to the byte
	// have the same, no others do. It may be a digest of a long text.
	Grouped(c *Column, value string) string

	// Parts of statements.

	// ForUpdate has a query lock the rows of a table that it calls alias.
	ForUpdate(alias string) string
	// Sample is what follows a table of which a query reads about so many percent; "" where
	// there is no such thing.
	Sample(percent float64) string
	// Settings stands before one query: dates has it read dates as they are, also those that
	// are none.
	Settings(dates bool) string
	// Settled is the condition, " AND …", that nobody has written the kept row since the
	// statement's transaction began; "" where nobody can.
	Settled(alias string) string

	// Tables.

	// Types are the types of the columns of our own tables.
	Types() Types
	// Temporary is a table that lasts as long as its session, and the statement that makes
	// one up to its name; "" where it is called as any other.
	Temporary(name string) (table, create string)
	// Emptied is the statement that empties a table of our own.
	Emptied(table string) string
	// AddColumn are the statements that give one of our tables a column which holds, where
	// there are rows, what begins says; RenameColumn that which gives a column another name.
	AddColumn(table, column, typ, begins string) []string
	RenameColumn(table, column, name, typ string) string
	// DeclareKey says how a table without a key would be given one.
	DeclareKey(t *Table) string
	// DeclareNotNull and DeclareReference say how a column would be declared to hold a value
	// in every row, and to refer to a column of another table.
	DeclareNotNull(t *Table, c *Column) string
	DeclareReference(t *Table, c *Column, to *Table, column *Column) string
	// Keep are the statements by which a rule is kept for rows to come, with what each of them locks;
	// from says where that is written. None where there is no way.
	Keep(r *Rule) (all []Statement, from string)
	// Literal is a value of a job as SQL text, where nothing can be bound.
	Literal(v Value) string
	// Shaped is the condition that a text is as a transform leaves it, as far as the server can tell;
	// "" where it cannot. Alike is the text without what same does not tell apart.
	Shaped(transform, value string) string
	Alike(same Form, value string) string
	// Analyze is the statement that has the server look at a table for its planner, "" where
	// there is no need.
	Analyze(table string) string
}

// Bound is a value for the driver, and the SQL text around its placeholder.
type Bound struct {
	Arg           any
	Before, After string
}

// Types are types of columns.
type Types struct {
	Int, Real, Text, Time string
	Word                  string // a short text that can be part of a key
	Whole                 string // Int in a CAST
	RowKey, KeyRef        string // a key of one integer, as a table is usually declared with, and what refers to it
	Timestamp             string // without a zone
}

// Forms are the forms of statements that a dialect has, and what a statement does there
// that others do not.
type Forms struct {
	Numbered       bool   // placeholders are $1, $2, …, otherwise ?
	OldVersions    bool   // a row that is written leaves its old version in the table, until that is vacuumed
	RowComparison  bool   // (a, b) > (1, 2) goes through an index
	HashesNotIn    bool   // for NOT IN a list is made of a query once, otherwise for NOT EXISTS
	Materialized   string // what stands between AS and a query of WITH that is to be carried out whole
	IndexesDerived bool   // a join makes an index of a derived table that stays apart, and of nothing else: without one it reads all of a table for each row of the other
	AntiJoins      bool   // a LEFT JOIN makes an index where there is none, NOT EXISTS does not and reads all of the table for each row
	Unmerged       string // at the end of a derived table: keeps the planner from making it part of the query around it
	ReadByExplain  bool   // EXPLAIN has a query read without looking at rows; LIMIT 0 would carry out what it is made of
	Frame          string // of a window over the rows so far: where functions have different ones, the rows are gone through for each
	By             Way    // how other tables are named in a statement that changes one

	Snapshot       bool // a statement sees its tables as they were when it began
	AnyOrder       bool // a query asked twice may give its rows in another order
	LeftToRight    bool // an assignment sees the new values of those before it
	RowByRow       bool // every row is checked against constraints by itself
	NamesOrTexts   bool // a name in double quotes that is none is a text
	Heirs          bool // a statement over a table reaches those that inherit from it
	UntoldTriggers bool // rows that change because a reference is followed fire no triggers
	SparingTrigger bool // a trigger cannot write to the table that it is of
	LooseReference bool // a reference's columns are named without regard to case, and compared by rules of their own

	Mixed Mixed // what becomes of a comparison of a text with a number

	Digits     int  // that a number keeps which is no whole one of 64 bits, whatever its column's type says; 0: as many as the type says
	Seconds    int  // digits after the seconds that a time keeps whose type does not say; -1: all of them
	Collations bool // the catalogue tells by which rules a column's texts are compared
	TextAsBits bool // a text of digits that is assigned to bits is taken for its characters

	StoredKeys    bool // a key's values come as they are stored, otherwise as text
	CountedRanges bool // ranges are counted before a batch: the server does not tell how many rows it has scanned
	CountsUp      bool // a table's key of whole numbers that is left out counts up as rows come, which costs less than a window over them
	ListsPay      bool // a sweep reads a table in another order than a scan: a list of keys is worth it for few rows however they are found
}

// Mixed is how a text and a number are compared.
type Mixed int

const (
	Refuses   Mixed = iota // it is an error
	AsNumbers              // the text is read as a number, as 0 where it is none
	AsTexts                // a number is taken as a text beside a column of texts
)

// Way is how a statement that changes a table goes by the rows of another one.
type Way int

const (
	ByUsing  Way = iota // UPDATE … FROM, DELETE … USING: the planner finds the way
	ByJoin              // the other one stands first in a join, and STRAIGHT_JOIN keeps it there
	BySubset            // DELETE names no other table: its keys are among those of a query, in which CROSS JOIN keeps the order
)
