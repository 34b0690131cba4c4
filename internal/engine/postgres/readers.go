package postgres

import (
	"context"

	"jugatum/internal/change"
)

// KeptReaders names the roles that may read kept values of a table and not the
// table itself. Superusers may read everything.
func (db *DB) KeptReaders(ctx context.Context) (map[change.TableName][]string, error) {
	rows, err := db.pool.QueryContext(ctx, `SELECT DISTINCT t.nspname, t.relname, r.rolname
		FROM (SELECT run, CAST(n AS text) AS part, table_schema, table_name FROM `+db.LedgerTable("step")+`
			UNION ALL SELECT run, step || '_' || n, table_schema, table_name FROM `+db.LedgerTable("act")+`) s JOIN `+db.LedgerTable("run")+` u ON u.id = s.run AND u.undo_of IS NULL
		JOIN pg_namespace ln ON ln.nspname = $1
		JOIN pg_class k ON k.relnamespace = ln.oid AND k.relname = CAST('kept_' || s.run || '_' || s.part AS name)
		JOIN (SELECT c.oid, n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace) AS t
			ON t.nspname = CAST(s.table_schema AS name) AND t.relname = CAST(s.table_name AS name)
		JOIN pg_roles r ON NOT r.rolsuper AND r.rolname <> current_user AND r.rolname NOT LIKE 'pg\_%'
		WHERE has_schema_privilege(r.oid, ln.oid, 'USAGE') AND has_any_column_privilege(r.oid, k.oid, 'SELECT') AND NOT has_table_privilege(r.oid, t.oid, 'SELECT')
		ORDER BY 1, 2, 3 LIMIT 1000`, db.ledger)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[change.TableName][]string{}
	for rows.Next() {
		var t change.TableName
		var role string
		if err := rows.Scan(&t.Schema, &t.Name, &role); err != nil {
			return nil, err
		}
		out[t] = append(out[t], role)
	}
	return out, rows.Err()
}
