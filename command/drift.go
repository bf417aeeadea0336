// This file implements `zridge drift`: what was altered on laptops.

package command

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

func driftCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "drift", Usage: "what was altered on laptops, by whom, and what is put right again and again",
		Description: "Exit status 3 says that another program fights a policy.\n\nExamples:\n  zridge drift\n" +
			"  zridge drift --device LT-0110 --since 24h",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "device", Usage: "on this `DEVICE`, by id or serial:NUMBER"},
			&cli.StringFlag{Name: "setting", Usage: "of this `SETTING`"},
			&cli.DurationFlag{Name: "since", Usage: "within this `TIME` until now"},
			formatFlag("text", "json"),
		},
		Action: asked(s, 0, "", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			q := url.Values{}
			if device := c.String("device"); device != "" {
				id, err := deviceID(ctx, api, device)
				if err != nil {
					return err
				}
				q.Set("device", id)
			}
			if id := c.String("setting"); id != "" {
				q.Set("setting", id)
			}
			if since := c.Duration("since"); since > 0 {
				q.Set("since", time.Now().Add(-since).UTC().Format(time.RFC3339))
			}
			d, err := client.Get[wire.Drift](ctx, api, "/drift", q)
			if err != nil {
				return err
			}
			if err := printed(s, c, d, func() { printDrift(s, d) }); err != nil {
				return err
			}
			if len(d.Fights) > 0 {
				return &exitError{exitFindings, ""}
			}
			return nil
		}),
	}
}

func printDrift(s Streams, d wire.Drift) {
	for _, f := range d.Fights {
		fmt.Fprintf(s.Out, "%s was put right %s within a day, by %s, on %s: another program "+
			"sets it, too.\n", f.Setting, counted(f.Times, "time"),
			strings.Join(f.Policies, ", "), strings.Join(f.Devices, ", "))
	}
	if len(d.Records) == 0 {
		fmt.Fprintln(s.Out, "Nothing was altered on a laptop.")
		return
	}
	rows := make([][]string, len(d.Records))
	for i, r := range d.Records {
		done := "left, as the policy says"
		if r.Repaired {
			done = "put right"
		}
		rows[i] = []string{moment(r.At), r.Device, r.Setting, valueText(r.Found), valueText(r.Wanted), done, r.By}
	}
	printTable(s.Out, []string{"at", "device", "setting", "found", "wanted", "and then", "by"}, rows)
}
