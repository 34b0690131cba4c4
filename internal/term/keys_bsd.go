//go:build darwin || dragonfly || freebsd || netbsd || openbsd

package term

import "golang.org/x/sys/unix"

const getTermios, setTermios = unix.TIOCGETA, unix.TIOCSETA
