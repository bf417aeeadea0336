// This file implements `zridge setting`.

package command

import (
	"context"
	"fmt"
	"maps"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func settingCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "setting", Usage: "the dictionary: search, show, places, define, retire",
		Commands: []*cli.Command{
			{
				Name:        "search",
				Usage:       "find settings by plain words, typing errors forgiven",
				ArgsUsage:   "WORDS…",
				Description: "Example:\n  zridge setting search nobody may copy to usb",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "platform", Usage: "settings of these `PLATFORMS` first: linux,macos"},
					&cli.StringFlag{Name: "area", Usage: "only of this `AREA`"},
					formatFlag("text", "json"),
				},
				Action: func(ctx context.Context, c *cli.Command) error {
					api, err := signedIn()
					if err != nil {
						return err
					}
					query := given(c, "platform", "area")
					query.Set("q", strings.Join(c.Args().Slice(), " "))
					return listed(ctx, s, c, api, "/settings", query, []string{"setting", "title", "area", "set in"}, func(d wire.Setting) []string {
						return []string{d.ID, d.Title, d.Area, counted(len(d.Policies), "policy")}
					})
				},
			},
			{
				Name:      "show",
				Usage:     "what a setting does, who has it, and where it is set",
				ArgsUsage: "SETTING",
				Description: "With --policy, others are seen beside that policy: for how many of the same laptops they set it, and " +
					"what becomes " +
					"of it.\n\nExample:\n  zridge setting show media.usb_storage --policy field-usb",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "policy", Usage: "beside this `POLICY`"},
					readChangeFlag(), liveFlag(), atFlag(),
					formatFlag("text", "json"),
				},
				Action: asked(s, 1, "SETTING", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					from, err := readingOf(ctx, s, c, api)
					if err != nil {
						return err
					}
					query := given(c, "policy")
					maps.Copy(query, from.query())
					d, err := settingUse(ctx, api, c.Args().First(), query)
					if err != nil {
						return err
					}
					return printed(s, c, d, func() { printSetting(s, d, c.String("policy")) })
				}),
			},
			placesCommand(s),
			{
				Name:      "define",
				Usage:     "put definitions of your own into a change",
				ArgsUsage: "FILE",
				Description: "FILE holds a list `settings` of the estate format. A definition that is used is altered with its " +
					"impact shown; one with the id of a\nshipped one replaces it.\n\nExample:\n  zridge setting define plotter.yaml",
				Flags: []cli.Flag{changeFlag()},
				Action: writing(s, 1, "FILE", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
					objects, err := readObjects(s, c.Args().First())
					if err != nil {
						return err
					}
					for _, o := range objects {
						if o.Kind != estate.KindSetting && o.Kind != estate.KindCheck {
							return usage("define: found an object of the list %s, expected settings and checks", o.Kind)
						}
						body, err := files.EncodeJSON(o.Value)
						if err != nil {
							return err
						}
						if err := putEdit(ctx, api, s.Out, change, http.MethodPut, string(o.Kind), files.ObjectID(o.Value), "", body); err != nil {
							return err
						}
					}
					return showImpact(ctx, api, s.Out, change.ID, "text")
				}),
			},
			{
				Name:      "retire",
				Usage:     "take a definition of your own away; one that is used is refused",
				ArgsUsage: "SETTING",
				Flags:     []cli.Flag{changeFlag()},
				Action: writing(s, 1, "SETTING", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
					return putEdit(ctx, api, s.Out, change, http.MethodPost, string(estate.KindSetting), c.Args().First(), "/retire", nil)
				}),
			},
		},
	}
}

func printSetting(s Streams, d wire.SettingUse, policy string) {
	fmt.Fprintf(s.Out, "%s  (%s)\n%s\n\n", d.Title, d.ID, d.Help)
	rows := [][]string{
		{"area", d.Area + ", " + d.Kind},
		{"values", shapeText(d.Setting)},
		{"unmanaged", valueText(d.Default)},
		{"combines", d.Combines},
		{"supported by", d.Support},
	}
	if len(d.Effects) > 0 {
		rows = append(rows, []string{"effects", strings.Join(d.Effects, ", ")})
	}
	if d.Exceptions > 0 {
		rows = append(rows, []string{"exceptions", fmt.Sprintf("%d count today", d.Exceptions)})
	}
	whose := "of all"
	if policy != "" {
		whose = "that " + policy + " reaches"
	}
	total := 0
	for _, n := range d.Lacking {
		total += n
	}
	if d.NotKnown > 0 {
		rows = append(rows, []string{"not known", fmt.Sprintf("on %s whether it is supported", counted(d.NotKnown, "device"))})
	}
	rows = append(rows, []string{"not supported", fmt.Sprintf("on %d of %s %s", total, counted(d.Devices, "device"), whose)})
	printTable(s.Out, []string{"", ""}, rows)
	if len(d.Elsewhere) == 0 {
		fmt.Fprintln(s.Out, "\nNo active policy sets it.")
		return
	}
	fmt.Fprintln(s.Out)
	list := make([][]string, len(d.Elsewhere))
	for i, a := range d.Elsewhere {
		list[i] = []string{a.Policy, a.Value.String(), counted(a.Devices, "device"), "", a.Title}
		if policy != "" {
			list[i][3] = fmt.Sprintf("%d in common, %s", a.Shared, orDefault(relationWords[a.Relation], a.Relation))
		}
		if a.Locked {
			list[i][1] += " (locked)"
		}
	}
	printTable(s.Out, []string{"set in", "to", "on", "", ""}, list)
}

// relationWords say what another policy's entry is to that of the policy that is looked at.
var relationWords = map[string]string{
	"repeats": "the same value", "conflicts": "in conflict", "overrides": "overrides it", "overridden": "overridden", "adds": "added to it",
	"neither": "neither is in effect", "apart": "none of its laptops",
}

// shapeText says which values a setting takes.
func shapeText(d wire.Setting) string {
	switch d.Type {
	case "choice":
		text := strings.Join(d.Options, ", ")
		if d.Stricter == "later" {
			text += " (the strictest last)"
		}
		return text
	case "integer":
		text := "a whole number"
		if d.Min != nil && d.Max != nil {
			text += fmt.Sprintf(" from %d to %d", *d.Min, *d.Max)
		}
		return text + " " + d.Measure
	case "table":
		names := make([]string, len(d.Columns))
		for i, c := range d.Columns {
			names[i] = c.Name
			if len(c.Options) > 0 {
				names[i] += " (" + strings.Join(c.Options, ", ") + ")"
			}
		}
		return "a table of " + strings.Join(names, "; ")
	case "file":
		return "a file: " + orDefault(d.Content, "any")
	case "bool":
		return "on or off"
	case "list":
		return "a list of texts"
	}
	return string(d.Type)
}

// parseEntry splits SETTING=VALUE.
func parseEntry(text string) (id, value string, err error) {
	id, value, found := strings.Cut(text, "=")
	if !found || id == "" {
		return "", "", usage("found %s, expected SETTING=VALUE such as screen.lock_after_minutes=15", problem.Quote(text))
	}
	return id, value, nil
}
