package events

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"os/exec"
	"runtime"
	"strings"
	"sync"
	"time"
)

// notifyFor is how long a command may take that is told of a run.
const notifyFor = 30 * time.Second

// Notifier runs a command of the user's with a line on its standard input: when a run has been
// waiting for longer than told, once for each such wait, and at its end.
type Notifier struct {
	command string
	after   time.Duration
	clock   func(d time.Duration, do func()) (stop func() bool)

	mu    sync.Mutex
	stop  func() bool // the time that runs while the run waits; nil if none does
	group sync.WaitGroup
	err   error
}

// NewNotifier makes one.
func NewNotifier(command string, after time.Duration) *Notifier {
	return &Notifier{command: command, after: after, clock: func(d time.Duration, do func()) func() bool { return time.AfterFunc(d, do).Stop }}
}

// Tell takes a line into account.
func (n *Notifier) Tell(l Line) {
	n.mu.Lock()
	defer n.mu.Unlock()
	switch l.Event {
	case "waiting", "retry":
		if n.stop != nil { // it is waiting already
			return
		}
		n.group.Add(1)
		var once sync.Once
		stop := n.clock(n.after, func() { once.Do(func() { defer n.group.Done(); n.run(l) }) })
		n.stop = func() bool {
			stopped := stop()
			if stopped {
				once.Do(n.group.Done)
			}
			return stopped
		}
	case "batch", "end", "step done":
		if n.stop != nil {
			n.stop()
			n.stop = nil
		}
		if l.Event == "end" {
			n.group.Add(1)
			go func() { defer n.group.Done(); n.run(l) }()
		}
	}
}

// run runs the command with a line.
func (n *Notifier) run(l Line) {
	text, err := json.Marshal(l)
	if err == nil {
		ctx, cancel := context.WithTimeout(context.Background(), notifyFor)
		defer cancel()
		cmd := exec.CommandContext(ctx, "sh", "-c", n.command)
		if runtime.GOOS == "windows" {
			cmd = exec.CommandContext(ctx, "cmd", "/C", n.command)
		}
		cmd.Stdin = bytes.NewReader(append(text, '\n'))
		cmd.WaitDelay = time.Second
		var said bytes.Buffer
		cmd.Stderr = &said
		if err = cmd.Run(); err != nil {
			if first, _, _ := strings.Cut(strings.TrimSpace(said.String()), "\n"); first != "" {
				err = fmt.Errorf("%w: %s", err, first)
			}
		}
	}
	if err != nil {
		n.mu.Lock()
		defer n.mu.Unlock()
		if n.err == nil {
			n.err = fmt.Errorf("the command to notify: %w", err)
		}
	}
}

// Close waits for the commands under way, and tells what went wrong.
func (n *Notifier) Close() error {
	n.mu.Lock()
	if n.stop != nil {
		n.stop()
		n.stop = nil
	}
	n.mu.Unlock()
	n.group.Wait()
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.err
}
