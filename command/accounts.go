// This file implements `zridge account`: who may sign in, as what, and by which sessions.

package command

import (
	"context"
	"fmt"
	"net/http"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

func accountCommand(s Streams) *cli.Command {
	role := func(required bool) cli.Flag {
		return &cli.StringFlag{
			Name:     "role",
			Usage:    "`ROLE`: reader, author, approver, publisher, service-desk, auditor, operator or administrator",
			Required: required,
		}
	}
	return &cli.Command{
		Name: "account", Usage: "people's access to the service",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list the accounts", Flags: []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 0, "no arguments", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					list, err := client.Get[[]wire.Account](ctx, api, "/accounts", nil)
					if err != nil {
						return err
					}
					return printed(s, c, list, func() { printAccounts(s, list) })
				}),
			},
			{
				Name: "add", Usage: "add an account; the password is asked for, or read as one line of the input", ArgsUsage: "NAME",
				Flags: []cli.Flag{role(true)},
				Action: asked(s, 1, "NAME", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					password, err := readPassword(s, "Password of the account: ")
					if err != nil {
						return err
					}
					account := wire.NewAccount{Name: c.Args().First(), Password: password, Role: c.String("role")}
					if _, err := api.Call(ctx, http.MethodPost, "/accounts", nil, account, nil); err != nil {
						return err
					}
					fmt.Fprintf(s.Out, "Account %s added as %s.\n", account.Name, account.Role)
					return nil
				}),
			},
			{
				Name: "alter", Usage: "give an account another role, disable or enable it; its sessions and tokens end", ArgsUsage: "NAME",
				Flags: []cli.Flag{
					role(false),
					&cli.BoolFlag{Name: "disable", Usage: "let nobody sign in by it"},
					&cli.BoolFlag{Name: "enable", Usage: "let it be used again"},
				},
				Action: asked(s, 1, "NAME", alterAccount(s)),
			},
			{
				Name: "sessions", Usage: "list the open sessions of an account, or end one", ArgsUsage: "NAME",
				Flags: []cli.Flag{formatFlag("text", "json"), &cli.StringFlag{Name: "end", Usage: "end the session with this `ID`"}},
				Action: asked(s, 1, "NAME", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					path := client.Path("accounts", c.Args().First(), "sessions")
					if id := c.String("end"); id != "" {
						if _, err := api.Call(ctx, http.MethodDelete, path+client.Path(id), nil, nil, nil); err != nil {
							return err
						}
						fmt.Fprintf(s.Out, "Session %s ended.\n", id)
						return nil
					}
					list, err := client.Get[[]wire.Session](ctx, api, path, nil)
					if err != nil {
						return err
					}
					return printed(s, c, list, func() { printSessions(s, list) })
				}),
			},
		},
	}
}

func alterAccount(s Streams) func(context.Context, *cli.Command, *client.Client) error {
	return func(ctx context.Context, c *cli.Command, api *client.Client) error {
		var to wire.AlteredAccount
		if role := c.String("role"); role != "" {
			to.Role = &role
		}
		disable, enable := c.Bool("disable"), c.Bool("enable")
		switch {
		case disable && enable:
			return usage("Choose one of --disable and --enable.")
		case disable || enable:
			to.Disabled = &disable
		case to.Role == nil:
			return usage("Say what to alter: --role, --disable or --enable.")
		}
		if _, err := api.Call(ctx, http.MethodPut, client.Path("accounts", c.Args().First()), nil, to, nil); err != nil {
			return err
		}
		fmt.Fprintf(s.Out, "Account %s altered. Its sessions and tokens have ended.\n", c.Args().First())
		return nil
	}
}

func printAccounts(s Streams, list []wire.Account) {
	rows := make([][]string, len(list))
	for i, a := range list {
		state := "enabled"
		if a.Disabled {
			state = "disabled"
		}
		rows[i] = []string{a.Name, a.Role, state, a.CreatedAt.Format("2006-01-02")}
	}
	printTable(s.Out, []string{"name", "role", "state", "since"}, rows)
}

func printSessions(s Streams, list []wire.Session) {
	if len(list) == 0 {
		fmt.Fprintln(s.Out, "No open sessions.")
		return
	}
	rows := make([][]string, len(list))
	for i, o := range list {
		rows[i] = []string{o.ID, o.Address, o.CreatedAt.Local().Format("2006-01-02 15:04"), o.ExpiresAt.Local().Format("2006-01-02 15:04")}
	}
	printTable(s.Out, []string{"id", "address", "opened", "ends"}, rows)
}
