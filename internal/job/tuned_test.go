package job

import "testing"

// TestTuned: what a trial has found goes into the file, and all else stays as it was written.
func TestTuned(t *testing.T) {
	for _, x := range []struct{ name, text, want string }{
		{"nothing there yet", "title = 'a' # a title\n\n[[step]]\nsql = 'DELETE FROM t WHERE n = 1'\n\n  [[step]] # the second\n  table = 't'\n  where = 'n = 2'\n  set = { n = '3' }",
			"title = 'a' # a title\n\n[limits]\nworkers = 2\n\n[[step]]\nmethod = \"roster\"\nsql = 'DELETE FROM t WHERE n = 1'\n\n  [[step]] # the second\nmethod = \"sweep\"\n  table = 't'\n  where = 'n = 2'\n  set = { n = '3' }"},
		{"there already", "[limits]\nhold = \"50ms\"\n  workers   = 4 # of two processors\n[[step]]\nmethod='single'\nsql = 'DELETE FROM t WHERE n = 1'\n[[step]]\nsql = '''DELETE FROM t\n[[step]]\nWHERE n = 2'''\n",
			"[limits]\nhold = \"50ms\"\n  workers   = 2 # of two processors\n[[step]]\nmethod= \"roster\"\nsql = 'DELETE FROM t WHERE n = 1'\n[[step]]\nmethod = \"sweep\"\nsql = '''DELETE FROM t\n[[step]]\nWHERE n = 2'''\n"},
		{"without a last newline", "[[step]]\nsql = 'DELETE FROM t WHERE n = 1'\n[[step]]\nsql = 'DELETE FROM t WHERE n = 2'\n[limits]", "[[step]]\nmethod = \"roster\"\nsql = 'DELETE FROM t WHERE n = 1'\n[[step]]\nmethod = \"sweep\"\nsql = 'DELETE FROM t WHERE n = 2'\n[limits]\nworkers = 2\n"},
	} {
		j, err := Parse("a.toml", []byte(x.text))
		if err != nil {
			t.Fatal(x.name, err)
		}
		got, err := j.Tuned(Tuning{Methods: []string{"roster", "sweep"}, Workers: 2})
		if err != nil || got != x.want {
			t.Errorf("%s: %v\n%s\nexpected\n%s", x.name, err, got, x.want)
		}
		again, err := Parse("a.toml", []byte(got))
		if err != nil || again.Limits.Workers != 2 || again.Steps[0].Method != "roster" || again.Steps[1].Method != "sweep" {
			t.Errorf("%s: %v", x.name, err)
		}
	}
	for text, want := range map[string]string{
		"limits = { workers = 4 }\n[[step]]\nsql = 'DELETE FROM t WHERE n = 1'\n": "line 1 holds more than workers: change it by hand, to workers = 2",
		"limits = { hold = '1s' }\n[[step]]\nsql = 'DELETE FROM t WHERE n = 1'\n": "limits is not written as a table with a header: add workers = 2 by hand",
	} {
		j, err := Parse("a.toml", []byte(text))
		if err != nil {
			t.Fatal(err)
		}
		if _, err := j.Tuned(Tuning{Methods: []string{""}, Workers: 2}); err == nil || err.Error() != want {
			t.Errorf("%v\nexpected %s", err, want)
		}
	}
	if _, err := FromSQL("DELETE FROM t").Tuned(Tuning{Workers: 2}); err == nil {
		t.Error("a statement has a file")
	}
	if _, err := Parse("a.toml", []byte("[[step]]\nmethod = 'fast'\nsql = 'DELETE FROM t WHERE n = 1'\n")); err == nil || err.Error() != `a.toml:2:1: step "step 1": method: "fast" is not sweep, roster or single` {
		t.Error(err)
	}
}
