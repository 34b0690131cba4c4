package testserver

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	_ "github.com/go-sql-driver/mysql" // to ask whether the server is up
)

// MariaDB is a server of our own.
type MariaDB struct {
	Dir  string
	Port int
	conf []string
	once []string // settings of the next start only
	cred *syscall.SysProcAttr
	cmd  *exec.Cmd
	done chan struct{}
}

// StartMariaDB makes a data directory in a temporary folder and starts a server
// on it, on a free port of 127.0.0.1. settings are options without their dashes.
func StartMariaDB(settings ...string) (*MariaDB, error) {
	m, err := newMariaDB(settings)
	if err != nil {
		return nil, err
	}
	if err := m.Start(); err != nil {
		m.Stop()
		return nil, err
	}
	return m, nil
}

// newMariaDB makes the data directory of a server.
func newMariaDB(settings []string) (*MariaDB, error) {
	if _, err := exec.LookPath("mariadbd"); err != nil {
		return nil, ErrMissing
	}
	m := &MariaDB{conf: settings}
	var err error
	if m.Dir, err = os.MkdirTemp("", "jugatum-maria-"); err != nil {
		return nil, err
	}
	if os.Geteuid() == 0 { // the server refuses to run as root
		u, err := user.Lookup("mysql")
		if err != nil {
			return nil, err
		}
		uid, _ := strconv.Atoi(u.Uid)
		gid, _ := strconv.Atoi(u.Gid)
		m.cred = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}}
		if err := os.Chown(m.Dir, uid, gid); err != nil {
			return nil, err
		}
	}
	install := exec.Command("mariadb-install-db", "--no-defaults", "--datadir="+m.data(), "--auth-root-authentication-method=normal", "--skip-test-db", "--innodb-log-file-size=16M", "--tmpdir="+m.Dir)
	install.SysProcAttr, install.Dir = m.cred, m.Dir
	if out, err := install.CombinedOutput(); err != nil {
		m.Stop()
		return nil, fmt.Errorf("mariadb-install-db: %w\n%s", err, out)
	}
	m.Port, err = freePort()
	return m, err
}

func (m *MariaDB) data() string { return filepath.Join(m.Dir, "data") }

// Start starts the server and waits until it answers.
func (m *MariaDB) Start() error {
	args := []string{"--no-defaults", "--datadir=" + m.data(), "--bind-address=127.0.0.1", "--port=" + strconv.Itoa(m.Port), "--socket=" + filepath.Join(m.Dir, "sock"),
		"--pid-file=" + filepath.Join(m.Dir, "pid"), "--log-error=" + filepath.Join(m.Dir, "log.err"), "--skip-name-resolve", "--innodb-buffer-pool-size=64M", "--innodb-log-file-size=16M",
		"--max-allowed-packet=64M", "--tmpdir=" + m.Dir} // a server that starts clears its tmpdir of others' tables
	for _, s := range append(m.once, m.conf...) {
		args = append(args, "--"+s)
	}
	m.once = nil
	m.cmd = exec.Command("mariadbd", args...)
	m.cmd.SysProcAttr, m.cmd.Dir = m.cred, m.Dir
	if err := m.cmd.Start(); err != nil {
		return err
	}
	m.done = make(chan struct{})
	go func(cmd *exec.Cmd, done chan struct{}) {
		cmd.Wait()
		close(done)
	}(m.cmd, m.done)
	db, err := sql.Open("mysql", m.DSN("mysql"))
	if err != nil {
		return err
	}
	defer db.Close()
	for begin := time.Now(); ; {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		err := db.PingContext(ctx)
		cancel()
		if err == nil {
			return nil
		}
		select {
		case <-m.done:
			log, _ := os.ReadFile(filepath.Join(m.Dir, "log.err"))
			return fmt.Errorf("mariadbd ended: %s", tail(string(log)))
		default:
		}
		if time.Since(begin) > time.Minute {
			return errors.Join(err, errors.New("mariadbd does not answer"))
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// status reads one of the server's counters or states.
func (m *MariaDB) status(name string) (string, error) {
	db, err := sql.Open("mysql", m.DSN("mysql"))
	if err != nil {
		return "", err
	}
	defer db.Close()
	var key, value string
	err = db.QueryRow("SHOW GLOBAL STATUS LIKE '"+name+"'").Scan(&key, &value)
	return value, err
}

func tail(s string) string {
	lines := strings.Split(strings.TrimSpace(s), "\n")
	return strings.Join(lines[max(0, len(lines)-15):], "\n")
}

// URL names a database of the server for Jugatum.
func (m *MariaDB) URL(database string) string {
	return fmt.Sprintf("mariadb://root@127.0.0.1:%d/%s", m.Port, database)
}

// DSN names it for the driver.
func (m *MariaDB) DSN(database string) string {
	return fmt.Sprintf("root@tcp(127.0.0.1:%d)/%s?interpolateParams=true", m.Port, database)
}

// Kill ends the server at once, as a crash would.
func (m *MariaDB) Kill() {
	if m.cmd != nil && m.cmd.Process != nil {
		m.cmd.Process.Kill()
		<-m.done
		m.cmd = nil
	}
}

// Halt ends the server in order, for a Start later on.
func (m *MariaDB) Halt() error {
	if err := m.cmd.Process.Signal(syscall.SIGTERM); err != nil {
		return err
	}
	select {
	case <-m.done:
		m.cmd = nil
		return nil
	case <-time.After(time.Minute):
		return errors.New("mariadbd does not end")
	}
}

// Stop ends the server and removes its folder.
func (m *MariaDB) Stop() {
	m.Kill()
	os.RemoveAll(m.Dir)
}

// Replica starts a server that applies what m writes from now on. m needs
// log-bin and a server-id of 1.
func (m *MariaDB) Replica() (*MariaDB, error) {
	r, err := StartMariaDB("server-id=2", "innodb-flush-log-at-trx-commit=0")
	if err != nil {
		return nil, err
	}
	primary, err := sql.Open("mysql", m.DSN("mysql"))
	if err != nil {
		return r, err
	}
	defer primary.Close()
	var pos string
	if err := primary.QueryRow("SELECT @@gtid_binlog_pos").Scan(&pos); err != nil {
		return r, err
	}
	db, err := sql.Open("mysql", r.DSN("mysql"))
	if err != nil {
		return r, err
	}
	defer db.Close()
	for _, text := range []string{"SET GLOBAL gtid_slave_pos = '" + pos + "'",
		fmt.Sprintf("CHANGE MASTER TO master_host = '127.0.0.1', master_port = %d, master_user = 'root', master_use_gtid = slave_pos", m.Port), "START SLAVE"} {
		if _, err := db.Exec(text); err != nil {
			return r, fmt.Errorf("%s: %w", text, err)
		}
	}
	return r, nil
}
