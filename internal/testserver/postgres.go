// Package testserver starts database servers for tests and benchmarks: from the
// binaries installed on this machine, on a free port of the loopback interface,
// in a temporary folder, and stops them afterwards. It never touches a server
// that was there before.
package testserver

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// ErrMissing says that the server's binaries are not installed.
var ErrMissing = errors.New("the server is not installed; scripts/test says what is missing, and installs it where it may")

// Postgres is a running server of our own.
type Postgres struct {
	Port int
	Dir  string
	bin  string
	cred *syscall.SysProcAttr
	conf []string
}

// StartPostgres makes a new cluster and starts it. Settings are NAME=VALUE.
func StartPostgres(settings ...string) (*Postgres, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if bin := os.Getenv("JUGATUM_POSTGRES"); bin != "" { // of another version: see scripts/test
		found = []string{filepath.Join(bin, "initdb")}
	}
	if len(found) == 0 {
		path, err := exec.LookPath("initdb")
		if err != nil {
			return nil, ErrMissing
		}
		found = []string{path}
	}
	sort.Strings(found)
	p := &Postgres{bin: filepath.Dir(found[len(found)-1]), conf: settings}
	var err error
	if p.Dir, err = os.MkdirTemp("", "jugatum-pg-"); err != nil {
		return nil, err
	}
	if os.Geteuid() == 0 { // the server refuses to run as root
		u, err := user.Lookup("postgres")
		if err != nil {
			return nil, err
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		p.cred = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
		if err := os.Chown(p.Dir, uid, gid); err != nil {
			return nil, err
		}
	}
	if err := p.call("initdb", "-D", p.data(), "-A", "trust", "-U", "postgres", "-E", "UTF8", "--locale=C.UTF-8"); err != nil {
		p.Stop()
		return nil, err
	}
	if p.Port, err = freePort(); err != nil {
		return nil, err
	}
	if err := p.Start(); err != nil {
		p.Stop()
		return nil, err
	}
	return p, nil
}

func (p *Postgres) data() string { return filepath.Join(p.Dir, "data") }

func (p *Postgres) call(name string, args ...string) error {
	cmd := exec.Command(filepath.Join(p.bin, name), args...)
	cmd.SysProcAttr = p.cred
	cmd.Dir = p.Dir
	out, err := cmd.CombinedOutput()
	if err != nil {
		log, _ := os.ReadFile(filepath.Join(p.Dir, "log"))
		return fmt.Errorf("%s: %w\n%s%s", name, err, out, log)
	}
	return nil
}

// Start starts the server, again after a Halt.
func (p *Postgres) Start() error {
	opts := fmt.Sprintf("-p %d -k %s -c listen_addresses=127.0.0.1", p.Port, p.Dir)
	for _, s := range p.conf {
		opts += " -c " + s
	}
	var err error
	for try := 0; try < 3; try++ {
		// The log goes to a file, so that the server does not hold our pipes open.
		if err = p.call("pg_ctl", "-D", p.data(), "-o", opts, "-l", filepath.Join(p.Dir, "log"), "-w", "-t", "60", "start"); err == nil {
			return nil
		}
		time.Sleep(time.Second)
	}
	return err
}

// Halt stops the server in one of pg_ctl's modes: smart, fast or immediate.
func (p *Postgres) Halt(mode string) error {
	return p.call("pg_ctl", "-D", p.data(), "-m", mode, "-w", "stop")
}

// Stop ends the server and removes its folder.
func (p *Postgres) Stop() {
	p.Halt("immediate")
	os.RemoveAll(p.Dir)
}

// Promote makes a standby the primary.
func (p *Postgres) Promote() error {
	return p.call("pg_ctl", "-D", p.data(), "-w", "promote")
}

// Standby makes a streaming standby of the server and starts it.
func (p *Postgres) Standby() (*Postgres, error) {
	s := &Postgres{bin: p.bin, cred: p.cred, conf: append(append([]string(nil), p.conf...), "hot_standby=on")}
	var err error
	if s.Dir, err = os.MkdirTemp("", "jugatum-pg-"); err != nil {
		return nil, err
	}
	if p.cred != nil {
		if err := os.Chown(s.Dir, int(p.cred.Credential.Uid), int(p.cred.Credential.Gid)); err != nil {
			return nil, err
		}
	}
	if err := s.call("pg_basebackup", "-D", s.data(), "-h", "127.0.0.1", "-p", strconv.Itoa(p.Port), "-U", "postgres", "-R", "-X", "stream", "-c", "fast"); err != nil {
		s.Stop()
		return nil, err
	}
	if s.Port, err = freePort(); err == nil {
		err = s.Start()
	}
	if err != nil {
		s.Stop()
		return nil, err
	}
	return s, nil
}

// SlowReplay lets a standby replay its log for only a share of the time, until
// the function that it gives is called.
func (p *Postgres) SlowReplay(share float64) (end func(), err error) {
	children, err := os.ReadFile(filepath.Join(p.data(), "postmaster.pid"))
	if err != nil {
		return nil, err
	}
	parent, _, _ := strings.Cut(string(children), "\n")
	startup := 0
	stats, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, path := range stats {
		text, _ := os.ReadFile(path)
		_, rest, _ := strings.Cut(string(text), ") ") // after the name: state, parent
		title, _ := os.ReadFile(filepath.Join(filepath.Dir(path), "cmdline"))
		if f := strings.Fields(rest); len(f) > 1 && f[1] == parent && strings.Contains(string(title), "startup") {
			startup, _ = strconv.Atoi(filepath.Base(filepath.Dir(path)))
		}
	}
	if startup == 0 {
		return nil, fmt.Errorf("no process of %s replays log", p.Dir)
	}
	const turn = 50 * time.Millisecond
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		defer syscall.Kill(startup, syscall.SIGCONT)
		for {
			for _, x := range []struct {
				signal syscall.Signal
				share  float64
			}{{syscall.SIGCONT, share}, {syscall.SIGSTOP, 1 - share}} {
				if syscall.Kill(startup, x.signal) != nil {
					return
				}
				select {
				case <-stop:
					return
				case <-time.After(time.Duration(x.share * float64(turn))):
				}
			}
		}
	}()
	return sync.OnceFunc(func() { close(stop); <-stopped }), nil
}

// URL names a database of the server.
func (p *Postgres) URL(database string) string {
	return fmt.Sprintf("postgres://postgres@127.0.0.1:%d/%s?sslmode=disable", p.Port, database)
}

// given are the ports that freePort has given, whose servers may not have begun yet.
var given sync.Map

// freePort finds a port that nobody uses now, below those that the system gives
// to outgoing connections: one of these could be taken between here and the
// server's start.
func freePort() (int, error) {
	const from, to = 20_000, 32_000
	for range 100 {
		port := from + rand.IntN(to-from)
		if _, taken := given.LoadOrStore(port, true); taken {
			continue
		}
		l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil {
			return port, l.Close()
		}
	}
	return 0, fmt.Errorf("no free port from %d to %d", from, to)
}
