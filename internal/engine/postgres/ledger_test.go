package postgres

import (
	"context"
	"errors"
	"slices"
	"testing"

	"jugatum/internal/engine"
)

// TestLedgersOfOthers: a ledger that another user may have made to be found is
// not, and a schema of somebody's tables is not taken for one.
func TestLedgersOfOthers(t *testing.T) {
	db, other := open(t)
	ctx := context.Background()
	make := func(schema, owner string) {
		t.Helper()
		texts := []string{"DROP SCHEMA IF EXISTS " + schema + " CASCADE", "CREATE SCHEMA " + schema + " AUTHORIZATION " + owner, "SET ROLE " + owner}
		for _, name := range []string{"ledger", "run", "step", "lane", "batch", "signal"} {
			texts = append(texts, "CREATE TABLE "+schema+"."+name+" (version integer)")
		}
		for _, text := range append(texts, "RESET ROLE") {
			if _, err := other.Exec(text); err != nil {
				t.Fatalf("%s: %v", text, err)
			}
		}
		t.Cleanup(func() { other.Exec("DROP SCHEMA " + schema + " CASCADE") })
	}
	other.SetMaxOpenConns(1) // for SET ROLE
	if _, err := other.Exec("CREATE ROLE stranger"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { other.Exec("DROP ROLE stranger") })
	make("strange", "stranger")
	make("ops", "postgres")
	if got, err := db.Ledgers(ctx); err != nil || !slices.Equal(got, []string{"ops"}) {
		t.Errorf("ledgers in %q, %v", got, err)
	}
	if _, err := other.Exec("DROP TABLE ops.ledger"); err != nil {
		t.Fatal(err)
	}
	var refused *engine.RefusedError
	if err := db.PlaceLedger(ctx, "ops"); !errors.As(err, &refused) {
		t.Errorf("a schema with tables called run and step: %v", err)
	}
	if err := db.PlaceLedger(ctx, "not_there_yet"); err != nil {
		t.Error(err)
	}
}
