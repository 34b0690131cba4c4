package mariadb

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// packing opens a session and a packed kept-values table for a change.
func packing(t *testing.T, db *DB, c *change.Change) (*engine.Session, *change.Kept) {
	t.Helper()
	ctx := context.Background()
	s, err := db.Session(ctx, engine.SessionOptions{Purpose: "test", LockTimeout: time.Second})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	kept := change.NewKept("jugatum_kept_1_1", c)
	kept.Packed = "jugatum_packed_1_1"
	if !db.Packs(kept) {
		t.Fatal("these columns are not packed")
	}
	for _, text := range db.KeptTable(kept) {
		if _, err := s.Conn.ExecContext(ctx, text); err != nil {
			t.Fatalf("%s\n%v", text, err)
		}
	}
	return s, kept
}

// in carries out one batch in a transaction of its own.
func in(t *testing.T, db *DB, s *engine.Session, c *change.Change, kept *change.Kept, r change.Range, base int64) (engine.Effect, error) {
	t.Helper()
	ctx := context.Background()
	tx, err := s.Start(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer tx.Rollback()
	e, err := db.Batch(ctx, tx, c, kept, r, base)
	if err != nil {
		return e, err
	}
	return e, tx.Commit(ctx)
}

func key(v string) change.KeyValue { return change.KeyValue{v} }

// TestPackedReadsBack: what the view shows is to the byte what the table held
// and holds, whichever way the batch went, also where a value is too large to pack.
func TestPackedReadsBack(t *testing.T) {
	row := func(id int) string {
		return fmt.Sprintf(`(%d, 18446744073709551615, -1234567890123456789012345678.0123456789, 0.1e-7, 'é"\\/
	', x'00ff27', '0000-00-00', '2026-02-31 10:00:00.123456', '-838:59:59', 'ÿ ', '', NULL, concat('𝄞', char(0), char(1), 'x' %% id))`, id)
	}
	db, plain := open(t, `CREATE TABLE t (id integer PRIMARY KEY, big bigint unsigned, num decimal(60,30), d double, txt text, bin varbinary(20), day date, at datetime(6), tm time,
		lat varchar(10) CHARACTER SET latin1, empty char(5), nothing integer, odd mediumtext)`)
	for id := 1; id <= 12; id++ {
		if _, err := plain.Exec("INSERT INTO t VALUES " + row(id)); err != nil {
			t.Fatal(err)
		}
	}
	for _, text := range []string{"UPDATE t SET odd = repeat('long\\\\', 300000) WHERE id IN (3, 9)", "CREATE TABLE was AS SELECT * FROM t"} {
		if _, err := plain.Exec(text); err != nil {
			t.Fatal(err)
		}
	}
	c := build(t, db, `UPDATE t SET big = big - id, num = num / 3, d = d + 0, txt = concat(txt, '"+'), bin = concat(bin, x'00'), day = NULL, at = '2026-01-01 00:00:00.5', tm = '10:00:00.9', lat = concat(lat, 'ü'), empty = 'b ', nothing = id, odd = concat(odd, '!')`)
	s, kept := packing(t, db, c)
	base := int64(0)
	for i, r := range []change.Range{{Hi: key("6")}, {Lo: key("6"), Hi: key("12")}} { // the first finds no snapshot yet
		e, err := in(t, db, s, c, kept, r, base)
		if err != nil || e.Changed != 6 || e.Kept != base+6 {
			t.Fatalf("batch %d: %+v %v", i+1, e, err)
		}
		base = e.Kept
	}
	for _, k := range kept.Old {
		name := k.Of.Name
		if got := one(t, plain, "SELECT count(*) FROM jugatum_kept_1_1 AS k JOIN was AS w ON w.id = k.key_id JOIN t ON t.id = k.key_id WHERE BINARY w."+name+" <=> BINARY k.old_"+name+" AND BINARY t."+name+" <=> BINARY k.new_"+name); got != "12" {
			t.Errorf("%s: %s of 12 rows are kept as they were and are", name, got)
		}
	}
	if got := one(t, plain, "SELECT count(*) FROM jugatum_packed_1_1 WHERE v IS NULL"); got != "2" {
		t.Errorf("%s rows are kept by themselves, not the 2 large ones", got)
	}
	if got := one(t, plain, "SELECT group_concat(seq ORDER BY seq) FROM jugatum_kept_1_1"); got != "1,2,3,4,5,6,7,8,9,10,11,12" {
		t.Errorf("numbers %s", got)
	}
	q := change.CountKept(d, kept, 2, 9)
	var n int64
	if err := db.Pool().QueryRow(q.String(), q.Args...).Scan(&n); err != nil || n != 7 {
		t.Errorf("%d rows after 2, up to 9: %v", n, err)
	}
}

// TestSnapshotFails: a row that another session changes after the batch has seen
// it fails the batch, which is then done again with what is there now.
func TestSnapshotFails(t *testing.T) {
	db, plain := open(t, "CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t SELECT seq, seq FROM seq_1_to_40")
	if !db.snap {
		t.Skip("this server has no innodb_snapshot_isolation")
	}
	c := build(t, db, "UPDATE t SET n = n * 2")
	s, kept := packing(t, db, c)
	if _, err := in(t, db, s, c, kept, change.Range{Hi: key("10")}, 0); err != nil {
		t.Fatal(err)
	}
	ctx := context.Background()
	tx, err := s.Start(ctx)
	if err != nil {
		t.Fatal(err)
	}
	var n int
	if err := tx.Scan(ctx, "SELECT n FROM t WHERE id = 1", nil, &n); err != nil { // the snapshot is made here
		t.Fatal(err)
	}
	if _, err := plain.Exec("UPDATE t SET n = 1000 WHERE id = 15"); err != nil {
		t.Fatal(err)
	}
	_, err = db.Batch(ctx, tx, c, kept, change.Range{Lo: key("10"), Hi: key("20")}, 10)
	tx.Rollback()
	if db.Fault(err) != engine.Busy {
		t.Fatalf("a row changed since the snapshot was made: %v", err)
	}
	for r, base := (change.Range{Lo: key("10"), Hi: key("20")}), int64(10); base < 40; base += 10 {
		e, err := in(t, db, s, c, kept, r, base)
		if err != nil || e.Changed != 10 {
			t.Fatalf("%+v %v", e, err)
		}
		r.Lo, r.Hi = r.Hi, key(fmt.Sprint(base+20))
	}
	if got := one(t, plain, "SELECT concat(sum(n), ' ', max(n)) FROM t"); got != "3610 2000" {
		t.Errorf("sum and greatest: %s", got)
	}
	if got := one(t, plain, "SELECT concat(old_n, ' ', new_n) FROM jugatum_kept_1_1 WHERE key_id = 15"); got != "1000 2000" {
		t.Errorf("kept of the row that was changed in between: %s", got)
	}
}

// TestOnlyChangedRowsAreLocked: rows that are scanned and do not match stay
// free for others, with kept values and without.
func TestOnlyChangedRowsAreLocked(t *testing.T) {
	for _, keep := range []bool{true, false} {
		db, plain := open(t, "CREATE TABLE t (a integer, b varchar(10), n integer, PRIMARY KEY (a, b))", "INSERT INTO t SELECT seq DIV 10, concat('x', seq), seq FROM seq_1_to_2000")
		c := build(t, db, "UPDATE t SET n = -n WHERE n % 100 = 7")
		s, kept := packing(t, db, c)
		if !keep {
			kept = nil
		}
		// The first knows nothing, the second has no snapshot yet.
		for _, r := range []change.Range{{Hi: change.KeyValue{"49", "x499"}}, {Lo: change.KeyValue{"49", "x499"}, Hi: change.KeyValue{"99", "x999"}}} {
			if e, err := in(t, db, s, c, kept, r, int64(5*len(r.Lo)/2)); err != nil || e.Changed != 5 {
				t.Fatalf("%+v %v", e, err)
			}
		}
		ctx := context.Background()
		tx, err := s.Start(ctx)
		if err != nil {
			t.Fatal(err)
		}
		if !seen(tx).frozen {
			t.Error("the third batch has no snapshot")
		}
		e, err := db.Batch(ctx, tx, c, kept, change.Range{Lo: change.KeyValue{"99", "x999"}, Hi: change.KeyValue{"200", "x2000"}}, 10)
		if err != nil || e.Changed != 10 {
			t.Fatalf("%+v %v", e, err)
		}
		if _, err := plain.Exec("SET SESSION innodb_lock_wait_timeout = 1"); err != nil {
			t.Fatal(err)
		}
		if _, err := plain.Exec("UPDATE t SET n = n + 5000 WHERE a = 150 AND b = 'x1500'"); err != nil {
			t.Errorf("keep %v: a row that is only scanned is locked: %v", keep, err)
		}
		if err := tx.Commit(ctx); err != nil {
			t.Fatal(err)
		}
		if got := one(t, plain, "SELECT count(*) FROM t WHERE n < 0"); got != "20" {
			t.Errorf("%s rows changed", got)
		}
	}
}

// TestStoredOtherwise: where a column holds another value than the one reckoned,
// the batch goes the other way, and what it keeps is what the column holds.
func TestStoredOtherwise(t *testing.T) {
	db, plain := open(t, "CREATE TABLE t (id integer PRIMARY KEY, z int(5) unsigned zerofill, c char(4), v varchar(4), tx tinytext)",
		"INSERT INTO t SELECT seq, seq % 3, 'ab', 'ab', 'ab' FROM seq_1_to_30")
	c := build(t, db, "UPDATE t SET z = 1, c = concat(c, '  '), v = concat(v, '     '), tx = concat(tx, repeat(' ', 200))")
	s, kept := packing(t, db, c)
	base := int64(0)
	for hi := 10; hi <= 30; hi += 10 {
		e, err := in(t, db, s, c, kept, change.Range{Lo: key(fmt.Sprint(hi - 10)), Hi: key(fmt.Sprint(hi))}, base)
		if err != nil || e.Changed != e.Kept-base {
			t.Fatalf("%+v %v", e, err)
		}
		base = e.Kept
	}
	if got := one(t, plain, "SELECT count(*) FROM jugatum_kept_1_1 AS k JOIN t ON t.id = k.key_id WHERE k.new_z <=> t.z AND BINARY k.new_c <=> BINARY t.c AND BINARY k.new_v <=> BINARY t.v AND BINARY k.new_tx <=> BINARY t.tx"); got != "30" {
		t.Errorf("%s of 30 rows are kept as they are", got)
	}
}

// TestWithoutViews: who may not make views keeps one row for each changed row.
func TestWithoutViews(t *testing.T) {
	db, plain := open(t, "CREATE TABLE t (id integer PRIMARY KEY, n integer)")
	for _, text := range []string{"CREATE OR REPLACE USER plain@'127.0.0.1'", "GRANT SELECT, INSERT, UPDATE, DELETE, CREATE, DROP ON `" + db.schema + "`.* TO plain@'127.0.0.1'", "GRANT BINLOG ADMIN ON *.* TO plain@'127.0.0.1'"} {
		if _, err := plain.Exec(text); err != nil {
			t.Fatal(err)
		}
	}
	theirs, err := Open(context.Background(), strings.Replace(server.URL(db.schema), "root@", "plain@", 1))
	if err != nil {
		t.Fatal(err)
	}
	defer theirs.Close()
	kept := change.NewKept("k", build(t, db, "UPDATE t SET n = 1"))
	if !db.Packs(kept) || theirs.Packs(kept) {
		t.Errorf("packed: %v by root, %v by one who may not make views", db.Packs(kept), theirs.Packs(kept))
	}
}

// FuzzPack: a pack is JSON that reads back to the values.
func FuzzPack(f *testing.F) {
	f.Add("a", "\"\\\x00\x1f")
	f.Add("", "é𝄞\x7f")
	f.Fuzz(func(t *testing.T, a, b string) {
		p := packer{kept: &change.Kept{}, numbers: []bool{false, false, false}}
		if !p.add([]sql.RawBytes{sql.RawBytes(a), nil, append(sql.RawBytes{}, b...)}) {
			return
		}
		var got [][]*string
		if err := json.Unmarshal(append(p.packs[0].json, ']'), &got); err != nil {
			t.Fatalf("%v in %s", err, p.packs[0].json)
		}
		if x := got[0]; *x[0] != a && a != "" || x[1] != nil || *x[2] != b {
			t.Errorf("%q and %q came back as %s", a, b, p.packs[0].json)
		}
	})
}
