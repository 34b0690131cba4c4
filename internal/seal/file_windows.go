package seal

import (
	"fmt"
	"io/fs"
	"os"
)

// openPlain opens a file, and not what a link leads to.
func openPlain(path string) (*os.File, error) {
	st, err := os.Lstat(path)
	if err == nil && !st.Mode().IsRegular() {
		err = fmt.Errorf("%s is no regular file", path)
	}
	if err != nil {
		return nil, err
	}
	return os.Open(path)
}

// private has nothing to ask: the folder is in the user's profile, which is nobody
// else's, and the mode of a file tells nothing of its access list.
func private(string, fs.FileInfo) error { return nil }
