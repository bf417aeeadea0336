// This file implements `zridge role` and `zridge grant`: sets of rights, and who has them where.

package command

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/formats/wire"
)

func roleCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "role", Usage: "roles: named sets of rights",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list the roles with their rights", Flags: []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 0, "no arguments", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					list, err := client.Get[[]wire.Role](ctx, api, "/roles", nil)
					if err != nil {
						return err
					}
					return printed(s, c, list, func() { printRoles(s, list) })
				}),
			},
			{
				Name: "define", Usage: "define a role, or alter one that was defined here", ArgsUsage: "ROLE",
				Description: "Rights are " + access.Of(access.All...).String() +
					".\nA role has no right that you do not have yourself, everywhere.\n\n" +
					"Example:\n  zridge role define fleet-writer --title \"Writes for the fleet\" --right read --right write",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "title", Usage: "`TITLE` that people read", Required: true},
					&cli.StringSliceFlag{Name: "right", Usage: "`RIGHT` that it has", Required: true},
				},
				Action: asked(s, 1, "ROLE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					role := wire.NewRole{Title: c.String("title")}
					for _, r := range c.StringSlice("right") {
						if !slices.Contains(access.All, access.Right(r)) {
							return usage("Unknown right %q. Rights are: %s", r, access.Of(access.All...).String())
						}
						role.Rights = append(role.Rights, access.Right(r))
					}
					if _, err := api.Call(ctx, http.MethodPut, client.Path("roles", c.Args().First()), nil, role, nil); err != nil {
						return err
					}
					fmt.Fprintf(s.Out, "Role %s defined.\n", c.Args().First())
					return nil
				}),
			},
			{
				Name: "remove", Usage: "remove a role that was defined here and that nobody has", ArgsUsage: "ROLE",
				Action: asked(s, 1, "ROLE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					if _, err := api.Call(ctx, http.MethodDelete, client.Path("roles", c.Args().First()), nil, nil, nil); err != nil {
						return err
					}
					fmt.Fprintf(s.Out, "Role %s removed.\n", c.Args().First())
					return nil
				}),
			},
		},
	}
}

func grantCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "grant", Usage: "grants: who has which role, where and until when",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list the grants",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "at", Usage: "that there were at a `MOMENT` such as 2026-10-03T14:00; a day alone is its end"},
					formatFlag("text", "json"),
				},
				Action: asked(s, 0, "no arguments", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					list, err := client.Get[[]wire.Grant](ctx, api, "/grants", reading{at: c.String("at")}.query())
					if err != nil {
						return err
					}
					return printed(s, c, list, func() { printGrants(s, list) })
				}),
			},
			{
				Name: "give", Usage: "give a role to an account, or to the people of a group",
				Description: "With --unit the grant counts for this unit and those below alone. Policies that are written by it are " +
					"bound to the unit.\n\n" +
					"Examples:\n  zridge grant give --role author --account lena.brandt --unit survey-fleet --until 2027-03-31\n" +
					"  zridge grant give --role service-desk --group service-desk-people",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "role", Usage: "`ROLE`, as `zridge role list` names them", Required: true},
					&cli.StringFlag{Name: "account", Usage: "the `ACCOUNT` that gets it"},
					&cli.StringFlag{Name: "group", Usage: "the `GROUP` of people that gets it: an account is of the person with " +
						"its name as id"},
					&cli.StringFlag{Name: "unit", Usage: "the `UNIT` that it counts for; without it everywhere"},
					&cli.StringFlag{Name: "from", Usage: "the first `DAY`, such as 2026-12-01"},
					&cli.StringFlag{Name: "until", Usage: "the last `DAY`"},
				},
				Action: asked(s, 0, "no arguments", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					if (c.String("account") == "") == (c.String("group") == "") {
						return usage("Say who gets the role: one of --account and --group.")
					}
					g, err := client.Post[wire.Grant](ctx, api, "/grants", wire.NewGrant{
						Account: c.String("account"), Group: c.String("group"), Role: c.String("role"), Unit: c.String("unit"),
						From: c.String("from"), Until: c.String("until"),
					})
					if err != nil {
						return err
					}
					fmt.Fprintf(s.Out, "Grant %s given.\n", g.ID)
					return nil
				}),
			},
			{
				Name: "take", Usage: "take a grant away again", ArgsUsage: "GRANT",
				Action: asked(s, 1, "GRANT", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					if _, err := api.Call(ctx, http.MethodDelete, client.Path("grants", c.Args().First()), nil, nil, nil); err != nil {
						return err
					}
					fmt.Fprintf(s.Out, "Grant %s taken away.\n", c.Args().First())
					return nil
				}),
			},
		},
	}
}

func printRoles(s Streams, list []wire.Role) {
	rows := make([][]string, len(list))
	for i, r := range list {
		rights := make([]string, len(r.Rights))
		for k, right := range r.Rights {
			rights[k] = string(right)
		}
		rows[i] = []string{r.ID, r.Title, strings.Join(rights, ", ")}
	}
	printTable(s.Out, []string{"role", "title", "rights"}, rows)
}

func printGrants(s Streams, list []wire.Grant) {
	if len(list) == 0 {
		fmt.Fprintln(s.Out, "No grants.")
		return
	}
	rows := make([][]string, len(list))
	for i, g := range list {
		who, where, days := g.Account, g.Unit, ""
		if g.Group != "" {
			who = "group " + g.Group
		}
		if where == "" {
			where = "everywhere"
		}
		if g.From != "" {
			days = "from " + g.From
		}
		if g.Until != "" {
			days = strings.TrimSpace(days + " until " + g.Until)
		}
		if !g.Counts {
			days = strings.TrimSpace(days + " (not on this day)")
		}
		rows[i] = []string{g.ID, who, g.Role, where, days}
	}
	printTable(s.Out, []string{"grant", "who", "role", "where", "days"}, rows)
}
