// Package change holds the one form that every kind of step takes: a target
// table with its key, source rows, named in-between values, and assignments or
// a delete. Preview, batches, hazards, kept values and undo work from it alone.
package change

import (
	"cmp"
	"strings"

	"jugatum/internal/sqltext"
)

// Class groups column types by what can be asked of their values.
type Class int

const (
	Other  Class = iota
	Number       // minimum, maximum and sum mean something
	Text         // length in characters means something
)

// Column is one column of a table as the catalogue describes it.
type Column struct {
	Name      string
	Type      string // as declared, with length or precision
	Base      string // type to cast a new value to: rounds as storing does, but never cuts short ("" on SQLite)
	Class     Class
	Same      Sameness
	NotNull   bool
	Generated bool     // computed by the database, never assigned
	From      []string // the columns that it is computed from, where a key can be so
	Identity  bool     // generated always as identity
	OnUpdate  string   // SQL expression that the database assigns whenever the row changes (MariaDB), "" without one
	Binary    bool     // bytes without a character set
	Instant   bool     // a point in time whose text depends on the session's time zone, and in some nights stands for two
	Default   string   // SQL expression, "" without one
	Length    int      // longest value in characters, 0 without a limit
	Collation string
	Holds     Content

	// Operators are the server's own for the column's type, by their usual names,
	// as SQL text that no search path has a say in: "=" to OPERATOR(pg_catalog.=).
	// Empty where names are not looked up in a path.
	Operators map[string]string
}

// BaseType is Base as a plain name, without the schema of the server's own types.
func (c *Column) BaseType() string {
	return strings.Trim(strings.TrimPrefix(c.Base, "pg_catalog."), `"`)
}

// Op gives an operator that compares values of the column: =, <, <=, > or >=.
func (c *Column) Op(name string) string {
	if own := c.Operators[name]; own != "" {
		return own
	}
	return name
}

// commonOp is the operator that all columns have in common.
func commonOp(cols []*Column, name string) (op string, one bool) {
	for _, c := range cols[1:] {
		if c.Op(name) != cols[0].Op(name) {
			return "", false
		}
	}
	return cols[0].Op(name), true
}

// amongQuery appends that a key is among those of the query that is to follow in
// parentheses.
func (q *Query) amongQuery(alias string, cols []*Column) *Query {
	q.Add("(").Columns(alias, cols).Add(") ")
	if op, one := commonOp(cols, "="); one && op != "=" {
		return q.Add(op, " ANY ")
	}
	return q.Add("IN ")
}

// Content says whether there is text in a column.
type Content int

const (
	NoText    Content = iota
	WholeText         // a value is a text
	TextParts         // a value is made of texts, or one of a list: it can be searched, not rewritten
	Bytes             // a value is bytes, in which text may stand: searched only if asked for, not rewritten
)

// Sameness is how an engine tells that two values of a column are the same to
// the byte, as far as equality of the type does not already tell.
type Sameness int

const (
	ByEquality Sameness = iota // equal means the same bytes
	ByImage                    // equal values may differ in their bytes: compare those
	ByText                     // equality takes a collation: compare as text to the byte
)

// Key is what a table is walked by.
type Key struct {
	Name    string // of the index; "primary key" for the primary key
	Columns []*Column
	Integer bool // one column of an integer type: ranges can be told by arithmetic
	MayNull bool // the declaration allows NULL; the walk needs there to be none
	Hidden  bool // its column is the row's own number, no column of the table, which the database may change (SQLite)
}

// Names lists the key's columns.
func (k *Key) Names() []string {
	names := make([]string, len(k.Columns))
	for i, c := range k.Columns {
		names[i] = c.Name
	}
	return names
}

// Index is an index of a table.
type Index struct {
	Name    string
	Columns []string // "" for an expression
	Unique  bool
	Partial bool

	// Finer says that the index tells apart what comparing its columns does not: a column that compares
	// without regard to case, indexed by its bytes. No row is found by its values alone.
	Finer bool

	// Invalid says that rows which are there may be the same although the index is unique: it was never
	// finished, and keeps only new ones apart.
	Invalid bool
}

// Keyless says why a table has no key.
func (t *Table) Keyless() string {
	for _, x := range t.Indexes {
		if x.Invalid && x.Unique {
			return t.String() + " has no key that tells one row from another: the unique index " + x.Name + " is not valid, as one is that was not made to the end, so that rows may be the same; make it anew"
		}
		if x.Finer {
			return t.String() + " has no key that tells one row from another: the unique index " + x.Name + " tells apart what comparing its columns does not (the collation or the operator class of the index is another than theirs)"
		}
	}
	return t.String() + " has no primary key and no unique index over NOT NULL columns"
}

// Trigger is a trigger of a table.
type Trigger struct {
	Name   string
	Events string // "before update", "after delete", …
	Update bool
	Delete bool
	Insert bool

	Definer string // whose rights it has, "" this user's

	Statement bool // it fires once a statement, not once a row

	Text string // what it does, as SQL or the source of its function; "" unknown
}

// Writes reports whether the trigger's text changes rows of a table of this name.
func (t Trigger) Writes(d Dialect, table string) bool {
	tokens, err := sqltext.Lex(d, t.Text)
	if err != nil {
		return false
	}
	for i := 0; i < len(tokens); i++ {
		if !tokens[i].Is("UPDATE") && !tokens[i].Is("INTO") && !(tokens[i].Is("FROM") && i > 0 && tokens[i-1].Is("DELETE")) {
			continue
		}
		at := i + 1
		if at+1 < len(tokens) && tokens[at].Is("OR") { // UPDATE OR IGNORE
			at += 2
		}
		if at < len(tokens) && tokens[at].Is("ONLY") {
			at++
		}
		if at+2 < len(tokens) && tokens[at+1].Punct(".") {
			at += 2
		}
		if at < len(tokens) && d.Same(tokens[at], table) {
			return true
		}
	}
	return false
}

// ForeignKey is a reference from another table's columns to this table.
type ForeignKey struct {
	Name     string
	Schema   string // of the referencing table; "" on MariaDB and SQLite where it is that of this one
	Table    string // the referencing table
	Columns  []string
	Parent   []string // the columns of this table that are referenced
	OnUpdate string   // "NO ACTION", "CASCADE", …
	OnDelete string
	Cleared  []string // those of Columns that ON DELETE SET NULL or SET DEFAULT is limited to, none if it is not (PostgreSQL 15)
}

// Own reports whether the reference is one of the table's to itself.
func (fk ForeignKey) Own(t *Table) bool {
	return fk.Table == t.Name && (fk.Schema == "" || fk.Schema == t.Schema)
}

// In is the schema of the table that refers to t.
func (fk ForeignKey) In(t *Table) string { return cmp.Or(fk.Schema, t.Schema) }

// From is the referencing table's name for messages.
func (fk ForeignKey) From() string { return TableName{fk.Schema, fk.Table}.String() }

// FromSQL is the referencing table as SQL text.
func (fk ForeignKey) FromSQL(d Dialect) string {
	if fk.Schema != "" {
		return d.Quote(fk.Schema) + "." + d.Quote(fk.Table)
	}
	return d.Quote(fk.Table)
}

// Deferrable is a constraint over columns of the table whose check can wait.
type Deferrable struct {
	Name    string
	Columns []string
}

// Table is a table as the catalogue describes it.
type Table struct {
	Schema      string // "" where the engine has none or it is the default
	Name        string
	Shown       string // what it is called in messages, where that is not its name
	Columns     []*Column
	Key         *Key // nil: no usable key
	Indexes     []Index
	Triggers    []Trigger
	ReferredBy  []ForeignKey
	Deferrable  []Deferrable // constraints that are checked at the end of a statement or a transaction (PostgreSQL)
	Partitioned bool         // rows live in other tables, its partitions
	Alone       bool         // rows of tables that inherit from it are not its own: PostgreSQL reads them with it unless ONLY is said
	Heirs       []TableName  // the tables that inherit from it, at any depth, in the order of their names (PostgreSQL)
	Above       []*Table     // those that it inherits from, at any depth, where all tables were read (PostgreSQL)
	Rows        int64
	Estimated   bool   // Rows comes from statistics
	Bytes       int64  // table and indexes; -1 unknown
	RowBytes    int64  // at most so many bytes a row on average; 0 unknown
	Large       bool   // much of it is in values that are too large for their row
	Strict      bool   // SQLite STRICT table
	OnConflict  bool   // a constraint says ON CONFLICT: rows that break it are replaced or passed by without a word (SQLite)
	AnyBytes    bool   // columns of text may hold bytes here and there (SQLite)
	Policies    bool   // row policies decide which rows this user sees and may write (PostgreSQL)
	Tree        uint32 // the same number for all partitions of one table, and for that table; 0 without partitions (PostgreSQL)
	Owner       string // whose it is, where that is neither this user nor a superuser (PostgreSQL)
	Refused     string // why no job may change it, "" if one may
}

// Column finds a column by a token of SQL text.
func (t *Table) Column(d Dialect, tok sqltext.Token) *Column {
	for _, c := range t.Columns {
		if d.Same(tok, c.Name) {
			return c
		}
	}
	return nil
}

// Named finds a column by its exact name.
func (t *Table) Named(name string) *Column {
	for _, c := range t.Columns {
		if c.Name == name {
			return c
		}
	}
	return nil
}

// Loosely finds a column by its exact name, or else by one that differs in case alone.
func Loosely(t *Table, name string) *Column {
	if c := t.Named(name); c != nil {
		return c
	}
	var found *Column
	for _, c := range t.Columns {
		if strings.EqualFold(c.Name, name) {
			if found != nil {
				return nil
			}
			found = c
		}
	}
	return found
}

// Or is what stands after UPDATE or INSERT so that a row that breaks a constraint
// is an error, whatever the constraint says itself. Elsewhere it is left out: it
// would count within triggers as well.
func (t *Table) Or() string {
	if t.OnConflict {
		return "OR ABORT "
	}
	return ""
}

// String is the table's name for messages.
func (t *Table) String() string {
	if t.Shown != "" {
		return t.Shown
	}
	return TableName{t.Schema, t.Name}.String()
}

// Is reports whether both are the same table of the database.
func (t *Table) Is(o *Table) bool { return t.Schema == o.Schema && t.Name == o.Name }

// Shares reports whether a row of one may be a row of the other: they are the same, or
// partitions of one table, or a partition and its table.
func (t *Table) Shares(o *Table) bool { return t.Is(o) || t.Tree != 0 && t.Tree == o.Tree }

// TableName is a table's name with its schema.
type TableName struct{ Schema, Name string }

// String is the name for messages, without the schema that most tables are in.
func (n TableName) String() string {
	if n.Schema != "" && n.Schema != "public" {
		return n.Schema + "." + n.Name
	}
	return n.Name
}

// SQL is the table in a FROM list, an UPDATE or a DELETE: the rows that are its
// own, whatever inherits from it.
func (t *Table) SQL(d Dialect) string {
	if t.Alone {
		return "ONLY " + t.NameSQL(d)
	}
	return t.NameSQL(d)
}

// NameSQL is the table's name as SQL text.
func (t *Table) NameSQL(d Dialect) string {
	if t.Schema != "" {
		return d.Quote(t.Schema) + "." + d.Quote(t.Name)
	}
	return d.Quote(t.Name)
}

// Stored lists the columns that hold values of their own.
func (t *Table) Stored() []*Column {
	var cs []*Column
	for _, c := range t.Columns {
		if !c.Generated {
			cs = append(cs, c)
		}
	}
	return cs
}

// Kept is the layout of a kept-values table: for every changed row its key,
// its old values and, for an update, its new ones.
type Kept struct {
	Table   string // as SQL text
	Indexed bool   // seq has an index from the beginning, since the batches read it
	Packed  string // the table that holds the values of many rows in one, of which Table is a view; empty without one
	Keys    []KeptColumn
	Old     []KeptColumn
	New     []KeptColumn // empty for a delete

	// Numbers is the kept-values table, as SQL text, from whose numbers these are: the acts
	// of a step are numbered together, in the order in which rows were changed. Empty where
	// a table has numbers of its own.
	Numbers string
}

// PackedRows is how many kept rows a row of a packed table holds at most. Its
// "last" is the number of the last of them, "first" that before the first.
const PackedRows = 4000

// KeptColumn is one column of a kept-values table.
type KeptColumn struct {
	Name string // in the kept-values table
	Of   *Column
}

// keptName gives the kept column's name. PostgreSQL cuts names at 63 bytes and
// SQLite compares them without case, so a long name, or one that meets another,
// is numbered instead.
func keptName(prefix, column string, n int, taken map[string]bool) string {
	name := prefix + column
	if len(name) > 63 || taken[strings.ToLower(name)] {
		name = prefix + "column_" + itoa(n)
	}
	taken[strings.ToLower(name)] = true
	return name
}

// NewRoster lays out the table for the keys of the rows to change.
func NewRoster(table string, c *Change) *Kept {
	k := NewKept(table, c)
	k.Old, k.New = nil, nil
	return k
}

// NewKept lays out the kept-values table of a change.
func NewKept(table string, c *Change) *Kept {
	k := &Kept{Table: table, Indexed: c.KeysMayMove()}
	taken := map[string]bool{"seq": true}
	if c.Table.Key != nil {
		for i, col := range c.Table.Key.Columns {
			k.Keys = append(k.Keys, KeptColumn{keptName("key_", col.Name, i+1, taken), col})
		}
	}
	cols := c.Table.Stored()
	if c.Verb == sqltext.Update {
		cols = nil
		for _, s := range c.Set {
			cols = append(cols, s.Column)
		}
	}
	for i, col := range cols {
		k.Old = append(k.Old, KeptColumn{keptName("old_", col.Name, i+1, taken), col})
		if c.Verb == sqltext.Update {
			k.New = append(k.New, KeptColumn{keptName("new_", col.Name, i+1, taken), col})
		}
	}
	return k
}
