// Command archive packs a folder, the same to the byte whenever and wherever it is
// done: entries in the order of their names, with one time and nobody's name.
//
//	go run ./scripts/archive FOLDER ARCHIVE
//
// The end of the archive's name says how: .tar.gz or .zip.
package main

import (
	"archive/tar"
	"archive/zip"
	"compress/gzip"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// at is the time of every entry: the first that a zip can hold.
var at = time.Date(1980, 1, 1, 0, 0, 0, 0, time.UTC)

func main() {
	if len(os.Args) != 3 {
		fmt.Fprintln(os.Stderr, "expected a folder and the archive's name")
		os.Exit(2)
	}
	if err := pack(os.Args[1], os.Args[2]); err != nil {
		fmt.Fprintln(os.Stderr, "archive:", err)
		os.Exit(1)
	}
}

func pack(folder, archive string) (err error) {
	out, err := os.OpenFile(archive, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	defer func() {
		if cerr := out.Close(); err == nil {
			err = cerr
		}
	}()
	if strings.HasSuffix(archive, ".zip") {
		z := zip.NewWriter(out)
		if err := each(folder, func(name string, mode fs.FileMode, _ int64) (io.Writer, error) {
			h := &zip.FileHeader{Name: name, Method: zip.Deflate, Modified: at}
			h.SetMode(mode)
			return z.CreateHeader(h)
		}); err != nil {
			return err
		}
		return z.Close()
	}
	g := gzip.NewWriter(out)
	t := tar.NewWriter(g)
	if err := each(folder, func(name string, mode fs.FileMode, size int64) (io.Writer, error) {
		return t, t.WriteHeader(&tar.Header{Name: name, Mode: int64(mode.Perm()), Size: size, ModTime: at, Format: tar.FormatUSTAR})
	}); err != nil {
		return err
	}
	if err := t.Close(); err != nil {
		return err
	}
	return g.Close()
}

// each gives the folder's files, in the order of their names, to what begin makes
// of them. Names begin with that of the folder.
func each(folder string, begin func(name string, mode fs.FileMode, size int64) (io.Writer, error)) error {
	return filepath.WalkDir(folder, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		rel, err := filepath.Rel(filepath.Dir(folder), path)
		if err != nil {
			return err
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		mode := fs.FileMode(0o644)
		if info.Mode()&0o100 != 0 {
			mode = 0o755
		}
		w, err := begin(filepath.ToSlash(rel), mode, info.Size())
		if err != nil {
			return err
		}
		f, err := os.Open(path)
		if err != nil {
			return err
		}
		defer f.Close()
		_, err = io.Copy(w, f)
		return err
	})
}
