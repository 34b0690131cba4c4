package postgres

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Table describes a table from the system catalogues.
func (db *DB) Table(ctx context.Context, schema, name string) (*change.Table, error) {
	t, err := db.describe(ctx, schema, name)
	if err == nil && t.Refused != "" {
		return nil, &engine.RefusedError{Msg: t.Refused}
	}
	return t, err
}

// describe also describes a table that cannot be changed, and says why not.
func (db *DB) describe(ctx context.Context, schema, name string) (*change.Table, error) {
	t := &change.Table{}
	var oid uint32
	var kind string
	var triggers bool
	where, err := db.lookup(ctx, schema)
	if err != nil {
		return nil, err
	}
	err = db.pool.QueryRowContext(ctx, `SELECT c.oid, n.nspname, c.relname, c.relkind::text, c.relhastriggers OR c.relkind = 'p'
		FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace JOIN unnest(CAST($2 AS text[])) WITH ORDINALITY AS p(schema, place) ON n.nspname = p.schema
		WHERE c.relname = $1 AND c.relkind IN ('r', 'p', 'v', 'm', 'f') ORDER BY p.place LIMIT 1`, name, where).
		Scan(&oid, &t.Schema, &t.Name, &kind, &triggers)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, db.notFound(ctx, schema, name)
	}
	if err != nil {
		return nil, err
	}
	if kind != "r" && kind != "p" {
		what := map[string]string{"v": "view", "m": "materialised view", "f": "foreign table"}[kind]
		return nil, &engine.RefusedError{Msg: fmt.Sprintf("%s is a %s, not a table: change the tables beneath it", t, what)}
	}
	if t.Schema == ledgerSchema || t.Schema == db.ledger || t.Schema == "pg_catalog" || t.Schema == "information_schema" {
		return nil, &engine.RefusedError{Msg: fmt.Sprintf("%s.%s belongs to Jugatum or to the server itself and is not changed by a job", t.Schema, t.Name)}
	}
	t.Partitioned, t.Alone = kind == "p", kind == "r"
	reads := []func(context.Context, *change.Table, uint32) error{db.heirs, db.rules, db.columns, db.indexes, db.size}
	if triggers { // by which foreign keys, and constraints that can wait, are kept as well
		reads = append(reads, db.triggers, db.references)
	}
	for _, read := range reads {
		if err := read(ctx, t, oid); err != nil {
			return nil, fmt.Errorf("reading the catalogue about %s: %w", t, err)
		}
	}
	return t, nil
}

// lookup names the schemas in which a table is looked for.
func (db *DB) lookup(ctx context.Context, schema string) ([]string, error) {
	if schema != "" {
		return []string{schema}, nil
	}
	return db.schemas(ctx)
}

func (db *DB) notFound(ctx context.Context, schema, name string) error {
	what := fmt.Sprintf("table %q", name)
	if schema != "" {
		what = fmt.Sprintf("table %q in schema %q", name, schema)
	}
	where, err := db.lookup(ctx, schema)
	if err != nil {
		return err
	}
	names, err := db.texts(ctx, "SELECT relname FROM pg_class c JOIN pg_namespace n ON n.oid = relnamespace WHERE relkind IN ('r', 'p') AND n.nspname = ANY(CAST($1 AS text[])) AND n.nspname <> 'pg_catalog'", where)
	if err != nil {
		return err
	}
	return &engine.NotFoundError{What: what, Nearest: change.Nearest(name, names)}
}

// texts reads a query of one column.
func (db *DB) texts(ctx context.Context, query string, args ...any) ([]string, error) {
	rows, err := db.pool.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var s string
		if err := rows.Scan(&s); err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, rows.Err()
}

// Tables describes all tables outside the server's own schemas; a partition
// counts as a part of its table.
func (db *DB) Tables(ctx context.Context) ([]*change.Table, error) {
	rows, err := db.pool.QueryContext(ctx, `SELECT n.nspname, c.relname FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p') AND NOT c.relispartition AND n.nspname NOT IN ('pg_catalog', 'information_schema', $1, $2) AND n.nspname NOT LIKE 'pg\_%'
		ORDER BY 1, 2`, ledgerSchema, db.ledger)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var names [][2]string
	for rows.Next() {
		var n [2]string
		if err := rows.Scan(&n[0], &n[1]); err != nil {
			return nil, err
		}
		names = append(names, n)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	rows.Close()
	var out []*change.Table
	for _, n := range names {
		t, err := db.describe(ctx, n[0], n[1])
		if err != nil {
			return nil, err
		}
		out = append(out, t)
	}
	for _, t := range out {
		for _, h := range t.Heirs {
			if i := slices.IndexFunc(out, func(x *change.Table) bool { return x.Schema == h.Schema && x.Name == h.Name }); i >= 0 {
				out[i].Above = append(out[i].Above, t)
			}
		}
	}
	return out, nil
}

// heirs finds the tables whose rows PostgreSQL reads and changes with the
// table's own: those that inherit from it, at any depth. The partitions of a
// partitioned table are a part of it, unless they are kept somewhere else.
func (db *DB) heirs(ctx context.Context, t *change.Table, oid uint32) error {
	rows, err := db.pool.QueryContext(ctx, `WITH RECURSIVE h(oid) AS (SELECT inhrelid FROM pg_inherits WHERE inhparent = $1 UNION SELECT i.inhrelid FROM pg_inherits i JOIN h ON i.inhparent = h.oid)
		SELECT n.nspname, c.relname, c.relkind::text FROM h JOIN pg_class c ON c.oid = h.oid JOIN pg_namespace n ON n.oid = c.relnamespace ORDER BY 1, 2`, oid)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var h change.TableName
		var kind string
		if err := rows.Scan(&h.Schema, &h.Name, &kind); err != nil {
			return err
		}
		if t.Alone {
			t.Heirs = append(t.Heirs, h)
		} else if kind == "f" {
			t.Refused = fmt.Sprintf("partition %s.%s of %s is a foreign table, whose changes do not stand in our transaction; change the other partitions one by one", h.Schema, h.Name, t)
		}
	}
	return rows.Err()
}

// rules refuses a table whose rules make other statements of ours, or none, and
// tells whether row policies hold for us, whose it is, and of what it is a partition.
func (db *DB) rules(ctx context.Context, t *change.Table, oid uint32) error {
	var name sql.NullString
	err := db.pool.QueryRowContext(ctx, `SELECT min(rulename), row_security_active(CAST($1 AS oid)),
			(SELECT CASE WHEN o.rolsuper OR o.rolname = current_user THEN '' ELSE o.rolname END FROM pg_class c JOIN pg_roles o ON o.oid = c.relowner WHERE c.oid = $1),
			coalesce(CAST(pg_partition_root(CAST(CAST($1 AS oid) AS regclass)) AS oid), 0)
		FROM pg_rewrite WHERE ev_class = $1 AND ev_type <> '1' AND ev_enabled <> 'D'`, oid).Scan(&name, &t.Policies, &t.Owner, &t.Tree)
	if err == nil && name.Valid {
		t.Refused = fmt.Sprintf("rule %s of %s makes other statements of those that change it, which cannot be kept or counted; disable the rule, or change the table that it leads to", name.String, t)
	}
	return err
}

func (db *DB) indexes(ctx context.Context, t *change.Table, oid uint32) error {
	rows, err := db.pool.QueryContext(ctx, `SELECT ic.relname, i.indisunique, i.indisprimary, i.indpred IS NOT NULL, NOT i.indisvalid, i.indisvalid AND am.amname = 'btree' AND i.indexprs IS NULL,
			ARRAY(SELECT coalesce(a.attname, '') FROM unnest(i.indkey::int2[]) WITH ORDINALITY AS k(attnum, n)
				LEFT JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum WHERE k.n <= i.indnkeyatts ORDER BY k.n)::text[],
			EXISTS (SELECT 1 FROM unnest(i.indkey::int2[], i.indcollation::oid[], i.indclass::oid[]) WITH ORDINALITY AS k(attnum, rules, class, n)
				JOIN pg_attribute a ON a.attrelid = i.indrelid AND a.attnum = k.attnum JOIN pg_opclass oc ON oc.oid = k.class LEFT JOIN pg_collation co ON co.oid = a.attcollation
				WHERE k.n <= i.indnkeyatts AND (NOT coalesce(co.collisdeterministic, true) AND k.rules <> a.attcollation
					OR NOT oc.opcdefault AND NOT (oc.opcnamespace = 'pg_catalog'::regnamespace AND oc.opcname LIKE '%pattern_ops')))
		FROM pg_index i JOIN pg_class ic ON ic.oid = i.indexrelid JOIN pg_am am ON am.oid = ic.relam
		WHERE i.indrelid = $1 ORDER BY i.indisprimary DESC, i.indnkeyatts, ic.relname`, oid)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var ix change.Index
		var primary, plain bool
		var cols textArray
		if err := rows.Scan(&ix.Name, &ix.Unique, &primary, &ix.Partial, &ix.Invalid, &plain, &cols, &ix.Finer); err != nil {
			return err
		}
		ix.Columns = cols
		t.Indexes = append(t.Indexes, ix)
		if t.Key != nil || !ix.Unique || ix.Partial || ix.Finer || !plain {
			continue
		}
		k := &change.Key{Name: ix.Name}
		if primary {
			k.Name = "primary key"
		}
		for _, name := range ix.Columns {
			c := t.Named(name)
			if c == nil || !c.NotNull {
				k = nil
				break
			}
			k.Columns = append(k.Columns, c)
		}
		if k != nil {
			k.Integer = len(k.Columns) == 1 && (k.Columns[0].Type == "integer" || k.Columns[0].Type == "bigint" || k.Columns[0].Type == "smallint")
			t.Key = k
		}
	}
	return rows.Err()
}

func (db *DB) triggers(ctx context.Context, t *change.Table, oid uint32) error {
	// Those of partitions fire for the table's rows as well; what they have from the
	// table itself is not counted twice.
	rows, err := db.pool.QueryContext(ctx, `SELECT tgname, tgtype::int, coalesce(prosrc, ''), CASE WHEN prosecdef AND pg_get_userbyid(proowner) <> current_user THEN pg_get_userbyid(proowner) ELSE '' END FROM pg_trigger LEFT JOIN pg_proc p ON p.oid = tgfoid
		WHERE (tgrelid = $1 OR tgparentid = 0 AND tgrelid IN (SELECT relid FROM pg_partition_tree($1::regclass))) AND NOT tgisinternal AND tgenabled <> 'D' ORDER BY tgname`, oid)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var name, text, definer string
		var bits int // pg_trigger.h: 1 for each row, 2 before, 4 insert, 8 delete, 16 update
		if err := rows.Scan(&name, &bits, &text, &definer); err != nil {
			return err
		}
		tr := change.Trigger{Name: name, Insert: bits&4 != 0, Delete: bits&8 != 0, Update: bits&16 != 0, Statement: bits&1 == 0, Text: text, Definer: definer}
		var events []string
		for bit, word := range map[int]string{4: "insert", 8: "delete", 16: "update"} {
			if bits&bit != 0 {
				events = append(events, word)
			}
		}
		tr.Events = "after " + strings.Join(events, " or ")
		if bits&2 != 0 {
			tr.Events = "before " + strings.Join(events, " or ")
		}
		t.Triggers = append(t.Triggers, tr)
	}
	return rows.Err()
}

// references reads who refers to the table. A partition is referred to by what refers to
// its table: that stands there once more for each partition, and for those of the table
// that refers.
func (db *DB) references(ctx context.Context, t *change.Table, oid uint32) error {
	rows, err := db.pool.QueryContext(ctx, `SELECT c.conname, rn.nspname, r.relname, c.confupdtype::text, c.confdeltype::text,
			ARRAY(SELECT a.attname FROM unnest(c.conkey) WITH ORDINALITY AS k(attnum, n) JOIN pg_attribute a ON a.attrelid = c.conrelid AND a.attnum = k.attnum ORDER BY k.n)::text[],
			ARRAY(SELECT a.attname FROM unnest(c.confkey) WITH ORDINALITY AS k(attnum, n) JOIN pg_attribute a ON a.attrelid = c.confrelid AND a.attnum = k.attnum ORDER BY k.n)::text[],
			ARRAY(SELECT a.attname FROM json_array_elements_text(coalesce(nullif(to_json(c)->>'confdelsetcols', ''), '[]')::json) AS k(attnum) JOIN pg_attribute a ON a.attrelid = c.conrelid AND a.attnum = k.attnum::int)::text[]
		FROM pg_constraint c JOIN pg_class r ON r.oid = c.conrelid JOIN pg_namespace rn ON rn.oid = r.relnamespace LEFT JOIN pg_constraint p ON p.oid = c.conparentid
		WHERE c.contype = 'f' AND (c.confrelid = $1 OR c.confrelid IN (SELECT relid FROM pg_partition_tree($1::regclass)))
			AND (p.oid IS NULL OR p.conrelid = c.conrelid AND p.confrelid <> $1 AND p.confrelid NOT IN (SELECT relid FROM pg_partition_tree($1::regclass))) ORDER BY c.conname`, oid)
	if err != nil {
		return err
	}
	defer rows.Close()
	actions := map[string]string{"a": "NO ACTION", "r": "RESTRICT", "c": "CASCADE", "n": "SET NULL", "d": "SET DEFAULT"}
	for rows.Next() {
		var fk change.ForeignKey
		var up, del string
		var cols, parent, cleared textArray
		if err := rows.Scan(&fk.Name, &fk.Schema, &fk.Table, &up, &del, &cols, &parent, &cleared); err != nil {
			return err
		}
		fk.OnUpdate, fk.OnDelete, fk.Columns, fk.Parent, fk.Cleared = actions[up], actions[del], cols, parent, cleared
		t.ReferredBy = append(t.ReferredBy, fk)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	return db.deferrable(ctx, t, oid)
}

func (db *DB) deferrable(ctx context.Context, t *change.Table, oid uint32) error {
	rows, err := db.pool.QueryContext(ctx, `SELECT c.conname, ARRAY(SELECT a.attname FROM pg_attribute a WHERE a.attrelid = c.conrelid AND a.attnum = ANY(c.conkey))::text[]
		FROM pg_constraint c WHERE c.conrelid = $1 AND c.condeferrable ORDER BY c.conname`, oid)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var x change.Deferrable
		if err := rows.Scan(&x.Name, (*textArray)(&x.Columns)); err != nil {
			return err
		}
		t.Deferrable = append(t.Deferrable, x)
	}
	return rows.Err()
}

// large is from how many bytes of values stored outside of their rows on a walk
// looks at their length.
const large = 64 << 20

// size takes rows from the statistics; where there are none yet, or the table is small, it counts.
func (db *DB) size(ctx context.Context, t *change.Table, oid uint32) error {
	err := db.pool.QueryRowContext(ctx, `SELECT coalesce(sum(pg_total_relation_size(c.oid)), 0)::bigint,
			CASE WHEN bool_or(c.reltuples < 0) THEN -1 ELSE coalesce(sum(c.reltuples), 0) END::bigint,
			coalesce(sum(pg_relation_size(nullif(c.reltoastrelid, 0))), 0) > $3
		FROM (SELECT $1::oid AS oid UNION SELECT relid FROM pg_partition_tree($1::regclass) WHERE $2) AS p JOIN pg_class c ON c.oid = p.oid AND c.relkind = 'r'`, oid, t.Partitioned, large).
		Scan(&t.Bytes, &t.Rows, &t.Large)
	if err != nil {
		return err
	}
	defer func() { t.RowBytes = t.Bytes / max(t.Rows, 1) }()
	t.Estimated = true
	const small = 16 << 20 // bytes; read in a moment
	// Counting rows calls what row policies call, and reaches into partitions that are
	// kept on other servers: neither is worth a figure.
	if t.Policies || t.Partitioned && t.Refused != "" {
		t.Rows = max(t.Rows, 0)
		return nil
	}
	if t.Rows < 0 || t.Bytes < small {
		t.Estimated = false
		known := t.Rows
		err := db.pool.QueryRowContext(ctx, "SELECT count(*) FROM "+t.SQL(d)).Scan(&t.Rows)
		if err != nil && db.Fault(err) == engine.Denied { // a survey tells so
			t.Rows, t.Estimated = max(known, 0), true
			return nil
		}
		return err
	}
	return nil
}

// Estimate asks the planner how many rows a change concerns.
func (db *DB) Estimate(ctx context.Context, c *change.Change) (int64, error) {
	q := &change.Query{D: d}
	q.Add("EXPLAIN (FORMAT JSON) ").With(c, false).Add("SELECT 1").Source(c, change.Range{})
	var text string
	if err := db.jobs.QueryRowContext(ctx, q.String(), q.Args...).Scan(&text); err != nil {
		return 0, err
	}
	var out []struct {
		Plan struct {
			Rows float64 `json:"Plan Rows"`
		}
	}
	if err := json.Unmarshal([]byte(text), &out); err != nil || len(out) != 1 {
		return 0, fmt.Errorf("the server's EXPLAIN output cannot be read: %w", err)
	}
	return int64(out[0].Plan.Rows), nil
}

// What a row takes on a page besides its values: its header, rounded up, and its
// line pointer (PostgreSQL documentation, "Database Page Layout").
const rowHeader = 24 + 4

// Stored is the length of all values of a table as they are stored, with the
// headers of its rows. How full its pages are is not in it: the pages of a few
// rows would say little about those of many.
func (db *DB) Stored(ctx context.Context, tx *engine.Tx, table string) (n int64, err error) {
	var values string
	if err := tx.Scan(ctx, `SELECT pg_catalog.string_agg('coalesce(pg_catalog.pg_column_size(' || pg_catalog.quote_ident(CAST(attname AS text)) || '), 0)', ' + ')
		FROM pg_catalog.pg_attribute WHERE attrelid = CAST(CAST(CAST(? AS text) AS regclass) AS oid) AND attnum > 0 AND NOT attisdropped`, []any{table}, &values); err != nil {
		return 0, err
	}
	err = tx.Scan(ctx, fmt.Sprintf("SELECT coalesce(pg_catalog.sum(%d + %s), 0) FROM %s", rowHeader, values, table), nil, &n)
	return n, err
}

// Weigh is the size of a table with its TOAST table and indexes.
func (db *DB) Weigh(ctx context.Context, table string) (n int64, err error) {
	err = db.pool.QueryRowContext(ctx, "SELECT pg_total_relation_size(CAST($1 AS text)::regclass)", table).Scan(&n)
	return n, err
}
