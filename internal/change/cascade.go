package change

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/sqltext"
)

// When rows of a table are deleted, the database may delete or change rows of other
// tables that refer to them (ON DELETE CASCADE, SET NULL, SET DEFAULT). It keeps none of
// their values. Here such a delete is taken apart into acts, each a delete or an update of
// one table, which are carried out first, so that nothing is left for the database to
// follow.

// An Act is a change of another table that belongs to the rows of a batch. It has no
// filter: its rows are those that refer, by one of Follows, to rows of the batch.
type Act struct {
	Change  *Change
	Follows []Follow

	// Of a merge: Moved is the reference by which they refer. Doubled, another time, limits the rows to
	// those that would stand twice once they are moved.
	// Stays says that the rows are those that stay, and that they come after the change itself.
	Moved   *Reference
	Doubled *Reference
	Stays   bool
}

// Follow is a reference that the database would follow.
type Follow struct {
	Columns []*Column // of the act's table
	Parent  []*Column // of the table that they refer to
	Of      int       // the act whose rows those are; OwnRows for the step's own rows
}

// OwnRows stands for the step's own rows in the place of an act's number.
const OwnRows = -1

// By lists the columns that refer.
func (a *Act) By() (names []string) {
	if a.Stays {
		return a.Change.SetNames()
	}
	for _, f := range a.Follows {
		for _, c := range f.Columns {
			if !slices.Contains(names, c.Name) {
				names = append(names, c.Name)
			}
		}
	}
	return names
}

// Role is what becomes of the rows of an act, in a word. verb is what its step does, act what the
// act itself does, and own says that it does so to the step's own table.
func Role(verb, act string, own bool) string {
	switch {
	case verb != "merge" && act == "delete":
		return "deleted"
	case verb != "merge":
		return "cleared"
	case own:
		return "filled"
	case act == "delete":
		return "doubled"
	}
	return "moved"
}

// Name is what the act does, for messages.
func (a *Act) Name() string { return ActName(a.Change.Verb.String(), a.Change.Table.String(), a.By()) }

// ActName is the name of an act: "delete visit (quay_id)".
func ActName(verb, table string, by []string) string {
	return fmt.Sprintf("%s %s (%s)", verb, table, strings.Join(by, ", "))
}

// Cascade gives the acts that a delete brings with it, in the order in which they are
// carried out: updates first, then each delete before those of the tables that its rows
// refer to. None if nothing refers to the rows so. why says what keeps the acts from doing
// what the database would; other errors come from the catalogue.
func Cascade(c *Change, tables Catalogue) (acts []*Act, why string, err error) {
	if c.Verb != sqltext.Delete {
		return nil, "", nil
	}
	x := &cascade{c: c, tables: tables, onTheWay: map[*Table]bool{}}
	err = x.follow(c.Table, OwnRows)
	var no *notKept
	if errors.As(err, &no) {
		return nil, no.why, nil
	}
	if err != nil || len(x.acts) == 0 {
		return nil, "", err
	}
	if !c.From.Empty() {
		return nil, "the statement names other tables beside its own: write what it asks of them as a sub-query", nil
	}
	if why := cmp.Or(x.order(), x.meddled()); why != "" {
		return nil, why, nil
	}
	for i, a := range x.acts {
		a.Change.locked = needsList(x.acts, i)
	}
	return x.acts, "", nil
}

// notKept says why acts would not do what the database does.
type notKept struct{ why string }

func (e *notKept) Error() string { return e.why }

func notKeptf(format string, args ...any) error { return &notKept{fmt.Sprintf(format, args...)} }

type cascade struct {
	c        *Change
	tables   Catalogue
	acts     []*Act
	onTheWay map[*Table]bool // from the step's own table to the one looked at
}

// follow adds the acts on tables that refer to rows of t, which are those of an act.
func (x *cascade) follow(t *Table, of int) error {
	x.onTheWay[t] = true
	defer delete(x.onTheWay, t)
	for _, fk := range t.ReferredBy {
		if !Follows(fk.OnDelete) {
			continue
		}
		child, err := x.tables(fk.In(t), fk.Table)
		if err != nil {
			return fmt.Errorf("%s, which refers to %s: %w", fk.From(), t, err)
		}
		for seen := range x.onTheWay {
			if seen.Is(child) {
				return notKeptf("the references come back to %s (%s)", child, fk.Name)
			}
		}
		f := Follow{Of: of}
		for i, name := range fk.Columns {
			c, p := x.column(child, name), x.column(t, fk.Parent[i])
			if c == nil || p == nil {
				return notKeptf("%s.%s or %s.%s is not there", child, name, t, fk.Parent[i])
			}
			if x.c.D.Forms().LooseReference && (c.Class != p.Class || c.Class == Other && !strings.EqualFold(c.Type, p.Type)) {
				// It is compared by other rules than an expression.
				return notKeptf("%s.%s and %s.%s are not of the same type", child, c.Name, t, p.Name)
			}
			f.Columns, f.Parent = append(f.Columns, c), append(f.Parent, p)
		}
		if fk.OnDelete == "CASCADE" {
			err = x.deletes(child, f)
		} else {
			err = x.updates(child, f, fk)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Follows reports whether a reference's action changes the rows that refer.
func Follows(action string) bool {
	return action == "CASCADE" || action == "SET NULL" || action == "SET DEFAULT"
}

// column finds a column by the name in a reference, which some dialects keep as it was written there.
func (x *cascade) column(t *Table, name string) *Column {
	if c := t.Named(name); c != nil || !x.c.D.Forms().LooseReference {
		return c
	}
	for _, c := range t.Columns {
		if strings.EqualFold(c.Name, name) {
			return c
		}
	}
	return nil
}

// deletes adds that rows of a table go, and those that refer to them.
func (x *cascade) deletes(child *Table, f Follow) error {
	for _, a := range x.acts {
		if a.Change.Verb == sqltext.Delete && a.Change.Table.Is(child) {
			a.Follows = append(a.Follows, f)
			return nil
		}
	}
	a := x.act(child, sqltext.Delete, f)
	if err := x.able(a); err != nil {
		return err
	}
	x.acts = append(x.acts, a)
	return x.follow(child, len(x.acts)-1)
}

// updates adds that rows of a table lose their reference.
func (x *cascade) updates(child *Table, f Follow, fk ForeignKey) error {
	a := x.act(child, sqltext.Update, f)
	assigned := f.Columns
	if len(fk.Cleared) > 0 {
		assigned = nil
		for _, name := range fk.Cleared {
			assigned = append(assigned, x.column(child, name))
		}
	}
	for _, col := range assigned {
		s := Set{Column: col, Default: true}
		if fk.OnDelete == "SET NULL" {
			null, err := sqltext.Expression(x.c.D, "NULL")
			if err != nil {
				return err
			}
			s = Set{Column: col, Expr: null, Untyped: true}
		}
		a.Change.Set = append(a.Change.Set, s)
	}
	for _, col := range child.Columns {
		if col.OnUpdate == "" || a.Change.assigned(col) != nil {
			continue
		}
		// The database leaves it as it is when it follows a reference.
		itself, err := sqltext.Expression(x.c.D, x.c.D.Quote(col.Name))
		if err != nil {
			return err
		}
		a.Change.Set = append(a.Change.Set, Set{Column: col, Expr: itself})
	}
	if err := x.able(a); err != nil {
		return err
	}
	for _, o := range x.acts {
		shared := slices.ContainsFunc(a.Change.Set, func(s Set) bool { return o.Change.assigned(s.Column) != nil })
		if o.Change.Verb == sqltext.Update && o.Change.Table.Is(child) && shared {
			return notKeptf("several references of %s share columns", child)
		}
	}
	x.acts = append(x.acts, a)
	return nil
}

func (x *cascade) act(t *Table, verb sqltext.Verb, f Follow) *Act {
	d := x.c.D
	return &Act{Change: &Change{Step: x.c.Step, D: d, Verb: verb, Table: t, Ref: d.Quote(t.Name), Listed: true, everywhere: true}, Follows: []Follow{f}}
}

// able refuses an act that would not do what the database does, or could not be undone.
func (x *cascade) able(a *Act) error {
	c, t := a.Change, a.Change.Table
	switch {
	case t.Refused != "":
		return notKeptf("%s", t.Refused)
	case t.Key == nil || t.Key.Hidden:
		return notKeptf("%s, by which its rows could be put back", t.Keyless())
	case t.Policies:
		return notKeptf("row policies of %s may hide rows that the database would take along", t)
	case c.ChangesKey() || c.DerivedKey() != nil:
		return notKeptf("the key of %s is part of its reference", t)
	}
	for _, fk := range t.ReferredBy {
		assigned := slices.ContainsFunc(c.Set, func(s Set) bool { return slices.Contains(fk.Parent, s.Column.Name) })
		if c.Verb == sqltext.Update && assigned && Follows(fk.OnUpdate) {
			return notKeptf("%s refers to columns of %s that change, and follows them", fk.From(), t)
		}
		if c.Verb == sqltext.Delete && fk.Own(t) {
			return notKeptf("rows of %s refer to each other (%s)", t, fk.Name)
		}
	}
	for _, tr := range t.Triggers {
		if c.Verb == sqltext.Update && !tr.Update || c.Verb == sqltext.Delete && !tr.Delete {
			continue
		}
		switch {
		case c.D.Forms().UntoldTriggers:
			return notKeptf("trigger %s of %s would fire, which it does not where %s itself follows a reference", tr.Name, t, c.D)
		case tr.Statement:
			return notKeptf("trigger %s of %s fires once for a statement, and would once for each batch", tr.Name, t)
		}
	}
	return nil
}

// meddled says of a trigger on any of the tables that it could change rows of another of
// them: in which order they go would make a difference.
func (x *cascade) meddled() string {
	all := []*Change{x.c}
	for _, a := range x.acts {
		all = append(all, a.Change)
	}
	for _, c := range all {
		for _, tr := range c.Table.Triggers {
			if c.Verb == sqltext.Update && !tr.Update || c.Verb == sqltext.Delete && !tr.Delete {
				continue
			}
			for _, o := range all {
				if tr.Text == "" || tr.Writes(c.D, o.Table.Name) {
					return fmt.Sprintf("trigger %s of %s may change rows of %s", tr.Name, c.Table, o.Table)
				}
			}
		}
	}
	return ""
}

// order brings the acts into the order in which they are carried out, or says why there is none.
func (x *cascade) order() string {
	var order []int
	for i, a := range x.acts {
		if a.Change.Verb == sqltext.Update {
			order = append(order, i)
		}
	}
	refers := func(a, b *Table) bool { // a to b, whatever becomes of its rows
		return slices.ContainsFunc(b.ReferredBy, func(fk ForeignKey) bool {
			return fk.In(b) == a.Schema && fk.Table == a.Name
		})
	}
	for len(order) < len(x.acts) {
		next := -1
		for i, a := range x.acts {
			free := !slices.Contains(order, i)
			for j, b := range x.acts {
				if free && j != i && !slices.Contains(order, j) && refers(b.Change.Table, a.Change.Table) {
					free = false
				}
			}
			if free {
				next = i
				break
			}
		}
		if next < 0 {
			return "the tables whose rows would go refer to each other"
		}
		order = append(order, next)
	}
	sorted := make([]*Act, len(order))
	for to, from := range order {
		sorted[to] = x.acts[from]
	}
	for _, a := range sorted {
		for i, f := range a.Follows {
			if f.Of != OwnRows {
				a.Follows[i].Of = slices.Index(order, f.Of)
			}
		}
	}
	x.acts = sorted
	return ""
}

// Reached gives the tables of which the database changes rows along with those of a change,
// by following references, over whatever number of tables: by name, each once.
func Reached(c *Change, tables Catalogue) (names []string, err error) {
	type visit struct {
		t       *Table
		deletes bool
		columns string
	}
	seen := map[visit]bool{}
	var walk func(t *Table, deletes bool, assigned []string) error
	walk = func(t *Table, deletes bool, assigned []string) error {
		if v := (visit{t, deletes, strings.Join(assigned, "\x00")}); seen[v] {
			return nil
		} else {
			seen[v] = true
		}
		for _, fk := range t.ReferredBy {
			action := fk.OnDelete
			if !deletes {
				if action = fk.OnUpdate; !slices.ContainsFunc(fk.Parent, func(name string) bool { return slices.Contains(assigned, name) }) {
					continue
				}
			}
			if !Follows(action) {
				continue
			}
			if !slices.Contains(names, fk.Table) {
				names = append(names, fk.Table)
			}
			child, err := tables(fk.In(t), fk.Table)
			if err != nil {
				return err
			}
			if err := walk(child, deletes && action == "CASCADE", fk.Columns); err != nil {
				return err
			}
		}
		return nil
	}
	if c.Verb != sqltext.Insert {
		err = walk(c.Table, c.Verb == sqltext.Delete, c.SetNames())
	}
	return names, err
}

// FollowedBack reports whether all that the database changes in other tables, when the
// change assigns columns that they refer to, changes back when an undo assigns the old
// values: each reference takes up the new value, over whatever number of tables, and none
// is cleared by it.
func FollowedBack(c *Change, tables Catalogue) (bool, error) {
	if c.Verb != sqltext.Update {
		return false, nil
	}
	var back func(t *Table, assigned []string, depth int) (bool, error)
	back = func(t *Table, assigned []string, depth int) (bool, error) {
		for _, fk := range t.ReferredBy {
			if !Follows(fk.OnUpdate) || !slices.ContainsFunc(fk.Parent, func(name string) bool { return slices.Contains(assigned, name) }) {
				continue
			}
			if fk.OnUpdate != "CASCADE" || fk.Own(t) || depth == 0 {
				return false, nil
			}
			child, err := tables(fk.In(t), fk.Table)
			if err != nil {
				return false, err
			}
			if ok, err := back(child, fk.Columns, depth-1); !ok || err != nil {
				return false, err
			}
		}
		return true, nil
	}
	const deepest = 20 // tables, beyond which they probably refer to each other
	return back(c.Table, c.SetNames(), deepest)
}
