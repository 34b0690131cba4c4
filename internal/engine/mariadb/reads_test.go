package mariadb

import (
	"context"
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

// TestArray: values that go back many at once are those of the statement.
func TestArray(t *testing.T) {
	db, raw := open(t, "CREATE TABLE other (id integer PRIMARY KEY)")
	enginetest.Array(t, db, raw)
}

// TestHeavyWalk: large values among small ones are not in one range together.
func TestHeavyWalk(t *testing.T) {
	db, raw := open(t, "CREATE TABLE heavy (id integer PRIMARY KEY, note longtext)")
	enginetest.HeavyWalk(t, db, raw)
}

// TestRights: what is read or done with another user's rights is told, through
// views of views as well.
func TestRights(t *testing.T) {
	db, plain := open(t, "CREATE USER IF NOT EXISTS owner_of_views", "CREATE TABLE t (id int PRIMARY KEY, v int)", "CREATE TABLE o (k int PRIMARY KEY, v int)",
		"GRANT SELECT ON o TO owner_of_views", "CREATE VIEW mine AS SELECT v FROM o", "CREATE DEFINER = owner_of_views SQL SECURITY INVOKER VIEW invoked AS SELECT v FROM o",
		"CREATE DEFINER = owner_of_views VIEW theirs AS SELECT v FROM o", "CREATE VIEW above AS SELECT v FROM theirs",
		"CREATE DEFINER = owner_of_views FUNCTION plus(a int) RETURNS int DETERMINISTIC NO SQL RETURN a + 1",
		"CREATE TRIGGER a BEFORE UPDATE ON t FOR EACH ROW SET new.v = new.v", "CREATE DEFINER = owner_of_views TRIGGER b BEFORE UPDATE ON t FOR EACH ROW SET new.v = new.v")
	t.Cleanup(func() { plain.Exec("DROP USER owner_of_views") })
	enginetest.Reads(t, db, []enginetest.ReadsCase{
		{SQL: "UPDATE t SET v = (SELECT max(v) FROM mine)"},
		{SQL: "UPDATE t SET v = (SELECT max(v) FROM invoked)"},
		{SQL: "UPDATE t SET v = (SELECT max(v) FROM theirs)", Want: change.Reads{Definer: []string{"view theirs (owner_of_views@%)"}}},
		{SQL: "UPDATE t SET v = (SELECT max(v) FROM above)", Want: change.Reads{Definer: []string{"view theirs (owner_of_views@%)"}}},
		{SQL: "UPDATE t SET v = plus(v)", Want: change.Reads{Definer: []string{"plus() (owner_of_views@%)"}}},
	})
	x, err := db.Table(context.Background(), "", "t")
	if err != nil || len(x.Triggers) != 2 || x.Triggers[0].Definer != "" || x.Triggers[1].Definer != "owner_of_views@%" {
		t.Errorf("%+v %v", x, err)
	}
}
