package mariadb

import (
	"context"
	"fmt"
	"strings"
	"testing"

	"jugatum/internal/engine"
)

// ugly are rows with all that means something in a file of them.
func ugly(n int) (rows [][]any) {
	texts := []any{"a", "", nil, "NULL", `\N`, "a\tb", "a\nb", "a\r\n", `back\slash`, "nul\x00l", "\x1a", `"quoted"`, "'", "日本語", " blanks ", "x'41'", "\\", "\\\t"}
	for i := range n {
		rows = append(rows, []any{int64(i), texts[i%len(texts)], fmt.Sprintf("%d.5", i), "2026-11-30"})
	}
	return rows
}

// TestHandOver: rows that are handed over as a file are those that INSERTs make; where the server has
// something to say of a value, or takes no files, none of it has been done.
func TestHandOver(t *testing.T) {
	ctx := context.Background()
	const form = " (id bigint PRIMARY KEY, t text CHARACTER SET utf8mb4 COLLATE utf8mb4_bin, n decimal(9,1), d date)"
	db, pool := open(t, "CREATE TABLE byfile"+form, "CREATE TABLE byinsert"+form)
	columns := []string{"id", "t", "n", "d"}
	s, err := db.Session(ctx, engine.SessionOptions{})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	dump := func(table string) string {
		t.Helper()
		var text string
		if err := pool.QueryRow("SELECT coalesce(group_concat(concat_ws('|', id, coalesce(hex(t), 'NULL'), n, d) ORDER BY id SEPARATOR ' '), '') FROM " + table).Scan(&text); err != nil {
			t.Fatal(err)
		}
		return text
	}
	insert := func(table string, rows [][]any) error {
		_, err := s.InTx(ctx, func(tx *engine.Tx) error { return db.InsertRows(ctx, tx, table, columns, rows) })
		return err
	}
	into := func(table string) string { return table + " CHARACTER SET utf8mb4 " + handedOver + " (id, t, n, d)" }
	rows := ugly(fewHandedOver + 40)
	if _, err := s.InTx(ctx, func(tx *engine.Tx) error {
		done, err := db.handOver(ctx, tx, into("byfile"), rows)
		if err == nil && !done {
			t.Error("the server took no file")
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	db.noFiles.Store(true)
	if err := insert("byinsert", rows); err != nil {
		t.Fatal(err)
	}
	if a, b := dump("byfile"), dump("byinsert"); a != b || !strings.Contains(a, "|NULL|") {
		t.Errorf("by a file %.300s\nby INSERTs %.300s", a, b)
	}
	db.noFiles.Store(false)

	for name, bad := range map[string][]any{"a number": {int64(9000), "x", "many", "2026-11-30"}, "a date": {int64(9000), "x", "1", "0000-00-00"}, "a day": {int64(9000), "x", "1", "2026-02-30"}, "a key twice": {int64(3), "x", "1", "2026-11-30"}, "out of range": {int64(9000), "x", "999999999999", "2026-11-30"}} {
		if _, err := pool.Exec("DELETE FROM byfile"); err != nil {
			t.Fatal(err)
		}
		with := append(ugly(fewHandedOver), bad)
		if _, err := s.InTx(ctx, func(tx *engine.Tx) error {
			done, err := db.handOver(ctx, tx, into("byfile"), with)
			if done {
				t.Errorf("%s: it was taken", name)
			}
			return err
		}); err != nil {
			t.Fatal(err)
		}
		if got := dump("byfile"); got != "" {
			t.Errorf("%s: %.100s", name, got)
		}
		if err := insert("byfile", with); err == nil || dump("byfile") != "" {
			t.Errorf("%s: %v, %.100s", name, err, dump("byfile"))
		}
	}

	if _, err := pool.Exec("SET GLOBAL local_infile = 0"); err != nil {
		t.Fatal(err)
	}
	defer pool.Exec("SET GLOBAL local_infile = 1")
	if err := insert("byfile", rows); err != nil {
		t.Fatal(err)
	}
	if dump("byfile") != dump("byinsert") || !db.noFiles.Load() {
		t.Errorf("without files: %.300s", dump("byfile"))
	}
}
