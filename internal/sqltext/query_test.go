package sqltext_test

import (
	"errors"
	"testing"

	"jugatum/internal/dialect"
	"jugatum/internal/sqltext"
)

// TestQuery: what would do more than read is told by its text, before a server sees it.
func TestQuery(t *testing.T) {
	for _, c := range []struct {
		d    sqltext.Dialect
		text string
		at   int // of the fault, -1 without one
	}{
		{dialect.PostgreSQL, "SELECT count(*) FROM visit WHERE note = 'a; DELETE FROM visit'", -1},
		{dialect.PostgreSQL, "WITH v AS (SELECT 1) SELECT count(*) FROM v;", -1},
		{dialect.PostgreSQL, "VALUES (1)", -1},
		{dialect.PostgreSQL, "SELECT t.into, replace(a, 'x', 'y') FROM t", -1},
		{dialect.SQLite, "SELECT replace(a, 'x', 'y') FROM (SELECT replace('a', 'b', 'c') AS a)", -1},
		{dialect.SQLite, "PRAGMA query_only = 0; ATTACH 'x' AS y; DELETE FROM t", 0},
		{dialect.SQLite, "SELECT 1; DELETE FROM t", 8},
		{dialect.SQLite, "SELECT 1;;", -1},
		{dialect.SQLite, "WITH x AS (SELECT 1) DELETE FROM t", 21},
		{dialect.SQLite, "WITH x AS (SELECT 1) REPLACE INTO t SELECT 1", 21},
		{dialect.PostgreSQL, "WITH x AS (DELETE FROM t RETURNING 1) SELECT count(*) FROM x", 11},
		{dialect.PostgreSQL, "SELECT 1 INTO t2", 9},
		{dialect.PostgreSQL, "SELECT 1 FROM t FOR UPDATE", 16},
		{dialect.PostgreSQL, "SELECT 1 FROM t FOR NO KEY UPDATE", 16},
		{dialect.PostgreSQL, "SELECT :n", 7},
		{dialect.PostgreSQL, "COPY t TO PROGRAM 'x'", 0},
		{dialect.PostgreSQL, "", 0},
		{dialect.PostgreSQL, " ; ", 0},
		{dialect.MariaDB, "SELECT 1 INTO OUTFILE '/tmp/x'", 9},
		{dialect.MariaDB, "SELECT 1 /*! INTO OUTFILE '/tmp/x' */", 9},
		{dialect.MariaDB, "SELECT @a := 1", 7},
		{dialect.MariaDB, "(SELECT 1)", 0},
	} {
		at := -1
		var e *sqltext.Error
		if err := sqltext.Query(c.d, c.text); errors.As(err, &e) {
			at = e.Offset
		} else if err != nil {
			t.Errorf("%s: %v", c.text, err)
		}
		if at != c.at {
			t.Errorf("%v, %s: a fault at %d, want %d", c.d, c.text, at, c.at)
		}
	}
}
