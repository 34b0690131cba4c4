package postgres

import (
	"context"
	"database/sql"
	"testing"

	"jugatum/internal/engine"
	"jugatum/internal/testserver"
)

// TestFlushedOutlivesACrash: what was committed with FlushCommit is there after
// the server crashed at once, and so is all that was committed before it.
func TestFlushedOutlivesACrash(t *testing.T) {
	if server == nil {
		t.Skip(noPG)
	}
	p, err := testserver.StartPostgres("wal_writer_delay=10s") // which would flush it by itself
	if err != nil {
		t.Fatal(err)
	}
	defer p.Stop()
	ctx := context.Background()
	db, err := Open(ctx, p.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	s, err := db.Session(ctx, engine.SessionOptions{})
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	commit := func(flush bool, text string) {
		t.Helper()
		tx, err := s.Start(ctx)
		if err != nil {
			t.Fatal(err)
		}
		defer tx.Rollback()
		if flush {
			if err := s.FlushCommit(ctx, tx); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := tx.Exec(ctx, text); err != nil {
			t.Fatal(err)
		}
		if err := tx.Commit(ctx); err != nil {
			t.Fatal(err)
		}
	}
	commit(false, "CREATE TABLE t (n integer)")
	commit(true, "INSERT INTO t VALUES (1)")
	var mode string
	if err := s.Conn.QueryRowContext(ctx, "SHOW synchronous_commit").Scan(&mode); err != nil || mode != "off" {
		t.Errorf("afterwards synchronous_commit is %q %v", mode, err)
	}
	if err := p.Halt("immediate"); err != nil {
		t.Fatal(err)
	}
	if err := p.Start(); err != nil {
		t.Fatal(err)
	}
	other, err := sql.Open("pgx", p.URL("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	var n int
	if err := other.QueryRow("SELECT count(*) FROM t").Scan(&n); err != nil || n != 1 {
		t.Errorf("%d rows after the crash, want 1: %v", n, err)
	}
}
