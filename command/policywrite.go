// This file implements the commands that write policies, each into a change: new, set, unset,
// audience, split, restore, retire.

package command

import (
	"context"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

func kitCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "kit", Usage: "starting points for policies of one purpose: list, show",
		Commands: []*cli.Command{
			listing(s, "list", "kits", "/kits", []string{"kit", "kind", "settings", "title"}, func(k files.KitDoc) []string {
				return []string{k.ID, k.Kind, fmt.Sprint(len(k.Settings)), k.Title}
			}),
			{
				Name: "show", Usage: "a kit, with the reason for each value", ArgsUsage: "KIT", Flags: []cli.Flag{formatFlag("text", "json")},
				Action: asked(s, 1, "KIT", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					k, err := kitOf(ctx, api, c.Args().First())
					if err != nil {
						return err
					}
					return printed(s, c, k, func() {
						fmt.Fprintf(s.Out, "%s\n%s\n%s\n\n", k.Title, k.Why, k.When)
						var rows [][]string
						for id, e := range sorted(k.Settings) {
							rows = append(rows, []string{id, e.Value.String(), e.Note})
						}
						printTable(s.Out, []string{"setting", "value", "why"}, rows)
					})
				}),
			},
		},
	}
}

func kitOf(ctx context.Context, api *client.Client, id string) (files.KitDoc, error) {
	kits, err := client.Get[[]files.KitDoc](ctx, api, "/kits", nil)
	if err != nil {
		return files.KitDoc{}, err
	}
	names := make([]string, len(kits))
	for i, k := range kits {
		if k.ID == id {
			return k, nil
		}
		names[i] = k.ID
	}
	return files.KitDoc{}, usage("found the kit %s, expected one of %s", problem.Quote(id), strings.Join(names, ", "))
}

func newPolicyCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "new",
		Usage:     "write a policy: from nothing, a kit, another policy, or what a laptop has",
		ArgsUsage: "POLICY",
		Description: "It is for nobody until `policy audience` says who gets it, and live when its change is published.\n\n" +
			"Examples:\n  zridge policy new field-encryption --title \"Encrypt field laptops\" --kit encrypt-field-laptops\n" +
			"  zridge policy new bench-b --like bench-a\n" +
			"  zridge policy new plotters --capture LT-0110 --setting screen.lock_after_minutes",
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "title", Usage: "`NAME` for people"},
			&cli.StringFlag{Name: "why", Usage: "the `REASON`"},
			&cli.StringFlag{
				Name: "kind",
				Usage: "`KIND`: configuration, security or encryption; without it that of the kit, the copied policy or the captured " +
					"settings, else configuration",
			},
			&cli.StringFlag{Name: "kit", Usage: "start from this `KIT`"},
			&cli.StringFlag{
				Name:  "like",
				Usage: "start as a copy of this `POLICY`, for nobody",
			},
			&cli.StringFlag{Name: "capture", Usage: "start from what this `DEVICE` reports"},
			&cli.StringSliceFlag{Name: "setting", Usage: "with --capture: only these `SETTINGS`"},
			changeFlag(),
		},
		Action: writing(s, 1, "POLICY", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
			id := c.Args().First()
			if _, err := policyIn(ctx, api, reading{change: change}, id); err == nil {
				return usage("new: found the policy %s already, expected an id that is free", problem.Quote(id))
			}
			doc, err := startOf(ctx, c, api, change)
			if err != nil {
				return err
			}
			doc.ID = id
			for flag, field := range map[string]*string{"title": &doc.Title, "why": &doc.Why, "kind": &doc.Kind} {
				if c.IsSet(flag) {
					*field = c.String(flag)
				}
			}
			if doc.Kind == "" {
				doc.Kind = "configuration"
			}
			return putPolicy(ctx, s, api, change, doc)
		}),
	}
}

// startOf gives what a new policy starts from.
func startOf(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) (files.PolicyDoc, error) {
	doc := files.PolicyDoc{Settings: map[string]files.EntryDoc{}}
	starts := 0
	for _, flag := range []string{"kit", "like", "capture"} {
		if c.IsSet(flag) {
			starts++
		}
	}
	if starts > 1 {
		return doc, usage("new: found several of --kit, --like and --capture, expected one")
	}
	switch {
	case c.IsSet("kit"):
		k, err := kitOf(ctx, api, c.String("kit"))
		if err != nil {
			return doc, err
		}
		return files.PolicyDoc{
			Title:     k.Title,
			Why:       k.Why,
			Kind:      k.Kind,
			Platforms: k.Platforms,
			Labels:    k.Labels,
			Settings:  k.Settings,
		}, nil
	case c.IsSet("like"):
		like, err := policyIn(ctx, api, reading{change: change}, c.String("like"))
		like.Audience, like.State = files.AudienceDoc{}, ""
		if like.Title != "" {
			like.Title += " (copy)"
		}
		return like, err
	case c.IsSet("capture"):
		found, err := client.Get[[]wire.Captured](ctx, api, client.Path("devices", c.String("capture"), "capture"), nil)
		if err != nil {
			return doc, err
		}
		only := c.StringSlice("setting")
		for _, one := range found {
			if len(only) > 0 && !slices.Contains(only, one.Setting) {
				continue
			}
			if doc.Kind == "" {
				doc.Kind = one.Kind
			}
			doc.Settings[one.Setting] = files.EntryDoc{Value: one.Reported}
		}
		for _, id := range only {
			if _, there := doc.Settings[id]; !there {
				return doc, usage("new: %s does not report %s", c.String("capture"), id)
			}
		}
		if len(doc.Settings) == 0 {
			return doc, usage(
				"new: %s has reported nothing yet; `zridge device ask %s` asks it for all that it has",
				c.String("capture"),
				c.String("capture"),
			)
		}
		doc.Why = "Captured from " + c.String("capture")
	}
	return doc, nil
}

func setCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "set",
		Usage:     "set values in a policy",
		ArgsUsage: "POLICY SETTING=VALUE…",
		Description: "Values: on, off; 15, 2h, 3d; words; a,b,c or @FILE for lists; @FILE for files; for tables COLUMN=VALUE,… or " +
			"@FILE.csv, one row an\n" +
			"argument with --add. Identifiers of applications and contents of certificates are read from the file.\n\n" +
			"Examples:\n  zridge policy set desk screen.lock_after_minutes=15 signin.banner=\"Larkfell property\"\n" +
			"  zridge policy set trust " +
			"trust.machine_roots=@harbour-root.pem\n  zridge policy set support --add " +
			"applications.permissions=@helpline.exe,permission=screen-recording,decision=allow",
		Flags: []cli.Flag{
			&cli.BoolFlag{
				Name:  "lock",
				Usage: "lock the entries: nothing closer to the laptop overrides them",
			},
			&cli.StringFlag{Name: "note", Usage: "a `NOTE` beside the entries"},
			&cli.BoolFlag{
				Name:  "add",
				Usage: "add to lists and tables that are there",
			},
			&cli.BoolFlag{Name: "accept-expired", Usage: "take certificates that have expired"},
			changeFlag(),
		},
		Action: writing(
			s,
			-2,
			"POLICY SETTING=VALUE…",
			func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
				doc, err := policyIn(ctx, api, reading{change: change}, c.Args().First())
				if err != nil {
					return err
				}
				if doc.Settings == nil {
					doc.Settings = map[string]files.EntryDoc{}
				}
				reader := &valueReader{
					api:           api,
					acceptExpired: c.Bool("accept-expired"),
					said:          func(format string, args ...any) { fmt.Fprintf(s.Out, format+"\n", args...) },
				}
				for _, arg := range c.Args().Tail() {
					id, text, err := parseEntry(arg)
					if err != nil {
						return err
					}
					d, err := settingDoc(ctx, api, id, change.ID)
					if err != nil {
						return err
					}
					v, err := reader.read(ctx, id, d.ShapeDoc, d.Columns, text)
					if err != nil {
						return err
					}
					entry := doc.Settings[id]
					if c.Bool("add") && !entry.Value.IsNothing() {
						v = added(entry.Value, v)
					}
					if entry.Note != "" && !c.IsSet("note") && !entry.Value.IsNothing() && !entry.Value.Equal(v) {
						fmt.Fprintf(
							s.Out,
							"%s: the note %q was written for %s and is removed; --note writes another\n",
							id,
							entry.Note,
							entry.Value,
						)
						entry.Note = ""
					}
					entry.Value = v
					if c.IsSet("lock") {
						entry.Lock = c.Bool("lock")
					}
					if c.IsSet("note") {
						entry.Note = c.String("note")
					}
					doc.Settings[id] = entry
				}
				return putPolicy(ctx, s, api, change, doc)
			},
		),
	}
}

// added gives a list or table with more behind it; of other values the new one.
func added(have, more setting.Value) setting.Value {
	switch {
	case len(have.Rows()) > 0 && len(more.Rows()) > 0:
		return setting.TableValue(append(slices.Clone(have.Rows()), more.Rows()...))
	case have.Kind() == setting.List && more.Kind() == setting.List:
		return setting.ListValue(appendNew(slices.Clone(have.Items()), more.Items()))
	}
	return more
}

func unsetCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "unset", Usage: "take settings out of a policy", ArgsUsage: "POLICY SETTING…", Flags: []cli.Flag{changeFlag()},
		Action: writing(s, -2, "POLICY SETTING…", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
			doc, err := policyIn(ctx, api, reading{change: change}, c.Args().First())
			if err != nil {
				return err
			}
			for _, id := range c.Args().Tail() {
				if _, there := doc.Settings[id]; !there {
					return usage("unset: found %s, expected a setting of the policy", problem.Quote(id))
				}
				delete(doc.Settings, id)
			}
			return putPolicy(ctx, s, api, change, doc)
		}),
	}
}

func splitCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "split",
		Usage:     "move settings of a policy into a new one of the same audience",
		ArgsUsage: "POLICY NEW-POLICY SETTING…",
		Flags:     []cli.Flag{&cli.StringFlag{Name: "title", Usage: "`NAME` of the new one"}, changeFlag()},
		Action: writing(
			s,
			-3,
			"POLICY NEW-POLICY SETTING…",
			func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
				args := c.Args().Slice()
				_, err := api.Call(
					ctx,
					http.MethodPost,
					client.Path("changes", change.ID, "split"),
					nil,
					wire.Split{Policy: args[0], NewID: args[1], Settings: args[2:], Title: c.String("title")},
					nil,
				)
				if err != nil {
					return err
				}
				for _, id := range args[:2] {
					fmt.Fprintln(s.Out, id)
					if err := reviewPolicy(ctx, s.Out, api, id, reading{change: change}); err != nil {
						return err
					}
				}
				return nil
			},
		),
	}
}

func restoreCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "restore", Usage: "put an earlier version of a policy into a change", ArgsUsage: "POLICY VERSION", Flags: []cli.Flag{changeFlag()},
		Action: writing(s, 2, "POLICY VERSION", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
			id := c.Args().First()
			n, err := strconv.ParseInt(c.Args().Get(1), 10, 64)
			if err != nil {
				return usage("restore: found %s, expected the number of a version", problem.Quote(c.Args().Get(1)))
			}
			versions, err := client.Get[[]wire.PolicyVersion](ctx, api, client.Path("policies", id, "history"), nil)
			if err != nil {
				return err
			}
			for _, v := range versions {
				if v.Version == n && len(v.Body) > 0 {
					var doc files.PolicyDoc
					if err := readDoc(v.Body, &doc); err != nil {
						return err
					}
					return putPolicy(ctx, s, api, change, doc)
				}
			}
			return usage("restore: found version %d, expected one of the %d versions of %s", n, len(versions), id)
		}),
	}
}

func retireCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "retire", Usage: "retire a policy, and show what that does", ArgsUsage: "POLICY", Flags: []cli.Flag{changeFlag()},
		Action: writing(s, 1, "POLICY", func(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
			if err := putEdit(ctx, api, s.Out, change, http.MethodPost, "policies", c.Args().First(), "/retire", nil); err != nil {
				return err
			}
			return showImpact(ctx, api, s.Out, change.ID, "text")
		}),
	}
}
