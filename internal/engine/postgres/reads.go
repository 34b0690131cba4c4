package postgres

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// Reads asks the planner which tables the statement reads, views, sub-queries and
// row policies written out, and the catalogue which functions it calls.
func (db *DB) Reads(ctx context.Context, c *change.Change) (change.Reads, error) {
	var r change.Reads
	if err := db.readAlike(ctx, c); err != nil {
		return r, err
	}
	if err := db.rights(ctx, c, &r); err != nil {
		return r, err
	}
	whole := *c
	if c.First != nil { // its own way to the first rows reads the target by design
		r.Target = slices.ContainsFunc(c.First.Order.Tokens, func(t sqltext.Token) bool { return t.Is("SELECT") })
		whole.First = nil
	}
	q := &change.Query{D: d}
	q.Add("EXPLAIN (VERBOSE, FORMAT JSON) ").Statement(&whole, change.Range{})
	var text string
	var pe *pgconn.PgError
	switch err := db.jobs.QueryRowContext(ctx, q.String(), q.Args...).Scan(&text); {
	case errors.As(err, &pe) && pe.Code == "42501": // we may look, and not change: the names in the text must do
		r.Target = r.Target || slices.ContainsFunc(c.TableRefs(), func(n sqltext.Name) bool { return d.Same(n.Table, c.Table.Name) })
		return r, nil
	case err != nil:
		return r, err
	}
	var out []struct{ Plan map[string]any }
	if err := json.Unmarshal([]byte(text), &out); err != nil || len(out) != 1 {
		return r, fmt.Errorf("the server's EXPLAIN output cannot be read: %w", err)
	}
	seen := sighted{scans: map[change.TableName]int{}, calls: map[[2]string]bool{}}
	seen.node(out[0].Plan)
	for name, n := range seen.scans {
		// The rows to change are read once, in each of the tables that hold them.
		ours, err := db.holds(ctx, c.Table, name)
		if err != nil {
			return r, err
		}
		r.Target = r.Target || ours && n > 1
		if !ours {
			r.Table(name.Name)
		}
	}
	r.Clock = seen.clock
	err := db.calls(ctx, c, seen.calls, &r)
	return r, err
}

// rights finds what the statement reads with other rights than this user's: views
// that run as their owner, also those that other views read, and tables of which
// row policies hold.
func (db *DB) rights(ctx context.Context, c *change.Change, r *change.Reads) error {
	var schemas, names []string
	for _, n := range c.TableRefs() {
		schema := ""
		if n.Qualified {
			schema = n.Schema.Name()
		}
		schemas, names = append(schemas, schema), append(names, n.Table.Name())
	}
	if len(names) == 0 {
		return nil
	}
	path, err := db.schemas(ctx)
	if err != nil {
		return err
	}
	rows, err := db.pool.QueryContext(ctx, `WITH RECURSIVE reached AS (
			SELECT c.oid, c.relkind FROM unnest(CAST($1 AS text[]), CAST($2 AS text[])) AS w(schema, name) JOIN pg_class c ON c.relname = w.name JOIN pg_namespace n ON n.oid = c.relnamespace
			WHERE n.nspname = w.schema OR w.schema = '' AND n.nspname = ANY(CAST($3 AS text[]))
			UNION SELECT c.oid, c.relkind FROM reached JOIN pg_rewrite w ON w.ev_class = reached.oid AND reached.relkind = 'v'
				JOIN pg_depend x ON x.classid = 'pg_rewrite'::regclass AND x.objid = w.oid AND x.refclassid = 'pg_class'::regclass JOIN pg_class c ON c.oid = x.refobjid)
		SELECT DISTINCT c.relname, CASE WHEN c.relkind = 'v' AND pg_get_userbyid(c.relowner) <> current_user AND NOT coalesce('security_invoker=true' = ANY(c.reloptions) OR 'security_invoker=on' = ANY(c.reloptions), false)
				THEN pg_get_userbyid(c.relowner) ELSE '' END, c.relrowsecurity AND row_security_active(c.oid)
		FROM reached JOIN pg_class c USING (oid) ORDER BY 1`, schemas, names, path)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var name, owner string
		var policies bool
		if err := rows.Scan(&name, &owner, &policies); err != nil {
			return err
		}
		if owner != "" {
			r.Merge(change.Reads{Definer: []string{"view " + name + " (" + owner + ")"}})
		}
		if policies && name != c.Table.Name {
			r.Merge(change.Reads{Policies: []string{name}})
		}
	}
	return rows.Err()
}

// Accepts asks for the plan of the statement.
func (db *DB) Accepts(ctx context.Context, c *change.Change) error {
	if err := db.trusted(ctx); err != nil {
		return err
	}
	if err := db.readAlike(ctx, c); err != nil {
		return err
	}
	const ask = "EXPLAIN "
	q := (&change.Query{D: d}).Add(ask).Plain(c)
	rows, err := db.jobs.QueryContext(ctx, q.String(), q.Args...)
	if err == nil {
		rows.Close()
		err = rows.Err()
	}
	var pe *pgconn.PgError
	if !errors.As(err, &pe) {
		return err
	}
	if pe.Code == "42501" {
		return nil
	}
	if placed := c.Misplaced(pe.Message, int(pe.Position)-1-len(ask)); placed != nil && db.Fault(err) == engine.Invalid {
		return placed
	}
	return err
}

// readAlike refuses SQL that the server would take apart in another way than we
// do: where standard_conforming_strings is off, a backslash escapes what follows.
func (db *DB) readAlike(ctx context.Context, c *change.Change) error {
	for _, f := range c.Fragments() {
		for _, t := range f.Tokens {
			if t.Kind != sqltext.String || !strings.HasPrefix(t.Text, "'") || !strings.Contains(t.Text, `\`) {
				continue
			}
			var standard bool
			if err := db.jobs.QueryRowContext(ctx, "SELECT pg_catalog.current_setting('standard_conforming_strings') = 'on'").Scan(&standard); err != nil || standard {
				return err
			}
			return &engine.RefusedError{Msg: fmt.Sprintf("the backslash in %s escapes what follows it in this database (standard_conforming_strings is off): write E'…', or give the text as a parameter, :name", t.Text)}
		}
	}
	return nil
}

// holds reports whether a table is the target, or a partition of it.
func (db *DB) holds(ctx context.Context, t *change.Table, name change.TableName) (bool, error) {
	if name.Schema == t.Schema && name.Name == t.Name {
		return true, nil
	}
	if !t.Partitioned {
		return false, nil
	}
	var part bool
	err := db.pool.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM pg_partition_tree(CAST($1 AS text)::regclass) p JOIN pg_class c ON c.oid = p.relid JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = $2 AND c.relname = $3)`, t.NameSQL(d), name.Schema, name.Name).Scan(&part)
	return part, err
}

// sighted is what a plan shows.
type sighted struct {
	scans map[change.TableName]int // how often a table is read
	calls map[[2]string]bool       // schema, "" where the name alone is enough, and name
	clock bool
}

// node takes in a node of EXPLAIN's output and those beneath it.
func (s *sighted) node(n map[string]any) {
	if name, ok := n["Relation Name"].(string); ok && n["Node Type"] != "ModifyTable" {
		schema, _ := n["Schema"].(string)
		s.scans[change.TableName{Schema: schema, Name: name}]++
	}
	for key, v := range n {
		switch v := v.(type) {
		case string:
			if strings.HasSuffix(key, "Filter") || strings.HasSuffix(key, "Cond") || strings.HasSuffix(key, "Call") {
				s.expression(v)
			}
		case []any:
			for _, x := range v {
				switch x := x.(type) {
				case string:
					if key == "Output" || strings.HasSuffix(key, "Key") {
						s.expression(x)
					}
				case map[string]any:
					if key == "Plans" { // the tables that are written are listed apart
						s.node(x)
					}
				}
			}
		}
	}
}

// expression finds the calls in an expression as the server writes it out.
func (s *sighted) expression(text string) {
	tokens, err := sqltext.Lex(d, text)
	if err != nil {
		return
	}
	for i, t := range tokens {
		if t.Is("CURRENT_TIMESTAMP") || t.Is("CURRENT_DATE") || t.Is("CURRENT_TIME") || t.Is("LOCALTIME") || t.Is("LOCALTIMESTAMP") {
			s.clock = true
		}
		if i+1 >= len(tokens) || !tokens[i+1].Punct("(") || t.Kind != sqltext.Ident && t.Kind != sqltext.QuotedIdent {
			continue
		}
		schema := ""
		if i > 1 && tokens[i-1].Punct(".") {
			schema = tokens[i-2].Name()
		}
		s.calls[[2]string{schema, t.Name()}] = true
	}
}

// readers are functions of the server's own that read tables named by their arguments.
var readers = []string{"query_to_xml", "query_to_xmlschema", "query_to_xml_and_xmlschema", "table_to_xml", "table_to_xmlschema", "table_to_xml_and_xmlschema",
	"schema_to_xml", "schema_to_xmlschema", "schema_to_xml_and_xmlschema", "database_to_xml", "database_to_xmlschema", "database_to_xml_and_xmlschema",
	"cursor_to_xml", "cursor_to_xmlschema", "ts_stat", "ts_rewrite"}

// perBatch are functions that the server counts as stable, since they are so
// within a transaction or a session; a run has many of both.
var perBatch = []string{"txid_current", "txid_current_if_assigned", "pg_current_xact_id", "pg_current_xact_id_if_assigned", "pg_current_snapshot", "txid_current_snapshot", "pg_backend_pid"}

// calls looks up the functions that a plan calls. Those that are immutable read
// nothing, and give the same again. A function in C that comes with an extension is
// taken to read nothing either, but for the extensions that are there to do so.
func (db *DB) calls(ctx context.Context, c *change.Change, calls map[[2]string]bool, r *change.Reads) error {
	var schemas, names []string
	for x := range calls {
		schemas, names = append(schemas, x[0]), append(names, x[1])
	}
	if len(names) == 0 {
		return nil
	}
	path, err := db.schemas(ctx)
	if err != nil {
		return err
	}
	rows, err := db.pool.QueryContext(ctx, `SELECT DISTINCT p.proname, n.nspname = 'pg_catalog', p.provolatile::text,
			n.nspname <> 'pg_catalog' AND p.provolatile <> 'i' AND p.prokind IN ('f', 'w') AND NOT (l.lanname IN ('c', 'internal')
				AND EXISTS (SELECT 1 FROM pg_depend x JOIN pg_extension e ON e.oid = x.refobjid WHERE x.classid = 'pg_proc'::regclass AND x.objid = p.oid AND x.deptype = 'e' AND e.extname NOT IN ('dblink', 'tablefunc', 'xml2'))),
			CASE WHEN p.prosecdef AND pg_get_userbyid(p.proowner) <> current_user THEN pg_get_userbyid(p.proowner) ELSE '' END
		FROM unnest(CAST($1 AS text[]), CAST($2 AS text[])) AS w(schema, name) JOIN pg_proc p ON p.proname = w.name JOIN pg_namespace n ON n.oid = p.pronamespace JOIN pg_language l ON l.oid = p.prolang
		WHERE n.nspname = w.schema OR w.schema = '' AND n.nspname = ANY(CAST($3 AS text[])) ORDER BY 1`, schemas, names, path)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var name, volatility, owner string
		var builtIn, opaque bool
		if err := rows.Scan(&name, &builtIn, &volatility, &opaque, &owner); err != nil {
			return err
		}
		call := name + "()"
		if owner != "" {
			r.Merge(change.Reads{Definer: []string{call + " (" + owner + ")"}})
		}
		switch {
		case builtIn && (name == "now" || name == "transaction_timestamp" || name == "statement_timestamp"):
			r.Clock = true
		case builtIn && slices.Contains(perBatch, name):
			r.Sort(c, call, false)
		case opaque || builtIn && slices.Contains(readers, name):
			r.Opaque = append(r.Opaque, call)
		}
		if volatility == "v" && !slices.Contains(perBatch, name) {
			r.Sort(c, call, true)
		}
	}
	return rows.Err()
}
