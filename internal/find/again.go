package find

import (
	"context"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Replaced is a text that a job was to replace.
type Replaced struct {
	Text, With string
	Columns    map[string]bool // in which, as Place names them
}

// Place names a column of a table for Replaced.
func Place(db engine.DB, t *change.Table, column string) string {
	return t.NameSQL(db.Dialect()) + "." + column
}

// LeftOver is where a text is found after a run that was to replace it.
type LeftOver struct {
	Text      string   `json:"text"`
	Left      int64    `json:"left"`      // occurrences that the job should have replaced, in its columns
	Still     []LeftIn `json:"still"`     // where these are
	Near      []LeftIn `json:"near"`      // other occurrences in its columns
	Elsewhere []LeftIn `json:"elsewhere"` // in other columns
}

// LeftIn is a column in which a text is left, and why.
type LeftIn struct {
	Column  string `json:"column"`
	Because string `json:"because"`
	Hits    int64  `json:"occurrences"`
}

// Again looks for texts that were replaced once more, in every table.
func Again(ctx context.Context, db engine.DB, tables []*change.Table, texts []Replaced, progress func(table string, n, of int, hits int64)) ([]LeftOver, error) {
	var out []LeftOver
	for _, text := range texts {
		r, err := Search(ctx, db, text.Text, Options{Not: text.With, Progress: progress})
		if err != nil {
			return nil, err
		}
		x := LeftOver{Text: text.Text, Still: []LeftIn{}, Near: []LeftIn{}, Elsewhere: []LeftIn{}}
		for _, col := range r.Columns {
			t := change.Table{Schema: col.Schema, Name: col.Table}
			name := t.String() + "." + col.Column
			if !text.Columns[Place(db, &t, col.Column)] {
				x.Elsewhere = append(x.Elsewhere, LeftIn{name, whyNot(tables, t, col.Column), col.Hits})
				continue
			}
			x.Left += col.Exact
			for _, k := range col.Kinds {
				if k.Covered { // what the job was to replace
					x.Still = append(x.Still, LeftIn{name, "the very text: its row was set aside, or others have written it since", k.Hits})
				} else {
					x.Near = append(x.Near, LeftIn{name, Stays(k.Form, k.Differs), k.Hits})
				}
			}
		}
		out = append(out, x)
	}
	return out, nil
}

// whyNot says why a job replaces nothing in a column.
func whyNot(tables []*change.Table, t change.Table, column string) string {
	for _, x := range tables {
		switch {
		case x.Schema != t.Schema || x.Name != t.Name:
		case x.Refused != "":
			return "in a table that cannot be changed"
		case x.Key == nil:
			return "in a table without a key"
		case slices.Contains(x.Key.Names(), column):
			return "in a key column, which a job must name in full"
		}
	}
	return "not among the columns of the job"
}

// Stays says why an occurrence is not replaced.
func Stays(form, differs string) string {
	switch {
	case differs != "":
		return differs
	case strings.HasSuffix(form, ", key"):
		return "a key (keys = true)"
	case strings.Contains(form, "damaged"):
		return "damaged"
	}
	return "this form is not named (forms)"
}
