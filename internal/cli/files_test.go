package cli

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
)

// TestCells: no text is a formula to a spreadsheet, and numbers stay numbers.
func TestCells(t *testing.T) {
	for in, want := range map[string]string{
		"": "", "quay": "quay", "-5": "-5", "+1.5e3": "+1.5e3", "=1+1": "'=1+1", "+cmd|' /C calc'!A0": "'+cmd|' /C calc'!A0", "-2+3": "'-2+3", "@SUM(A1)": "'@SUM(A1)", "\t=1": "'\t=1", "\r=1": "'\r=1", "a=1": "a=1",
	} {
		if got := cell(in); got != want {
			t.Errorf("%q is written as %q, want %q", in, got, want)
		}
	}
}

// TestNewFiles: what is written is a new file, for this user alone.
func TestNewFiles(t *testing.T) {
	dir := t.TempDir()
	f, err := create(filepath.Join(dir, "new"))
	if err != nil {
		t.Fatal(err)
	}
	f.Close()
	if st, err := os.Stat(f.Name()); err != nil || st.Mode() != 0o600 {
		t.Error(st.Mode(), err)
	}
	link := filepath.Join(dir, "link")
	if err := os.Symlink(filepath.Join(dir, "elsewhere"), link); err != nil {
		t.Fatal(err)
	}
	for _, path := range []string{f.Name(), link, dir, filepath.Join(dir, "no", "such")} {
		if _, err := create(path); err == nil || status(err) != exitUsage {
			t.Errorf("%s: %v", path, err)
		}
	}
}

// TestJobFiles: a job is a regular file of a size that somebody can have written.
func TestJobFiles(t *testing.T) {
	dir := t.TempDir()
	pipe, large, good := filepath.Join(dir, "pipe"), filepath.Join(dir, "large"), filepath.Join(dir, "good")
	if err := syscall.Mkfifo(pipe, 0o600); err != nil {
		t.Fatal(err)
	}
	for path, size := range map[string]int64{large: largestJob + 1, good: 9} {
		if err := os.WriteFile(path, nil, 0o600); err != nil {
			t.Fatal(err)
		}
		if err := os.Truncate(path, size); err != nil {
			t.Fatal(err)
		}
	}
	for path, want := range map[string]string{pipe: "no regular file", dir: "no regular file", large: "16 MiB", filepath.Join(dir, "none"): "no such file"} {
		if _, err := readJob(path); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, want %s", path, err, want)
		}
	}
	if text, err := readJob(good); err != nil || len(text) != 9 {
		t.Error(len(text), err)
	}
}
