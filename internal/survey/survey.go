// Package survey describes a database as it matters to a change in batches.
package survey

import (
	"context"
	"fmt"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// Result is the whole description.
type Result struct {
	Database string           `json:"database"`
	Server   string           `json:"server"`
	Tables   []Table          `json:"tables"`
	Settings []engine.Setting `json:"settings"`
}

// Table is one table and what stands out about it.
type Table struct {
	Name       string   `json:"name"`
	Rows       int64    `json:"rows"`
	Estimated  bool     `json:"rows_estimated"`
	Bytes      int64    `json:"bytes"` // with indexes; -1 unknown
	Key        []string `json:"key"`
	Indexes    int      `json:"indexes"`
	Triggers   []string `json:"triggers"`
	ReferredBy []string `json:"referred_by"`
	Remarks    []string `json:"remarks"`
}

// Look describes all tables, or the named ones.
func Look(ctx context.Context, db engine.DB) (*Result, error) {
	r := &Result{Database: db.Name(), Server: db.Version()}
	tables, err := db.Tables(ctx)
	if err != nil {
		return nil, err
	}
	for _, t := range tables {
		s, err := look(ctx, db, t)
		if err != nil {
			return nil, err
		}
		r.Tables = append(r.Tables, s)
	}
	r.Settings, err = db.Settings(ctx)
	return r, err
}

// lacks gives the statements that would let this user read a table.
func lacks(ctx context.Context, db engine.DB, t *change.Table) ([]string, error) {
	teller, ok := db.(engine.PrivilegeTeller)
	if !ok {
		return nil, nil
	}
	m, err := teller.Missing(ctx, &change.Change{D: db.Dialect(), Table: t, Verb: sqltext.Update}, true)
	return m.Read, err
}

func look(ctx context.Context, db engine.DB, t *change.Table) (Table, error) {
	s := Table{Name: t.String(), Rows: t.Rows, Estimated: t.Estimated, Bytes: t.Bytes, Indexes: len(t.Indexes), Triggers: []string{}, ReferredBy: []string{}, Remarks: []string{}}
	remark := func(format string, args ...any) { s.Remarks = append(s.Remarks, fmt.Sprintf(format, args...)) }
	missing, err := lacks(ctx, db, t)
	if err != nil {
		return s, err
	}
	switch {
	case t.Refused != "":
		remark("%s", t.Refused)
	case len(missing) > 0:
		remark("%s may not read it; have it granted: %s", db.User(), strings.Join(missing, "; "))
	case t.Key == nil:
		remark("no key: cannot be walked in batches, only --method single")
	default:
		s.Key = t.Key.Names()
		n, err := engine.NewWalk(db, t).NullKeys(ctx)
		if err != nil {
			return s, err
		}
		if n > 0 {
			remark("%d rows have NULL in the key and cannot be reached by batches", n)
		}
		if t.Key.Name != "primary key" {
			remark("no primary key: walked by the unique index %s", t.Key.Name)
		}
	}
	for _, tr := range t.Triggers {
		s.Triggers = append(s.Triggers, tr.Name+" ("+tr.Events+")")
	}
	if len(t.Triggers) > 0 {
		remark("triggers fire for every changed row, and what they change elsewhere is not kept")
	}
	for _, fk := range t.ReferredBy {
		s.ReferredBy = append(s.ReferredBy, fk.Name)
		if a := fk.OnDelete; a == "CASCADE" || a == "SET NULL" || a == "SET DEFAULT" {
			remark("a delete here reaches %s too (%s); undo cannot put that back", fk.From(), strings.ToLower(a))
		}
	}
	if n := len(t.Indexes); n > 5 {
		remark("%d indexes: a change of an indexed column writes to each that holds it", n)
	}
	if t.Partitioned {
		remark("partitioned: rows are locked before they are changed, which writes a little more log")
	}
	return s, nil
}
