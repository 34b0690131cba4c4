package job

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/kind/shape"
)

// A step of the file becomes a Step here.

// stepReader reads one step.
type stepReader struct {
	*reader
	f    fileStep
	path string // its place in the file
	s    Step
}

func (r *reader) step(i int, f fileStep) (Step, error) {
	x := &stepReader{reader: r, f: f, path: "step." + strconv.Itoa(i), s: Step{Spec: change.Spec{Name: f.Name, Delete: f.Delete}}}
	if x.s.Name == "" {
		x.s.Name = "step " + strconv.Itoa(r.before+i+1)
	}
	for _, read := range []func() error{x.form, x.filter, x.first, x.fields, x.holds} {
		if err := read(); err != nil {
			return x.s, err
		}
	}
	return x.s, nil
}

// failf is a fault at a key of the step.
func (x *stepReader) failf(key, format string, args ...any) error {
	return x.fail(x.path+key, "step %q: %s", x.s.Name, fmt.Sprintf(format, args...))
}

// has tells of the keys by which a form is told which of them are there.
func (f fileStep) has() (statement, fields, replacement bool) {
	set := f.Set != nil && !f.ChangesKeys.Used()
	return f.SQL != nil, f.Let != nil || set || f.Put != nil || f.Delete || f.top(), f.Replace != nil || f.In != nil || f.Except != nil
}

// form tells which of the forms the step has, and that it has no keys of another.
func (x *stepReader) form() (err error) {
	f := x.f
	statement, fields, replacement := f.has()
	kinds := f.kind()
	switch {
	case replacement:
		if statement || fields || f.Table != nil || f.Where != nil || f.Once != nil {
			return x.failf(".replace", "in, except and replace stand alone; sql, table, where, let, set, put, delete, order, skip, first and once belong to other forms")
		}
		var key string
		if x.s.Replace, key, err = readReplace(f); err != nil {
			return x.failf(key, "%v", err)
		}
		return nil
	case len(kinds) > 1:
		return x.failf("", "%s belong to one kind of step, %s to another", kinds[0].Names(), kinds[1].Names())
	case len(kinds) == 1:
		if shapes, ok := kinds[0].(ShapeKeys); ok {
			_, shapes.Let = f.named()
			kinds[0], f.Let = shapes, nil // of which texts may be made
			_, fields, _ = f.has()
		}
		if statement || fields {
			return x.failf("", "%s go with table, where and once; sql, let, set, put, delete, order, skip and first belong to other forms", kinds[0].Names())
		}
		if f.EachKeys.Used() && (f.Table != nil || f.Where != nil || f.Once != nil) {
			return x.failf("", "table, where and once do not go with each: the statement says what is done, the list with which values")
		}
		if f.Table == nil && !f.EachKeys.Used() {
			return x.failf("", "table is missing")
		}
		if f.Table != nil {
			x.s.Table = *f.Table
		}
		if f.ChangesKeys.Used() && (f.Where != nil || f.Once != nil) {
			return x.failf("", "where and once do not go with changes: the list says which rows are meant")
		}
		var key string
		if x.s.Kind, key, err = kinds[0].Read(func(key string, m any) []string { return x.keys(x.path+"."+key, m) }); err != nil {
			return x.failf("."+key, "%v", err)
		}
		return nil
	case statement:
		if fields || f.Table != nil || f.Where != nil {
			return x.failf(".sql", "sql stands alone; table, where, let, set, put, delete, order, skip and first belong to the other form")
		}
		if x.s.SQL = *f.SQL; strings.TrimSpace(x.s.SQL) == "" {
			return x.failf(".sql", "sql is empty")
		}
		return nil
	case f.Table == nil:
		return x.failf("", "table is missing (or sql, with a whole statement)")
	case f.Delete && (f.Set != nil || f.Put != nil):
		return x.failf(".delete", "a step deletes rows or changes them, not both")
	case !f.Delete && len(f.Set) == 0 && len(f.Put) == 0:
		return x.failf("", "there is nothing to do: add set, put or delete = true")
	}
	x.s.Table = *f.Table
	return nil
}

// filter reads which rows are meant.
func (x *stepReader) filter() error {
	if x.f.Where != nil {
		if x.s.Where = *x.f.Where; strings.TrimSpace(x.s.Where) == "" {
			return x.failf(".where", "where is empty; leave it out to change every row")
		}
	}
	if x.f.Once != nil {
		if x.s.Once = *x.f.Once; x.s.Once == "" {
			return x.failf(".once", "once is empty; it names a column of the table")
		}
	}
	return nil
}

// named tells the values that let names: those in SQL, and those that transforms make here.
func (f fileStep) named() (sql map[string]string, shaped map[string]any) {
	sql, shaped = map[string]string{}, map[string]any{}
	for name, v := range f.Let {
		switch v := v.(type) {
		case string:
			sql[name] = v
		case []any, map[string]any:
			shaped[name] = v
		}
	}
	return sql, shaped
}

// top reports whether the step means the first rows of an order.
func (f fileStep) top() bool {
	return f.Order != nil && !f.ChangesKeys.Used() || f.Skip != nil || f.First != nil
}

// first reads how many of them, and in which order.
func (x *stepReader) first() error {
	f := x.f
	switch {
	case !f.top():
		return nil
	case f.First == nil:
		return x.failf(".order", "first, the number of rows, is missing")
	case *f.First < 1:
		return x.failf(".first", "first: %d is not a number of rows from 1 up", *f.First)
	}
	x.s.First = f.First
	if f.Skip != nil {
		if x.s.Skip = *f.Skip; x.s.Skip < 0 {
			return x.failf(".skip", "skip: %d is not a number of rows from 0 up", x.s.Skip)
		}
	}
	if f.Order != nil {
		if x.s.Order = *f.Order; strings.TrimSpace(x.s.Order) == "" {
			return x.failf(".order", "order is empty; leave it out for the order of the key")
		}
	}
	return nil
}

// fields reads values that are named and assigned.
func (x *stepReader) fields() error {
	named, shaped := x.f.named()
	seen := map[string]bool{}
	for _, k := range x.keys(x.path+".let", x.f.Let) {
		if seen[strings.ToLower(k)] && len(shaped) > 0 {
			return x.failf(".let."+k, "let.%s: there are two values of this name", k)
		}
		seen[strings.ToLower(k)] = true
		if sql, ok := named[k]; ok {
			x.s.Let = append(x.s.Let, change.Field{Name: k, Expr: sql})
		} else if _, ok := x.s.Kind.(*shape.Step); !ok || shaped[k] == nil {
			return x.failf(".let."+k, "let.%s: it is an SQL expression, as a text; in a step with shape it may be a list of transforms that begins with { of = \"a column\" }", k)
		}
	}
	if x.s.Kind != nil { // which has read its own
		return nil
	}
	for _, k := range x.keys(x.path+".set", x.f.Set) {
		x.s.Set = append(x.s.Set, change.Field{Name: k, Expr: x.f.Set[k]})
	}
	for _, k := range x.keys(x.path+".put", x.f.Put) {
		v, err := literal(x.f.Put[k], x.written[x.path+".put."+k])
		if err != nil {
			return x.failf(".put."+k, "put.%s: %v", k, err)
		}
		x.s.Put = append(x.s.Put, change.Literal{Name: k, Value: v})
	}
	return nil
}

// holds reads what must hold of the step.
func (x *stepReader) holds() error {
	if x.f.Late != nil {
		if *x.f.Late != "again" {
			return x.failf(".late", "late: %q is not \"again\"", *x.f.Late)
		}
		switch {
		case x.f.EachKeys.Used() || x.f.ChangesKeys.Used():
			return x.failf(".late", "late does not go with a list, which says itself what is meant")
		case x.f.MergeKeys.Used():
			return x.failf(".late", "late does not go with merge: groups are found before the first batch; run --until-clean finds those that have come since")
		case x.f.top():
			return x.failf(".late", "late does not go with first: the last pass would mean the next of the first rows")
		}
		x.s.Late = true
	}
	if x.f.Method != nil {
		if x.s.Method = *x.f.Method; !slices.Contains([]string{"sweep", "roster", "single"}, x.s.Method) {
			return x.failf(".method", "method: %q is not sweep, roster or single", x.s.Method)
		}
	}
	if x.f.Expect != nil {
		v, err := literal(x.f.Expect, "")
		if err != nil {
			return x.failf(".expect", "expect: %v", err)
		}
		e, err := ParseExpect(v.Text)
		if err != nil {
			return x.failf(".expect", "expect: %v", err)
		}
		x.s.Expect = &e
	}
	for n, c := range x.f.Check {
		check, err := readCheck(c)
		if err != nil {
			return x.failf(".check", "check %d: %v", n+1, err)
		}
		x.s.Checks = append(x.s.Checks, check)
	}
	return nil
}

func readCheck(c fileCheck) (Check, error) {
	if strings.TrimSpace(c.SQL) == "" {
		return Check{}, errors.New("sql is missing")
	}
	if c.Is == nil {
		return Check{}, errors.New("is, the value that the query must give, is missing")
	}
	v, err := literal(c.Is, "")
	if err != nil {
		return Check{}, fmt.Errorf("is: %v", err)
	}
	out := Check{SQL: c.SQL, Is: v.Text}
	switch c.When {
	case "", "after":
		out.After = true
	case "before":
		out.Before = true
	case "both":
		out.Before, out.After = true, true
	default:
		return out, fmt.Errorf("when: %q is not before, after or both", c.When)
	}
	return out, nil
}
