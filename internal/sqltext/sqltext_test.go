package sqltext

import (
	"errors"
	"fmt"
	"strings"
	"testing"
)

func texts(ts []Token) string {
	var out []string
	for _, t := range ts {
		out = append(out, t.Text)
	}
	return strings.Join(out, " ")
}

func TestLex(t *testing.T) {
	for _, c := range []struct {
		what string
		d    Dialect
		src  string
		want string // tokens, or the error after !
	}{
		{"a doubled quote stays in the string", SQLite, `'it''s' x`, `'it''s' x`},
		{"backslashes are plain in standard strings", PostgreSQL, `'a\' b`, `'a\' b`},
		{"backslashes escape in E strings", PostgreSQL, `E'a\'b' c`, `E'a\'b' c`},
		{"backslashes escape in MariaDB", MariaDB, `'a\'b' c`, `'a\'b' c`},
		{"dollar quotes hold anything", PostgreSQL, `$t$ ' ; $$ $t$ x`, `$t$ ' ; $$ $t$ x`},
		{"double quotes are names", PostgreSQL, `"a""b".c`, `"a""b" . c`},
		{"double quotes are strings in MariaDB", MariaDB, `"a;b"`, `"a;b"`},
		{"brackets are names in SQLite", SQLite, `[a b] + 1`, `[a b] + 1`},
		{"brackets are subscripts in PostgreSQL", PostgreSQL, `a[1]`, `a [ 1 ]`},
		{"comments nest in PostgreSQL", PostgreSQL, `a /* x /* y */ z */ b`, `a b`},
		{"comments do not nest in SQLite", SQLite, `a /* x /* y */ b`, `a b`},
		{"a line comment ends with the line", SQLite, "a -- b '\nc", `a c`},
		{"a cast is no parameter", PostgreSQL, `a::text :b`, `a :: text :b`},
		{"a parameter ends with its word", SQLite, `:rise*2`, `:rise * 2`},
		{"numbers keep their exponent", SQLite, `1.5e-3 + .5 0x1F`, `1.5e-3 + .5 0x1F`},
		{"letters beyond ASCII make words", SQLite, `größe = 1`, `größe = 1`},
		{"blobs are strings", SQLite, `X'00ff'`, `X'00ff'`},
		{"unfinished string", SQLite, `a = 'b`, `!line 1, column 5: this string has no closing '`},
		{"unfinished name", SQLite, "a\n  \"b", `!line 2, column 3: this name has no closing "`},
		{"unfinished comment", PostgreSQL, `a /* /* */`, `!line 1, column 3: this comment has no closing */`},
		{"unfinished dollar quote", PostgreSQL, `$a$ x $b$`, `!line 1, column 1: this string has no closing $a$`},
		{"positional parameter", PostgreSQL, `a = $1`, `!line 1, column 5: parameters are written :name here, not $`},
		{"question mark", SQLite, `a = ?`, `!line 1, column 5: parameters are written :name here, not ?`},
		{"bad UTF-8", SQLite, "a = \xff", `!line 1, column 5: byte 0xff is not valid UTF-8`},
		{"executable comment", MariaDB, `a /*! b */`, `!line 1, column 3: a comment that the server would execute is not accepted`},
	} {
		got, err := Lex(c.d, c.src)
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
		d    Dialect
		src  string
		want string // verb target alias | with | set | from | where
	}{
		{SQLite, "UPDATE t SET a = 1", "update t  |  | a=1 |  | "},
		{PostgreSQL, "update only s.t as x set a = b is distinct from c, (d, e) = (1, f(2, 3)) from u join w on (u.i = w.i) where x.i = u.i;", "update s.t x |  | a=b is distinct from c; d,e=(1, f(2, 3)) | u join w on (u.i = w.i) | x.i = u.i"},
		{PostgreSQL, "WITH q AS (SELECT 1 FROM z WHERE a) UPDATE t x SET a = (SELECT 1 FROM q) WHERE b", "update t x | q AS (SELECT 1 FROM z WHERE a) | a=(SELECT 1 FROM q) |  | b"},
		{PostgreSQL, "DELETE FROM t USING u WHERE t.i = u.i", "delete t  |  |  | u | t.i = u.i"},
		{SQLite, `DELETE FROM "t x" AS y WHERE y.a IN (SELECT 1) -- end`, `delete "t x" y |  |  |  | y.a IN (SELECT 1)`},
		{SQLite, "UPDATE t SET a = CASE WHEN b THEN 1 ELSE 2 END WHERE c", "update t  |  | a=CASE WHEN b THEN 1 ELSE 2 END |  | c"},
		{SQLite, "UPDATE t SET a = 'x; WHERE' WHERE c", "update t  |  | a='x; WHERE' |  | c"},
		{SQLite, "UPDATE t SET a = 1; DELETE FROM t", "!line 1, column 21: only one statement is accepted; this begins a second"},
		{SQLite, "UPDATE t SET a = 1 RETURNING a", "!line 1, column 20: RETURNING is not supported: the kept values hold what was changed"},
		{SQLite, "UPDATE t SET a = 1 LIMIT 5", "!line 1, column 20: LIMIT is not supported here; a step with order and first takes the first rows"},
		{SQLite, "UPDATE OR IGNORE t SET a = 1", "!line 1, column 8: UPDATE OR is not supported: a conflict must not pass unseen"},
		{SQLite, "INSERT INTO t VALUES (1)", `!line 1, column 1: expected one UPDATE or DELETE, not "INSERT"`},
		{SQLite, "UPDATE t SET a = (1", "!line 1, column 18: this ( is not closed"},
		{SQLite, "UPDATE t SET a = 1)", "!line 1, column 19: this ) closes nothing"},
		{SQLite, "UPDATE t SET a = ", "!line 1, column 18: an expression is missing here"},
		{SQLite, "UPDATE t SET a = WHERE b", "!line 1, column 18: an expression is missing here"},
		{SQLite, "UPDATE t SET a 1", "!line 1, column 16: expected ="},
		{SQLite, "UPDATE t WHERE a", "!line 1, column 10: expected SET"},
		{SQLite, "DELETE t", "!line 1, column 8: expected FROM"},
		{PostgreSQL, "WITH d AS (DELETE FROM x RETURNING 1) UPDATE t SET a = 1", "!line 1, column 12: a WITH that itself changes rows is not supported; make it a step of its own"},
		{SQLite, "", "!line 1, column 1: there is no statement here"},
	} {
		st, err := Parse(c.d, c.src)
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
		_, err := Expression(SQLite, src)
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
	_, err := Parse(SQLite, "UPDATE t\nSET a = 'b\nWHERE c")
	var e *Error
	if errors.As(err, &e) {
		fmt.Println(e)
		fmt.Println(e.Caret())
	}
	// Output:
	// line 2, column 9: this string has no closing '
	//   SET a = 'b
	//           ^
}

// FuzzParse holds that no text makes the reader crash, that errors lie within
// the text, and that what was read reads back the same.
func FuzzParse(f *testing.F) {
	for _, s := range []string{"UPDATE t SET a = 1 WHERE b", "WITH q AS (SELECT 1) DELETE FROM t USING q", "UPDATE t SET (a, b) = (1, $$x$$)", "a /* b", `U&"x"`, "E'\\", ":a::b", "[x"} {
		for d := range 3 {
			f.Add(d, s)
		}
	}
	f.Fuzz(func(t *testing.T, d int, src string) {
		dialect := Dialect(((d % 3) + 3) % 3)
		st, err := Parse(dialect, src)
		var e *Error
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
		for _, frag := range []Fragment{st.Where, st.From} {
			again, err := Lex(dialect, frag.String())
			if err != nil {
				t.Fatalf("%q does not read back: %v", frag, err)
			}
			if got, want := texts(again), texts(frag.Tokens); got != want {
				t.Fatalf("%q reads back as %q", want, got)
			}
		}
	})
}
