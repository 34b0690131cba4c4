package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"github.com/go-sql-driver/mysql"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// system are the server's own databases.
var system = map[string]bool{"mysql": true, "information_schema": true, "performance_schema": true, "sys": true}

// Table describes a table from information_schema.
func (db *DB) Table(ctx context.Context, schema, name string) (*change.Table, error) {
	t, refusal, err := db.describe(ctx, schema, name, nil)
	if err != nil {
		return nil, err
	}
	if refusal != "" {
		return nil, &engine.RefusedError{Msg: refusal}
	}
	return t, nil
}

// describe also describes a table that cannot be changed, and says why not. It asks which tables refer to it,
// unless that is known of all already.
func (db *DB) describe(ctx context.Context, schema, name string, known referrers) (*change.Table, string, error) {
	t := &change.Table{Schema: schema}
	if schema == db.schema {
		t.Schema = ""
	}
	where := schema
	if where == "" {
		where = db.schema
	}
	var kind, storage, options string
	var bytes sql.NullInt64
	var rows sql.NullInt64
	err := db.pool.QueryRowContext(ctx, `SELECT table_name, table_type, coalesce(engine, ''), coalesce(create_options, ''), data_length + index_length, table_rows
		FROM information_schema.tables WHERE table_schema = ? AND table_name = ?`, where, name).Scan(&t.Name, &kind, &storage, &options, &bytes, &rows)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, "", db.notFound(ctx, schema, name)
	}
	if err != nil {
		return nil, "", err
	}
	switch {
	case kind == "VIEW" || kind == "SYSTEM VIEW":
		return t, fmt.Sprintf("%s is a view, not a table: change the tables beneath it", t), nil
	case kind == "SEQUENCE":
		return t, fmt.Sprintf("%s is a sequence, not a table", t), nil
	case system[where] || schema == "" && strings.HasPrefix(t.Name, "jugatum_"):
		return t, fmt.Sprintf("%s belongs to Jugatum or to the server itself and is not changed by a job", t), nil
	}
	refusal := ""
	var transactions string
	if err := db.pool.QueryRowContext(ctx, "SELECT coalesce(transactions, 'NO') FROM information_schema.engines WHERE engine = ?", storage).Scan(&transactions); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, "", err
	}
	if transactions != "YES" {
		refusal = fmt.Sprintf("%s is kept by the engine %s, which knows no transactions: a batch that fails could not be rolled back, and rows could be changed twice; ALTER TABLE … ENGINE = InnoDB first", t, storage)
	}
	t.Partitioned = strings.Contains(options, "partitioned")
	references := func(ctx context.Context, t *change.Table, where string) error {
		return db.references(ctx, t, where, known)
	}
	for _, read := range []func(context.Context, *change.Table, string) error{db.columns, db.indexes, db.triggers, references} {
		if err := read(ctx, t, where); err != nil {
			return nil, "", fmt.Errorf("reading information_schema about %s: %w", t, err)
		}
	}
	t.Bytes, t.Rows, t.Estimated = -1, rows.Int64, true
	if bytes.Valid {
		t.Bytes = bytes.Int64
	}
	// Read in a moment. The server may not know yet how many bytes it has stored.
	const small, few = 16 << 20, 200_000
	if refusal == "" && t.Bytes < small && t.Rows < few {
		known := t.Rows
		t.Estimated = false
		err = db.pool.QueryRowContext(ctx, "SELECT count(*) FROM "+t.SQL(d)).Scan(&t.Rows)
		if err != nil && db.Fault(err) == engine.Denied { // a survey tells so
			t.Rows, t.Estimated, err = known, true, nil
		}
	}
	t.RowBytes = max(t.Bytes, 0) / max(t.Rows, 1)
	return t, refusal, err
}

func (db *DB) notFound(ctx context.Context, schema, name string) error {
	what, where := fmt.Sprintf("table %q", name), schema
	if schema != "" {
		what = fmt.Sprintf("table %q in database %q", name, schema)
	} else {
		where = db.schema
	}
	names, err := db.names(ctx, "SELECT table_name FROM information_schema.tables WHERE table_schema = ?", where)
	if err != nil {
		return err
	}
	return &engine.NotFoundError{What: what, Nearest: change.Nearest(name, names)}
}

func (db *DB) names(ctx context.Context, query string, args ...any) ([]string, error) {
	rows, err := db.pool.QueryContext(ctx, query, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []string
	for rows.Next() {
		var n string
		if err := rows.Scan(&n); err != nil {
			return nil, err
		}
		out = append(out, n)
	}
	return out, rows.Err()
}

// Tables describes the tables of the database connected to, also those that
// cannot be changed.
func (db *DB) Tables(ctx context.Context) ([]*change.Table, error) {
	names, err := db.names(ctx, `SELECT table_name FROM information_schema.tables WHERE table_schema = ? AND table_type IN ('BASE TABLE', 'SYSTEM VERSIONED')
		AND table_name NOT LIKE 'jugatum\_%' ORDER BY table_name`, db.schema)
	if err != nil {
		return nil, err
	}
	all, err := db.referring(ctx, "", "") // each question after those of one table goes through all references
	if err != nil {
		return nil, err
	}
	var out []*change.Table
	for _, n := range names {
		t, refusal, err := db.describe(ctx, "", n, all)
		if err != nil {
			return nil, err
		}
		t.Refused = refusal
		out = append(out, t)
	}
	return out, nil
}

func (db *DB) columns(ctx context.Context, t *change.Table, schema string) error {
	rows, err := db.pool.QueryContext(ctx, `SELECT column_name, data_type, column_type, is_nullable = 'NO', coalesce(column_default, ''), extra, coalesce(character_maximum_length, 0),
			coalesce(character_set_name, ''), coalesce(collation_name, ''), coalesce(numeric_scale, 0), coalesce(datetime_precision, 0), is_generated <> 'NEVER'
		FROM information_schema.columns WHERE table_schema = ? AND table_name = ? ORDER BY ordinal_position`, schema, t.Name)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		c := &change.Column{}
		var typ, extra, charset string
		var length uint64
		var scale, fraction int
		if err := rows.Scan(&c.Name, &typ, &c.Type, &c.NotNull, &c.Default, &extra, &length, &charset, &c.Collation, &scale, &fraction, &c.Generated); err != nil {
			return err
		}
		if c.Default == "NULL" {
			c.Default = ""
		}
		if _, expr, ok := strings.Cut(strings.ToLower(extra), "on update "); ok {
			c.OnUpdate = strings.TrimSpace(expr)
		}
		switch typ {
		case "tinyint", "smallint", "mediumint", "int", "bigint":
			c.Class, c.Base = change.Number, "DECIMAL(65,0)"
		case "decimal":
			c.Class, c.Base = change.Number, fmt.Sprintf("DECIMAL(65,%d)", scale)
		case "double":
			c.Class, c.Base = change.Number, "DOUBLE"
		case "float":
			c.Class, c.Base = change.Number, "FLOAT"
		case "enum", "set":
			c.Holds = change.TextParts
		case "year", "bit", "uuid", "inet4", "inet6":
		case "date":
			c.Base = "DATE"
		case "time":
			c.Base = fmt.Sprintf("TIME(%d)", fraction)
		case "datetime", "timestamp":
			c.Base, c.Instant = fmt.Sprintf("DATETIME(%d)", fraction), typ == "timestamp"
		case "char", "varchar", "tinytext", "text", "mediumtext", "longtext":
			c.Class, c.Same, c.Base, c.Holds = change.Text, change.ByText, charset, change.WholeText
			if typ == "char" || typ == "varchar" {
				c.Length = int(length)
			}
		default: // bytes, and types unknown here
			c.Same, c.Binary = change.ByImage, true
			if strings.HasSuffix(typ, "binary") || strings.HasSuffix(typ, "blob") {
				c.Holds = change.Bytes
			}
			if typ == "binary" || typ == "varbinary" {
				c.Length = int(length)
			}
		}
		t.Columns = append(t.Columns, c)
	}
	return rows.Err()
}

// walkable reports whether ranges of a column's values can be told by comparing:
// enumerations are ordered by number but compared as text, floats are not found
// again by the text they are shown as.
func walkable(c *change.Column) bool {
	for _, p := range []string{"enum(", "set(", "bit(", "float", "geometry"} {
		if strings.HasPrefix(c.Type, p) {
			return false
		}
	}
	return !c.Generated
}

func (db *DB) indexes(ctx context.Context, t *change.Table, schema string) error {
	rows, err := db.pool.QueryContext(ctx, `SELECT index_name, non_unique = 0, coalesce(column_name, ''), sub_part IS NOT NULL, index_type
		FROM information_schema.statistics WHERE table_schema = ? AND table_name = ? ORDER BY index_name <> 'PRIMARY', index_name, seq_in_index`, schema, t.Name)
	if err != nil {
		return err
	}
	defer rows.Close()
	plain := map[string]bool{}
	for rows.Next() {
		var ix change.Index
		var col, kind string
		var part bool
		if err := rows.Scan(&ix.Name, &ix.Unique, &col, &part, &kind); err != nil {
			return err
		}
		if n := len(t.Indexes); n == 0 || t.Indexes[n-1].Name != ix.Name {
			t.Indexes = append(t.Indexes, ix)
			plain[ix.Name] = true
		}
		last := &t.Indexes[len(t.Indexes)-1]
		last.Columns = append(last.Columns, col)
		plain[ix.Name] = plain[ix.Name] && !part && kind == "BTREE"
		last.Partial = last.Partial || part
	}
	for _, ix := range t.Indexes {
		if t.Key != nil || !ix.Unique || !plain[ix.Name] {
			continue
		}
		k := &change.Key{Name: ix.Name}
		if ix.Name == "PRIMARY" {
			k.Name = "primary key"
		}
		for _, name := range ix.Columns {
			c := t.Named(name)
			if c == nil || !c.NotNull || !walkable(c) {
				k = nil
				break
			}
			k.Columns = append(k.Columns, c)
		}
		if k != nil {
			k.Integer = len(k.Columns) == 1 && k.Columns[0].Base == "DECIMAL(65,0)" && !strings.HasPrefix(k.Columns[0].Type, "decimal") &&
				k.Columns[0].Type != "bigint(20) unsigned" && k.Columns[0].Type != "bigint unsigned"
			t.Key = k
		}
	}
	return rows.Err()
}

func (db *DB) triggers(ctx context.Context, t *change.Table, schema string) error {
	rows, err := db.pool.QueryContext(ctx, "SELECT trigger_name, lower(action_timing), lower(event_manipulation), action_statement, definer FROM information_schema.triggers WHERE event_object_schema = ? AND event_object_table = ? ORDER BY 1", schema, t.Name)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var tr change.Trigger
		var timing, event string
		if err := rows.Scan(&tr.Name, &timing, &event, &tr.Text, &tr.Definer); err != nil {
			return err
		}
		if tr.Definer == db.user {
			tr.Definer = ""
		}
		tr.Events, tr.Update, tr.Delete, tr.Insert = timing+" "+event, event == "update", event == "delete", event == "insert"
		t.Triggers = append(t.Triggers, tr)
	}
	return rows.Err()
}

// errNoProcess is the server's error for who lacks a privilege of the whole server, such as PROCESS.
const errNoProcess = 1227

// referrers are the tables that refer to others, by the names of those in small letters; perhaps some more,
// which refer to one whose name differs in case.
type referrers map[change.TableName][]change.TableName

func small(schema, name string) change.TableName {
	return change.TableName{Schema: strings.ToLower(schema), Name: strings.ToLower(name)}
}

// references reads which tables refer to t.
func (db *DB) references(ctx context.Context, t *change.Table, schema string, known referrers) (err error) {
	if known == nil {
		if known, err = db.referring(ctx, schema, t.Name); err != nil {
			return err
		}
	}
	for _, c := range known[small(schema, t.Name)] {
		if err := db.referencesOf(ctx, t, schema, c); err != nil {
			return err
		}
	}
	return nil
}

// referring reads which tables refer to one, or which to which if its name is "". InnoDB's list says so at once,
// with names as those of files; who may not see it asks information_schema, which opens every table of the server
// to tell, a tenth of a millisecond for each.
func (db *DB) referring(ctx context.Context, schema, name string) (referrers, error) {
	read := func(parent, parentTable, child, childTable, from string) (*sql.Rows, error) {
		one, args := "", []any{}
		if name != "" {
			one, args = " AND "+parent+" COLLATE utf8mb4_general_ci = ? AND "+parentTable+" COLLATE utf8mb4_general_ci = ?", []any{schema, name}
		}
		return db.pool.QueryContext(ctx, "SELECT DISTINCT "+strings.Join([]string{child, childTable, parent, parentTable}, ", ")+" FROM information_schema."+from+one+" ORDER BY 1, 2", args...)
	}
	file := func(column, part string) string {
		return "CONVERT(CONVERT(CAST(substring_index(" + column + ", '/', " + part + ") AS BINARY) USING filename) USING utf8mb4)"
	}
	rows, err := read(file("ref_name", "1"), file("ref_name", "-1"), file("for_name", "1"), file("for_name", "-1"), "innodb_sys_foreign WHERE 1 = 1")
	var me *mysql.MySQLError
	if errors.As(err, &me) && me.Number == errNoProcess {
		utf8 := func(column string) string { return "CONVERT(" + column + " USING utf8mb4)" }
		rows, err = read(utf8("referenced_table_schema"), utf8("referenced_table_name"), "constraint_schema", "table_name", "key_column_usage WHERE referenced_table_name IS NOT NULL")
	}
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := referrers{}
	for rows.Next() {
		var c, parent change.TableName
		if err := rows.Scan(&c.Schema, &c.Name, &parent.Schema, &parent.Name); err != nil {
			return nil, err
		}
		parent = small(parent.Schema, parent.Name)
		out[parent] = append(out[parent], c)
	}
	return out, rows.Err()
}

// referencesOf reads the references to t of one table. Each part is asked by itself: joined, information_schema
// would open every table of the server, whatever is said of its name.
func (db *DB) referencesOf(ctx context.Context, t *change.Table, schema string, of change.TableName) error {
	named := func(view, schema string) string {
		return "(SELECT * FROM information_schema." + view + " WHERE " + schema + " = ? AND table_name = ?" + d.Forms().Unmerged + ")"
	}
	rows, err := db.pool.QueryContext(ctx, `SELECT r.constraint_name, r.constraint_schema, r.table_name, r.update_rule, r.delete_rule, k.column_name, k.referenced_column_name
		FROM `+named("referential_constraints", "constraint_schema")+` AS r JOIN `+named("key_column_usage", "table_schema")+` AS k
			ON k.constraint_schema = r.constraint_schema AND k.constraint_name = r.constraint_name AND k.table_name = r.table_name
		WHERE k.referenced_table_schema = ? AND k.referenced_table_name = ? ORDER BY r.constraint_schema, r.table_name, r.constraint_name, k.ordinal_position`, of.Schema, of.Name, of.Schema, of.Name, schema, t.Name)
	if err != nil {
		return err
	}
	defer rows.Close()
	last := ""
	for rows.Next() {
		var fk change.ForeignKey
		var where, col, parent string
		if err := rows.Scan(&fk.Name, &where, &fk.Table, &fk.OnUpdate, &fk.OnDelete, &col, &parent); err != nil {
			return err
		}
		if id := where + "\x00" + fk.Table + "\x00" + fk.Name; id != last {
			if where != schema {
				fk.Schema = where
			}
			t.ReferredBy = append(t.ReferredBy, fk)
			last = id
		}
		f := &t.ReferredBy[len(t.ReferredBy)-1]
		f.Columns, f.Parent = append(f.Columns, col), append(f.Parent, parent)
	}
	return rows.Err()
}

// Settings tells what decides how a change in batches meets the server and its
// other sessions.
func (db *DB) Settings(ctx context.Context) ([]engine.Setting, error) {
	var out []engine.Setting
	for _, s := range [][2]string{
		{"sql_mode", "ours are strict besides, whatever the server's default: nothing is cut short"},
		{"tx_isolation", "the default of sessions; ours are READ COMMITTED, or keep a snapshot and lock only what they change"},
		{"log_bin", "whether there is a binary log, which each replica gets"},
		{"binlog_format", "ROW writes every changed row before and after; STATEMENT forbids READ COMMITTED"},
		{"binlog_row_image", "how much of a row each change writes to the binary log"},
		{"sync_binlog", "1: every commit is flushed to the binary log"},
		{"innodb_flush_log_at_trx_commit", "1: every commit is flushed; otherwise a crash of the machine can lose the last batches, and their checkpoints with them"},
		{"innodb_buffer_pool_size", "bytes for pages in memory"},
		{"innodb_log_file_size", "bytes of redo log; a change that fills it faster than pages are flushed waits"},
		{"innodb_lock_wait_timeout", "seconds that other sessions wait for a row's lock before they fail"},
		{"innodb_autoinc_lock_mode", "how inserts number their rows"},
		{"read_only", "on a replica, where nothing should be changed"},
		{"wsrep_on", "a node of a Galera cluster: every commit is certified by all nodes"},
	} {
		var value string
		err := db.pool.QueryRowContext(ctx, "SELECT coalesce(variable_value, '') FROM information_schema.global_variables WHERE variable_name = ?", s[0]).Scan(&value)
		if errors.Is(err, sql.ErrNoRows) {
			continue
		}
		if err != nil {
			return nil, err
		}
		out = append(out, engine.Setting{Name: s[0], Value: value, Meaning: s[1]})
	}
	var replicas int
	if err := db.pool.QueryRowContext(ctx, "SELECT count(*) FROM information_schema.processlist WHERE command LIKE 'Binlog Dump%'").Scan(&replicas); err != nil {
		return nil, err
	}
	agreed, err := db.protection(ctx)
	if err != nil {
		return nil, err
	}
	out = append(out, agreed)
	out = append(out, engine.Setting{Name: "replicas", Value: fmt.Sprint(replicas), Meaning: "reading the binary log of this server, as far as " + db.user + " may see"})
	rights := engine.Setting{Name: "may keep the ledger", Value: "yes", Meaning: "whether " + db.user + " may make and write the tables jugatum_… in " + db.ledger}
	if missing := db.missingForLedger(); len(missing) > 0 {
		rights.Value, rights.Advice = "no", strings.Join(missing, "; ")
	}
	return append(out, rights), nil
}

// rowHeader is what InnoDB adds to the values of a row in the COMPACT and DYNAMIC
// formats: the record's header, the transaction and the undo pointer (InnoDB
// documentation, "InnoDB Row Formats").
const rowHeader = 5 + 6 + 7

// Stored is the length of all values of a table, which may be a temporary one,
// with the headers of its rows. How full its pages are is not in it.
func (db *DB) Stored(ctx context.Context, tx *engine.Tx, table string) (n int64, err error) {
	return db.stored(ctx, tx.S.Conn, table)
}

// querier is a connection or a pool.
type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
	QueryRowContext(ctx context.Context, query string, args ...any) *sql.Row
}

func (db *DB) stored(ctx context.Context, from querier, table string) (n int64, err error) {
	rows, err := from.QueryContext(ctx, "SELECT * FROM "+table+" LIMIT 0")
	if err != nil {
		return 0, err
	}
	names, err := rows.Columns()
	rows.Close()
	if err != nil {
		return 0, err
	}
	for i, name := range names {
		names[i] = "coalesce(octet_length(" + d.Quote(name) + "), 0)"
	}
	err = from.QueryRowContext(ctx, fmt.Sprintf("SELECT coalesce(sum(%d + %s), 0) FROM %s", rowHeader, strings.Join(names, " + "), table)).Scan(&n)
	return n, err
}

// Weigh is the size of the table's own file or, where we may not see that, what
// its statistics say.
func (db *DB) Weigh(ctx context.Context, table string) (n int64, err error) {
	schema, name := db.schema, table
	if before, after, ok := strings.Cut(table, "`.`"); ok {
		schema, name = strings.Trim(before, "`"), after
	}
	name = strings.Trim(name, "`")
	// A file grows in steps of up to 4 MiB; below many of these its pages are counted by what is in them.
	const exact = 64 << 20
	defer func() {
		if err == nil && n < exact {
			n, err = db.stored(ctx, db.pool, table)
		}
	}()
	err = db.pool.QueryRowContext(ctx, "SELECT file_size FROM information_schema.innodb_sys_tablespaces WHERE name = CONCAT(?, '/', ?)", schema, name).Scan(&n)
	if err != nil {
		err = db.pool.QueryRowContext(ctx, "SELECT data_length + index_length FROM information_schema.tables WHERE table_schema = ? AND table_name = ?", schema, name).Scan(&n)
	}
	return n, err
}
