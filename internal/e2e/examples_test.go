package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// TestExamples carries out every example on the demo's data, on each engine, and takes it
// back; each is in the list, and the list has no other.
func TestExamples(t *testing.T) {
	list, err := os.ReadFile("../../examples/README.md")
	if err != nil {
		t.Fatal(err)
	}
	files, err := filepath.Glob("../../examples/*.toml")
	if err != nil || len(files) < 7 || strings.Count(string(list), ".toml](") != len(files) {
		t.Fatalf("%q, %v", files, err)
	}
	engines(t, func(t *testing.T, d *database) {
		d.within = true
		d.harbourIn()
		for _, f := range files {
			if !strings.Contains(string(list), "["+filepath.Base(f)+"](") {
				t.Errorf("%s is not in the list", f)
			}
			d.must(0, "preview", f, "--despite", "no-undo")
			d.must(0, "run", f, "--accept", "any", "--despite", "no-undo")
			run := d.lastRun()
			if d.one("SELECT sum(changed) FROM "+d.ledger("batch")+" WHERE run = "+run) == "0" {
				t.Errorf("%s changes nothing", f)
			}
			d.must(0, "verify", run)
			if filepath.Base(f) == "each.toml" { // of which nothing is kept
				d.must(3, "undo", run)
				continue
			}
			d.must(0, "undo", run)
			d.must(0, "verify", d.lastRun())
		}
	})
}
