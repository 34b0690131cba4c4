// Package cli turns commands and flags into calls, results into text or JSON,
// and errors into exit statuses. One file holds one command.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"regexp"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"

	"jugatum/internal/change"
	"jugatum/internal/engine"
	"jugatum/internal/job"
	"jugatum/internal/plan"
	"jugatum/internal/report"
	"jugatum/internal/runner"
	"jugatum/internal/sqltext"
	"jugatum/internal/term"
)

// Exit statuses.
const (
	exitFailed  = 1
	exitUsage   = 2
	exitRefused = 3
	exitStopped = 4
	exitAside   = 5
	exitVerify  = 6
)

// usageError is bad usage or a bad job.
type usageError struct{ err error }

func (e *usageError) Error() string { return e.err.Error() }
func (e *usageError) Unwrap() error { return e.err }

func usagef(format string, args ...any) error { return &usageError{fmt.Errorf(format, args...)} }

func refusef(format string, args ...any) error { return plan.Refusef(format, args...) }

// asideError says that all was done but for rows skipped.
type asideError struct{ msg string }

func (e *asideError) Error() string { return e.msg }

// status is the exit status for an error.
func status(err error) int {
	var usage *usageError
	var je *job.Error
	var fe *change.FieldError
	var se *sqltext.Error
	var nf *engine.NotFoundError
	var rf *engine.RefusedError
	var ue *engine.UntrustedError
	var re *engine.RenumberedError
	var oe *engine.OpenError
	var ve *plan.Unheld
	var ae *asideError
	var bl *plan.BadList
	switch {
	case err == nil:
		return 0
	case errors.As(err, &ve):
		return exitVerify
	case errors.As(err, &ae):
		return exitAside
	case errors.Is(err, runner.ErrStopped):
		return exitStopped
	case errors.Is(err, runner.ErrGuard), errors.As(err, &ue), errors.As(err, &re):
		return exitRefused
	case errors.As(err, &usage), errors.As(err, &je), errors.As(err, &fe), errors.As(err, &se), errors.As(err, &nf), errors.As(err, &rf), errors.As(err, &bl):
		return exitUsage
	case errors.As(err, &oe) && oe.Usage:
		return exitUsage
	}
	return exitFailed
}

// app is what the commands share: the streams and what flags say about them.
type app struct {
	args      []string   // of the program
	begun     time.Time  // of the run, when it was to be recorded
	following *followers // of the run that is to be carried out
	warned    bool       // of a password in the arguments
	out, err  *term.Out
	keyboard  *term.Keyboard
	opened    []engine.DB // by this command
}

// Main runs the program and gives its exit status.
func Main(args []string, stdin *os.File, stdout, stderr *os.File) int {
	a := &app{args: args, out: term.NewOut(stdout), err: term.NewOut(stderr)}
	a.keyboard = term.NewKeyboard(stdin, term.NewOut(stdin).TTY && a.err.TTY)
	return a.run(context.Background(), args)
}

func (a *app) run(ctx context.Context, args []string) int {
	err := a.root().Run(ctx, args)
	if err != nil {
		text := err.Error()
		for _, db := range a.opened {
			if x, ok := db.(engine.Adviser); ok {
				if do := x.Advice(err); do != "" && ctx.Err() == nil {
					text += "; " + do
					break
				}
			}
		}
		a.err.Printf("%s %s\n", a.err.Paint(term.Bad, "jugatum:"), term.CleanLines(text))
	}
	return status(err)
}

// Commands is the tree of commands and options, for what is written of it elsewhere.
func Commands() *cli.Command {
	return (&app{out: term.NewOut(os.Stdout), err: term.NewOut(os.Stderr)}).root()
}

func (a *app) root() *cli.Command {
	cmd := &cli.Command{
		Name:  "jugatum",
		Usage: "large changes to a database, in small transactions that are watched, proven and can be taken back",
		Description: "The order of the work: survey, preview, run, verify, and undo if it was wrong.\n" +
			"The job is a TOML file, or one UPDATE or DELETE given with --sql.\n" +
			"Exit status: 0 done, 1 failed, 2 bad usage or bad job, 3 refused by a guard,\n" +
			"4 stopped and can be resumed, 5 done but rows were skipped or set aside, 6 verification did not hold.",
		Writer: a.out, ErrWriter: a.err,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "db", Usage: "the database: sqlite:PATH, postgres://USER@HOST:PORT/NAME or mariadb://USER@HOST:PORT/NAME", Sources: cli.EnvVars("JUGATUM_DB"), Local: false},
			&cli.StringFlag{Name: "ledger", Usage: "where Jugatum's own tables are: a schema (PostgreSQL; without it jugatum) or another database of the server (MariaDB); asked for only where there are several, or none yet", Sources: cli.EnvVars("JUGATUM_LEDGER"), Local: false},
			&cli.BoolFlag{Name: "json", Usage: "give the result as one JSON document", Local: false},
		},
		Commands: []*cli.Command{
			a.demo(), a.looking(a.survey()), a.looking(a.find()), a.looking(a.preview()), a.looking(a.trialCmd()), a.runCmd(), a.resume(), a.watch(), a.pause(), a.stop(), a.tune(),
			a.looking(a.runs()), a.looking(a.show()), a.looking(a.verify()), a.looking(a.aftercare()), a.looking(a.reportCmd()), a.undo(), a.looking(a.keptCmd()), a.prune(), a.forget(), a.looking(a.newCmd()), a.check(), a.version(),
		},
		HideVersion:           true,
		EnableShellCompletion: true,
		ConfigureShellCompletionCommand: func(c *cli.Command) {
			c.Usage = "write a script for a shell (bash, zsh, fish, pwsh) that completes commands and options"
			c.Hidden = false
			c.Action = func(_ context.Context, c *cli.Command) error {
				return usagef("expected one shell: bash, zsh, fish or pwsh; such as `source <(jugatum completion bash)`")
			}
		},
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		OnUsageError:   usage,
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Present() {
				return usagef("there is no command %q; `jugatum --help` lists them", c.Args().First())
			}
			return cli.ShowRootCommandHelp(c)
		},
	}
	for _, sub := range cmd.Commands {
		sub.OnUsageError = usage
		sub.DisableSliceFlagSeparator = true // a comma in a parameter's value is part of it
	}
	return cmd
}

// oneDash is an option as the parser of arguments writes it in its errors.
var oneDash = regexp.MustCompile(`(^|\s)-([a-z])`)

func usage(_ context.Context, c *cli.Command, err error, _ bool) error {
	return usagef("%s; see `%s --help`", oneDash.ReplaceAllString(err.Error(), "$1--$2"), c.FullName())
}

// given reports whether an option stands on the command line, rather than in the environment.
func (a *app) given(option string) bool {
	return slices.ContainsFunc(a.args, func(arg string) bool {
		name, _, _ := strings.Cut(strings.TrimLeft(arg, "-"), "=")
		return strings.HasPrefix(arg, "-") && name == option
	})
}

// interruptible gives a context and a channel for two signals: the first asks
// to stop after the batch under way, the second cancels the batch.
func (a *app) interruptible(parent context.Context) (ctx context.Context, stop <-chan struct{}, done func()) {
	ctx, cancel := context.WithCancel(parent)
	asked := make(chan struct{})
	sig := make(chan os.Signal, 2)
	signal.Notify(sig, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP) // a terminal that is closed asks to stop, too
	go func() {
		for n := 0; ; n++ {
			select {
			case <-sig:
				if n == 0 {
					close(asked)
				} else {
					cancel()
				}
			case <-ctx.Done():
				return
			}
		}
	}()
	return ctx, asked, func() {
		cancel()
		select {
		case <-asked: // the program is ending: one signal more is not to change how
		default:
			signal.Stop(sig)
		}
	}
}

func (a *app) version() *cli.Command {
	return &cli.Command{
		Name:  "version",
		Usage: "tell version, commit and Go",
		Action: func(_ context.Context, c *cli.Command) error {
			v := buildVersion()
			if c.Bool("json") {
				return a.json(struct {
					Schema  int    `json:"schema"`
					Version string `json:"version"`
					Commit  string `json:"commit"`
					Go      string `json:"go"`
				}{report.Schema, v.version, v.commit, v.goVersion})
			}
			a.out.Printf("jugatum %s\ncommit  %s\ngo      %s\n", v.version, v.commit, v.goVersion)
			return nil
		},
	}
}

// Version is the version of the program; a release sets it with -ldflags.
var Version = "0.2.0-dev"

// Commit is set with -ldflags where the build does not stamp it itself.
var Commit = ""

type build struct{ version, commit, goVersion string }

func buildVersion() build {
	v := build{version: Version, commit: Commit, goVersion: "unknown"}
	if info, ok := debug.ReadBuildInfo(); ok {
		v.goVersion = info.GoVersion
		for _, s := range info.Settings {
			if s.Key == "vcs.revision" && v.commit == "" {
				v.commit = s.Value
			}
		}
	}
	if v.commit == "" {
		v.commit = "unknown (built without version control)"
	}
	return v
}

// oneArg gives a command's single argument.
func oneArg(c *cli.Command, what string) (string, error) {
	if c.Args().Len() != 1 {
		return "", usagef("expected %s, once; see `%s --help`", what, c.FullName())
	}
	return c.Args().First(), nil
}

var _ io.Writer = (*term.Out)(nil)

// example formats an example for a command's help.
func example(lines ...string) string { return "Example:\n   " + strings.Join(lines, "\n   ") }
