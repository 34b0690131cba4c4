package events

import (
	"encoding/json"
	"fmt"
	"io"
	"sync"
	"time"
)

// queued is how many lines wait for a reader who is slow, before the next ones are left out: a
// run is not held up by whoever follows it.
const queued = 10_000

// Writer writes lines, in a goroutine of its own.
type Writer struct {
	to   io.Writer
	mu   sync.Mutex
	lost int64
	in   chan Line
	done chan struct{}
	err  error // the first one; read it after Close
}

// NewWriter begins to write.
func NewWriter(to io.Writer) *Writer {
	w := &Writer{to: to, in: make(chan Line, queued), done: make(chan struct{})}
	go w.write()
	return w
}

// Tell has a line written, or counts it as lost. The end is never lost: by then there is no run to
// hold up.
func (w *Writer) Tell(l Line) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if l.Event == "end" {
		w.tellLost(l.Run)
		w.in <- l
		return
	}
	if w.lost > 0 && len(w.in) < cap(w.in)-1 { // there is room for both, and nobody else writes to it
		w.tellLost(l.Run)
	}
	select {
	case w.in <- l:
	default:
		w.lost++
	}
}

// tellLost says how many lines were lost before the next one.
func (w *Writer) tellLost(run int64) {
	if w.lost > 0 {
		w.in <- Line{Version: Version, At: time.Now().UTC(), Event: "lost", Run: run, Lost: w.lost}
		w.lost = 0
	}
}

func (w *Writer) write() {
	defer close(w.done)
	for l := range w.in {
		if w.err != nil {
			continue // a disk that is full is no reason to hold the run up
		}
		text, err := json.Marshal(l)
		if err == nil {
			_, err = w.to.Write(append(text, '\n'))
		}
		if err != nil {
			w.err = fmt.Errorf("the events could not be written: %w", err)
		}
	}
}

// Close waits until all is written, and tells what went wrong.
func (w *Writer) Close() error {
	close(w.in)
	<-w.done
	return w.err
}
