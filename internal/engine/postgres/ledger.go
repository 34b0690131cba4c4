package postgres

import (
	"context"
	"fmt"

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

// HasLedger looks for the ledger's first table.
func (db *DB) HasLedger(ctx context.Context) (there bool, err error) {
	err = db.pool.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = $1 AND c.relname = 'ledger')`, db.ledger).Scan(&there)
	return there, err
}

// Ledgers names the schemas in which there is a ledger: the usual one, and those
// of which the tables belong to this user or to one who may do anything here.
// Anybody else might have made tables that look like one.
func (db *DB) Ledgers(ctx context.Context) ([]string, error) {
	rows, err := db.pool.QueryContext(ctx, `SELECT n.nspname FROM pg_catalog.pg_namespace n
		JOIN pg_catalog.pg_class c ON c.relnamespace = n.oid AND c.relname = 'ledger' AND c.relkind = 'r'
		JOIN pg_catalog.pg_roles r ON r.oid = c.relowner
		WHERE n.nspname = $1 OR (r.rolname = current_user OR r.rolsuper
			OR c.relowner = (SELECT datdba FROM pg_catalog.pg_database WHERE datname = pg_catalog.current_database()))
		AND (SELECT count(*) FROM pg_catalog.pg_class o WHERE o.relnamespace = n.oid AND o.relkind = 'r' AND o.relowner = c.relowner
			AND o.relname IN ('run', 'step', 'lane', 'batch', 'signal')) = 5
		ORDER BY n.nspname`, ledgerSchema)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		out = append(out, name)
	}
	return out, rows.Err()
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

// LedgerPlace is the ledger's schema.
func (db *DB) LedgerPlace() string { return db.ledger }

// LedgerMark is not needed: a schema belongs to one database.
func (db *DB) LedgerMark() string { return "" }
