//go:build unix

package term

import (
	"errors"
	"os"
	"os/signal"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"
)

// Keys reads single keys from the terminal that is standard input, while something else goes on.
// Signals of the keyboard, such as that of Ctrl-C, are as before.
type Keys struct {
	C <-chan byte // every key that is typed; closed at the end

	end     chan struct{}  // closed to end the reader
	stopped sync.WaitGroup // the reader
	fd      int
	before  *unix.Termios // how the terminal was
}

var errBackground = errors.New("the terminal belongs to another job of its shell")

// keyWait is how long the reader waits for a key before it looks whether it is to end, in milliseconds.
const keyWait = 200

// OpenKeys has keys come without the Enter key and without being shown, until Close. It fails
// where standard input is no terminal, or is another job's.
func OpenKeys() (*Keys, error) {
	// A job in the background that reads from its terminal, or sets it, is stopped by the
	// system, with all that it has locked. This way it gets an error instead.
	signal.Ignore(syscall.SIGTTIN, syscall.SIGTTOU)
	fd := int(os.Stdin.Fd())
	before, err := unix.IoctlGetTermios(fd, getTermios)
	if err != nil {
		return nil, err
	}
	if !foreground(fd) {
		return nil, errBackground
	}
	now := *before
	now.Lflag &^= unix.ICANON | unix.ECHO
	now.Cc[unix.VMIN], now.Cc[unix.VTIME] = 1, 0
	if err := unix.IoctlSetTermios(fd, setTermios, &now); err != nil {
		return nil, err
	}
	c := make(chan byte)
	k := &Keys{C: c, end: make(chan struct{}), fd: fd, before: before}
	k.stopped.Add(1)
	go k.read(c)
	return k, nil
}

// foreground reports whether the terminal is ours to read; if that cannot be told, it is.
func foreground(fd int) bool {
	group, err := unix.IoctlGetInt(fd, unix.TIOCGPGRP)
	return err != nil || group == unix.Getpgrp()
}

func (k *Keys) read(c chan<- byte) {
	defer k.stopped.Done()
	defer close(c)
	for {
		select {
		case <-k.end:
			return
		default:
		}
		n, err := unix.Poll([]unix.PollFd{{Fd: int32(k.fd), Events: unix.POLLIN}}, keyWait)
		if err != nil && err != unix.EINTR {
			return
		}
		if n <= 0 {
			continue
		}
		var b [1]byte
		if n, err := unix.Read(k.fd, b[:]); err == unix.EINTR {
			continue
		} else if n != 1 || err != nil { // hung up, or in the background now
			return
		}
		select {
		case c <- b[0]:
		case <-k.end:
			return
		}
	}
}

// Close gives the terminal back as it was.
func (k *Keys) Close() {
	close(k.end)
	k.stopped.Wait()
	if foreground(k.fd) { // else the shell has it
		unix.IoctlSetTermios(k.fd, setTermios, k.before)
	}
}
