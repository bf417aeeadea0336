// This file implements `zridge conflicts`.

package command

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/wire"
)

func conflictsCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "conflicts", Usage: "settings that policies disagree about, with the values and the laptops", ArgsUsage: " ",
		Description: "Examples:\n  zridge conflicts --estate demo/estate\n  zridge conflicts --format json",
		Flags: []cli.Flag{
			estateFlag(), dateFlag(), formatFlag("text", "json"),
			&cli.BoolFlag{Name: "strict", Usage: "exit with status 3 when there is a conflict"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() > 0 {
				return usage("conflicts: found %d arguments, expected none", c.NArg())
			}
			found, err := conflictsFound(ctx, c)
			if err != nil {
				return err
			}
			if c.String("format") == "json" {
				err = printJSON(s.Out, found)
			} else {
				for _, f := range found {
					fmt.Fprintf(s.Out, "%s on %s\n", f.Setting, counted(len(f.Devices), "device"))
					for _, v := range f.Values {
						fmt.Fprintf(s.Out, "  %s = %s (%s, priority %d)\n", v.Policy, v.Value, v.Level, v.Priority)
					}
					fmt.Fprintf(s.Out, "  %s\n", shortened(f.Devices, 12))
				}
				fmt.Fprintln(s.Out, counted(len(found), "conflict"))
			}
			if err == nil && c.Bool("strict") && len(found) > 0 {
				return &exitError{exitFindings, ""}
			}
			return err
		},
	}
}

func conflictsFound(ctx context.Context, c *cli.Command) ([]wire.Conflict, error) {
	if !c.IsSet("estate") {
		return askConflicts(ctx, c)
	}
	snapshot, err := readFolder(c, c.String("estate"))
	if err != nil {
		return nil, err
	}
	plan := resolve.Compile(snapshot)
	return conflictsOf(plan, plan.Estate().Conflicts()), nil
}

// conflictsOf gives conflicts with all of their devices.
func conflictsOf(plan *resolve.Plan, found []resolve.ConflictFound) []wire.Conflict {
	return wire.Conflicts(found, plan.Definition, len(plan.Snapshot().Devices))
}

// shortened lists the first ids and how many more there are.
func shortened(ids []string, most int) string {
	if len(ids) <= most {
		return strings.Join(ids, " ")
	}
	return fmt.Sprintf("%s and %d more", strings.Join(ids[:most], " "), len(ids)-most)
}
