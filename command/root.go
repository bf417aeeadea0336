// Package command is the command line: one file a subcommand. Each reads its arguments, asks the
// core (with
// --estate) or the service (without), and prints. Writers are passed in.
//
// Exit statuses: 0 done, 1 faults or a refusal, 2 wrong usage, 3 findings with --strict.
package command

import (
	"context"
	"errors"
	"fmt"
	"io"
	"runtime/debug"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/search"
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
	s.Out, s.Err = &shown{w: s.Out}, &shown{w: s.Err}
	top := root(s)
	err := top.Run(ctx, helpLast(top, args))
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
	var topic cli.ExitCoder
	if errors.As(err, &topic) { // help was asked for on what is no command
		return exitUsage
	}
	return exitFault
}

func root(s Streams) *cli.Command {
	c := &cli.Command{
		Name:  "zridge",
		Usage: "know what all policies together do to every laptop, before anything rolls out",
		Description: "Commands that take --estate work on a folder of files with no service running; without it they ask the\n" +
			"service that `zridge sign-in` was told of. Exit status: 0 done, 1 faults or refused, 2 wrong usage, 3 findings with --strict.",
		Writer: s.Out, ErrWriter: s.Err, Reader: s.In,
		Suggest: true, Version: version(),
		ExitErrHandler: func(context.Context, *cli.Command, error) {}, // Run decides the status
		Commands: []*cli.Command{
			checkCommand(s),
			effectiveCommand(s),
			explainCommand(s),
			conflictsCommand(s),
			problemsCommand(s),
			policyCommand(s),
			deviceCommand(s),
			enrolmentCommand(s),
			driftCommand(s),
			baselineCommand(s),
			keyCommand(s),
			personCommand(s),
			groupCommand(s),
			unitCommand(s),
			sourceCommand(s),
			exceptionCommand(s),
			settingCommand(s),
			kitCommand(s),
			fileCommand(s),
			changeCommand(s),
			rolloutCommand(s),
			statusCommand(s),
			importCommand(s),
			exportCommand(s),
			accountCommand(s),
			roleCommand(s),
			grantCommand(s),
			tokenCommand(s),
			announcementCommand(s),
			auditCommand(s),
			signInCommand(s),
			setUpCommand(s),
			serveCommand(s),
			demoCommand(s),
			apiDocumentCommand(s),
			checkDatabaseCommand(s),
			completionCommand(s),
		},
	}
	prepare(c)
	return c
}

// built is the commit that the program was built from, set by the linker; empty where it was not.
var built string

// version gives what the program was built from: the commit and its day.
func version() string {
	if built != "" {
		return built
	}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return "unknown"
	}
	said := map[string]string{}
	for _, s := range info.Settings {
		said[s.Key] = s.Value
	}
	text := said["vcs.revision"]
	if text == "" {
		return "unknown"
	}
	text = text[:min(len(text), 12)]
	if day, _, has := strings.Cut(said["vcs.time"], "T"); has {
		text += " of " + day
	}
	if said["vcs.modified"] == "true" {
		text += ", altered"
	}
	return text
}

// helpLast makes `zridge help policy set` and `zridge policy help set` into `zridge policy set
// --help`.
func helpLast(c *cli.Command, args []string) []string {
	for i, word := range args[min(1, len(args)):] {
		if word == "help" && (len(c.Commands) > 0 || i == 0) {
			named := slices.Delete(slices.Clone(args), i+1, i+2)
			for _, word := range named[i+1:] {
				if c = subcommand(c, word); c == nil {
					return named // says that there is no such command
				}
			}
			return append(named, "--help")
		}
		if c = subcommand(c, word); c == nil {
			break
		}
	}
	return args
}

// unknownCommand names the command that was most likely meant.
func unknownCommand(c *cli.Command, word string) error {
	text := "Unknown command " + problem.Quote(word) + "."
	if meant := cli.SuggestCommand(c.Commands, word); meant != "" && search.Near(meant, word) {
		return usage("%s Did you mean %s?", text, problem.Quote(meant))
	}
	return usage("%s List the commands with: %s --help", text, c.FullName())
}

// listedBy says which command lists what an argument names.
var listedBy = map[string]string{
	"ACCOUNT": "account list",
	"CHANGE":  "change list",
	"GRANT":   "grant list",
	"ROLE":    "role list",
	"POLICY":  "policy list",
	"DEVICE":  "device list",
	"PERSON":  "person list",
	"GROUP":   "group list",
	"UNIT":    "unit list",
	"SOURCE":  "source list",
	"SETTING": "setting find WORDS",
	"REQUEST": "exception list",
}

// wrongArguments says which arguments a command wants, and where to find what they name.
func wrongArguments(c *cli.Command, expected string) error {
	if c.NArg() > 0 {
		return usage("%s takes %s, and was given %s.", c.FullName(), expected, counted(c.NArg(), "argument"))
	}
	first := strings.Trim(strings.Fields(expected)[0], "[]")
	article := "a"
	if strings.ContainsAny(first[:1], "AEIOU") {
		article = "an"
	}
	text := fmt.Sprintf("Name %s %s.", article, strings.ToLower(first))
	if list := listedBy[first]; list != "" {
		text += " List them with: zridge " + list
	}
	return usage("%s", text)
}

// prepare gives every command of the tree the same manners towards wrong usage.
func prepare(c *cli.Command) {
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		return usage("%s; see `%s --help`", err.Error(), c.FullName())
	}
	if len(c.Commands) > 0 && c.Action == nil {
		c.Action = func(_ context.Context, c *cli.Command) error {
			if word := c.Args().First(); word != "" {
				return unknownCommand(c, word)
			}
			return cli.ShowSubcommandHelp(c)
		}
	}
	c.HideHelpCommand = len(c.Commands) > 0 && c.Name != "zridge" // `zridge help COMMAND …` is enough
	for _, sub := range c.Commands {
		prepare(sub)
	}
}
