// This file has the commands that say what comes to a unit, a group, or every place.

package command

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

func inheritsCommand(s Streams, what, path string) *cli.Command {
	var names []string
	for _, i := range inheritances {
		names = append(names, i.name)
	}
	return &cli.Command{
		Name:      "inherits",
		Usage:     "how settings come to a " + what + ": from above, overridden by what, locked above, detached, its own",
		ArgsUsage: strings.ToUpper(what),
		Description: "Counts are laptops of the " + what + ". With --why every entry is listed with where it comes from and what is in " +
			"effect instead of it.\n\n" +
			"Example:\n  zridge " + what + " inherits " + map[string]string{"unit": "slipway", "group": "field-laptops"}[what] +
			" --only overridden --why",
		Flags: []cli.Flag{
			&cli.StringFlag{
				Name:  "only",
				Usage: "settings with laptops of this `WAY`: " + strings.Join(names, ", "),
				Validator: func(v string) error {
					if !slices.Contains(names, v) {
						return fmt.Errorf("found %q, expected one of %s", v, strings.Join(names, ", "))
					}
					return nil
				},
			},
			&cli.BoolFlag{
				Name:  "why",
				Usage: "every entry too",
			},
			readChangeFlag(), liveFlag(), atFlag(),
			formatFlag("text", "json"),
		},
		Action: asked(s, 1, strings.ToUpper(what), func(ctx context.Context, c *cli.Command, api *client.Client) error {
			from, err := readingOf(ctx, s, c, api)
			if err != nil {
				return err
			}
			i, err := client.Get[wire.Inheritance](ctx, api, client.Path(path, c.Args().First(), "inherits"), from.query())
			if err != nil {
				return err
			}
			for _, way := range inheritances {
				if way.name == c.String("only") {
					i.Settings = slices.DeleteFunc(i.Settings, func(s wire.InheritedSetting) bool { return way.of(s) == 0 })
				}
			}
			return printed(s, c, i, func() { printInheritance(s, i, c.Bool("why")) })
		}),
	}
}

func printInheritance(s Streams, i wire.Inheritance, why bool) {
	fmt.Fprintf(s.Out, "%s: %s", i.Place, counted(i.Devices, "laptop"))
	if len(i.Above) > 0 {
		fmt.Fprintf(s.Out, "; above it %s", strings.Join(i.Above, " › "))
	}
	if len(i.Detach) > 0 {
		fmt.Fprintf(s.Out, "; detached: %s", detachText(i.Detach))
	}
	fmt.Fprintln(s.Out)
	if why {
		printArrivals(s, i.Settings)
	} else {
		printWays(s, i.Settings)
	}
	fmt.Fprintln(s.Out, counted(len(i.Settings), "setting"))
}

// printWays prints a table of settings with how many laptops have each in which way.
func printWays(s Streams, list []wire.InheritedSetting) {
	header := []string{"setting", "on most", "otherwise"}
	for _, way := range inheritances {
		header = append(header, way.name)
	}
	var rows [][]string
	for _, in := range list {
		row := []string{in.Setting, clipped(prevailingText(in.Prevailing), 36), orDash(in.Prevailing.Others)}
		for _, way := range inheritances {
			row = append(row, orDash(way.of(in)))
		}
		rows = append(rows, row)
	}
	if len(rows) > 0 {
		printTable(s.Out, header, rows)
	}
}

// printArrivals prints settings with every entry.
func printArrivals(s Streams, list []wire.InheritedSetting) {
	for _, in := range list {
		fmt.Fprintf(s.Out, "%s: %s on %d", in.Setting, clipped(prevailingText(in.Prevailing), 60), in.Prevailing.Devices)
		if in.Prevailing.Others > 0 {
			fmt.Fprintf(s.Out, ", otherwise on %d", in.Prevailing.Others)
		}
		fmt.Fprintln(s.Out)
		rows := make([][]string, len(in.Arrivals))
		for i, a := range in.Arrivals {
			lock := ""
			if a.Locked {
				lock = "locked"
			}
			rows[i] = []string{"  " + a.Whence, a.Level, a.Policy, clipped(a.Value.String(), 40), lock, fmt.Sprint(a.Devices), beatenText(a)}
		}
		printTable(s.Out, []string{"  from", "level", "policy", "value", "", "laptops", "where"}, rows)
	}
}

func orDash(n int) string {
	if n == 0 {
		return "–"
	}
	return fmt.Sprint(n)
}

func clipped(text string, most int) string {
	if r := []rune(text); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return text
}

// beatenText says what is in effect instead of an entry.
func beatenText(a wire.Arrival) string {
	var parts []string
	if n := a.Fates["won"]; n > 0 {
		parts = append(parts, fmt.Sprintf("in effect on %d", n))
	}
	if n := a.Fates["clashing"]; n > 0 {
		parts = append(parts, fmt.Sprintf("conflicts on %d", n))
	}
	if n := a.Fates["detached"]; n > 0 {
		parts = append(parts, fmt.Sprintf("detached on %d", n))
	}
	for _, b := range a.Beaten {
		name := b.Policy
		if b.Exception != "" {
			name = "exception " + b.Exception
		}
		parts = append(parts, fmt.Sprintf("overridden by %s on %d", name, b.Devices))
	}
	return strings.Join(parts, ", ")
}

func prevailingText(p wire.Prevailing) string {
	switch p.State.Status {
	case "":
		return "not set"
	case "set":
		return valueText(p.State.Value)
	case "conflict":
		return "conflict: " + strings.Join(p.Policies, ", ")
	}
	return p.State.Status
}

func matrixCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "matrix",
		Usage:     "settings beside units: where values differ",
		ArgsUsage: " ",
		Description: "A unit and those right below it; without --unit the organisation. A cell has what most laptops have, and " +
			"+N where N " +
			"have something else;\n* marks what is not so in the unit above.\n\nExample:\n" +
			"  zridge unit matrix --unit survey-fleet --area Sign-in",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "unit", Usage: "this `UNIT`"},
			&cli.StringFlag{Name: "area", Usage: "settings of one `AREA`"},
			&cli.BoolFlag{Name: "deep", Usage: "all units below"},
			&cli.BoolFlag{Name: "all", Usage: "also what every laptop has alike"},
			readChangeFlag(), liveFlag(), atFlag(),
			formatFlag("text", "json"),
		},
		Action: asked(s, 0, "none", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			from, err := readingOf(ctx, s, c, api)
			if err != nil {
				return err
			}
			query := given(c, "unit", "area")
			maps.Copy(query, from.query())
			for _, flag := range []string{"deep", "all"} {
				if c.Bool(flag) {
					query.Set(flag, "true")
				}
			}
			m, err := client.Get[wire.UnitMatrix](ctx, api, "/unit-matrix", query)
			if err != nil {
				return err
			}
			return printed(s, c, m, func() {
				header := []string{"setting"}
				for _, u := range m.Units {
					header = append(header, fmt.Sprintf("%s (%d)", u.Unit, u.Devices))
				}
				// What is left beside the names of the settings is shared by the units.
				most := max(8, min(28, (widthOf(s.Out)-28)/max(1, len(m.Units))-between-4))
				rows := make([][]string, len(m.Rows))
				for i, r := range m.Rows {
					rows[i] = []string{r.Setting}
					for _, cell := range r.Cells {
						rows[i] = append(rows[i], cellText(cell, most))
					}
				}
				if len(rows) > 0 {
					printTable(s.Out, header, rows)
				}
				fmt.Fprintf(s.Out, "%s differ there; %d are alike on every laptop\n", counted(len(m.Rows), "setting"), m.Even)
			})
		}),
	}
}

// cellText shows what prevails in a unit, of most characters at most.
func cellText(p wire.Prevailing, most int) string {
	if p.Devices == 0 {
		return "no laptops"
	}
	out := clipped(prevailingText(p), most)
	if p.Apart {
		out = "*" + out
	}
	if p.Others > 0 {
		out += fmt.Sprintf(" +%d", p.Others)
	}
	return out
}

func placesCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "places",
		Usage:     "what a setting is in every unit, and where it is given",
		ArgsUsage: "SETTING",
		Description: "A unit has what most of its laptops have, those of the units below it among them; * marks what is not so " +
			"in the unit " +
			"above.\n\nExample:\n  zridge setting places screen.lock_after_minutes",
		Flags: append(readingFlags(), formatFlag("text", "json")),
		Action: asked(s, 1, "SETTING", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			from, err := readingOf(ctx, s, c, api)
			if err != nil {
				return err
			}
			w, err := client.Get[wire.Whereabouts](ctx, api, client.Path("settings", c.Args().First(), "places"), from.query())
			if err != nil {
				return err
			}
			return printed(s, c, w, func() {
				var rows [][]string
				for _, u := range w.Units {
					rows = append(
						rows,
						[]string{
							strings.Repeat("  ", u.Place.Depth) + u.Place.Unit,
							cellText(u.Prevailing, 28),
							fmt.Sprint(u.Prevailing.Devices),
							fmt.Sprint(u.Prevailing.Others),
							decidersText(u.Deciders),
							givenText(u.Given),
						},
					)
				}
				for _, g := range w.Groups {
					rows = append(
						rows,
						[]string{
							"group " + g.Group,
							cellText(g.Prevailing, 28),
							fmt.Sprint(g.Prevailing.Devices),
							fmt.Sprint(g.Prevailing.Others),
							decidersText(g.Deciders),
							givenText(g.Given),
						},
					)
				}
				printTable(s.Out, []string{"place", "on most", "laptops", "otherwise", "from", "also assigned here"}, rows)
			})
		}),
	}
}

// decidersText names the policies that decide in a place: all of two, the first of more.
func decidersText(list []wire.Decider) string {
	switch len(list) {
	case 0:
		return ""
	case 1:
		return list[0].Policy
	case 2:
		return fmt.Sprintf("%s %d, %s %d", list[0].Policy, list[0].Devices, list[1].Policy, list[1].Devices)
	}
	return fmt.Sprintf("%s %d, %d others", list[0].Policy, list[0].Devices, len(list)-1)
}

// givenText says which values are assigned to a place by name and not in effect on all laptops
// there that they reach.
func givenText(list []wire.Given) string {
	var parts []string
	for _, g := range list {
		text := fmt.Sprintf("%s = %s", g.Policy, g.Value)
		if g.Locked {
			text += " (locked)"
		}
		switch {
		case g.Devices == 0:
			text += ", reaches no laptop"
		case g.Decides == 0:
			text += fmt.Sprintf(", overridden on all %d", g.Devices)
		case g.Decides < g.Devices:
			text += fmt.Sprintf(", in effect on %d of %d", g.Decides, g.Devices)
		default:
			continue // named as what decides
		}
		parts = append(parts, text)
	}
	return strings.Join(parts, "; ")
}
