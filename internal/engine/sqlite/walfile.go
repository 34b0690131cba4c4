package sqlite

import (
	"encoding/binary"
	"os"
)

// walFile counts the frames that a transaction of ours appended to the
// write-ahead log, by the file's documented format
// (https://sqlite.org/fileformat2.html#the_write_ahead_log). It is used only
// around a transaction that holds the write lock, so what lies between two
// looks is ours alone. The log's file itself carries none of SQLite's locks,
// so that opening and closing it here disturbs nobody.
type walFile struct {
	path string
	f    *os.File
	salt [8]byte // of the header when we last looked: changes when the log starts again
	page int64   // bytes
	pos  int64   // frames up to the last commit seen
}

const (
	walHeader   = 32 // bytes
	frameHeader = 24
)

func openWAL(path string) *walFile { return &walFile{path: path} }

// look reads the header; false if there is no log yet.
func (w *walFile) look() bool {
	if w.f == nil {
		f, err := os.Open(w.path)
		if err != nil {
			return false
		}
		w.f = f
	}
	var h [walHeader]byte
	if _, err := w.f.ReadAt(h[:], 0); err != nil {
		return false
	}
	if [8]byte(h[16:24]) != w.salt {
		w.salt = [8]byte(h[16:24])
		w.page = int64(binary.BigEndian.Uint32(h[8:12]))
		w.pos = 0
	}
	return true
}

// next finds the end of the next transaction after pos.
func (w *walFile) next() (int64, bool) {
	var h [frameHeader]byte
	for n := w.pos; ; n++ {
		if _, err := w.f.ReadAt(h[:], walHeader+n*(frameHeader+w.page)); err != nil || [8]byte(h[8:16]) != w.salt {
			return 0, false
		}
		if binary.BigEndian.Uint32(h[4:8]) != 0 { // the size of the file after a commit
			return n + 1, true
		}
	}
}

// skip moves to the end of what is committed.
func (w *walFile) skip() {
	if !w.look() {
		return
	}
	for {
		end, ok := w.next()
		if !ok {
			return
		}
		w.pos = end
	}
}

// count gives the frames and bytes of the one transaction committed since skip.
func (w *walFile) count() (frames, bytes int64) {
	if !w.look() {
		return -1, -1
	}
	end, ok := w.next()
	if !ok {
		return 0, 0
	}
	frames = end - w.pos
	w.pos = end
	return frames, frames * (frameHeader + w.page)
}
