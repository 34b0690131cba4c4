package kept_test

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"jugatum/internal/dbtest"
	"jugatum/internal/kept"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
)

// TestParts: what is kept is told and written from the last step to the first, NULL as a text that no
// value is; the job puts it back in that order. Values that are not all there are an error.
func TestParts(t *testing.T) {
	const job = "[[step]]\nname = \"a\"\nsql = \"UPDATE berth SET note = 'x', new_note = 1 WHERE id < 4\"\n[[step]]\nname = \"b\"\nsql = \"DELETE FROM berth WHERE id = 5\"\n[[step]]\nname = \"c\"\nsql = \"UPDATE plain SET v = 2 WHERE v = 1\"\n"
	db, other := dbtest.Open(t, "CREATE TABLE berth (id INTEGER PRIMARY KEY, note TEXT, new_note INTEGER)", "CREATE TABLE plain (v integer)", "INSERT INTO plain VALUES (1)",
		"INSERT INTO berth VALUES (1, NULL, 0), (2, 'NULL', 0), (3, '=1', 0), (4, 'stays', 0), (5, 'goes', NULL)")
	if _, err := dbtest.Run(t, db, job, dbtest.Options()); err != nil {
		t.Fatal(err)
	}
	ctx, l := context.Background(), ledger.Open(db)
	r, err := l.Load(ctx, 1)
	if err != nil {
		t.Fatal(err)
	}
	_, work, err := plan.Prepare(ctx, db, l, r)
	if err != nil {
		t.Fatal(err)
	}
	parts := kept.Parts(ctx, db, work)
	if len(parts) != 3 {
		t.Fatal(parts)
	}
	var files []kept.File
	for i, want := range []string{",1,2\n", "id,note,new_note\n5,goes,NULL\n", "id,note,new_note,new__note,new_new_note\n1,NULL_,0,x,1\n2,NULL,0,x,1\n3,'=1,0,x,1\n"} {
		null, err := parts[i].Null(ctx, db)
		if err != nil {
			t.Fatal(err)
		}
		var b bytes.Buffer
		if err := parts[i].Write(ctx, db, &b, "old.csv", null); err != nil {
			t.Fatal(err)
		}
		if !strings.HasSuffix(b.String(), want) { // of rows without a key the number comes before
			t.Errorf("part %d: %s, want %s", i, b.String(), want)
		}
		files = append(files, kept.File{Part: parts[i], Name: "old.csv", Null: null})
	}
	text, err := kept.Job(db.Dialect(), 1, "a\njob", "sqlite:x", append(files, kept.File{Part: parts[1]}))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"title = 'Old values of run 1: a job'", "# old.csv is not put back: rows of plain have no key", "name = '2: b'", "action = 'insert'", "name = '3: a'", "action = 'update'", "null = 'NULL_'", "new__note = ''"} {
		if !strings.Contains(text, want) {
			t.Errorf("%s is not in\n%s", want, text)
		}
	}
	dbtest.Exec(t, other, "DELETE FROM jugatum_kept_1_1 WHERE seq = 2")
	if err := parts[2].Write(ctx, db, &bytes.Buffer{}, "old.jsonl", ""); err == nil || !strings.Contains(err.Error(), "2 rows of 3") {
		t.Error(err)
	}
	if err := parts[2].Write(ctx, db, &bytes.Buffer{}, "old.txt", ""); err == nil {
		t.Error("a name that says nothing is taken")
	}
}
