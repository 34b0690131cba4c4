package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"jugatum/internal/change"
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
	if db.believed.Load() == db.ledger {
		return true, nil
	}
	var comment string
	err := db.pool.QueryRowContext(ctx, "SELECT table_comment FROM information_schema.tables WHERE table_schema = ? AND table_name = 'jugatum_ledger'", db.ledger).Scan(&comment)
	if err == nil {
		err = db.plainTables(ctx)
	}
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if err == nil && db.ledger != db.schema && comment != db.mark() {
		err = &engine.RefusedError{Msg: fmt.Sprintf("ledger %s: there is a ledger of another database; name a database of which there is none", db.ledger)}
	}
	if err == nil {
		db.believed.Store(db.ledger)
	}
	return err == nil, err
}

// plainTables refuses a ledger of which anything is more than a table that holds
// its own rows: reading a view could call functions with our rights.
func (db *DB) plainTables(ctx context.Context) error {
	// One by one: a list of names has the server open every table of the database.
	var parts []string
	var args []any
	for _, name := range engine.LedgerTables {
		parts = append(parts, `SELECT table_name FROM information_schema.tables WHERE table_schema = ? AND table_name = ? AND (table_type <> 'BASE TABLE' OR engine NOT IN ('InnoDB', 'Aria', 'MyISAM', 'ROCKSDB'))`)
		args = append(args, db.ledger, "jugatum_"+name)
	}
	strange, err := db.names(ctx, strings.Join(parts, " UNION ALL "), args...)
	if err == nil && len(strange) > 0 {
		err = &engine.UntrustedError{Msg: fmt.Sprintf("the ledger in %s is not used: %s is no ordinary table, and could do anything when it is read; drop it, or name another place with --ledger", db.ledger, strings.Join(strange, ", "))}
	}
	return err
}

// TrustKept refuses kept values that are read through a view of somebody else's.
func (db *DB) TrustKept(ctx context.Context, kept *change.Kept) error {
	name := kept.Table[strings.LastIndexByte(kept.Table[:len(kept.Table)-1], '`')+1 : len(kept.Table)-1]
	var kind, definer, me string
	// A join of the two would have the server open every view that it has.
	err := db.pool.QueryRowContext(ctx, `SELECT table_type, coalesce((SELECT definer FROM information_schema.views WHERE table_schema = ? AND table_name = ?), ''), CURRENT_USER()
		FROM information_schema.tables WHERE table_schema = ? AND table_name = ?`, db.ledger, name, db.ledger, name).Scan(&kind, &definer, &me)
	switch {
	case errors.Is(err, sql.ErrNoRows): // reading it will say so
		return nil
	case err != nil:
		return err
	case kind == "BASE TABLE" && kept.Packed == "", kind == "VIEW" && kept.Packed != "" && definer == me:
		return nil
	case kind == "VIEW" && kept.Packed != "":
		return &engine.UntrustedError{Msg: fmt.Sprintf("the kept values are read through the view %s, which %s has made, and which could call anything; let that user do it, or say --trust-record when you have looked at it", kept.Table, definer)}
	}
	return &engine.UntrustedError{Msg: fmt.Sprintf("the kept values are in %s, which is not what the run made (%s)", kept.Table, strings.ToLower(kind))}
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

// LedgerObjects are those whose names begin as ours do.
func (db *DB) LedgerObjects(ctx context.Context, _ bool) ([]engine.LedgerObject, error) {
	rows, err := db.pool.QueryContext(ctx, `SELECT substr(table_name, 9), table_type = 'VIEW', coalesce(data_length + index_length, 0) FROM information_schema.tables
		WHERE table_schema = ? AND table_name LIKE 'jugatum\\_%' AND NOT FIND_IN_SET(substr(table_name, 9), ?) ORDER BY table_name`, db.ledger, strings.Join(engine.LedgerTables, ","))
	return engine.ReadObjects(rows, err)
}

// LedgerRemains drops the ledger's database, if it has one of its own in which nothing is left.
func (db *DB) LedgerRemains(ctx context.Context) ([]string, error) {
	if db.ledger == db.schema {
		return nil, nil
	}
	var n int
	err := db.pool.QueryRowContext(ctx, `SELECT (SELECT count(*) FROM information_schema.tables WHERE table_schema = ?) + (SELECT count(*) FROM information_schema.routines WHERE routine_schema = ?)`, db.ledger, db.ledger).Scan(&n)
	if err != nil || n > 0 {
		return nil, err
	}
	return []string{"DROP DATABASE " + d.Quote(db.ledger)}, nil
}
