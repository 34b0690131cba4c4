package seal

import (
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
)

func TestSealsTellWhoMadeARecord(t *testing.T) {
	open := func(dir string) *Key {
		k, err := Open(dir)
		if err != nil {
			t.Fatal(err)
		}
		return k
	}
	dir := filepath.Join(t.TempDir(), "a", "jugatum")
	mine, again, other := open(dir), open(dir), open(t.TempDir())
	record := []byte("UPDATE berth SET day_rate = 1")
	s := mine.Seal(record)
	for _, c := range []struct {
		key    *Key
		record string
		seal   string
		want   Verdict
	}{
		{again, string(record), s, Genuine},
		{again, string(record) + "0", s, Changed},
		{again, string(record), s[:len(s)-1], Changed},
		{again, string(record), strings.Replace(s, ":", "", 1), Unknown},
		{again, string(record), "", Unknown},
		{other, string(record), s, Unknown},
	} {
		if got := c.key.Check([]byte(c.record), c.seal); got != c.want {
			t.Errorf("%q, %q: %v, want %v", c.record, c.seal, got, c.want)
		}
	}
	if entries, _ := os.ReadDir(dir); len(entries) != 1 {
		t.Errorf("left behind: %v", entries)
	}
}

// TestOneKey: of many that make it at once all have the same.
func TestOneKey(t *testing.T) {
	dir, names := t.TempDir(), make([]string, 20)
	var wg sync.WaitGroup
	for i := range names {
		wg.Add(1)
		go func() {
			defer wg.Done()
			k, err := Open(dir)
			if err != nil {
				t.Error(err)
				return
			}
			names[i] = k.name()
		}()
	}
	wg.Wait()
	for _, n := range names {
		if n != names[0] {
			t.Fatalf("%q", names)
		}
	}
}

// TestKeysOfOthers: a key that somebody else may know or have put there is not used.
func TestKeysOfOthers(t *testing.T) {
	for name, do := range map[string]func(dir, path string) error{
		"readable":  func(_, path string) error { return os.Chmod(path, 0o644) },
		"a link":    func(dir, path string) error { return os.Rename(path, path+"2") },
		"too short": func(_, path string) error { return os.WriteFile(path, []byte("00ff"), 0o600) },
		"a folder":  func(_, path string) error { os.Remove(path); return os.Mkdir(path, 0o700) },
	} {
		dir := t.TempDir()
		path := filepath.Join(dir, "key")
		if _, err := Open(dir); err != nil {
			t.Fatal(err)
		}
		if err := do(dir, path); err != nil {
			t.Fatal(err)
		}
		if name == "a link" {
			if err := os.Symlink(path+"2", path); err != nil {
				t.Fatal(err)
			}
		}
		if _, err := Open(dir); err == nil {
			t.Errorf("%s: it is used", name)
		}
	}
}
