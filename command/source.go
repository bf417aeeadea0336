// This file implements the commands of sources: where people, units, groups and laptops come from.

package command

import (
	"context"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/directory"
	"zenithridge.example/zridge/formats/wire"
)

func sourceCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "source",
		Usage: "where people, units, groups and laptops come from: list, show, add, propose, read, send, take, stop, pause, resume, " +
			"left, remove, token, drop",
		Description: "A source brings what it has. Nothing is taken from a new one, or by another set-up, before somebody " +
			"looked at a dry " +
			"run and took it.\nWhat a source no longer has is marked as left, and stays until somebody removes it.",
		Commands: []*cli.Command{
			listing(
				s,
				"list",
				"sources",
				"/sources",
				[]string{"source", "kind", "state", "has", "left", "read", "title"},
				func(x wire.Source) []string {
					return []string{x.ID, x.Kind, x.State, hasText(x), fmt.Sprint(leftOf(x)), whenText(x.ReadAt), x.Title}
				},
			),
			{
				Name:      "show",
				Usage:     "a source, what waits to be taken, and its readings",
				ArgsUsage: "SOURCE",
				Flags:     []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 1, "SOURCE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					x, err := client.Get[wire.Source](ctx, api, client.Path("sources", c.Args().First()), nil)
					if err != nil {
						return err
					}
					return printed(s, c, x, func() { printSource(s, x) })
				}),
			},
			{
				Name:      "add",
				Usage:     "add a source",
				ArgsUsage: "SOURCE",
				Description: "The set-up is a YAML or JSON file with one of table, ldap and scim in it; docs/sources.md says what " +
					"each holds.\n\n" +
					"Example:\n  zridge source add inventory --kind csv --title Inventory --set-up inventory.yaml",
				Flags: []cli.Flag{
					&cli.StringFlag{Name: "kind", Required: true, Usage: "`KIND`: scim, ldap or csv"},
					&cli.StringFlag{Name: "title", Usage: "`NAME` for people"},
					setUpFlag(true),
				},
				Action: asked(s, 1, "SOURCE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					u, err := readSetUpFile(s, c.String("set-up"))
					if err != nil {
						return err
					}
					id := c.Args().First()
					_, err = client.Post[wire.Source](
						ctx,
						api,
						"/sources",
						wire.NewSource{ID: id, Kind: c.String("kind"), Title: orDefault(c.String("title"), id), SetUp: u},
					)
					if err == nil {
						fmt.Fprintf(s.Out, "Added. Nothing is taken from it before a dry run: %s\n", nextStep(id, c.String("kind")))
					}
					return err
				}),
			},
			{
				Name:      "propose",
				Usage:     "propose another set-up; the one in force stays until a dry run with the new one is taken",
				ArgsUsage: "SOURCE",
				Flags:     []cli.Flag{setUpFlag(true)},
				Action: asked(s, 1, "SOURCE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					u, err := readSetUpFile(s, c.String("set-up"))
					if err != nil {
						return err
					}
					path := client.Path("sources", c.Args().First())
					x, err := client.Get[wire.Source](ctx, api, path, nil)
					if err != nil {
						return err
					}
					_, err = api.Call(ctx, http.MethodPut, path, nil, wire.ProposedSource{SetUp: u}, nil, "If-Match", fmt.Sprintf(`"%d"`, x.Version))
					if err == nil {
						fmt.Fprintf(s.Out, "Proposed. Try it: %s\n", nextStep(x.ID, x.Kind))
					}
					return err
				}),
			},
			{
				Name:      "read",
				Usage:     "read a source now, and say what it found",
				ArgsUsage: "SOURCE",
				Flags: []cli.Flag{
					&cli.BoolFlag{Name: "recent", Usage: "only what altered since the last reading"},
					&cli.BoolFlag{Name: "look", Usage: "only say what it would do, and wait"},
					formatFlag("text", "json"),
				},
				Action: asked(s, 1, "SOURCE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					way := "full"
					if c.Bool("recent") {
						way = "recent"
					}
					id := c.Args().First()
					begun, err := client.Post[wire.SourceRun](
						ctx,
						api,
						client.Path("sources", id, "runs"),
						wire.ReadSource{Way: way, Look: c.Bool("look")},
					)
					if err != nil {
						return err
					}
					run, err := ended(ctx, api, s, id, begun.StartedAt)
					if err != nil {
						return err
					}
					return finishRun(s, c, id, run)
				}),
			},
			sendCommand(s),
			{
				Name:      "take",
				Usage:     "take what waits, as it was looked at; what is faulty stays as it is",
				ArgsUsage: "SOURCE",
				Flags:     []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 1, "SOURCE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					run, err := client.Post[wire.SourceRun](ctx, api, client.Path("sources", c.Args().First(), "take"), nil)
					if err != nil {
						return err
					}
					return finishRun(s, c, c.Args().First(), run)
				}),
			},
			does(s, "stop", "stop a reading, or let go of what waits", func(ctx context.Context, api *client.Client, id string) error {
				_, err := api.Call(ctx, http.MethodDelete, client.Path("sources", id, "runs"), nil, nil, nil)
				return err
			}, "Stopped; nothing was taken."),
			does(s, "pause", "take nothing more from a source for now", pause(true), "Paused. What it brought stays."),
			does(s, "resume", "take from a source again", pause(false), "It goes on."),
			does(
				s,
				"drop",
				"take a source away; what it brought stays, and is edited here from then on",
				func(ctx context.Context, api *client.Client, id string) error {
					_, err := api.Call(ctx, http.MethodDelete, client.Path("sources", id), nil, nil, nil)
					return err
				},
				"Taken away. What it brought is edited here from now on.",
			),
			listing(
				s,
				"left",
				"what its source no longer has, and is still here",
				"/left",
				[]string{"source", "kind", "id", "since", "removed by itself", "title"},
				func(l wire.LeftObject) []string {
					return []string{l.Source, l.Kind, l.ID, moment(l.Since), whenText(l.Due), l.Title}
				},
				&cli.StringFlag{Name: "source", Usage: "only of this `SOURCE`"},
			),
			{
				Name: "remove", Usage: "remove what has left from the estate; says first what that does", ArgsUsage: "SOURCE KIND/ID …",
				Description: "Without --yes it only says what removing would do.\n\nExample:\n" +
					"  zridge source remove hr people/tomas.reyes --yes",
				Flags: []cli.Flag{&cli.BoolFlag{Name: "yes", Usage: "remove, and do not only look"}},
				Action: asked(s, -2, "SOURCE and KIND/ID, once or more", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					var in wire.RemoveLeft
					for _, text := range c.Args().Tail() {
						kind, id, err := kindAndID(text)
						if err != nil {
							return err
						}
						in.Objects = append(in.Objects, wire.ObjectName{Kind: kind, ID: id})
					}
					in.Look = !c.Bool("yes")
					r, err := client.Post[wire.Removal](ctx, api, client.Path("sources", c.Args().First(), "removals"), in)
					if err != nil {
						return err
					}
					if len(r.Named) > 0 {
						printLines(s.Out, r.Named)
						return &exitError{exitFault, "something still names it; take it out there first"}
					}
					fmt.Fprintf(s.Out, "Laptops that get something else: %d\n", r.Impact.Devices)
					if in.Look {
						fmt.Fprintln(s.Out, "Nothing was removed; say --yes to remove.")
					}
					return nil
				}),
			},
			sourceTokenCommand(s),
		},
	}
}

// does is a command that does one thing to a source.
func does(s Streams, name, about string, do func(context.Context, *client.Client, string) error, done string) *cli.Command {
	return &cli.Command{
		Name:      name,
		Usage:     about,
		ArgsUsage: "SOURCE",
		Action: asked(s, 1, "SOURCE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			err := do(ctx, api, c.Args().First())
			if err == nil {
				fmt.Fprintln(s.Out, done)
			}
			return err
		}),
	}
}

func pause(paused bool) func(context.Context, *client.Client, string) error {
	return func(ctx context.Context, api *client.Client, id string) error {
		_, err := client.Post[wire.Source](ctx, api, client.Path("sources", id, "pause"), wire.PauseSource{Paused: paused})
		return err
	}
}

func setUpFlag(required bool) cli.Flag {
	return &cli.StringFlag{
		Name:      "set-up",
		Required:  required,
		TakesFile: true,
		Usage:     "`FILE` with the set-up, YAML or JSON; - for the standard input",
	}
}

// readSetUpFile reads a set-up; fields that it does not have are refused with their line.
func readSetUpFile(s Streams, name string) (u directory.SourceSetUp, err error) {
	data, err := readInput(s, name)
	if err != nil {
		return u, err
	}
	decoder := yaml.NewDecoder(strings.NewReader(string(data)), yaml.Strict(), yaml.UseJSONUnmarshaler())
	if err := decoder.Decode(&u); err != nil {
		return u, &exitError{exitFault, name + ": " + strings.TrimSpace(yaml.FormatError(err, false, true))}
	}
	return u, nil
}

func nextStep(id, kind string) string {
	switch kind {
	case "csv":
		return "zridge source send " + id + " FILE.csv"
	case "scim":
		return "zridge source token add " + id + " NAME, let the client write, then zridge source read " + id
	}
	return "zridge source read " + id
}

func hasText(x wire.Source) string {
	parts := make([]string, len(x.Counts))
	for i, c := range x.Counts {
		parts[i] = fmt.Sprintf("%d %s", c.Here, c.Kind)
	}
	return strings.Join(parts, ", ")
}

func leftOf(x wire.Source) (n int) {
	for _, c := range x.Counts {
		n += c.Left
	}
	return n
}

func whenText(t *time.Time) string {
	if t == nil {
		return "never"
	}
	return moment(*t)
}

func printSource(s Streams, x wire.Source) {
	fmt.Fprintf(s.Out, "%s  %s  %s  has %s\n", x.ID, x.Kind, x.State, orDefault(hasText(x), "nothing"))
	if x.Proposed != nil && x.SetUp != nil {
		fmt.Fprintln(s.Out, "Another set-up is proposed; the old one is in force until a dry run with the new one is taken.")
	}
	if x.Running != nil {
		if x.Running.State == "waiting" {
			fmt.Fprintf(s.Out, "A reading waits (%s). Take it with: zridge source take %s\n", x.Running.Report.Reason, x.ID)
			printReport(s.Out, x.Running.Report)
		} else {
			fmt.Fprintf(s.Out, "A reading is under way: %s\n", x.Running.Step)
		}
	}
	rows := make([][]string, len(x.Runs))
	for i, r := range x.Runs {
		rows[i] = []string{moment(r.StartedAt), r.Way, r.State, r.By, runText(r.Report)}
	}
	printTable(s.Out, []string{"reading", "way", "state", "by", "what"}, rows)
}

func sourceTokenCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "token", Usage: "tokens with which a provisioning client writes to a source: list, add, revoke",
		Commands: []*cli.Command{
			{
				Name: "list", Usage: "list tokens", ArgsUsage: "SOURCE", Flags: []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 1, "SOURCE", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					return listed(
						ctx,
						s,
						c,
						api,
						client.Path("sources", c.Args().First(), "tokens"),
						nil,
						[]string{"token", "for", "made by", "made", "last used", "revoked"},
						func(t wire.SourceToken) []string {
							return []string{t.ID, t.Name, t.CreatedBy, moment(t.CreatedAt), whenText(t.UsedAt), whenText(t.RevokedAt)}
						},
					)
				}),
			},
			{
				Name: "add", Usage: "make a token; its secret is shown once", ArgsUsage: "SOURCE NAME",
				Action: asked(s, 2, "SOURCE and NAME", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					t, err := client.Post[wire.SourceToken](
						ctx,
						api,
						client.Path("sources", c.Args().First(), "tokens"),
						wire.NewSourceToken{Name: c.Args().Get(1)},
					)
					if err == nil {
						fmt.Fprintf(s.Out, "address  %s/scim/v2\ntoken    %s   (shown once)\n", strings.TrimSuffix(api.Base, "/"), t.Secret)
					}
					return err
				}),
			},
			{
				Name: "revoke", Usage: "end a token", ArgsUsage: "SOURCE TOKEN",
				Action: asked(s, 2, "SOURCE and TOKEN", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					_, err := api.Call(ctx, http.MethodDelete, client.Path("sources", c.Args().First(), "tokens", c.Args().Get(1)), nil, nil, nil)
					if err == nil {
						fmt.Fprintln(s.Out, "Revoked.")
					}
					return err
				}),
			},
		},
	}
}
