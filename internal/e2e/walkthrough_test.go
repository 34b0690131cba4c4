package e2e

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestWalkthrough carries out docs/walkthrough.md as it stands there, on each engine: files are written,
// commands carried out, what they must say is looked for, statements are sent to the database.
func TestWalkthrough(t *testing.T) {
	text, err := os.ReadFile("../../docs/walkthrough.md")
	if err != nil {
		t.Fatal(err)
	}
	blocks := regexp.MustCompile("(?s)```([a-z]+) ?([^\n]*)\n(.*?)```").FindAllStringSubmatch(string(text), -1)
	if len(blocks) < 20 {
		t.Fatalf("only %d blocks", len(blocks))
	}
	engines(t, func(t *testing.T, d *database) {
		d.harbourOf(3000)
		dir := t.TempDir()
		said := ""
		for _, b := range blocks {
			switch kind, more, body := b[1], b[2], b[3]; kind {
			case "toml":
				if err := os.WriteFile(filepath.Join(dir, more), []byte(body), 0o644); err != nil {
					t.Fatal(err)
				}
			case "sh":
				for _, line := range strings.Split(strings.TrimSpace(body), "\n") {
					if out, done := d.walk(dir, line); done {
						said = out
					}
				}
			case "text":
				for _, line := range strings.Split(strings.TrimSpace(body), "\n") {
					if !strings.Contains(squeezed(said), squeezed(line)) {
						t.Fatalf("it does not say %q:\n%s", line, said)
					}
				}
			case "sql":
				if _, err := d.db.Exec(body); (err == nil) == (more == "refused") {
					t.Fatalf("%s: %v", body, err)
				}
			}
		}
	})
}

// squeezed is a text without what lays it out.
func squeezed(s string) string {
	return strings.Join(strings.Fields(strings.NewReplacer("⟦", "", "⟧", "").Replace(s)), " ")
}

// walk carries out a line of a shell, and gives what it says; those that make the demo's data are left out.
func (d *database) walk(dir, line string) (said string, done bool) {
	d.t.Helper()
	line, note, _ := strings.Cut(line, "  #")
	args := strings.Fields(line)
	if args[0] != "jugatum" || args[1] == "demo" {
		return "", false
	}
	status, to := 0, ""
	if strings.Contains(note, "status 3") {
		status = 3
	}
	args = args[1:]
	for i := range args {
		switch {
		case args[i] == ">":
			to, args = args[i+1], args[:i]
		case strings.HasSuffix(args[i], ".toml") || strings.HasSuffix(args[i], ".html") || strings.HasSuffix(args[i], ".csv"):
			args[i] = filepath.Join(dir, args[i])
		}
		if to != "" {
			break
		}
	}
	o := d.must(status, args...)
	if to != "" { // what is to be read is carried out here
		for _, text := range strings.Split(o.out, "\n") {
			if text != "" && !strings.HasPrefix(text, "--") {
				d.exec(strings.TrimSuffix(text, ";"))
			}
		}
	}
	return o.out + "\n" + o.err, true
}
