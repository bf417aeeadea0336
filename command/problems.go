// This file implements `zridge problems`.

package command

import (
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/formats/wire"
)

func problemsCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "problems", Usage: "settings that do not fit together on laptops, as the dictionary's checks find them", ArgsUsage: " ",
		Description: "Each problem has its check, the settings, the policies they come from, and the laptops.\n\n" +
			"Examples:\n  zridge problems --estate demo/estate\n  zridge problems --at 2026-10-03T14:00",
		Flags: []cli.Flag{
			estateFlag(), dateFlag(), atFlag(), formatFlag("text", "json"),
			&cli.BoolFlag{Name: "strict", Usage: "exit with status 3 when there is a problem"},
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() > 0 {
				return wrongArguments(c, "no arguments")
			}
			found, err := problemsFound(ctx, c)
			if err != nil {
				return err
			}
			err = printed(s, c, found, func() {
				for _, f := range found {
					fmt.Fprintf(s.Out, "%s on %s: %s\n", f.Check, counted(f.DeviceCount, "device"), f.Message)
					fmt.Fprintf(s.Out, "  %s, from %s\n  %s\n", orNone(f.Settings), orNone(f.From), shortened(f.Devices, 12))
				}
				fmt.Fprintln(s.Out, counted(len(found), "problem"))
			})
			if err == nil && c.Bool("strict") && len(found) > 0 {
				return &exitError{exitFindings, ""}
			}
			return err
		},
	}
}

// problemsFound gives the problems of a folder, or of the service, with all of their devices.
func problemsFound(ctx context.Context, c *cli.Command) ([]wire.FoundProblem, error) {
	if c.IsSet("estate") {
		snapshot, err := readFolder(c, c.String("estate"))
		if err != nil {
			return nil, err
		}
		return wire.Problems(resolve.Compile(snapshot).Estate().Problems(), len(snapshot.Devices)), nil
	}
	api, err := signedIn()
	if err != nil {
		return nil, err
	}
	return client.Get[[]wire.FoundProblem](ctx, api, "/problems", reading{at: c.String("at")}.query())
}
