package ledger

import (
	"context"
	"database/sql"
	"errors"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Reading kept rows back.

// NextKept gives the number before that of the first kept row after from; end
// if there is none. Numbers up to end may be unused: those of rows that came
// out the same, with those of whole lanes before them.
func NextKept(ctx context.Context, db engine.DB, kept *change.Kept, from, end int64) (int64, error) {
	q := change.NextKept(db.Dialect(), kept, from)
	var before sql.NullInt64
	err := db.Pool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&before)
	switch {
	case err != nil && !errors.Is(err, sql.ErrNoRows):
		return from, err
	case !before.Valid:
		return end, nil
	}
	return before.Int64, nil
}

// ReadMismatched reads the rows of change.Mismatched and closes them.
func ReadMismatched(rows *sql.Rows, step int, kept *change.Kept, shown change.State) ([]Left, error) {
	defer rows.Close()
	values := kept.Values(shown)
	var out []Left
	for rows.Next() {
		x := Left{Step: step, Expected: map[string]string{}, Found: map[string]string{}}
		var present int
		texts := make([]sql.NullString, len(kept.Keys)+2*len(values))
		into := []any{&x.Seq, &present}
		for i := range texts {
			into = append(into, &texts[i])
		}
		if err := rows.Scan(into...); err != nil {
			return nil, err
		}
		x.Gone = present == 0
		for i := range kept.Keys {
			if i > 0 {
				x.Key += ", "
			}
			x.Key += texts[i].String
		}
		for i, v := range values {
			e, f := texts[len(kept.Keys)+2*i], texts[len(kept.Keys)+2*i+1]
			x.Expected[v.Of.Name], x.Found[v.Of.Name] = Shown(e), Shown(f)
		}
		out = append(out, x)
	}
	return out, rows.Err()
}

// Shown is a value as rows that are not as recorded are told.
func Shown(s sql.NullString) string {
	if !s.Valid {
		return "NULL"
	}
	return s.String
}

// PreviousKept gives the number of the last kept row up to to, 0 if there is none.
func PreviousKept(ctx context.Context, db engine.DB, kept *change.Kept, to int64) (int64, error) {
	return keptNumber(ctx, db, change.PreviousKept(db.Dialect(), kept, to))
}

// Repeated gives the last number, after from and up to to, of a kept row after which comes another of
// the same row of the table; 0 if there is none.
func Repeated(ctx context.Context, db engine.DB, kept *change.Kept, from, to int64) (int64, error) {
	return keptNumber(ctx, db, change.Repeated(db.Dialect(), kept, from, to))
}

func keptNumber(ctx context.Context, db engine.DB, q *change.Query) (int64, error) {
	var last sql.NullInt64
	err := db.Pool().QueryRowContext(ctx, q.String(), q.Args...).Scan(&last)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return last.Int64, err
}
