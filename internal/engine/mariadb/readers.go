package mariadb

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
)

// KeptReaders names the users and roles that may read kept values of a table and
// not the table itself, as far as this user may see their privileges: that takes
// SELECT on the server's own database, mysql. Who may read every database is not
// named, nor who has a role: the role is.
func (db *DB) KeptReaders(ctx context.Context) (map[change.TableName][]string, error) {
	others, err := db.grantees(ctx)
	if err != nil || len(others) == 0 {
		return nil, err
	}
	rows, err := db.pool.QueryContext(ctx, "SELECT s.run, s.part, s.table_schema, s.table_name FROM (SELECT run, CAST(n AS char) AS part, table_schema, table_name FROM "+db.LedgerTable("step")+
		" UNION ALL SELECT run, concat(step, '_', n), table_schema, table_name FROM "+db.LedgerTable("act")+") s JOIN "+db.LedgerTable("run")+" u ON u.id = s.run AND u.undo_of IS NULL")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[change.TableName][]string{}
	for rows.Next() {
		var run int64
		var part string
		var t change.TableName
		if err := rows.Scan(&run, &part, &t.Schema, &t.Name); err != nil {
			return nil, err
		}
		for who, granted := range others {
			// The view runs with the rights of who reads it, so the packed values are
			// what counts, and they show by themselves what is in them.
			reads := slices.ContainsFunc([]string{"kept", "packed"}, func(kind string) bool {
				return granted.may("SELECT", db.ledger, fmt.Sprintf("jugatum_%s_%d_%s", kind, run, part))
			})
			if reads && !granted.may("SELECT", cmp.Or(t.Schema, db.schema), t.Name) && !slices.Contains(out[t], who) {
				out[t] = append(out[t], who)
			}
		}
		slices.Sort(out[t])
	}
	return out, rows.Err()
}

// grantees gives what each other user and role may read, but for those who may
// read everything.
func (db *DB) grantees(ctx context.Context) (map[string]grants, error) {
	rows, err := db.pool.QueryContext(ctx, `SELECT grantee, '', '' FROM information_schema.user_privileges WHERE privilege_type = 'SELECT'
		UNION ALL SELECT grantee, table_schema, '' FROM information_schema.schema_privileges WHERE privilege_type = 'SELECT'
		UNION ALL SELECT grantee, table_schema, table_name FROM information_schema.table_privileges WHERE privilege_type = 'SELECT'`)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]grants{}
	all := map[string]bool{}
	for rows.Next() {
		var who string
		g := grant{privileges: []string{"SELECT"}}
		if err := rows.Scan(&who, &g.schema, &g.table); err != nil {
			return nil, err
		}
		who = strings.TrimSuffix(strings.ReplaceAll(who, "'", ""), "@") // a role has no host
		all[who] = all[who] || g.schema == ""
		out[who] = append(out[who], g)
	}
	for who := range out {
		if all[who] || who == db.user {
			delete(out, who)
		}
	}
	return out, rows.Err()
}
