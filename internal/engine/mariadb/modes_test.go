package mariadb

import (
	"errors"
	"strings"
	"testing"

	"jugatum/internal/engine"
	"jugatum/internal/sqltext"
)

// TestModesReadAlike: what a sql_mode of the server gives another meaning than our sessions, which are without it,
// is refused; what means the same is not.
func TestModesReadAlike(t *testing.T) {
	for _, c := range []struct{ modes, sql, want string }{
		{"STRICT_ALL_TABLES", "concat(a, b) || ''", ""},
		{"PIPES_AS_CONCAT,ORACLE", "a || b", "ORACLE"},
		{"PIPES_AS_CONCAT,ORACLE", "concat(a, b)", "concat("},
		{"PIPES_AS_CONCAT,ORACLE", "a IN (1, 2) AND (b > 3 OR NOT (c = 4))", ""},
		{"EMPTY_STRING_IS_NULL", "a = ''", "EMPTY_STRING_IS_NULL"},
		{"EMPTY_STRING_IS_NULL", "concat(a, 'x')", ""},
		{"ANSI_QUOTES", `a = "b"`, "ANSI_QUOTES"},
		{"NO_BACKSLASH_ESCAPES", `a = 'b\n'`, "NO_BACKSLASH_ESCAPES"},
	} {
		tokens, err := sqltext.Lex(d, c.sql)
		if err != nil {
			t.Fatal(err)
		}
		err = (&DB{modes: c.modes}).readsAlike(sqltext.Fragment{Tokens: tokens})
		var refused *engine.RefusedError
		switch {
		case c.want == "" && err != nil:
			t.Errorf("%s, %s: %v", c.modes, c.sql, err)
		case c.want != "" && (!errors.As(err, &refused) || !strings.Contains(err.Error(), c.want)):
			t.Errorf("%s, %s: %v, want it refused because of %s", c.modes, c.sql, err, c.want)
		}
		strict, stage := modes(c.modes)
		for _, ours := range []string{strict, stage} {
			if strings.Contains(ours, "ORACLE") || strings.Contains(ours, "EMPTY_STRING_IS_NULL") {
				t.Errorf("our sessions have %s", ours)
			}
		}
	}
}
