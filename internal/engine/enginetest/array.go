package enginetest

import (
	"context"
	"database/sql"
	"reflect"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Array holds that values that go back many at once are those of the statement. It makes the table moor.
func Array(t *testing.T, db engine.DB, raw *sql.DB) {
	t.Helper()
	ctx := context.Background()
	exec := func(x interface {
		Exec(string, ...any) (sql.Result, error)
	}, text string) {
		t.Helper()
		if _, err := x.Exec(text); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
	}
	exec(raw, "CREATE TABLE moor (id integer PRIMARY KEY, n integer, note varchar(60), fee numeric(10,2))")
	for _, values := range []string{"(1, 5, 'a', 1.05)", "(2, NULL, '', NULL)", "(3, -7, NULL, 0)", "(4, 0, 'quo''te \" %', 99999999.99)", "(5, 12, 'Ä日本', 3.3)", "(6, 1, ' x ', 2)", "(7, 1, 'y', 2)"} {
		exec(raw, "INSERT INTO moor VALUES "+values)
	}
	text := "UPDATE moor SET n = n * 2 + 1, note = CASE WHEN id = 6 THEN NULL WHEN id = 2 THEN 'z' ELSE concat(note, '''é') END, fee = fee / 2 WHERE id < 7"
	all := func(from interface {
		Query(string, ...any) (*sql.Rows, error)
	}) (out [][4]sql.NullString) {
		t.Helper()
		rows, err := from.Query("SELECT id, n, note, fee FROM moor ORDER BY id")
		if err != nil {
			t.Fatal(err)
		}
		defer rows.Close()
		for rows.Next() {
			var x [4]sql.NullString
			if err := rows.Scan(&x[0], &x[1], &x[2], &x[3]); err != nil {
				t.Fatal(err)
			}
			out = append(out, x)
		}
		return out
	}
	plain, err := raw.Begin()
	if err != nil {
		t.Fatal(err)
	}
	exec(plain, text)
	want := all(plain)
	plain.Rollback()

	c := Build(t, db, text)
	if !engine.Arrayed(c) {
		t.Fatal("it cannot be carried out so")
	}
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "test"})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	end, err := engine.NewWalk(db, c.Table).End(ctx)
	if err != nil {
		t.Fatal(err)
	}
	_, err = s.InTx(ctx, func(tx *engine.Tx) error {
		e, err := engine.Array(ctx, db, tx, c, change.Range{Hi: end})
		if err == nil && e.Changed != 6 {
			t.Errorf("%d rows changed, want 6", e.Changed)
		}
		return err
	})
	if got := all(raw); err != nil || !reflect.DeepEqual(got, want) {
		t.Errorf("%v: got %v\nwant %v", err, got, want)
	}
}
