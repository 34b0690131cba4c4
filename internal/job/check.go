package job

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/kind"
	"jugatum/internal/list"
	"jugatum/internal/sqltext"
)

// Checked is what a job's text tells without a database.
type Checked struct {
	Faults  []error  // with their places
	Remarks []string // worth knowing, no faults
	Lists   []string // files of lists, which stand beside the job
}

// Check looks at a job as far as its text goes: its SQL is read by each of these dialects, and is
// at fault where none of them can; parameters are held against what is declared. What tables and columns there are it cannot know.
func (j *Job) Check(dialects []change.Dialect) Checked {
	x := &checking{j: j, dialects: dialects, used: map[string]bool{}}
	for i := range j.Steps {
		x.step(&j.Steps[i])
	}
	for _, p := range j.Params {
		if !x.used[p.Name] {
			x.out.Remarks = append(x.out.Remarks, fmt.Sprintf("parameter %s is declared and not used", p.Name))
		}
	}
	return x.out
}

type checking struct {
	j        *Job
	dialects []change.Dialect
	used     map[string]bool // parameters
	out      Checked
}

func (x *checking) fail(s *Step, field string, err error) {
	x.out.Faults = append(x.out.Faults, x.j.At(&change.FieldError{Step: s.Name, Field: field, Err: err}))
}

// read has every dialect read a piece of SQL; the fault is that of the first, where none can.
func (x *checking) read(s *Step, field, sql string, by func(d sqltext.Dialect) error) {
	var first error
	read := 0
	var not []string
	for _, d := range x.dialects {
		switch err := by(d); {
		case err == nil:
			read++
		default:
			not = append(not, d.String())
			if first == nil {
				first = err
			}
		}
	}
	switch {
	case first == nil:
	case read == 0:
		x.fail(s, field, first)
		return
	default:
		x.out.Remarks = append(x.out.Remarks, fmt.Sprintf("step %q: %s cannot be read by %s", s.Name, field, strings.Join(not, ", ")))
	}
	x.params(s, field, sql)
}

// params holds the parameters in a piece of SQL against those declared. A dialect that reads them
// otherwise tells so itself.
func (x *checking) params(s *Step, field, sql string) {
	lines, _ := s.Kind.(kind.Listed) // of which the columns are parameters as well
	for _, d := range x.dialects {
		tokens, err := sqltext.Lex(d, sql)
		if err != nil {
			continue
		}
		for _, name := range (sqltext.Fragment{Tokens: tokens}).Params() {
			x.used[name] = true
			declared := slices.ContainsFunc(x.j.Params, func(p Param) bool { return p.Name == name })
			if !declared && lines == nil {
				x.fail(s, field, fmt.Errorf("parameter :%s is not declared; add [param.%s] to the job", name, name))
			}
		}
		return
	}
}

func (x *checking) step(s *Step) {
	expression := func(field, sql string) {
		if sql != "" {
			x.read(s, field, sql, func(d sqltext.Dialect) error { _, err := sqltext.Expression(d, sql); return err })
		}
	}
	if s.SQL != "" {
		x.read(s, "sql", s.SQL, func(d sqltext.Dialect) error { _, err := sqltext.Parse(d, s.SQL); return err })
	}
	expression("where", s.Where)
	for _, f := range s.Let {
		expression("let."+f.Name, f.Expr)
	}
	for _, f := range s.Set {
		expression("set."+f.Name, f.Expr)
	}
	for _, c := range s.Checks {
		x.read(s, "check", c.SQL, func(d sqltext.Dialect) error { return sqltext.Query(d, c.SQL) })
	}
	if s.Kind == nil {
		return
	}
	s.Kind.Each(func(sql string) string { // what sort of SQL each is, its kind alone knows
		x.params(s, s.Kind.Kind(), sql)
		return sql
	})
	if l, ok := s.Kind.(kind.Listed); ok {
		if from, _ := l.List(); from.File != "" && from.File != list.Stdin {
			path := from.File
			if !filepath.IsAbs(path) && !x.j.Source.SQL {
				path = filepath.Join(filepath.Dir(x.j.Source.Name), path)
			}
			x.out.Lists = append(x.out.Lists, path)
		}
	}
}
