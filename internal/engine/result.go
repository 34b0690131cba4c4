package engine

import (
	"context"
	"database/sql"
	"encoding/json"
	"strings"
	"unicode/utf8"

	"jugatum/internal/change"
	"jugatum/internal/sqltext"
)

// What comes back from a statement that is called for a line.

// Result is what one statement gave that was called for a line.
type Result struct {
	Affected int64  // rows; -1 where the server does not tell
	Returned string // the first row that came back, as a JSON object; "" if there is none
	Err      error
}

// What is written down of what came back for a line.
const (
	returnedColumns = 16  // the first so many
	returnedBytes   = 200 // of each value
)

// Returned is a row that came back as a JSON object, in the order of its columns, cut short where
// it is long.
func Returned(names []string, values []*string) string {
	if len(names) == 0 {
		return ""
	}
	var b strings.Builder
	b.WriteByte('{')
	for i := range names[:min(len(names), returnedColumns)] {
		if i > 0 {
			b.WriteByte(',')
		}
		name, _ := json.Marshal(names[i])
		b.Write(name)
		b.WriteByte(':')
		var v any
		if values[i] != nil {
			v = strings.ToValidUTF8(cut(*values[i], returnedBytes), "�")
		}
		text, _ := json.Marshal(v)
		b.Write(text)
	}
	b.WriteByte('}')
	return b.String()
}

// cut is the beginning of a text, which does not end within a character.
func cut(s string, most int) string {
	if len(s) <= most {
		return s
	}
	for most > 0 && !utf8.RuneStart(s[most]) {
		most--
	}
	return s[:most] + "…"
}

// CallsEach carries statements out one by one, up to the first that fails, where a round trip is
// needed for each.
func CallsEach(ctx context.Context, tx *Tx, all []*change.Query, apart bool, one func(q *change.Query) Result) (out []Result, err error) {
	for _, q := range all {
		if apart {
			if _, err := tx.Exec(ctx, "SAVEPOINT "+LineSavepoint); err != nil {
				return nil, err
			}
		}
		res := one(q)
		if out = append(out, res); res.Err != nil {
			break
		}
		if apart { // or they would pile up
			if _, err := tx.Exec(ctx, "RELEASE SAVEPOINT "+LineSavepoint); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// CallOne carries one statement out through database/sql.
func CallOne(ctx context.Context, s *Session, c *sqltext.Call, q *change.Query) Result {
	st, release, err := s.Prepared(ctx, q.String())
	if err != nil {
		return Result{Err: err}
	}
	defer release()
	if !c.Returns() {
		res, err := st.ExecContext(ctx, q.Args...)
		if err != nil {
			return Result{Err: err}
		}
		n, err := res.RowsAffected()
		if err != nil {
			n = -1
		}
		return Result{Affected: n}
	}
	rows, err := st.QueryContext(ctx, q.Args...)
	if err != nil {
		return Result{Err: err}
	}
	defer rows.Close()
	out := Result{Affected: -1}
	for {
		names, err := rows.Columns()
		if err != nil {
			return Result{Err: err}
		}
		if err := firstRow(rows, names, &out); err != nil {
			return Result{Err: err}
		}
		if !rows.NextResultSet() {
			break
		}
	}
	if err := rows.Err(); err != nil {
		return Result{Err: err}
	}
	return out
}

// firstRow reads a set of rows to its end; the first of all is what came back.
func firstRow(rows *sql.Rows, names []string, out *Result) error {
	for rows.Next() {
		if out.Returned != "" || len(names) == 0 {
			continue
		}
		texts, into := Texts(len(names))
		if err := rows.Scan(into...); err != nil {
			return err
		}
		out.Returned = Returned(names, texts)
	}
	return rows.Err()
}

// Texts makes room for the texts of a row, nil for NULL, to be scanned into.
func Texts(n int) (texts []*string, into []any) {
	texts, into = make([]*string, n), make([]any, n)
	for i := range texts {
		into[i] = &texts[i]
	}
	return texts, into
}
