// This file implements `zridge rollout`.

package command

import (
	"bufio"
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
)

func rolloutCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:  "rollout",
		Usage: "what becomes of a change on its way to laptops",
		Commands: []*cli.Command{
			{
				Name:      "rehearse",
				Usage:     "play a rollout with made-up events, without a service",
				ArgsUsage: "FILE",
				Description: "FILE is a JSON document with a rollout plan, laptops and events; - reads it from the standard input.\n" +
					"docs/rollout.md describes it. Each thing that happens is printed as a line of JSON, in order; the last\n" +
					"line counts the laptops by state. A document with faults prints them, and nothing else.\n\n" +
					"Example:\n  zridge rollout rehearse demo/rehearsal.json",
				Action: func(_ context.Context, c *cli.Command) error {
					if c.NArg() != 1 {
						return usage("rollout rehearse: found %s, expected one FILE", counted(c.NArg(), "argument"))
					}
					return rehearse(s, c.Args().First())
				},
			},
		},
	}
}

func rehearse(s Streams, name string) error {
	data, err := readInput(s, name)
	if err != nil {
		return fmt.Errorf("reading the rehearsal: %w", err)
	}
	rehearsal, err := files.ReadRehearsal(name, data)
	if err == nil {
		out := bufio.NewWriter(s.Out)
		if err = rehearsal.Run(out); err == nil {
			return out.Flush()
		}
	}
	if faults, bad := err.(problem.Faults); bad {
		printFaults(s.Err, faults)
		return &exitError{exitFault, ""}
	}
	return err
}
