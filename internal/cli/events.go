package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/events"
	"jugatum/internal/runner"
	"jugatum/internal/term"
)

// eventFlags are those by which programs follow a run.
func eventFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "events", Usage: "add what happens to this file, a JSON object a line (docs/events.md); - is the standard error"},
		&cli.StringFlag{Name: "metrics", Usage: "serve metrics of the run at this address while it goes on, such as :9310 (of this machine alone unless an address is given)"},
		&cli.StringFlag{Name: "notify", Usage: "run this command when the run ends, fails, or has been waiting for long, with the facts as JSON on its standard input"},
		&cli.DurationFlag{Name: "notify-after", Value: 5 * time.Minute, Usage: "with --notify: how long is long"},
	}
}

// followers are what follows a run.
type followers struct {
	writer   *events.Writer
	metrics  *events.Metrics
	notifier *events.Notifier
	closer   io.Closer
}

// followers makes what the options ask for, once: so that what is wrong with them is told before
// anything is recorded.
func (a *app) followers(c *cli.Command) (f *followers, err error) {
	if a.following != nil {
		return a.following, nil
	}
	f = &followers{}
	defer func() {
		if err != nil {
			f.close()
			return
		}
		a.following = f
	}()
	if c.IsSet("notify-after") && c.String("notify") == "" {
		return f, usagef("--notify-after goes with --notify")
	}
	if c.Duration("notify-after") < 0 {
		return f, usagef("--notify-after %s: expected a time such as 5m", c.Duration("notify-after"))
	}
	switch path := c.String("events"); path {
	case "":
	case "-":
		f.writer = events.NewWriter(a.err)
	default:
		file, err := appendTo(path)
		if err != nil {
			return f, err
		}
		f.writer, f.closer = events.NewWriter(file), file
	}
	if at := c.String("metrics"); at != "" {
		if f.metrics, err = events.Listen(at); err != nil {
			return f, usagef("--metrics: %v", err)
		}
		if !events.Loopback(at) {
			a.err.Printf("  %s metrics of the run are open to whoever reaches %s\n", a.err.Paint(term.Warn, "warning"), f.metrics.Address())
		}
	}
	if command := c.String("notify"); command != "" {
		f.notifier = events.NewNotifier(command, c.Duration("notify-after"))
	}
	return f, nil
}

// appendTo opens a file to add to it: one of its own, that only this user may read.
func appendTo(path string) (*os.File, error) {
	if st, err := os.Lstat(path); err == nil && !st.Mode().IsRegular() {
		return nil, usagef("%s is no file that lines could be added to", path)
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return nil, usagef("%s cannot be written: %v", path, bare(err))
	}
	return f, nil
}

// tell hands a line on.
func (f *followers) tell(l events.Line) {
	if f.writer != nil {
		f.writer.Tell(l)
	}
	if f.notifier != nil {
		f.notifier.Tell(l)
	}
}

// watch has a runner tell them.
func (f *followers) watch(rn *runner.Runner) {
	if f.writer == nil && f.metrics == nil && f.notifier == nil {
		return
	}
	before := rn.Happened
	rn.Happened = func(e runner.Event) {
		if before != nil {
			before(e)
		}
		f.tell(events.Of(rn.Run.ID, e))
		if f.metrics != nil {
			f.metrics.Tell(e)
		}
	}
	if shown := rn.Watch; f.metrics != nil {
		rn.Watch = func(p runner.Progress) {
			f.metrics.Progress(p)
			if shown != nil {
				shown(p)
			}
		}
	}
}

// close ends them, and tells what went wrong.
func (f *followers) close() error {
	var errs []error
	if f.writer != nil {
		errs = append(errs, f.writer.Close())
	}
	if f.closer != nil {
		errs = append(errs, f.closer.Close())
	}
	if f.metrics != nil {
		f.metrics.Close()
	}
	if f.notifier != nil {
		errs = append(errs, f.notifier.Close())
	}
	return errors.Join(errs...)
}

// unfollow ends what follows a run; that one of them failed is told, and no failure of the run.
func (a *app) unfollow(f *followers) {
	if f == nil {
		return
	}
	a.following = nil
	if err := f.close(); err != nil {
		a.err.Printf("  %s %s\n", a.err.Paint(term.Warn, "warning"), term.Clean(fmt.Sprint(err)))
	}
}
