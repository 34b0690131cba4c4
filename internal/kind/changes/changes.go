// Package changes is the kind of step that carries out a list: lines of a file, each of
// which inserts, updates or deletes the row of a table that has its key.
package changes

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/kind"
	"jugatum/internal/list"
	"jugatum/internal/sqltext"
)

// Keys are the keys of such a step in a job file, besides table. Order, Present and Set are
// those of other steps as well, and are handed over.
type Keys struct {
	Changes any               `toml:"changes"`
	Key     []string          `toml:"key"`
	Action  any               `toml:"action"`
	Columns map[string]string `toml:"columns"`
	Absent  *string           `toml:"absent"`

	Order   *string           `toml:"-"`
	Present *string           `toml:"-"`
	Set     map[string]string `toml:"-"`
	Written list.Keys         `toml:"-"`
}

// Used reports whether any of the keys is there.
func (k Keys) Used() bool {
	return k.Changes != nil || k.Key != nil || k.Action != nil || k.Columns != nil || k.Absent != nil || k.Written.Used()
}

// Names lists the main ones.
func (Keys) Names() string { return "changes, key, action and columns" }

// Action is what becomes of a line.
type Action string

const (
	Insert Action = "insert" // a row is made
	Update Action = "update" // the row with its key is changed
	Delete Action = "delete" // the row with its key is deleted
	Upsert Action = "upsert" // the row with its key is changed, or made where there is none
)

var actions = []Action{Insert, Update, Delete, Upsert}

// What becomes of a line whose key is not there, or is there where a row was to be made.
const (
	Report = "report" // it is told
	Fail   = "fail"   // the run is refused
)

// The orders in which lines are carried out.
const (
	AnyOrder  = "any"  // there is one line for a key
	FileOrder = "file" // of several lines for one key each finds what the one before it has left
)

// Step is such a step as its author wrote it.
type Step struct {
	From    list.Source       `json:"-"`          // what tells lists apart is what is in them
	Key     []string          `json:",omitempty"` // columns of the table; none for the table's own key
	Action  Action            `json:",omitempty"` // of every line; "" where a column says so
	By      string            `json:",omitempty"` // that column of the file
	Words   map[string]Action `json:",omitempty"` // what stands there
	Columns map[string]string `json:",omitempty"` // a column of the file to one of the table, where they are called differently
	Set     []change.Field    `json:",omitempty"` // columns besides: SQL over the table and the line
	Absent  string            // report, fail or insert
	Present string            // report, fail or update
	InOrder bool              `json:",omitempty"` // several lines may have one key
	Format  list.Format
}

// Kind is the kind's name.
func (s *Step) Kind() string { return "changes" }

// List says where the lines are, and how they are written.
func (s *Step) List() (list.Source, list.Format) { return s.From, s.Format }

// Read makes the step of its keys.
func (k Keys) Read(order func(key string, m any) []string) (kind.Step, string, error) {
	s, field, err := k.read(order)
	if err != nil {
		return nil, field, err
	}
	return s, "", nil
}

func (k Keys) read(order func(key string, m any) []string) (*Step, string, error) {
	s := &Step{Key: k.Key, Columns: k.Columns, Absent: Report, Present: Report}
	var err error
	if k.Changes == nil {
		return nil, "", errors.New("changes is missing: the file with the list")
	}
	if s.From, err = list.ReadSource("changes", k.Changes); err != nil {
		return nil, "changes", err
	}
	if k.Key != nil && len(k.Key) == 0 {
		return nil, "key", errors.New("key is empty; leave it out for the table's own key")
	}
	if field, err := s.action(k.Action, order); err != nil {
		return nil, field, err
	}
	if k.Order != nil {
		if *k.Order != AnyOrder && *k.Order != FileOrder {
			return nil, "order", fmt.Errorf("order: %q is not any or file", *k.Order)
		}
		s.InOrder = *k.Order == FileOrder
	}
	for _, name := range order("set", k.Set) {
		s.Set = append(s.Set, change.Field{Name: name, Expr: k.Set[name]})
	}
	for _, x := range []struct {
		field string
		given *string
		into  *string
		other Action
		goes  []Action
	}{{"absent", k.Absent, &s.Absent, Insert, []Action{Update, Delete}}, {"present", k.Present, &s.Present, Update, []Action{Insert}}} {
		if x.given == nil {
			continue
		}
		if *x.into = *x.given; !slices.Contains([]string{Report, Fail, string(x.other)}, *x.given) {
			return nil, x.field, fmt.Errorf("%s: %q is not report, fail or %s", x.field, *x.given, x.other)
		}
		if s.Action != "" && !slices.Contains(x.goes, s.Action) {
			return nil, x.field, fmt.Errorf("%s has no meaning where every line is to %s", x.field, s.Action)
		}
		if s.Action == Delete && *x.given == string(x.other) {
			return nil, x.field, errors.New("absent: insert has no meaning where every line is to delete")
		}
	}
	// What is to be made where it is not there, and changed where it is, is one and the same.
	if s.Absent == string(Insert) {
		s.become(Update, Upsert)
	}
	if s.Present == string(Update) {
		s.become(Insert, Upsert)
	}
	field := ""
	s.Format, field, err = k.Written.Read()
	return s, field, err
}

// become has lines of one action have another.
func (s *Step) become(from, to Action) {
	if s.Action == from {
		s.Action = to
	}
	for word, a := range s.Words {
		if a == from {
			s.Words[word] = to
		}
	}
}

// action reads what is to become of the lines: one word for all, or a column that says so.
func (s *Step) action(given any, order func(key string, m any) []string) (string, error) {
	switch a := given.(type) {
	case nil:
		return "", errors.New(`action is missing: "insert", "update", "delete", "upsert", or { column = "…" } where a column of the file says so`)
	case string:
		if s.Action = Action(a); !slices.Contains(actions, s.Action) {
			return "action", fmt.Errorf("action: %q is not insert, update, delete or upsert", a)
		}
		return "", nil
	case map[string]any:
		s.Words = map[string]Action{}
		for _, name := range order("action", a) {
			text, ok := a[name].(string)
			if !ok {
				return "action." + name, fmt.Errorf("action.%s: expected a text", name)
			}
			if name == "column" {
				s.By = text
				continue
			}
			if !slices.Contains(actions, Action(text)) {
				return "action." + name, fmt.Errorf("action.%s: %q is not insert, update, delete or upsert", name, text)
			}
			s.Words[name] = Action(text)
		}
		if s.By == "" {
			return "action", errors.New("action: column is missing, the column of the file that says what becomes of a line")
		}
		if len(s.Words) == 0 {
			for _, a := range actions {
				s.Words[string(a)] = a
			}
		}
		return "", nil
	}
	return "action", errors.New(`action: expected a text, or { column = "…" }`)
}

// Each calls do for every piece of SQL of the step.
func (s *Step) Each(do func(sql string) string) kind.Step {
	out := *s
	out.Set = slices.Clone(s.Set)
	for i := range out.Set {
		out.Set[i].Expr = do(out.Set[i].Expr)
	}
	return &out
}

// can reports whether lines may have such an action.
func (s *Step) can(a Action) bool {
	return s.Action == a || s.Action == "" && slices.Contains(slices.Collect(maps.Values(s.Words)), a)
}

// updates, inserts and deletes are the actions of those lines that may change, make and
// delete a row.
func (s *Step) updates() []Action { return s.which(Update, Upsert) }
func (s *Step) inserts() []Action { return s.which(Insert, Upsert) }
func (s *Step) deletes() []Action { return s.which(Delete) }

func (s *Step) which(among ...Action) (out []Action) {
	for _, a := range among {
		if s.can(a) {
			out = append(out, a)
		}
	}
	return out
}

// alias is how the job's own SQL calls a line: line, unless that is what the table is called,
// which within a query would then be a line itself.
func alias(target *change.Table) string {
	if strings.EqualFold(target.Name, "line") {
		return "listed"
	}
	return "line"
}

// Parts makes the changes' specs: what is deleted, what is inserted, what is changed, in this
// order. What goes makes room; and a line that is to change a row, or to make it, does change
// one that another session has made while the others were made.
func (s *Step) Parts(spec change.Spec, at kind.Place) ([]kind.Part, error) {
	p := parts{Checker: kind.Checker{D: at.D, Step: spec.Name}, s: s, spec: spec, list: at.List}
	var err error
	if p.target, p.ref, err = change.Target(at.D, spec, at.Tables); err != nil {
		return nil, err
	}
	if len(p.target.Heirs) > 0 {
		return nil, p.Failf("table", "other tables inherit from %s, and a line could mean a row in each of them: name one table, or write the step in SQL", p.target)
	}
	p.alias = alias(p.target)
	if p.list == nil {
		return nil, p.Failf("changes", "the lines of %s are not there any more", s.From.Name())
	}
	return p.make()
}

type parts struct {
	kind.Checker
	s      *Step
	spec   change.Spec
	target *change.Table
	ref    string // how SQL refers to it
	list   *change.List
	alias  string // of a line
}

// make makes the parts, turn by turn.
func (p *parts) make() (out []kind.Part, err error) {
	first := p.list
	for _, l := range append([]*change.List{first}, first.Later...) {
		p.list = l
		parts, err := p.turn()
		if err != nil {
			return nil, err
		}
		if l.Turn > 0 {
			for i := range parts {
				parts[i].Name += fmt.Sprintf(", turn %d", l.Turn+1)
			}
		}
		out = append(out, parts...)
	}
	if len(out) == 1 {
		out[0].Name = ""
	}
	return out, nil
}

// has leaves out actions that no line of the turn has.
func (p *parts) has(which []Action) []Action {
	if p.list.Turn == 0 || p.s.Action != "" {
		return which
	}
	return slices.DeleteFunc(which, func(a Action) bool { return !slices.Contains(p.list.Has, string(a)) })
}

// turn makes the parts for the lines of one turn.
func (p *parts) turn() ([]kind.Part, error) {
	var out []kind.Part
	add := func(name string, spec change.Spec, which, alone []Action, missed change.Outcome, policy string) {
		l := &change.Lines{List: p.list, All: string(p.s.Action), Fail: policy == Fail}
		if p.s.Action == "" {
			l.Actions, l.Alone = words(which), words(alone)
		}
		if len(alone) > 0 {
			l.Missed = missed
		}
		spec.Lines = l
		out = append(out, kind.Part{Name: ": " + name, Spec: spec})
	}
	besides := func(which, others []Action) []Action {
		return slices.DeleteFunc(slices.Clone(which), func(a Action) bool { return slices.Contains(others, a) })
	}
	if which := p.has(p.s.deletes()); len(which) > 0 {
		gone := p.spec
		gone.Delete = true
		gone.Where = "EXISTS (SELECT 1 FROM " + p.list.SQL + " AS " + p.alias + " WHERE " + p.match(p.ref) + p.acting(p.alias, which) + ")"
		add("delete", gone, which, which, change.NoSuchKey, p.s.Absent)
	}
	if which := p.has(p.s.inserts()); len(which) > 0 {
		made := p.spec
		into := change.NewInto(p.list.Table, p.target, false)
		into.Copied = true
		made.Table, made.Delete, made.Into = p.list.SQL, true, into
		line := p.D.Quote(p.list.Table.Name)
		made.Where = "NOT EXISTS (SELECT 1 FROM " + p.target.SQL(p.D) + " AS jugatum_i WHERE " + p.same("jugatum_i", line) + ")"
		if p.s.can(Upsert) { // see change.MarkInserted
			made.Where = "(" + line + "." + change.ListOutcome + " = '" + string(change.Inserted) + "' OR " + made.Where + ")"
		}
		made.Where += p.acting(line, which)
		add("insert", made, which, besides(which, p.s.updates()), change.KeyExists, p.s.Present)
	}
	if which := p.has(p.s.updates()); len(which) > 0 {
		changed := p.spec
		for _, c := range p.list.Table.Columns[len(p.list.Table.Key.Columns):] {
			changed.Set = append(changed.Set, change.Field{Name: c.Name, Expr: p.alias + "." + p.D.Quote(c.Name)})
		}
		for _, f := range p.s.Set {
			if err := p.Expression("set."+f.Name, f.Expr); err != nil {
				return nil, err
			}
			changed.Set = append(changed.Set, f)
		}
		if len(changed.Set) == 0 {
			return nil, p.Failf("changes", "%s has the key of %s alone: there is nothing to change", p.list.File, p.target)
		}
		changed.Joint = &change.Joint{From: p.list.SQL + " AS " + p.alias, As: p.alias, Match: p.match(p.ref) + p.acting(p.alias, which) + p.open(), Columns: p.list.Table.Key.Names(), Unmatched: change.Leave, Unique: p.certain()}
		add("update", changed, which, besides(which, p.s.inserts()), change.NoSuchKey, p.s.Absent)
	}
	return out, nil
}

// certain reports whether no two lines can mean the same row: the list was compared by the very
// rules by which the table compares its keys.
func (p *parts) certain() bool {
	return p.D.Forms().Collations || !slices.ContainsFunc(p.list.Table.Key.Columns, func(c *change.Column) bool { return c.Class != change.Number })
}

// match is the condition that a row of the table has the key of a line.
func (p *parts) match(ref string) string { return p.same(ref, p.alias) }

func (p *parts) same(row, line string) string {
	var all []string
	for _, c := range p.list.Table.Key.Columns {
		all = append(all, row+"."+p.D.Quote(c.Name)+" "+c.Op("=")+" "+line+"."+p.D.Quote(c.Name))
	}
	return strings.Join(all, " AND ")
}

// open is the further condition that a line has made no row. (One that was refused, and set
// aside, may be tried again.)
func (p *parts) open() string {
	if !p.s.can(Upsert) {
		return ""
	}
	outcome := p.alias + "." + change.ListOutcome
	return " AND (" + outcome + " IS NULL OR " + outcome + " <> '" + string(change.Inserted) + "')"
}

// acting is the further condition that a line has one of these actions, if lines have any of
// their own.
func (p *parts) acting(line string, which []Action) string {
	if p.s.Action != "" {
		return ""
	}
	return " AND " + line + "." + change.ListAction + " IN ('" + strings.Join(words(which), "', '") + "')"
}

// words are actions as they stand in the table of a list.
func words(which []Action) []string {
	out := make([]string, len(which))
	for i, a := range which {
		out[i] = string(a)
	}
	return out
}

// asked lists the columns of a line that the step's own SQL names.
func (s *Step) asked(d change.Dialect, alias string) (names []string) {
	for _, f := range s.Set {
		tokens, err := sqltext.Lex(d, f.Expr)
		if err != nil {
			continue // told where it is read
		}
		for i := 2; i < len(tokens); i++ {
			if tokens[i-2].Is(alias) && tokens[i-1].Punct(".") {
				names = append(names, d.Name(tokens[i]))
			}
		}
	}
	return names
}
