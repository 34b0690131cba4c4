// Package survey describes a database as it matters to a change in batches.
package survey

import (
	"context"
	"errors"
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
	readers, doubt, err := readers(ctx, db)
	if err != nil {
		return nil, err
	}
	for _, t := range tables {
		s, err := look(ctx, db, t)
		if err != nil {
			return nil, err
		}
		if roles := readers[change.TableName{Schema: t.Schema, Name: t.Name}]; len(roles) > 0 {
			s.Remarks = append(s.Remarks, fmt.Sprintf("kept values of it can be read by %s, who may not read the table: REVOKE SELECT on the tables of the ledger", strings.Join(roles, ", ")))
		}
		r.Tables = append(r.Tables, s)
	}
	if r.Settings, err = db.Settings(ctx); err != nil {
		return nil, err
	}
	if doubt != "" {
		r.Settings = append(r.Settings, engine.Setting{Name: "ledger", Value: "not used", Meaning: "what runs recorded", Advice: doubt})
	}
	return r, nil
}

// readers tells who may read kept values and not their table, and why the ledger
// is not read.
func readers(ctx context.Context, db engine.DB) (roles map[change.TableName][]string, doubt string, err error) {
	there, err := db.HasLedger(ctx)
	var untrusted *engine.UntrustedError
	if errors.As(err, &untrusted) {
		return nil, untrusted.Msg, nil
	}
	teller, ok := db.(engine.ReaderTeller)
	if err != nil || !there || !ok {
		return nil, "", err
	}
	roles, err = teller.KeptReaders(ctx)
	if err != nil {
		if f := db.Fault(err); f == engine.Denied || f == engine.Invalid { // another version's, or not ours to read
			return nil, "", nil
		}
	}
	return roles, "", err
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
		if t.Key.Hidden {
			remark("no key: its rows go by their own numbers, and once a VACUUM has changed those a run can neither go on nor be undone")
		} else if t.Key.Name != "primary key" {
			remark("no primary key: walked by the unique index %s", t.Key.Name)
		}
	}
	for _, tr := range t.Triggers {
		s.Triggers = append(s.Triggers, tr.Name+" ("+tr.Events+")")
		if tr.Definer != "" {
			remark("trigger %s runs with the rights of %s", tr.Name, tr.Definer)
		}
	}
	if len(t.Triggers) > 0 {
		remark("triggers fire for every changed row, and what they change elsewhere is not kept")
	}
	for _, fk := range t.ReferredBy {
		s.ReferredBy = append(s.ReferredBy, fk.Name)
		if a := fk.OnDelete; change.Follows(a) {
			remark("a delete here reaches %s too (%s): its rows are changed first and kept, or the preview says why they cannot be", fk.From(), strings.ToLower(a))
		}
	}
	if t.Policies {
		remark("row policies hold for %s: it sees and changes only the rows that they let it", db.User())
	}
	if n := len(t.Indexes); n > 5 {
		remark("%d indexes: a change of an indexed column writes to each that holds it", n)
	}
	if t.Partitioned {
		remark("partitioned: rows are locked before they are changed, which writes a little more log")
	}
	return s, nil
}
