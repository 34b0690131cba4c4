package sqltext_test

import (
	"strings"
	"testing"

	"jugatum/internal/dialect"
	"jugatum/internal/sqltext"
)

func TestParseCall(t *testing.T) {
	for _, x := range []struct{ text, want string }{
		{"CALL set_rate(:no, :rate)", "CALL set_rate [:no] [:rate]"},
		{"call Harbour.\"Set rate\" ( 1 + (2), ARRAY[1, 2], f(:a, :b) , NULL );", "CALL Harbour.Set rate [1 + (2)] [ARRAY[1, 2]] [f(:a, :b)] [NULL]"},
		{"CALL tidy()", "CALL tidy"},
		{"CALL tidy", "CALL tidy"},
		{"SELECT f(:a)", "SELECT"},
		{"WITH x AS (SELECT :a AS n) INSERT INTO t SELECT n FROM x", "WITH"},
		{"CALL f(:a,)", "an argument is missing here"},
		{"CALL f(,:a)", "an argument is missing here"},
		{"CALL f(:a) + 1", "expected nothing after the arguments of f"},
		{"CALL f + 1", "expected the arguments of f in brackets"},
		{"CALL :f", "expected a procedure's name"},
		{"CALL f(:a", "a bracket is not closed after this"},
		{"CALL f(:a))", "this bracket was not opened"},
		{"CALL f(:a); COMMIT", "expected one statement, and nothing after it"},
		{"COMMIT", `not "COMMIT"`},
		{"\"CALL\" f()", "expected one statement that begins with"},
		{"", "there is no statement here"},
		{" ;", "there is no statement here"},
		{"CALL f('", "this string has no closing"},
	} {
		c, err := sqltext.ParseCall(dialect.PostgreSQL, x.text)
		got := ""
		if err != nil {
			if got = err.Error(); strings.Contains(got, x.want) {
				got = x.want
			}
		} else {
			got = c.Verb
			var names []string
			for _, n := range c.Procedure {
				names = append(names, n.Name())
			}
			if len(names) > 0 {
				got += " " + strings.Join(names, ".")
			}
			for _, a := range c.Args {
				got += " [" + a.String() + "]"
			}
		}
		if got != x.want {
			t.Errorf("%s: %s, want %s", x.text, got, x.want)
		}
	}
}

// FuzzParseCall: whatever the text, what is read of a call is part of it, and nothing panics.
func FuzzParseCall(f *testing.F) {
	for _, s := range []string{"CALL a.b(:x, NULL, (1, [2]))", "SELECT f(:a)", "CALL f(,)", "CALL f(]", "WITH a AS (UPDATE t SET x = 1) SELECT 1"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		c, err := sqltext.ParseCall(dialect.PostgreSQL, text)
		if err != nil {
			return
		}
		n := len(c.Procedure)
		for _, a := range c.Args {
			if a.Empty() {
				t.Errorf("%q: an empty argument", text)
			}
			n += len(a.Tokens)
		}
		if n > len(c.Tokens) {
			t.Errorf("%q: more tokens in its parts than it has", text)
		}
	})
}
