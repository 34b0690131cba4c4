package cli

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"jugatum/internal/list"
)

// create makes a new file that only this user may read: what is written may hold
// anybody's data. It is never one that was there, nor what a link leads to.
func create(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if errors.Is(err, fs.ErrExist) {
		return nil, taken(path)
	}
	if err != nil {
		return nil, usagef("%s cannot be made: %v", path, bare(err))
	}
	return f, nil
}

// free refuses the name of a file that is there, before work is done that is to be written to it.
func free(path string) error {
	if _, err := os.Lstat(path); path != "" && err == nil {
		return taken(path)
	}
	return nil
}

func taken(path string) error {
	return usagef("%s is there already; remove it, or name another file", path)
}

// largestJob is more than any person or program writes, in bytes.
const largestJob = 16 << 20

// readJob reads a job's file.
func readJob(path string) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0) // a pipe that nobody writes to is not waited for
	if err != nil {
		return nil, bare(err)
	}
	defer f.Close()
	st, err := f.Stat()
	switch {
	case err != nil:
		return nil, bare(err)
	case !st.Mode().IsRegular():
		return nil, errors.New("it is no regular file")
	case st.Size() > largestJob:
		return nil, errors.New("it is larger than 16 MiB")
	}
	text, err := io.ReadAll(io.LimitReader(f, largestJob+1))
	if err == nil && len(text) > largestJob {
		err = errors.New("it is larger than 16 MiB")
	}
	return text, bare(err)
}

// bare is an error of the operating system without the path, which is told already.
func bare(err error) error {
	var pe *os.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// cell writes a text so that no spreadsheet takes it for a formula: with an
// apostrophe before what would begin one, or before an apostrophe. Numbers stay numbers.
func cell(s string) string { return list.Guard(s) }

// rewrite gives a file another text, if it still has the one that was read: all of it or nothing.
func rewrite(path, was, text string) error {
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return usagef("%s cannot be written: %v", path, bare(err))
	}
	st, err := os.Stat(real)
	if err != nil {
		return usagef("%s cannot be written: %v", path, bare(err))
	}
	if now, err := os.ReadFile(real); err != nil || string(now) != was {
		return usagef("%s was changed meanwhile, and is left as it is", path)
	}
	f, err := os.CreateTemp(filepath.Dir(real), ".jugatum-*")
	if err != nil {
		return usagef("%s cannot be written: %v", path, bare(err))
	}
	defer os.Remove(f.Name())
	_, err = f.WriteString(text)
	if err == nil {
		err = f.Chmod(st.Mode().Perm())
	}
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err == nil {
		err = os.Rename(f.Name(), real)
	}
	if err != nil {
		return usagef("%s cannot be written: %v", path, bare(err))
	}
	return nil
}
