package e2e

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"
	"unsafe"
)

// terminal opens a pseudo-terminal of the given width (pty(7)): the side we
// hold, and the side that the program gets.
func terminal(t *testing.T, width uint16) (ours, theirs *os.File) {
	t.Helper()
	ours, err := os.OpenFile("/dev/ptmx", os.O_RDWR, 0)
	if err != nil {
		t.Skip(err)
	}
	t.Cleanup(func() { ours.Close() })
	control := func(request uintptr, arg unsafe.Pointer) {
		if _, _, e := syscall.Syscall(syscall.SYS_IOCTL, ours.Fd(), request, uintptr(arg)); e != 0 {
			t.Fatal(e)
		}
	}
	var unlock, number int32
	control(syscall.TIOCSPTLCK, unsafe.Pointer(&unlock))
	control(syscall.TIOCGPTN, unsafe.Pointer(&number))
	size := [4]uint16{40, width, 0, 0}
	control(syscall.TIOCSWINSZ, unsafe.Pointer(&size))
	theirs, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", number), os.O_RDWR|syscall.O_NOCTTY, 0)
	if err != nil {
		t.Fatal(err)
	}
	return ours, theirs
}

// converse runs the program at a terminal, answering each question when it
// comes, and gives all that it wrote and its exit status.
func converse(t *testing.T, d *database, width uint16, env []string, answers [][2]string, args ...string) (string, int) {
	t.Helper()
	ours, theirs := terminal(t, width)
	cmd := exec.Command(bin, append(args, "--db", d.url)...)
	cmd.Stdin, cmd.Stdout, cmd.Stderr = theirs, theirs, theirs
	cmd.Env = append(os.Environ(), append(env, "TERM=xterm-256color")...)
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	theirs.Close()
	timer := time.AfterFunc(time.Minute, func() { cmd.Process.Kill() })
	defer timer.Stop()
	var all strings.Builder
	buf := make([]byte, 4096)
	seen := 0
	for {
		n, err := ours.Read(buf)
		all.Write(buf[:n])
		if len(answers) > 0 && strings.Contains(all.String()[seen:], answers[0][0]) {
			seen = all.Len()
			fmt.Fprintln(ours, answers[0][1])
			answers = answers[1:]
		}
		if err != nil { // EIO: the program has closed its side
			break
		}
	}
	err := cmd.Wait()
	var ee *exec.ExitError
	if err != nil && !errors.As(err, &ee) {
		t.Fatal(err)
	}
	if len(answers) > 0 {
		t.Errorf("it never asked %q:\n%s", answers[0][0], all.String())
	}
	return all.String(), cmd.ProcessState.ExitCode()
}

// TestAtATerminal: a person is asked for parameters and for the number of rows.
func TestAtATerminal(t *testing.T) {
	d := fresh(t, "sqlite")
	d.killTable()
	job := filepath.Join(t.TempDir(), "job.toml")
	os.WriteFile(job, []byte("[param.add]\ntype = \"integer\"\nask = \"How much?\"\n[[step]]\ntable = \"t\"\nwhere = \"id % 10 <> 0\"\nset = { n = \"n + :add\" }\n"), 0o644)
	out, status := converse(t, d, 100, nil, [][2]string{{"How much?", "much"}, {"How much?", "1"}, {"(90,000)", "9000"}}, "run", job)
	if status != 3 || !strings.Contains(out, `"much" is not an integer`) || !strings.Contains(out, "nothing was changed") {
		t.Fatalf("exit status %d\n%s", status, out)
	}
	d.unchanged()
	out, status = converse(t, d, 100, nil, [][2]string{{"How much?", "0"}}, "run", job)
	if status != 0 || !strings.Contains(out, "No row would change") {
		t.Fatalf("exit status %d\n%s", status, out)
	}
	out, status = converse(t, d, 100, nil, [][2]string{{"How much?", "1"}, {"(90,000)", "90,000"}}, "run", job, "--hold", "10ms")
	if status != 0 {
		t.Fatalf("exit status %d\n%s", status, out)
	}
	for _, want := range []string{"\x1b[J", " s left", "rows/s", "\x1b[32m", "ours alone", "jugatum undo 1"} {
		if !strings.Contains(out, want) {
			t.Errorf("%q is not shown:\n%q", want, out)
		}
	}
	if got := d.one("SELECT sum(n) FROM t"); got != fmt.Sprint(killRows/1000*499500+90000) {
		t.Error(got)
	}
	// Narrow, and without colours: no line is wider than the window, and only the cursor is moved.
	out, status = converse(t, d, 40, []string{"NO_COLOR=1"}, nil, "undo", "1", "--hold", "10ms")
	if status != 0 {
		t.Fatalf("exit status %d\n%s", status, out)
	}
	block, _, _ := strings.Cut(out, "run 2 (undo")
	for _, line := range strings.FieldsFunc(block, func(r rune) bool { return r == '\n' || r == '\r' }) {
		for strings.HasPrefix(line, "\x1b[") {
			line = line[strings.IndexAny(line, "AJ")+1:]
		}
		if len([]rune(line)) > 40 || strings.Contains(line, "\x1b[3") {
			t.Errorf("%q", line)
		}
	}
	d.unchanged()
}
