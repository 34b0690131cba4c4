// Package internal_test holds the layout to what docs/architecture.md says of it.
package internal_test

import (
	"os/exec"
	"slices"
	"strings"
	"testing"
)

// TestPurePackages keeps drivers and terminals out of the packages that only compute.
func TestPurePackages(t *testing.T) {
	for _, p := range []string{"job", "sqltext", "change", "dialect", "kind", "kind/fill", "kind/shape", "kind/merge", "kind/move", "kind/changes", "kind/each", "list", "hazard", "pace", "rewrite", "generated", "timeline", "plots"} {
		out, err := exec.Command("go", "list", "-deps", "jugatum/internal/"+p).Output()
		if err != nil {
			t.Fatal(err)
		}
		for _, dep := range strings.Fields(string(out)) {
			for _, bad := range []string{"database/sql", "github.com/jackc/", "modernc.org/", "github.com/go-sql-driver/", "jugatum/internal/engine", "jugatum/internal/cli", "jugatum/internal/term", "github.com/urfave/"} {
				if strings.HasPrefix(dep, bad) {
					t.Errorf("%s depends on %s", p, dep)
				}
			}
		}
	}
}

// order is the layout from top to bottom; dependencies point downwards.
var order = []string{"cli", "events", "page", "plan", "report", "kept", "verify", "trial", "aftercare", "preview", "find", "survey", "harbour", "runner", "seal", "ledger", "engine/sqlite", "engine/postgres", "engine/mariadb", "engine", "job", "hazard", "kind/fill", "kind/merge", "kind/move", "kind/changes", "kind/each", "kind", "dialect", "change", "sqltext", "list", "rewrite", "shape", "pace", "timeline", "plots", "term"}

// TestNobodyAsksWhichDialect: what differs between servers is asked of the dialect that a
// database has; only engines name theirs.
func TestNobodyAsksWhichDialect(t *testing.T) {
	out, err := exec.Command("go", "list", "-f", `{{.ImportPath}} {{join .Imports " "}}`, "jugatum/...").Output()
	if err != nil {
		t.Fatal(err)
	}
	named := 0
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		p, imports, _ := strings.Cut(line, " ")
		if !slices.Contains(strings.Fields(imports), "jugatum/internal/dialect") {
			continue
		}
		named++
		if !strings.HasPrefix(p, "jugatum/internal/engine/") {
			t.Errorf("%s names a dialect", p)
		}
	}
	if named < 3 {
		t.Errorf("%d packages name a dialect", named)
	}
}

func TestDependenciesPointDownwards(t *testing.T) {
	rank := map[string]int{}
	for i, p := range order {
		rank["jugatum/internal/"+p] = i
	}
	for _, p := range order {
		out, err := exec.Command("go", "list", "-f", `{{join .Imports "\n"}}`, "jugatum/internal/"+p).Output()
		if err != nil {
			t.Fatal(err)
		}
		for _, dep := range strings.Fields(string(out)) {
			r, ours := rank[dep]
			if ours && r <= rank["jugatum/internal/"+p] {
				t.Errorf("%s imports %s, which lies above it", p, dep)
			}
		}
	}
}
