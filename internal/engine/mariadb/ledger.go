package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"jugatum/internal/engine"
)

// LedgerTable prefixes the name: a schema of our own would be another database
// here, with privileges of its own.
func (db *DB) LedgerTable(name string) string {
	table := d.Quote("jugatum_" + name)
	if db.ledger != db.schema {
		table = d.Quote(db.ledger) + "." + table
	}
	return table
}

// LedgerSetup makes the database of the ledger where one is named that is not there.
func (db *DB) LedgerSetup(ctx context.Context) ([]string, error) {
	if db.ledger == db.schema {
		return nil, nil
	}
	var n int
	err := db.pool.QueryRowContext(ctx, "SELECT count(*) FROM information_schema.schemata WHERE schema_name = ?", db.ledger).Scan(&n)
	if err != nil || n > 0 {
		return nil, err
	}
	return []string{"CREATE DATABASE " + d.Quote(db.ledger)}, nil
}

// HasLedger looks for the ledger's first table, and refuses that of another database.
func (db *DB) HasLedger(ctx context.Context) (bool, error) {
	var comment string
	err := db.pool.QueryRowContext(ctx, "SELECT table_comment FROM information_schema.tables WHERE table_schema = ? AND table_name = 'jugatum_ledger'", db.ledger).Scan(&comment)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err == nil && db.ledger != db.schema && comment != db.mark() {
		err = &engine.RefusedError{Msg: fmt.Sprintf("ledger %s: there is a ledger of another database; name a database of which there is none", db.ledger)}
	}
	return err == nil, err
}

// mark is the comment by which the ledger of a database is told that is in another one.
func (db *DB) mark() string { return "ledger of " + db.schema }

// LedgerMark gives the ledger's first table the comment by which it is found.
func (db *DB) LedgerMark() string {
	if db.ledger == db.schema {
		return ""
	}
	return " COMMENT = '" + strings.ReplaceAll(strings.ReplaceAll(db.mark(), `\`, `\\`), "'", "''") + "'"
}

// Ledgers names the databases in which there is a ledger of this one.
func (db *DB) Ledgers(ctx context.Context) ([]string, error) {
	return db.names(ctx, `SELECT table_schema FROM information_schema.tables WHERE table_name = 'jugatum_ledger' AND table_type = 'BASE TABLE'
		AND (table_schema = ? OR table_comment = ?) ORDER BY table_schema`, db.schema, db.mark())
}

// PlaceLedger has the ledger be in another database of the server.
func (db *DB) PlaceLedger(ctx context.Context, database string) error {
	db.ledger = database
	_, err := db.HasLedger(ctx)
	return err
}

// LedgerPlace is the ledger's database.
func (db *DB) LedgerPlace() string { return db.ledger }
