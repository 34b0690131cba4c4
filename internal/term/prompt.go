package term

import (
	"bufio"
	"context"
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

// Ask puts a question and reads one line. It gives up where the context ends: whoever listens to
// signals would otherwise hear nothing of one while a person is asked.
func (k *Keyboard) Ask(ctx context.Context, o *Out, question string) (string, error) {
	o.Printf("%s ", question)
	type line struct {
		text string
		err  error
	}
	read := make(chan line, 1)
	go func() {
		s, err := k.r.ReadString('\n')
		read <- line{s, err}
	}()
	select {
	case <-ctx.Done():
		o.Printf("\n")
		return "", ctx.Err()
	case l := <-read:
		if l.err != nil && l.text == "" {
			return "", l.err
		}
		return strings.TrimSpace(l.text), nil
	}
}
