// This file implements the commands of exceptions.

package command

import (
	"context"
	"fmt"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/formats/wire"
)

func exceptionCommand(s Streams) *cli.Command {
	decide := func(name, about string, approve bool) *cli.Command {
		return &cli.Command{
			Name: name, Usage: about, ArgsUsage: "EXCEPTION", Flags: []cli.Flag{&cli.StringFlag{Name: "note", Usage: "a `NOTE` for the record"}},
			Action: asked(s, 1, "EXCEPTION", func(ctx context.Context, c *cli.Command, api *client.Client) error {
				r, err := client.Post[wire.ExceptionRequest](
					ctx,
					api,
					client.Path("exception-requests", c.Args().First(), "decision"),
					wire.Decision{Approve: approve, Note: c.String("note")},
				)
				if err == nil {
					fmt.Fprintf(s.Out, "%s is %s\n", r.Exception.ID, r.State)
				}
				return err
			}),
		}
	}
	return &cli.Command{
		Name: "exception", Usage: "exceptions: list, requests, ask, impact, approve, refuse, withdraw, end",
		Description: "An exception is asked for by one and approved by another. It ends by itself; 14 and 3 days before, the " +
			"overview says so.",
		Commands: []*cli.Command{
			listing(
				s,
				"list",
				"exceptions by the day on which they lapse",
				"/exceptions",
				[]string{"exception", "lapses", "days", "setting", "for", "value", "by", "laptops"},
				func(x wire.Exception) []string {
					value := "left to the laptop"
					if !x.Unset {
						value = valueText(x.Value)
					}
					return []string{x.ID, x.Until, fmt.Sprint(x.Days), x.Setting, x.Target, value, x.ApprovedBy, fmt.Sprint(x.Devices)}
				},
				atFlag(),
			),
			listing(
				s,
				"requests",
				"exceptions that were asked for",
				"/exception-requests",
				[]string{"exception", "state", "setting", "for", "until", "asked by", "reason"},
				func(r wire.ExceptionRequest) []string {
					return []string{r.Exception.ID, r.State, r.Exception.Setting, r.Exception.Target, r.Exception.Until, r.AskedBy, r.Exception.Reason}
				},
				&cli.StringFlag{Name: "state", Usage: "only in this `STATE`: asked, approved, refused, withdrawn"},
			),
			{
				Name:      "ask",
				Usage:     "ask for an exception",
				ArgsUsage: "SETTING [VALUE]",
				Description: "Without a value the setting is left to the laptop.\n\nExample:\n" +
					"  zridge exception ask screen.lock_after_minutes 60 " +
					"--for device:LT-0110 --until 2026-12-20 --reason \"Plotter must stay lit\"",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "for", Required: true, Usage: "`TARGET`: unit:, group:, device: or person: and an id"},
					&cli.StringFlag{Name: "until", Required: true, Usage: "the last `DAY`"},
					&cli.StringFlag{Name: "from", Usage: "the first `DAY`"},
					&cli.StringFlag{Name: "reason", Required: true, Usage: "the `REASON`"},
					&cli.StringFlag{Name: "id", Usage: "an `ID` of its own"},
				},
				Action: asked(
					s,
					-1,
					"SETTING and, where it is to have one, VALUE",
					func(ctx context.Context, c *cli.Command, api *client.Client) error {
						in := wire.AskException{
							ID:      c.String("id"),
							Setting: c.Args().First(),
							Target:  c.String("for"),
							From:    c.String("from"),
							Until:   c.String("until"),
							Reason:  c.String("reason"),
							Unset:   c.NArg() == 1,
						}
						if !in.Unset {
							use, err := client.Get[wire.SettingUse](ctx, api, client.Path("settings", in.Setting), nil)
							if err != nil {
								return err
							}
							reader := &valueReader{api: api, said: func(format string, args ...any) { fmt.Fprintf(s.Out, format+"\n", args...) }}
							v, err := reader.read(ctx, in.Setting, use.Setting.ShapeDoc, use.Setting.Columns, strings.Join(c.Args().Tail(), " "))
							if err != nil {
								return err
							}
							in.Value = &v
						}
						r, err := client.Post[wire.ExceptionRequest](ctx, api, "/exception-requests", in)
						if err == nil {
							fmt.Fprintf(s.Out, "Asked for as %s; somebody else approves it: zridge exception "+
								"approve %s\n", r.Exception.ID, r.Exception.ID)
						}
						return err
					},
				),
			},
			{
				Name: "impact", Usage: "what an exception that is asked for would do", ArgsUsage: "EXCEPTION",
				Action: asked(s, 1, "EXCEPTION", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					effect, err := client.Get[wire.Impact](ctx, api, client.Path("exception-requests", c.Args().First(), "impact"), nil)
					if err == nil {
						printImpact(s.Out, effect)
					}
					return err
				}),
			},
			decide("approve", "approve what somebody else asked for, which publishes it", true),
			decide("refuse", "refuse a request", false),
			{
				Name: "withdraw", Usage: "take a request of yours back", ArgsUsage: "EXCEPTION",
				Action: asked(s, 1, "EXCEPTION", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					_, err := api.Call(ctx, http.MethodDelete, client.Path("exception-requests", c.Args().First()), nil, nil, nil)
					if err == nil {
						fmt.Fprintln(s.Out, "Taken back.")
					}
					return err
				}),
			},
			{
				Name: "end", Usage: "end an exception, in a change, and say what that does", ArgsUsage: "EXCEPTION", Flags: []cli.Flag{changeFlag()},
				Action: writing(s, 1, "EXCEPTION", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
					if err := putEdit(
						ctx,
						api,
						s.Out,
						change,
						http.MethodPost,
						string(estate.KindException),
						c.Args().First(),
						"/retire",
						nil,
					); err != nil {
						return err
					}
					return showImpact(ctx, api, s.Out, change.ID, "text")
				}),
			},
		},
	}
}
