package change

import (
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/shape"
	"jugatum/internal/sqltext"
)

// Spec is a step as its author wrote it. Either SQL is set, or Table and the rest.
type Spec struct {
	Name   string
	Of     int    `json:"-"` // the step of the job that it comes from, by its place there
	Mark   string `json:"-"` // the name of that step, with which Once may mark rows
	SQL    string
	Table  string
	Where  string
	Let    []Field // in the order of the file
	Set    []Field
	Put    []Literal
	Delete bool
	Order  string `json:",omitempty"` // of the rows, of which the first few are meant
	Skip   int64  `json:",omitempty"`
	First  *int64 `json:",omitempty"`
	Once   string `json:",omitempty"` // the column that tells rows that are done
	Late   bool   `json:",omitempty"` // rows that have come to match meanwhile are changed in a last pass

	// Replace, if not nil, is all that the step does: see NewReplace.
	Replace *Replace `json:",omitempty"`

	// Joint, if not nil, is where a kind of step takes new values from. The job's
	// record has what its author wrote instead.
	Joint *Joint `json:"-"`

	// Into, if not nil, is where the rows go that the step deletes. Everywhere says that
	// its author has no filter, whatever the kind of step adds to it.
	Into       *Into `json:"-"`
	Everywhere bool  `json:"-"`

	// Shapes, if there are any, are what is done to the text of each column in Set. Its kind's
	// record has what the author wrote.
	Shapes []shape.Chain `json:"-"`

	// ShapedFrom are the columns, or named values, whose texts they are made of, "" for the column
	// itself; none where that is so of all.
	ShapedFrom []string `json:"-"`

	// ShapedSet, unless it is empty, says that they are made of what is assigned, rather than of what
	// is there, and NULL is NULL then: what each is, in its author's words.
	ShapedSet []string `json:"-"`

	// Lines, if not nil, are those of a list that the change carries out.
	Lines *Lines `json:"-"`

	// Merge, if not nil, is what becomes of references to the rows that the step deletes, and of
	// what they had. Its kind's record has what the author wrote.
	Merge *Merge `json:"-"`

	// Call, if not nil, is all that the step does: a statement for each line of the list.
	Call *Call `json:"-"`
}

// Field is a name and an SQL expression for it.
type Field struct{ Name, Expr string }

// Literal is a column's name and a value for it.
type Literal struct {
	Name  string
	Value Value
}

// FieldError is a fault in one field of a step.
type FieldError struct {
	Step  string
	Field string // "sql", "where", "set.day_rate", …
	Err   error
}

func (e *FieldError) Error() string {
	return fmt.Sprintf("step %q: %s: %v", e.Step, e.Field, e.Err)
}

func (e *FieldError) Unwrap() error { return e.Err }

// Set is one assignment. Exactly one of Expr, Literal and Default holds.
type Set struct {
	Column  *Column
	Expr    sqltext.Fragment // named values written out
	Literal *Value
	Default bool // SET column = DEFAULT
	Untyped bool // a bare string or NULL: takes the column's type

	// Row marks a column of (a, b) = (SELECT …): its expression is that query once
	// more, which must give the same row as the others' do.
	Row bool

	// Implicit marks a column that the database itself assigns whenever the row
	// changes: it is kept and put back, but makes no row a changed one.
	Implicit bool
}

// Named is a named in-between value.
type Named struct {
	Name string
	Expr sqltext.Fragment // other named values written out
}

// Change is the one form of a step.
type Change struct {
	Step       string
	Of         int // the step of the job that it comes from, by its place there: several changes may come from one
	D          Dialect
	Verb       sqltext.Verb
	Table      *Table
	Ref        string // how the job's SQL refers to the target: its alias or its name, as SQL text
	Only       bool
	Recursive  bool
	With       sqltext.Fragment
	From       sqltext.Fragment
	Where      sqltext.Fragment
	First      *First // nil: all rows that match
	Let        []Named
	Set        []Set
	Params     map[string]Value
	Reads      Reads    // what the server says it reads besides
	Split      bool     // the statement reaches tables that inherit as well, each of which is a change of its own
	Recorded   bool     // made from a run's record, for its kept values alone: there is no filter and no new value
	Loaded     bool     // From holds new values that were computed outside, one row each
	Lookup     *Lookup  // From is made by a kind of step that looks values up; nil if not
	Rewrite    *Rewrite // new values are computed by us rather than by SQL; nil if not
	Into       *Into    // where the rows go that are deleted, or that are put there as well; nil if nowhere
	Lines      *Lines   // of a list, that it carries out; nil if there is none
	Merge      *Merge   // which rows its rows become one with; nil if they are merely deleted
	Call       *Call    // the statement for each of these lines; nil if the change is one of rows
	Acts       []*Act   // changes of other tables that come before it in each batch; see Cascade
	NotKept    string   // why there are none, though the database follows references from its rows
	Reached    []string // tables that the database changes along with it, over others as well
	Back       bool     // what the database changes elsewhere along with it comes back with an undo; see FollowedBack
	Listed     bool     // the batch has listed and locked the rows that it concerns
	ByIndex    bool     // it finds its rows by what others are listed, and there is an index for that
	Late       bool     // it is the last pass of a step, over rows that have come to match since another one began
	alias      string
	joined     bool   // From holds all tables, the target among them where tables are named together
	targetAt   int    // index in From of the target's first token then
	locksToo   string // another table of From whose rows are locked with those of the target
	enrolledAs string // what From calls the table of the roster, if that is joined
	instead    string // see Instead
	written    string // the statement as its author wrote it, where it has no parameters

	nested     []string // names of let that stand in a sub-query
	everywhere bool     // see EveryRow
	marked     bool     // the rows that are done are told by a column of theirs; see once
	locked     bool     // see Locks
}

// Locks reports whether the rows of the change are locked and listed before others are
// changed that refer to them.
func (c *Change) Locks() bool { return len(c.Acts) > 0 || c.locked }

// assigned gives the assignment to a column, nil if there is none.
func (c *Change) assigned(col *Column) *Set {
	for i := range c.Set {
		if c.Set[i].Column == col {
			return &c.Set[i]
		}
	}
	return nil
}

// Repeatable reports whether the change gives the same values when it is worked
// out a second time in the same transaction: nothing goes into it but the row
// itself, rows that were read once before, and functions that are known to be pure,
// named in lower case, and no trigger changes rows in between.
func (c *Change) Repeatable(pure map[string]bool) bool {
	if c.Listed || !c.From.Empty() && !c.ReadsOurs() || !c.With.Empty() || c.First != nil {
		return false
	}
	for _, t := range c.Table.Triggers {
		if t.Update || t.Delete {
			return false
		}
	}
	for _, s := range c.Set {
		if s.Implicit || s.Default && s.Column.Default != "" {
			return false
		}
	}
	for _, f := range c.Fragments() {
		for i, t := range f.Tokens {
			call := i+1 < len(f.Tokens) && f.Tokens[i+1].Punct("(")
			if t.Kind == sqltext.Ident && (call && !pure[strings.ToLower(t.Text)] || timely[strings.ToUpper(t.Text)] || t.Is("SELECT")) || t.Punct("@") {
				return false
			}
		}
	}
	return true
}

// timely are words that stand for another value each time, without brackets.
var timely = map[string]bool{"CURRENT_DATE": true, "CURRENT_TIME": true, "CURRENT_TIMESTAMP": true, "CURRENT_USER": true, "CURRENT_ROLE": true, "LOCALTIME": true,
	"LOCALTIMESTAMP": true, "UTC_DATE": true, "UTC_TIME": true, "UTC_TIMESTAMP": true, "NEXT": true, "PREVIOUS": true, "SYSDATE": true}

// TargetSQL is the target in a FROM list.
func (c *Change) TargetSQL() string {
	s := c.Table.SQL(c.D)
	switch {
	case c.instead != "":
		s = "(" + c.instead + ")"
		if c.alias == "" {
			s += " AS " + c.D.Quote(c.Table.Name)
		}
	case c.Only && !c.Table.Alone:
		s = "ONLY " + s
	}
	if c.alias != "" {
		s += " AS " + c.alias
	}
	return s
}

// Does is what the change does with its rows, in a word.
func (c *Change) Does() string {
	switch {
	case c.Merge != nil:
		return "merge"
	case c.Into == nil:
		return c.Verb.String()
	case c.Verb == sqltext.Insert && c.Lines != nil:
		return "insert"
	case c.Verb == sqltext.Insert:
		return "copy"
	}
	return "move"
}

// SetNames lists the columns assigned.
func (c *Change) SetNames() []string {
	var names []string
	for _, s := range c.Set {
		names = append(names, s.Column.Name)
	}
	return names
}

// ChangesKey reports whether a key column is assigned.
func (c *Change) ChangesKey() bool {
	if c.Table.Key == nil {
		return false
	}
	for _, k := range c.Table.Key.Columns {
		for _, s := range c.Set {
			if s.Column == k {
				return true
			}
		}
	}
	return false
}

// DerivedKey gives a key column that the database computes from a column that
// is assigned, nil if there is none.
func (c *Change) DerivedKey() *Column {
	if c.Table.Key == nil {
		return nil
	}
	for _, k := range c.Table.Key.Columns {
		for _, s := range c.Set {
			if slices.Contains(k.From, s.Column.Name) {
				return k
			}
		}
	}
	return nil
}

// Triggered reports whether triggers fire for the rows that are updated. Then
// every row that matches is written, as the statement itself would do, also where
// the new values are the old ones.
func (c *Change) Triggered() bool {
	return c.Verb == sqltext.Update && slices.ContainsFunc(c.Table.Triggers, func(t Trigger) bool { return t.Update })
}

// KeysMayMove reports whether a row may come to have another key by the change
// although no key column is assigned: by a trigger, or by a reference that the
// database follows.
func (c *Change) KeysMayMove() bool {
	if c.Verb != sqltext.Update || c.Table.Key == nil {
		return false
	}
	if c.Triggered() {
		return true
	}
	for _, fk := range c.Table.ReferredBy {
		if Follows(fk.OnUpdate) && slices.ContainsFunc(c.Set, func(s Set) bool { return slices.Contains(fk.Parent, s.Column.Name) }) {
			return true
		}
	}
	return false
}

// On is the change over another table with the same columns, whose rows the job's SQL calls as it did. ""
// is why there is none otherwise.
func (c *Change) On(t *Table) (out *Change, why string) {
	if c.joined {
		return nil, "its statement names the table among others that it joins"
	}
	x := *c
	x.Table, x.Only = t, false
	if x.alias == "" {
		x.alias = c.Ref
	}
	return &x, ""
}

// Fragments lists every piece of SQL in the change with the field it came from.
func (c *Change) Fragments() map[string]sqltext.Fragment {
	m := map[string]sqltext.Fragment{"with": c.With, "from": c.From, "where": c.Where}
	if c.First != nil {
		m["order"] = c.First.Order
	}
	for _, l := range c.Let {
		m["let."+l.Name] = l.Expr
	}
	for _, s := range c.Set {
		m["set."+s.Column.Name] = s.Expr
	}
	return m
}

// Interferes reports whether a trigger fires for the rows of the change, and so
// may keep some of them from changing.
func (c *Change) Interferes() bool {
	return c.Triggered() || c.Verb == sqltext.Delete && slices.ContainsFunc(c.Table.Triggers, func(t Trigger) bool { return t.Delete })
}
