package mariadb

import (
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/engine/enginetest"
)

// TestReads: what a statement reads besides its row, however it is named.
func TestReads(t *testing.T) {
	db, _ := open(t, "CREATE TABLE t (id int PRIMARY KEY, v int, w text)", "CREATE TABLE o (k int PRIMARY KEY, t int)",
		"CREATE VIEW vw AS SELECT sum(v) AS s FROM t", "CREATE VIEW vv AS SELECT * FROM vw", "CREATE VIEW recent AS SELECT k FROM o WHERE now() > '2020-01-01'", "CREATE VIEW dice AS SELECT rand() AS r",
		"CREATE FUNCTION peek() RETURNS int READS SQL DATA RETURN (SELECT max(v) FROM t)", "CREATE FUNCTION deep(a int) RETURNS int READS SQL DATA RETURN peek() + a", "CREATE FUNCTION plus(a int) RETURNS int DETERMINISTIC NO SQL RETURN a + 1")
	enginetest.Reads(t, db, []enginetest.ReadsCase{
		{SQL: "UPDATE t SET v = v + 1"},
		{SQL: "UPDATE t SET v = t.v + 1 WHERE t.id > 2"},
		{SQL: "UPDATE t SET v = (SELECT max(x.v) FROM t x)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE t SET v = (SELECT s FROM vw)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE t JOIN vv ON vv.s = t.v SET t.v = 1", Want: change.Reads{Target: true}},
		{SQL: "UPDATE t a JOIN t b ON a.id = b.v SET a.v = b.id", Want: change.Reads{Target: true}},
		{SQL: "DELETE a FROM t a JOIN t b ON a.v = b.v AND a.id > b.id", Want: change.Reads{Target: true}},
		{SQL: "UPDATE t SET v = (SELECT max(t) FROM o)"},
		{SQL: "UPDATE t JOIN o ON o.k = t.v SET t.v = o.t"},
		{SQL: "UPDATE t SET v = peek()", Want: change.Reads{Target: true, Live: []string{"peek()"}}},
		{SQL: "UPDATE t SET v = deep(v)", Want: change.Reads{Target: true, Live: []string{"peek()", "deep()"}}},
		{SQL: "UPDATE t SET v = plus(v)"},
		{SQL: "UPDATE t SET v = rand() * 5", Want: change.Reads{Volatile: []string{"rand()"}}},
		{SQL: "UPDATE t SET v = (SELECT rand())", Want: change.Reads{Once: []string{"rand()"}}},
		{SQL: "UPDATE t SET v = (SELECT r FROM dice)", Want: change.Reads{Once: []string{"rand()"}}},
		{SQL: "UPDATE t SET v = connection_id()", Want: change.Reads{Once: []string{"connection_id()"}}},
		{SQL: "UPDATE t SET w = concat(now(), CURRENT_DATE, unix_timestamp(w))"},
		{SQL: "UPDATE t SET v = 1 WHERE v IN (SELECT k FROM recent)", Want: change.Reads{Clock: true}},
	})
}

// TestHeavyWalk: large values among small ones are not in one range together.
func TestHeavyWalk(t *testing.T) {
	db, raw := open(t, "CREATE TABLE heavy (id integer PRIMARY KEY, note longtext)")
	enginetest.HeavyWalk(t, db, raw)
}
