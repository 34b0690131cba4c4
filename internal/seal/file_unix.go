//go:build unix

package seal

import (
	"fmt"
	"io/fs"
	"os"
	"syscall"
)

// openPlain opens a file, and not what a link leads to.
func openPlain(path string) (*os.File, error) {
	return os.OpenFile(path, os.O_RDONLY|syscall.O_NOFOLLOW|syscall.O_NONBLOCK, 0)
}

// private refuses a file that others own, read or write.
func private(path string, st fs.FileInfo) error {
	owner, ok := st.Sys().(*syscall.Stat_t)
	switch {
	case ok && int(owner.Uid) != os.Geteuid():
		return fmt.Errorf("%s belongs to another user", path)
	case st.Mode().Perm()&0o077 != 0:
		return fmt.Errorf("%s can be read or written by others (chmod 600 it, or remove it for a new one)", path)
	}
	return nil
}
