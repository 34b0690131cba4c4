package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// volatile are functions that give another value at every call; perBatch those
// that tell of the connection, of which a run has several, or of its last statement.
var (
	volatile = []string{"rand", "uuid", "uuid_short", "sysdate", "sleep", "nextval", "lastval", "random_bytes", "sys_guid"}
	perBatch = []string{"connection_id", "last_insert_id", "row_count", "found_rows"}
	tellers  = []string{"now", "curdate", "curtime", "current_timestamp", "localtime", "localtimestamp", "current_date", "current_time", "utc_date", "utc_time", "utc_timestamp", "unix_timestamp"}
)

// Reads follows the names in the change's SQL through the server's catalogue:
// views by the server's own text of them, functions by theirs. The plan would not
// do: tables of one row, or of none, are missing there.
func (db *DB) Reads(ctx context.Context, c *change.Change) (change.Reads, error) {
	f := follower{db: db, c: c, schema: c.Table.Schema, seen: map[string]bool{}}
	if f.schema == "" {
		f.schema = db.schema
	}
	if err := db.readAlike(c); err != nil {
		return f.r, err
	}
	if c.First != nil && slices.ContainsFunc(c.First.Order.Tokens, func(t sqltext.Token) bool { return t.Is("SELECT") }) {
		f.r.Target = true
	}
	if err := f.tables(ctx, c.TableRefs(), db.schema); err != nil {
		return f.r, err
	}
	for _, x := range c.Fragments() {
		if err := f.calls(ctx, x.Tokens, db.schema, true); err != nil {
			return f.r, err
		}
	}
	return f.r, nil
}

// Estimate is what the optimizer reckons with where an index finds the rows; where
// it would go through the table, all of its rows.
func (db *DB) Estimate(ctx context.Context, c *change.Change) (int64, error) {
	q := &change.Query{D: d}
	q.Add("EXPLAIN SELECT 1").Source(c, change.Range{})
	rows, err := db.pool.QueryContext(ctx, q.String(), q.Args...)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	ref := strings.Trim(c.Ref, "`")
	for rows.Next() {
		var id, kind, table, access, possible, key, length, by, n, extra sql.NullString
		if err := rows.Scan(&id, &kind, &table, &access, &possible, &key, &length, &by, &n, &extra); err != nil {
			return 0, err
		}
		if !strings.EqualFold(table.String, ref) {
			continue
		}
		found, err := strconv.ParseInt(n.String, 10, 64)
		if err != nil || strings.EqualFold(access.String, "ALL") || access.String == "index" {
			return c.Table.Rows, rows.Err()
		}
		return found, rows.Err()
	}
	return c.Table.Rows, rows.Err() // such as a filter that is never true: nothing is known of the table
}

// Accepts has the statement prepared, which neither plans it nor carries it out.
func (db *DB) Accepts(ctx context.Context, c *change.Change) error {
	if err := db.readAlike(c); err != nil {
		return err
	}
	err := db.prepares(ctx, (&change.Query{D: d}).Plain(c).String())
	if err != nil && db.Fault(err) == engine.Denied {
		return nil
	}
	return err
}

// prepares has the server prepare a statement, and no more.
func (db *DB) prepares(ctx context.Context, text string) error {
	conn, err := db.pool.Conn(ctx)
	if err != nil {
		return err
	}
	defer conn.Close()
	if _, err := conn.ExecContext(ctx, "START TRANSACTION READ WRITE"); err != nil { // in a read-only one not even that is done
		return err
	}
	defer conn.ExecContext(ctx, "ROLLBACK")
	st, err := conn.PrepareContext(ctx, text)
	if err != nil {
		return err
	}
	return st.Close()
}

// readAlike refuses SQL that a plain session here would read in another way than
// our sessions do, which are without these modes.
func (db *DB) readAlike(c *change.Change) error {
	for _, f := range c.Fragments() {
		if err := db.readsAlike(f); err != nil {
			return err
		}
	}
	return nil
}

// joins are words before a bracket that call nothing.
var joins = map[string]bool{"in": true, "and": true, "or": true, "not": true, "xor": true, "exists": true, "any": true, "some": true, "all": true, "between": true, "case": true, "when": true,
	"then": true, "else": true, "where": true, "on": true, "as": true, "is": true, "like": true, "div": true, "mod": true, "select": true, "from": true, "values": true, "set": true, "interval": true}

func (db *DB) readsAlike(f sqltext.Fragment) error {
	modes := strings.Split(db.modes, ",")
	oracle, empty := slices.Contains(modes, "ORACLE"), slices.Contains(modes, "EMPTY_STRING_IS_NULL")
	for i, t := range f.Tokens {
		next := sqltext.Token{}
		if i+1 < len(f.Tokens) {
			next = f.Tokens[i+1]
		}
		switch {
		case oracle && (t.Punct("|") && next.Punct("|") || t.Kind == sqltext.Ident && next.Punct("(") && !joins[strings.ToLower(t.Text)]):
			return &engine.RefusedError{Msg: fmt.Sprintf("%s may take NULL for an empty text on this server (its sql_mode has ORACLE), and does not in our sessions: carry it out while new sessions begin without ORACLE (SET GLOBAL sql_mode)", t.Text+next.Text)}
		case t.Kind != sqltext.String:
		case empty && len(t.Text) == 2:
			return &engine.RefusedError{Msg: fmt.Sprintf("%s is NULL to this server (its sql_mode has EMPTY_STRING_IS_NULL), and an empty text in our sessions: write NULL, or give an empty text as a parameter, :name", t.Text)}
		case t.Text[0] == '"' && strings.Contains(db.modes, "ANSI_QUOTES"):
			return &engine.RefusedError{Msg: fmt.Sprintf("%s is a name to this server (its sql_mode has ANSI_QUOTES), and a text to others: write it in single quotes, or in backquotes if a name is meant", t.Text)}
		case strings.Contains(t.Text, `\`) && strings.Contains(db.modes, "NO_BACKSLASH_ESCAPES"):
			return &engine.RefusedError{Msg: fmt.Sprintf("the backslash in %s stands for itself on this server (its sql_mode has NO_BACKSLASH_ESCAPES), and escapes what follows it on others: give the text as a parameter, :name", t.Text)}
		}
	}
	return nil
}

// follower goes from name to name.
type follower struct {
	db     *DB
	c      *change.Change
	schema string // the target's database
	seen   map[string]bool
	r      change.Reads
}

// tables follows what stands where a table can stand; in is the database that is
// meant where none is written.
func (f *follower) tables(ctx context.Context, refs []sqltext.Name, in string) error {
	for _, n := range refs {
		schema, name := in, n.Table.Name()
		if n.Qualified {
			schema = n.Schema.Name()
		}
		// Whether case matters in names is the server's setting; where it does, a
		// refusal too many is a small price.
		if strings.EqualFold(schema, f.schema) && strings.EqualFold(name, f.c.Table.Name) {
			f.r.Target = true
			continue
		}
		if id := "table " + schema + "." + name; f.seen[id] {
			continue
		} else {
			f.seen[id] = true
		}
		var text, definer, security string
		err := f.db.pool.QueryRowContext(ctx, "SELECT coalesce(view_definition, ''), definer, security_type FROM information_schema.views WHERE table_schema = ? AND table_name = ?", schema, name).Scan(&text, &definer, &security)
		if errors.Is(err, sql.ErrNoRows) {
			f.r.Table(name)
			continue // a table, or a name of the statement's own
		}
		if err != nil {
			return err
		}
		f.rights("view "+name, definer, security)
		if err := f.text(ctx, text, schema, "view "+name); err != nil {
			return err
		}
	}
	return nil
}

// text follows the server's text of a view or a function; what we may not see may read anything.
func (f *follower) text(ctx context.Context, text, schema, what string) error {
	tokens, err := sqltext.Lex(d, text)
	if err != nil || text == "" {
		f.r.Merge(change.Reads{Opaque: []string{what}})
		return nil
	}
	if err := f.tables(ctx, change.TableRefs(tokens, false), schema); err != nil {
		return err
	}
	return f.calls(ctx, tokens, schema, false)
}

// rights notes a view or function that runs as another user.
func (f *follower) rights(what, definer, security string) {
	if security == "DEFINER" && definer != f.db.user {
		f.r.Merge(change.Reads{Definer: []string{what + " (" + definer + ")"}})
	}
}

// calls looks up the functions that are called.
func (f *follower) calls(ctx context.Context, tokens []sqltext.Token, in string, job bool) error {
	for i, t := range tokens {
		call := i+1 < len(tokens) && tokens[i+1].Punct("(")
		word := strings.ToLower(t.Name())
		bare := slices.Contains(tellers, word) && strings.ContainsAny(word, "_") && word != "unix_timestamp"
		switch {
		case t.Kind != sqltext.Ident && t.Kind != sqltext.QuotedIdent:
			continue
		case t.Is("NEXT") && i+2 < len(tokens) && tokens[i+1].Is("VALUE") && tokens[i+2].Is("FOR"):
			f.r.Sort(f.c, "NEXT", job)
			continue
		case !call && !bare || i > 0 && tokens[i-1].Punct(".") && !call:
			continue
		}
		schema := in
		if i > 1 && tokens[i-1].Punct(".") {
			schema = tokens[i-2].Name()
		}
		switch {
		case slices.Contains(tellers, word):
			f.r.Clock = f.r.Clock || !job || call && word == "unix_timestamp" && i+2 < len(tokens) && tokens[i+2].Punct(")")
		case slices.Contains(volatile, word):
			f.r.Sort(f.c, word+"()", job)
		case slices.Contains(perBatch, word):
			f.r.Sort(f.c, word+"()", false)
		}
		if id := "function " + schema + "." + word; !call || f.seen[id] {
			continue
		} else {
			f.seen[id] = true
		}
		var text, access, definer, security string
		err := f.db.pool.QueryRowContext(ctx, "SELECT coalesce(routine_definition, ''), sql_data_access, definer, security_type FROM information_schema.routines WHERE routine_type = 'FUNCTION' AND routine_schema = ? AND routine_name = ?", schema, word).Scan(&text, &access, &definer, &security)
		if errors.Is(err, sql.ErrNoRows) {
			continue // the server's own
		}
		if err != nil {
			return err
		}
		f.rights(word+"()", definer, security)
		if tokens, err := sqltext.Lex(d, text); err != nil || text == "" || slices.ContainsFunc(tokens, func(t sqltext.Token) bool { return t.Is("EXECUTE") || t.Is("CALL") }) {
			f.r.Merge(change.Reads{Opaque: []string{word + "()"}})
			continue
		}
		before := f.r.Target
		f.r.Target = false
		if err := f.text(ctx, text, schema, word+"()"); err != nil {
			return err
		}
		if f.r.Target {
			f.r.Merge(change.Reads{Live: []string{word + "()"}})
		}
		f.r.Target = f.r.Target || before
	}
	return nil
}
