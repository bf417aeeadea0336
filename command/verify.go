// This file implements `zridge device verify`: what a laptop has, read again now, beside what is wanted of it.

package command

import (
	"context"
	"fmt"
	"io"
	"time"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// askEach is how often it is looked whether a laptop that was told to check in has done so.
const askEach = 250 * time.Millisecond

func verifyCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "verify", Usage: "let a laptop check in now, and put what it has beside what is wanted", ArgsUsage: "DEVICE",
		Description: "The laptop must hold a connection, as the agent does. It reads each setting again from where it really lives.\n" +
			"Exit status 3 says that something is not in force.\n\nExample:\n  zridge device verify LT-0110",
		Flags: []cli.Flag{
			&cli.DurationFlag{Name: "within", Value: 30 * time.Second, Usage: "`TIME` that the laptop has"},
			formatFlag("text", "json"),
		},
		Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			id, err := deviceID(ctx, api, c.Args().First())
			if err != nil {
				return err
			}
			p, err := checkedInNow(ctx, api, id, c.Duration("within"))
			if err != nil {
				return err
			}
			list := verified(p)
			if err := printed(s, c, list, func() { printVerified(s.Out, p, list) }); err != nil {
				return err
			}
			for _, v := range list {
				if !v.InForce {
					return &exitError{exitFindings, ""}
				}
			}
			return nil
		}),
	}
}

// checkedInNow tells a laptop to check in, and gives its page once it has.
func checkedInNow(ctx context.Context, api *client.Client, id string, within time.Duration) (p wire.DevicePage, err error) {
	path := client.Path("devices", id)
	before, err := client.Get[wire.DevicePage](ctx, api, path, nil)
	if err != nil {
		return p, err
	}
	told, err := client.Post[wire.Told](ctx, api, client.Path("devices", id, "check-in"), nil)
	if err != nil {
		return p, err
	}
	if !told.Told {
		return p, &exitError{exitFault, id + " holds no connection and cannot be told. It checks in by itself, as it usually does."}
	}
	limit, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	for {
		if p, err = client.Get[wire.DevicePage](ctx, api, path, nil); err != nil {
			return p, err
		}
		if was := before.Device.LastSeen; p.Device.LastSeen != nil && (was == nil || p.Device.LastSeen.After(*was)) {
			return p, nil
		}
		select {
		case <-limit.Done():
			return p, &exitError{exitFault, fmt.Sprintf("%s was told, and has not checked in within %s.", id, within)}
		case <-time.After(askEach):
		}
	}
}

// verification is a setting as it is wanted, and as the laptop has it.
type verification struct {
	wire.Delivery
	InForce bool `json:"in_force"`
}

// verified gives the settings that are wanted of a laptop, or that it reports though nothing wants them.
func verified(p wire.DevicePage) []verification {
	out := make([]verification, len(p.Deliveries))
	for i, d := range p.Deliveries {
		is := d.Reported
		out[i] = verification{d, d.Wanted == nil && is == nil || d.Wanted != nil && is != nil && d.Wanted.Equal(*is)}
	}
	return out
}

func printVerified(w io.Writer, p wire.DevicePage, list []verification) {
	rows := make([][]string, len(list))
	in := 0
	for i, v := range list {
		word := "NO"
		if v.InForce {
			word = "yes"
			in++
		}
		rows[i] = []string{v.Setting, word, valueText(v.Wanted), valueText(v.Reported), v.Reason}
	}
	printTable(w, []string{"setting", "in force", "wanted", "on the laptop now", "why not"}, rows)
	fmt.Fprintf(w, "%d of %s in force on %s, read %s\n", in, counted(len(list), "setting"), p.Device.ID, moment(*p.Device.LastSeen))
}
