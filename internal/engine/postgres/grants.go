package postgres

import (
	"context"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// Missing asks the server for what the change and the ledger take.
func (db *DB) Missing(ctx context.Context, c *change.Change, keep bool) (engine.Missing, error) {
	var m engine.Missing
	t, to := c.Table, " TO "+d.Quote(db.user)
	var usage, read, del, ins, temp, locks bool
	var denied []string // of the columns
	err := db.pool.QueryRowContext(ctx, `SELECT pg_catalog.has_schema_privilege(n.oid, 'USAGE'), pg_catalog.has_table_privilege(c.oid, 'SELECT'),
			pg_catalog.has_table_privilege(c.oid, 'DELETE'), pg_catalog.has_table_privilege(c.oid, 'INSERT'),
			pg_catalog.has_database_privilege(pg_catalog.current_database(), 'TEMPORARY'), pg_catalog.has_any_column_privilege(c.oid, 'UPDATE'),
			(SELECT coalesce(pg_catalog.array_agg(CAST(a.attname AS text)), '{}') FROM pg_catalog.pg_attribute a
				WHERE a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND NOT pg_catalog.has_column_privilege(c.oid, a.attnum, 'UPDATE'))
		FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2`, t.Schema, t.Name).
		Scan(&usage, &read, &del, &ins, &temp, &locks, (*textArray)(&denied))
	if err != nil {
		return m, err
	}
	table := d.Quote(t.Schema) + "." + d.Quote(t.Name)
	if !usage {
		m.Read = append(m.Read, "GRANT USAGE ON SCHEMA "+d.Quote(t.Schema)+to)
	}
	if !read {
		m.Read = append(m.Read, "GRANT SELECT ON "+table+to)
	}
	if c.Verb == sqltext.Delete {
		if !del {
			m.Run = append(m.Run, "GRANT DELETE ON "+table+to)
		}
		if !ins {
			m.Undo = append(m.Undo, "GRANT INSERT ON "+table+to)
		}
	} else {
		var lack []string
		for _, s := range c.Set {
			if slices.Contains(denied, s.Column.Name) {
				lack = append(lack, d.Quote(s.Column.Name))
			}
		}
		if len(lack) > 0 {
			m.Run = append(m.Run, "GRANT UPDATE ("+strings.Join(lack, ", ")+") ON "+table+to)
		}
	}
	if c.Locks() && !locks { // any column will do
		m.Run = append(m.Run, "GRANT UPDATE ("+d.Quote(c.Table.Key.Columns[0].Name)+") ON "+table+to)
	}
	if (!keep && c.KeysMayMove() || c.Locks()) && !temp {
		m.Run = append(m.Run, "GRANT TEMPORARY ON DATABASE "+d.Quote(db.database)+to)
	}
	if c.Into != nil {
		if err := db.missingForInto(ctx, c.Into, &m); err != nil {
			return m, err
		}
	}
	m.Ledger, err = db.missingForLedger(ctx)
	return m, err
}

// missingForInto adds what putting rows into another table still takes, and taking them
// out of it again: those that go back are locked first, which is a matter of UPDATE.
func (db *DB) missingForInto(ctx context.Context, x *change.Into, m *engine.Missing) error {
	to := " TO " + d.Quote(db.user)
	schema, table := d.Quote(x.Table.Schema), x.Table.NameSQL(d)
	if x.Make {
		var may bool
		err := db.pool.QueryRowContext(ctx, "SELECT pg_catalog.has_schema_privilege(n.oid, 'CREATE') FROM pg_catalog.pg_namespace n WHERE n.nspname = $1", x.Table.Schema).Scan(&may)
		if err == nil && !may {
			m.Run = append(m.Run, "GRANT CREATE ON SCHEMA "+schema+to)
		}
		return err
	}
	var read, ins, del, upd bool
	err := db.pool.QueryRowContext(ctx, `SELECT pg_catalog.has_table_privilege(c.oid, 'SELECT'), pg_catalog.has_table_privilege(c.oid, 'INSERT'), pg_catalog.has_table_privilege(c.oid, 'DELETE'),
			pg_catalog.has_any_column_privilege(c.oid, 'UPDATE')
		FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2`, x.Table.Schema, x.Table.Name).Scan(&read, &ins, &del, &upd)
	for _, p := range []struct {
		has  bool
		name string
		list *[]string
	}{{read, "SELECT", &m.Read}, {ins, "INSERT", &m.Run}, {del, "DELETE", &m.Undo}, {upd || x.Copied && len(x.Taken()) == 0, "UPDATE", &m.Undo}} {
		if err == nil && !p.has {
			*p.list = append(*p.list, "GRANT "+p.name+" ON "+table+to)
		}
	}
	for _, fk := range x.Taken() { // whose rows an undo must see
		var may bool
		if err == nil {
			err = db.pool.QueryRowContext(ctx, "SELECT pg_catalog.has_table_privilege(c.oid, 'SELECT') FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace WHERE n.nspname = $1 AND c.relname = $2", fk.In(x.Table), fk.Table).Scan(&may)
		}
		if err == nil && !may {
			m.Undo = append(m.Undo, "GRANT SELECT ON "+fk.FromSQL(d)+to)
		}
	}
	return err
}

// missingForLedger tells what making the ledger, or writing into the one that is
// there, still takes.
func (db *DB) missingForLedger(ctx context.Context) ([]string, error) {
	to := " TO " + d.Quote(db.user)
	var there, make, usage, create, foreign bool
	err := db.pool.QueryRowContext(ctx, `SELECT n.oid IS NOT NULL, pg_catalog.has_database_privilege(pg_catalog.current_database(), 'CREATE'),
			coalesce(pg_catalog.has_schema_privilege(n.oid, 'USAGE'), false), coalesce(pg_catalog.has_schema_privilege(n.oid, 'CREATE'), false),
			EXISTS (SELECT 1 FROM pg_catalog.pg_class c WHERE c.relnamespace = n.oid AND c.relkind = 'r'
				AND c.relname = ANY(CAST($2 AS text[]))
				AND NOT (pg_catalog.has_table_privilege(c.oid, 'SELECT') AND pg_catalog.has_table_privilege(c.oid, 'INSERT')
					AND pg_catalog.has_table_privilege(c.oid, 'UPDATE') AND pg_catalog.has_table_privilege(c.oid, 'DELETE')))
		FROM (SELECT 1) AS one LEFT JOIN pg_catalog.pg_namespace n ON n.nspname = $1`, db.ledger, engine.LedgerTables).Scan(&there, &make, &usage, &create, &foreign)
	schema := d.Quote(db.ledger)
	switch {
	case err != nil:
		return nil, err
	case !there && !make:
		return []string{"CREATE SCHEMA " + schema + " AUTHORIZATION " + d.Quote(db.user)}, nil
	case !there:
		return nil, nil
	}
	if foreign { // a ledger is one user's: whoever may write to another's has its SQL executed by that one
		return []string{"CREATE SCHEMA " + d.Quote(db.ledger+"_"+db.user) + " AUTHORIZATION " + d.Quote(db.user) + ", for --ledger " + db.ledger + "_" + db.user}, nil
	}
	if !usage || !create {
		return []string{"GRANT USAGE, CREATE ON SCHEMA " + schema + to}, nil
	}
	return nil, nil
}
