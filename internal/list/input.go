package list

import (
	"bufio"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"unicode/utf8"

	"github.com/klauspost/compress/zstd"
	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/transform"
)

// input is a file as UTF-8 text without a byte order mark. It goes no further than
// MaxLine bytes beyond the last mark, and stops at bytes that are no text.
type input struct {
	*bufio.Reader
	name    string
	hash    hash.Hash
	bytes   int64 // of the file as it is stored
	end     func()
	decoded bool // from another encoding: what it could not read is U+FFFD

	// The package that reads comma-separated values takes returns before newlines out of
	// values as well. Within quotes they are held back from it as NUL, which no text has.
	hold   bool
	quoted bool // an odd number of quotes was given out

	line  int   // of the text that was given out, from 1
	given int64 // bytes given out since the mark
}

// source counts and sums up what is read of the file.
type source struct {
	from io.Reader
	in   *input
}

func (s source) Read(p []byte) (int, error) {
	n, err := s.from.Read(p)
	s.in.bytes += int64(n)
	s.in.hash.Write(p[:n])
	return n, err
}

var bom = []byte("\ufeff")

// held stands for a return within quotes.
const held = "\x00"

func open(name string, from io.Reader, packed, encoding string, hold bool) (*input, error) {
	in := &input{name: name, hash: sha256.New(), end: func() {}, line: 1, hold: hold}
	var text io.Reader = source{from, in}
	switch packed {
	case ".gz":
		z, err := gzip.NewReader(text)
		if err != nil {
			return nil, in.fault(fmt.Errorf("it is not compressed by gzip: %v", err))
		}
		text = z
	case ".zst":
		z, err := zstd.NewReader(text, zstd.WithDecoderConcurrency(1), zstd.WithDecoderMaxMemory(128<<20), zstd.WithDecoderMaxWindow(8<<20))
		if err != nil {
			return nil, in.fault(err)
		}
		text, in.end = z, z.Close
	}
	if encoding != "" {
		e, err := htmlindex.Get(encoding)
		if err != nil {
			return nil, &Fault{File: name, Msg: fmt.Sprintf("%q is no character encoding that is known here; expected a name such as windows-1252, iso-8859-15 or utf-16le", encoding)}
		}
		if label, err := htmlindex.Name(e); err != nil || label != "utf-8" {
			text, in.decoded = transform.NewReader(text, e.NewDecoder()), true
		}
	}
	in.Reader = bufio.NewReaderSize(checked{text: bufio.NewReaderSize(text, 64<<10), in: in}, 64<<10)
	if head, _ := in.Peek(len(bom)); bytes.Equal(head, bom) {
		in.Discard(len(bom))
	}
	return in, nil
}

func (in *input) close() { in.end() }

func (in *input) sum() (string, int64) { return hex.EncodeToString(in.hash.Sum(nil)), in.bytes }

// mark says that a line begins here.
func (in *input) mark() { in.given = 0 }

// fault is an error of the file's reading, with its place where it has none.
func (in *input) fault(err error) error {
	var f *Fault
	if errors.As(err, &f) {
		return f
	}
	if errors.Is(err, io.ErrUnexpectedEOF) {
		err = errors.New("the file is cut off")
	}
	return &Fault{File: in.name, Line: in.line, Msg: err.Error()}
}

// checked reads text and refuses what is none.
type checked struct {
	text *bufio.Reader
	in   *input
}

// Read gives whole characters, up to the end of a line.
func (c checked) Read(p []byte) (int, error) {
	in := c.in
	if in.given > MaxLine {
		return 0, &Fault{File: in.name, Line: in.line, Msg: fmt.Sprintf("the line is longer than %d MiB", MaxLine>>20)}
	}
	if _, err := c.text.Peek(1); err != nil {
		return 0, err
	}
	have, _ := c.text.Peek(min(c.text.Buffered(), len(p)))
	if i := bytes.IndexByte(have, '\n'); i >= 0 {
		have = have[:i+1]
	}
	n := 0
	for n < len(have) {
		if have[n] < utf8.RuneSelf {
			n++
			continue
		}
		r, size := utf8.DecodeRune(have[n:])
		if r == utf8.RuneError && size <= 1 {
			if n > 0 { // perhaps the rest of it is still to be read
				break
			}
			return c.rare(p)
		}
		if r == utf8.RuneError && in.decoded {
			return 0, &Fault{File: in.name, Line: in.line, Msg: "bytes that stand for nothing in the file's encoding"}
		}
		n += size
	}
	copy(p, have[:n])
	c.text.Discard(n)
	if in.hold {
		if err := in.holdBack(p[:n]); err != nil {
			return 0, err
		}
	}
	c.took(p[:n])
	return n, nil
}

// holdBack puts held in the place of returns within quotes.
func (in *input) holdBack(p []byte) error {
	for i, b := range p {
		switch {
		case b == '"':
			in.quoted = !in.quoted
		case b == '\r' && in.quoted:
			p[i] = held[0]
		case b == 0:
			return &Fault{File: in.name, Line: in.line, Msg: nul}
		}
	}
	return nil
}

// nul is what is wrong with a NUL byte.
const nul = "a NUL byte, which no text can hold"

// rare reads a character that the buffer had only the beginning of, or refuses it.
func (c checked) rare(p []byte) (int, error) {
	have, _ := c.text.Peek(utf8.UTFMax)
	r, size := utf8.DecodeRune(have)
	if r == utf8.RuneError && size <= 1 {
		return 0, &Fault{File: c.in.name, Line: c.in.line, Msg: fmt.Sprintf("byte 0x%02x is not valid UTF-8; if the file has another encoding, name it: encoding = \"windows-1252\"", have[0])}
	}
	if len(p) < size {
		return 0, io.ErrShortBuffer
	}
	copy(p, have[:size])
	c.text.Discard(size)
	c.took(p[:size])
	return size, nil
}

func (c checked) took(p []byte) {
	c.in.given += int64(len(p))
	c.in.line += bytes.Count(p, []byte("\n"))
}
