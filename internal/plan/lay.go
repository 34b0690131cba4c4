package plan

import (
	"context"

	"jugatum/internal/change"
	"jugatum/internal/job"
	"jugatum/internal/kind/changes"
	"jugatum/internal/kind/each"
	"jugatum/internal/ledger"
	"jugatum/internal/sqltext"
)

// What each kind of step makes of its list.

// lay holds the columns of a list against what the step does with them, and describes the table
// for its lines.
func (x *loading) lay(ctx context.Context, record *ledger.List) (err error) {
	p := x.p
	switch s := x.kind.(type) {
	case *changes.Step:
		target, err := p.target(ctx, x.of.Spec)
		if err != nil {
			return err
		}
		l, err := s.Layout(p.DB.Dialect(), x.of.Name, target, x.in.Columns)
		if err != nil {
			return err
		}
		x.layout, record.Key, record.Others, record.Extra = l, names(l.Key), names(l.Others), l.Extra
	case *each.Step:
		call, told, err := p.describe(ctx, x.of.Name, s, x.in.Columns)
		if err != nil {
			return err
		}
		l, err := s.Layout(p.DB.Dialect(), x.of.Name, call, told, p.Values, x.in.Columns)
		if err != nil {
			return err
		}
		x.layout, record.Extra = l, l.Columns
	}
	x.list, err = p.listOf(ctx, x.of, record)
	return err
}

// listOf describes the list of a step by its record; how many lines it has is told by setList.
func (p *Plan) listOf(ctx context.Context, s job.Step, record *ledger.List) (*change.List, error) {
	d, text := p.DB.Dialect(), p.DB.LedgerTable(record.Table)
	at := tableName(d, text)
	if _, ok := s.Kind.(*each.Step); ok {
		x := change.NewCallList(d, record.File, at, record.Extra)
		x.SQL, x.Calls = text, p.DB.LedgerTable(record.Calls())
		return x, nil
	}
	target, err := p.target(ctx, s.Spec)
	if err != nil {
		return nil, err
	}
	var columns [2][]*change.Column
	for n, list := range [][]string{record.Key, record.Others} {
		for _, name := range list {
			c := target.Named(name)
			if c == nil {
				return nil, Refusef("step %q: %s has no column %s any more, for which the lines of %s have values", s.Name, target, name, record.File)
			}
			columns[n] = append(columns[n], c)
		}
	}
	x := change.NewList(record.File, at, target, columns[0], columns[1], record.Extra)
	x.SQL = text
	for i, t := range record.Turns {
		x.Later = append(x.Later, p.later(x, t, i+1))
	}
	for i, t := range x.Later {
		t.Later = x.Later[i+1:]
	}
	return x, nil
}

// tableName reads the name of a table from its SQL text.
func tableName(d change.Dialect, text string) (at change.TableName) {
	if tokens, err := sqltext.Lex(d, text); err == nil { // a name, perhaps with a schema
		at.Name = d.Name(tokens[len(tokens)-1])
		if len(tokens) > 1 {
			at.Schema = d.Name(tokens[0])
		}
	}
	return at
}
