package sqlite

import (
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/engine/enginetest"
)

// TestReads: what a statement reads besides its row, however it is named.
func TestReads(t *testing.T) {
	db, _ := file(t, "wal", "CREATE TABLE t (id INTEGER PRIMARY KEY, v INT, w TEXT)", "CREATE INDEX tv ON t (v)", "CREATE TABLE o (k INTEGER PRIMARY KEY, t INT)", "CREATE TABLE u (a, b, PRIMARY KEY (a)) WITHOUT ROWID",
		"CREATE VIEW vw AS SELECT sum(v) AS s FROM t", "CREATE VIEW vv AS SELECT * FROM vw", "CREATE VIEW recent AS SELECT k FROM o WHERE date('now') > '2020-01-01'", "CREATE VIEW dice AS SELECT random() AS r")
	enginetest.Reads(t, db, []enginetest.ReadsCase{
		{SQL: "UPDATE t SET v = v + 1"},
		{SQL: "UPDATE t SET v = v + 1 WHERE rowid > 2 AND v > 5 AND w LIKE '%x%'"},
		{SQL: "UPDATE t SET v = (SELECT max(x.v) FROM t x)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE t SET v = (SELECT count(*) FROM t x WHERE x.v = t.v)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE t SET v = (SELECT s FROM vw)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE t SET v = (SELECT s FROM vv) WHERE id IN (1, 2)", Want: change.Reads{Target: true}},
		{SQL: "DELETE FROM t WHERE EXISTS (SELECT 1 FROM t x WHERE x.v = t.v AND x.id > t.id)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE u SET b = (SELECT max(b) FROM u)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE u SET b = (SELECT max(v) FROM t WHERE t.v = u.a)"},
		{SQL: "UPDATE t SET v = (SELECT max(t) FROM o)"},
		{SQL: "UPDATE t SET v = o.t FROM o WHERE o.k = t.v"},
		{SQL: "UPDATE t SET v = o.t FROM o JOIN t y ON y.id = o.k WHERE o.k = t.v", Want: change.Reads{Target: true}},
		{SQL: "UPDATE t SET v = (SELECT count(*) FROM json_each(t.w))"},
		{SQL: "UPDATE t SET v = random()", Want: change.Reads{Volatile: []string{"random()"}}},
		{SQL: "UPDATE t SET v = (SELECT random())", Want: change.Reads{Once: []string{"random()"}}},
		{SQL: "UPDATE t SET v = (SELECT r FROM dice)", Want: change.Reads{Once: []string{"random()"}}},
		{SQL: "UPDATE t SET w = datetime('now') || CURRENT_DATE"},
		{SQL: "UPDATE t SET v = 1 WHERE v IN (SELECT k FROM recent)", Want: change.Reads{Clock: true}},
	})
}

// TestArray: values that go back many at once are those of the statement.
func TestArray(t *testing.T) {
	db, raw := file(t, "wal", "CREATE TABLE other (id INTEGER PRIMARY KEY)")
	enginetest.Array(t, db, raw)
}

// TestHeavyWalk: large values among small ones are not in one range together.
func TestHeavyWalk(t *testing.T) {
	db, raw := file(t, "wal", "CREATE TABLE heavy (id INTEGER PRIMARY KEY, note TEXT)")
	enginetest.HeavyWalk(t, db, raw)
}
