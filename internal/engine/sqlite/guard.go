package sqlite

import (
	"database/sql"
	"errors"
	"slices"
	"strings"

	"modernc.org/sqlite"
)

// What a file's schema or a job's SQL must not bring about by our having opened
// the file, whoever wrote them: the database is asked before it compiles any
// statement (https://sqlite.org/c3ref/set_authorizer.html). Beside this, files are
// opened with trusted_schema off and in defensive mode.

// guarded is the name of the driver whose connections only read, until a Session
// has one of them write.
const guarded = "jugatum-sqlite"

func init() {
	driver := &sqlite.Driver{}
	driver.RegisterConnectionHook(func(conn sqlite.ExecQuerierContext, _ string) error {
		return authorize(conn, reading)
	})
	sql.Register(guarded, driver)
}

func authorize(conn any, policy sqlite.AuthorizerFn) error {
	c, ok := conn.(sqlite.AuthorizerRegisterer)
	if !ok {
		return errors.New("the driver cannot be told what not to do")
	}
	return c.RegisterAuthorizer(policy)
}

// reading is what connections may do that only read. The driver has made them
// read-only before it asks.
func reading(action sqlite.AuthorizerActionCode, name, value, _, _ string) sqlite.AuthorizerReturnCode {
	if action == sqlite.AuthPragma && value != "" && slices.Contains([]string{"query_only", "journal_mode", "locking_mode"}, strings.ToLower(name)) {
		return sqlite.AuthorizerDeny
	}
	return writing(action, name, value, "", "")
}

// writing is what a session may do that changes rows: everything in its own file.
func writing(action sqlite.AuthorizerActionCode, name, value, _, _ string) sqlite.AuthorizerReturnCode {
	switch action {
	case sqlite.AuthAttach, sqlite.AuthDetach:
		return sqlite.AuthorizerDeny
	case sqlite.AuthFunction:
		if strings.EqualFold(value, "load_extension") || strings.EqualFold(value, "fts3_tokenizer") {
			return sqlite.AuthorizerDeny
		}
	case sqlite.AuthPragma:
		if value != "" && slices.Contains([]string{"writable_schema", "trusted_schema"}, strings.ToLower(name)) {
			return sqlite.AuthorizerDeny
		}
	}
	return sqlite.AuthorizerOK
}
