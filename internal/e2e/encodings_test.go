package e2e

import (
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
	d.exec("ALTER DATABASE " + name + "_utf SET client_encoding = 'LATIN1'")
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
		})
	}
}
