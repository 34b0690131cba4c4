package e2e

import (
	"fmt"
	"strings"
	"testing"
)

// TestOtherEncodings: a job is written in UTF-8 and means its letters, whatever encoding the database has, or
// the user's sessions; a letter that the database has not is refused before anything is written.
func TestOtherEncodings(t *testing.T) {
	beside(t)
	d := fresh(t, "postgres")
	name := d.one("SELECT current_database()")
	d.exec("CREATE DATABASE "+name+"_latin ENCODING 'LATIN1' LC_COLLATE 'C' LC_CTYPE 'C' TEMPLATE template0", "CREATE DATABASE "+name+"_utf")
	t.Cleanup(func() { d.exec("DROP DATABASE "+name+"_latin", "DROP DATABASE "+name+"_utf") })
	d.exec("ALTER DATABASE "+name+"_utf SET client_encoding = 'LATIN1'", "ALTER DATABASE "+name+"_utf SET array_nulls = off")
	for _, encoding := range []string{"latin", "utf"} {
		t.Run(encoding, func(t *testing.T) {
			o := &database{t: t, engine: "postgres", url: strings.Replace(d.url, name, name+"_"+encoding, 1)}
			o.open()
			defer o.db.Close()
			rows := func() []string {
				return o.lines("SELECT id || ' ' || encode(convert_to(word, 'LATIN1'), 'hex') FROM t ORDER BY id")
			}
			o.exec("CREATE TABLE t (id int PRIMARY KEY, word text)", `INSERT INTO t VALUES (1, U&'caf\00E9'), (2, 'cafe'), (3, U&' \00E9 ')`)
			o.must(0, "run", "--sql", "UPDATE t SET word = word || 'ü' WHERE word LIKE '%é'", "--accept", "1")
			same(t, "a statement", rows(), []string{"1 636166e9fc", "2 63616665", "3 20e920"})
			o.must(0, "run", o.job("[[step]]\nin = [\"t.word\"]\nreplace = { find = \"é\", with = \"è\" }\n"), "--accept", "2")
			same(t, "a replacement", rows(), []string{"1 636166e8fc", "2 63616665", "3 20e820"})
			o.must(0, "run", o.job("[[step]]\ntable = \"t\"\n[step.shape]\nword = [\"trim\", \"upper\"]\n"), "--accept", "any")
			same(t, "a shape", rows(), []string{"1 434146c8dc", "2 43414645", "3 c8"})
			words := o.list("words.csv", "id,word\n2,thé\n")
			o.must(0, "run", o.job("[[step]]\ntable = \"t\"\nchanges = '"+words+"'\naction = \"update\"\n"), "--accept", "any")
			same(t, "a list", rows(), []string{"1 434146c8dc", "2 7468e9", "3 c8"})
			if got := o.must(0, "find", "é").out; !strings.Contains(got, "th⟦é⟧") {
				t.Errorf("find says %s", got)
			}
			if encoding == "latin" {
				got := o.jugatum("run", "--sql", "UPDATE t SET word = '€'", "--every-row", "--accept", "any")
				if got.status == 0 || !strings.Contains(got.err, "has no equivalent in encoding") {
					t.Errorf("exit status %d: %s", got.status, got.err)
				}
			}
			for _, run := range []string{"4", "3", "2", "1"} {
				o.must(0, "verify", run)
				o.must(0, "undo", run)
			}
			same(t, "undone", rows(), []string{"1 636166e9", "2 63616665", "3 20e920"})

			// NULL in an array is no text, also where array_nulls has it so.
			o.exec("CREATE TABLE k (id text[] PRIMARY KEY, n int)", "INSERT INTO k SELECT array['a', CASE WHEN i % 2 = 0 THEN 'NULL' END, 'b' || i], i FROM generate_series(1, 40) AS i")
			o.must(0, "run", "--sql", "UPDATE k SET n = n + 100 WHERE n > 0", "--accept", "any", "--batch", "7")
			if got := o.one("SELECT count(*) FROM k WHERE n > 100"); got != "40" {
				t.Errorf("%s of 40 rows were changed", got)
			}
		})
	}
}

// TestSessionsThatBeginOtherwise: a server may begin sessions with settings of its own, by which texts are read
// in another encoding, reading stops after some rows, and what is written is not committed.
func TestSessionsThatBeginOtherwise(t *testing.T) {
	t.Parallel()
	_, d := ownMariaDB(t, "character-set-server=latin1", "skip-character-set-client-handshake", "max-allowed-packet=1M",
		"init-connect=SET autocommit = 0, sql_select_limit = 5, sql_auto_is_null = 1, foreign_key_checks = 0")
	d.exec("CREATE USER clerk@'%' IDENTIFIED BY 'x'", "GRANT ALL ON saltmere.* TO clerk@'%'", "GRANT PROCESS ON *.* TO clerk@'%'",
		"CREATE TABLE t (id int AUTO_INCREMENT PRIMARY KEY, word varchar(40) CHARACTER SET utf8mb4, n int, note text)",
		"INSERT INTO t (word, n) SELECT concat(CONVERT(UNHEX('C3A9') USING utf8mb4), seq), seq FROM seq_1_to_600")
	var lines strings.Builder
	lines.WriteString("id,note\n")
	for i := range 600 {
		fmt.Fprintf(&lines, "%d,%s\n", i+1, strings.Repeat("y", 3000))
	}
	root, found := strings.CutPrefix(d.url, "mariadb://root@")
	if !found {
		t.Fatal(d.url)
	}
	d.url = "mariadb://clerk:x@" + root
	rows := func() []string {
		return d.lines("SELECT concat(id, ' ', hex(word), ' ', n, ' ', coalesce(md5(note), '-')) FROM t ORDER BY id")
	}
	before := rows()
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"--sql", "UPDATE t SET word = concat(word, 'ü') WHERE word LIKE 'é%'"}, "SELECT count(*) FROM t WHERE hex(word) LIKE 'C3A9%C3BC'"},
		{[]string{d.job("[[step]]\nin = [\"t.word\"]\nreplace = { find = \"é\", with = \"è\" }\n")}, "SELECT count(*) FROM t WHERE hex(word) LIKE 'C3A8%'"},
		{[]string{"--sql", "UPDATE t SET n = n + 1000 WHERE n > 0", "--method", "roster"}, "SELECT count(*) FROM t WHERE n > 1000"},
		{[]string{d.job("[[step]]\ntable = \"t\"\nchanges = '" + d.list("notes.csv", lines.String()) + "'\naction = \"update\"\n")}, "SELECT count(*) FROM t WHERE length(note) = 3000"},
	} {
		d.must(0, append([]string{"run", "--accept", "600", "--batch", "50"}, c.args...)...)
		if got := d.one(c.want); got != "600" {
			t.Errorf("%v: %s of 600 rows", c.args, got)
		}
		run := d.lastRun()
		d.must(0, "verify", run)
		d.must(0, "undo", run)
		same(t, "undo of "+strings.Join(c.args, " "), rows(), before)
	}
}

// TestTimeLimits: where a server ends a statement that only looks, what it says comes with what to do about it.
func TestTimeLimits(t *testing.T) {
	servers(t, func(t *testing.T, d *database) {
		d.exec("CREATE TABLE t (id integer PRIMARY KEY, n integer)", "INSERT INTO t VALUES (1, 1)")
		user := "clerk_" + d.one(d.by("SELECT DATABASE()", "SELECT current_database()"))
		sql, want := "UPDATE t SET n = 2 WHERE sleep(100000) = 0", "MAX_STATEMENT_TIME"
		if d.engine == "mariadb" {
			d.exec("CREATE USER "+user+"@'%' IDENTIFIED BY 'x' WITH MAX_STATEMENT_TIME 2", "GRANT ALL ON *.* TO "+user+"@'%'")
			t.Cleanup(func() { d.exec("DROP USER " + user + "@'%'") })
			d.url = strings.Replace(d.url, "root@", user+":x@", 1)
		} else {
			sql, want = "UPDATE t SET n = 2 WHERE pg_sleep(100000) IS NOT NULL", "statement_timeout=0 in the URL"
			d.url += "&statement_timeout=2s"
		}
		if o := d.must(1, "preview", "--sql", sql); !strings.Contains(o.err, want) {
			t.Errorf("it says %s", o.err)
		}
	})
}
