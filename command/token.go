// This file implements `zridge token`: one's own tokens, by which programs and the command line
// sign in.

package command

import (
	"context"
	"fmt"
	"net/http"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

func tokenCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "token", Usage: "your tokens, by which programs sign in; a new one is made with sign-in, or in a browser",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list your tokens", Flags: []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 0, "no arguments", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					list, err := client.Get[[]wire.Token](ctx, api, "/tokens", nil)
					if err != nil {
						return err
					}
					return printed(s, c, list, func() { printTokens(s, list) })
				}),
			},
			{
				Name: "revoke", Usage: "end a token of yours at once", ArgsUsage: "ID",
				Action: asked(s, 1, "ID", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					if _, err := api.Call(ctx, http.MethodDelete, client.Path("tokens", c.Args().First()), nil, nil, nil); err != nil {
						return err
					}
					fmt.Fprintf(s.Out, "Token %s revoked.\n", c.Args().First())
					return nil
				}),
			},
		},
	}
}

func printTokens(s Streams, list []wire.Token) {
	if len(list) == 0 {
		fmt.Fprintln(s.Out, "No tokens.")
		return
	}
	rows := make([][]string, len(list))
	for i, t := range list {
		role := t.Role
		if role == "" {
			role = "all of your rights"
		}
		rows[i] = []string{t.ID, t.Name, role, t.CreatedAt.Format("2006-01-02"), t.ExpiresAt.Format("2006-01-02")}
	}
	printTable(s.Out, []string{"id", "for", "rights", "made", "until"}, rows)
}
