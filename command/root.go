// Package command is the command line: one file a subcommand. Each reads its arguments, asks the core (with
// --estate) or the service (without), and prints. Writers are passed in.
//
// Exit statuses: 0 done, 1 faults or a refusal, 2 wrong usage, 3 findings with --strict.
package command

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/wire"
)

// Streams are where a command reads and prints.
type Streams struct {
	In       io.Reader
	Out, Err io.Writer
}

const (
	exitFault    = 1
	exitUsage    = 2
	exitFindings = 3
)

// exitError ends a run with a status; its message, which may be empty, goes to the error stream.
type exitError struct {
	status  int
	message string
}

func (e *exitError) Error() string { return e.message }

func usage(format string, args ...any) error {
	return &exitError{exitUsage, fmt.Sprintf(format, args...)}
}

// Run runs the command line and gives the exit status.
func Run(ctx context.Context, args []string, s Streams) int {
	err := root(s).Run(ctx, args)
	if err == nil {
		return 0
	}
	var exit *exitError
	var faults problem.Faults
	var refused *wire.Problem
	answered := errors.As(err, &refused)
	if answered {
		err = printProblem(refused)
	}
	switch {
	case answered && errors.As(err, &faults): // the service refused; nothing was to be loaded
		printLines(s.Err, faults)
		return exitFault
	case errors.As(err, &exit):
		if exit.message != "" {
			fmt.Fprintln(s.Err, "zridge: "+exit.message)
		}
		return exit.status
	case errors.As(err, &faults):
		printFaults(s.Err, faults)
		return exitFault
	}
	fmt.Fprintln(s.Err, "zridge: "+err.Error())
	return exitFault
}

func root(s Streams) *cli.Command {
	c := &cli.Command{
		Name:  "zridge",
		Usage: "know what all policies together do to every laptop, before anything rolls out",
		Description: "Commands that take --estate work on a folder of files with no service running; without it they ask the\n" +
			"service that `zridge sign-in` was told of. Exit status: 0 done, 1 faults or refused, 2 wrong usage, 3 findings with --strict.",
		Writer: s.Out, ErrWriter: s.Err, Reader: s.In,
		EnableShellCompletion: true, Suggest: true, HideVersion: true,
		ExitErrHandler: func(context.Context, *cli.Command, error) {}, // Run decides the status
		Commands: []*cli.Command{
			checkCommand(s),
			effectiveCommand(s),
			explainCommand(s),
			conflictsCommand(s),
			policyCommand(
				s,
			),
			deviceCommand(s),
			personCommand(s),
			groupCommand(s),
			unitCommand(s),
			sourceCommand(s),
			exceptionCommand(s),
			settingCommand(s),
			kitCommand(s),
			fileCommand(s),
			changeCommand(s),
			statusCommand(s),
			importCommand(s),
			exportCommand(s),
			signInCommand(s),
			setUpCommand(s),
			serveCommand(s),
			demoCommand(s),
			apiDocumentCommand(s),
			checkDatabaseCommand(s),
		},
	}
	prepare(c)
	return c
}

// prepare gives every command of the tree the same manners towards wrong usage.
func prepare(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		return usage("%s; see `%s --help`", err.Error(), c.FullName())
	}
	if len(c.Commands) > 0 && c.Action == nil {
		c.Action = func(_ context.Context, c *cli.Command) error {
			if word := c.Args().First(); word != "" {
				names := make([]string, 0, len(c.Commands))
				for _, sub := range c.Commands {
					if !sub.Hidden {
						names = append(names, sub.Name)
					}
				}
				return usage("found the command %s, expected one of %s", problem.Quote(word), strings.Join(names, ", "))
			}
			return cli.ShowSubcommandHelp(c)
		}
	}
	for _, sub := range c.Commands {
		prepare(sub)
	}
}
