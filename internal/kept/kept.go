// Package kept writes what a run has kept as lists, and the job that puts the old values back from
// them: for an archive, for a spreadsheet, or for a database whose ledger is gone.
package kept

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/list"
	"jugatum/internal/runner"
	"jugatum/internal/sqltext"
)

// Part is what was kept of the rows of one table by one step of a run, or by what its batches did to
// rows of other tables.
type Part struct {
	Step  string // its name
	Does  string // update, delete, merge, insert, copy or move
	Table string // whose rows they are; of rows that were copied, the other one
	Rows  int64
	Bytes int64 // room that they take with their indexes; -1 unknown

	c    *change.Change
	kept *change.Kept
}

// Parts lists what was kept of a run's steps in the order in which its old values are put back: from
// the last step to the first, of each its own rows before those of other tables that refer to them.
func Parts(ctx context.Context, db engine.DB, work []*runner.Work) (out []*Part) {
	add := func(step string, c *change.Change, kept *change.Kept, rows int64) {
		if kept == nil || kept.Table == "" {
			return
		}
		p := &Part{Step: step, Does: c.Does(), Table: c.Table.String(), Rows: rows, Bytes: -1, c: c, kept: kept}
		if c.Verb == sqltext.Insert {
			p.Table = c.Into.Table.String()
		}
		if w, ok := db.(engine.Weigher); ok {
			table := kept.Table
			if kept.Packed != "" {
				table = kept.Packed
			}
			if n, werr := w.Weigh(ctx, table); werr == nil {
				p.Bytes = n
			}
		}
		out = append(out, p)
	}
	for _, w := range slices.Backward(work) {
		add(w.Step.Name, w.Change, w.Kept, w.Step.Totals.Changed)
		for _, a := range slices.Backward(w.Acts) {
			add(w.Step.Name+": "+a.Record.Name(), a.Change, a.Kept, a.Record.Changed)
		}
	}
	return out
}

// column is one of a list: what it is called there, and where its values are.
type column struct {
	name string // "" is never one
	of   string // column of the table that it is put back to; "" if it is there to be looked at
	from string // of the kept-values table
	key  bool   // by which the row is found
}

// columns are those of the part's list: the key by which a row is found now, the old values, and the
// new ones beside them.
func (p *Part) columns() (out []column) {
	taken := map[string]bool{}
	add := func(prefix string, k change.KeptColumn, put, key bool) {
		name := prefix + k.Of.Name
		for taken[strings.ToLower(name)] {
			prefix += "_"
			name = prefix + k.Of.Name
		}
		taken[strings.ToLower(name)] = true
		x := column{name: name, from: k.Name, key: key}
		if put {
			x.of = k.Of.Name
		}
		out = append(out, x)
	}
	inKey := func(c *change.Column) bool {
		return slices.ContainsFunc(p.kept.Keys, func(k change.KeptColumn) bool { return k.Of == c })
	}
	switch p.c.Verb {
	case sqltext.Update:
		for _, k := range p.kept.AfterRun(p.c).Keys {
			add("", k, true, true)
		}
		for _, k := range p.kept.Old {
			if inKey(k.Of) {
				add("old_", k, false, false)
			} else {
				add("", k, true, false)
			}
		}
		for _, k := range p.kept.New {
			if !inKey(k.Of) {
				add("new_", k, false, false)
			}
		}
	case sqltext.Insert:
		for _, k := range p.kept.Old {
			if key := inKey(k.Of); key {
				add("", k, true, true)
			}
		}
		for _, k := range p.kept.Old {
			if !inKey(k.Of) {
				add("new_", k, false, false)
			}
		}
	default:
		for _, k := range p.kept.Old {
			add("", k, true, inKey(k.Of))
		}
	}
	return out
}

// Lost says why a list cannot put the part's rows back, "" if it can.
func (p *Part) Lost() string {
	switch {
	case p.c.Table.Key == nil || p.c.Table.Key.Hidden:
		return "rows of " + p.Table + " have no key by which a list could find them"
	case p.c.Verb == sqltext.Update && p.c.ChangesKey():
		return "the run has changed the key of " + p.Table + ", and a list does not change keys"
	}
	return ""
}

// query is the one for the part's rows in the order in which they were kept.
func (p *Part) query(d change.Dialect) *change.Query {
	q := &change.Query{D: d}
	q.Add(d.Settings(p.kept.Packed != ""), "SELECT ")
	for i, c := range p.columns() {
		if i > 0 {
			q.Add(", ")
		}
		q.Add("k.", d.Quote(c.from), " AS ", d.Quote(c.name))
	}
	return q.Add(" FROM ", p.kept.Table, " AS k ORDER BY k.seq")
}

// Null is the text that stands for NULL in the part's list: one that no value is.
func (p *Part) Null(ctx context.Context, db engine.DB) (string, error) {
	const most = 40 // characters, of a text that anybody would take for NULL
	taken := map[string]bool{}
	err := db.Texts(ctx, p.query(db.Dialect()), func([]string) error { return nil }, func(values []*string) error {
		for _, v := range values {
			if v != nil && len(*v) <= most && strings.HasPrefix(*v, "NULL") {
				taken[*v] = true
			}
		}
		return nil
	})
	null := "NULL"
	for taken[null] {
		null += "_"
	}
	return null, err
}

// errRows is a list that has not as many rows as were kept.
var errRows = errors.New("the kept values are not all there")

// Write writes the part's rows; name says by its end how, null what stands for NULL.
func (p *Part) Write(ctx context.Context, db engine.DB, to io.Writer, name, null string) error {
	var w *list.Writer
	rows := int64(0)
	err := db.Texts(ctx, p.query(db.Dialect()), func(names []string) (err error) {
		w, err = list.NewWriter(name, to, names, null)
		return err
	}, func(values []*string) error {
		rows++
		return w.Write(values)
	})
	if err != nil {
		return fmt.Errorf("the kept values of step %q: %w", p.Step, err)
	}
	if rows != p.Rows {
		return fmt.Errorf("the kept values of step %q: %w: %d rows of %d", p.Step, errRows, rows, p.Rows)
	}
	return w.Flush()
}
