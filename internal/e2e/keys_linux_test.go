package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"golang.org/x/sys/unix"
)

// seat is a terminal at which the program runs: what is typed at it, and what is shown.
type seat struct {
	t      testing.TB
	master *os.File
	tty    *os.File
	cmd    *exec.Cmd
	modes  string // a file, with the terminal's modes before and after

	mu    sync.Mutex
	shown bytes.Buffer
}

// sit runs the program at a terminal of so many columns and lines.
func (d *database) sit(columns, lines uint16, args ...string) *seat {
	d.t.Helper()
	fd, err := unix.Open("/dev/ptmx", unix.O_RDWR|unix.O_NOCTTY|unix.O_CLOEXEC, 0)
	if err != nil {
		d.t.Skipf("there are no terminals here: %v", err)
	}
	s := &seat{t: d.t, master: os.NewFile(uintptr(fd), "ptmx")}
	if err := unix.IoctlSetPointerInt(fd, unix.TIOCSPTLCK, 0); err != nil {
		d.t.Fatal(err)
	}
	n, err := unix.IoctlGetInt(fd, unix.TIOCGPTN)
	if err != nil {
		d.t.Fatal(err)
	}
	if s.tty, err = os.OpenFile(fmt.Sprintf("/dev/pts/%d", n), os.O_RDWR|unix.O_NOCTTY, 0); err != nil {
		d.t.Fatal(err)
	}
	s.size(columns, lines)
	// The shell is what the terminal belongs to: its modes are gone with whom it belongs to.
	s.modes = filepath.Join(d.t.TempDir(), "modes")
	s.cmd = exec.Command("sh", append([]string{"-c", `stty -g >"$0"; "$@"; ended=$?; stty -g >>"$0"; exit $ended`, s.modes, bin}, append(args, "--db", d.url)...)...)
	s.cmd.Stdin, s.cmd.Stdout, s.cmd.Stderr = s.tty, s.tty, s.tty
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	if err := s.cmd.Start(); err != nil {
		d.t.Fatal(err)
	}
	d.t.Cleanup(func() {
		syscall.Kill(-s.cmd.Process.Pid, syscall.SIGKILL)
		s.master.Close()
		s.tty.Close()
	})
	go func() {
		b := make([]byte, 4096)
		for {
			n, err := s.master.Read(b)
			s.mu.Lock()
			s.shown.Write(b[:n])
			s.mu.Unlock()
			if err != nil {
				return
			}
		}
	}()
	return s
}

func (s *seat) size(columns, lines uint16) {
	if err := unix.IoctlSetWinsize(int(s.tty.Fd()), unix.TIOCSWINSZ, &unix.Winsize{Row: lines, Col: columns}); err != nil {
		s.t.Fatal(err)
	}
}

// types a key.
func (s *seat) types(key string) {
	if _, err := s.master.WriteString(key); err != nil {
		s.t.Fatal(err)
	}
}

// shows reports whether a text has been on the screen.
func (s *seat) shows(text string) func() bool {
	return func() bool {
		s.mu.Lock()
		defer s.mu.Unlock()
		return strings.Contains(s.shown.String(), text)
	}
}

// ends waits for the program's end and holds its status and the terminal against what they should be.
func (s *seat) ends(status int) {
	s.t.Helper()
	s.cmd.Wait()
	if got := s.cmd.ProcessState.ExitCode(); got != status {
		s.t.Errorf("%v: exit status %d, expected %d; it showed\n%s", s.cmd.Args, got, status, s.shown.String())
	}
	text, err := os.ReadFile(s.modes)
	if modes := strings.Fields(string(text)); err != nil || len(modes) != 2 || modes[0] != modes[1] {
		s.t.Errorf("the terminal is not as it was: %s", text)
	}
}

// TestKeys: keys at the terminal of a run steer it, and are on record as the commands' words are;
// where there is no room to say what they do they do nothing; those of a watcher leave the run going.
func TestKeys(t *testing.T) {
	engines(t, func(t *testing.T, d *database) {
		d.killTable()
		now := time.Now() // a window that is closed for hours: the run waits before its first batch
		window := now.Add(3*time.Hour).Format("15:04") + "-" + now.Add(4*time.Hour).Format("15:04")
		said := func(kind, args string) func() bool {
			return func() bool {
				return d.haveLedger() && d.one("SELECT count(*) FROM "+d.ledger("signal")+" WHERE kind = '"+kind+"' AND args LIKE '%"+args+"%' AND seen_at IS NOT NULL") != "0"
			}
		}
		words := func() string { return strings.Join(d.lines("SELECT kind FROM "+d.ledger("signal")+" ORDER BY n"), " ") }
		run := d.sit(80, 24, "run", "--sql", "UPDATE t SET n = n + 1", "--every-row", "--accept", "any", "--window", window)
		d.until("the run waits", run.shows("outside"))
		run.types("s") // which must not be obeyed: nobody was told of it
		d.until("that is told", run.shows("keys steer the run at a terminal of"))
		run.size(120, 40)
		d.until("keys are told", run.shows("? help"))
		run.types("?")
		d.until("they are explained", run.shows("pause after the batch under way"))
		if got := words(); got != "" {
			t.Errorf("an unseen key has said %s", got)
		}
		run.types("+")
		d.until("the target is another", said("tune", "500ms"))
		run.types("p")
		d.until("it is paused", said("pause", ""))
		d.until("that is shown", run.shows("paused by"))

		watch := d.sit(120, 40, "watch", "1")
		d.until("keys are told", watch.shows("q leave"))
		watch.types("g")
		d.until("it goes on", said("go on", ""))
		watch.types("q")
		watch.ends(0)

		if d.engine == "sqlite" {
			run.types("w")
			d.until("that is refused", run.shows("one"))
		} else {
			run.types("w")
			d.until("there are two workers", said("tune", `workers`))
		}
		run.types("s")
		run.ends(4)
		if d.engine == "sqlite" {
			if got := words(); got != "tune pause go on stop" {
				t.Error(got)
			}
		} else if got := words(); got != "tune pause go on tune stop" {
			t.Error(got)
		}
		d.unchanged()
	})
}
