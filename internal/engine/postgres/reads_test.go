package postgres

import (
	"context"
	"strings"
	"testing"

	"jugatum/internal/change"
	"jugatum/internal/engine/enginetest"
)

// TestReads: what a statement reads besides its row, however it is named.
func TestReads(t *testing.T) {
	db, _ := open(t, "CREATE TABLE t (id int PRIMARY KEY, v int)", "CREATE TABLE o (k int PRIMARY KEY, t int)", "CREATE SCHEMA b", "CREATE TABLE b.t (id int, v int)",
		"CREATE VIEW vw AS SELECT sum(v) AS s FROM t", "CREATE VIEW vv AS SELECT * FROM vw", "CREATE VIEW recent AS SELECT k FROM o WHERE now() > '2020-01-01'",
		"CREATE TABLE p (id int, v int, PRIMARY KEY (id)) PARTITION BY RANGE (id)", "CREATE TABLE p1 PARTITION OF p FOR VALUES FROM (0) TO (100)", "CREATE TABLE p2 PARTITION OF p FOR VALUES FROM (100) TO (200) PARTITION BY RANGE (id)",
		"CREATE TABLE p3 PARTITION OF p2 FOR VALUES FROM (100) TO (150)", "CREATE TABLE c () INHERITS (t)",
		"CREATE FUNCTION peek() RETURNS int LANGUAGE plpgsql STABLE AS 'BEGIN RETURN (SELECT max(v) FROM t); END'", "CREATE FUNCTION plus(int) RETURNS int LANGUAGE plpgsql IMMUTABLE AS 'BEGIN RETURN $1 + 1; END'",
		"CREATE VIEW peeking AS SELECT peek() AS v", "INSERT INTO t VALUES (1, 1)", "ANALYZE t")
	enginetest.Reads(t, db, []enginetest.ReadsCase{
		{SQL: "UPDATE t SET v = v + 1"},
		{SQL: "UPDATE t SET v = t.v + 1 WHERE t.id > 2 AND t::text <> ''"},
		{SQL: "UPDATE t SET v = (SELECT max(x.v) FROM t x)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE t SET v = (SELECT max(t.v) FROM t)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE t SET v = (SELECT s FROM vw)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE t SET v = (SELECT s FROM vv)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE t SET v = 0 WHERE v IN (TABLE vv)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE t SET v = (SELECT count(*) FROM (TABLE t) x)", Want: change.Reads{Target: true}},
		{SQL: "DELETE FROM t WHERE id IN (SELECT id + 1 FROM t)", Want: change.Reads{Target: true}},
		{SQL: "DELETE FROM t USING t AS y WHERE y.v = t.v AND y.id > t.id", Want: change.Reads{Target: true}},
		{SQL: "UPDATE t SET v = (SELECT max(v) FROM b.t)"},
		{SQL: "UPDATE b.t SET v = (SELECT max(v) FROM ONLY public.t)"},
		{SQL: "UPDATE t SET v = (SELECT max(t) FROM o)"},
		{SQL: "UPDATE t SET v = o.t FROM o WHERE o.k = t.v"},
		{SQL: "UPDATE c SET v = (SELECT max(v) FROM t)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE p1 SET v = (SELECT max(v) FROM p)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE p SET v = (SELECT max(v) FROM p3)", Want: change.Reads{Target: true}},
		{SQL: "UPDATE p SET v = v + 1"},
		{SQL: "UPDATE p1 SET v = (SELECT max(v) FROM p2)"},
		{SQL: "UPDATE t SET v = peek()", Want: change.Reads{Opaque: []string{"peek()"}}},
		{SQL: "UPDATE t SET v = (SELECT v FROM peeking)", Want: change.Reads{Opaque: []string{"peek()"}}},
		{SQL: "UPDATE t SET v = plus(v)"},
		{SQL: "UPDATE t SET v = 100 * random()", Want: change.Reads{Volatile: []string{"random()"}}},
		{SQL: "UPDATE t SET v = (SELECT 100 * random())", Want: change.Reads{Once: []string{"random()"}}},
		{SQL: "UPDATE t SET v = txid_current()", Want: change.Reads{Once: []string{"txid_current()"}}},
		{SQL: "UPDATE t SET v = extract(epoch FROM now())"},
		{SQL: "UPDATE t SET v = 1 WHERE v IN (SELECT k FROM recent)", Want: change.Reads{Clock: true}},
		{SQL: "UPDATE t SET v = length(query_to_xml('SELECT * FROM t', true, false, '')::text)", Want: change.Reads{Opaque: []string{"query_to_xml()"}, Volatile: []string{"query_to_xml()"}}},
	})
	if x, err := db.Table(context.Background(), "", "t"); err != nil || x.Partitioned || len(x.Heirs) != 1 || x.Heirs[0].Name != "c" {
		t.Errorf("%+v %v", x, err)
	}
}

// TestArray: values that go back many at once are those of the statement.
func TestArray(t *testing.T) {
	db, raw := open(t, "CREATE TABLE other (id integer PRIMARY KEY)")
	enginetest.Array(t, db, raw)
}

// TestHeavyWalk: large values among small ones are not in one range together.
func TestHeavyWalk(t *testing.T) {
	db, raw := open(t, "CREATE TABLE heavy (id integer PRIMARY KEY, note text)")
	enginetest.HeavyWalk(t, db, raw)
}

// TestRights: what is read or done with another user's rights is told, through
// views of views as well, and which row policies have a say.
func TestRights(t *testing.T) {
	db, plain := open(t, "CREATE TABLE t (id int PRIMARY KEY, v int)", "CREATE TABLE o (k int PRIMARY KEY, v int)", "CREATE TABLE hidden (k int PRIMARY KEY)", "ALTER TABLE hidden ENABLE ROW LEVEL SECURITY",
		"DROP ROLE IF EXISTS owner_of_views", "CREATE ROLE owner_of_views", "GRANT USAGE, CREATE ON SCHEMA public TO owner_of_views", "GRANT SELECT ON o TO owner_of_views",
		"CREATE VIEW mine AS SELECT v FROM o", "CREATE VIEW theirs AS SELECT v FROM o", "ALTER VIEW theirs OWNER TO owner_of_views", "CREATE VIEW above AS SELECT v FROM theirs",
		"CREATE FUNCTION theirs(int) RETURNS int LANGUAGE plpgsql IMMUTABLE SECURITY DEFINER AS 'BEGIN RETURN $1; END'", "ALTER FUNCTION theirs(int) OWNER TO owner_of_views",
		"CREATE FUNCTION fires() RETURNS trigger LANGUAGE plpgsql SECURITY DEFINER AS 'BEGIN RETURN new; END'", "ALTER FUNCTION fires() OWNER TO owner_of_views", "CREATE TRIGGER tr BEFORE UPDATE ON t FOR EACH ROW EXECUTE FUNCTION fires()",
		"DROP ROLE IF EXISTS clerk_of_rights", "CREATE ROLE clerk_of_rights LOGIN", "GRANT USAGE ON SCHEMA public TO clerk_of_rights", "GRANT SELECT, UPDATE ON ALL TABLES IN SCHEMA public TO clerk_of_rights")
	t.Cleanup(func() {
		plain.Exec("DROP OWNED BY owner_of_views, clerk_of_rights CASCADE")
		plain.Exec("DROP ROLE owner_of_views, clerk_of_rights")
	})
	enginetest.Reads(t, db, []enginetest.ReadsCase{
		{SQL: "UPDATE t SET v = (SELECT max(v) FROM mine)"},
		{SQL: "UPDATE t SET v = (SELECT max(v) FROM theirs)", Want: change.Reads{Definer: []string{"view theirs (owner_of_views)"}}},
		{SQL: "UPDATE t SET v = (SELECT max(v) FROM public.above)", Want: change.Reads{Definer: []string{"view theirs (owner_of_views)"}}},
		{SQL: "UPDATE t SET v = theirs(v)", Want: change.Reads{Definer: []string{"theirs() (owner_of_views)"}}},
		{SQL: "UPDATE t SET v = (SELECT max(k) FROM hidden)"}, // a superuser is above policies
	})
	if x, err := db.Table(context.Background(), "", "t"); err != nil || len(x.Triggers) != 1 || x.Triggers[0].Definer != "owner_of_views" {
		t.Errorf("%+v %v", x, err)
	}
	clerk, err := Open(context.Background(), strings.Replace(server.URL("postgres"), "postgres@", "clerk_of_rights@", 1))
	if err != nil {
		t.Fatal(err)
	}
	defer clerk.Close()
	enginetest.Reads(t, clerk, []enginetest.ReadsCase{
		{SQL: "UPDATE t SET v = (SELECT max(k) FROM hidden)", Want: change.Reads{Policies: []string{"hidden"}}},
		{SQL: "UPDATE t SET v = (SELECT max(v) FROM mine)", Want: change.Reads{Definer: []string{"view mine (postgres)"}}},
	})
}
