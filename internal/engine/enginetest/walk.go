package enginetest

import (
	"context"
	"database/sql"
	"slices"
	"strconv"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/engine"
)

// HeavyWalk fills the empty table heavy (id, note), in which a few of many small
// values are large, and goes through it: once the walk heeds lengths, no range
// holds more than one large value, and no row is passed by.
func HeavyWalk(t *testing.T, db engine.DB, raw *sql.DB) {
	t.Helper()
	ctx := context.Background()
	const rows = 40
	large := []int{4, 5, 40}
	for id := 1; id <= rows; id++ {
		note := "'moor'"
		if slices.Contains(large, id) { // text that no compression makes small
			note = map[change.Dialect]string{dialect.SQLite: "hex(randomblob(2500000))", dialect.MariaDB: "repeat('x', 5000000)",
				dialect.PostgreSQL: "(SELECT string_agg(md5((i * 31)::text), '') FROM generate_series(1, 160000) AS i)"}[db.Dialect()]
		}
		if _, err := raw.Exec("INSERT INTO heavy (id, note) SELECT " + strconv.Itoa(id) + ", " + note); err != nil {
			t.Fatal(err)
		}
	}
	c := Build(t, db, "UPDATE heavy SET note = 'x'")
	for _, heeds := range []bool{false, true} {
		walk := engine.NewWalk(db, c.Table)
		end, err := walk.End(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if err := walk.Survey(ctx, end); err != nil {
			t.Fatal(err)
		}
		if heeds {
			walk.Heed(c)
		}
		most, last := 0, 0 // large values in one range; the row at which the last one ended
		for lo := change.KeyValue(nil); lo == nil || lo.Encode() != end.Encode(); {
			r, _, err := walk.Next(ctx, lo, end, 30)
			if err != nil {
				t.Fatal(err)
			}
			hi, err := strconv.Atoi(r.Hi.String())
			if err != nil || hi <= last {
				t.Fatalf("a range after %d ends at %s", last, r.Hi)
			}
			held := 0
			for _, id := range large {
				if id > last && id <= hi {
					held++
				}
			}
			most, last, lo = max(most, held), hi, r.Hi
		}
		if last != rows || heeds && most != 1 || !heeds && most < 2 {
			t.Errorf("heeds %v: the walk ends at %d, and a range has %d large values", heeds, last, most)
		}
	}
}
