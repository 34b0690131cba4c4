package plan_test

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"jugatum/internal/dbtest"
	"jugatum/internal/job"
	"jugatum/internal/ledger"
	"jugatum/internal/plan"
)

// written writes a list of so many lines, and gives a job that carries it out.
func written(t *testing.T, lines int) (path string, j *job.Job) {
	t.Helper()
	var text strings.Builder
	text.WriteString("id,note\n")
	for i := range lines {
		fmt.Fprintf(&text, "%d,n%d\n", i, i)
	}
	path = filepath.Join(t.TempDir(), "notes.csv")
	if err := os.WriteFile(path, []byte(text.String()), 0o644); err != nil {
		t.Fatal(err)
	}
	j, err := job.Parse(filepath.Join(filepath.Dir(path), "job.toml"), []byte("[[step]]\ntable = \"berth\"\nchanges = \"notes.csv\"\naction = \"update\"\n"))
	if err != nil {
		t.Fatal(err)
	}
	return path, j
}

const listTables = "SELECT count(*) FROM sqlite_schema WHERE name LIKE 'jugatum!_list%' ESCAPE '!' AND type = 'table'"

// TestListThatChanges: a file that somebody writes to while it is read is refused, and nothing
// of it stays; so is one of which the reading is broken off.
func TestListThatChanges(t *testing.T) {
	for _, x := range []struct {
		name string
		do   func(path string, cancel func()) error
		want string
	}{
		{"it grows", func(path string, _ func()) error {
			f, err := os.OpenFile(path, os.O_APPEND|os.O_WRONLY, 0)
			if err != nil {
				return err
			}
			_, err = f.WriteString("77777,late\n")
			return errors.Join(err, f.Close())
		}, "was changed while it was read; wait until it is whole"},
		{"another takes its place", func(path string, _ func()) error {
			if err := os.WriteFile(path+".new", []byte("id,note\n1,x\n"), 0o644); err != nil {
				return err
			}
			return os.Rename(path+".new", path)
		}, "was changed while it was read; wait until it is whole"},
		{"it goes", func(path string, _ func()) error { return os.Remove(path) }, "was changed while it was read; wait until it is whole"},
		{"nobody waits for it any more", func(_ string, cancel func()) error { cancel(); return nil }, "context canceled"},
	} {
		t.Run(x.name, func(t *testing.T) {
			db, other := dbtest.Open(t, harbour...)
			before := dbtest.One(t, other, "SELECT group_concat(id || note) FROM berth")
			path, j := written(t, 25_000)
			ctx, cancel := context.WithCancel(context.Background())
			defer cancel()
			told := 0
			_, err := plan.New(ctx, db, j, nil, "", func(file string, lines int64) {
				if told++; told == 1 {
					if file != "notes.csv" || lines == 0 {
						t.Errorf("%d lines of %s are read", lines, file)
					}
					if err := x.do(path, cancel); err != nil {
						t.Error(err)
					}
				}
			})
			if err == nil || !strings.Contains(err.Error(), x.want) {
				t.Errorf("%v, expected %s", err, x.want)
			}
			if n := dbtest.One(t, other, listTables); n != "0" {
				t.Errorf("%s tables of lines stay", n)
			}
			if after := dbtest.One(t, other, "SELECT group_concat(id || note) FROM berth"); after != before {
				t.Error("rows are others")
			}
		})
	}
}

// TestListIsRecorded: what is recorded of a list tells it from another one, and a record that
// names another table is refused; a plan that is closed leaves no lines, one whose run is
// recorded leaves them to it.
func TestListIsRecorded(t *testing.T) {
	db, other := dbtest.Open(t, harbour...)
	digests := map[string]bool{}
	for _, lines := range []int{3, 3, 4} {
		_, j := written(t, lines)
		p, err := plan.New(context.Background(), db, j, nil, "", nil)
		if err != nil {
			t.Fatal(err)
		}
		digests[p.Digest] = true
		x, err := ledger.ListOf(p.Values, 0)
		if err != nil || x.File != "notes.csv" || x.Lines != int64(lines) || len(x.SHA256) != 64 {
			t.Errorf("%+v, %v", x, err)
		}
		if n := dbtest.One(t, other, listTables); n != "1" {
			t.Errorf("%s tables of lines", n)
		}
		p.Close()
		if n := dbtest.One(t, other, listTables); n != "0" {
			t.Errorf("%s tables of lines stay", n)
		}
		v := p.Values[ledger.ListParam(0)]
		v.Text = strings.Replace(v.Text, x.Table, "berth", 1)
		p.Values[ledger.ListParam(0)] = v
		if _, err := ledger.ListOf(p.Values, 0); err == nil || !strings.Contains(err.Error(), "which is no name that it would have given") {
			t.Error(err)
		}
	}
	if len(digests) != 2 {
		t.Errorf("%d digests of two lists", len(digests))
	}
}
