package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// Describe prepares the statement, and looks a procedure up: the server itself says only when it
// is called whether there is one.
func (db *DB) Describe(ctx context.Context, c *change.Call, params map[string]change.Value) (map[string]*change.Column, error) {
	if err := db.readsAlike(c.Statement.Fragment); err != nil {
		return nil, err
	}
	var told map[string]*change.Column
	if c.Statement.Procedure != nil {
		var err error
		if told, err = db.procedure(ctx, c); err != nil {
			return nil, err
		}
	}
	return told, db.prepares(ctx, c.CallQuery(d, make([]*string, len(c.Columns)), params).String())
}

// argument is one that a procedure takes.
type argument struct {
	mode, name, typ string
	column          *change.Column
}

// procedure finds what is called, and with which arguments.
func (db *DB) procedure(ctx context.Context, c *change.Call) (map[string]*change.Column, error) {
	name := c.Statement.Procedure
	schema := db.schema
	if len(name) == 2 {
		schema = d.Name(name[0])
	}
	of := d.Name(name[len(name)-1])
	var body, mode sql.NullString
	err := db.pool.QueryRowContext(ctx, `SELECT routine_schema, routine_name, routine_definition, sql_mode, IF(security_type = 'INVOKER' AND definer <> CURRENT_USER(), definer, '')
		FROM information_schema.routines WHERE routine_schema = ? AND routine_name = ? AND routine_type = 'PROCEDURE'`, schema, of).Scan(&schema, &of, &body, &mode, &c.Owner)
	if err == sql.ErrNoRows {
		return nil, db.noProcedure(ctx, schema, of)
	}
	if err != nil {
		return nil, err
	}
	args, err := db.arguments(ctx, schema, of)
	if err != nil {
		return nil, err
	}
	var shown []string
	for _, a := range args {
		text := a.name + " " + a.typ
		if a.mode != "IN" {
			text = a.mode + " " + text
		}
		shown = append(shown, text)
	}
	c.Routine = fmt.Sprintf("procedure %s.%s(%s)", schema, of, strings.Join(shown, ", "))
	if !strings.Contains(mode.String, "STRICT_") {
		return nil, &engine.RefusedError{Msg: c.Routine + " was made without strict mode (its sql_mode is '" + mode.String + "'): it would cut values that do not fit without a word; make it again in strict mode"}
	}
	if len(args) != len(c.Statement.Args) {
		return nil, &engine.RefusedError{Msg: fmt.Sprintf("%s takes %d arguments, not %d", c.Routine, len(args), len(c.Statement.Args))}
	}
	c.Out, c.Commits = map[int]string{}, commits(body)
	told := map[string]*change.Column{}
	for i, a := range args {
		arg := c.Statement.Args[i]
		switch {
		case a.mode == "OUT" && (len(arg.Tokens) != 1 || !arg.Tokens[0].Is("NULL")):
			return nil, &engine.RefusedError{Msg: fmt.Sprintf("%s gives %s back: write NULL in its place", c.Routine, a.name)}
		case a.mode == "OUT":
			c.Out[i] = a.name
		case a.mode == "INOUT":
			return nil, &engine.RefusedError{Msg: fmt.Sprintf("%s takes and gives back %s in one variable (INOUT), which cannot be called for lines; wrap it in a procedure that has two arguments", c.Routine, a.name)}
		case arg.Parameter() != "" && c.Types[arg.Parameter()] == "":
			told[arg.Parameter()] = a.column
		}
	}
	return told, nil
}

// noProcedure says that there is none that this user may see.
func (db *DB) noProcedure(ctx context.Context, schema, name string) error {
	rows, err := db.pool.QueryContext(ctx, "SELECT routine_name FROM information_schema.routines WHERE routine_schema = ? AND routine_type = 'PROCEDURE'", schema)
	if err != nil {
		return err
	}
	defer rows.Close()
	var there []string
	for rows.Next() {
		var x string
		if err := rows.Scan(&x); err != nil {
			return err
		}
		there = append(there, x)
	}
	near := ""
	if n := change.Nearest(name, there); n != "" {
		near = fmt.Sprintf("; did you mean %q?", n)
	}
	return &engine.RefusedError{Msg: fmt.Sprintf("there is no procedure %s.%s that %s may call%s", schema, name, db.user, near)}
}

// arguments lists those of a procedure.
func (db *DB) arguments(ctx context.Context, schema, name string) (out []argument, err error) {
	rows, err := db.pool.QueryContext(ctx, `SELECT parameter_mode, parameter_name, dtd_identifier, data_type, coalesce(character_maximum_length, 0)
		FROM information_schema.parameters WHERE specific_schema = ? AND specific_name = ? AND routine_type = 'PROCEDURE' ORDER BY ordinal_position`, schema, name)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		a := argument{column: &change.Column{}}
		var typ string
		var length int64
		if err := rows.Scan(&a.mode, &a.name, &a.typ, &typ, &length); err != nil {
			return nil, err
		}
		a.column.Name, a.column.Type = a.name, a.typ
		switch typ {
		case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "double", "float":
			a.column.Class = change.Number
		case "char", "varchar":
			a.column.Class, a.column.Length = change.Text, int(length)
		case "tinytext", "text", "mediumtext", "longtext":
			a.column.Class = change.Text
		}
		out = append(out, a)
	}
	return out, rows.Err()
}

// enders are words by which the text of a procedure may end a transaction, or hide what does
// (MariaDB documentation, "SQL statements that cause an implicit commit"). That they may stand for
// something else there does no harm: its lines are called one by one then.
var enders = []string{"COMMIT", "ROLLBACK", "START", "AUTOCOMMIT", "XA", "CALL", "PREPARE", "EXECUTE", "IMMEDIATE", "CREATE", "ALTER", "DROP", "RENAME", "TRUNCATE", "LOCK", "UNLOCK",
	"ANALYZE", "OPTIMIZE", "REPAIR", "CHECK", "CACHE", "LOAD", "FLUSH", "RESET", "GRANT", "REVOKE", "PASSWORD", "INSTALL", "UNINSTALL", "CHANGE", "STOP", "SHUTDOWN", "BACKUP", "KILL", "SAVEPOINT", "WORK"}

// commits says why a procedure with such a text may end the transaction that it is called in.
func commits(body sql.NullString) string {
	if !body.Valid {
		return "its text is not to be seen by this user, and it may commit or roll back itself"
	}
	tokens, err := sqltext.Lex(variables{d}, body.String)
	if err != nil {
		return "its text cannot be read here, and it may commit or roll back itself"
	}
	for _, t := range tokens {
		if t.Kind == sqltext.Ident && slices.ContainsFunc(enders, t.Is) {
			return "it says " + strings.ToUpper(t.Text) + ", which may commit or roll back"
		}
	}
	return ""
}

// variables is the dialect of a procedure's own text, which may have variables of the session.
type variables struct{ sqltext.Dialect }

func (v variables) Rules() *sqltext.Syntax {
	s := *v.Dialect.Rules()
	s.Variables, s.OwnParams = false, ""
	return &s
}

// batchSavepoint is one that is gone if a procedure has ended the transaction after all.
const batchSavepoint = "jugatum_batch"

// Calls carries the statements out one by one: the protocol has an answer for each.
func (db *DB) Calls(ctx context.Context, tx *engine.Tx, c *change.Call, all []*change.Query, apart bool) (out []engine.Result, log engine.Log, err error) {
	procedure := c.Statement.Procedure != nil
	if procedure {
		if _, err := tx.Exec(ctx, "SAVEPOINT "+batchSavepoint); err != nil {
			return nil, engine.NoLog, err
		}
	}
	out, err = engine.CallsEach(ctx, tx, all, apart, func(q *change.Query) engine.Result { return db.call(ctx, tx, c, q) })
	if !procedure {
		return out, engine.NoLog, err
	}
	told := err != nil // by the savepoint of a line, which is gone or is to be rolled back to; or the server has rolled all back, as after a deadlock
	if n := len(out); n > 0 && out[n-1].Err != nil {
		f := db.Fault(out[n-1].Err)
		told = apart || f == engine.Busy || f == engine.Connection || f == engine.Cancelled
	}
	if !told {
		_, err = tx.Exec(ctx, "RELEASE SAVEPOINT "+batchSavepoint)
	}
	if err != nil {
		return nil, engine.NoLog, fmt.Errorf("%s has perhaps ended the transaction that it was called in, though its text did not say so (%w): lines of this batch may have been carried out, and nothing tells which; look before you go on", c.Routine, err)
	}
	return out, engine.NoLog, nil
}

// call carries one statement out, and reads what it gave back through variables.
func (db *DB) call(ctx context.Context, tx *engine.Tx, c *change.Call, q *change.Query) engine.Result {
	res := engine.CallOne(ctx, tx.S, c.Statement, q)
	if res.Err != nil || len(c.Out) == 0 {
		return res
	}
	var ask, names []string
	for i := range c.Statement.Args {
		if c.Out[i] != "" {
			names, ask = append(names, c.Out[i]), append(ask, change.OutVariable(i))
		}
	}
	texts, into := engine.Texts(len(ask))
	if err := tx.Scan(ctx, "SELECT "+strings.Join(ask, ", "), nil, into...); err != nil {
		return engine.Result{Err: err}
	}
	res.Returned = engine.Returned(names, texts)
	return res
}

// CallAlone carries the statement out in a transaction of its own, which the procedure may end.
func (db *DB) CallAlone(ctx context.Context, tx *engine.Tx, c *change.Call, q *change.Query) (res engine.Result, err error) {
	for _, text := range []string{"COMMIT", tx.S.Begin} {
		if _, err := tx.Exec(ctx, text); err != nil {
			return res, err
		}
	}
	if res = db.call(ctx, tx, c, q); res.Err != nil { // what it has not committed goes
		if _, err := tx.Exec(ctx, "ROLLBACK"); err != nil {
			return res, err
		}
	}
	var open bool
	if err := tx.Scan(ctx, "SELECT @@in_transaction", nil, &open); err != nil || open {
		return res, err
	}
	_, err = tx.Exec(ctx, tx.S.Begin)
	return res, err
}
