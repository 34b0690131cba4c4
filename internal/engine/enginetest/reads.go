// Package enginetest holds what must be true of every engine, for their tests.
package enginetest

import (
	"context"
	"reflect"
	"slices"
	"testing"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// ReadsCase is a statement and what it reads besides its row.
type ReadsCase struct {
	SQL  string
	Want change.Reads
}

// Build makes the change of a statement.
func Build(t testing.TB, db engine.DB, sql string) *change.Change {
	t.Helper()
	ctx := context.Background()
	c, err := change.Build(db.Dialect(), change.Spec{Name: "s", SQL: sql}, map[string]change.Value{change.Clock: change.ClockValue(time.Now())},
		func(schema, name string) (*change.Table, error) { return db.Table(ctx, schema, name) })
	if err != nil {
		t.Fatalf("%s: %v", sql, err)
	}
	return c
}

// Reads holds what an engine tells of each statement against what is so.
func Reads(t *testing.T, db engine.DB, cases []ReadsCase) {
	t.Helper()
	for _, x := range cases {
		got, err := db.Reads(context.Background(), Build(t, db, x.SQL))
		if err != nil {
			t.Errorf("%s: %v", x.SQL, err)
			continue
		}
		if x.Want.Tables == nil {
			got.Tables = nil
		}
		for _, list := range [][]string{got.Live, x.Want.Live, got.Opaque, got.Volatile, got.Once} {
			slices.Sort(list)
		}
		if !reflect.DeepEqual(got, x.Want) {
			t.Errorf("%s:\n got %+v\nwant %+v", x.SQL, got, x.Want)
		}
	}
}
