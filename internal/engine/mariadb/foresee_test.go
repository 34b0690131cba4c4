package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"math/rand"
	"testing"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/rewrite"
)

// ready makes a table of 40 rows and a change of each that is known to be fit
// for being foreseen, since its first batch is done.
func ready(t *testing.T) (*DB, *sql.DB, *change.Change, *change.Kept, *engine.Session) {
	db, plain := open(t, "CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t SELECT seq, seq FROM seq_1_to_40", "CREATE TABLE jugatum_own (id integer PRIMARY KEY, n integer)")
	if !db.snap {
		t.Skip("this server has no innodb_snapshot_isolation")
	}
	c := build(t, db, "UPDATE t SET n = n * 2")
	s, kept := packing(t, db, c)
	if _, err := in(t, db, s, c, kept, change.Range{Hi: key("10")}, 0); err != nil {
		t.Fatal(err)
	}
	hand, err := db.Session(context.Background(), engine.SessionOptions{Purpose: "test", LockTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { hand.Close() })
	return db, plain, c, kept, hand
}

func foresee(t *testing.T, db *DB, hand *engine.Session, c *change.Change, kept *change.Kept, r change.Range, base int64) *engine.Tx {
	t.Helper()
	tx, err := db.Foresee(context.Background(), hand, c, kept, r, base)
	if err != nil || tx == nil {
		t.Fatalf("nothing is foreseen: %v", err)
	}
	t.Cleanup(tx.Rollback)
	return tx
}

// TestForeseen: what was read and kept before the turn is what the batch changes,
// also where our own tables have gone on meanwhile.
func TestForeseen(t *testing.T) {
	db, plain, c, kept, hand := ready(t)
	ctx := context.Background()
	r := change.Range{Lo: key("10"), Hi: key("20")}
	for base, last := range map[int64]int64{-1: 20, 10: 20} {
		tx := foresee(t, db, hand, c, kept, r, base)
		if tx.Foreseen != 10 {
			t.Errorf("%d rows are foreseen", tx.Foreseen)
		}
		if _, err := plain.Exec("REPLACE INTO jugatum_own VALUES (1, ?)", base); err != nil {
			t.Fatal(err)
		}
		if n, err := tx.Exec(ctx, "UPDATE jugatum_own SET n = n + 1000 WHERE id = 1 AND n = ?", base); err != nil || n != 1 {
			t.Fatalf("our own row, written after the reading: %d %v", n, err)
		}
		e, err := db.Batch(ctx, tx, c, kept, r, 10)
		if err != nil || e.Changed != 10 || e.Matched != 10 || e.Scanned < 10 || e.Kept != last {
			t.Fatalf("base %d: %+v %v", base, e, err)
		}
		if got := one(t, plain, "SELECT count(*) FROM jugatum_packed_1_1"); got != "1" {
			t.Errorf("base %d: %s packs are seen before the commit", base, got)
		}
		tx.Rollback()
	}
	tx := foresee(t, db, hand, c, kept, r, 10)
	if _, err := db.Batch(ctx, tx, c, kept, r, 10); err != nil {
		t.Fatal(err)
	}
	if err := tx.Commit(ctx); err != nil {
		t.Fatal(err)
	}
	// A stretch other than the one foreseen is read anew.
	tx = foresee(t, db, hand, c, kept, change.Range{Lo: key("20"), Hi: key("40")}, -1)
	if e, err := db.Batch(ctx, tx, c, kept, change.Range{Lo: key("20"), Hi: key("25")}, 20); err != nil || e.Changed != 5 || e.Kept != 25 {
		t.Fatalf("%+v %v", e, err)
	}
	if err := tx.Commit(ctx); err != nil {
		t.Fatal(err)
	}
	if got := one(t, plain, "SELECT concat(count(*), ' ', sum(k.new_n = t.n AND k.old_n * 2 = t.n), ' ', max(k.seq)) FROM jugatum_kept_1_1 AS k JOIN t ON t.id = k.key_id"); got != "25 25 25" {
		t.Errorf("kept, right, last: %s", got)
	}
}

// TestForeseenInVain: before the turn nothing is locked, and a row that somebody
// changes until then fails the batch, with all that was kept.
func TestForeseenInVain(t *testing.T) {
	db, plain, c, kept, hand := ready(t)
	ctx := context.Background()
	r := change.Range{Lo: key("10"), Hi: key("20")}
	for _, base := range []int64{-1, 10} {
		tx := foresee(t, db, hand, c, kept, r, base)
		if _, err := plain.Exec("SET SESSION innodb_lock_wait_timeout = 1"); err != nil {
			t.Fatal(err)
		}
		if _, err := plain.Exec("UPDATE t SET n = n + 1000 WHERE id = 15"); err != nil {
			t.Fatalf("a row that was only read is locked: %v", err)
		}
		_, err := db.Batch(ctx, tx, c, kept, r, 10)
		tx.Rollback()
		if db.Fault(err) != engine.Busy {
			t.Fatalf("a row changed since it was read: %v", err)
		}
		if got := one(t, plain, "SELECT count(*) FROM jugatum_kept_1_1"); got != "10" {
			t.Errorf("%s rows are kept", got)
		}
		if tx, err := db.Foresee(ctx, hand, c, kept, r, base); tx != nil || err != nil {
			t.Errorf("the batches that follow foresee all the same: %v", err)
		}
		k := db.knows(c)
		k.apart = 0
	}
}

// TestCases: each row gets the values meant for it, whatever its key is and
// however the key is sorted.
func TestCases(t *testing.T) {
	types := map[string]string{
		"integer":                                "-7, -1, 0, 1, 2, 2147483647, 40, 41, 42, 43, 44, 45",
		"bigint unsigned":                        "0, 1, 18446744073709551615, 9223372036854775808, 9223372036854775807",
		"decimal(30,10)":                         "-1.5, 0, 0.0000000001, 12345678901234567890.1, 2, 10",
		"varchar(50) COLLATE utf8mb4_general_ci": "'', 'a', 'B', 'c', 'ä1', 'Z', ' x', '10', '9', '☃', 'ab', 'a b', 'a-b', '''q\\\\'",
		"varchar(20) CHARACTER SET latin1":       "'', 'ü', 'z', 'Y', 'u'",
		"varchar(400)":                           "'x', 'Y', 'ä', 'z'",
		"char(3) COLLATE utf8mb4_bin":            "'b', 'A', 'B', 'é'",
		"binary(3)":                              "x'000000', x'ff0000', x'2700aa', x'5c5c5c', x'61ff00'",
		"date":                                   "'2026-02-28', '1000-01-01', '9999-12-31'",
		"datetime(6)":                            "'2026-02-28 00:00:00.000001', '2026-02-28 00:00:00', '2025-12-31 23:59:59.5'",
	}
	rnd := rand.New(rand.NewSource(7))
	for typ, keys := range types {
		db, plain := open(t, "CREATE TABLE t (k "+typ+" PRIMARY KEY, a text, b varchar(300))")
		if _, err := plain.Exec("SET SESSION sql_mode = ''"); err != nil {
			t.Fatal(err)
		}
		if _, err := plain.Exec("INSERT INTO t SELECT *, 'old', 'old' FROM (VALUES (" + joined(keys) + ")) AS v"); err != nil {
			t.Fatalf("%s: %v", typ, err)
		}
		c := build(t, db, "UPDATE t SET a = 'x', b = 'y'")
		if c.Table.Key == nil {
			t.Fatalf("%s: no key", typ)
		}
		rows, err := db.Pool().Query("SELECT " + engine.KeyOut(d, "t", c.Table.Key.Columns[0]) + " FROM t ORDER BY k")
		if err != nil {
			t.Fatal(err)
		}
		var list []engine.Rewritten
		for rows.Next() {
			var k string
			if err := rows.Scan(&k); err != nil {
				t.Fatal(err)
			}
			r := engine.Rewritten{Key: change.KeyValue{k}, New: make([]*string, 2)}
			for i := range r.New {
				if v := fmt.Sprintf("%s for %x", []string{"a", "b"}[i], k); rnd.Intn(3) > 0 {
					r.New[i] = &v
				}
			}
			list = append(list, r)
		}
		rows.Close()
		some := list[:0:0]
		for _, r := range list {
			if r.New[0] != nil || r.New[1] != nil {
				some = append(some, r)
			}
		}
		if len(some) < 2 {
			t.Fatalf("%s: %d rows are too few", typ, len(some))
		}
		x, ok := compose(c, nil, nil, some, statementBytes)
		if !ok || len(x.updates) != 1 {
			t.Fatalf("%s: %d statements, %v", typ, len(x.updates), ok)
		}
		res, err := plain.Exec(x.updates[0].String(), x.updates[0].Args...)
		if err != nil {
			t.Fatalf("%s: %v", typ, err)
		}
		if n, _ := res.RowsAffected(); n != int64(len(some)) {
			t.Errorf("%s: %d rows changed, of %d", typ, n, len(some))
		}
		for _, r := range list {
			q := &change.Query{D: d}
			q.Add("SELECT a, b FROM t WHERE k = ").Key(r.Key[0], c.Table.Key.Columns[0])
			var a, b string
			if err := plain.QueryRow(q.String(), q.Args...).Scan(&a, &b); err != nil {
				t.Fatal(err)
			}
			for i, got := range []string{a, b} {
				want := "old"
				if r.New[i] != nil {
					want = *r.New[i]
				}
				if got != want {
					t.Errorf("%s, row %s: %q, want %q", typ, r.Key, got, want)
				}
			}
		}
	}
}

func joined(keys string) string {
	out := ""
	depth := false
	for i := range len(keys) {
		if keys[i] == '\'' {
			depth = !depth
		}
		if keys[i] == ',' && !depth {
			out += "),("
			continue
		}
		out += string(keys[i])
	}
	return out
}

// TestRowsForeseen: rows whose new values we compute are written as they were
// foreseen, and what is too much for memory at once in parts.
func TestRowsForeseen(t *testing.T) {
	db, plain := open(t, "CREATE TABLE t (id integer PRIMARY KEY, note mediumtext)", "INSERT INTO t SELECT seq, concat('old ', seq) FROM seq_1_to_60",
		"UPDATE t SET note = concat(note, repeat('.', 3000000)) WHERE id BETWEEN 41 AND 46")
	if !db.snap {
		t.Skip("this server has no innodb_snapshot_isolation")
	}
	table, err := db.Table(context.Background(), "", "t")
	if err != nil {
		t.Fatal(err)
	}
	c, err := change.NewReplace(d, "s", table, table.Columns[1:], rewrite.Rules{Pairs: []rewrite.Pair{{Find: "old", With: "newer"}}})
	if err != nil || c.Rewrite == nil {
		t.Fatal(err)
	}
	s, kept := packing(t, db, c)
	hand, err := db.Session(context.Background(), engine.SessionOptions{Purpose: "test", LockTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	defer hand.Close()
	ctx := context.Background()
	base := int64(0)
	for hi := 20; hi <= 60; hi += 20 {
		r := change.Range{Lo: key(fmt.Sprint(hi - 20)), Hi: key(fmt.Sprint(hi))}
		if engine.Foresees(db, c, kept) != (hi > 20) { // the first batch shows that it is fit for it
			t.Fatalf("up to %d: foreseen %v", hi, hi <= 20)
		}
		sight, err := engine.Look(ctx, db, nil)
		if err != nil {
			t.Fatal(err)
		}
		o, err := sight.Foresee(ctx, db, hand, c, kept, r, base)
		if err != nil || (o == nil) != (hi == 20) {
			t.Fatalf("up to %d: %v %v", hi, o, err)
		}
		tx, err := o.Begin(ctx, db, s)
		if err != nil {
			t.Fatal(err)
		}
		if want := int64(20); hi == 40 && tx.Foreseen != want || hi != 40 && tx.Foreseen != -1 {
			t.Errorf("up to %d: %d rows are foreseen", hi, tx.Foreseen)
		}
		e, err := engine.Batch(ctx, db, tx, c, kept, r, base)
		if err != nil || e.Changed != 20 || e.Matched != 20 || e.Kept != base+20 {
			t.Fatalf("up to %d: %+v %v", hi, e, err)
		}
		if err := tx.Commit(ctx); err != nil {
			t.Fatal(err)
		}
		base = e.Kept
	}
	if got := one(t, plain, "SELECT sum(t.note LIKE 'newer %' AND BINARY k.new_note = BINARY t.note AND k.old_note LIKE 'old %' AND length(k.old_note) = length(t.note) - 2) FROM jugatum_kept_1_1 AS k JOIN t ON t.id = k.key_id"); got != "60" {
		t.Errorf("%s of 60 rows are changed and kept as they should", got)
	}
}
