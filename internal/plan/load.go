package plan

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/kind/changes"
	"jugatum/internal/ledger"
	"jugatum/internal/list"
)

// How the lines of a list come into their table.

// create makes the table for the lines of a list.
func (x *loading) create(ctx context.Context, l *change.List) error {
	d := x.p.DB.Dialect()
	texts := x.p.DB.NewTable(l.Layout(d))
	if l.Calls != "" {
		texts = append(texts, x.p.DB.NewTable(change.CallsTable(d, tableName(d, l.Calls)))...)
	}
	tx, err := x.p.session.Start(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, text := range texts {
		if _, err := tx.Exec(ctx, text); err != nil {
			return fmt.Errorf("making a table for the lines of %s: %w", l.File, err)
		}
	}
	if err := tx.Commit(ctx); err != nil {
		return err
	}
	x.p.made = append(x.p.made, l.SQL)
	if l.Calls != "" {
		x.p.made = append(x.p.made, l.Calls)
	}
	return nil
}

// Lines that are read before they are written.
const (
	stretchLines = 10_000
	stretchBytes = 1 << 20
)

// lines reads the file to its end, a stretch ahead of the one that is being written.
func (x *loading) lines(ctx context.Context) error {
	x.atOnce = int(engine.NextStretch(0, 0))
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ahead := make(chan [][]any)
	var unread error // the fault in the file, once ahead is closed
	go func() {
		defer close(ahead)
		unread = x.stretches(ctx, ahead)
	}()
	var broken <-chan struct{} // nobody can end the wait for what somebody else writes
	if x.from.File == list.Stdin {
		broken = ctx.Done()
	}
	for {
		var rows [][]any
		select {
		case <-broken:
			return ctx.Err()
		case rows = <-ahead:
		}
		if rows == nil { // it is closed
			return unread
		}
		if err := x.stretch(ctx, rows); err != nil {
			cancel()
			if broken == nil {
				for range ahead { // until its reader has ended
				}
			}
			return err
		}
		if x.told != nil {
			x.told(x.list.File, x.list.Lines)
		}
	}
}

// stretch writes lines that were read together, by as many as do not keep others waiting where there is one
// writer at a time.
func (x *loading) stretch(ctx context.Context, rows [][]any) error {
	for len(rows) > 0 {
		n := len(rows)
		if x.p.session.Locks {
			n = min(n, x.atOnce)
		}
		if err := x.write(ctx, rows[:n]); err != nil {
			return err
		}
		if n == x.atOnce { // the few at the end tell little
			x.atOnce = int(engine.NextStretch(int64(n), x.held))
		}
		x.list.Lines += int64(n)
		rows = rows[n:]
	}
	return nil
}

// stretches reads the file and hands its lines on.
func (x *loading) stretches(ctx context.Context, to chan<- [][]any) error {
	var rows [][]any
	size := 0
	for {
		line, err := x.in.Next()
		if err != nil && err != io.EOF {
			return err
		}
		if err == nil {
			row, err := x.layout.Row(x.in.Name, line)
			if err != nil {
				return err
			}
			rows = append(rows, row)
			x.rising.next(row)
			for _, v := range line.Values {
				if v != nil {
					size += len(*v)
				}
			}
		}
		if len(rows) > 0 && (err == io.EOF || len(rows) == stretchLines || size > stretchBytes) {
			select {
			case to <- rows:
			case <-ctx.Done():
				return ctx.Err()
			}
			rows, size = nil, 0
		}
		if err == io.EOF {
			return nil
		}
	}
}

// rising tells whether the keys of a list, whole numbers, rise from line to line: then no two lines
// have the same, and nobody need ask.
type rising struct {
	at    int // of the key among the values of a row; 0: it is not one whole number
	last  int64
	lines int
	ends  bool // one did not rise
}

func (r *rising) next(row []any) {
	if r.at <= 0 || r.ends {
		return
	}
	text, _ := row[r.at].(string)
	n, err := strconv.ParseInt(text, 10, 64)
	r.ends = err != nil || r.lines > 0 && n <= r.last
	r.last, r.lines = n, r.lines+1
}

func (r *rising) always() bool { return r.at > 0 && !r.ends }

// write puts lines into the table, and finds the one that the database does not take.
func (x *loading) write(ctx context.Context, rows [][]any) error {
	err := x.insert(ctx, rows)
	if err == nil || x.p.DB.Fault(err) != engine.Data && x.p.DB.Fault(err) != engine.Invalid {
		return err
	}
	if len(rows) > 1 {
		half := len(rows) / 2
		if err := x.write(ctx, rows[:half]); err != nil {
			return err
		}
		return x.write(ctx, rows[half:])
	}
	return &list.Fault{File: x.in.Name, Line: int(rows[0][0].(int64)), Msg: fmt.Sprintf("the database does not take a value of this line: %v", err)}
}

func (x *loading) insert(ctx context.Context, rows [][]any) error {
	var carried *engine.Tx
	err := x.apart(ctx, func(tx *engine.Tx) error {
		carried = tx
		return x.p.DB.InsertRows(ctx, tx, x.list.SQL, x.columns, rows)
	})
	if err == nil {
		x.held = carried.Hold
	}
	return err
}

// apart does something in a transaction of its own, and leaves others their turn.
func (x *loading) apart(ctx context.Context, do func(tx *engine.Tx) error) error {
	return x.p.apart(ctx, do)
}

// apart does something on the session that reads lists, in a transaction of its own.
func (p *Plan) apart(ctx context.Context, do func(tx *engine.Tx) error) error {
	hold, err := p.session.InTx(ctx, do)
	if y, ok := p.DB.(engine.Yielder); ok && err == nil {
		return y.Yield(ctx, p.session, hold)
	}
	return err
}

// several looks for lines with the same key: a list whose lines come in any order is refused
// then, one in the order of the file has its turns.
func (x *loading) several(ctx context.Context, record *ledger.List) error {
	twice, err := x.twice(ctx)
	if err != nil || twice == nil {
		return err
	}
	s, ok := x.kind.(*changes.Step)
	own, err := x.ownKey(ctx)
	switch {
	case err != nil:
		return err
	case !ok || !s.InOrder:
		twice.Msg += `, and nothing says which is meant; with order = "file" they are carried out one after the other`
		return twice
	case !own:
		twice.Msg += `; with order = "file" lines may have the same key where that is the table's own, and these go by other columns`
		return twice
	}
	return x.turns(ctx, record, s)
}

// shownTwice is how many keys are told that several lines have.
const shownTwice = 3

// twice tells which lines have the same key; nil if none have.
func (x *loading) twice(ctx context.Context) (*list.Fault, error) {
	d := x.p.DB.Dialect()
	q := &change.Query{D: d}
	key := ""
	for i, c := range x.list.Table.Key.Columns {
		if i > 0 {
			key += ", "
		}
		key += d.Quote(c.Name)
	}
	line := d.Quote(change.ListLine)
	q.Add("SELECT min(", line, "), max(", line, ") FROM ", x.list.SQL, " GROUP BY ", key, " HAVING count(*) > 1 ORDER BY 1 LIMIT ", fmt.Sprint(shownTwice+1))
	rows, err := x.p.session.Conn.QueryContext(ctx, q.String())
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var places []string
	first := 0
	for rows.Next() {
		var a, b int
		if err := rows.Scan(&a, &b); err != nil {
			return nil, err
		}
		if first == 0 {
			first = a
		}
		places = append(places, fmt.Sprintf("%d and %d", a, b))
	}
	if err := rows.Err(); err != nil || len(places) == 0 {
		return nil, err
	}
	more := ""
	if len(places) > shownTwice {
		places, more = places[:shownTwice], " and others"
	}
	return &list.Fault{File: x.in.Name, Line: first, Msg: fmt.Sprintf("lines %s%s have the same key (%s)", strings.Join(places, ", "), more, strings.Join(x.list.Table.Key.Names(), ", "))}, nil
}
