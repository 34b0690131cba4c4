package engine

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"jugatum/internal/change"
)

// SelfCommitter is met by engines where a procedure may end the transaction that it is called in.
type SelfCommitter interface {
	// CallAlone commits the transaction, carries the statement out in one that the procedure
	// may end as it likes, and begins another if there is none any more. Where it gives an
	// error, no transaction need be open.
	CallAlone(ctx context.Context, tx *Tx, c *change.Call, q *change.Query) (Result, error)
}

// EndsError is a procedure that cannot be carried out within a transaction of ours, since it
// commits or rolls back itself.
type EndsError struct{ Err error }

func (e *EndsError) Error() string { return e.Err.Error() }
func (e *EndsError) Unwrap() error { return e.Err }

// LineError is a line whose statement failed.
type LineError struct {
	Line int64
	Err  error
}

func (e *LineError) Error() string { return fmt.Sprintf("line %d: %v", e.Line, e.Err) }
func (e *LineError) Unwrap() error { return e.Err }

// errUnknown is what is known of a line during which a run was cut off, where its procedure
// ends transactions itself.
var errUnknown = errors.New("the run was cut off while the statement was carried out for this line: whether it took effect is not known, and it is not called again; look, and let it be set aside")

// Call carries out the statement of c for the lines of r, in their order, and writes what became
// of each where the list says. With apart, a line that fails is undone alone and told in the
// effect; otherwise it is the error. A line is never called again of which that is written.
func Call(ctx context.Context, db DB, tx *Tx, c *change.Change, r change.Range, apart bool) (Effect, error) {
	x := calling{db: db, tx: tx, c: c, apart: apart, e: Effect{Log: NoLog}}
	if r.At != nil { // once more, since somebody wants so
		if err := x.forget(ctx, r.At[0]); err != nil {
			return x.e, err
		}
	}
	todo, begun, err := x.read(ctx, r)
	if err != nil {
		return x.e, err
	}
	for _, line := range begun { // the last process was cut off there
		x.refuse(line, errUnknown)
		if err := x.settle(ctx, line.at, Result{Err: errUnknown}); err != nil {
			return x.e, err
		}
	}
	if c.Call.Commits != "" {
		err = x.alone(ctx, todo)
	} else {
		err = x.together(ctx, todo)
	}
	return x.e, err
}

// calling is a batch of lines under way.
type calling struct {
	db    DB
	tx    *Tx
	c     *change.Change
	apart bool
	e     Effect
}

// calledLine is a line of the list.
type calledLine struct {
	at     int64
	values []*string
}

// read gives the lines of a stretch for which nothing was called yet, and those of which it is not
// known whether that took effect, and counts the others.
func (x *calling) read(ctx context.Context, r change.Range) (todo, begun []calledLine, err error) {
	q := change.CallLines(x.c, r)
	rows, err := x.tx.S.Conn.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	n := len(x.c.Call.Columns)
	for rows.Next() {
		line := calledLine{values: make([]*string, n)}
		var outcome, fault sql.NullString
		into := []any{&line.at, &outcome, &fault}
		for i := range line.values {
			into = append(into, &line.values[i])
		}
		if err := rows.Scan(into...); err != nil {
			return nil, nil, err
		}
		x.e.Scanned++
		x.e.Matched++
		switch change.Outcome(outcome.String) {
		case change.Called:
			x.e.Changed++
		case change.Begun:
			begun = append(begun, line)
		case change.Refused:
			x.refuse(line, errors.New(fault.String))
		default:
			todo = append(todo, line)
		}
	}
	return todo, begun, rows.Err()
}

func (x *calling) refuse(line calledLine, err error) {
	values := map[string]*string{}
	for i, name := range x.c.Call.Columns {
		values[name] = line.values[i]
	}
	x.e.Refused = append(x.e.Refused, &RefusedRow{Key: change.KeyValue{line.at}, New: values, Err: err})
}

func (x *calling) query(line calledLine) *change.Query {
	return x.c.Call.CallQuery(x.c.D, line.values, x.c.Params)
}

// pipelined is how many lines are sent at a time.
const pipelined = 500

// together calls for all lines in the batch's own transaction.
func (x *calling) together(ctx context.Context, todo []calledLine) error {
	var done [][]any
	for len(todo) > 0 {
		part := todo[:min(len(todo), pipelined)]
		all := make([]*change.Query, len(part))
		for i, line := range part {
			all[i] = x.query(line)
		}
		results, log, err := x.db.Calls(ctx, x.tx, x.c.Call, all, x.apart)
		if err != nil {
			return err
		}
		x.e.AddLog(log)
		for i, res := range results {
			if res.Err != nil {
				if err := x.failed(ctx, part[i], res.Err); err != nil {
					return err
				}
			} else {
				x.e.Changed++
			}
			done = append(done, row(part[i].at, res))
		}
		todo = todo[len(results):]
	}
	return x.write(ctx, done)
}

// failed takes the statement of a line back, or gives the error with which the batch ends.
func (x *calling) failed(ctx context.Context, line calledLine, err error) error {
	if x.db.Fault(err) == EndsTransaction {
		return &EndsError{err}
	}
	if !x.apart || !x.own(err) {
		return &LineError{line.at, err}
	}
	for _, text := range []string{"ROLLBACK TO SAVEPOINT ", "RELEASE SAVEPOINT "} {
		if _, rerr := x.tx.Exec(ctx, text+LineSavepoint); rerr != nil {
			if x.lost(rerr) {
				return &LineError{line.at, rerr}
			}
			if _, ends := x.db.(SelfCommitter); ends { // perhaps by a commit
				return fmt.Errorf("line %d: %v; and the transaction that it was called in is ended (%v): lines before it may have been carried out, and nothing tells which; look before you go on", line.at, err, rerr)
			}
			return &LineError{line.at, err} // all of it was taken back
		}
	}
	x.refuse(line, err)
	return nil
}

// RefuseLine writes down that a line was refused.
func RefuseLine(ctx context.Context, db DB, tx *Tx, c *change.Change, key change.KeyValue, cause error) error {
	line, _ := key.Int()
	return db.InsertRows(ctx, tx, c.Lines.Calls, change.CallColumns, [][]any{row(line, Result{Err: cause})})
}

// own reports whether an error is the line's, and not one of the server or the connection.
func (x *calling) own(err error) bool {
	switch x.db.Fault(err) {
	case Data, Invalid, Denied:
		return true
	}
	return false
}

// lost reports whether nothing is known of what became of a statement.
func (x *calling) lost(err error) bool {
	f := x.db.Fault(err)
	return f == Connection || f == Cancelled
}

// LineSavepoint is the savepoint before each line's statement.
const LineSavepoint = "jugatum_line"

// alone calls for lines in transactions that the procedure may end as it likes. That it is being
// called is committed before; should the run be cut off meanwhile, this is known of the line.
func (x *calling) alone(ctx context.Context, todo []calledLine) error {
	db, ok := x.db.(SelfCommitter)
	if !ok {
		return fmt.Errorf("%s: no statement ends a transaction here", x.c.Lines.File)
	}
	for _, line := range todo {
		if err := x.write(ctx, [][]any{{line.at, string(change.Begun), nil, nil, nil}}); err != nil {
			return err
		}
		res, err := db.CallAlone(ctx, x.tx, x.c.Call, x.query(line))
		if err != nil {
			return &LineError{line.at, err}
		}
		switch {
		case res.Err == nil:
			x.e.Changed++
		case x.lost(res.Err):
			return &LineError{line.at, res.Err}
		default: // it may have committed a part: the line is not called again by itself
			x.refuse(line, res.Err)
		}
		if err := x.settle(ctx, line.at, res); err != nil {
			return err
		}
	}
	return nil
}

// settle takes down what became of a line of which it was written that it is begun.
func (x *calling) settle(ctx context.Context, line int64, res Result) error {
	if err := x.forget(ctx, line); err != nil {
		return err
	}
	return x.write(ctx, [][]any{row(line, res)})
}

// forget takes out what is written of a line.
func (x *calling) forget(ctx context.Context, line any) error {
	q := &change.Query{D: x.c.D}
	q.Add("DELETE FROM ", x.c.Lines.Calls, " WHERE ", change.CallLine, " = ").Bound(x.c.D.BindAs(line, x.c.D.Types().Int))
	_, err := x.tx.S.Conn.ExecContext(ctx, q.String(), q.Args...)
	return err
}

// write takes down what became of lines.
func (x *calling) write(ctx context.Context, rows [][]any) error {
	if len(rows) == 0 {
		return nil
	}
	return x.db.InsertRows(ctx, x.tx, x.c.Lines.Calls, change.CallColumns, rows)
}

// longestError is how many bytes of an error are written down for a line.
const longestError = 2000

// row is what became of a line, as the table for that has it.
func row(line int64, res Result) []any {
	out := []any{line, string(change.Called), nil, nil, nil}
	if res.Err != nil {
		out[1], out[4] = string(change.Refused), strings.ToValidUTF8(cut(strings.ReplaceAll(res.Err.Error(), "\x00", ""), longestError), "")
		return out
	}
	if res.Affected >= 0 {
		out[2] = res.Affected
	}
	if res.Returned != "" {
		out[3] = res.Returned
	}
	return out
}
