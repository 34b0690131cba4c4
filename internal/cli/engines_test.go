package cli

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jugatum/internal/engine"
	"jugatum/internal/engine/sqlite"
)

// book is a made-up engine: one that keeps its tables in a file of SQLite's under a name
// of its own.
type book struct{ *sqlite.DB }

func (b book) Name() string { return "book:" + strings.TrimPrefix(b.DB.Name(), "sqlite:") }

// TestAnotherEngine: an engine that registers itself has every command, and nothing else
// knows of it.
func TestAnotherEngine(t *testing.T) {
	engine.Register(engine.Driver{Schemes: []string{"book"}, Shape: "book:PATH", File: true, Open: func(ctx context.Context, url string) (engine.DB, error) {
		db, err := sqlite.Open(ctx, "sqlite:"+strings.TrimPrefix(url, "book:"))
		if err != nil {
			return nil, err
		}
		return book{db}, nil
	}})
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "config"))
	path := filepath.Join(dir, "port.book")
	db, err := sql.Open("sqlite", path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TABLE berth (no INTEGER PRIMARY KEY, rate INTEGER); INSERT INTO berth VALUES (1, 10), (2, 20), (3, 30)"); err != nil {
		t.Fatal(err)
	}
	rates := func() (text string) {
		if err := db.QueryRow("SELECT group_concat(rate) FROM berth").Scan(&text); err != nil {
			t.Fatal(err)
		}
		return text
	}
	jugatum := func(args ...string) string {
		t.Helper()
		out, err := os.Create(filepath.Join(dir, "out"))
		if err != nil {
			t.Fatal(err)
		}
		defer out.Close()
		none, err := os.Open(os.DevNull)
		if err != nil {
			t.Fatal(err)
		}
		defer none.Close()
		status := Main(append([]string{"jugatum"}, append(args, "--db", "book:"+path)...), none, out, out)
		text, err := os.ReadFile(out.Name())
		if err != nil || status != 0 {
			t.Fatalf("%v: exit status %d, %v\n%s", args, status, err, text)
		}
		return string(text)
	}
	if out := jugatum("survey"); !strings.Contains(out, "book:"+path) {
		t.Error(out)
	}
	jugatum("run", "--sql", "UPDATE berth SET rate = rate + 1 WHERE no > 1", "--accept", "2", "--batch", "1")
	if got := rates(); got != "10,21,31" {
		t.Errorf("rates %s", got)
	}
	jugatum("verify", "1")
	jugatum("undo", "1")
	if got := rates(); got != "10,20,30" {
		t.Errorf("rates %s", got)
	}
	defer func() {
		if recover() == nil {
			t.Error("a scheme has two engines")
		}
	}()
	engine.Register(engine.Driver{Schemes: []string{"another", "mysql"}})
}
