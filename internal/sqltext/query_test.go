package sqltext

import (
	"errors"
	"testing"
)

// TestQuery: what would do more than read is told by its text, before a server sees it.
func TestQuery(t *testing.T) {
	for _, c := range []struct {
		d    Dialect
		text string
		at   int // of the fault, -1 without one
	}{
		{PostgreSQL, "SELECT count(*) FROM visit WHERE note = 'a; DELETE FROM visit'", -1},
		{PostgreSQL, "WITH v AS (SELECT 1) SELECT count(*) FROM v;", -1},
		{PostgreSQL, "VALUES (1)", -1},
		{PostgreSQL, "SELECT t.into, replace(a, 'x', 'y') FROM t", -1},
		{SQLite, "SELECT replace(a, 'x', 'y') FROM (SELECT replace('a', 'b', 'c') AS a)", -1},
		{SQLite, "PRAGMA query_only = 0; ATTACH 'x' AS y; DELETE FROM t", 0},
		{SQLite, "SELECT 1; DELETE FROM t", 8},
		{SQLite, "SELECT 1;;", -1},
		{SQLite, "WITH x AS (SELECT 1) DELETE FROM t", 21},
		{SQLite, "WITH x AS (SELECT 1) REPLACE INTO t SELECT 1", 21},
		{PostgreSQL, "WITH x AS (DELETE FROM t RETURNING 1) SELECT count(*) FROM x", 11},
		{PostgreSQL, "SELECT 1 INTO t2", 9},
		{PostgreSQL, "SELECT 1 FROM t FOR UPDATE", 16},
		{PostgreSQL, "SELECT 1 FROM t FOR NO KEY UPDATE", 16},
		{PostgreSQL, "SELECT :n", 7},
		{PostgreSQL, "COPY t TO PROGRAM 'x'", 0},
		{PostgreSQL, "", 0},
		{PostgreSQL, " ; ", 0},
		{MariaDB, "SELECT 1 INTO OUTFILE '/tmp/x'", 9},
		{MariaDB, "SELECT 1 /*! INTO OUTFILE '/tmp/x' */", 9},
		{MariaDB, "SELECT @a := 1", 7},
		{MariaDB, "(SELECT 1)", 0},
	} {
		at := -1
		var e *Error
		if err := Query(c.d, c.text); errors.As(err, &e) {
			at = e.Offset
		} else if err != nil {
			t.Errorf("%s: %v", c.text, err)
		}
		if at != c.at {
			t.Errorf("%v, %s: a fault at %d, want %d", c.d, c.text, at, c.at)
		}
	}
}
