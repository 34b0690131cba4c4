// Package dbtest gives tests a SQLite database of their own and carries jobs out on
// it, as the program does but without one.
package dbtest

import (
	"bytes"
	"context"
	"database/sql"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/engine/sqlite"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
	"jugatum/internal/runner"
	"jugatum/internal/term"
)

// Open makes a database by these statements, and gives a second way to it, by which
// a test is another session.
func Open(t testing.TB, statements ...string) (engine.DB, *sql.DB) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "saltmere.db")
	other, err := sql.Open("sqlite", "file:"+path+"?_pragma=busy_timeout(20000)&_pragma=journal_mode(wal)")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { other.Close() })
	Exec(t, other, append([]string{"PRAGMA user_version = 1"}, statements...)...)
	db, err := sqlite.Open(context.Background(), "sqlite:"+path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db, other
}

// Exec carries out statements.
func Exec(t testing.TB, db *sql.DB, statements ...string) {
	t.Helper()
	for _, s := range statements {
		if _, err := db.Exec(s); err != nil {
			t.Fatalf("%s\n%v", s, err)
		}
	}
}

// One gives the value of a query.
func One(t testing.TB, db *sql.DB, query string) (v string) {
	t.Helper()
	if err := db.QueryRow(query).Scan(&v); err != nil {
		t.Fatalf("%s\n%v", query, err)
	}
	return v
}

// Plan plans a job: one statement, or the text of a file.
func Plan(db engine.DB, text, method string, values map[string]change.Value) (*plan.Plan, error) {
	j := job.FromSQL(text)
	if strings.Contains(text, "[[step]]") {
		var err error
		if j, err = job.Parse("job.toml", []byte(text)); err != nil {
			return nil, err
		}
	}
	return plan.New(context.Background(), db, j, values, method, nil)
}

// Options are those of a run that a test leaves alone.
func Options() ledger.Options {
	return ledger.Options{Hold: time.Second, Batch: 7, Keep: true}
}

// Run plans a job, refuses nothing that may be overridden, records and carries it
// out. err is how that ended.
func Run(t testing.TB, db engine.DB, text string, opts ledger.Options) (r *ledger.Run, err error) {
	t.Helper()
	ctx := context.Background()
	p, err := Plan(db, text, "", nil)
	if err != nil {
		t.Fatal(err)
	}
	steps, _, err := p.Assess(ctx, plan.Ask{Options: &opts, Count: true, Despite: []string{"every-row"}}, func(*plan.Assessment) {})
	if err != nil {
		t.Fatal(err)
	}
	l := ledger.Open(db)
	r = &ledger.Run{Title: p.Job.Name(), Source: p.Job.Source, Params: p.Values, Digest: p.Digest, Options: opts, Version: "test", Steps: steps}
	work, err := p.Record(ctx, l, r)
	if err != nil {
		t.Fatal(err)
	}
	rn := &runner.Runner{DB: db, Ledger: l, Run: r, Work: work}
	p.Guard(rn, []string{"every-row"})
	return r, rn.Execute(ctx)
}

// Undo takes a run back.
func Undo(t testing.TB, db engine.DB, id int64) (u *ledger.Run, lost []string, err error) {
	t.Helper()
	ctx := context.Background()
	l := ledger.Open(db)
	orig, err := l.Load(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	p, err := plan.RestoreLoosely(ctx, db, orig)
	if err != nil {
		t.Fatal(err)
	}
	if u, err = p.Undo(orig, Options()); err != nil {
		return nil, nil, err
	}
	work, err := p.Record(ctx, l, u)
	if err == nil {
		err = plan.AsUndo(work, l, orig)
	}
	if err == nil {
		lost, err = plan.FitAll(ctx, db, work, false)
	}
	if err != nil {
		return u, nil, err
	}
	return u, lost, (&runner.Runner{DB: db, Ledger: l, Run: u, Work: work}).Execute(ctx)
}

// Out is where texts are printed.
type Out = term.Out

// Printed is what is written to the Out that print gets.
func Printed(print func(*Out)) string {
	var b bytes.Buffer
	print(&Out{Writer: &b})
	return b.String()
}
