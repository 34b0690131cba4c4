package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"jugatum/internal/dialect"
	"jugatum/internal/sqltext"
)

// neighbour is what somebody may make who can create things in a schema that is in
// others' search path: functions and operators that suit the arguments of the named
// ones better than the server's own do. What they are asked to do they tell in the
// server's log, and fail.
const neighbour = `DO $do$
DECLARE
	kinds text[] := ARRAY['int2', 'int4', 'int8', 'text', 'varchar', 'bpchar', 'name', 'oid', 'regclass', 'regnamespace', '"char"', 'bool', 'numeric', 'float8', 'timestamptz', 'date', 'uuid',
		'json', 'jsonb', 'xid', 'tid', 'xid8', 'pg_lsn', 'text[]', 'varchar[]', 'name[]', 'int4[]', 'int2[]', 'int2vector', 'oidvector', 'oid[]', 'public.code', 'public.word', 'public.sort', 'anyelement', 'anyarray'];
	body text := ' LANGUAGE plpgsql AS $f$ BEGIN RAISE LOG ''a neighbour was called''; RAISE EXCEPTION ''a neighbour was called''; END $f$';
	f record; k text; other text; sig text[]; n int := 0;
BEGIN
	SET LOCAL check_function_bodies = off;
	FOR f IN SELECT p.proname, p.oid, string_to_array(oidvectortypes(p.proargtypes), ', ') AS args FROM pg_proc p
		WHERE p.pronamespace = 'pg_catalog'::regnamespace AND p.proname = ANY($NAMES) AND p.pronargs BETWEEN 1 AND 4 LOOP
		FOR i IN 1 .. array_length(f.args, 1) LOOP
			FOREACH k IN ARRAY kinds LOOP
				sig := f.args;
				sig[i] := k;
				BEGIN
					EXECUTE format('CREATE FUNCTION public.%I(%s) RETURNS text', f.proname, array_to_string(sig, ', ')) || body;
					n := n + 1;
				EXCEPTION WHEN others THEN NULL; -- there is one already
				END;
			END LOOP;
		END LOOP;
	END LOOP;
	FOREACH k IN ARRAY kinds LOOP
		FOREACH other IN ARRAY ARRAY[k, 'text', 'varchar', 'name', 'int4', 'int8', 'oid', 'regclass'] LOOP
			BEGIN
				EXECUTE format('CREATE FUNCTION public.neighbour(%s, %s) RETURNS bool', k, other) || body;
			EXCEPTION WHEN others THEN NULL;
			END;
			FOR f IN SELECT DISTINCT oprname FROM pg_operator WHERE oprname = ANY($SIGNS) LOOP
				BEGIN
					EXECUTE format('CREATE OPERATOR public.%s (LEFTARG = %s, RIGHTARG = %s, FUNCTION = public.neighbour)', f.oprname, k, other);
					n := n + 1;
				EXCEPTION WHEN others THEN NULL;
				END;
			END LOOP;
		END LOOP;
	END LOOP;
	IF n < 1000 THEN RAISE EXCEPTION 'only % were made', n; END IF;
END $do$`

var (
	// 2026-11-28 10:00:00.000 UTC [1] LOG:  execute name: SELECT …, and lines that go on with a tab.
	logged   = regexp.MustCompile(`(?m)LOG:  (?:execute [^:]*|statement): (.*(?:\n\t.*)*)`)
	numbered = regexp.MustCompile(`\$\d+`)
	sign     = regexp.MustCompile(`^[-+*/<>=~!@#%^&|]+$`)
)

// called finds in the statements that the server has logged the names that are
// called, and the operators.
func called(t *testing.T, log string) (names, signs []string) {
	t.Helper()
	seen := map[string]bool{}
	for _, m := range logged.FindAllStringSubmatch(log, -1) {
		if seen[m[1]] {
			continue
		}
		seen[m[1]] = true
		tokens, err := sqltext.Lex(dialect.PostgreSQL, numbered.ReplaceAllString(m[1], "1"))
		if err != nil {
			continue // another test's, perhaps with a mistake in it
		}
		for i, x := range tokens {
			switch {
			case i+1 < len(tokens) && tokens[i+1].Punct("(") && (x.Kind == sqltext.Ident || x.Kind == sqltext.QuotedIdent):
				names = append(names, strings.ToLower(x.Name()))
			case sign.MatchString(x.Text):
				signs = append(signs, x.Text)
			}
		}
	}
	for _, list := range []*[]string{&names, &signs} {
		slices.Sort(*list)
		*list = slices.Compact(*list)
	}
	return names, signs
}

// TestHostileFunctions: of what somebody else put into a schema of the search path
// nothing is called by our being there, whatever we are asked to do.
func TestHostileFunctions(t *testing.T) {
	beside(t)
	d := fresh(t, "postgres")
	log := func() string {
		t.Helper()
		b, err := os.ReadFile(filepath.Join(server.Dir, "log"))
		if err != nil {
			t.Fatal(err)
		}
		return string(b)
	}
	job := filepath.Join(t.TempDir(), "links.toml")
	text := "[[step]]\nname = \"links\"\nin = [\"notice.body\", \"pair.note\", \"part.note\"]\nreplace = { find = \"http://\", with = \"https://\" }\n"
	if err := os.WriteFile(job, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	move := d.job("[[step]]\ntable = \"pair\"\nmove_to = \"pair_past\"\n")
	d.exec("CREATE DOMAIN code AS int", "CREATE DOMAIN word AS varchar(20)", "CREATE TYPE sort AS ENUM ('bulk', 'liquid', 'box')",
		"CREATE TABLE notice (id varchar(20) PRIMARY KEY, n int, body text, short varchar(90))", "INSERT INTO notice SELECT 'n' || i, i, 'see http://charts', 'x' FROM generate_series(1, 90) i",
		"CREATE TABLE pair (a varchar(9), b code, c word, s sort, note text, w word, r numeric(8,2), PRIMARY KEY (a, b, c, s))", "INSERT INTO pair SELECT 'a' || i % 7, i, 'w', 'box', 'http://x', 'w', i FROM generate_series(1, 90) i",
		"CREATE TABLE part (id word, at timestamptz, note text, PRIMARY KEY (id, at)) PARTITION BY HASH (id)", "CREATE TABLE part_1 PARTITION OF part FOR VALUES WITH (MODULUS 1, REMAINDER 0)",
		"INSERT INTO part SELECT 'p' || i, now(), 'http://y' FROM generate_series(1, 50) i",
		"CREATE TABLE berth (id bigint PRIMARY KEY, notice varchar(20) REFERENCES notice, rate int, u uuid, m numeric UNIQUE)",
		"INSERT INTO berth SELECT i, 'n' || i, i, NULL, i FROM generate_series(1, 90) i",
		"CREATE TABLE pulled (id uuid PRIMARY KEY, v int, b bytea)", "INSERT INTO pulled SELECT gen_random_uuid(), i, '' FROM generate_series(1, 60) i",
		"CREATE FUNCTION touch() RETURNS trigger LANGUAGE plpgsql AS 'BEGIN RETURN NEW; END'", "CREATE TRIGGER touch BEFORE UPDATE ON pulled FOR EACH ROW EXECUTE FUNCTION touch()",
		"ANALYZE")
	before := map[string][]string{}
	tables := []string{"notice", "pair", "part", "berth", "pulled"}
	for _, table := range tables {
		before[table] = d.dump(table)
	}
	everything := func() {
		t.Helper()
		d.must(0, "survey")
		d.must(0, "find", "http://")
		// The jobs' own operators are all the server's own, with the very types.
		runs := [][]string{
			{"UPDATE berth SET rate = rate + 1 WHERE rate > 10", "--workers", "2"},
			{"UPDATE notice SET short = 'done' WHERE n > 5", "--workers", "2"},
			{"UPDATE notice SET short = 'roster' WHERE n > 5", "--method", "roster"},
			{"UPDATE notice SET short = 'single' WHERE n > 5", "--method", "single"},
			{"UPDATE pair SET w = 'v', r = r + 1.0, note = NULL WHERE CAST(b AS int) > 5", "--workers", "2"},
			{"UPDATE part SET note = 'changed' WHERE note IS NOT NULL", "--workers", "2"},
			{"UPDATE pulled SET v = v + 1, b = 'x' WHERE v > 4"},
			{"UPDATE berth SET rate = notice.n FROM notice WHERE CAST(notice.id AS text) = CAST(berth.notice AS text) AND notice.n > 3"},
			{"DELETE FROM berth WHERE rate > 50"},
			{"DELETE FROM part WHERE note IS NOT NULL"},
			{"DELETE FROM pair WHERE CAST(b AS int) > 40"},
		}
		var ids []string
		run := func(args ...string) {
			t.Helper()
			o := d.must(0, append([]string{"run", "--accept", "any", "--batch", "11", "--again"}, args...)...)
			id := regexp.MustCompile(`run (\d+)`).FindStringSubmatch(o.out + o.err)
			if id == nil {
				t.Fatal(o.out + o.err)
			}
			ids = append(ids, id[1])
		}
		for _, r := range runs {
			d.must(0, "preview", "--sql", r[0])
			run(append([]string{"--sql"}, r...)...)
			d.must(0, "verify", ids[len(ids)-1])
		}
		d.must(0, "preview", job)
		run(job, "--rehearse")
		run(move, "--every-row")
		d.must(0, "verify", ids[len(ids)-1])
		d.must(0, "runs")
		d.must(0, "show", ids[0])
		for i := len(ids) - 1; i >= 0; i-- {
			d.must(0, "undo", ids[i], "--batch", "11")
		}
		run("--sql", "UPDATE notice SET n = n + 1 WHERE n > 5", "--keep", "none")
		run("--sql", "UPDATE notice SET n = n - 1 WHERE n > 5", "--keep", "none")
	}
	d.exec("ALTER DATABASE " + d.one("SELECT current_database()") + " SET log_statement = 'all'")
	d.within = true
	everything()
	names, signs := called(t, log())
	for _, must := range []string{"count", "set_config", "currval", "pg_total_relation_size", "unnest"} {
		if !slices.Contains(names, must) {
			t.Errorf("%s is not among the functions that were called: %q", must, names)
		}
	}
	list := func(words []string) string { return "ARRAY['" + strings.Join(words, "', '") + "']" }
	role := "neighbour_" + newName()
	d.exec("CREATE ROLE "+role, "GRANT CREATE ON SCHEMA public TO "+role, "GRANT USAGE ON DOMAIN code, word TO "+role)
	t.Cleanup(func() { d.exec("DROP OWNED BY "+role+" CASCADE", "DROP ROLE "+role) })
	conn := d.one("SELECT format('SET ROLE %I', '" + role + "')")
	d.exec(conn + ";" + strings.NewReplacer("$NAMES", list(names), "$SIGNS", list(signs)).Replace(neighbour) + "; RESET ROLE")
	at := len(log())
	defer func() { // where it fails, what was asked
		if t.Failed() {
			for _, m := range regexp.MustCompile(`(?m)ERROR:  a neighbour was called.*\n.*CONTEXT.*\n.*(?:\n\t.*)*`).FindAllString(log()[at:], 3) {
				t.Logf("%.3000s", m)
			}
		}
	}()
	everything()
	d.exec("RESET ROLE")
	if n := strings.Count(log()[at:], "a neighbour was called"); n > 0 {
		t.Errorf("%d calls of what is not the server's own", n)
	}
	d.exec("DROP OWNED BY " + role + " CASCADE")
	for _, table := range tables {
		same(t, fmt.Sprintf("%s undone", table), d.dump(table), before[table])
	}
}

// TestKeysOfAnotherSchema: a key is compared by its own type's operators, also
// where they are not in the search path. Those of text, which the server would
// take for want of them, put the same keys into another order.
func TestKeysOfAnotherSchema(t *testing.T) {
	beside(t)
	d := fresh(t, "postgres")
	d.exec("CREATE SCHEMA ext", "CREATE EXTENSION citext SCHEMA ext",
		"CREATE TABLE t (id ext.citext, n bigint, v int, PRIMARY KEY (id, n))", "INSERT INTO t SELECT CASE WHEN i % 2 = 0 THEN 'berth ' ELSE 'BERTH ' END || i / 10, i, 0 FROM generate_series(1, 300) i",
		"CREATE TABLE s (id ext.citext PRIMARY KEY, v int)", "INSERT INTO s SELECT CASE WHEN i % 2 = 0 THEN 'berth ' ELSE 'BERTH ' END || i, 0 FROM generate_series(1, 300) i")
	for i, table := range []string{"t", "s"} {
		before := d.dump(table)
		run := fmt.Sprint(4*i + 1)
		d.must(0, "run", "--sql", "UPDATE "+table+" SET v = v + 1", "--every-row", "--accept", "300", "--batch", "7", "--workers", "2")
		if n := d.one("SELECT count(*) FROM " + table + " WHERE v = 1"); n != "300" {
			t.Errorf("%s: %s rows were changed once", table, n)
		}
		d.must(0, "verify", run)
		d.must(0, "undo", run, "--batch", "7")
		same(t, "undone", d.dump(table), before)
		d.must(0, "run", "--sql", "UPDATE "+table+" SET v = v + 2", "--every-row", "--accept", "300", "--batch", "7", "--method", "roster")
		d.must(0, "undo", fmt.Sprint(4*i+3))
		same(t, "undone", d.dump(table), before)
	}
}
