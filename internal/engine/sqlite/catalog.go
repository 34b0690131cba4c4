package sqlite

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/dialect"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

var d = dialect.SQLite

// Table describes a table by SQLite's own pragmas.
func (db *DB) Table(ctx context.Context, schema, name string) (*change.Table, error) {
	return db.describe(ctx, schema, name, nil)
}

// describe asks which columns refer to the table, unless all are known already.
func (db *DB) describe(ctx context.Context, schema, name string, known map[string][]reference) (*change.Table, error) {
	if schema != "" && !strings.EqualFold(schema, "main") {
		return nil, &engine.RefusedError{Msg: fmt.Sprintf("schema %q: only the tables of the file itself can be changed", schema)}
	}
	t := &change.Table{}
	var kind string
	var withoutRowid bool
	err := db.pool.QueryRowContext(ctx, "SELECT name, type, wr, strict FROM pragma_table_list(?) WHERE schema = 'main'", name).
		Scan(&t.Name, &kind, &withoutRowid, &t.Strict)
	if errors.Is(err, sql.ErrNoRows) {
		names, err := db.names(ctx)
		if err != nil {
			return nil, err
		}
		return nil, &engine.NotFoundError{What: fmt.Sprintf("table %q", name), Nearest: change.Nearest(name, names)}
	}
	if err != nil {
		return nil, err
	}
	if kind == "virtual" || kind == "shadow" {
		return nil, &engine.RefusedError{Msg: fmt.Sprintf("%s is a %s table, kept by an extension of SQLite in its own way: only statements through the virtual table itself change it, and not in batches", t.Name, kind)}
	}
	if kind != "table" {
		return nil, &engine.RefusedError{Msg: fmt.Sprintf("%s is a %s, not a table: change the tables beneath it", t.Name, kind)}
	}
	if strings.HasPrefix(strings.ToLower(t.Name), "jugatum_") || strings.HasPrefix(t.Name, "sqlite_") {
		return nil, &engine.RefusedError{Msg: fmt.Sprintf("%s belongs to Jugatum or to SQLite itself and is not changed by a job", t.Name)}
	}
	if err := db.columns(ctx, t, withoutRowid); err != nil {
		return nil, err
	}
	if err := db.references(ctx, t, known); err != nil {
		return nil, err
	}
	if err := db.onConflict(ctx, t); err != nil {
		return nil, err
	}
	if err := db.estimate(ctx, t); err != nil {
		return nil, err
	}
	var size int64 // of the whole file
	if err := db.pool.QueryRowContext(ctx, "SELECT (SELECT page_count FROM pragma_page_count) * (SELECT page_size FROM pragma_page_size)").Scan(&size); err != nil {
		return nil, err
	}
	t.RowBytes = size / max(t.Rows, 1)
	return t, nil
}

func (db *DB) names(ctx context.Context) ([]string, error) {
	rows, err := db.pool.QueryContext(ctx, `SELECT name FROM pragma_table_list WHERE schema = 'main' AND type = 'table'
		AND name NOT LIKE 'sqlite\_%' ESCAPE '\' AND name NOT LIKE 'jugatum\_%' ESCAPE '\' ORDER BY name`)
	if err != nil {
		return nil, err
	}
	return collect[string](rows)
}

func collect[T any](rows *sql.Rows) ([]T, error) {
	defer rows.Close()
	var out []T
	for rows.Next() {
		var v T
		if err := rows.Scan(&v); err != nil {
			return nil, err
		}
		out = append(out, v)
	}
	return out, rows.Err()
}

// Tables describes all tables of the file.
func (db *DB) Tables(ctx context.Context) ([]*change.Table, error) {
	names, err := db.names(ctx)
	if err != nil {
		return nil, err
	}
	all, err := db.referring(ctx, "") // each question after those of one table goes through all tables
	if err != nil {
		return nil, err
	}
	var out []*change.Table
	for _, n := range names {
		t, err := db.describe(ctx, "", n, all)
		if err != nil {
			return nil, err
		}
		if t.Estimated { // whoever asks for all tables wants to know them, and a count is quick here
			if err := db.pool.QueryRowContext(ctx, "SELECT count(*) FROM "+t.SQL(d)).Scan(&t.Rows); err != nil {
				return nil, err
			}
			t.Estimated = false
		}
		out = append(out, t)
	}
	return out, nil
}

func (db *DB) columns(ctx context.Context, t *change.Table, withoutRowid bool) error {
	rows, err := db.pool.QueryContext(ctx, `SELECT name, type, "notnull", coalesce(dflt_value, ''), pk, hidden FROM pragma_table_xinfo(?) ORDER BY cid`, t.Name)
	if err != nil {
		return err
	}
	defer rows.Close()
	pk := map[int]*change.Column{}
	for rows.Next() {
		c := &change.Column{}
		var at, hidden int
		if err := rows.Scan(&c.Name, &c.Type, &c.NotNull, &c.Default, &at, &hidden); err != nil {
			return err
		}
		c.Generated = hidden == 2 || hidden == 3
		switch affinity(c.Type) {
		case "INTEGER", "REAL", "NUMERIC":
			c.Class = change.Number
		case "TEXT":
			c.Class = change.Text
		}
		if t.Strict && strings.EqualFold(c.Type, "ANY") {
			c.Class = change.Other
		}
		if c.Class != change.Number { // whatever is declared, a text may stand there
			c.Holds = change.WholeText
			t.AnyBytes = true
		}
		t.Columns = append(t.Columns, c)
		if at > 0 {
			pk[at] = c
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	rows.Close()
	if len(pk) > 0 {
		t.Key = &change.Key{Name: "primary key"}
		for i := 1; i <= len(pk); i++ {
			t.Key.Columns = append(t.Key.Columns, pk[i])
		}
		rowid := len(pk) == 1 && strings.EqualFold(pk[1].Type, "INTEGER")
		t.Key.Integer = rowid
		// In an ordinary table a primary key does not keep NULL out.
		for _, c := range pk {
			t.Key.MayNull = t.Key.MayNull || !withoutRowid && !rowid && !c.NotNull
		}
	}
	if err := db.indexes(ctx, t); err != nil {
		return err
	}
	if t.Key == nil && !withoutRowid {
		t.Key = numberKey(t)
	}
	return nil
}

// numberKey is the row's own number as a key, by a name of it that no column has; nil if
// columns have all of them.
func numberKey(t *change.Table) *change.Key {
	for _, name := range []string{"rowid", "_rowid_", "oid"} {
		if !slices.ContainsFunc(t.Columns, func(c *change.Column) bool { return strings.EqualFold(c.Name, name) }) {
			c := &change.Column{Name: name, Type: "INTEGER", Class: change.Number, NotNull: true}
			return &change.Key{Name: "row number", Columns: []*change.Column{c}, Integer: true, Hidden: true}
		}
	}
	return nil
}

func (db *DB) indexes(ctx context.Context, t *change.Table) error {
	rows, err := db.pool.QueryContext(ctx, `SELECT l.name, l."unique", l.partial, l.origin, coalesce(i.name, ''), i.coll FROM pragma_index_list(?) AS l, pragma_index_xinfo(l.name) AS i WHERE i.key ORDER BY l.seq, i.seqno`, t.Name)
	if err != nil {
		return err
	}
	defer rows.Close()
	rules := map[string][]string{} // by index
	primary := ""
	for rows.Next() {
		var ix change.Index
		var col, origin, collation string
		if err := rows.Scan(&ix.Name, &ix.Unique, &ix.Partial, &origin, &col, &collation); err != nil {
			return err
		}
		if origin == "pk" {
			primary = ix.Name
		}
		rules[ix.Name] = append(rules[ix.Name], collation)
		if n := len(t.Indexes); n == 0 || t.Indexes[n-1].Name != ix.Name {
			t.Indexes = append(t.Indexes, ix)
		}
		last := &t.Indexes[len(t.Indexes)-1]
		last.Columns = append(last.Columns, col)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	rows.Close()
	for i := range t.Indexes {
		ix := &t.Indexes[i]
		if ix.Unique {
			ix.Finer = db.finer(ctx, t, ix.Columns, rules[ix.Name])
		}
		if ix.Finer && ix.Name == primary {
			t.Key = nil
		}
	}
	if t.Key == nil {
		t.Key = uniqueKey(t)
	}
	return nil
}

// finer reports whether an index of columns by these rules tells texts apart that comparing the columns
// does not. By which rules a column is compared no pragma tells, but how a comparison is carried out does.
func (db *DB) finer(ctx context.Context, t *change.Table, columns, rules []string) bool {
	for i, name := range columns {
		if name == "" {
			continue
		}
		own, err := db.rules(ctx, "EXPLAIN SELECT +"+d.Quote(name)+" = 'x' FROM "+t.SQL(d))
		if err != nil || own != "BINARY" && !strings.EqualFold(own, rules[i]) {
			return true
		}
	}
	return false
}

// rules is the collation by which the one comparison of a statement goes.
func (db *DB) rules(ctx context.Context, explain string) (string, error) {
	rows, err := db.pool.QueryContext(ctx, explain)
	if err != nil {
		return "", err
	}
	defer rows.Close()
	for rows.Next() {
		var at, p1, p2, p3, p5, comment any
		var op string
		var p4 sql.NullString
		if err := rows.Scan(&at, &op, &p1, &p2, &p3, &p4, &p5, &comment); err != nil {
			return "", err
		}
		if op == "Eq" || op == "Ne" {
			name, _, _ := strings.Cut(p4.String, "-")
			return cmp.Or(name, "BINARY"), rows.Err()
		}
	}
	return "", cmp.Or(rows.Err(), fmt.Errorf("no comparison in %s", explain))
}

// uniqueKey finds a unique index over columns that cannot be NULL.
func uniqueKey(t *change.Table) *change.Key {
	for _, ix := range t.Indexes {
		if !ix.Unique || ix.Partial || ix.Finer {
			continue
		}
		k := &change.Key{Name: ix.Name}
		for _, name := range ix.Columns {
			c := t.Named(name)
			if c == nil || !c.NotNull || c.Generated {
				k = nil
				break
			}
			k.Columns = append(k.Columns, c)
		}
		if k != nil {
			return k
		}
	}
	return nil
}

func (db *DB) references(ctx context.Context, t *change.Table, known map[string][]reference) error {
	rows, err := db.pool.QueryContext(ctx, "SELECT name, sql FROM sqlite_schema WHERE type = 'trigger' AND lower(tbl_name) = lower(?) ORDER BY name", t.Name)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var name, text string
		if err := rows.Scan(&name, &text); err != nil {
			return err
		}
		t.Triggers = append(t.Triggers, trigger(name, text))
	}
	if err := rows.Err(); err != nil {
		return err
	}
	rows.Close()
	var followed bool
	if err := db.pool.QueryRowContext(ctx, "PRAGMA foreign_keys").Scan(&followed); err != nil || !followed {
		return err
	}
	if known == nil {
		if known, err = db.referring(ctx, t.Name); err != nil {
			return err
		}
	}
	lastTable, lastID := "", -1
	for _, r := range known[small(t.Name)] {
		if r.table != lastTable || r.id != lastID {
			t.ReferredBy = append(t.ReferredBy, change.ForeignKey{Table: r.table, Name: fmt.Sprintf("%s (%s)", r.table, r.from), OnUpdate: r.onUpdate, OnDelete: r.onDelete})
			lastTable, lastID = r.table, r.id
		}
		last := &t.ReferredBy[len(t.ReferredBy)-1]
		if r.to == "" && t.Key != nil && !t.Key.Hidden && len(last.Parent) < len(t.Key.Columns) {
			r.to = t.Key.Columns[len(last.Parent)].Name
		}
		last.Columns = append(last.Columns, r.from)
		last.Parent = append(last.Parent, r.to)
	}
	return nil
}

// reference is a column of a foreign key of a table.
type reference struct {
	table, from, to    string // to is "" for the key of the other table
	id                 int    // of the foreign key
	onUpdate, onDelete string
}

// small is a name as SQLite's lower gives it, which knows the letters of ASCII.
func small(name string) string {
	return strings.Map(func(r rune) rune {
		if 'A' <= r && r <= 'Z' {
			return r - 'A' + 'a'
		}
		return r
	}, name)
}

// referring reads the columns that refer to a table, or to any if it is "", by the name of that table in small
// letters.
func (db *DB) referring(ctx context.Context, parent string) (map[string][]reference, error) {
	rows, err := db.pool.QueryContext(ctx, `SELECT lower(f."table"), m.name, f.id, f."from", coalesce(f."to", ''), f.on_update, f.on_delete FROM sqlite_schema AS m, pragma_foreign_key_list(m.name) AS f
		WHERE m.type = 'table' AND ? IN ('', lower(f."table")) ORDER BY m.name, f.id, f.seq`, small(parent))
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string][]reference{}
	for rows.Next() {
		var to string
		var r reference
		if err := rows.Scan(&to, &r.table, &r.id, &r.from, &r.to, &r.onUpdate, &r.onDelete); err != nil {
			return nil, err
		}
		out[to] = append(out[to], r)
	}
	return out, rows.Err()
}

// trigger reads from the text of CREATE TRIGGER what sets it off.
func trigger(name, text string) change.Trigger {
	out := change.Trigger{Name: name, Text: text}
	tokens, err := sqltext.Lex(d, text)
	if err != nil {
		tokens = nil
	}
	when := "before" // SQLite's default
	for i, tok := range tokens {
		switch {
		case tok.Is("AFTER"):
			when = "after"
		case tok.Is("UPDATE"), tok.Is("DELETE"), tok.Is("INSERT"):
			out.Update, out.Delete, out.Insert = tok.Is("UPDATE"), tok.Is("DELETE"), tok.Is("INSERT")
			out.Events = when + " " + strings.ToLower(tok.Text)
			return out
		case tok.Is("BEGIN") || i > 40:
			return out
		}
	}
	return out
}

// estimate tells the number of rows: from the span of an integer key where that
// costs nothing, else by counting.
func (db *DB) estimate(ctx context.Context, t *change.Table) error {
	t.Bytes = -1
	if t.Key != nil && t.Key.Integer {
		k := d.Quote(t.Key.Columns[0].Name)
		t.Estimated = true
		// The difference of keys at both ends of the range is a real number.
		return db.pool.QueryRowContext(ctx, "SELECT CAST(coalesce(min((SELECT max("+k+") FROM "+t.SQL(d)+") - (SELECT min("+k+") FROM "+t.SQL(d)+") + 1, 9223372036854775807), 0) AS INTEGER)").Scan(&t.Rows)
	}
	return db.pool.QueryRowContext(ctx, "SELECT count(*) FROM "+t.SQL(d)).Scan(&t.Rows)
}

// affinity is SQLite's rule for what a declared type stores
// (https://sqlite.org/datatype3.html#determination_of_column_affinity).
func affinity(declared string) string {
	s := strings.ToUpper(declared)
	switch {
	case strings.Contains(s, "INT"):
		return "INTEGER"
	case strings.Contains(s, "CHAR"), strings.Contains(s, "CLOB"), strings.Contains(s, "TEXT"):
		return "TEXT"
	case strings.Contains(s, "BLOB"), s == "":
		return "BLOB"
	case strings.Contains(s, "REAL"), strings.Contains(s, "FLOA"), strings.Contains(s, "DOUB"):
		return "REAL"
	}
	return "NUMERIC"
}

// plainType is a declared type that can stand in a statement as it is.
var plainType = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9 _]*(\([0-9, ]+\))?$`)

// NewTable gives the statement that makes a table of such columns, with their declared
// types where these are plain words.
func (db *DB) NewTable(t *change.Table) []string {
	var cols, key []string
	for _, c := range t.Columns {
		typ := c.Type
		if !plainType.MatchString(typ) {
			typ = affinity(c.Type)
		}
		col := d.Quote(c.Name) + " " + typ
		if c.NotNull {
			col += " NOT NULL"
		}
		cols = append(cols, col)
	}
	for _, c := range t.Key.Columns {
		key = append(key, d.Quote(c.Name))
	}
	text := "CREATE TABLE " + t.NameSQL(d) + " (" + strings.Join(append(cols, "PRIMARY KEY ("+strings.Join(key, ", ")+")"), ", ") + ")"
	if t.Strict {
		text += " STRICT"
	}
	return []string{text}
}

// Holds reports whether storing a value of a column in another leaves it as it is: with
// the same affinity, or none. A STRICT table refuses what it would have to change.
func (db *DB) Holds(to, from *change.Column) bool {
	a, b := affinity(to.Type), affinity(from.Type)
	return a == b || to.Type == "" || strings.EqualFold(to.Type, "BLOB")
}

// Settings tells what decides how a change in batches meets other sessions.
func (db *DB) Settings(ctx context.Context) ([]engine.Setting, error) {
	var out []engine.Setting
	for _, p := range []string{"journal_mode", "synchronous", "busy_timeout", "page_size", "wal_autocheckpoint", "foreign_keys", "encoding"} {
		var v string
		if err := db.pool.QueryRowContext(ctx, "PRAGMA "+p).Scan(&v); err != nil {
			return nil, err
		}
		out = append(out, engine.Setting{Name: p, Value: v, Meaning: meaning(p, v)})
	}
	var pages, size int64
	if err := db.pool.QueryRowContext(ctx, "SELECT page_count, page_size FROM pragma_page_count, pragma_page_size").Scan(&pages, &size); err != nil {
		return nil, err
	}
	out = append(out, engine.Setting{Name: "file size", Value: strconv.FormatInt(pages*size, 10), Meaning: "bytes, without the log; SQLite tells no table's own size without reading all of it"})
	return out, nil
}

func meaning(name, value string) string {
	switch name {
	case "journal_mode":
		if value == "wal" {
			return "readers go on during a batch; other writers wait for its end"
		}
		return "readers and writers wait while a batch commits, and a long read keeps batches waiting"
	case "synchronous":
		return map[string]string{"0": "commits are not flushed: a power cut can lose or damage them", "1": "in WAL mode a power cut can lose the last commits", "2": "every commit is flushed", "3": "every commit is flushed"}[value]
	case "busy_timeout":
		return "milliseconds our readers wait for a lock; each application sets its own"
	case "page_size":
		return "bytes; every changed page is written to the log whole"
	case "wal_autocheckpoint":
		return "pages; our batches leave this work to the pauses between them"
	case "foreign_keys":
		if value == "1" {
			return "enforced by our sessions"
		}
		return "not enforced by our sessions"
	}
	return "of texts in the file"
}

// onConflict looks for ON CONFLICT in the statement that made the table.
func (db *DB) onConflict(ctx context.Context, t *change.Table) error {
	var text string
	if err := db.pool.QueryRowContext(ctx, "SELECT coalesce(sql, '') FROM sqlite_schema WHERE type = 'table' AND name = ?", t.Name).Scan(&text); err != nil {
		return err
	}
	tokens, err := sqltext.Lex(d, text)
	for i := 0; err == nil && i+1 < len(tokens); i++ {
		t.OnConflict = t.OnConflict || tokens[i].Is("ON") && tokens[i+1].Is("CONFLICT")
	}
	return nil
}

// rowHeader is what a row of a few columns takes besides its values: its length,
// its rowid, the length of its header and its place on the page (SQLite
// documentation, "Database File Format").
const rowHeader = 2 + 3 + 1 + 2

// Stored is the length of all values of a table as they are stored, with the
// headers of its rows. How full its pages are is not in it.
func (db *DB) Stored(ctx context.Context, tx *engine.Tx, table string) (n int64, err error) {
	rows, err := tx.S.Conn.QueryContext(ctx, "SELECT * FROM "+table+" LIMIT 0")
	if err != nil {
		return 0, err
	}
	names, err := rows.Columns()
	rows.Close()
	if err != nil {
		return 0, err
	}
	values := ""
	for _, name := range names { // an integer takes one to eight bytes; a value's type takes one more
		name = d.Quote(name)
		values += " + 1 + CASE typeof(" + name + ") WHEN 'integer' THEN 4 WHEN 'real' THEN 8 WHEN 'null' THEN 0 ELSE octet_length(" + name + ") END"
	}
	err = tx.Scan(ctx, fmt.Sprintf("SELECT coalesce(sum(%d%s), 0) FROM %s", rowHeader, values, table), nil, &n)
	return n, err
}
