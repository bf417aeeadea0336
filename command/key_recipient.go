// This file implements `zridge key recipient`: to whom keys are sealed.

package command

import (
	"context"
	"fmt"
	"net/http"
	"slices"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/wire"
)

func recipientCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "recipient", Usage: "to whom keys are sealed: list, add, replace-by, destroy",
		Commands: []*cli.Command{
			listing(s, "list", "escrow recipients with how far keys are sealed to them", "/escrow-recipients",
				[]string{"recipient", "title", "private half", "named by", "keys", "to it alone", "earlier", "replace by", ""},
				func(r wire.EscrowRecipient) []string {
					state := r.Blocks
					if r.Blocks == "" && r.DestroyedAt == nil {
						state = "It can be destroyed."
					}
					holder := map[string]string{"service": "the service", "company": "the company, offline"}[r.Holder]
					if r.Holder == "service" && !r.Usable && r.DestroyedAt == nil {
						holder = "the service, but it is not there"
					}
					if r.Title == "" {
						r.Title = "(not registered)"
					}
					return []string{
						r.Recipient, r.Title, holder, counted(r.Named, "laptop"), fmt.Sprint(r.Keys), fmt.Sprint(r.Alone), fmt.Sprint(r.Earlier),
						r.ReplaceOn, state,
					}
				},
			),
			{
				Name: "add", Usage: "register the public half of a company's identity, or make an identity of " +
					"the service", ArgsUsage: "TITLE",
				Description: "A policy names the recipient afterwards, in disk.recovery.escrow_recipients: until then no key is " +
					"sealed to it.\n\n" +
					"Examples:\n  zridge key recipient add \"Service 2027\"\n" +
					"  zridge key recipient add \"Safe in Hull\" --public age1… --replace-by 2028-01-31",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "public", Usage: "the `RECIPIENT` whose private half the company keeps: a text that " +
						"begins with age1"},
					&cli.StringFlag{Name: "replace-by", Usage: "the `DAY` by which another is to take its place"},
					formatFlag("text", "json"),
				},
				Action: asked(s, 1, "TITLE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					in := wire.NewRecipient{Title: c.Args().First(), Recipient: c.String("public"), ReplaceOn: c.String("replace-by")}
					r, err := client.Post[wire.EscrowRecipient](ctx, api, "/escrow-recipients", in)
					if err != nil {
						return err
					}
					return printed(s, c, r, func() {
						fmt.Fprintln(s.Out, r.Recipient)
						fmt.Fprintln(s.Err, "Name it in a policy, in disk.recovery.escrow_recipients, and laptops seal their keys to it.")
					})
				}),
			},
			{
				Name: "replace-by", Usage: "say by which day another takes its place; without DAY, by none", ArgsUsage: "RECIPIENT [DAY]",
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.NArg() < 1 || c.NArg() > 2 {
						return wrongArguments(c, "RECIPIENT [DAY]")
					}
					api, err := signedIn()
					if err != nil {
						return err
					}
					in := wire.RecipientReplacement{ReplaceOn: c.Args().Get(1)}
					_, err = api.Call(ctx, http.MethodPut, client.Path("escrow-recipients", c.Args().First()), nil, in, nil)
					return err
				},
			},
			recipientDestroyCommand(s),
		},
	}
}

func recipientDestroyCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "destroy", Usage: "destroy the private half of a recipient that nothing needs any more", ArgsUsage: "RECIPIENT",
		Description: "It is refused as long as a policy names it, or a key in force is sealed to it. Of a company's identity, it is " +
			"only noted.",
		Flags: []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "do it; without it, only what would be lost is said"}},
		Action: asked(s, 1, "RECIPIENT", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			list, err := client.Get[[]wire.EscrowRecipient](ctx, api, "/escrow-recipients", nil)
			if err != nil {
				return err
			}
			at := slices.IndexFunc(list, func(r wire.EscrowRecipient) bool { return r.Recipient == c.Args().First() })
			if at < 0 {
				return usage("There is no escrow recipient %s. List them with: zridge key recipient list", problem.Quote(c.Args().First()))
			}
			if r := list[at]; r.Blocks != "" {
				return &exitError{exitFault, "It cannot be destroyed. " + r.Blocks}
			}
			if !c.Bool("yes") {
				fmt.Fprintf(s.Out, "%s that were replaced are sealed to it; those that are sealed to nobody else could never be "+
					"opened again. Do it with --yes\n",
					counted(list[at].Earlier, "key"))
				return nil
			}
			if _, err := api.Call(ctx, http.MethodDelete, client.Path("escrow-recipients", c.Args().First()), nil, nil, nil); err != nil {
				return err
			}
			fmt.Fprintln(s.Out, "Destroyed.")
			return nil
		}),
	}
}
