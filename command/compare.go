// This file implements the commands that compare laptops and move them.

package command

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func compareCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "compare",
		Usage:     "two devices side by side: what differs, and why",
		ArgsUsage: "DEVICE DEVICE",
		Flags:     []cli.Flag{formatFlag("text", "json")},
		Action: asked(s, 2, "two devices", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			var two [2]string
			for i := range two {
				var err error
				if two[i], err = deviceID(ctx, api, c.Args().Get(i)); err != nil {
					return err
				}
			}
			w, err := client.Get[wire.Comparison](ctx, api, client.Path("devices", two[0], "beside", two[1]), nil)
			if err != nil {
				return err
			}
			return printed(s, c, w, func() { printComparison(s, w, two[0], two[1]) })
		}),
	}
}

func supposeCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:        "suppose",
		Usage:       "a device as it is beside what it would be; nothing is altered",
		ArgsUsage:   "DEVICE",
		Description: "Example:\n  zridge device suppose LT-0110 --unit slipway --join on-call",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "unit", Usage: "it moves to this `UNIT`"},
			&cli.StringSliceFlag{Name: "join", Usage: "it joins this `GROUP`"},
			&cli.StringSliceFlag{Name: "leave", Usage: "it leaves this `GROUP`"},
			&cli.StringFlag{Name: "owner", Usage: "it gets this `PERSON` as its owner; empty: nobody"},
			&cli.StringFlag{Name: "person", Usage: "this `PERSON` signs in"},
			formatFlag("text", "json"),
		},
		Action: asked(s, 1, "DEVICE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			in := wire.Supposed{Unit: c.String("unit"), Join: c.StringSlice("join"), Leave: c.StringSlice("leave"), Person: c.String("person")}
			if c.IsSet("owner") {
				owner := c.String("owner")
				in.Owner = &owner
			}
			id, err := deviceID(ctx, api, c.Args().First())
			if err != nil {
				return err
			}
			w, err := client.Post[wire.Comparison](ctx, api, client.Path("devices", id, "suppose"), in)
			if err != nil {
				return err
			}
			return printed(s, c, w, func() { printComparison(s, w, "as it is", "as it would be") })
		}),
	}
}

func moveCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "move", Usage: "give devices another unit of their own, in a change, and say what that does", ArgsUsage: "DEVICE …",
		Flags: []cli.Flag{&cli.StringFlag{Name: "unit", Usage: "the `UNIT`; empty: they follow their owners"}, changeFlag()},
		Action: writing(s, -1, "DEVICE, once or more", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
			n, err := client.Post[wire.Edited](
				ctx,
				api,
				client.Path("changes", change.ID, "moved-devices"),
				wire.Move{Devices: c.Args().Slice(), Unit: c.String("unit")},
			)
			if err != nil {
				return err
			}
			fmt.Fprintf(s.Out, "%s in change %s\n", counted(n.Edits, "edit"), change.ID)
			return showImpact(ctx, api, s.Out, change.ID, "text")
		}),
	}
}

func printComparison(s Streams, w wire.Comparison, a, b string) {
	fmt.Fprintf(s.Out, "%d of %s differ\n", w.Differ, counted(len(w.Rows), "setting"))
	for _, line := range []struct {
		word string
		list []string
	}{{"policies for " + a + " alone", w.OnlyA}, {"policies for " + b + " alone", w.OnlyB}, {"groups of " + a + " alone", w.GroupsA},
		{"groups of " + b + " alone", w.GroupsB}} {
		if len(line.list) > 0 {
			fmt.Fprintf(s.Out, "%s: %s\n", line.word, strings.Join(line.list, ", "))
		}
	}
	for _, f := range w.Facts {
		fmt.Fprintf(s.Out, "fact %s: %s, %s\n", f.Name, orDefault(valueText(f.A), "not known"), orDefault(valueText(f.B), "not known"))
	}
	var rows [][]string
	for _, r := range w.Rows {
		if !r.Same {
			rows = append(rows, []string{r.Setting, sideText(r.A), sideText(r.B)})
		}
	}
	if len(rows) > 0 {
		printTable(s.Out, []string{"setting", a, b}, rows)
	}
}

// sideText is a setting's outcome with where it comes from.
func sideText(a *files.SettingAnswer) string {
	if a == nil {
		return "not set"
	}
	text := a.Status
	if a.Status == "set" {
		text = valueText(a.Value)
	}
	if len(a.From) > 0 {
		text += " from " + strings.Join(a.From, ", ")
	}
	return text
}
