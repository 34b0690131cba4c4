package sqlite

import (
	"context"
	"database/sql"
	"path/filepath"
	"testing"
	"time"

	"jugatum/internal/engine"
)

// TestGuards: neither SQL that we are given nor the schema of a file reaches beyond
// the file, and a connection that reads stays one.
func TestGuards(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "t.db")
	raw, err := sql.Open("sqlite", "file:"+path)
	if err != nil {
		t.Fatal(err)
	}
	defer raw.Close()
	if _, err := raw.Exec("CREATE TABLE t (id INTEGER PRIMARY KEY, n)"); err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	db, err := Open(ctx, "sqlite:"+path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	s, err := db.Session(ctx, engine.SessionOptions{LockTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	for _, text := range []string{"ATTACH '" + filepath.Join(dir, "other.db") + "' AS o", "SELECT load_extension('x')", "PRAGMA writable_schema = 1", "PRAGMA trusted_schema = 1"} {
		if _, err := db.Pool().ExecContext(ctx, text); err == nil {
			t.Errorf("reading, %s was carried out", text)
		}
		if _, err := s.Conn.ExecContext(ctx, text); err == nil {
			t.Errorf("writing, %s was carried out", text)
		}
	}
	for _, text := range []string{"PRAGMA query_only = 0", "PRAGMA journal_mode = OFF", "DELETE FROM t", "PRAGMA query_only = 0; DELETE FROM t"} {
		if _, err := db.Pool().ExecContext(ctx, text); err == nil {
			t.Errorf("reading, %s was carried out", text)
		}
	}
	if _, err := s.Conn.ExecContext(ctx, "INSERT INTO t VALUES (1, 1)"); err != nil {
		t.Error(err)
	}
	var trusted int
	if err := db.Pool().QueryRowContext(ctx, "PRAGMA trusted_schema").Scan(&trusted); err != nil || trusted != 0 {
		t.Error(trusted, err)
	}
}
