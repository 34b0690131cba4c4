package plan

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/kind/changes"
	"jugatum/internal/ledger"
	"jugatum/internal/list"
)

// The turns of a list that is carried out in the order of the file, see change.NextTurn.

// maxTurns is how many lines may have one key: each turn is a table of lines and up to three
// steps with kept values of their own.
const maxTurns = 50

// turnStretch is how many lines are put into the table of the next turn in one transaction.
const turnStretch = 10_000

// ownKey reports whether the lines find their rows by the very key of the table, which every kept
// row has: by other columns a row that a later line deletes is not found again.
func (x *loading) ownKey(ctx context.Context) (bool, error) {
	t, err := x.p.target(ctx, x.of.Spec)
	if err != nil {
		return false, err
	}
	return t.Key != nil && slices.Equal(names(x.list.Table.Key.Columns), t.Key.Names()), nil
}

// turns gives each further line with the same key to a turn of its own.
func (x *loading) turns(ctx context.Context, record *ledger.List, s *changes.Step) error {
	for before := x.list; ; {
		t := ledger.Turn{Table: ledger.NewListName()}
		next := x.p.later(x.list, t, before.Turn+1)
		if err := x.create(ctx, next); err != nil {
			return err
		}
		moved, err := x.part(ctx, before, next)
		if err != nil {
			return err
		}
		if moved == 0 {
			if err := x.apart(ctx, func(tx *engine.Tx) error { _, err := tx.Exec(ctx, "DROP TABLE "+next.SQL); return err }); err != nil {
				return err
			}
			x.p.made = x.p.made[:len(x.p.made)-1]
			break
		}
		if next.Turn == maxTurns {
			return x.tooMany(ctx, next)
		}
		record.Turns = append(record.Turns, t)
		x.list.Later = append(x.list.Later, next)
		before = next
	}
	before := x.list
	if len(x.list.Later) > 0 { // of a table that it knows nothing of MariaDB would read all for each line
		if err := x.analyze(ctx, before); err != nil {
			return err
		}
	}
	for i, t := range x.list.Later {
		if err := x.settle(ctx, s, before, t, &record.Turns[i]); err != nil {
			return err
		}
		t.Later, before = x.list.Later[i+1:], t
	}
	return nil
}

// part puts those lines that have an earlier one with the same key into the next turn.
func (x *loading) part(ctx context.Context, from, to *change.List) (moved int64, err error) {
	d := x.p.DB.Dialect()
	err = x.inStretches(ctx, from, func(tx *engine.Tx, r change.Range) error {
		q := change.NextTurn(d, from, to, x.columns, r)
		if _, err := tx.S.Conn.ExecContext(ctx, q.String(), q.Args...); err != nil {
			return err
		}
		q = change.LeaveTurn(d, from, to, r)
		res, err := tx.S.Conn.ExecContext(ctx, q.String(), q.Args...)
		if err != nil {
			return err
		}
		n, err := res.RowsAffected()
		moved += n
		return err
	})
	return moved, err
}

// settle tells what is known of the lines of a later turn: how many there are, their actions,
// and whether those before them leave a row.
func (x *loading) settle(ctx context.Context, s *changes.Step, before, t *change.List, record *ledger.Turn) error {
	d := x.p.DB.Dialect()
	err := x.inStretches(ctx, t, func(tx *engine.Tx, r change.Range) error {
		q := change.FindTurn(d, before, t, string(s.Action), r)
		_, err := tx.S.Conn.ExecContext(ctx, q.String(), q.Args...)
		return err
	})
	if err != nil {
		return err
	}
	lines, err := ledger.Open(x.p.DB).Lines(ctx, t)
	if err != nil {
		return err
	}
	for action, n := range lines {
		if record.Lines += n[""]; action != "" {
			record.Actions = append(record.Actions, action)
		}
	}
	slices.Sort(record.Actions)
	t.Lines, t.Has = record.Lines, record.Actions
	t.Table.Rows = t.Lines
	return x.analyze(ctx, t)
}

// inStretches does something with all lines of a table, stretch by stretch, each in a
// transaction of its own.
func (x *loading) inStretches(ctx context.Context, l *change.List, do func(tx *engine.Tx, r change.Range) error) error {
	return engine.NewWalk(x.p.DB, l.Table).Stretches(ctx, turnStretch, func(r change.Range) error {
		return x.apart(ctx, func(tx *engine.Tx) error { return do(tx, r) })
	})
}

// tooMany tells of a key that more lines have than there are turns.
func (x *loading) tooMany(ctx context.Context, last *change.List) error {
	var line int
	if err := x.p.session.Conn.QueryRowContext(ctx, "SELECT min("+x.p.DB.Dialect().Quote(change.ListLine)+") FROM "+last.SQL).Scan(&line); err != nil {
		return err
	}
	return &list.Fault{File: x.in.Name, Line: line, Msg: fmt.Sprintf("this is line %d with its key (%s), and at most %d may have the same: write the lines from here on into another list, and carry it out after this one", maxTurns+1, strings.Join(x.list.Table.Key.Names(), ", "), maxTurns)}
}

// later describes the table for a later turn of a list.
func (p *Plan) later(first *change.List, t ledger.Turn, turn int) *change.List {
	d, out, table := p.DB.Dialect(), *first, *first.Table
	out.SQL, out.Turn, out.Later, out.Lines, out.Has = p.DB.LedgerTable(t.Table), turn, nil, t.Lines, t.Actions
	at := tableName(d, out.SQL)
	table.Schema, table.Name, table.Rows = at.Schema, at.Name, t.Lines
	out.Table = &table
	return &out
}
