// Package internal_test holds the layout to what docs/architecture.md says of it.
package internal_test

import (
	"os/exec"
	"strings"
	"testing"
)

// TestPurePackages keeps drivers and terminals out of the packages that only compute.
func TestPurePackages(t *testing.T) {
	for _, p := range []string{"job", "sqltext", "change", "kind", "kind/fill", "kind/move", "hazard", "pace", "rewrite", "generated"} {
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
var order = []string{"cli", "plan", "report", "verify", "preview", "find", "survey", "harbour", "runner", "seal", "ledger", "engine/sqlite", "engine/postgres", "engine/mariadb", "engine", "job", "hazard", "kind/fill", "kind/move", "kind", "change", "sqltext", "rewrite", "pace", "term"}

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
