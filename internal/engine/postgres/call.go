package postgres

import (
	"context"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"

	"jugatum/internal/change"
	"jugatum/internal/engine"
)

// Describe has the server parse the statement, which finds out the types of its parameters.
func (db *DB) Describe(ctx context.Context, c *change.Call, params map[string]change.Value) (map[string]*change.Column, error) {
	if err := db.trusted(ctx); err != nil {
		return nil, err
	}
	q := c.CallQuery(d, make([]*string, len(c.Columns)), params)
	conn, err := db.jobs.Conn(ctx)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	var desc *pgconn.StatementDescription
	if err := conn.Raw(func(x any) (err error) {
		desc, err = x.(*stdlib.Conn).Conn().PgConn().Prepare(ctx, "", q.String(), nil)
		return err
	}); err != nil {
		return nil, err
	}
	told := map[string]*change.Column{}
	for i, name := range c.Statement.Params() {
		if _, known := told[name]; known || c.Types[name] != "" || i >= len(desc.ParamOIDs) || !slices.Contains(c.Columns, name) {
			continue
		}
		col := &change.Column{Name: name}
		var category string
		if err := db.pool.QueryRowContext(ctx, "SELECT format_type(oid, NULL), typcategory::text FROM pg_type WHERE oid = $1::bigint::oid", int64(desc.ParamOIDs[i])).Scan(&col.Type, &category); err != nil {
			return nil, err
		}
		switch {
		case category == "N":
			col.Class = change.Number
		case category == "S":
			col.Class = change.Text
		case col.Type == "bytea":
			col.Holds = change.Bytes
		}
		told[name] = col
	}
	if c.Statement.Procedure == nil {
		return told, nil
	}
	return told, db.procedure(ctx, c)
}

// ends finds the words by which a procedure ends a transaction. Where one does so that it calls, or
// that they were put together for, the server says so at the first line: a transaction of ours
// cannot be ended by it.
var ends = regexp.MustCompile(`(?i)\b(commit|rollback)\b`)

// procedure finds what a statement calls.
func (db *DB) procedure(ctx context.Context, c *change.Call) error {
	name := c.Statement.Procedure
	schema := ""
	if len(name) == 2 {
		schema = d.Name(name[0])
	}
	rows, err := db.jobs.QueryContext(ctx, `SELECT pg_catalog.quote_ident(n.nspname), pg_catalog.quote_ident(p.proname), pg_catalog.pg_get_function_arguments(p.oid), p.prosrc,
			CASE WHEN p.prosecdef OR pg_catalog.pg_get_userbyid(p.proowner) = current_user THEN '' ELSE pg_catalog.pg_get_userbyid(p.proowner) END,
			pg_catalog.has_function_privilege(p.oid, 'EXECUTE')
		FROM pg_catalog.pg_proc AS p JOIN pg_catalog.pg_namespace AS n ON n.oid = p.pronamespace
		WHERE p.prokind = 'p' AND p.proname = $1 AND CASE WHEN $2 = '' THEN pg_catalog.pg_function_is_visible(p.oid) ELSE n.nspname = $2 END ORDER BY p.oid`, d.Name(name[len(name)-1]), schema)
	if err != nil {
		return err
	}
	defer rows.Close()
	var found []string
	callable := false
	for rows.Next() {
		var schema, name, args, text, owner string
		var may bool
		if err := rows.Scan(&schema, &name, &args, &text, &owner, &may); err != nil {
			return err
		}
		if owner != "" {
			c.Owner = owner
		}
		callable = callable || may
		found = append(found, fmt.Sprintf("procedure %s.%s(%s)", schema, name, args))
		if ends.MatchString(text) {
			c.Commits = "its text says that it commits or rolls back itself"
		}
	}
	if c.Routine = strings.Join(found, " or "); len(found) > 3 {
		c.Routine = fmt.Sprintf("one of %d procedures called %s", len(found), name[len(name)-1].Name())
	}
	if err := rows.Err(); err != nil {
		return err
	}
	if len(found) > 0 && !callable {
		return &engine.RefusedError{Msg: fmt.Sprintf("%s may not call %s: have EXECUTE granted", db.user, c.Routine)}
	}
	return nil
}

// prepare gives the name under which a statement is prepared, "" if it is not.
func (s *session) prepare(ctx context.Context, c *pgconn.PgConn, text string) (string, error) {
	if name, ok := s.prepared[text]; ok || len(s.prepared) == engine.MostPrepared {
		return name, nil
	}
	if s.prepared == nil {
		s.prepared = map[string]string{}
	}
	name := "jugatum_call_" + strconv.Itoa(len(s.prepared)+1)
	if _, err := c.Prepare(ctx, name, text, nil); err != nil {
		return "", err
	}
	s.prepared[text] = name
	return name, nil
}

// Calls sends all statements before it waits for the first answer.
func (db *DB) Calls(ctx context.Context, tx *engine.Tx, _ *change.Call, all []*change.Query, apart bool) (out []engine.Result, log engine.Log, err error) {
	log = engine.NoLog
	before, err := db.position(ctx, tx)
	if err != nil {
		return nil, log, err
	}
	var failed error
	err = tx.S.Conn.Raw(func(x any) (err error) {
		out, failed, err = pipeline(ctx, x.(*stdlib.Conn).Conn().PgConn(), tx.S.State.(*session), all, apart)
		return err
	})
	if err != nil || failed != nil { // then the transaction tells no more
		return out, log, err
	}
	after, err := db.position(ctx, tx)
	if err == nil && after > 0 {
		log = engine.Log{Bytes: after - before, Records: -1, Images: -1, Scope: "server"}
	}
	return out, log, err
}

// position is how far the server's log has come; 0 where nothing is measured.
func (db *DB) position(ctx context.Context, tx *engine.Tx) (n int64, err error) {
	if !engine.Measured {
		return 0, nil
	}
	err = tx.Scan(ctx, "SELECT CAST(pg_catalog.pg_wal_lsn_diff(pg_catalog.pg_current_wal_insert_lsn(), '0/0') AS bigint)", nil, &n)
	return n, err
}

// pipeline gives the results in their order; failed is the error of the last of them, which the
// server has carried out nothing after.
func pipeline(ctx context.Context, c *pgconn.PgConn, s *session, all []*change.Query, apart bool) (out []engine.Result, failed, err error) {
	batch := &pgconn.Batch{}
	for _, q := range all {
		if apart {
			batch.ExecParams("SAVEPOINT "+engine.LineSavepoint, nil, nil, nil, nil)
		}
		name, err := s.prepare(ctx, c, q.String())
		if err != nil {
			return nil, nil, err
		}
		values := make([][]byte, len(q.Args))
		for i, a := range q.Args {
			if a != nil {
				values[i] = []byte(fmt.Sprint(a))
			}
		}
		if name == "" {
			batch.ExecParams(q.String(), values, nil, nil, nil)
		} else {
			batch.ExecPrepared(name, values, nil, nil)
		}
		if apart {
			batch.ExecParams("RELEASE SAVEPOINT "+engine.LineSavepoint, nil, nil, nil, nil)
		}
	}
	reader := c.ExecBatch(ctx, batch)
	n, each, at := 0, 1, 0 // statements answered, of so many for a line, among which the line's own is
	if apart {
		each, at = 3, 1
	}
	for reader.NextResult() {
		res, rerr := result(reader.ResultReader())
		if rerr != nil {
			break
		}
		if n%each == at {
			out = append(out, res)
		}
		n++
	}
	err = reader.Close()
	var pe *pgconn.PgError
	if errors.As(err, &pe) && n%each == at {
		return append(out, engine.Result{Err: err}), err, nil
	}
	return out, nil, err
}

// result reads what came back from one statement.
func result(r *pgconn.ResultReader) (engine.Result, error) {
	out := engine.Result{Affected: -1}
	for first := true; r.NextRow(); first = false {
		if !first {
			continue
		}
		var names []string
		var values []*string
		for i, f := range r.FieldDescriptions() {
			names = append(names, f.Name)
			var v *string
			if raw := r.Values()[i]; raw != nil {
				text := string(raw)
				v = &text
			}
			values = append(values, v)
		}
		out.Returned = engine.Returned(names, values)
	}
	tag, err := r.Close()
	if tag.Insert() || tag.Update() || tag.Delete() || strings.HasPrefix(tag.String(), "MERGE") {
		out.Affected = tag.RowsAffected()
	}
	return out, err
}

// CallAlone carries the statement out outside of any transaction of ours, where those that the
// procedure begins may write.
func (db *DB) CallAlone(ctx context.Context, tx *engine.Tx, _ *change.Call, q *change.Query) (res engine.Result, err error) {
	for _, text := range []string{"COMMIT", "SET default_transaction_read_only = off"} {
		if _, err := tx.Exec(ctx, text); err != nil {
			return res, err
		}
	}
	var out []engine.Result
	err = tx.S.Conn.Raw(func(x any) (err error) {
		out, _, err = pipeline(ctx, x.(*stdlib.Conn).Conn().PgConn(), tx.S.State.(*session), []*change.Query{q}, false)
		return err
	})
	if err != nil {
		return res, err
	}
	for _, text := range []string{"SET default_transaction_read_only = on", tx.S.Begin} {
		if _, err := tx.Exec(ctx, text); err != nil {
			return res, err
		}
	}
	return out[0], nil
}
