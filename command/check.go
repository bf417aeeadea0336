// This file implements `zridge check`.

package command

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/formats/wire"
)

func checkCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "check",
		Usage:     "read an estate folder, validate it and report what does not fit together",
		ArgsUsage: "FOLDER",
		Description: "Prints every fault with file, line and column (exit status 1, nothing is loaded), else conflicts,\nproblems " +
			"and lints.\n\n" +
			"Examples:\n  zridge check demo/estate\n  zridge check --strict --date 2026-12-01 demo/estate",
		Flags: []cli.Flag{
			dateFlag(), formatFlag("text", "json"),
			&cli.BoolFlag{Name: "strict", Usage: "exit with status 3 when there is a conflict or problem"},
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.NArg() != 1 {
				return usage("check: found %d arguments, expected one FOLDER", c.NArg())
			}
			snapshot, err := readFolder(c, c.Args().First())
			if faults, bad := err.(problem.Faults); bad { // they are what was asked for, and go where findings go
				if c.String("format") != "json" {
					printFaults(s.Out, faults)
				} else if err := printJSON(s.Out, map[string]any{"faults": faults}); err != nil {
					return err
				}
				return &exitError{exitFault, ""}
			}
			if err != nil {
				return err
			}
			plan := resolve.Compile(snapshot)
			whole := plan.Estate()
			conflicts, problems, lints := whole.Conflicts(), whole.Problems(), plan.Lints()
			if c.String("format") == "json" {
				err = printJSON(s.Out, map[string]any{
					"faults":    []any{},
					"conflicts": conflictsOf(plan, conflicts),
					"problems":  wire.Problems(problems, len(snapshot.Devices)),
					"lints":     wire.Lints(lints),
				})
			} else {
				for _, f := range conflicts {
					fmt.Fprintf(s.Out, "conflict  %s: %s disagree on %s\n", f.Setting, strings.Join(f.Policies, ", "), counted(f.Devices.Len(), "device"))
				}
				for _, f := range problems {
					fmt.Fprintf(s.Out, "problem   %s: %s (from %s) on %s\n", f.Check, f.Message, orNone(f.From), counted(f.Devices.Len(), "device"))
				}
				for _, l := range lints {
					fmt.Fprintln(s.Out, "lint      "+lintText(l))
				}
				fmt.Fprintf(s.Out, "%s, %s, %s, %s: %s, %s, %s\n", counted(len(snapshot.Units), "unit"), counted(len(snapshot.People), "person"),
					counted(len(snapshot.Devices), "device"), counted(len(snapshot.Policies), "policy"),
					counted(len(conflicts), "conflict"), counted(len(problems), "problem"), counted(len(lints), "lint"))
			}
			if err == nil && c.Bool("strict") && len(conflicts)+len(problems) > 0 {
				return &exitError{exitFindings, ""}
			}
			return err
		},
	}
}

func lintText(l outcome.Lint) string {
	switch l.Kind {
	case outcome.ReachesNobody:
		return fmt.Sprintf("%s: the policy %s applies to no device", l.Kind, l.Policy)
	case outcome.NeverWins:
		return fmt.Sprintf("%s: %s in %s wins on none of %s", l.Kind, l.Setting, l.Policy, counted(l.Devices, "device"))
	case outcome.FailingRule:
		if l.Group != "" {
			return fmt.Sprintf("%s: the rule of the group %s fails on %d, and adds none of them", l.Kind, l.Group, l.Devices)
		}
		return fmt.Sprintf("%s: the condition of the policy %s fails on %s", l.Kind, l.Policy, counted(l.Devices, "device"))
	case outcome.UnusedGroup:
		return fmt.Sprintf("%s: nothing names the group %s", l.Kind, l.Group)
	case outcome.Expired:
		return fmt.Sprintf("%s: the exception %s from %s is over", l.Kind, l.Exception, l.Setting)
	default:
		return fmt.Sprintf(
			"%s: %s in %s repeats a value that is in effect anyway (%s) on %s",
			l.Kind,
			l.Setting,
			l.Policy,
			orNone(l.Beside),
			counted(l.Devices, "device"),
		)
	}
}
