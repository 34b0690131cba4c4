package cli

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/engine/sqlite"
	"jugatum/internal/sqltext"
)

// book is a made-up engine: one that keeps its tables in a file of SQLite's under a name
// of its own.
type book struct{ *sqlite.DB }

func (b book) Name() string { return "book:" + strings.TrimPrefix(b.DB.Name(), "sqlite:") }

func (b book) Dialect() change.Dialect { return bookish{b.DB.Dialect()} }

// bookish is its made-up dialect: names are in backticks, keys are compared column by
// column, and a NOT IN is not made a list of.
type bookish struct{ change.Dialect }

var bookishRules = &sqltext.Syntax{Title: "Bookish", NameQuote: '`', Backticks: true, NoUsing: true}

func (bookish) Rules() *sqltext.Syntax                 { return bookishRules }
func (bookish) String() string                         { return bookishRules.Title }
func (bookish) Quote(name string) string               { return bookishRules.Quote(name) }
func (bookish) Same(t sqltext.Token, n string) bool    { return bookishRules.Same(t, n) }
func (bookish) Text(_ *change.Column, v string) string { return "printf('%s', " + v + ")" }

func (b bookish) Forms() *change.Forms {
	f := *b.Dialect.Forms()
	f.RowComparison, f.HashesNotIn = false, false
	return &f
}

// TestAnotherEngine: an engine that registers itself, with a dialect of its own, has every
// command, and nothing else knows of it.
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
	if _, err := db.Exec("CREATE TABLE berth (zone TEXT NOT NULL, no INTEGER NOT NULL, rate INTEGER, PRIMARY KEY (zone, no)); INSERT INTO berth VALUES ('A', 1, 10), ('A', 2, 20), ('B', 1, 30)"); err != nil {
		t.Fatal(err)
	}
	rates := func() (text string) {
		if err := db.QueryRow("SELECT group_concat(rate) FROM (SELECT rate FROM berth ORDER BY zone, no)").Scan(&text); err != nil {
			t.Fatal(err)
		}
		return text
	}
	jugatum := func(status int, args ...string) string {
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
		ended := Main(append([]string{"jugatum"}, append(args, "--db", "book:"+path)...), none, out, out)
		text, err := os.ReadFile(out.Name())
		if err != nil || ended != status {
			t.Fatalf("%v: exit status %d, %v\n%s", args, ended, err, text)
		}
		return string(text)
	}
	if out := jugatum(0, "survey"); !strings.Contains(out, "book:"+path) {
		t.Error(out)
	}
	jugatum(0, "run", "--sql", "UPDATE `berth` SET rate = rate + 1 WHERE no > 1 OR zone = 'B'", "--accept", "2", "--batch", "1")
	if got := rates(); got != "10,21,31" {
		t.Errorf("rates %s", got)
	}
	if out := jugatum(2, "preview", "--sql", "DELETE FROM berth USING quay"); !strings.Contains(out, "Bookish has no DELETE") {
		t.Error(out)
	}
	jugatum(0, "verify", "1")
	jugatum(0, "undo", "1")
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
