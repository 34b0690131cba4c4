//go:build unix

package ledger

import (
	"errors"
	"syscall"
)

// alive reports whether there is a process of this number.
func alive(pid int) bool { return !errors.Is(syscall.Kill(pid, 0), syscall.ESRCH) }
