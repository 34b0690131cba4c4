// Package kind is what the kinds of steps that are not written as a change have in
// common. Each has a folder of its own below this one.
package kind

import (
	"errors"
	"fmt"

	"jugatum/internal/change"
	"jugatum/internal/list"
	"jugatum/internal/sqltext"
)

// Keys are the keys in a job file by which steps of a kind are told.
type Keys interface {
	// Used reports whether any of the keys is there.
	Used() bool

	// Names lists them, for messages: "from, match and fill".
	Names() string

	// Read makes the step of its keys. order gives the keys of a table in the order of
	// the file. field is where a fault is.
	Read(order func(key string, m any) []string) (s Step, field string, err error)
}

// Step is a step of such a kind as its author wrote it. What is exported of it goes
// into the job's digest.
type Step interface {
	// Kind is its name, by which the digest and the docs call it: "fill".
	Kind() string

	// Each calls do for every piece of SQL of the step, to be replaced by what it gives.
	Each(do func(sql string) string) Step

	// Parts makes the specs of the changes that the step comes to, in the order in
	// which they are carried out. spec has the step's name, table, filter and marker.
	// Faults in the step are *change.FieldError.
	Parts(spec change.Spec, at Place) ([]Part, error)
}

// Listed is met by steps that carry out the lines of a list, which are read before the changes
// are made.
type Listed interface {
	Step

	// List says where the lines come from, and how they are written.
	List() (list.Source, list.Format)
}

// Place is the database that the changes are made for.
type Place struct {
	D      change.Dialect
	Tables change.Catalogue
	Once   bool         // the engine would rather have a joined table read once, before the first batch
	List   *change.List // the step's list; nil if it has none
}

// Part is one of the changes that a step comes to: its spec, and the end of its name.
type Part struct {
	Name string // "" for the one that the step is named after
	Spec change.Spec
}

// Nearest says which of the names may have been meant, "" where none is near.
func Nearest(name string, names []string) string {
	if near := change.Nearest(name, names); near != "" {
		return fmt.Sprintf("; did you mean %q?", near)
	}
	return ""
}

// Absent reports whether an error of the catalogue says that there is no such table.
func Absent(err error) bool {
	var e interface{ Absent() bool }
	return errors.As(err, &e) && e.Absent()
}

// Checker reads pieces of a step's SQL one by one, so that none can reach into another.
type Checker struct {
	D    change.Dialect
	Step string // its name
}

// Failf is a fault in a field of the step.
func (x Checker) Failf(field, format string, args ...any) error {
	return x.Fail(field, fmt.Errorf(format, args...))
}

// Fail is a fault in a field of the step.
func (x Checker) Fail(field string, err error) error {
	return &change.FieldError{Step: x.Step, Field: field, Err: err}
}

// Expression reads one SQL expression.
func (x Checker) Expression(field, text string) error {
	if _, err := sqltext.Expression(x.D, text); err != nil {
		return x.Fail(field, err)
	}
	return nil
}

// Uncommented is a piece of SQL without its comments, which could hide what stands
// after it.
func (x Checker) Uncommented(text string) string {
	tokens, err := sqltext.Lex(x.D, text)
	if err != nil {
		return text
	}
	return sqltext.Fragment{Tokens: tokens}.String()
}
