package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"spindle/internal/core/fault"
	"spindle/internal/service"
)

// Exit codes.
const (
	ExitDone      = 0
	ExitFailed    = 1
	ExitUsage     = 2
	ExitRefused   = 3
	ExitNotFound  = 4
	ExitDifferent = 5
)

// Env is what a run of the command line has around it.
type Env struct {
	In       io.Reader
	Out, Err io.Writer
	Getenv   func(string) string
	Terminal bool // Err is a terminal: show progress
	Asks     bool // In is a terminal: ask for confirmations
	Width    int
	Done     context.Context // ends when the program is asked to stop
}

// System gives the environment of the process.
func System() *Env {
	ctx, _ := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	e := &Env{In: os.Stdin, Out: os.Stdout, Err: os.Stderr, Getenv: os.Getenv, Done: ctx, Width: 100,
		Terminal: term.IsTerminal(int(os.Stderr.Fd())), Asks: term.IsTerminal(int(os.Stdin.Fd()))}
	if w, _, err := term.GetSize(int(os.Stdout.Fd())); err == nil {
		e.Width = w
	}
	return e
}

// app is one run.
type app struct {
	*Env
	json bool
	in   *bufio.Reader
	raw  *Env // as it came: for the content of objects, and what draws
}

// usage is an error in how a command was called.
type usage struct{ fault *fault.Error }

func (u usage) Error() string { return u.fault.Message }

func wrongUsage(format string, args ...any) usage {
	return usage{fault.New(fault.Invalid, "usage", format, args...)}
}

// see names the command whose help says how it is called.
func (u usage) see(c *cli.Command) error {
	return usage{u.fault.Do("see %s --help", c.FullName())}
}

// exitOnly ends with a code when everything has been said.
type exitOnly int

func (e exitOnly) Error() string { return fmt.Sprintf("exit %d", int(e)) }

// Run runs a command line and gives its exit code.
func Run(args []string, env *Env) int {
	plain := *env
	plain.Out, plain.Err = &plainly{to: env.Out}, &plainly{to: env.Err}
	a := &app{Env: &plain, in: bufio.NewReader(env.In), raw: env}
	root := a.root()
	err := root.Run(env.Done, args)
	return a.report(err)
}

func (a *app) report(err error) int {
	var u usage
	var x exitOnly
	var f *fault.Error
	switch {
	case err == nil:
		return ExitDone
	case errors.As(err, &x):
		return int(x)
	case errors.As(err, &u):
		a.explain(u.fault)
		return ExitUsage
	case errors.As(err, &f):
		for _, one := range fault.All(err) {
			a.explain(one)
		}
		switch f.Kind {
		case fault.Refused, fault.Unsigned:
			return ExitRefused
		case fault.NotFound:
			return ExitNotFound
		}
		return ExitFailed
	}
	fmt.Fprintf(a.Err, "spindle: %s\n", err)
	return ExitFailed
}

// remedy says what to do, and when it is worth another try.
func (a *app) remedy(f *fault.Error) {
	if f.Remedy != "" {
		a.note("  fix: %s", shown(f.Remedy))
	}
	if f.Request != "" && (f.Kind == fault.Internal || f.Kind == fault.Unavailable) {
		a.note("  the service's log has more: request %s", shown(f.Request))
	}
	if f.After > 0 {
		a.note("  worth another try in %s", f.After.Round(time.Second))
	}
}

// explain says what is wrong, where, and what to do.
func (a *app) explain(f *fault.Error) {
	if a.json {
		b, err := json.Marshal(map[string]string{"error": f.Message, "code": f.Code, "field": f.Field, "remedy": f.Remedy})
		if err == nil {
			fmt.Fprintf(a.Err, "%s\n", b)
			return
		}
	}
	where := ""
	if f.Field != "" {
		where = f.Field + ": "
	}
	first, rest, _ := strings.Cut(f.Message, "\n")
	fmt.Fprintf(a.Err, "spindle: %s%s\n", where, shown(first))
	for line := range strings.Lines(rest) {
		fmt.Fprintf(a.Err, "  %s\n", shown(strings.TrimRight(line, "\n")))
	}
	a.remedy(f)
	if f.Kind == fault.Internal && f.Err != nil {
		fmt.Fprintf(a.Err, "  cause: %s\n", f.Err)
	}
}

func (a *app) root() *cli.Command {
	cmd := &cli.Command{
		Name:                  "spindle",
		Usage:                 "store objects, and manage them here and at other endpoints",
		Version:               service.Version,
		HideVersion:           true,
		EnableShellCompletion: true,
		Writer:                a.Out,
		ErrWriter:             a.Err,
		ExitErrHandler:        func(context.Context, *cli.Command, error) {},
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "profile", Usage: "the saved service to talk to; default: the one in use"},
			&cli.BoolFlag{Name: "json", Usage: "results as JSON for programs", Destination: &a.json},
		},
		Commands: []*cli.Command{a.serveCommand(), a.demoCommand(), a.connectCommand(), a.profileCommand(), a.bucketCommand(),
			a.objectCommand(), a.uploadCommand(), a.accessCommand(), a.tierCommand(), a.placementCommand(), a.regionCommand(),
			a.backupCommand(), a.restoreServiceCommand(), a.scrubCommand(), a.clockCommand(),
			a.lifecycleCommand(),
			a.endpointCommand(), a.replicationCommand(), a.syncCommand(), a.findCommand(),
			a.censusCommand(), a.usageCommand(), a.auditCommand(), a.journalCommand(), a.charterCommand(), a.measureCommand(),
			a.standinCommand(),
			{Name: "version", Usage: "print the version", Action: func(context.Context, *cli.Command) error {
				_, err := fmt.Fprintf(a.Out, "spindle %s\n", service.Version)
				return err
			}},
			{Name: "openapi", Hidden: true, Usage: "print the desk's OpenAPI document",
				Action: func(context.Context, *cli.Command) error { return a.openapi() }},
		},
	}
	cmd.Commands = append(cmd.Commands, &cli.Command{Name: "help", Usage: "show the help of a command",
		ArgsUsage: "[COMMAND ...]", Hidden: true,
		Action: func(_ context.Context, c *cli.Command) error { return help(cmd, c.Args().Slice()) }})
	strict(cmd)
	cmd.Commands = append(cmd.Commands, &cli.Command{Name: "reference", Hidden: true,
		Usage:  "print the reference of commands and settings",
		Action: func(context.Context, *cli.Command) error { return a.reference(cmd) }})
	return cmd
}

// once refuses a flag that is given twice, unless it makes a list: the last one would win, and
// nobody would hear of it.
func once(flags []cli.Flag) {
	for _, f := range flags {
		switch f := f.(type) {
		case *cli.StringFlag:
			f.OnlyOnce = true
		case *cli.BoolFlag:
			f.OnlyOnce = true
		case *cli.IntFlag:
			f.OnlyOnce = true
		case *cli.Int64Flag:
			f.OnlyOnce = true
		case *cli.Uint64Flag:
			f.OnlyOnce = true
		case *cli.DurationFlag:
			f.OnlyOnce = true
		}
	}
}

// strict makes an unknown command an error that names the nearest one, at every level.
func strict(c *cli.Command) {
	c.HideHelpCommand = true
	once(c.Flags)
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		return wrongUsage("%s",
			err).see(c)
	}
	for _, sub := range c.Commands {
		strict(sub)
	}
	if len(c.Commands) == 0 || c.Action != nil {
		return
	}
	c.Action = func(_ context.Context, c *cli.Command) error {
		if !c.Args().Present() {
			return cli.ShowSubcommandHelp(c)
		}
		if c.Args().First() == "help" {
			return help(c, c.Args().Tail())
		}
		return noCommand(c, c.Args().First())
	}
}

func noCommand(of *cli.Command, name string) error {
	return wrongUsage("there is no command %q; the nearest is %q", of.FullName()+" "+name,
		cli.SuggestCommand(of.VisibleCommands(), name)).see(of)
}

// help shows the help of the command that names lead to.
func help(c *cli.Command, names []string) error {
	for _, name := range names {
		sub := c.Command(name)
		if sub == nil {
			return noCommand(c, name)
		}
		c = sub
	}
	if len(c.Commands) > 0 {
		return cli.ShowSubcommandHelp(c)
	}
	cli.HelpPrinter(c.Root().Writer, cli.CommandHelpTemplate, c)
	return nil
}

// needs refuses a call without a flag.
func needs(c *cli.Command, flag string) error {
	if !c.IsSet(flag) {
		return wrongUsage("--%s is missing", flag).see(c)
	}
	return nil
}

// args checks the number of arguments of a command.
func args(c *cli.Command, least, most int) ([]string, error) {
	got := c.Args().Slice()
	if len(got) < least || len(got) > most && most >= 0 {
		takes := c.ArgsUsage
		if takes == "" {
			takes = "no arguments"
		}
		return nil, wrongUsage("%s takes %s", c.Name, takes).see(c)
	}
	return got, nil
}

// print writes v as JSON when asked, otherwise calls text.
func (a *app) print(v any, text func() error) error {
	if !a.json {
		return text()
	}
	e := json.NewEncoder(a.Out)
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// note writes a message for a person.
func (a *app) note(format string, args ...any) { fmt.Fprintf(a.Err, format+"\n", args...) }

// confirm asks before something is destroyed. On no terminal it takes --yes.
func (a *app) confirm(c *cli.Command, question, word string) error {
	if c.Bool("yes") {
		return nil
	}
	if !a.Asks {
		return wrongUsage("%s Nobody is there to ask: say --yes to do it", question)
	}
	fmt.Fprintf(a.Err, "%s\nType %s to go on: ", question, word)
	line, err := a.in.ReadString('\n')
	if err != nil && line == "" {
		return fault.New(fault.Refused, "not-confirmed", "nothing was done")
	}
	if strings.TrimSpace(line) != word {
		return fault.New(fault.Refused, "not-confirmed", "nothing was done")
	}
	return nil
}

// logger makes the service's log: text on a terminal, JSON lines elsewhere.
func (a *app) logger(level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, wrongUsage("--log-level is debug, info, warn or error")
	}
	o := &slog.HandlerOptions{Level: l}
	if a.Terminal {
		return slog.New(slog.NewTextHandler(a.Err, o)), nil
	}
	return slog.New(slog.NewJSONHandler(a.Err, o)), nil
}

func yesFlag() cli.Flag { return &cli.BoolFlag{Name: "yes", Usage: "do not ask for confirmation"} }
