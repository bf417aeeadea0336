// This file has the commands about units: the tree, what units and groups inherit, and what
// settings are where.

package command

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

func unitCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "unit", Usage: "units: list, inherits, matrix, move, detach, missed",
		Commands: []*cli.Command{
			listing(
				s,
				"list",
				"units as a tree, with counts",
				"/units",
				[]string{"unit", "laptops", "in it alone", "people", "policies", "detached", "title"},
				func(u wire.Unit) []string {
					return []string{
						strings.Repeat("  ", u.Depth) + u.ID,
						fmt.Sprint(u.Devices),
						fmt.Sprint(u.Own),
						fmt.Sprint(u.People),
						fmt.Sprint(u.Policies),
						detachText(u.Detach),
						u.Title,
					}
				},
				readChangeFlag(), liveFlag(), atFlag(),
			),
			inheritsCommand(s, "unit", "units"),
			matrixCommand(s),
			{
				Name:      "move",
				Usage:     "put a unit with all below it below another, in a change",
				ArgsUsage: "UNIT",
				Flags:     []cli.Flag{&cli.StringFlag{Name: "below", Required: true, Usage: "the `UNIT` that it goes below"}, changeFlag()},
				Action: writing(s, 1, "UNIT", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
					_, err := client.Post[wire.Edited](
						ctx,
						api,
						client.Path("changes", change.ID, "moved-units"),
						wire.MoveUnit{Unit: c.Args().First(), Parent: c.String("below")},
					)
					if err != nil {
						return err
					}
					return showImpact(ctx, api, s.Out, change.ID, "text")
				}),
			},
			detachCommand(s),
			{
				Name:      "missed",
				Usage:     "places that are detached, and what each missed since",
				ArgsUsage: " ",
				Flags:     []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 0, "none", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					places, err := client.Get[[]wire.DetachedPlace](ctx, api, "/detached", nil)
					if err != nil {
						return err
					}
					return printed(s, c, places, func() {
						for _, p := range places {
							fmt.Fprintf(s.Out, "%s  %s  %s, since %s\n", p.Place, detachText(p.Detach), counted(p.Devices, "laptop"), whenText(p.Since))
							for _, m := range p.Missed {
								was := "was not there"
								if m.Was != nil {
									was = "was " + m.Was.String()
								}
								fmt.Fprintf(s.Out, "  missed %s = %s from %s, on %s (%s)\n", m.Setting, m.Value, m.Policy, counted(m.Devices, "laptop"), was)
							}
						}
						fmt.Fprintln(s.Out, len(places), "in all")
					})
				}),
			},
		},
	}
}

// detachText says what a place detaches, with the reasons and the days of review.
func detachText(list []wire.Detachment) string {
	texts := make([]string, len(list))
	for i, d := range list {
		var more []string
		if d.Reason != "" {
			more = append(more, d.Reason)
		}
		if d.ReviewOn != "" {
			more = append(more, "look again on "+d.ReviewOn)
		}
		if texts[i] = d.What; len(more) > 0 {
			texts[i] += " (" + strings.Join(more, "; ") + ")"
		}
	}
	return strings.Join(texts, ", ")
}

func detachCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "detach",
		Usage:     "stop inheriting kinds of policy or areas of the dictionary in a unit or group; says first what that costs",
		ArgsUsage: "unit:ID or group:ID",
		Description: "Without --yes it only says what would no longer arrive. What the place detaches already stays detached; --inherit " +
			"makes it inherit\neverything again.\n\nExamples:\n" +
			"  zridge unit detach unit:survey-fleet --inherit --yes\n" +
			"  zridge unit detach unit:survey-fleet --area updates --reason \"At sea until March\" --review-on 2027-03-01 --yes",
		Flags: []cli.Flag{
			&cli.StringSliceFlag{Name: "kind", Usage: "`KIND` of policy that no longer arrives: configuration, security, encryption"},
			&cli.StringSliceFlag{Name: "area", Usage: "`AREA` of the dictionary whose settings no longer arrive, such as updates"},
			&cli.StringFlag{Name: "reason", Usage: "the `REASON`, for whoever asks later; needed with --yes"},
			&cli.StringFlag{Name: "review-on", Usage: "`DAY` on which somebody looks at it again, such as 2027-03-01; the overview " +
				"shows it then"},
			&cli.BoolFlag{
				Name:  "keep",
				Usage: "start from today's values, in a policy of its own",
			},
			&cli.BoolFlag{Name: "inherit", Usage: "inherit everything again"},
			&cli.BoolFlag{Name: "yes", Usage: "put it into the change, and do not only look"},
			changeFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if named := len(c.StringSlice("kind"))+len(c.StringSlice("area")) > 0; named == c.Bool("inherit") {
				return usage("detach: name a --kind or --area that the place detaches, or --inherit, and not both")
			}
			if c.Bool("yes") && !c.Bool("inherit") && strings.TrimSpace(c.String("reason")) == "" {
				return usage("detach: found no --reason; whoever sees later that something does not arrive there asks why")
			}
			in := wire.Detach{Place: c.Args().First(), Detach: []wire.Detachment{}, Keep: c.Bool("keep"), Look: !c.Bool("yes")}
			for _, kind := range c.StringSlice("kind") {
				in.Detach = append(in.Detach, wire.Detachment{What: kind, Reason: c.String("reason"), ReviewOn: c.String("review-on")})
			}
			for _, area := range c.StringSlice("area") {
				in.Detach = append(in.Detach, wire.Detachment{What: "area:" + area, Reason: c.String("reason"), ReviewOn: c.String("review-on")})
			}
			// with adds what the place detaches already, in the change or live.
			with := func(ctx context.Context, api *client.Client, change string) error {
				if c.Bool("inherit") {
					return nil
				}
				already, err := detachedBy(ctx, api, change, in.Place)
				for _, d := range already {
					if !slices.ContainsFunc(in.Detach, func(n wire.Detachment) bool { return n.What == d.What }) {
						in.Detach = append(in.Detach, d)
					}
				}
				return err
			}
			say := func(d wire.Detached) {
				fmt.Fprintf(
					s.Out,
					"%d of %s would lose %s from %d policies; later changes from above won't arrive.\n",
					d.Touched,
					counted(d.Devices, "laptop"),
					counted(len(d.Entries), "entry"),
					d.Policies,
				)
				rows := make([][]string, len(d.Entries))
				for i, e := range d.Entries {
					rows[i] = []string{e.Setting, e.Policy, e.Value.String(), fmt.Sprint(e.Devices)}
				}
				printTable(s.Out, []string{"would no longer arrive", "from", "value", "laptops"}, rows)
				if d.Policy != "" {
					fmt.Fprintf(s.Out, "Today's values become the policy %s.\n", d.Policy)
				}
			}
			if in.Look {
				return asked(s, 1, "unit:ID or group:ID", func(ctx context.Context, _ *cli.Command, api *client.Client) error {
					if err := with(ctx, api, ""); err != nil {
						return err
					}
					d, err := client.Post[wire.Detached](ctx, api, "/changes/live/detached", in)
					if err == nil {
						say(d)
						fmt.Fprintln(s.Out, "Nothing was kept; say --yes to put it into a change.")
					}
					return err
				})(ctx, c)
			}
			return writing(s, 1, "unit:ID or group:ID", func(ctx context.Context, _ *cli.Command, api *client.Client, change wire.Change) error {
				if err := with(ctx, api, change.ID); err != nil {
					return err
				}
				d, err := client.Post[wire.Detached](ctx, api, client.Path("changes", change.ID, "detached"), in)
				if err == nil {
					say(d)
				}
				return err
			})(ctx, c)
		},
	}
}

// detachedBy gives what a unit or group detaches, in a change, or in the live estate if none is
// named. A place that is not there detaches nothing.
func detachedBy(ctx context.Context, api *client.Client, change, place string) ([]wire.Detachment, error) {
	query := url.Values{}
	if change != "" {
		query.Set("change", change)
	}
	kind, id, _ := strings.Cut(place, ":")
	if kind == "group" {
		page, err := client.Get[wire.GroupPage](ctx, api, client.Path("groups", id), query)
		return page.Group.Detach, err
	}
	units, err := client.Get[[]wire.Unit](ctx, api, "/units", query)
	for _, u := range units {
		if u.ID == id {
			return u.Detach, err
		}
	}
	return nil, err
}

// inheritances are the ways in which a setting comes to a place, each with its count of laptops.
var inheritances = []struct {
	name string
	of   func(wire.InheritedSetting) int
}{
	{"above", func(i wire.InheritedSetting) int { return i.Above }},
	{"locked", func(i wire.InheritedSetting) int { return i.Locked }},
	{"overridden", func(i wire.InheritedSetting) int { return i.Overridden }},
	{"detached", func(i wire.InheritedSetting) int { return i.Detached }},
	{"own", func(i wire.InheritedSetting) int { return i.Own }},
	{"clashing", func(i wire.InheritedSetting) int { return i.Clashing }},
}
