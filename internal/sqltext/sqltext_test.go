package sqltext_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"jugatum/internal/dialect"
	"jugatum/internal/sqltext"
)

func texts(ts []sqltext.Token) string {
	var out []string
	for _, t := range ts {
		out = append(out, t.Text)
	}
	return strings.Join(out, " ")
}

func TestLex(t *testing.T) {
	for _, c := range []struct {
		what string
		d    sqltext.Dialect
		src  string
		want string // tokens, or the error after !
	}{
		{"a doubled quote stays in the string", dialect.SQLite, `'it''s' x`, `'it''s' x`},
		{"backslashes are plain in standard strings", dialect.PostgreSQL, `'a\' b`, `'a\' b`},
		{"backslashes escape in E strings", dialect.PostgreSQL, `E'a\'b' c`, `E'a\'b' c`},
		{"backslashes escape in MariaDB", dialect.MariaDB, `'a\'b' c`, `'a\'b' c`},
		{"dollar quotes hold anything", dialect.PostgreSQL, `$t$ ' ; $$ $t$ x`, `$t$ ' ; $$ $t$ x`},
		{"double quotes are names", dialect.PostgreSQL, `"a""b".c`, `"a""b" . c`},
		{"double quotes are strings in MariaDB", dialect.MariaDB, `"a;b"`, `"a;b"`},
		{"brackets are names in SQLite", dialect.SQLite, `[a b] + 1`, `[a b] + 1`},
		{"brackets are subscripts in PostgreSQL", dialect.PostgreSQL, `a[1]`, `a [ 1 ]`},
		{"comments nest in PostgreSQL", dialect.PostgreSQL, `a /* x /* y */ z */ b`, `a b`},
		{"comments do not nest in SQLite", dialect.SQLite, `a /* x /* y */ b`, `a b`},
		{"a line comment ends with the line", dialect.SQLite, "a -- b '\nc", `a c`},
		{"a cast is no parameter", dialect.PostgreSQL, `a::text :b`, `a :: text :b`},
		{"a parameter ends with its word", dialect.SQLite, `:rise*2`, `:rise * 2`},
		{"numbers keep their exponent", dialect.SQLite, `1.5e-3 + .5 0x1F`, `1.5e-3 + .5 0x1F`},
		{"letters beyond ASCII make words", dialect.SQLite, `größe = 1`, `größe = 1`},
		{"blobs are strings", dialect.SQLite, `X'00ff'`, `X'00ff'`},
		{"unfinished string", dialect.SQLite, `a = 'b`, `!line 1, column 5: this string has no closing '`},
		{"unfinished name", dialect.SQLite, "a\n  \"b", `!line 2, column 3: this name has no closing "`},
		{"unfinished comment", dialect.PostgreSQL, `a /* /* */`, `!line 1, column 3: this comment has no closing */`},
		{"unfinished dollar quote", dialect.PostgreSQL, `$a$ x $b$`, `!line 1, column 1: this string has no closing $a$`},
		{"positional parameter", dialect.PostgreSQL, `a = $1`, `!line 1, column 5: parameters are written :name here, not $`},
		{"question mark", dialect.SQLite, `a = ?`, `!line 1, column 5: parameters are written :name here, not ?`},
		{"bad UTF-8", dialect.SQLite, "a = \xff", `!line 1, column 5: byte 0xff is not valid UTF-8`},
		{"executable comment", dialect.MariaDB, `a /*! b */`, `!line 1, column 3: a comment that the server would execute is not accepted`},
	} {
		got, err := sqltext.Lex(c.d, c.src)
		s := texts(got)
		if err != nil {
			s = "!" + err.Error()
		}
		if s != c.want {
			t.Errorf("%s: %s gives\n%s\nwant\n%s", c.what, c.src, s, c.want)
		}
	}
}

func TestParse(t *testing.T) {
	for _, c := range []struct {
		d    sqltext.Dialect
		src  string
		want string // verb target alias | with | set | from | where
	}{
		{dialect.SQLite, "UPDATE t SET a = 1", "update t  |  | a=1 |  | "},
		{dialect.PostgreSQL, "update only s.t as x set a = b is distinct from c, (d, e) = (1, f(2, 3)) from u join w on (u.i = w.i) where x.i = u.i;", "update s.t x |  | a=b is distinct from c; d,e=(1, f(2, 3)) | u join w on (u.i = w.i) | x.i = u.i"},
		{dialect.PostgreSQL, "WITH q AS (SELECT 1 FROM z WHERE a) UPDATE t x SET a = (SELECT 1 FROM q) WHERE b", "update t x | q AS (SELECT 1 FROM z WHERE a) | a=(SELECT 1 FROM q) |  | b"},
		{dialect.PostgreSQL, "DELETE FROM t USING u WHERE t.i = u.i", "delete t  |  |  | u | t.i = u.i"},
		{dialect.SQLite, `DELETE FROM "t x" AS y WHERE y.a IN (SELECT 1) -- end`, `delete "t x" y |  |  |  | y.a IN (SELECT 1)`},
		{dialect.SQLite, "UPDATE t SET a = CASE WHEN b THEN 1 ELSE 2 END WHERE c", "update t  |  | a=CASE WHEN b THEN 1 ELSE 2 END |  | c"},
		{dialect.SQLite, "UPDATE t SET a = 'x; WHERE' WHERE c", "update t  |  | a='x; WHERE' |  | c"},
		{dialect.SQLite, "UPDATE t SET a = 1; DELETE FROM t", "!line 1, column 21: only one statement is accepted; this begins a second"},
		{dialect.SQLite, "UPDATE t SET a = 1 RETURNING a", "!line 1, column 20: RETURNING is not supported: the kept values hold what was changed"},
		{dialect.SQLite, "UPDATE t SET a = 1 LIMIT 5", "!line 1, column 20: LIMIT is not supported here; a step with order and first takes the first rows"},
		{dialect.SQLite, "UPDATE OR IGNORE t SET a = 1", "!line 1, column 8: UPDATE OR is not supported: a conflict must not pass unseen"},
		{dialect.SQLite, "INSERT INTO t VALUES (1)", `!line 1, column 1: expected one UPDATE or DELETE, not "INSERT"`},
		{dialect.SQLite, "UPDATE t SET a = (1", "!line 1, column 18: this ( is not closed"},
		{dialect.SQLite, "UPDATE t SET a = 1)", "!line 1, column 19: this ) closes nothing"},
		{dialect.SQLite, "UPDATE t SET a = ", "!line 1, column 18: an expression is missing here"},
		{dialect.SQLite, "UPDATE t SET a = WHERE b", "!line 1, column 18: an expression is missing here"},
		{dialect.SQLite, "UPDATE t SET a 1", "!line 1, column 16: expected ="},
		{dialect.SQLite, "UPDATE t WHERE a", "!line 1, column 10: expected SET"},
		{dialect.SQLite, "DELETE t", "!line 1, column 8: expected FROM"},
		{dialect.PostgreSQL, "WITH d AS (DELETE FROM x RETURNING 1) UPDATE t SET a = 1", "!line 1, column 12: a WITH that itself changes rows is not supported; make it a step of its own"},
		{dialect.SQLite, "", "!line 1, column 1: there is no statement here"},
	} {
		st, err := sqltext.Parse(c.d, c.src)
		got := ""
		if err != nil {
			got = "!" + err.Error()
		} else {
			target := st.Target.Table.Text
			if st.Target.Qualified {
				target = st.Target.Schema.Text + "." + target
			}
			alias := ""
			if st.Alias != nil {
				alias = st.Alias.Text
			}
			var set []string
			for _, a := range st.Set {
				var cols []string
				for _, col := range a.Columns {
					cols = append(cols, col.Text)
				}
				set = append(set, strings.Join(cols, ",")+"="+a.Expr.String())
			}
			got = fmt.Sprintf("%s %s %s | %s | %s | %s | %s", st.Verb, target, alias, st.With, strings.Join(set, "; "), st.From, st.Where)
		}
		if got != c.want {
			t.Errorf("%s gives\n%s\nwant\n%s", c.src, got, c.want)
		}
	}
}

func TestExpression(t *testing.T) {
	for src, want := range map[string]string{
		"a = 1 AND b":      "",
		"a = 1) OR (b = 2": "line 1, column 6: this ) closes nothing",
		"a; DROP TABLE t":  "line 1, column 2: ; cannot stand in an expression",
		"a ORDER BY b":     "line 1, column 3: ORDER cannot stand in an expression",
		"":                 "line 1, column 1: an expression is missing here",
	} {
		_, err := sqltext.Expression(dialect.SQLite, src)
		got := ""
		if err != nil {
			got = err.Error()
		}
		if got != want {
			t.Errorf("%q gives %q, want %q", src, got, want)
		}
	}
}

func ExampleError_Caret() {
	_, err := sqltext.Parse(dialect.SQLite, "UPDATE t\nSET a = 'b\nWHERE c")
	var e *sqltext.Error
	if errors.As(err, &e) {
		fmt.Println(e)
		fmt.Println(e.Caret())
	}
	// Output:
	// line 2, column 9: this string has no closing '
	//   SET a = 'b
	//           ^
}

var dialects = []sqltext.Dialect{dialect.SQLite, dialect.PostgreSQL, dialect.MariaDB}

// FuzzParse holds that no text makes the reader crash, that errors lie within
// the text, and that what was read reads back the same.
func FuzzParse(f *testing.F) {
	for _, s := range []string{"UPDATE t SET a = 1 WHERE b", "WITH q AS (SELECT 1) DELETE FROM t USING q", "UPDATE t SET (a, b) = (1, $$x$$)", "a /* b", `U&"x"`, "E'\\", ":a::b", "[x"} {
		for d := range dialects {
			f.Add(d, s)
		}
	}
	f.Fuzz(func(t *testing.T, d int, src string) {
		dialect := dialects[((d%len(dialects))+len(dialects))%len(dialects)]
		st, err := sqltext.Parse(dialect, src)
		var e *sqltext.Error
		switch {
		case errors.As(err, &e):
			if e.Offset < 0 || e.Offset > len(src) {
				t.Fatalf("error at %d of %d", e.Offset, len(src))
			}
			e.Caret()
			return
		case err != nil:
			t.Fatalf("an error without a place: %v", err)
		}
		for _, frag := range []sqltext.Fragment{st.Where, st.From} {
			again, err := sqltext.Lex(dialect, frag.String())
			if err != nil {
				t.Fatalf("%q does not read back: %v", frag, err)
			}
			if got, want := texts(again), texts(frag.Tokens); got != want {
				t.Fatalf("%q reads back as %q", want, got)
			}
		}
	})
}
