// This file implements `zridge policy`: list, show, and what reads policies.

package command

import (
	"context"
	"fmt"
	"io"
	"iter"
	"maps"
	"net/url"
	"slices"
	"strconv"

	"github.com/urfave/cli/v3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/formats/report"
	"zenithridge.example/zridge/formats/wire"
)

func policyCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name: "policy", Usage: "policies: list, show, write, summarise",
		Commands: []*cli.Command{
			listing(
				s,
				"list",
				"policies",
				"/policies",
				[]string{"policy", "kind", "state", "priority", "devices", "conflicts", "title"},
				func(p wire.Policy) []string {
					return []string{p.ID, p.Kind, p.State, fmt.Sprint(p.Priority), fmt.Sprint(p.Devices), fmt.Sprint(p.Conflicts), p.Title}
				},
				&cli.StringFlag{Name: "q", Usage: "only those that mention `WORDS`"},
				readChangeFlag(), liveFlag(), atFlag(),
			),
			showCommand(s, "policy", "policies", func(ctx context.Context, api *client.Client, o wire.Object, r reading) error {
				return reviewPolicy(ctx, s.Out, api, o.ID, r)
			}),
			{
				Name: "review", Usage: "whom a policy reaches, what is odd about it, and where else its " +
					"settings are set", ArgsUsage: "POLICY",
				Flags: append(readingFlags(), formatFlag("text", "json")),
				Action: asked(s, 1, "POLICY", func(ctx context.Context, c *cli.Command, api *client.Client) error {
					from, err := readingOf(ctx, s, c, api)
					if err != nil {
						return err
					}
					use, err := client.Get[wire.PolicyUse](ctx, api, client.Path("policies", c.Args().First(), "use"), from.query())
					if err != nil {
						return err
					}
					return printed(s, c, use, func() { printUse(s.Out, use, c.Args().First()) })
				}),
			},
			summaryCommand(s),
			historyCommand(s),
			newPolicyCommand(s),
			setCommand(s),
			unsetCommand(s),
			audienceCommand(s),
			reachCommand(s),
			splitCommand(s),
			restoreCommand(s),
			retireCommand(s),
		},
	}
}

func summaryCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:      "summary",
		Usage:     "a policy in plain words, for the change board",
		ArgsUsage: "POLICY",
		Description: "Prints Markdown, or HTML that needs no other file. The same state gives the same text. With --estate it works on a " +
			"folder.\n\nExample:\n  zridge policy summary field-encryption --html > field-encryption.html",
		Flags: []cli.Flag{
			&cli.BoolFlag{
				Name:  "html",
				Usage: "print HTML",
			},
			readChangeFlag(), liveFlag(), atFlag(),
			estateFlag(),
			dateFlag(),
		},
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.NArg() != 1 {
				return wrongArguments(c, "POLICY")
			}
			var page wire.SummaryPage
			if c.IsSet("estate") {
				snapshot, err := readFolder(c, c.String("estate"))
				if err != nil {
					return err
				}
				side := impact.Resolve(snapshot)
				found, ok := review.Summarise(side, estate.PolicyID(c.Args().First()), review.Known{})
				if !ok {
					return &exitError{exitFault, fmt.Sprintf("no policy %q in %s", c.Args().First(), c.String("estate"))}
				}
				page = wire.PageOf(report.Summary(found, side.Plan))
			} else {
				api, err := signedIn()
				if err != nil {
					return err
				}
				from, err := readingOf(ctx, s, c, api)
				if err != nil {
					return err
				}
				if page, err = client.Get[wire.SummaryPage](
					ctx,
					api,
					client.Path("policies", c.Args().First(), "summary"),
					from.query(),
				); err != nil {
					return err
				}
			}
			text := page.Markdown
			if c.Bool("html") {
				text = page.HTML
			}
			_, err := io.WriteString(s.Out, text)
			return err
		},
	}
}

func historyCommand(s Streams) *cli.Command {
	return &cli.Command{
		Name:        "history",
		Usage:       "every published version of a policy: who, why, and what it altered",
		ArgsUsage:   "POLICY",
		Description: "Examples:\n  zridge policy history house-rules\n  zridge policy history house-rules --from 1 --to 4",
		Flags: []cli.Flag{
			&cli.IntFlag{Name: "from", Usage: "compare `VERSION`"},
			&cli.IntFlag{Name: "to", Usage: "with `VERSION`"},
			formatFlag("text", "json"),
		},
		Action: asked(s, 1, "POLICY", func(ctx context.Context, c *cli.Command, api *client.Client) error {
			id := c.Args().First()
			if c.IsSet("from") != c.IsSet("to") {
				return usage("history: found one of --from and --to, expected both or neither")
			}
			if c.IsSet("from") {
				found, err := client.Get[[]wire.Difference](
					ctx,
					api,
					client.Path("policies", id, "differences"),
					url.Values{"from": {strconv.Itoa(c.Int("from"))}, "to": {strconv.Itoa(c.Int("to"))}},
				)
				if err != nil {
					return err
				}
				return printed(s, c, found, func() { printDifferences(s.Out, found, "") })
			}
			versions, err := client.Get[[]wire.PolicyVersion](ctx, api, client.Path("policies", id, "history"), nil)
			if err != nil {
				return err
			}
			return printed(s, c, versions, func() {
				for _, v := range versions {
					fmt.Fprintf(s.Out, "version %d  %s  %s  revision %d, %s\n", v.Version, moment(v.At), v.By, v.Revision, v.Title)
					if v.Why != "" {
						fmt.Fprintln(s.Out, "  "+v.Why)
					}
					printDifferences(s.Out, v.Before, "  ")
				}
			})
		}),
	}
}

func printDifferences(w io.Writer, found []wire.Difference, indent string) {
	for _, d := range found {
		what := d.Part
		if d.Setting != "" {
			what = d.Setting
		}
		fmt.Fprintf(w, "%s%s: %s → %s\n", indent, what, orDefault(d.From, "nothing"), orDefault(d.To, "nothing"))
	}
}

// sorted walks a map in the order of its keys.
func sorted[V any](m map[string]V) iter.Seq2[string, V] {
	return func(yield func(string, V) bool) {
		for _, k := range slices.Sorted(maps.Keys(m)) {
			if !yield(k, m[k]) {
				return
			}
		}
	}
}
