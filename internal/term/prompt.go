package term

import (
	"bufio"
	"io"
	"strings"
)

// Keyboard is where answers come from.
type Keyboard struct {
	r   *bufio.Reader
	TTY bool
}

// NewKeyboard reads from r; tty says whether a person sits there.
func NewKeyboard(r io.Reader, tty bool) *Keyboard { return &Keyboard{bufio.NewReader(r), tty} }

// Ask puts a question and reads one line.
func (k *Keyboard) Ask(o *Out, question string) (string, error) {
	o.Printf("%s ", question)
	s, err := k.r.ReadString('\n')
	if err != nil && s == "" {
		return "", err
	}
	return strings.TrimSpace(s), nil
}
