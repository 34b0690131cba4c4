package postgres

import (
	"context"
	"fmt"
	"strings"

	"jugatum/internal/engine"
)

// ledgerSchema is where the ledger is unless another schema is named.
const ledgerSchema = "jugatum"

// LedgerTable is a table of the ledger's schema.
func (db *DB) LedgerTable(name string) string {
	if db.ledger == ledgerSchema {
		return ledgerSchema + "." + d.Quote(name)
	}
	return d.Quote(db.ledger) + "." + d.Quote(name)
}

// LedgerSetup makes the schema where there is none: the right to make one is
// asked for even by a statement that finds it made.
func (db *DB) LedgerSetup(ctx context.Context) ([]string, error) {
	var there bool
	err := db.pool.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM pg_catalog.pg_namespace WHERE nspname = $1)", db.ledger).Scan(&there)
	if err != nil || there {
		return nil, err
	}
	return []string{"CREATE SCHEMA " + d.Quote(db.ledger)}, nil
}

// HasLedger looks for the ledger's first table, and refuses a ledger that others
// could have written: what stands in it becomes SQL of ours.
func (db *DB) HasLedger(ctx context.Context) (there bool, err error) {
	err = db.pool.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = $1 AND c.relname = 'ledger')`, db.ledger).Scan(&there)
	if err != nil || !there || db.believed.Load() == db.ledger {
		return there, err
	}
	found, err := db.doubts(ctx)
	if err != nil {
		return false, err
	}
	if len(found) > 0 {
		return false, &engine.UntrustedError{Msg: fmt.Sprintf("the ledger in schema %s is not used, since others could have changed what it says: %s; or name another one with --ledger", db.ledger, strings.Join(found, "; "))}
	}
	db.believed.Store(db.ledger)
	return true, nil
}

// doubts says what is wrong with the ledger's schema and tables, and how to fix
// it. They are to belong to this user or to superusers, who may do anything anyway;
// nobody else may write to them or make others beside them, and nothing is to
// happen by itself when they are read or written.
func (db *DB) doubts(ctx context.Context) ([]string, error) {
	return db.texts(ctx, `WITH trusted AS (SELECT oid FROM pg_roles WHERE rolsuper OR rolname = current_user),
		s AS (SELECT * FROM pg_namespace WHERE nspname = $1),
		t AS (SELECT c.*, quote_ident(c.relname) AS name FROM pg_class c JOIN s ON s.oid = c.relnamespace WHERE c.relname = ANY(CAST($2 AS text[])))
		SELECT 'it belongs to ' || pg_get_userbyid(s.nspowner) FROM s WHERE s.nspowner NOT IN (SELECT oid FROM trusted)
		UNION ALL SELECT CASE a.grantee WHEN 0 THEN 'everybody' ELSE pg_get_userbyid(a.grantee) END || ' may make things in it (REVOKE CREATE ON SCHEMA ' || quote_ident(s.nspname) || ' FROM ' || CASE a.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(a.grantee)) END || ')'
			FROM s, aclexplode(s.nspacl) a WHERE a.privilege_type = 'CREATE' AND a.grantee <> s.nspowner AND a.grantee NOT IN (SELECT oid FROM trusted)
		UNION ALL SELECT name || ' is no ordinary table' FROM t WHERE relkind <> 'r'
		UNION ALL SELECT name || ' belongs to ' || pg_get_userbyid(relowner) FROM t WHERE relowner NOT IN (SELECT oid FROM trusted)
		UNION ALL SELECT DISTINCT CASE a.grantee WHEN 0 THEN 'everybody' ELSE pg_get_userbyid(a.grantee) END || ' may change ' || name || ' (REVOKE ALL ON ALL TABLES IN SCHEMA ' || quote_ident($1) || ' FROM ' || CASE a.grantee WHEN 0 THEN 'PUBLIC' ELSE quote_ident(pg_get_userbyid(a.grantee)) END || ')'
			FROM t, aclexplode(t.relacl) a WHERE a.privilege_type <> 'SELECT' AND a.grantee <> t.relowner AND a.grantee NOT IN (SELECT oid FROM trusted)
		UNION ALL SELECT DISTINCT 'others may change columns of ' || name FROM t JOIN pg_attribute c ON c.attrelid = t.oid, aclexplode(c.attacl) a
			WHERE a.privilege_type <> 'SELECT' AND a.grantee <> t.relowner AND a.grantee NOT IN (SELECT oid FROM trusted)
		UNION ALL SELECT name || ' has a trigger, ' || quote_ident(g.tgname) FROM t JOIN pg_trigger g ON g.tgrelid = t.oid WHERE NOT g.tgisinternal
		UNION ALL SELECT name || ' has a rule, ' || quote_ident(w.rulename) FROM t JOIN pg_rewrite w ON w.ev_class = t.oid WHERE t.relkind = 'r'
		UNION ALL SELECT name || ' has row policies' FROM t WHERE relrowsecurity OR EXISTS (SELECT 1 FROM pg_policy p WHERE p.polrelid = t.oid)
		UNION ALL SELECT name || ' inherits, or is inherited from' FROM t WHERE EXISTS (SELECT 1 FROM pg_inherits i WHERE i.inhrelid = t.oid OR i.inhparent = t.oid)
		UNION ALL SELECT name || ' has columns with values of their own' FROM t WHERE EXISTS (SELECT 1 FROM pg_attrdef x WHERE x.adrelid = t.oid)
		LIMIT 20`, db.ledger, engine.LedgerTables)
}

// Ledgers names the schemas in which there is a ledger: the usual one, and those
// of which the tables belong to this user or to a superuser. Anybody else might
// have made tables that look like one.
func (db *DB) Ledgers(ctx context.Context) ([]string, error) {
	return db.texts(ctx, `SELECT n.nspname FROM pg_catalog.pg_namespace n
		JOIN pg_catalog.pg_class c ON c.relnamespace = n.oid AND c.relname = 'ledger' AND c.relkind = 'r'
		JOIN pg_catalog.pg_roles r ON r.oid = c.relowner
		WHERE n.nspname = $1 OR (r.rolname = current_user OR r.rolsuper)
		AND (SELECT count(*) FROM pg_catalog.pg_class o WHERE o.relnamespace = n.oid AND o.relkind = 'r' AND o.relowner = c.relowner
			AND o.relname IN ('run', 'step', 'lane', 'batch', 'signal')) = 5
		ORDER BY n.nspname`, ledgerSchema)
}

// PlaceLedger refuses a schema that has tables of somebody else's: ours would
// have names that these may have already.
func (db *DB) PlaceLedger(ctx context.Context, schema string) error {
	db.ledger = schema
	has, err := db.HasLedger(ctx)
	if err != nil || has {
		return err
	}
	var other string
	err = db.pool.QueryRowContext(ctx, `SELECT coalesce((SELECT c.relname FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = $1 ORDER BY c.relname LIMIT 1), '')`, schema).Scan(&other)
	if err == nil && other != "" {
		err = &engine.RefusedError{Msg: fmt.Sprintf("ledger %s: the schema holds other things, such as %s; name an empty one, or one that is not there yet", schema, other)}
	}
	return err
}

// KeepsLedger is true: see HasLedger.
func (db *DB) KeepsLedger() bool { return true }

// LedgerPlace is the ledger's schema.
func (db *DB) LedgerPlace() string { return db.ledger }

// LedgerMark is not needed: a schema belongs to one database.
func (db *DB) LedgerMark() string { return "" }

// LedgerObjects are those of the ledger's schema.
func (db *DB) LedgerObjects(ctx context.Context, _ bool) ([]engine.LedgerObject, error) {
	rows, err := db.pool.QueryContext(ctx, `SELECT c.relname, c.relkind = 'v', pg_total_relation_size(c.oid) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = $1 AND c.relkind IN ('r', 'v') AND c.relname <> ALL(CAST($2 AS text[])) ORDER BY c.relname`, db.ledger, engine.LedgerTables)
	return engine.ReadObjects(rows, err)
}

// LedgerRemains drops the schema, unless something is left there.
func (db *DB) LedgerRemains(ctx context.Context) ([]string, error) {
	var n int
	err := db.pool.QueryRowContext(ctx, `SELECT count(*) FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1`, db.ledger).Scan(&n)
	if err != nil || n > 0 {
		return nil, err
	}
	return []string{"DROP SCHEMA " + d.Quote(db.ledger)}, nil // which fails where there are functions or types
}
