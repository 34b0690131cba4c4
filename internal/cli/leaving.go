package cli

import (
	"context"
	"errors"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/engine"
)

// leaving gives a context that ends with the first signal, so that what was made of a list is
// dropped, and what the server does for us ended, before the program ends.
func leaving(ctx context.Context) (context.Context, context.CancelFunc) {
	return signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
}

// looking has a command that changes nothing leave with the first signal.
func (a *app) looking(c *cli.Command) *cli.Command {
	action := c.Action
	c.Action = func(ctx context.Context, c *cli.Command) error {
		ctx, stop := leaving(ctx)
		defer stop()
		return a.signalled(ctx, action(ctx, c))
	}
	return c
}

// signalled words an error that a signal has brought about, after the server was told that
// nobody waits for its answers any more.
func (a *app) signalled(ctx context.Context, err error) error {
	if err == nil || ctx.Err() == nil {
		return err
	}
	ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), 10*time.Second)
	defer cancel()
	for _, db := range a.opened {
		if x, ok := db.(engine.Abandoner); ok {
			if err := x.Abandon(ending); err != nil {
				return errors.New("broken off by a signal; nothing was changed, but the server could not be told to end its query: " + err.Error())
			}
		}
	}
	return errors.New("broken off by a signal; nothing was changed")
}
