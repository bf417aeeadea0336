// This file implements `zridge account`: who may sign in, by which sessions, and what they may do.

package command

import (
	"context"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

func accountCommand(s Streams) *cli.Command {
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
				Name: "add", Usage: "add an account; the password is asked for, or read as one line of the input", ArgsUsage: "ACCOUNT",
				Description: "With --role the account gets a grant that counts everywhere and for good. See `zridge grant give` " +
					"for others.",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "role", Usage: "`ROLE` that it gets, as `zridge role list` names them"},
					&cli.BoolFlag{Name: "chosen", Usage: "the person chose the password, and need not choose another one at the " +
						"first sign-in"},
				},
				Action: asked(s, 1, "ACCOUNT", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					password, err := readPassword(s, "Password of the account: ")
					if err != nil {
						return err
					}
					account := wire.NewAccount{Name: c.Args().First(), Password: password, Role: c.String("role"), Chosen: c.Bool("chosen")}
					if _, err := api.Call(ctx, http.MethodPost, "/accounts", nil, account, nil); err != nil {
						return err
					}
					if account.Role == "" {
						fmt.Fprintf(s.Out, "Account %s added. It may do nothing yet: give it a role with zridge grant give\n", account.Name)
					} else {
						fmt.Fprintf(s.Out, "Account %s added as %s.\n", account.Name, account.Role)
					}
					if !account.Chosen {
						fmt.Fprintln(s.Out, "At the first sign-in another password is chosen, before anything else.")
					}
					return nil
				}),
			},
			{
				Name: "password", Usage: "choose another password for your own account; your other sessions end",
				Flags: []cli.Flag{&cli.StringFlag{Name: "code", Usage: "`CODE` of your second factor, where you have one"}},
				Action: asked(s, 0, "no arguments", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					saved, err := readSignIn()
					if err != nil {
						return err
					}
					as := wire.Credentials{Name: saved.Name, Code: c.String("code")}
					if as.Password, err = readPassword(s, "Present password: "); err != nil {
						return err
					}
					if _, err := choosePassword(ctx, s, api, as); err != nil {
						return err
					}
					fmt.Fprintf(s.Out, "The password of %s is changed.\n", saved.Name)
					return nil
				}),
			},
			{
				Name: "alter", Usage: "disable an account, which ends its sessions and tokens, or enable it again", ArgsUsage: "ACCOUNT",
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "disable", Usage: "let nobody sign in by it"},
					&cli.BoolFlag{Name: "enable", Usage: "let it be used again"},
				},
				Action: asked(s, 1, "ACCOUNT", alterAccount(s)),
			},
			{
				Name: "rights", Usage: "what an account may do today, and why", ArgsUsage: "ACCOUNT", Flags: []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 1, "ACCOUNT", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					rights, err := client.Get[wire.AccountRights](ctx, api, client.Path("accounts", c.Args().First(), "rights"), nil)
					if err != nil {
						return err
					}
					return printed(s, c, rights, func() { printRights(s, rights) })
				}),
			},
			{
				Name: "who-may", Usage: "which accounts may do something to an object, and why", ArgsUsage: "RIGHT KIND/ID",
				Description: "Example:\n  zridge account who-may publish policies/house-rules",
				Flags:       []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 2, "RIGHT KIND/ID", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					kind, id, err := kindAndID(c.Args().Get(1))
					if err != nil {
						return err
					}
					query := url.Values{"right": {c.Args().First()}, "kind": {kind}, "id": {id}}
					list, err := client.Get[[]wire.Permitted](ctx, api, "/access", query)
					if err != nil {
						return err
					}
					return printed(s, c, list, func() { printPermitted(s, list) })
				}),
			},
			{
				Name: "sessions", Usage: "list the open sessions of an account, or end one", ArgsUsage: "ACCOUNT",
				Flags: []cli.Flag{formatFlag("text", "json"), &cli.StringFlag{Name: "end", Usage: "end the session with this `ID`"}},
				Action: asked(s, 1, "ACCOUNT", func(ctx context.Context, c *cli.Command, api *client.Client) error {
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
		if c.Bool("disable") == c.Bool("enable") {
			return usage("Choose one of --disable and --enable.")
		}
		to := wire.AlteredAccount{Disabled: c.Bool("disable")}
		if _, err := api.Call(ctx, http.MethodPut, client.Path("accounts", c.Args().First()), nil, to, nil); err != nil {
			return err
		}
		if to.Disabled {
			fmt.Fprintf(s.Out, "Account %s is disabled. Its sessions and tokens have ended.\n", c.Args().First())
		} else {
			fmt.Fprintf(s.Out, "Account %s is enabled.\n", c.Args().First())
		}
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

func printRights(s Streams, w wire.AccountRights) {
	if len(w.Rights) == 0 {
		fmt.Fprintf(s.Out, "%s may do nothing today.\n", w.Account)
		return
	}
	rows := make([][]string, len(w.Rights))
	for i, r := range w.Rights {
		where := "everywhere"
		if !r.Everywhere {
			where = strings.Join(r.Units, ", ")
		}
		rows[i] = []string{string(r.Right), where, strings.Join(r.Through, ", ")}
	}
	printTable(s.Out, []string{"right", "where", "grants"}, rows)
	fmt.Fprintln(s.Out)
	printGrants(s, w.Grants)
}

func printPermitted(s Streams, list []wire.Permitted) {
	if len(list) == 0 {
		fmt.Fprintln(s.Out, "No account may do this.")
		return
	}
	rows := make([][]string, len(list))
	for i, p := range list {
		rows[i] = []string{p.Account, strings.Join(p.Roles, ", "), strings.Join(p.Through, ", ")}
	}
	printTable(s.Out, []string{"account", "roles", "grants"}, rows)
}
